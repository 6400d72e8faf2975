"""Which bass notes are slid to?

Method: around every change of note the salience of each pitch between the two (the harmonic sum of bass.py, every 16 ms, half
semitones) is followed along paths that jump and paths that glide along a straight line in pitch; where the best glide gathers
clearly more than the best jump, the second note is slid to from the first. A slide over a few semitones within a 16th stays
unseen.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import replace
from itertools import pairwise

import numpy as np
from scipy import fft

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.bass import BETWEEN, PARTIALS, hz_of
from ersatz.core.survey.document import BassNote
from ersatz.core.survey.shared import LOW_HZ

#: Changes by less can't be told from a jump: both notes lie within the window's resolution.
LEAST_SEMITONES = 3
WINDOW_S, HOP_S, SIZE = 0.07, 0.016, 512
PER_SEMITONE = 2
#: A glide shorter than this is a jump with a soft attack, seconds.
LEAST_S = 0.05
#: How much more a glide must gather than a jump, as a share.
LEAD = 0.055


def find_slides(low: np.ndarray, bars: BarTable, tuning_cents: float, notes: tuple[BassNote, ...]) -> tuple[BassNote, ...]:
    """The notes, those that are slid to with where they come from; `low` is the mid at LOW_HZ without the kick."""
    changes: dict[tuple[int, int], list[int]] = defaultdict(list)
    for i, (before, note) in enumerate(pairwise(notes), 1):
        joined = abs(before.start_beat + before.beats - note.start_beat) < 1e-6
        if joined and abs(before.midi - note.midi) >= LEAST_SEMITONES:
            changes[before.midi, note.midi].append(i)
    beat_s = bars.grid.beat_s
    out = list(notes)
    for (first, last), places in changes.items():
        at_s = bars.edges_s[0] + np.array([notes[i].start_beat for i in places]) * beat_s
        for i, lead in zip(places, glide_leads(low, at_s, beat_s / 2, first, last, tuning_cents)):
            if lead >= LEAD:
                out[i] = replace(notes[i], slide_semitones=float(first - last))
    return tuple(out)


def glide_leads(low: np.ndarray, at_s: np.ndarray, reach_s: float, first: int, last: int, tuning_cents: float) -> np.ndarray:
    """How much more salience the best glide from note `first` to `last` gathers than the best jump, as a share, within `reach_s`
    of each of the times; shape as `at_s`.
    """
    length = int(WINDOW_S * LOW_HZ)
    frames = int(2 * reach_s / HOP_S)
    middles = at_s[:, None] - reach_s + np.arange(frames) * HOP_S
    index = np.round(middles * LOW_HZ).astype(int)[:, :, None] + np.arange(length) - length // 2
    pieces = np.where((index >= 0) & (index < len(low)), low[np.clip(index, 0, len(low) - 1)], 0.0)
    steps = abs(last - first) * PER_SEMITONE
    salience = _salience(pieces, hz_of(np.linspace(first, last, steps + 1), tuning_cents))
    at = np.arange(frames)

    def best(long: int) -> np.ndarray:
        """Over all starts of a move that takes `long` frames."""
        starts = np.arange(1, frames - long)
        place = np.clip((at - starts[:, None]) / max(long, 1e-9), 0, 1)
        return np.asarray(salience[:, at, np.round(place * steps).astype(int)].sum(axis=2).max(axis=1))

    glides = [best(long) for long in range(round(LEAST_S / HOP_S), frames * 3 // 4, 2)]
    return np.max(glides, axis=0, initial=0.0) / np.maximum(best(0), 1e-12) - 1


def _salience(pieces: np.ndarray, hz: np.ndarray) -> np.ndarray:
    """The harmonic sum of bass.py read from a transform, which serves all pitches at once, shape (..., len(hz))."""
    window = np.hanning(pieces.shape[-1]).astype(np.float32)
    magnitude = np.sqrt(np.abs(fft.rfft(pieces.astype(np.float32) * window, SIZE, axis=-1)))
    total = np.zeros((*pieces.shape[:-1], len(hz)), np.float32)
    for partial, weight in PARTIALS:
        on, between = (np.round(hz * at / LOW_HZ * SIZE).astype(int) for at in (partial, partial + 0.5))
        total += weight * (magnitude[..., on] - BETWEEN * magnitude[..., between])
    return np.maximum(total, 0.0)

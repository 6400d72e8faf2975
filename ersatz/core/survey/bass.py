"""Which note does the bass play, per bar and step by step?

Method: over each 8th a harmonic sum, from the exact frequencies of the tuned scale, picks the note in the register that the
kick's waveform was taken out of; the upper partials decide the pitch class where the fundamental alone can't. The bar's note is the
one that most of its 8ths hold. A bar without bass gives None.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import Bass, BassNote
from ersatz.core.survey.hits import Hits
from ersatz.core.survey.shared import LOW_HZ, Shared

MIDI_RANGE = range(26, 53)
#: The bar must hold at least this share of bass, as presence says, to have a note.
MIN_PRESENCE = 0.35
VOTE_SHARPNESS = 6
#: Partials that speak for a note, and how strongly.
PARTIALS = ((1, 1.0), (2, 0.9), (3, 0.7), (4, 0.6), (5, 0.35), (6, 0.25))
#: What lies between two partials speaks for the octave below instead.
BETWEEN = 0.45

#: How far a note stands out (its share of the evidence of all notes), and how often notes that do are right: counted on the
#: tuned part of the generated set.
SHARES = (0.04, 0.055, 0.07, 0.08, 0.095, 0.11, 0.135, 0.16)
RIGHT = (0.0, 0.1, 0.26, 0.55, 0.7, 0.77, 0.92, 0.93)


def measure_bass(shared: Shared, bars: BarTable, hits: Hits, presence: tuple[float, ...]) -> Bass:
    """Notes per 8th and per bar by the harmonic sum of the low register without its kick; `presence` as bass_presence gives it."""
    hz = hz_of(np.array(MIDI_RANGE), shared.tuning_cents)
    eighths = bars.steps // 2
    sounding = np.flatnonzero(np.array(presence) >= MIN_PRESENCE)
    kicks = hits.kick_mask()[sounding][:, ::2]
    table = _scores(hits.low_without_kick, bars, sounding, kicks, hz) if len(sounding) else np.zeros((0, eighths, len(hz)))
    per_bar: list[int | None] = [None] * bars.count
    notes: list[BassNote] = []
    for bar, rows in zip(sounding, table):
        per_bar[bar] = int(MIDI_RANGE[_longest(rows)])
        notes.extend(_notes(rows, int(bar) * bars.grid.beats_per_bar, int(per_bar[bar] or 0)))
    return Bass(tuple(per_bar), tuple(notes))


def hz_of(midi: np.ndarray, tuning_cents: float) -> np.ndarray:
    """Frequencies of notes, whole or between, in the track's own tuning."""
    return np.asarray(440 * 2 ** ((midi - 69 + tuning_cents / 100) / 12))


def stands_out(note: BassNote) -> float:
    """How far a note stands out, by its confidence: a finer weight than how likely it is right."""
    return float(np.interp(note.confidence, RIGHT, SHARES))


def _scores(low: np.ndarray, bars: BarTable, sounding: np.ndarray, kicks: np.ndarray, hz: np.ndarray) -> np.ndarray:
    """Harmonic sums per sounding bar, 8th and candidate, shape (bars, 8ths, candidates)."""
    eighth_s = bars.grid.beat_s / 2
    length = int(1.25 * eighth_s * LOW_HZ)
    starts = bars.edges_s[sounding][:, None] + np.arange(kicks.shape[1]) * eighth_s
    # What the kick covers is left out: a later, shorter piece where one hits on the step.
    late = length // 5
    first = np.round(starts * LOW_HZ).astype(int) + np.where(kicks, late, 0)
    out = np.zeros((*kicks.shape, len(hz)))
    for kicked, n in ((False, length), (True, length - late)):
        mask = kicks == kicked
        if not mask.any():
            continue
        index = first[mask][:, None] + np.arange(n)
        pieces = np.where((index >= 0) & (index < len(low)), low[np.clip(index, 0, len(low) - 1)], 0)
        half = n // 2
        # Notes struck again on every 16th start at a phase of their own: a window over two of them may cancel the
        # fundamental. Halves are read as well.
        parts = (pieces, pieces[:, :half], pieces[:, half : 2 * half])
        out[mask] = sum(_harmonic_sum(part, hz) for part in parts)
    return out


def _longest(table: np.ndarray) -> int:
    """The candidate that holds the bar longest: every 8th has one vote, split among what sounds alike, by how loud it is.

    Octaves of one note count together; of these the one with most votes is taken.
    """
    top = table.max(axis=1, keepdims=True)
    votes = (table / np.maximum(top, 1e-12)) ** VOTE_SHARPNESS * np.sqrt(top / max(float(top.max()), 1e-12))
    total = votes.sum(axis=0)
    classes = np.array(MIDI_RANGE) % 12
    best = int(np.argmax(np.bincount(classes, total, 12)))
    return int(np.argmax(np.where(classes == best, total, -1.0)))


def _harmonic_sum(pieces: np.ndarray, hz: np.ndarray) -> np.ndarray:
    """Weighted compressed magnitude of the first partials per piece and candidate note, shape (pieces, candidates)."""
    n = pieces.shape[1]
    places = np.concatenate([hz * partial for partial, _ in PARTIALS] + [hz * (partial + 0.5) for partial, _ in PARTIALS])
    turns = np.outer(np.arange(n), places) / LOW_HZ * 2 * np.pi
    windowed = (pieces * np.hanning(n)).astype(np.float32)
    real, imaginary = windowed @ np.cos(turns).astype(np.float32), windowed @ np.sin(turns).astype(np.float32)
    magnitude = np.sqrt(np.hypot(real, imaginary)).reshape(len(pieces), 2, len(PARTIALS), len(hz))
    weight = np.array([w for _, w in PARTIALS])[:, None]
    return np.asarray(np.maximum(((magnitude[:, 0] - BETWEEN * magnitude[:, 1]) * weight).sum(axis=1), 0.0))


def _notes(table: np.ndarray, first_beat: int, bar_note: int) -> list[BassNote]:
    """Runs of the same note over the bar's 8ths. One that isn't the bar's own, octaves aside, was heard once only: its confidence
    is squared."""
    best = table.argmax(axis=1)
    level = table.max(axis=1)
    sounding = level > 0.25 * max(float(level.max()), 1e-12)
    out: list[BassNote] = []
    start = 0
    count = len(table)
    for i in range(1, count + 1):
        if i == count or best[i] != best[start] or sounding[i] != sounding[start]:
            if sounding[start]:
                share = table[start:i, best[start]].sum() / max(float(table[start:i].sum()), 1e-12)
                midi = int(MIDI_RANGE[best[start]])
                confidence = float(np.interp(share, SHARES, RIGHT)) ** (1 if (midi - bar_note) % 12 == 0 else 2)
                out.append(BassNote(first_beat + start / 2, (i - start) / 2, midi, round(confidence, 2)))
            start = i
    return out

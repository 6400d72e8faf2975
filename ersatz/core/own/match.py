"""Does a recording play this line, in whatever key, at half, the same or double speed?

A stretch of the song is laid over the recording at every bar and transposition; its value is the mean evidence of its notes
(heard.py), averaged over the best few places, since what is a hook comes again. What chance gives is known from the same stretch
with its pitches in another order: rhythm, range and scale are the same, and the best place is looked for in the same way. How much
is taken over is how far the line lies over its chance, of what lies between chance and certainty.

Chords are laid on the pitch classes of the recording's bars by correlation, and their chance is that of other chords of a scale.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.own.heard import LOW_MIDI, Heard, unit_rows
from ersatz.core.own.played import STRETCH_BARS, Stretch
from ersatz.core.song.bounds import STEPS_PER_BAR

#: Semitones up and down that a line is looked for at.
SEMITONES = 14
SPEEDS = (1.0, 2.0, 0.5)
#: A hook comes again: the mean of so many places.
PLACES = 3
#: So many times by chance, and how many standard deviations a line must lie over it.
CHANCES, LEAST_DEVIATIONS = 24, 3.5
LEAST_DEVIATION = 0.01
#: What lies over chance reads as taken over from the first figure, as a whole from the second: other tunes lie under 0.12 in 95 of
#: 100 cases (`./run accuracy`), copies that a mix doesn't bury over 0.3.
NOT_TAKEN, TAKEN = 0.14, 0.32
#: The same for chords, over the mean of other chords of a scale.
CHORDS_NOT_TAKEN, CHORDS_TAKEN = 0.45, 0.75
#: Chords of a natural minor scale, which holds those of its relative major: semitones of root and third. By them chance is drawn.
SCALE_CHORDS = ((0, 3), (3, 4), (5, 3), (7, 3), (8, 4), (10, 4))
#: Places that are nearly as good as the best are named too, up to so many.
NEARLY, MOST_NAMED = 0.85, 32


@dataclass(frozen=True)
class Match:
    """`share` 0..1 of a stretch that is taken over; `bars`: 1-based ones of the recording where it stands; `semitones`: how much
    higher it is there than here; `speed`: by how much slower."""

    share: float
    bars: tuple[int, ...]
    semitones: int
    speed: float = 1.0


def match_line(stretch: Stretch, heard: Heard, rng: np.random.Generator) -> Match:
    """A line that has one pitch has no order of its own, and is no one's."""
    best = max((_laid(stretch.steps, stretch.midi, heard, speed) for speed in SPEEDS), key=lambda found: found[0])
    orders = [rng.permutation(stretch.midi) for _ in range(CHANCES)]
    by_chance = np.array([max(_laid(stretch.steps, order, heard, speed)[0] for speed in SPEEDS) for order in orders])
    value, places, semitones, speed = best
    chance, deviation = float(by_chance.mean()), max(float(by_chance.std()), LEAST_DEVIATION)
    over = (value - chance) / max(1 - chance, 1e-6)
    surely = value - chance > LEAST_DEVIATIONS * deviation
    share = float(np.interp(over, (NOT_TAKEN, TAKEN), (0, 1))) if surely else 0.0
    return Match(share, places if share else (), semitones, speed)


def match_chords(bars: list[frozenset[int]], heard: Heard, rng: np.random.Generator) -> Match:
    """`bars`: pitch classes per bar, STRETCH_BARS of them twice over, none empty."""
    value, places, semitones = _correlated(bars, heard)
    distinct = sorted(set(bars), key=sorted)
    by_chance = []
    for _ in range(CHANCES):
        drawn = rng.choice(len(SCALE_CHORDS), len(distinct), replace=len(distinct) > len(SCALE_CHORDS))
        other = {chord: _triad(*SCALE_CHORDS[k]) for chord, k in zip(distinct, drawn)}
        by_chance.append(_correlated([other[chord] for chord in bars], heard)[0])
    chance = float(np.mean(by_chance))
    share = float(np.interp((value - chance) / max(1 - chance, 1e-6), (CHORDS_NOT_TAKEN, CHORDS_TAKEN), (0, 1)))
    return Match(share, places if share else (), semitones)


def _triad(root: int, third: int) -> frozenset[int]:
    return frozenset((root, (root + third) % 12, (root + 7) % 12))


def _correlated(bars: list[frozenset[int]], heard: Heard) -> tuple[float, tuple[int, ...], int]:
    """The best mean correlation, at which bars of the recording it stands, and how many semitones higher."""
    wanted = np.zeros((len(bars), 12))
    for row, chord in zip(wanted, bars):
        row[list(chord)] = 1.0
    places = heard.bars - len(bars) + 1
    if places < 1:
        return 0.0, (), 0
    windows = np.lib.stride_tricks.sliding_window_view(heard.sounds, len(bars), axis=0)[:places]
    by_key = np.stack([np.roll(unit_rows(wanted), up, axis=1) for up in range(12)])
    values = np.einsum("pcb,kbc->kp", windows, by_key) / len(bars)
    up, place = np.unravel_index(int(values.argmax()), values.shape)
    best = float(values[up, place])
    return best, _apart(values[up], best, STRETCH_BARS), int((up + 6) % 12 - 6)


def _laid(steps: np.ndarray, midi: np.ndarray, heard: Heard, speed: float) -> tuple[float, tuple[int, ...], int, float]:
    """The best value, at which bars of the recording, how many semitones higher, and the speed."""
    moved = np.round(steps * speed).astype(np.int64)
    places = heard.bars - int(np.ceil(STRETCH_BARS * min(speed, 1.0))) + 1
    if places < 1:
        return 0.0, (), 0, speed
    values = _mean_evidence(heard.begins, moved, midi.astype(np.int64) - LOW_MIDI, places, SEMITONES)
    count = min(PLACES, places)
    best = np.partition(values, places - count, axis=1)[:, -count:].mean(axis=1)
    up = int(best.argmax())
    top = float(values[up].max())
    return float(best[up]), _apart(values[up], top, STRETCH_BARS), up - SEMITONES, speed


def _apart(values: np.ndarray, best: float, bars: int) -> tuple[int, ...]:
    """1-based bars where the value is nearly the best, that don't overlap; in order."""
    out: list[int] = []
    for place in np.argsort(-values, kind="stable"):
        if values[place] < NEARLY * best or len(out) == MOST_NAMED:
            break
        if all(abs(int(place) + 1 - other) >= bars for other in out):
            out.append(int(place) + 1)
    return tuple(sorted(out))


@compiled
def _mean_evidence(begins: np.ndarray, steps: np.ndarray, rows: np.ndarray, places: int, semitones: int) -> np.ndarray:
    """Mean evidence of the notes, shape (2 * semitones + 1, places); what lies beyond the recording or its notes has none."""
    out = np.zeros((2 * semitones + 1, places))
    for up in range(2 * semitones + 1):
        for place in range(places):
            total = 0.0
            for k in range(len(steps)):
                step, row = place * STEPS_PER_BAR + steps[k], rows[k] + up - semitones
                if step < begins.shape[0] and 0 <= row < begins.shape[1]:
                    total += begins[step, row]
            out[up, place] = total / len(steps)
    return out

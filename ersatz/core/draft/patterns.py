"""Drum, bass and chord patterns for the styles, seeded. Positions are 0-based 16ths of a bar; all patterns are 8 bars long, so
that something changes every eight bars."""

from __future__ import annotations

import random

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.pitch import Key
from ersatz.core.song.parts import Note, Pattern
from ersatz.core.styles import BACKBEATS, KICKS, OPEN_HATS, Style

STEP = TICKS_PER_BEAT // 4
BAR = TICKS_PER_BEAT * 4
PHRASE_BARS = 8
Hit = tuple[int, float]

CLOSED = (
    (0.8, 0.35, 0.55, 0.4, 0.75, 0.35, 0.6, 0.45, 0.8, 0.35, 0.55, 0.4, 0.75, 0.4, 0.65, 0.5),
    (0.6, 0.0, 0.8, 0.3, 0.6, 0.0, 0.8, 0.0, 0.6, 0.3, 0.8, 0.0, 0.6, 0.0, 0.8, 0.35),
    (0.7, 0.25, 0.45, 0.6, 0.7, 0.25, 0.45, 0.3, 0.7, 0.6, 0.45, 0.25, 0.7, 0.3, 0.5, 0.6),
)
RIMS = ((3, 6, 11), (2, 7, 10, 15), (3, 8, 11, 14), (5, 7, 13), (1, 6, 9, 14))
STABS = ((0, 3, 8, 11), (2, 5, 10, 13), (0, 6, 12), (4, 7, 12, 15), (2, 8, 11), (0, 5, 10))
#: (step, 16ths long, degree above the chord's root or None for its octave)
BASSES: dict[str, tuple[tuple[tuple[int, int, int | None], ...], ...]] = {
    "offbeat": (((2, 2, 0), (6, 2, 0), (10, 2, 0), (14, 2, 0)), ((2, 2, 0), (6, 2, 0), (10, 2, None), (14, 1, 0), (15, 1, 0))),
    "rolling": (((1, 1, 0), (2, 1, 0), (3, 1, 0), (5, 1, 0), (6, 1, 0), (7, 1, 0), (9, 1, 0), (10, 1, 0), (11, 1, 0),
                 (13, 1, 0), (14, 1, None), (15, 1, 0)),),
    "tech": (((0, 1, 0), (2, 1, 0), (5, 2, 0), (8, 1, 0), (11, 1, None), (13, 2, 0)),
             ((2, 1, 0), (3, 2, 0), (6, 1, None), (9, 1, 0), (10, 2, 0), (15, 1, 0))),
    "octaves": (((0, 2, 0), (2, 1, None), (5, 1, 0), (6, 1, None), (8, 2, 0), (10, 1, None), (13, 1, 4), (14, 1, None)),
                ((0, 1, 0), (2, 2, None), (4, 1, 0), (7, 1, None), (8, 1, 0), (10, 2, None), (12, 1, 4), (15, 1, 6))),
    "call": (((0, 3, 0), (4, 1, 0), (7, 2, None), (12, 2, 4)), ((1, 2, 0), (5, 2, 2), (8, 3, 0), (14, 2, 6))),
    "reese": (((0, 6, 0), (7, 3, 0), (11, 5, 0)), ((0, 8, 0), (10, 6, 0))),
    "sustained": (((0, 16, 0),), ((0, 10, 0), (10, 6, 0))),
}  # fmt: skip
#: Degrees per bar. All start on the tonic, and the longer ones come back to it from the dominant: a loop that doesn't is heard
#: in the key of whatever it starts on.
PROGRESSIONS = {
    ("four", "minor"): ((0, 3, 5, 4), (0, 5, 3, 4), (0, 6, 5, 4), (0, 2, 5, 4), (0, 0, 3, 4), (0, 0, 5, 4)),
    ("four", "major"): ((0, 4, 5, 3), (0, 3, 1, 4), (0, 2, 3, 4), (0, 5, 3, 4)),
    ("few", "minor"): ((0, 0, 5, 6), (0, 0, 3, 0), (0, 0, 6, 5)),
    ("few", "major"): ((0, 0, 3, 4), (0, 0, 5, 3)),
    ("pair", "minor"): ((0, 0, 1, 0),),
    ("pair", "major"): ((0, 0, 3, 0),),
    ("one", "minor"): ((0, 0, 0, 0), (0, 0, 0, 6)),
    ("one", "major"): ((0, 0, 0, 0),),
}


def _notes(hits: list[tuple[int, Hit]], ticks: int = STEP) -> tuple[Note, ...]:
    """(bar, (step, velocity)) to notes."""
    return tuple(sorted((Note(bar * BAR + step * STEP, ticks, 36, velocity) for bar, (step, velocity) in hits),
                        key=lambda n: n.tick))  # fmt: skip


def kick_pattern(style: Style, row: tuple[float, ...], rng: random.Random) -> Pattern:
    """The reference's own steps where they make a pattern, else the style's; the eighth bar turns around."""
    steps = tuple(i for i, v in enumerate(row) if v > 0)
    if not (0 in steps and 1 < len(steps) <= 6):
        steps = rng.choice(KICKS[style.kick])
    hits: list[tuple[int, Hit]] = [(bar, (step, 1.0)) for bar in range(PHRASE_BARS) for step in steps]
    if style.kick == "four":
        hits.append((7, (14, 0.8)))
    else:
        hits.append((7, (max(steps) + 3 if max(steps) < 13 else 7, 0.85)))
    return Pattern(PHRASE_BARS, _notes(hits))


def backbeat_pattern(style: Style, rng: random.Random) -> Pattern:
    hits: list[tuple[int, Hit]] = [(bar, (s, 1.0)) for bar in range(PHRASE_BARS) for s in BACKBEATS[style.kick]]
    ghost = rng.choice((7, 9, 15))
    hits += [(bar, (ghost, 0.35)) for bar in (1, 3, 5)]
    hits += [(7, (step, v)) for step, v in rng.choice((((14, 0.6), (15, 0.8)), ((11, 0.5), (15, 0.7)), ((13, 0.6),)))]
    return Pattern(PHRASE_BARS, _notes(hits))


def closed_hats(rng: random.Random) -> Pattern:
    row = rng.choice(CLOSED)
    hits = [(bar, (s, v * (1.0 if bar % 2 == 0 else 0.92))) for bar in range(PHRASE_BARS) for s, v in enumerate(row) if v]
    return Pattern(PHRASE_BARS, _notes(hits))


def open_hats(style: Style) -> Pattern:
    hits: list[tuple[int, Hit]] = [(bar, (s, 0.9)) for bar in range(PHRASE_BARS) for s in OPEN_HATS[style.kick]]
    return Pattern(PHRASE_BARS, _notes(hits, 2 * STEP))


def shaker(rng: random.Random) -> Pattern:
    row = [0.85, 0.4, 0.6, 0.5] * 4
    row[rng.choice((3, 7, 11))] = 0.8
    return Pattern(PHRASE_BARS, _notes([(bar, (s, v)) for bar in range(PHRASE_BARS) for s, v in enumerate(row)]))


def rims(rng: random.Random) -> Pattern:
    first, second = rng.sample(RIMS, 2)
    hits = [(bar, (s, 0.6 + 0.35 * rng.random())) for bar in range(PHRASE_BARS) for s in (second if bar == 7 else first)]
    return Pattern(PHRASE_BARS, _notes(hits))


def progression(style: Style, key: Key, reference: tuple[int, ...], rng: random.Random) -> tuple[int, ...]:
    """Four degrees, one per bar, that aren't the reference's own sequence (in any rotation)."""
    rotations = {reference[i:] + reference[:i] for i in range(len(reference))}
    choices = [p for p in PROGRESSIONS[style.progressions, key.mode] if p not in rotations]
    return rng.choice(choices or [tuple(reversed(p)) for p in PROGRESSIONS[style.progressions, key.mode]])


def bass_pattern(style: Style, key: Key, degrees: tuple[int, ...], low_midi: int, rng: random.Random) -> Pattern:
    """Follows the chord roots; the fourth and eighth bar answer with another figure where there is one."""
    figures = BASSES[rng.choice(style.bass)]
    call = rng.choice(figures)
    answer = figures[(figures.index(call) + 1) % len(figures)]
    notes = []
    for bar in range(PHRASE_BARS):
        degree = degrees[bar % len(degrees)]
        for step, long, above in answer if bar % 4 == 3 else call:
            root = key.degree_midi(degree, low_midi)
            if root > low_midi + 7:
                root -= 12
            midi = (
                root + 12 if above is None else root + key.degree_midi(degree + above, low_midi) - key.degree_midi(degree, low_midi)
            )
            accent = 1.0 if step % 4 == 0 else 0.85
            notes.append(Note(bar * BAR + step * STEP, long * STEP - 20, midi, accent))
    return Pattern(PHRASE_BARS, tuple(notes))


def voicings(key: Key, degrees: tuple[int, ...]) -> list[tuple[int, ...]]:
    """Four voices per degree, each going to its nearest neighbour: tonic and dominant as plain triads, which say the key, the
    others with their seventh."""
    out: list[tuple[int, ...]] = []
    for degree in degrees:
        classes = [key.degree_midi(degree + third, 60) % 12 for third in (0, 2, 4, 7 if degree in (0, 4) else 6)]
        if not out:
            chord = sorted(57 + (c - 57) % 12 for c in classes[:3])
            chord.append(57 + (classes[3] - 57) % 12 + (12 if classes[3] in classes[:3] else 0))
            chord.sort()
        else:
            centre = sum(out[-1]) / 4
            chord = []
            for c in classes:
                free = [m for m in range(50, 80) if m % 12 == c and m not in chord]
                chord.append(min(free, key=lambda m: (abs(m - centre), m)))
            chord.sort()
        out.append(tuple(chord))
    return out


def pad_pattern(chords: list[tuple[int, ...]]) -> Pattern:
    notes = [Note(bar * BAR, BAR - 10, m, 0.8) for bar in range(PHRASE_BARS) for m in chords[bar % len(chords)]]
    return Pattern(PHRASE_BARS, tuple(notes))


def stab_pattern(chords: list[tuple[int, ...]], rng: random.Random) -> Pattern:
    first, second = rng.sample(STABS, 2)
    notes = []
    for bar in range(PHRASE_BARS):
        for step in second if bar % 4 == 3 else first:
            notes += [Note(bar * BAR + step * STEP, STEP + 60, m + (12 if m < 62 else 0), 0.75 + 0.2 * (step % 4 == 0))
                      for m in chords[bar % len(chords)][1:]]  # fmt: skip
    return Pattern(PHRASE_BARS, tuple(notes))

"""Hooks: tunes of eight bars, from a motif of two, in the form a a b a'.

A motif is a rhythm of its kind and a contour. Over the chords of its bars it becomes notes by the cheapest path through the scale
(Viterbi): near the contour, with the contour's own intervals, on tones of the chord where the beat is strong, by steps rather than
by leaps, never by more than a fifth. The b has another contour and the one climax; the last a ends on the chord's root.

Kinds that live on something else than a tune have a grammar of their own: stabs of two notes, arpeggios that hold a common tone,
acid lines with accents and slides, sirens. Positions are 16ths of two bars; pitches are steps of the scale over the lowest note.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from ersatz.core.draft.harmony import steps_of
from ersatz.core.draft.patterns import BAR, PHRASE_BARS, STEP, WRITTEN_BARS, Degrees, accent, by_energy
from ersatz.core.pitch import Key
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.parts import Note, Pattern

Rhythm = tuple[tuple[int, int], ...]


class Chord(NamedTuple):
    """`root` as a step of the scale over the hook's lowest note; `tones`: steps of the scale over the root."""

    root: int
    tones: tuple[int, ...]


Chords = tuple[Chord, ...]
Tune = list[tuple[int, int, int]]
Midi = Callable[[int], int]

CELL_BARS = 2
#: Semitones: a step is less than a third, a leap a fourth or more.
THIRD, LEAP = 3, 5
#: A hook lies within an octave and a third: so many steps of the scale.
RANGE = 10
#: The climax alone lies from here on up: of three steps one is a tone of any chord.
CLIMAX = RANGE - 3
#: (16th of two bars, 16ths long) by kind.
RHYTHMS: dict[str, tuple[Rhythm, ...]] = {
    "anthem": (
        ((0, 3), (3, 3), (6, 2), (8, 2), (12, 2), (14, 2), (16, 3), (19, 3), (22, 6)),
        ((0, 4), (4, 2), (6, 4), (10, 2), (14, 2), (16, 4), (20, 2), (22, 2), (24, 5)),
        ((0, 6), (6, 2), (8, 3), (11, 3), (14, 2), (16, 3), (19, 2), (22, 2), (24, 4)),
        ((0, 6), (6, 4), (10, 4), (16, 6), (22, 6)),
        ((0, 3), (3, 3), (6, 6), (16, 3), (19, 3), (22, 4), (26, 4)),
        ((0, 2), (2, 2), (4, 2), (6, 3), (10, 2), (12, 2), (14, 2), (16, 2), (18, 2), (20, 2), (22, 4), (26, 2)),
    ),
    "call": (
        ((0, 2), (3, 2), (6, 2), (8, 1), (10, 2), (14, 2), (16, 2), (19, 1), (20, 1), (22, 3)),
        ((2, 1), (3, 1), (4, 2), (7, 2), (10, 2), (12, 2), (18, 1), (19, 1), (20, 2), (23, 4)),
        ((0, 1), (2, 1), (3, 2), (6, 2), (11, 1), (12, 2), (16, 1), (18, 1), (19, 2), (22, 2), (24, 3)),
        ((0, 3), (6, 2), (10, 4), (16, 3), (22, 4)),
        ((3, 2), (6, 2), (8, 4), (14, 2), (19, 2), (22, 4)),
    ),
    "voice": (
        ((1, 2), (3, 1), (4, 2), (6, 3), (12, 2), (14, 2), (17, 2), (19, 1), (20, 1), (22, 4)),
        ((2, 2), (4, 1), (7, 2), (9, 1), (10, 4), (18, 2), (20, 1), (23, 1), (24, 1), (26, 2)),
        ((0, 2), (3, 2), (5, 1), (6, 1), (8, 3), (14, 1), (15, 1), (19, 2), (21, 1), (22, 1), (24, 4)),
        ((0, 3), (3, 2), (6, 4), (19, 2), (22, 5)),
        ((2, 3), (6, 2), (10, 4), (17, 2), (20, 2), (23, 4)),
    ),
    "bell": (
        ((0, 6), (6, 3), (10, 6), (19, 3), (22, 6)),
        ((2, 6), (8, 4), (14, 6), (22, 3), (26, 4)),
        ((0, 8), (10, 3), (14, 3), (18, 8)),
        ((0, 3), (3, 3), (6, 4), (12, 3), (16, 3), (19, 3), (22, 6)),
        ((2, 4), (6, 4), (10, 4), (16, 6), (22, 4), (28, 3)),
    ),
}  # fmt: skip
#: One bar of hits; the second number says which of the two notes.
STABS: tuple[tuple[tuple[int, int], ...], ...] = (
    ((0, 0), (3, 0), (6, 1), (11, 0)), ((2, 0), (5, 0), (10, 1), (12, 1)),
    ((3, 0), (6, 0), (9, 1), (14, 0)), ((0, 0), (6, 0), (7, 1), (14, 1)), ((0, 0), (3, 0), (6, 1), (8, 0), (11, 0), (14, 1)),
    ((2, 0), (3, 0), (6, 1), (10, 0), (11, 0), (14, 1)), ((0, 0), (10, 1)), ((3, 0), (11, 1)),
)  # fmt: skip
OFFBEATS: tuple[tuple[tuple[int, int], ...], ...] = (
    ((2, 0), (6, 0), (10, 1), (14, 0)), ((2, 0), (6, 1), (10, 0), (13, 1), (14, 1)), ((2, 1), (6, 0), (7, 0), (10, 1), (14, 0)),
)  # fmt: skip
#: Which tone of four each 16th plays, None for a rest; the tone that two chords share is written as 0 and held between the others.
ARPEGGIOS: tuple[tuple[int | None, ...], ...] = (
    (0, 1, 0, 2, 0, 3, 0, 2, 0, 1, 0, 2, 0, 3, 0, None), (1, None, 0, 2, None, 0, 3, None, 0, 2, None, 0, 1, None, 0, None),
    (0, 1, 2, 0, 1, 2, 0, 3, 0, 1, 2, 0, 1, 2, 0, None), (0, None, 1, 2, 0, None, 3, 2, 0, None, 1, 2, 0, None, 3, None),
)  # fmt: skip
#: Steps of a bar of an acid line: scale steps over the chord's root, None for a rest; accents and slides by 16th.
ACID: tuple[tuple[tuple[int | None, ...], frozenset[int], frozenset[int]], ...] = (
    ((0, 0, None, 7, 0, None, 2, 0, None, 0, 7, None, 0, 2, None, 4), frozenset((3, 10)), frozenset((6, 13))),
    ((0, None, 0, 0, 7, None, 0, None, 2, 0, None, 0, 7, 0, None, 1), frozenset((4, 12)), frozenset((8, 12))),
    ((0, None, 2, 0, None, 0, 4, None, 0, 0, None, 7, 0, None, 2, 0), frozenset((6, 11)), frozenset((2, 14))),
    ((0, None, None, 7, 0, None, None, 0, 2, None, 0, None, 7, None, None, 0), frozenset((3, 12)), frozenset((8, 10))),
    ((0, 0, 7, 0, 0, 2, 0, 7, 0, 0, 4, 0, 7, 0, 2, 0), frozenset((2, 7, 12)), frozenset((4, 9, 14))),
)
#: Kinds of the leads that a style has.
KINDS: dict[str, tuple[str, ...]] = {
    "hook": ("anthem", "call"), "arp": ("arpeggio", "bell", "anthem"), "stab": ("stab", "off-beat stab"), "voice": ("voice",),
}  # fmt: skip
#: Sounds that ask for a kind, by a word for them.
BY_SOUND = {"acid line": "acid", "siren": "siren", "bell": "bell", "voice": "voice"}

#: Gap behind a held note, ticks.
HALVED_BREATH = 15
#: Where an arpeggio holds its common tone.
ARPEGGIO_PITCH = 3

#: Costs of the path: off the contour, off its intervals, a strong beat outside the chord, by the size of the step in the scale.
OFF_CONTOUR, OFF_INTERVAL, OUTSIDE = 0.45, 0.8, 12.0
#: A held note outside the chord, off the beat: from so many 16ths on.
HELD_OUTSIDE, HELD_STEPS = 3.0, 6
BY_STEP = (0.8, 0.0, 0.7, 6.0, 9.0)
NEVER = 1e3
#: How much a beat, an off-beat and the rest are accented.
ACCENTS = (0.95, 0.86, 0.78)


def phrases(
    kind: str, key: Key, degrees: Degrees, low_midi: int, rng: random.Random, energy: int = 0, colour: str = "triads"
) -> Pattern:
    """Sixteen bars: a hook, and the same again over the chords of its second phrase."""
    seed = rng.getrandbits(64)
    notes: list[Note] = []
    for first in range(0, WRITTEN_BARS, PHRASE_BARS):
        under = tuple(degrees[(first + bar) % len(degrees)] for bar in range(PHRASE_BARS))
        sung = hook(kind, key, under, low_midi, random.Random(seed), energy, colour).notes
        notes += [replace(n, tick=n.tick + first * BAR) for n in sung]
    return Pattern(WRITTEN_BARS, tuple(notes))


def halved(pattern: Pattern) -> Pattern:
    """Of each half of a bar the first note on a beat, or else the first, held to the next one: what a breakdown sings of a hook."""
    half, chosen = BAR // 2, dict[int, Note]()
    for n in pattern.notes:
        place = n.tick // half
        if place not in chosen or (chosen[place].tick % (4 * STEP) and n.tick % (4 * STEP) == 0):
            chosen[place] = n
    kept = [chosen[place] for place in sorted(chosen)]
    ends = [n.tick for n in kept[1:]] + [pattern.bars * BAR]
    return Pattern(
        pattern.bars,
        tuple(
            replace(n, ticks=min(end - n.tick, BAR) - HALVED_BREATH, velocity=round(0.9 * n.velocity, 2), bend=(), repeats=1)
            for n, end in zip(kept, ends)
        ),
    )


def hook(
    kind: str, key: Key, degrees: Degrees, low_midi: int, rng: random.Random, energy: int = 0, colour: str = "triads"
) -> Pattern:
    """Eight bars of a kind over chords of a colour, one degree a bar, from the first note of the scale at or above `low_midi` on;
    an acid line lies an octave under it. `energy` 1 takes the busier rhythms of the kind, -1 the calmer ones."""
    base = next(degree for degree in range(-6, 1) if key.degree_midi(degree, low_midi) >= low_midi)

    def midi(pitch: int) -> int:
        return key.degree_midi(pitch + base, low_midi)

    chords = tuple(Chord(degree - base, steps_of(degree, colour)) for degree in degrees)
    return Pattern(PHRASE_BARS, WRITERS.get(kind, _tune)(kind, midi, chords, energy, rng))


def kind_of(lead: str, sound: tuple[str, ...], rng: random.Random) -> str:
    """The kind of hook for a style's lead and the words for its sound."""
    asked = [BY_SOUND[word] for word in sound if word in BY_SOUND]
    return asked[0] if asked else rng.choice(KINDS[lead])


# Tunes ---------------------------------------------------------------------------------------------------------------


def _tune(kind: str, midi: Midi, chords: Chords, energy: int, rng: random.Random) -> tuple[Note, ...]:
    a, b = rng.sample(by_energy(RHYTHMS[kind], len, energy), 2)
    centre = rng.choice((3, 4, 5))
    contour = _contour(a, centre, rng)
    other = [min(RANGE - 1, c + 2) for c in _contour(b, centre, rng)]
    cells = [(a, contour), (a, contour), (b, other), (_ended(a), contour)]
    tune: Tune = []
    for k, (rhythm, shape) in enumerate(cells):
        under = [chords[(CELL_BARS * k + bar) % len(chords)] for bar in range(CELL_BARS)]
        # Reached from below, so never the first.
        peak = 1 + int(np.argmax(shape[1:])) if rhythm is b else None
        pitches = _path(rhythm, shape[: len(rhythm)], under, k == len(cells) - 1, peak, tune[-1][2] if tune else None)
        tune += [(CELL_BARS * k * STEPS_PER_BAR + step, long, pitch) for (step, long), pitch in zip(rhythm, pitches)]
    moves = [abs(midi(b[2]) - midi(a[2])) for a, b in pairwise(tune)]
    leaps = sum(move >= LEAP for move in moves)
    # Few notes over one held chord may keep to its tones: then another tune. Bells ring the chord.
    if kind != "bell" and leaps and sum(1 <= move < THIRD for move in moves) <= leaps:
        return _tune(kind, midi, chords, energy, rng)
    return tuple(Note(step * STEP, long * STEP - 15, midi(pitch), _accent(step, kind, rng)) for step, long, pitch in tune)


def _contour(rhythm: Rhythm, centre: int, rng: random.Random) -> list[int]:
    """Arch, fall, rise or wave around the centre, with a turn that is its own."""
    n = len(rhythm)
    at = np.linspace(0, 1, n)
    shape = rng.choice((np.sin(np.pi * at), 1 - 2 * at, 2 * at - 1, np.sin(2 * np.pi * at), np.abs(2 * at - 1)))
    turns = [rng.choice((-1, 0, 0, 1)) for _ in range(n)]
    return [int(np.clip(round(centre - 1 + 2.5 * float(s) + t), 0, RANGE - 3)) for s, t in zip(shape, turns)]


def _ended(rhythm: Rhythm) -> Rhythm:
    """The phrase's last cell: its end is left out, and what is last is held."""
    kept = [hit for hit in rhythm if hit[0] < CELL_BARS * STEPS_PER_BAR - 8]
    last = kept[-1][0]
    return (*kept[:-1], (last, min(6, CELL_BARS * STEPS_PER_BAR - last)))


def _path(rhythm: Rhythm, contour: list[int], chords: list[Chord], closes: bool, peak: int | None, before: int | None) -> list[int]:
    """The cheapest pitches for a cell; the first is reached from the note `before`. Only the note `peak` is as high as CLIMAX."""
    pitches = np.arange(RANGE)
    step = np.abs(pitches[:, None] - pitches[None, :])
    leap = np.array([*BY_STEP, *[NEVER] * (RANGE - len(BY_STEP))])[step]
    total = np.zeros(RANGE) if before is None else leap[before].copy()
    back = []
    for i, (at, long) in enumerate(rhythm):
        chord = chords[at // STEPS_PER_BAR]
        cost = OFF_CONTOUR * np.abs(pitches - contour[i])
        tones = _tones(chord)
        if at % 4 == 0 or i == peak:
            cost = cost + np.where(np.isin(pitches, tones), 0.0, OUTSIDE)
        elif long >= HELD_STEPS:
            cost = cost + np.where(np.isin(pitches, tones), 0.0, HELD_OUTSIDE)
        cost = cost + np.where((pitches >= CLIMAX) == (i == peak), 0.0, NEVER)
        if closes and i == len(rhythm) - 1:
            cost = cost + np.where((pitches - chord.root) % 7 == 0, 0.0, NEVER)
        if i == 0:
            total = total + cost
            continue
        own = OFF_INTERVAL * np.abs((pitches[None, :] - pitches[:, None]) - (contour[i] - contour[i - 1]))
        via = total[:, None] + leap + own
        back.append(via.argmin(axis=0))
        total = via.min(axis=0) + cost
    path = [int(total.argmin())]
    for came in reversed(back):
        path.append(int(came[path[-1]]))
    return path[::-1]


def _tones(chord: Chord) -> list[int]:
    """Steps of the hook's range that belong to a chord."""
    classes = {step % 7 for step in chord.tones}
    return [p for p in range(RANGE) if (p - chord.root) % 7 in classes]


def _accent(step: int, kind: str, rng: random.Random) -> float:
    return round(accent(step, ACCENTS) - (0.06 * rng.random() if kind in ("voice", "bell") else 0.0), 2)


# Other grammars ------------------------------------------------------------------------------------------------------


def _stabs(kind: str, midi: Midi, chords: Chords, energy: int, rng: random.Random) -> tuple[Note, ...]:
    """Two tones of each chord, near each other; the fourth bar answers."""
    call, answer = rng.sample(by_energy(OFFBEATS if kind == "off-beat stab" else STABS, len, energy), 2)
    low, high = rng.choice(((0, 1), (1, 2), (0, 2)))
    place = rng.choice((2, 3, 4))
    notes = []
    for bar in range(PHRASE_BARS):
        tones = sorted(_tones(chords[bar % len(chords)]), key=lambda p: (abs(p - place), p))[:3]
        pair = sorted(tones)[low], sorted(tones)[high]
        for step, which in answer if bar % 4 == 3 else call:
            at = bar * STEPS_PER_BAR + step
            notes.append(Note(at * STEP, STEP + 60, midi(pair[which]), _accent(step, kind, rng)))
    return tuple(notes)


def _arpeggio(kind: str, midi: Midi, chords: Chords, energy: int, rng: random.Random) -> tuple[Note, ...]:
    """Tones of each chord in an order; between them the tone that it shares with the chord before. Each phrase of four ends with a
    rest."""
    order = rng.choice(by_energy(ARPEGGIOS, lambda row: sum(k is not None for k in row), energy))
    notes, held = [], ARPEGGIO_PITCH
    for bar in range(PHRASE_BARS):
        tones = _tones(chords[bar % len(chords)])
        held = min(tones, key=lambda p: (abs(p - held), p))
        others = sorted((p for p in tones if p != held), key=lambda p: (abs(p - held), p))[:3]
        row = [held, *sorted(others)]
        for step, which in enumerate(order):
            if which is None or (bar % 4 == 3 and step >= STEPS_PER_BAR - 4):
                continue
            pitch = midi(row[min(which, len(row) - 1)])
            notes.append(Note((bar * STEPS_PER_BAR + step) * STEP, STEP - 15, pitch, _accent(step, kind, rng)))
    return tuple(notes)


def _acid(kind: str, midi: Midi, chords: Chords, energy: int, rng: random.Random) -> tuple[Note, ...]:
    """A line of 16ths an octave lower, on the chord's root, its octave and its neighbours; slid notes run into the next."""
    call, answer = rng.sample(by_energy(ACID, lambda line: sum(k is not None for k in line[0]), energy), 2)
    notes: list[Note] = []
    for bar in range(PHRASE_BARS):
        steps, accents, slides = answer if bar % 4 == 3 else call
        low = chords[bar % len(chords)].root % 7
        root = low if low < 4 else low - 7
        placed = [(step, midi(root + up) - 12) for step, up in enumerate(steps) if up is not None]
        for i, (step, pitch) in enumerate(placed):
            goes_on = step in slides and i + 1 < len(placed)
            long = (placed[i + 1][0] - step if goes_on else 1) * STEP
            bend = ((0.0, 0.0), (long * 0.5, 0.0), (float(long), float(placed[i + 1][1] - pitch))) if goes_on else ()
            velocity = 1.0 if step in accents else 0.72
            notes.append(Note((bar * STEPS_PER_BAR + step) * STEP, long - (0 if goes_on else 40), pitch, velocity, bend=bend))
    return tuple(notes)


def _siren(kind: str, midi: Midi, chords: Chords, energy: int, rng: random.Random) -> tuple[Note, ...]:
    """Two long notes in turn, a neighbour apart, for a sound that wails by itself; a rest after each four bars."""
    up = rng.choice((1, 2, 4))
    notes = []
    for bar in range(0, PHRASE_BARS, CELL_BARS):
        low = min(_tones(chords[bar % len(chords)]), key=lambda p: abs(p - 3))
        long = CELL_BARS * BAR - (BAR // 2 if bar % 4 else BAR // 8)
        notes.append(Note(bar * BAR, long, midi(low + (up if bar % 4 else 0)), 0.9))
    return tuple(notes)


WRITERS: dict[str, Callable[[str, Midi, Chords, int, random.Random], tuple[Note, ...]]] = {
    "stab": _stabs, "off-beat stab": _stabs, "arpeggio": _arpeggio, "acid": _acid, "siren": _siren,
}  # fmt: skip

"""Bass lines: a figure of the style against the kick, over the roots of the chords.

A line is sixteen bars: its figure in three bars of four, another that answers in the fourth; where the chord changes behind the
fourth bar, its last 8th is a passing note of the scale; the phrase ends an octave up, and the sixteenth bar goes by the scale to
the note that the first begins on. A conversation is two lines for two sounds: the call in two bars, the answer in the next two.
"""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass, replace

from ersatz.core.draft.patterns import BAR, PHRASE_BARS, STEP, WRITTEN_BARS, Degrees, accent, by_energy
from ersatz.core.pitch import Key
from ersatz.core.song.parts import Note, Pattern

#: (step, 16ths long, steps of the scale over the root: 7 is its octave).
Figure = tuple[tuple[int, int, int], ...]
#: Figures by rhythm, in pairs or more of which one answers another.
FIGURES: dict[str, tuple[Figure, ...]] = {
    "offbeat": (
        ((2, 2, 0), (6, 2, 0), (10, 2, 0), (14, 2, 0)), ((2, 2, 0), (6, 2, 0), (10, 2, 7), (14, 1, 0), (15, 1, 0)),
        ((2, 1, 0), (3, 1, 0), (6, 2, 0), (10, 1, 0), (11, 1, 7), (14, 2, 0)),
    ),
    # Each 16th but the kick's.
    "rolling": (
        ((1, 1, 0), (2, 1, 0), (3, 1, 0), (5, 1, 0), (6, 1, 0), (7, 1, 0), (9, 1, 0), (10, 1, 0), (11, 1, 0), (13, 1, 0),
         (14, 1, 7), (15, 1, 0)),
        ((1, 1, 0), (2, 1, 7), (3, 1, 0), (5, 1, 0), (6, 1, 7), (7, 1, 0), (9, 1, 0), (10, 1, 7), (11, 1, 0), (13, 1, 0),
         (14, 1, 4), (15, 1, 0)),
        ((2, 1, 0), (3, 1, 0), (6, 1, 0), (7, 1, 0), (10, 1, 0), (11, 1, 0), (14, 1, 0), (15, 1, 4)),
        ((1, 1, 0), (3, 1, 0), (5, 1, 0), (6, 1, 4), (7, 1, 0), (9, 1, 0), (11, 1, 0), (13, 1, 0), (14, 1, 4), (15, 1, 7)),
    ),
    "tech": (
        ((0, 1, 0), (2, 1, 0), (5, 2, 0), (8, 1, 0), (11, 1, 7), (13, 2, 0)),
        ((2, 1, 0), (3, 2, 0), (6, 1, 7), (9, 1, 0), (10, 2, 0), (15, 1, 0)),
        ((0, 2, 0), (3, 1, 0), (6, 1, 6), (7, 1, 7), (10, 1, 0), (14, 2, 0)),
    ),
    "octaves": (
        ((0, 2, 0), (2, 1, 7), (5, 1, 0), (6, 1, 7), (8, 2, 0), (10, 1, 7), (13, 1, 4), (14, 1, 7)),
        ((0, 1, 0), (2, 2, 7), (4, 1, 0), (7, 1, 7), (8, 1, 0), (10, 2, 7), (12, 1, 4), (15, 1, 6)),
        ((2, 1, 7), (3, 1, 0), (6, 2, 7), (8, 1, 0), (10, 1, 7), (11, 1, 4), (14, 2, 7)),
    ),
    "call": (
        ((0, 3, 0), (4, 1, 0), (7, 2, 7), (12, 2, 4)), ((1, 2, 0), (5, 2, 2), (8, 3, 0), (14, 2, 6)),
        ((0, 2, 0), (3, 2, 4), (6, 3, 7), (11, 1, 6), (12, 2, 4)),
    ),
    # With the kick of two-steps, and into its second.
    "two-step": (
        ((0, 3, 0), (7, 2, 0), (10, 4, 0)), ((0, 2, 0), (3, 1, 0), (10, 3, 0), (14, 1, 7)),
        ((0, 5, 0), (6, 2, 4), (10, 2, 0), (13, 2, 6)),
    ),
    # Threes and a two, as the snare has them.
    "dembow": (
        ((0, 3, 0), (3, 3, 0), (6, 2, 7), (8, 3, 0), (11, 3, 0), (14, 2, 7)), ((0, 3, 0), (3, 5, 0), (8, 3, 0), (11, 5, 4)),
        ((0, 2, 0), (3, 2, 7), (6, 2, 0), (8, 3, 0), (11, 2, 4), (14, 2, 7)),
    ),
    "reese": (((0, 6, 0), (7, 3, 0), (11, 5, 0)), ((0, 8, 0), (10, 6, 0)), ((0, 10, 0), (10, 3, 4), (13, 3, 6))),
    "sustained": (((0, 16, 0),), ((0, 10, 0), (10, 6, 0)), ((0, 14, 0), (14, 2, 4))),
}  # fmt: skip
#: Rhythms whose notes run into each other, and so slide into the next chord or octave over so many ticks.
SLIDING = ("reese", "sustained", "dembow")
SLIDE_TICKS = STEP
#: Gap before the next note, ticks: what is joined must end for itself.
BREATH = 20
#: Where passing notes and the last bar's lead on, and the accent of a beat, an off-beat and the rest.
PASSING, LEADS_FROM = 14, 12
ACCENTS = (1.0, 0.88, 0.8)
#: Roots lie within a fifth over the lowest note, others an octave above at most.
HIGHEST_ROOT = 7


@dataclass(frozen=True)
class Lines:
    """`bass` plays throughout, or calls; `answer` is None where there is no conversation. `sub`: the roots under both."""

    bass: Pattern
    answer: Pattern | None
    sub: Pattern


def lines(rhythms: Sequence[str], key: Key, degrees: Degrees, low_midi: int, energy: int, rng: random.Random, talks: bool) -> Lines:
    """Bass lines of one of the rhythms; `talks`: call and answer for two sounds."""
    rhythm = rng.choice(rhythms)
    call, answer = rng.sample(by_energy(FIGURES[rhythm], len, energy), 2)
    first = _line(rhythm, call, answer, key, degrees, low_midi)
    if not talks:
        return Lines(Pattern(WRITTEN_BARS, first), None, under(first, low_midi))
    other = rng.choice([r for r in rhythms if r != rhythm] or [rhythm])
    its_call, its_answer = rng.sample(by_energy(FIGURES[other], len, energy), 2)
    second = _line(other, its_call, its_answer, key, degrees, low_midi)
    calls = tuple(_ended(n, 2) for n in first if n.tick // BAR % 4 < 2)
    answers = tuple(_ended(n, 4) for n in second if n.tick // BAR % 4 >= 2)
    both = tuple(sorted((*calls, *answers), key=lambda n: n.tick))
    return Lines(Pattern(WRITTEN_BARS, calls), Pattern(WRITTEN_BARS, answers), under(both, low_midi))


def _ended(note: Note, bars: int) -> Note:
    """A note that ends before the other sound begins to speak, unbent where it slid there."""
    speaks = (note.tick // (4 * BAR) * 4 + bars) * BAR
    return note if note.tick + note.ticks < speaks else replace(note, ticks=speaks - note.tick - BREATH, bend=())


def _line(rhythm: str, call: Figure, answer: Figure, key: Key, degrees: Degrees, low_midi: int) -> tuple[Note, ...]:
    notes: list[Note] = []
    for bar in range(WRITTEN_BARS):
        degree = degrees[bar % len(degrees)]
        figure = answer if bar % 4 == 3 else call
        root = _root(key, degree, low_midi)
        for step, long, above in figure:
            midi = root + key.degree_midi(degree + above, low_midi) - key.degree_midi(degree, low_midi)
            notes.append(Note(bar * BAR + step * STEP, long * STEP - BREATH, midi, accent(step, ACCENTS)))
    notes = _octave_up(notes, rhythm)
    notes = _passing(notes, key, degrees, low_midi)
    notes = _led_back(notes, key)
    return tuple(_slid(notes) if rhythm in SLIDING else notes)


def _root(key: Key, degree: int, low_midi: int) -> int:
    root = key.degree_midi(degree, low_midi)
    return root - 12 if root > low_midi + HIGHEST_ROOT else root


def _octave_up(notes: list[Note], rhythm: str) -> list[Note]:
    """The last note of the first phrase an octave up; held lines stay where they are."""
    if rhythm in ("reese", "sustained"):
        return notes
    last = max(k for k, n in enumerate(notes) if n.tick < PHRASE_BARS * BAR)
    before = min(n.midi for n in notes)
    up = notes[last].midi + 12
    return [replace(n, midi=up) if k == last and up <= before + 24 else n for k, n in enumerate(notes)]


def _passing(notes: list[Note], key: Key, degrees: Degrees, low_midi: int) -> list[Note]:
    """In the fourth and twelfth bar the last 8th goes on the step of the scale beside the next root, if that is another."""
    out = list(notes)
    for bar in (3, 11):
        here, there = (_root(key, degrees[b % len(degrees)], low_midi) for b in (bar, bar + 1))
        if here == there:
            continue
        at = bar * BAR + PASSING * STEP
        out = [_cut(n, at) for n in out if not at <= n.tick < (bar + 1) * BAR]
        out.append(Note(at, 2 * STEP - BREATH, beside(there, here, key), ACCENTS[1]))
    return sorted(out, key=lambda n: n.tick)


def beside(there: int, here: int, key: Key) -> int:
    """The note of the scale next to `there`, on the side of `here`."""
    side = 1 if here > there else -1
    return next(there + side * k for k in (1, 2) if (there + side * k) % 12 in key.pitch_classes)


def _cut(note: Note, at: int) -> Note:
    return replace(note, ticks=at - note.tick - BREATH) if note.tick < at < note.tick + note.ticks else note


def _led_back(notes: list[Note], key: Key) -> list[Note]:
    """The end of the last bar goes by the scale to the note that the first begins on."""
    at = (WRITTEN_BARS - 1) * BAR + LEADS_FROM * STEP
    kept = [_cut(n, at) for n in notes if n.tick < at]
    first = notes[0].midi
    here = kept[-1].midi if kept else first
    scale = [m for m in range(first - 7, first + 8) if m % 12 in key.pitch_classes and m != first]
    side = [m for m in scale if (m > first) == (here > first)] or scale
    near = sorted(side, key=lambda m: abs(m - first))[:2]
    leading = [Note(at + k * 2 * STEP, 2 * STEP - BREATH, m, 0.82) for k, m in enumerate(reversed(near))]
    return [*kept, *leading]


def _slid(notes: list[Note]) -> list[Note]:
    """A note that reaches the next bends into it at its end: over the bar line, or up or down an octave."""
    out = []
    for n, following in zip(notes, (*notes[1:], None)):
        reaches = following is not None and n.tick + n.ticks + BREATH >= following.tick
        by = following.midi - n.midi if following is not None else 0
        slides = abs(by) == 12 or (following is not None and following.tick % BAR == 0 and 0 < abs(by) < 12)
        if reaches and slides and n.ticks > 2 * SLIDE_TICKS:
            n = replace(n, bend=((0.0, 0.0), (float(n.ticks - SLIDE_TICKS), 0.0), (float(n.ticks), float(by))))
        out.append(n)
    return out


def under(notes: tuple[Note, ...], low_midi: int) -> Pattern:
    """The sub under a line: its rhythm on the octave in which `low_midi` lies, what is struck twice within an 8th held through."""
    out: list[Note] = []
    for n in notes:
        midi = low_midi - 5 + (n.midi - low_midi + 5) % 12
        if out and out[-1].midi == midi and n.tick - out[-1].tick <= 2 * STEP and out[-1].ticks < 4 * STEP:
            out[-1] = replace(out[-1], ticks=n.tick + n.ticks - out[-1].tick)
        else:
            out.append(replace(n, midi=midi, bend=(), velocity=min(1.0, n.velocity + 0.1)))
    return Pattern(WRITTEN_BARS, tuple(out))

"""What can be done to notes as a whole: plain functions over tuples of notes.

Conventions: ticks from the pattern's start; `length` is the pattern's, in ticks; results stay within MIDI 0 to 127.
"""

from __future__ import annotations

import random
from dataclasses import replace
from typing import Literal

from ersatz.core.pitch import SCALES, Key
from ersatz.core.song.parts import Note

Notes = tuple[Note, ...]
Order = Literal["up", "down", "up and down", "as drawn", "by chance"]
#: Shares of the next note's way: what is held over overlaps a little, so that a mono line slides.
LEGATO_OVERLAP_TICKS = 20
SHORTEST_TICKS = 30


def _within(midi: int) -> int:
    """The same note name inside MIDI's range."""
    while midi < 0:
        midi += 12
    while midi > 127:
        midi -= 12
    return midi


def degree_of(midi: int, key: Key) -> int:
    """Scale degree counted on through the octaves from MIDI 0 on; a note between two takes the lower."""
    octave, above = divmod(midi - key.pitch_class, 12)
    return 7 * octave + sum(step <= above for step in SCALES[key.mode]) - 1


def of_degree(degree: int, key: Key) -> int:
    """Semitones above C of a scale degree: 0 is the tonic, 7 the tonic an octave up, negative ones lie below."""
    octave, step = divmod(degree, 7)
    return key.pitch_class + 12 * octave + SCALES[key.mode][step]


def snapped(notes: Notes, key: Key) -> Notes:
    """Every note to the nearest of the scale, downwards where two are equally near."""
    classes = key.pitch_classes

    def nearest(midi: int) -> int:
        return min(range(midi - 2, midi + 3), key=lambda m: (m % 12 not in classes, abs(m - midi), m))

    return tuple(replace(n, midi=_within(nearest(n.midi))) for n in notes)


def transposed(notes: Notes, semitones: int) -> Notes:
    """The notes so many semitones higher; what would leave MIDI’s range is moved by octaves."""
    return tuple(replace(n, midi=_within(n.midi + semitones)) for n in notes)


def transposed_in_scale(notes: Notes, degrees: int, key: Key) -> Notes:
    """By scale degrees; what lies between two degrees keeps its distance to the lower."""

    def moved(midi: int) -> int:
        degree = degree_of(midi, key)
        return of_degree(degree + degrees, key) + midi - of_degree(degree, key)

    return tuple(replace(n, midi=_within(moved(n.midi))) for n in notes)


def in_key(notes: Notes, old: Key, new: Key) -> Notes:
    """The same degrees in another key, by the nearest way (up to a fifth down, a tritone up); what lies between two degrees keeps
    its distance to the lower."""
    octaves = (new.pitch_class - old.pitch_class + 5) // 12 * 12

    def moved(midi: int) -> int:
        degree = degree_of(midi, old)
        return of_degree(degree, new) - octaves + midi - of_degree(degree, old)

    return tuple(replace(n, midi=_within(moved(n.midi))) for n in notes)


def inverted(notes: Notes, key: Key) -> Notes:
    """Mirrored in the scale at the first note: what went up a degree goes down one."""
    if not notes:
        return notes
    centre = degree_of(min(notes, key=lambda n: n.tick).midi, key)
    return tuple(replace(n, midi=_within(of_degree(2 * centre - degree_of(n.midi, key), key))) for n in notes)


def reverse(notes: Notes, length: int) -> Notes:
    """Each note ends where it began, counted from the other end."""
    return tuple(replace(n, tick=max(0, length - n.tick - n.ticks)) for n in notes)


def shifted(notes: Notes, ticks: int, length: int) -> Notes:
    """Later by so many ticks; what leaves the pattern comes in again at its other end."""
    return tuple(replace(n, tick=(n.tick + ticks) % length) for n in notes)


def stretched(notes: Notes, factor: float, length: int) -> Notes:
    """Times and lengths multiplied; what would lie behind the pattern is left out."""
    out = (replace(n, tick=round(n.tick * factor), ticks=max(SHORTEST_TICKS, round(n.ticks * factor))) for n in notes)
    return tuple(n for n in out if n.tick < length)


def legato(notes: Notes, length: int) -> Notes:
    """Each note lasts until the next one begins, a little over it; the last until the end."""
    starts = sorted({n.tick for n in notes})
    following = {a: b for a, b in zip(starts, [*starts[1:], length])}

    def long(n: Note) -> int:
        over = LEGATO_OVERLAP_TICKS if following[n.tick] < length else 0
        return following[n.tick] - n.tick + over

    return tuple(replace(n, ticks=long(n)) for n in notes)


def strummed(notes: Notes, ms: float) -> Notes:
    """Notes that begin together begin one after the other, from the lowest up (negative: from the highest down)."""
    out = []
    for n in notes:
        chord = sorted((m.midi for m in notes if m.tick == n.tick), reverse=ms < 0)
        out.append(replace(n, nudge_ms=round(n.nudge_ms + chord.index(n.midi) * abs(ms), 2)))
    return tuple(out)


def with_octave(notes: Notes, octaves: int, velocity: float = 0.7) -> Notes:
    """The notes with a layer of their own some octaves away, softer by `velocity`."""
    there = {(n.tick, n.midi) for n in notes}
    layer = (replace(n, midi=n.midi + 12 * octaves, velocity=round(n.velocity * velocity, 3)) for n in notes)
    return (*notes, *(n for n in layer if 0 <= n.midi <= 127 and (n.tick, n.midi) not in there))


def chord_of(key: Key, degree: int, voices: int, low_midi: int) -> tuple[int, ...]:
    """Thirds stacked in the scale on a 0-based degree, from `low_midi` on: three voices a triad, four its seventh, five its
    ninth."""
    root = key.degree_midi(degree, low_midi)
    return tuple(
        _within(root + key.degree_midi(degree + 2 * k, low_midi) - key.degree_midi(degree, low_midi)) for k in range(voices)
    )


def arpeggio(notes: Notes, step: int, order: Order, octaves: int, gate: float, length: int, seed: int = 0) -> Notes:
    """The chords that are held, one note after the other every `step` ticks, through so many octaves; each lasts `gate` of a
    step."""
    chance = random.Random(seed)
    out: list[Note] = []
    turn, last = 0, ()  # type: tuple[int, tuple[int, ...]]
    for tick in range(0, length, step):
        held = [n for n in notes if n.tick <= tick < n.tick + n.ticks]
        pitches = tuple(dict.fromkeys(n.midi for n in (held if order == "as drawn" else sorted(held, key=lambda n: n.midi))))
        if not pitches:
            continue
        if pitches != last:
            turn, last = 0, pitches
        row = [p + 12 * o for o in range(octaves) for p in pitches if p + 12 * o <= 127]
        if order == "down":
            row.reverse()
        elif order == "up and down":
            row += row[-2:0:-1]
        at = chance.randrange(len(row)) if order == "by chance" else turn % len(row)
        velocity = max(n.velocity for n in held) * (1.0 if tick % (4 * step) == 0 else 0.85)
        out.append(Note(tick, max(SHORTEST_TICKS, round(step * gate)), row[at], round(velocity, 3)))
        turn += 1
    return tuple(out)


def rolling_bass(roots: dict[int, int], length: int, beat: int, lift: int = 3) -> Notes:
    """Three 16ths after every beat, which belongs to the kick; the last of each bar's fourth an octave up. `roots`: MIDI by the
    tick from which it holds. `lift`: which of the three is louder, counted from 1."""
    out = []
    step = beat // 4
    for tick in range(0, length, step):
        place = tick // step
        if place % 4 == 0:
            continue
        root = roots[max(t for t in roots if t <= tick)] if any(t <= tick for t in roots) else next(iter(roots.values()))
        up = 12 if place % 16 == 15 else 0
        out.append(Note(tick, round(0.8 * step), _within(root + up), 1.0 if place % 4 == lift else 0.85))
    return tuple(out)


def answered(call: Notes, length: int, bars: int, bar: int, key: Key, low_midi: int) -> tuple[Notes, Notes]:
    """A line shared between two: the first keeps its first `bars` of every 2 * bars, the other answers in the next ones with the
    same rhythm, mirrored and in its own register from `low_midi` on."""
    round_ticks = 2 * bars * bar
    calls = tuple(n for n in call if n.tick % round_ticks < bars * bar)
    mirrored = inverted(calls, key)
    if not mirrored:
        return calls, ()
    lowest = min(n.midi for n in mirrored)
    octaves = -(-(low_midi - lowest) // 12)
    answer = tuple(replace(n, tick=n.tick + bars * bar, midi=_within(n.midi + 12 * octaves)) for n in mirrored)
    return calls, tuple(n for n in answer if n.tick < length)

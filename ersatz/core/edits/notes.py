"""Edits of what a part plays."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Literal

from ersatz.core.edits.arrangement import part_of
from ersatz.core.errors import InvalidEdit
from ersatz.core.song import transform
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import Song, with_strip
from ersatz.core.song.parts import MIN_LOOP_TICKS, MOST_PATTERN_BARS, Note, Part, Pattern
from ersatz.core.words import minus

MOST_NOTES = 2000
MOST_NUDGE_MS, MOST_SEMITONES, MOST_REPEATS = 100, 24, 16
MIN_LEVEL_DB, MAX_LEVEL_DB = -60, 12
MOST_SAID = 120
#: Where a line starts that nothing tells a register: a bass, anything else.
BASS_MIDI, MIDDLE_MIDI = 31, 60
#: From where on the lowest voice of a chord is looked for.
LOWEST_CHORD = {"bass": 36, "chords": 55, "lead": 67}


@dataclass(frozen=True)
class WriteNotes:
    """The notes of a pattern, taking the place of those it had."""

    kind: ClassVar[str] = "write_notes"
    part: str
    pattern: str
    bars: int
    notes: tuple[Note, ...]
    loop_ticks: int = 0
    said: str = "notes changed"

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        pattern_of(part, self.pattern)
        if not 1 <= self.bars <= MOST_PATTERN_BARS:
            raise InvalidEdit(f"A pattern has 1 to {MOST_PATTERN_BARS} bars.")
        if len(self.notes) > MOST_NOTES:
            raise InvalidEdit(f"A pattern has at most {MOST_NOTES} notes.")
        length = self.bars * song.grid.ticks_per_bar
        if self.loop_ticks and not MIN_LOOP_TICKS <= self.loop_ticks <= length:
            raise InvalidEdit("A pattern begins again within its bars.")
        for note in self.notes:
            if abs(note.nudge_ms) > MOST_NUDGE_MS or abs(note.semitones) > MOST_SEMITONES or not 1 <= note.repeats <= MOST_REPEATS:
                raise InvalidEdit(f"A hit is nudged by up to {MOST_NUDGE_MS} ms, pitched by up to {MOST_SEMITONES} semitones, "
                                  f"struck up to {MOST_REPEATS} times.")  # fmt: skip
            if any(not MIN_LEVEL_DB <= db <= MAX_LEVEL_DB for _, db in note.level) or [t for t, _ in note.level] != sorted(
                {t for t, _ in note.level}
            ):
                raise InvalidEdit(minus(f"A note’s level lies between {MIN_LEVEL_DB} and {MAX_LEVEL_DB} dB, in order of time."))
            if not (0 <= note.tick < length and note.ticks > 0 and 0 <= note.midi <= 127 and 0 < note.velocity <= 1):
                raise InvalidEdit("A note lies inside its pattern, between MIDI 0 and 127, and is heard.")
        notes = tuple(sorted(self.notes, key=lambda n: (n.tick, n.midi)))
        return with_strip(song, replace(part, patterns={**part.patterns, self.pattern: Pattern(self.bars, notes, self.loop_ticks)}))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} {self.pattern}: {self.said[:MOST_SAID]}"


How = Literal[
    "transpose", "transpose in scale", "snap to scale", "invert", "reverse", "shift", "stretch", "legato", "strum",
    "octave layer", "louder", "length", "arpeggio", "rolling bass",
]  # fmt: skip
#: What `amount` counts.
UNITS = {
    "transpose": "semitones", "transpose in scale": "degrees", "shift": "16ths", "stretch": "times", "strum": "ms",
    "octave layer": "octaves", "louder": "", "length": "times", "arpeggio": "16ths a step",
}  # fmt: skip


@dataclass(frozen=True)
class TransformNotes:
    """What is done to notes of a pattern: to those at `places` in its list, or to all. An arpeggio takes the place of the chords
    that it plays; a rolling bass is written under the lowest note of each bar."""

    kind: ClassVar[str] = "transform_notes"
    part: str
    pattern: str
    how: How
    amount: float = 0.0
    places: tuple[int, ...] = ()
    order: transform.Order = "up"
    octaves: int = 1
    seed: int = 0

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        pattern = pattern_of(part, self.pattern)
        chosen = set(self.places) or set(range(len(pattern.notes)))
        if not chosen <= set(range(len(pattern.notes))):
            raise InvalidEdit("These notes aren’t there any more.")
        touched = tuple(n for k, n in enumerate(pattern.notes) if k in chosen)
        kept = tuple(n for k, n in enumerate(pattern.notes) if k not in chosen)
        length = pattern.loop_ticks or pattern.bars * song.grid.ticks_per_bar
        notes = (*kept, *self._transformed(touched, length, song))
        return WriteNotes(self.part, self.pattern, pattern.bars, notes, pattern.loop_ticks).apply(song)

    def _transformed(self, notes: tuple[Note, ...], length: int, song: Song) -> tuple[Note, ...]:
        whole, key, bar = round(self.amount), song.key, song.grid.ticks_per_bar
        sixteenth = bar // STEPS_PER_BAR
        if self.how in ("stretch", "length") and not 0.125 <= self.amount <= 8:
            raise InvalidEdit("Notes are stretched by an eighth to eight times.")
        if self.how == "arpeggio":
            step = max(1, round((self.amount or 1) * sixteenth))
            return transform.arpeggio(notes, step, self.order, min(4, max(1, self.octaves)), 0.8, length, self.seed)
        if self.how == "rolling bass":
            lowest = {b * bar: min(m) for b in range(length // bar) if (m := [n.midi for n in notes if n.tick // bar == b])}
            roots = lowest or {0: key.degree_midi(0, BASS_MIDI)}
            return transform.rolling_bass(roots, length, bar // song.grid.beats_per_bar)
        if self.how == "louder":
            return tuple(replace(n, velocity=round(min(1.0, max(0.02, n.velocity + self.amount)), 3)) for n in notes)
        if self.how == "length":
            return tuple(replace(n, ticks=max(transform.SHORTEST_TICKS, round(n.ticks * self.amount))) for n in notes)
        return {
            "transpose": lambda: transform.transposed(notes, whole),
            "transpose in scale": lambda: transform.transposed_in_scale(notes, whole, key),
            "snap to scale": lambda: transform.snapped(notes, key),
            "invert": lambda: transform.inverted(notes, key),
            "reverse": lambda: transform.reverse(notes, length),
            "shift": lambda: transform.shifted(notes, round(self.amount * sixteenth), length),
            "stretch": lambda: transform.stretched(notes, self.amount, length),
            "legato": lambda: transform.legato(notes, length),
            "strum": lambda: transform.strummed(notes, self.amount),
            "octave layer": lambda: transform.with_octave(notes, whole or 1),
        }[self.how]()

    def sentence(self, song: Song) -> str:
        unit = UNITS.get(self.how)
        amount = "" if unit is None else minus(f" {self.amount:+g} {unit}".rstrip())
        return f"{part_of(song, self.part).name} {self.pattern}: {self.how}{amount}"


@dataclass(frozen=True)
class WriteChord:
    """A chord of the scale on a degree, 1 to 7, from a tick to the end of its bar, over what begins there already."""

    kind: ClassVar[str] = "write_chord"
    part: str
    pattern: str
    degree: int
    voices: int
    tick: int

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        pattern, bar = pattern_of(part, self.pattern), song.grid.ticks_per_bar
        if not 1 <= self.degree <= 7 or not 3 <= self.voices <= 5 or not 0 <= self.tick < pattern.bars * bar:
            raise InvalidEdit("A chord has 3 to 5 voices on a degree from 1 to 7, inside its pattern.")
        low = LOWEST_CHORD.get(part.role, MIDDLE_MIDI - 5)
        pitches = transform.chord_of(song.key, self.degree - 1, self.voices, low)
        long = bar - self.tick % bar - 10
        chord = tuple(Note(self.tick, max(transform.SHORTEST_TICKS, long), midi, 0.8) for midi in pitches)
        kept = tuple(n for n in pattern.notes if n.tick != self.tick or n.midi not in pitches)
        return WriteNotes(self.part, self.pattern, pattern.bars, (*kept, *chord), pattern.loop_ticks).apply(song)

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} {self.pattern}: chord on degree {self.degree} of {song.key}"


@dataclass(frozen=True)
class CallAndAnswer:
    """A part's line shared with another: it keeps its first `bars` of every 2 * bars, the other answers in between."""

    kind: ClassVar[str] = "call_and_answer"
    part: str
    pattern: str
    answers: str
    answer_pattern: str
    bars: int = 2

    def apply(self, song: Song) -> Song:
        call, other = part_of(song, self.part), part_of(song, self.answers)
        if call.id == other.id:
            raise InvalidEdit("Another part answers.")
        pattern = pattern_of(call, self.pattern)
        answering = pattern_of(other, self.answer_pattern)
        if not self.bars >= 1 or 2 * self.bars > pattern.bars:
            raise InvalidEdit(f"Call and answer need {2 * self.bars} bars; pattern {self.pattern} has {pattern.bars}.")
        bar = song.grid.ticks_per_bar
        low = min((n.midi for n in answering.notes), default=BASS_MIDI if other.role == "bass" else MIDDLE_MIDI)
        notes = transform.answered(pattern.notes, pattern.bars * bar, self.bars, bar, song.key, low)
        song = WriteNotes(call.id, self.pattern, pattern.bars, notes[0]).apply(song)
        return WriteNotes(other.id, self.answer_pattern, pattern.bars, notes[1]).apply(song)

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} calls, {part_of(song, self.answers).name} answers every {self.bars} bars"


def pattern_of(part: Part, name: str) -> Pattern:
    """Raises InvalidEdit for a pattern that the part hasn't."""
    if name not in part.patterns:
        raise InvalidEdit(f"{part.name} has no pattern “{name}”.")
    return part.patterns[name]

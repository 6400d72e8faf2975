"""Edits of what a part plays."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from ersatz.core.edits.arrangement import part_of, with_part
from ersatz.core.errors import InvalidEdit
from ersatz.core.song.document import MIN_LOOP_TICKS, Note, Pattern, Song

MOST_NOTES = 2000
MOST_NUDGE_MS, MOST_SEMITONES, MOST_REPEATS = 100, 24, 16
MOST_SAID = 120


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
        if self.pattern not in part.patterns:
            raise InvalidEdit(f"{part.name} has no pattern “{self.pattern}”.")
        if not 1 <= self.bars <= 64:
            raise InvalidEdit("A pattern has 1 to 64 bars.")
        if len(self.notes) > MOST_NOTES:
            raise InvalidEdit(f"A pattern has at most {MOST_NOTES} notes.")
        length = self.bars * song.grid.ticks_per_bar
        if self.loop_ticks and not MIN_LOOP_TICKS <= self.loop_ticks <= length:
            raise InvalidEdit("A pattern begins again within its bars.")
        for note in self.notes:
            if abs(note.nudge_ms) > MOST_NUDGE_MS or abs(note.semitones) > MOST_SEMITONES or not 1 <= note.repeats <= MOST_REPEATS:
                raise InvalidEdit(f"A hit is nudged by up to {MOST_NUDGE_MS} ms, pitched by up to {MOST_SEMITONES} semitones, "
                                  f"struck up to {MOST_REPEATS} times.")  # fmt: skip
            if not (0 <= note.tick < length and note.ticks > 0 and 0 <= note.midi <= 127 and 0 < note.velocity <= 1):
                raise InvalidEdit("A note lies inside its pattern, between MIDI 0 and 127, and is heard.")
        notes = tuple(sorted(self.notes, key=lambda n: (n.tick, n.midi)))
        return with_part(song, replace(part, patterns={**part.patterns, self.pattern: Pattern(self.bars, notes, self.loop_ticks)}))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} {self.pattern}: {self.said[:MOST_SAID]}"

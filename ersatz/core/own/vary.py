"""Three changed takes of a line that is taken over: its rhythm with the tune turned over, its notes in another rhythm, and both
written anew. Each says how much of the reference it still has."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from ersatz.core.draft.generate import generate
from ersatz.core.edits import edit_json
from ersatz.core.edits.notes import WriteNotes
from ersatz.core.own.heard import Heard
from ersatz.core.own.meter import LINES, Own, Passage, measure_line
from ersatz.core.own.played import STEP_TICKS
from ersatz.core.song import transform
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Note, Part, Pattern

#: Another rhythm begins three 16ths later: off the beats that it stood on.
LATER_TICKS = 3 * STEP_TICKS


@dataclass(frozen=True)
class Take:
    """`said` on a button; `edit` as the pages send it; `share` of the reference that the song has with it."""

    said: str
    edit: dict[str, Any]
    share: float


@dataclass(frozen=True)
class Varied:
    """A pattern that shares passages with the reference, and what could be played in its place."""

    facet: str
    part: str
    pattern: str
    takes: tuple[Take, ...]


def varied(song: Song, own: Own, heard: Heard) -> tuple[Varied, ...]:
    """For every pattern of a hook or a bass line of which something is taken over. The same arguments give the same takes."""
    out = []
    for name in LINES:
        for part_id, pattern in dict.fromkeys(_patterns(song, own.facet(name).passages)):
            part = song.part(part_id)
            assert part is not None
            takes = []
            for said, notes in _takes(song, part, part.patterns[pattern]):
                old = part.patterns[pattern]
                edit = WriteNotes(part_id, pattern, old.bars, notes, old.loop_ticks, f"{part.name} varied: {said}")
                takes.append(Take(said, edit_json(edit), round(measure_line(name, edit.apply(song), heard).share or 0.0, 2)))
            out.append(Varied(name, part_id, pattern, tuple(takes)))
    return tuple(out)


def _patterns(song: Song, passages: tuple[Passage, ...]) -> Iterator[tuple[str, str]]:
    """Part and pattern that play each passage."""
    for passage in passages:
        part = song.part(passage.part)
        section = next(s for bar, s in song.placed() if bar <= passage.bar < bar + s.bars)
        cell = part.cell(section.id) if part is not None else None
        if part is not None and cell is not None and cell.pattern in part.patterns:
            yield part.id, cell.pattern


def _takes(song: Song, part: Part, pattern: Pattern) -> Iterator[tuple[str, tuple[Note, ...]]]:
    length = pattern.loop_ticks or pattern.bars * song.grid.ticks_per_bar
    yield "same rhythm, other notes", transform.inverted(pattern.notes, song.key)
    yield "same notes, another rhythm", transform.shifted(transform.reverse(pattern.notes, length), LATER_TICKS, length)
    yield "written anew", generate(song, part, pattern.bars, 1, len(pattern.notes) / pattern.bars)

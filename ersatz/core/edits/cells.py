"""Edits of many cells at once, and of the versions that a cell holds."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Literal

from ersatz.core.edits.arrangement import cell_of, checked_cell, part_of, section_name, section_of
from ersatz.core.errors import InvalidEdit
from ersatz.core.song.document import Song, with_strip
from ersatz.core.song.parts import Alternative, Cell
from ersatz.core.voices import library

MOST_CELLS = 4000


@dataclass(frozen=True)
class PlacedCell:
    """What a part is to play in a section."""

    part: str
    section: str
    on: bool
    pattern: str
    entry_bars: int = 0
    exit_bars: int = 0
    level_db: float = 0.0
    fill: str = ""
    fill_bars: int = 0


@dataclass(frozen=True)
class PutCells:
    """Cells painted, pasted, switched: `how` says which. Sounds and kept versions of the cells stay."""

    kind: ClassVar[str] = "put_cells"
    cells: tuple[PlacedCell, ...]
    how: Literal["painted", "pasted", "on", "off", "as in the reference", "varied"] = "painted"

    def apply(self, song: Song) -> Song:
        if not 0 < len(self.cells) <= MOST_CELLS:
            raise InvalidEdit("Choose some cells first.")
        for placed in self.cells:
            part, section = part_of(song, placed.part), section_of(song, placed.section)
            old = part.cell(section.id)
            made = Cell(
                section.id, placed.pattern, placed.on, placed.entry_bars, placed.exit_bars, round(placed.level_db, 2), placed.fill,
                placed.fill_bars,
            )  # fmt: skip
            if old:
                made = replace(made, sound=old.sound, part=old.part, other=old.other)
            checked_cell(part, section, made)
            cells = tuple(made if c is old else c for c in part.cells) if old else (*part.cells, made)
            song = with_strip(song, replace(part, cells=cells))
        return song

    def sentence(self, song: Song) -> str:
        parts = list(dict.fromkeys(part_of(song, c.part).name for c in self.cells))
        sections = list(dict.fromkeys(section_name(song, c.section) for c in self.cells))
        what = parts[0] if len(parts) == 1 else f"{len(parts)} parts"
        where = f"in {sections[0]}" if len(sections) == 1 else f"in {len(sections)} sections"
        return f"{what} {self.how} {where}"


@dataclass(frozen=True)
class KeepAlternative:
    """A second version beside what a cell plays; None takes it away. `shipped` names a shipped sound for it."""

    kind: ClassVar[str] = "keep_alternative"
    part: str
    section: str
    alternative: Alternative | None
    shipped: str = ""

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        cell = cell_of(song, part, self.section)
        other = self.alternative
        if other is not None and self.shipped:
            if self.shipped not in library.library():
                raise InvalidEdit(f"There is no shipped sound “{self.shipped}”.")
            other = replace(other, sound=library.sound(self.shipped))
        if other is not None:
            player = part_of(song, other.part) if other.part else part
            if other.pattern not in player.patterns:
                raise InvalidEdit(f"{player.name} has no pattern “{other.pattern}”.")
        cells = tuple(replace(c, other=other) if c is cell else c for c in part.cells)
        return with_strip(song, replace(part, cells=cells))

    def sentence(self, song: Song) -> str:
        what = "another version beside" if self.alternative else "no other version of"
        return f"{what.capitalize()} {part_of(song, self.part).name} in {section_name(song, self.section)}"


@dataclass(frozen=True)
class FlipCell:
    """A cell plays its other version; what it played is kept."""

    kind: ClassVar[str] = "flip_cell"
    part: str
    section: str

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        cell = cell_of(song, part, self.section)
        if cell.other is None:
            raise InvalidEdit(f"{part.name} has no other version in {section_name(song, self.section)}.")
        kept = Alternative(cell.pattern, cell.level_db, cell.sound, cell.part)
        o = cell.other
        flipped = replace(cell, pattern=o.pattern, level_db=o.level_db, sound=o.sound, part=o.part, other=kept)
        return with_strip(song, replace(part, cells=tuple(flipped if c is cell else c for c in part.cells)))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} flipped to its other version in {section_name(song, self.section)}"

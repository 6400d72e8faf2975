"""Edits of what plays when and how loud."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from ersatz.core.errors import InvalidEdit
from ersatz.core.song.document import Song, SongSection, with_strip
from ersatz.core.song.parts import Cell, Part
from ersatz.core.song.strips import Strip
from ersatz.core.words import minus

#: Of parts, sections, buses, returns and curves.
MOST_NAME = 40
MIN_CELL_DB, MAX_CELL_DB = -24.0, 12.0


@dataclass(frozen=True)
class SwitchPart:
    """A part on or off in one section."""

    kind: ClassVar[str] = "switch_part"
    part: str
    section: str
    on: bool

    def apply(self, song: Song) -> Song:
        part, section = part_of(song, self.part), section_of(song, self.section)
        cell = part.cell(section.id)
        if cell is None:
            if not part.patterns and part.follows is None:
                raise InvalidEdit(f"{part.name} has no pattern to play.")
            cells = (*part.cells, Cell(section.id, min(part.patterns, default=""), self.on))
        else:
            cells = tuple(replace(c, on=self.on) if c.section == section.id else c for c in part.cells)
        return with_strip(song, replace(part, cells=cells))

    def sentence(self, song: Song) -> str:
        where = section_name(song, self.section)
        return f"{part_of(song, self.part).name} {'on' if self.on else 'off'} in {where}"


@dataclass(frozen=True)
class SetCell:
    """What a part plays in one section: which pattern, from when to when, how loud."""

    kind: ClassVar[str] = "set_cell"
    part: str
    section: str
    pattern: str
    entry_bars: int
    exit_bars: int
    level_db: float
    fill: str = ""
    fill_bars: int = 0

    def apply(self, song: Song) -> Song:
        part, section = part_of(song, self.part), section_of(song, self.section)
        old = part.cell(section.id) or Cell(section.id, self.pattern)
        cell = replace(
            old, pattern=self.pattern, on=True, entry_bars=self.entry_bars, exit_bars=self.exit_bars,
            level_db=round(self.level_db, 2), fill=self.fill, fill_bars=self.fill_bars,
        )  # fmt: skip
        checked_cell(part, section, cell)
        kept = tuple(c for c in part.cells if c.section != section.id)
        return with_strip(song, replace(part, cells=(*kept, cell)))

    def sentence(self, song: Song) -> str:
        part, where = part_of(song, self.part), section_name(song, self.section)
        old = part.cell(self.section)
        if old is None or old.pattern != self.pattern:
            return f"{part.name} plays pattern {self.pattern} in {where}"
        if old.level_db != self.level_db:
            return minus(f"{part.name} at {self.level_db:+.1f} dB in {where}")
        if (old.fill, old.fill_bars) != (self.fill, self.fill_bars):
            return f"{part.name} ends {where} with {self.fill}" if self.fill_bars else f"{part.name}: no fill in {where}"
        return f"{part.name} in {where}: enters after {self.entry_bars}, leaves {self.exit_bars} bars before the end"


@dataclass(frozen=True)
class Rename:
    kind: ClassVar[str] = "rename"
    title: str

    def apply(self, song: Song) -> Song:
        title = self.title.strip()
        if not 1 <= len(title) <= 120:
            raise InvalidEdit("A title has 1 to 120 characters.")
        return replace(song, title=title)

    def sentence(self, song: Song) -> str:
        return f"Renamed to “{self.title.strip()}”"


def section_name(song: Song, section_id: str) -> str:
    """Its own name or its label, with a number where that occurs more than once: "intro", "drop 2"."""
    section = section_of(song, section_id)
    called = section.name or section.label
    same = [s.id for s in song.sections if (s.name or s.label) == called]
    return called if len(same) == 1 else f"{called} {same.index(section_id) + 1}"


def fresh_id(used: set[str], letter: str) -> str:
    """The first of "s1", "s2" ... that isn't used, for the letter s."""
    return next(name for k in range(1, len(used) + 2) if (name := f"{letter}{k}") not in used)


def checked_name(name: str) -> str:
    """A name without spaces around it. Raises InvalidEdit for none and for one that is too long."""
    if not 1 <= len(name.strip()) <= MOST_NAME:
        raise InvalidEdit(f"A name has 1 to {MOST_NAME} characters.")
    return name.strip()


def begun(name: str) -> str:
    """As a sentence begins."""
    return name[:1].upper() + name[1:]


def part_of(song: Song, part_id: str) -> Part:
    """Raises InvalidEdit for a part that the song hasn't."""
    part = song.part(part_id)
    if part is None:
        raise InvalidEdit(f"There is no part “{part_id}” in this song.")
    return part


def strip_of(song: Song, strip_id: str) -> Strip:
    """Raises InvalidEdit for a strip that the song hasn't."""
    strip = song.strip(strip_id)
    if strip is None:
        raise InvalidEdit(f"There is no part, bus or return “{strip_id}” in this song.")
    return strip


def section_of(song: Song, section_id: str) -> SongSection:
    """Raises InvalidEdit for a section that the song hasn't."""
    for section in song.sections:
        if section.id == section_id:
            return section
    raise InvalidEdit(f"There is no section “{section_id}” in this song.")


def cell_of(song: Song, part: Part, section_id: str) -> Cell:
    """Raises InvalidEdit for a section that the song hasn't, and for one in which the part has no cell."""
    cell = part.cell(section_of(song, section_id).id)
    if cell is None:
        raise InvalidEdit(f"{part.name} has nothing in {section_name(song, section_id)} yet.")
    return cell


def checked_cell(part: Part, section: SongSection, cell: Cell) -> None:
    """Raises InvalidEdit for what a section has no room for."""
    if cell.on and cell.pattern not in part.patterns and part.follows is None:
        raise InvalidEdit(f"{part.name} has no pattern “{cell.pattern}”.")
    if cell.fill_bars and cell.fill not in part.patterns:
        raise InvalidEdit(f"{part.name} has no pattern “{cell.fill}” to fill with.")
    if cell.entry_bars < 0 or cell.exit_bars < 0 or cell.entry_bars + cell.exit_bars >= section.bars:
        raise InvalidEdit(f"Of {section.bars} bars at least one is played.")
    if not 0 <= cell.fill_bars <= section.bars - cell.entry_bars - cell.exit_bars:
        raise InvalidEdit("A fill takes the place of bars that are played.")
    if not MIN_CELL_DB <= cell.level_db <= MAX_CELL_DB:
        raise InvalidEdit(minus(f"A section's level lies between {MIN_CELL_DB:.0f} and {MAX_CELL_DB:+.0f} dB."))

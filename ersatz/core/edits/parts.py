"""Edits of which parts there are, of their patterns, and of how they groove."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Annotated, ClassVar, Literal

from ersatz.core.edits.arrangement import part_of, with_part
from ersatz.core.errors import InvalidEdit
from ersatz.core.serial import Within
from ersatz.core.song.document import (
    MAX_BPM,
    MIN_BPM,
    MOST_PARTS,
    MOST_PATTERN_BARS,
    STEPS_PER_BAR,
    Cell,
    Groove,
    Part,
    Pattern,
    Role,
    Song,
)
from ersatz.core.voices import library

MOST_PATTERNS = 26
MOST_NAME = 40
Bus = Literal["drums", "bass", "music", "effects"]
#: Role -> what a part of it starts with: bus, level, low cut, reverb send.
STARTS: dict[str, tuple[Bus, float, float, float]] = {
    "kick": ("drums", -6.0, 28.0, -60.0), "clap": ("drums", -11.0, 180.0, -16.0), "hats": ("drums", -19.0, 450.0, -28.0),
    "perc": ("drums", -20.0, 250.0, -20.0), "bass": ("bass", -9.0, 30.0, -60.0), "chords": ("music", -19.0, 150.0, -18.0),
    "lead": ("music", -17.0, 220.0, -15.0), "noise": ("effects", -14.0, 250.0, -20.0), "impact": ("effects", -12.0, 28.0, -16.0),
}  # fmt: skip


@dataclass(frozen=True)
class AddPart:
    """A part with a shipped sound of its role (or the named one) and an empty pattern A of `bars`."""

    kind: ClassVar[str] = "add_part"
    role: Role
    name: str = ""
    sound: str = ""
    bars: Annotated[int, Within(1, MOST_PATTERN_BARS)] = 1

    def apply(self, song: Song) -> Song:
        if len(song.parts) >= MOST_PARTS:
            raise InvalidEdit(f"A song has at most {MOST_PARTS} parts.")
        if self.sound and self.sound not in library.library():
            raise InvalidEdit(f"There is no shipped sound “{self.sound}”.")
        sound = library.sound(self.sound or next(s.name for s in library.library().values() if s.role == self.role))
        name = _checked_name(self.name or self.role.capitalize())
        stem = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or self.role
        used = {p.id for p in song.parts}
        part_id = next(i for k in range(1, len(used) + 2) if (i := stem if k == 1 else f"{stem}-{k}") not in used)
        bus, gain_db, low_cut_hz, reverb_db = STARTS[self.role]
        part = Part(
            part_id, name, self.role, sound, bus, {"A": Pattern(self.bars, ())}, (), gain_db=gain_db, low_cut_hz=low_cut_hz,
            reverb_db=reverb_db,
        )  # fmt: skip
        return replace(song, parts=(*song.parts, part))

    def sentence(self, song: Song) -> str:
        return f"{self.name or self.role.capitalize()} added"


@dataclass(frozen=True)
class TakeOutPart:
    """A part with its patterns, and everything that named it."""

    kind: ClassVar[str] = "take_out_part"
    part: str

    def apply(self, song: Song) -> Song:
        gone = part_of(song, self.part).id
        transitions = tuple(replace(t, on=tuple(o for o in t.on if o != gone)) for t in song.transitions)
        return replace(song, parts=tuple(_without(p, gone) for p in song.parts if p.id != gone), transitions=transitions)

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} taken out"


def _without(part: Part, gone: str) -> Part:
    effects = tuple(replace(e, key="") if e.key == gone else e for e in part.effects)
    cells = tuple(
        replace(c, part="" if c.part == gone else c.part, other=None if c.other and c.other.part == gone else c.other)
        for c in part.cells
    )
    return replace(part, effects=effects, cells=cells)


@dataclass(frozen=True)
class RenamePart:
    kind: ClassVar[str] = "rename_part"
    part: str
    name: str

    def apply(self, song: Song) -> Song:
        return with_part(song, replace(part_of(song, self.part), name=_checked_name(self.name)))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} is now called {self.name.strip()}"


def _checked_name(name: str) -> str:
    if not 1 <= len(name.strip()) <= MOST_NAME:
        raise InvalidEdit(f"A name has 1 to {MOST_NAME} characters.")
    return name.strip()


@dataclass(frozen=True)
class MovePart:
    """A part to another row; `place` counts from 0 without it."""

    kind: ClassVar[str] = "move_part"
    part: str
    place: int

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        rest = [p for p in song.parts if p.id != part.id]
        if not 0 <= self.place <= len(rest):
            raise InvalidEdit("There is no such row.")
        return replace(song, parts=(*rest[: self.place], part, *rest[self.place :]))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} moved to row {self.place + 1}"


@dataclass(frozen=True)
class SetChoke:
    """Hits of parts with the same group cut each other; "" for none."""

    kind: ClassVar[str] = "set_choke"
    part: str
    group: str

    def apply(self, song: Song) -> Song:
        if len(self.group) > MOST_NAME:
            raise InvalidEdit(f"A group's name has up to {MOST_NAME} characters.")
        return with_part(song, replace(part_of(song, self.part), choke=self.group.strip()))

    def sentence(self, song: Song) -> str:
        name = part_of(song, self.part).name
        return f"{name} chokes with {self.group}" if self.group else f"{name} chokes nothing"


@dataclass(frozen=True)
class SetGroove:
    """How a part departs from the grid."""

    kind: ClassVar[str] = "set_groove"
    part: str
    groove: Groove

    def apply(self, song: Song) -> Song:
        part, g = part_of(song, self.part), self.groove
        if g.swing_percent and not 50 <= g.swing_percent <= 75:
            raise InvalidEdit("Swing lies between 50 and 75 %.")
        if any(abs(t) > 100 for t in g.timing_ms) or not 0 <= g.amount <= 2:
            raise InvalidEdit(f"A groove moves each of {STEPS_PER_BAR} steps by up to 100 ms, by up to 200 %.")
        if not 0 <= g.humanise_ms <= 40 or not 0 <= g.humanise_velocity <= 0.5:
            raise InvalidEdit("Chance moves a note by up to 40 ms and weighs it by up to 50 %.")
        return with_part(song, replace(part, groove=g))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name}: groove {self.groove.name or 'changed'}"


@dataclass(frozen=True)
class AddPattern:
    """A pattern with the next free letter: empty, or a copy."""

    kind: ClassVar[str] = "add_pattern"
    part: str
    bars: int = 1
    copy_of: str = ""

    def _name(self, song: Song) -> str:
        patterns = part_of(song, self.part).patterns
        free = [letter for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ" if letter not in patterns]
        if not free:
            raise InvalidEdit(f"A part has at most {MOST_PATTERNS} patterns.")
        return free[0]

    def apply(self, song: Song) -> Song:
        part, name = part_of(song, self.part), self._name(song)
        if self.copy_of and self.copy_of not in part.patterns:
            raise InvalidEdit(f"{part.name} has no pattern “{self.copy_of}”.")
        if not 1 <= self.bars <= 64:
            raise InvalidEdit("A pattern has 1 to 64 bars.")
        made = part.patterns[self.copy_of] if self.copy_of else Pattern(self.bars, ())
        return with_part(song, replace(part, patterns={**part.patterns, name: made}))

    def sentence(self, song: Song) -> str:
        copy = f", a copy of {self.copy_of}" if self.copy_of else ""
        return f"{part_of(song, self.part).name}: pattern {self._name(song)}{copy}"


@dataclass(frozen=True)
class TakeOutPattern:
    """A pattern; the cells that played it fall silent."""

    kind: ClassVar[str] = "take_out_pattern"
    part: str
    pattern: str

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        if self.pattern not in part.patterns:
            raise InvalidEdit(f"{part.name} has no pattern “{self.pattern}”.")
        rest = {name: p for name, p in part.patterns.items() if name != self.pattern}
        cells = tuple(_unplayed(c, self.pattern) for c in part.cells if c.pattern != self.pattern)
        return with_part(song, replace(part, patterns=rest, cells=cells))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name}: pattern {self.pattern} taken out"


def _unplayed(cell: Cell, pattern: str) -> Cell:
    if cell.fill == pattern:
        cell = replace(cell, fill="", fill_bars=0)
    return replace(cell, other=None) if cell.other and cell.other.pattern == pattern and not cell.other.part else cell


@dataclass(frozen=True)
class SetTempo:
    kind: ClassVar[str] = "set_tempo"
    bpm: float

    def apply(self, song: Song) -> Song:
        if not MIN_BPM <= self.bpm <= MAX_BPM:
            raise InvalidEdit(f"The tempo lies between {MIN_BPM:.0f} and {MAX_BPM:.0f} BPM.")
        return replace(song, bpm=round(self.bpm, 4))

    def sentence(self, song: Song) -> str:
        return f"Tempo {self.bpm:g} BPM"

"""Edits of which parts there are, of their patterns, and of how they groove."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Annotated, ClassVar

from ersatz.core.edits.arrangement import MOST_NAME, checked_name, part_of
from ersatz.core.errors import InvalidEdit
from ersatz.core.grid import MAX_BPM, MIN_BPM
from ersatz.core.serial import Within
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import (
    BASS,
    DRUMS,
    EFFECTS_BUS,
    MOST_PARTS,
    MUSIC,
    REVERB_RETURN,
    Song,
    fitted,
    settled,
    with_each,
    with_strip,
)
from ersatz.core.song.parts import MOST_PATTERN_BARS, Cell, Follows, Groove, Part, Pattern, Role
from ersatz.core.song.strips import AnyStrip, sending
from ersatz.core.song.transform import transposed
from ersatz.core.voices import library

MOST_PATTERNS = 26
#: Role -> what a part of it starts with: bus, level, low cut, reverb send.
STARTS: dict[str, tuple[str, float, float, float]] = {
    "kick": (DRUMS, -6.0, 28.0, -60.0), "clap": (DRUMS, -11.0, 180.0, -16.0), "hats": (DRUMS, -19.0, 450.0, -28.0),
    "perc": (DRUMS, -20.0, 250.0, -20.0), "bass": (BASS, -9.0, 30.0, -60.0), "chords": (MUSIC, -19.0, 150.0, -18.0),
    "lead": (MUSIC, -17.0, 220.0, -15.0), "noise": (EFFECTS_BUS, -14.0, 250.0, -20.0), "impact": (EFFECTS_BUS, -12.0, 28.0, -16.0),
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
        name = checked_name(self.name or self.role.capitalize())
        stem = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or self.role
        used = {s.id for s in song.strips()}
        part_id = next(i for k in range(1, len(used) + 2) if (i := stem if k == 1 else f"{stem}-{k}") not in used)
        bus, gain_db, low_cut_hz, reverb_db = STARTS[self.role]
        part = Part(
            id=part_id, name=name, role=self.role, sound=sound, out=bus, patterns={"A": Pattern(self.bars, ())}, gain_db=gain_db,
            low_cut_hz=low_cut_hz, sends=sending({REVERB_RETURN: reverb_db}),
        )  # fmt: skip
        return replace(song, parts=(*song.parts, fitted(song, part)))

    def sentence(self, song: Song) -> str:
        return f"{self.name or self.role.capitalize()} added"


@dataclass(frozen=True)
class DeletePart:
    """A part with its patterns, and everything that named it."""

    kind: ClassVar[str] = "delete_part"
    part: str

    def apply(self, song: Song) -> Song:
        leader = part_of(song, self.part)
        gone = leader.id
        transitions = tuple(replace(t, on=tuple(o for o in t.on if o != gone)) for t in song.transitions)
        curves = tuple(replace(c, triggers=tuple(t for t in c.triggers if t != gone)) for c in song.curves)
        parts = tuple(_without(_alone(p, leader), gone) for p in song.parts if p.id != gone)
        left = replace(song, parts=parts, transitions=transitions, curves=curves)
        return settled(with_each(left, lambda strip: _unsteered(strip, gone)))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} deleted"


def _alone(part: Part, leader: Part) -> Part:
    """A layer whose leader goes: it plays on what it has played, unless that one was a layer too."""
    if part.follows is None or part.follows.part != leader.id:
        return part
    if leader.follows is not None:
        return replace(part, follows=replace(part.follows, part=leader.follows.part))
    by = part.follows.semitones
    moved = {name: replace(p, notes=transposed(p.notes, by)) for name, p in leader.patterns.items()}
    off = {c.section for c in part.cells if not c.on}
    cells = tuple(replace(c, on=c.on and c.section not in off, sound=None, part="", other=None) for c in leader.cells)
    return replace(part, follows=None, patterns=moved, cells=cells, groove=leader.groove)


def _unsteered(strip: AnyStrip, gone: str) -> AnyStrip:
    return replace(strip, chain=tuple(replace(e, sidechain="") if e.sidechain == gone else e for e in strip.chain))


def _without(part: Part, gone: str) -> Part:
    cells = tuple(
        replace(c, part="" if c.part == gone else c.part, other=None if c.other and c.other.part == gone else c.other)
        for c in part.cells
    )
    return replace(part, cells=cells)


@dataclass(frozen=True)
class AddLayer:
    """A part that plays what another plays, with a shipped sound (the other's own without a name), at its place in the mix."""

    kind: ClassVar[str] = "add_layer"
    follows: Follows
    sound: str = ""
    name: str = ""

    def apply(self, song: Song) -> Song:
        leader = part_of(song, self.follows.part)
        # A part like any other, until it follows.
        made = AddPart(leader.role, self.name or f"{leader.name} layer", self.sound).apply(song)
        layer = made.parts[-1]
        sound = layer.sound if self.sound else leader.sound
        placed = replace(
            layer, sound=sound, out=leader.out, duck=leader.duck, sends=dict(leader.sends), gain_db=leader.gain_db, patterns={},
            follows=self.follows,
        )  # fmt: skip
        return with_strip(made, placed)

    def sentence(self, song: Song) -> str:
        return f"{self.name or f'{part_of(song, self.follows.part).name} layer'} added"


@dataclass(frozen=True)
class SetLayer:
    """What a layer plays of another part; without `follows` it plays its own patterns."""

    kind: ClassVar[str] = "set_layer"
    part: str
    follows: Follows | None

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        if self.follows:
            part_of(song, self.follows.part)
        try:
            return with_strip(song, replace(part, follows=self.follows))
        except ValueError as error:
            raise InvalidEdit(f"{part.name} would follow itself.") from error

    def sentence(self, song: Song) -> str:
        name = part_of(song, self.part).name
        return f"{name} follows {part_of(song, self.follows.part).name}" if self.follows else f"{name} plays its own patterns"


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
        return with_strip(song, replace(part_of(song, self.part), choke=self.group.strip()))

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
        if g.random_velocity > 0.5 or g.random_semitones > 12:
            raise InvalidEdit("Hits differ by up to 50 % in velocity and 12 semitones in pitch.")
        return with_strip(song, replace(part, groove=g))

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
        return with_strip(song, replace(part, patterns={**part.patterns, name: made}))

    def sentence(self, song: Song) -> str:
        copy = f", a copy of {self.copy_of}" if self.copy_of else ""
        return f"{part_of(song, self.part).name}: pattern {self._name(song)}{copy}"


@dataclass(frozen=True)
class DeletePattern:
    """A pattern; the cells that played it fall silent."""

    kind: ClassVar[str] = "delete_pattern"
    part: str
    pattern: str

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        if self.pattern not in part.patterns:
            raise InvalidEdit(f"{part.name} has no pattern “{self.pattern}”.")
        rest = {name: p for name, p in part.patterns.items() if name != self.pattern}
        cells = tuple(_unplayed(c, self.pattern) for c in part.cells if c.pattern != self.pattern)
        return with_strip(song, replace(part, patterns=rest, cells=cells))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name}: pattern {self.pattern} deleted"


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

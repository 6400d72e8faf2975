"""Edits of the section plan: sections resized, relabelled, moved, doubled, split, joined, taken out; a whole plan adopted.

Cells and automation go with their bars: a new plan is a row of pieces of old sections, and everything else is read off along them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from ersatz.core.edits.arrangement import MOST_NAME, begun, fresh_id, section_name, section_of
from ersatz.core.edits.automation import value_at
from ersatz.core.errors import InvalidEdit
from ersatz.core.song.bounds import MAX_BARS
from ersatz.core.song.document import PHRASE_BARS, Label, Song, SongSection, Transition, with_each
from ersatz.core.song.parts import Cell, Part
from ersatz.core.song.strips import Automation, AutomationPoint

MOST_SECTION_BARS = 128


@dataclass(frozen=True)
class _Piece:
    """A section of the new plan, made of the old one `source` from its bar `offset` on. `tail`: it ends as that one ended, however
    long it is; else it is a part of it that ends earlier. `and_more`: old bars behind `source` that it takes in, up to the end of
    the section `ends_as`."""

    section: SongSection
    source: SongSection
    offset: int = 0
    tail: bool = True
    and_more: int = 0
    ends_as: str = ""


@dataclass(frozen=True)
class _Stretch:
    """Where a piece lies and lay, in ticks: the first `known` of its `length` are from the old plan."""

    new: int
    old: int
    known: int
    length: int


def _as_is(song: Song) -> list[_Piece]:
    return [_Piece(s, s) for s in song.sections]


def _ids(song: Song) -> set[str]:
    return {s.id for s in song.sections}


def _rearranged(song: Song, pieces: list[_Piece]) -> Song:
    """The song with another plan. Raises InvalidEdit where nothing or too much would be left."""
    if not pieces:
        raise InvalidEdit("A song keeps at least one section.")
    if sum(p.section.bars for p in pieces) > MAX_BARS:
        raise InvalidEdit(f"A song has at most {MAX_BARS} bars.")
    starts = {s.id: bar - 1 for bar, s in song.placed()}
    ticks = song.grid.ticks_per_bar
    stretches, bar = [], 0
    for piece in pieces:
        known = min(piece.section.bars, piece.source.bars + piece.and_more - piece.offset)
        old = starts[piece.source.id] + piece.offset
        stretches.append(_Stretch(bar * ticks, old * ticks, known * ticks, piece.section.bars * ticks))
        bar += piece.section.bars
    song = with_each(song, lambda strip: replace(strip, automation=_followed(strip.automation, stretches)))
    parts = tuple(replace(part, cells=_cells(part, pieces)) for part in song.parts)
    transitions = _carried(song, pieces)
    sections = tuple(p.section for p in pieces)
    return replace(song, sections=sections, parts=parts, transitions=transitions)


def _carried(song: Song, pieces: list[_Piece]) -> tuple[Transition, ...]:
    """Every transition where its section ends now, once for each that ends like it, no longer than there is room."""
    out: list[Transition] = []
    used = {t.id for t in song.transitions}
    taken: set[str] = set()
    for piece in pieces:
        ends_as = piece.ends_as or (piece.source.id if piece.tail else "")
        for t in song.transitions:
            if t.section != ends_as:
                continue
            room = piece.section.bars * song.grid.beats_per_bar - (1.0 if t.kind == "gap" else 0.0)
            name = t.id if t.id not in taken else fresh_id(used, "t")
            used.add(name)
            taken.add(name)
            out.append(replace(t, id=name, section=piece.section.id, beats=min(t.beats, room)))
    return tuple(t for t in out if t.beats > 0)


def _cells(part: Part, pieces: list[_Piece]) -> tuple[Cell, ...]:
    """Each section plays what the one that it came from played there."""
    out = []
    for piece in pieces:
        cell = part.cell(piece.source.id)
        if cell is None:
            continue
        bars = piece.section.bars
        entry = max(0, cell.entry_bars - piece.offset)
        leaves = cell.exit_bars if piece.tail else max(0, piece.offset + bars - (piece.source.bars - cell.exit_bars))
        # A fill belongs to the end.
        fill_bars = min(cell.fill_bars, bars) if piece.tail or piece.ends_as else 0
        made = replace(cell, section=piece.section.id, fill_bars=fill_bars)
        if entry + leaves >= bars:
            out.append(replace(made, on=False, entry_bars=0, exit_bars=0))
        else:
            out.append(replace(made, entry_bars=entry, exit_bars=leaves))
    return tuple(out)


def _followed(curves: tuple[Automation, ...], stretches: list[_Stretch]) -> tuple[Automation, ...]:
    """Curves laid out anew, each stretch with end points of its own: what a curve did in a bar it does wherever the bar went. Where
    a section has become longer the last value holds."""
    return tuple(replace(curve, points=_laid(curve, stretches)) for curve in curves)


def _laid(curve: Automation, stretches: list[_Stretch]) -> tuple[AutomationPoint, ...]:
    # A curve that isn't torn apart keeps its points as they are.
    if all(s.new == s.old for s in stretches):
        return curve.points
    out: list[AutomationPoint] = []
    for s in stretches:
        inside = [p for p in curve.points if s.old <= p.tick < s.old + s.known]
        if not inside or inside[0].tick > s.old:
            out.append(AutomationPoint(s.new, value_at(curve.points, s.old)))
        out += [replace(p, tick=p.tick - s.old + s.new) for p in inside]
        last = value_at(curve.points, s.old + s.known - 1)
        for end in sorted({s.known, s.length}):
            if out[-1].tick < s.new + end - 1:
                out.append(AutomationPoint(s.new + end - 1, last))
    return _without_repeats(out)


def _without_repeats(points: list[AutomationPoint]) -> tuple[AutomationPoint, ...]:
    """Points between two of the same value say nothing."""
    out: list[AutomationPoint] = []
    for p in points:
        if len(out) >= 2 and out[-1].value == out[-2].value == p.value:
            out.pop()
        out.append(p)
    return tuple(out)


def _part_of_section(section: SongSection, first: int, bars: int) -> SongSection:
    """`bars` of a section from its bar `first` on, with its phrase levels."""
    levels = tuple(section.level_db(first + k * PHRASE_BARS) for k in range(-(-bars // PHRASE_BARS))) if section.levels_db else ()
    return replace(section, bars=bars, levels_db=levels)


def _bars_said(bars: int) -> str:
    return "1 bar" if bars == 1 else f"{bars} bars"


@dataclass(frozen=True)
class ResizeSection:
    """A section made longer or shorter at its end; what follows moves."""

    kind: ClassVar[str] = "resize_section"
    section: str
    bars: int

    def apply(self, song: Song) -> Song:
        old = section_of(song, self.section)
        if not 1 <= self.bars <= MOST_SECTION_BARS:
            raise InvalidEdit(f"A section has 1 to {MOST_SECTION_BARS} bars.")
        new = replace(old, bars=self.bars)
        return _rearranged(song, [replace(p, section=new) if p.source is old else p for p in _as_is(song)])

    def sentence(self, song: Song) -> str:
        return f"{section_name(song, self.section)} {_bars_said(self.bars)} long"


@dataclass(frozen=True)
class RelabelSection:
    kind: ClassVar[str] = "relabel_section"
    section: str
    label: Label

    def apply(self, song: Song) -> Song:
        section_of(song, self.section)
        sections = tuple(replace(s, label=self.label) if s.id == self.section else s for s in song.sections)
        return replace(song, sections=sections)

    def sentence(self, song: Song) -> str:
        return f"{section_name(song, self.section)} is now {self.label}"


@dataclass(frozen=True)
class RenameSection:
    """A name of the producer's own; "" for the label."""

    kind: ClassVar[str] = "rename_section"
    section: str
    name: str

    def apply(self, song: Song) -> Song:
        section_of(song, self.section)
        name = self.name.strip()
        if len(name) > MOST_NAME:
            raise InvalidEdit(f"A section's name has up to {MOST_NAME} characters.")
        sections = tuple(replace(s, name=name) if s.id == self.section else s for s in song.sections)
        return replace(song, sections=sections)

    def sentence(self, song: Song) -> str:
        return f"{section_name(song, self.section)} is now called {self.name.strip() or section_of(song, self.section).label}"


def _place(song: Song, section_id: str) -> int:
    """Raises InvalidEdit for a section that doesn't exist."""
    return song.sections.index(section_of(song, section_id))


@dataclass(frozen=True)
class MoveSection:
    """A section to another place: `place` counts from 0 in the plan without it."""

    kind: ClassVar[str] = "move_section"
    section: str
    place: int

    def apply(self, song: Song) -> Song:
        pieces = _as_is(song)
        moved = pieces.pop(_place(song, self.section))
        if not 0 <= self.place <= len(pieces):
            raise InvalidEdit("There is no such place in the plan.")
        pieces.insert(self.place, moved)
        return _rearranged(song, pieces)

    def sentence(self, song: Song) -> str:
        bar = next(bar for bar, s in self.apply(song).placed() if s.id == self.section)
        return f"Moved {section_name(song, self.section)} to bar {bar}"


@dataclass(frozen=True)
class DuplicateSection:
    """The same section once more behind itself."""

    kind: ClassVar[str] = "duplicate_section"
    section: str

    def apply(self, song: Song) -> Song:
        pieces = _as_is(song)
        at = _place(song, self.section)
        copy = replace(pieces[at], section=replace(pieces[at].section, id=fresh_id(_ids(song), "s")))
        return _rearranged(song, [*pieces[: at + 1], copy, *pieces[at + 1 :]])

    def sentence(self, song: Song) -> str:
        return f"{section_name(song, self.section)} duplicated"


@dataclass(frozen=True)
class SplitSection:
    """One section becomes two; `bars` is the first one's length. Patterns begin anew in the second."""

    kind: ClassVar[str] = "split_section"
    section: str
    bars: int

    def apply(self, song: Song) -> Song:
        pieces = _as_is(song)
        at = _place(song, self.section)
        old = song.sections[at]
        if not 0 < self.bars < old.bars:
            raise InvalidEdit(f"{begun(section_name(song, old.id))} can be split inside its {_bars_said(old.bars)}.")
        first = _part_of_section(old, 0, self.bars)
        second = replace(_part_of_section(old, self.bars, old.bars - self.bars), id=fresh_id(_ids(song), "s"))
        halves = [_Piece(first, old, 0, tail=False), _Piece(second, old, self.bars)]
        return _rearranged(song, [*pieces[:at], *halves, *pieces[at + 1 :]])

    def sentence(self, song: Song) -> str:
        return f"{section_name(song, self.section)} split after {_bars_said(self.bars)}"


@dataclass(frozen=True)
class MergeSection:
    """A section and the next become one: it plays on as the first did."""

    kind: ClassVar[str] = "merge_section"
    section: str

    def apply(self, song: Song) -> Song:
        pieces = _as_is(song)
        at = _place(song, self.section)
        if at + 1 == len(pieces):
            raise InvalidEdit("There is no section after the last one to merge with.")
        old, following = song.sections[at], song.sections[at + 1]
        joined = replace(old, bars=old.bars + following.bars)
        one = _Piece(joined, old, and_more=following.bars, ends_as=following.id)
        return _rearranged(song, [*pieces[:at], one, *pieces[at + 2 :]])

    def sentence(self, song: Song) -> str:
        at = _place(song, self.section)
        following = song.sections[at + 1 : at + 2]
        return f"{section_name(song, self.section)} merged with {section_name(song, following[0].id) if following else 'nothing'}"


@dataclass(frozen=True)
class DeleteSection:
    """A section with everything in it taken out; what follows closes up."""

    kind: ClassVar[str] = "delete_section"
    section: str

    def apply(self, song: Song) -> Song:
        section_of(song, self.section)
        return _rearranged(song, [p for p in _as_is(song) if p.source.id != self.section])

    def sentence(self, song: Song) -> str:
        return f"{section_name(song, self.section)} deleted"


@dataclass(frozen=True)
class PlannedSection:
    """A section of a plan to adopt."""

    label: Label
    bars: int


@dataclass(frozen=True)
class AdoptPlan:
    """The plan of a reference, section by section: each takes what the song's own section of that label and number plays, or else
    the nearest earlier one of that label, or else nothing."""

    kind: ClassVar[str] = "adopt_plan"
    plan: tuple[PlannedSection, ...]

    def apply(self, song: Song) -> Song:
        if not self.plan or any(not 1 <= p.bars <= MAX_BARS for p in self.plan):
            raise InvalidEdit("A plan has sections of at least one bar.")
        own: dict[str, list[SongSection]] = {}
        for section in song.sections:
            own.setdefault(section.label, []).append(section)
        seen: dict[str, int] = {}
        pieces, used = [], _ids(song)
        taken: set[str] = set()
        for planned in self.plan:
            number = seen.get(planned.label, 0)
            seen[planned.label] = number + 1
            alike = own.get(planned.label, [])
            source = alike[min(number, len(alike) - 1)] if alike else song.sections[0]
            section_id = source.id
            if not alike or section_id in taken:
                section_id = fresh_id(used, "s")
                used.add(section_id)
            taken.add(section_id)
            made = replace(source, id=section_id, label=planned.label, bars=planned.bars)
            pieces.append((_Piece(made, source, tail=bool(alike)), bool(alike)))
        adopted = _rearranged(song, [piece for piece, _ in pieces])
        empty = {piece.section.id for piece, found in pieces if not found}
        parts = tuple(replace(p, cells=tuple(c for c in p.cells if c.section not in empty)) for p in adopted.parts)
        return replace(adopted, parts=parts)

    def sentence(self, song: Song) -> str:
        return f"Adopted a plan of {len(self.plan)} sections, {_bars_said(sum(p.bars for p in self.plan))}"


@dataclass(frozen=True)
class AdoptSection:
    """One section of a reference: the song's own of that label and `number` (from 0) gets its length; where there is none, an empty
    one comes in at `place`, counted from 0."""

    kind: ClassVar[str] = "adopt_section"
    label: Label
    number: int
    bars: int
    place: int

    def _own(self, song: Song) -> SongSection | None:
        alike = [s for s in song.sections if s.label == self.label]
        return alike[self.number] if 0 <= self.number < len(alike) else None

    def apply(self, song: Song) -> Song:
        own = self._own(song)
        if own is not None:
            return ResizeSection(own.id, self.bars).apply(song)
        if not 1 <= self.bars <= MOST_SECTION_BARS or not 0 <= self.place <= len(song.sections):
            raise InvalidEdit("There is no such place in the plan.")
        return _with_room(song, self.place, self.label, self.bars)

    def sentence(self, song: Song) -> str:
        own = self._own(song)
        what = section_name(song, own.id) if own else self.label
        return f"{begun(what)} adopted from the reference, {_bars_said(self.bars)}"


def _with_room(song: Song, place: int, label: Label, bars: int) -> Song:
    """The song with an empty section before the one at `place`."""
    pieces = _as_is(song)
    near = song.sections[min(place, len(song.sections) - 1)]
    empty = SongSection(fresh_id(_ids(song), "s"), label, bars, ducks=near.ducks)
    # Its automation holds what stood at the boundary.
    at = _Piece(empty, near, offset=near.bars if place == len(song.sections) else 0, tail=False)
    made = _rearranged(song, [*pieces[:place], at, *pieces[place:]])
    parts = tuple(replace(p, cells=tuple(c for c in p.cells if c.section != empty.id)) for p in made.parts)
    return replace(made, parts=parts)


def _split_at(song: Song, bar: int) -> tuple[Song, int]:
    """The song with a boundary at 1-based `bar`, and the place of the section that begins there."""
    for place, (first, section) in enumerate(song.placed()):
        if bar == first:
            return song, place
        if first < bar < first + section.bars:
            return SplitSection(section.id, bar - first).apply(song), place + 1
    if bar == song.bars + 1:
        return song, len(song.sections)
    raise InvalidEdit(f"The song has {_bars_said(song.bars)}.")


@dataclass(frozen=True)
class AddSection:
    """An empty section before the one at `place`, counted from 0; at the end where there is none."""

    kind: ClassVar[str] = "add_section"
    label: Label
    bars: int
    place: int

    def apply(self, song: Song) -> Song:
        if not 1 <= self.bars <= MOST_SECTION_BARS:
            raise InvalidEdit(f"A section has 1 to {MOST_SECTION_BARS} bars.")
        if not 0 <= self.place <= len(song.sections):
            raise InvalidEdit("There is no such place in the plan.")
        return _with_room(song, self.place, self.label, self.bars)

    def sentence(self, song: Song) -> str:
        bar = 1 + sum(s.bars for s in song.sections[: self.place])
        return f"{self.label.capitalize()} of {_bars_said(self.bars)} added at bar {bar}"


@dataclass(frozen=True)
class InsertBars:
    """Empty bars before 1-based `bar`, of everything at once; what follows moves."""

    kind: ClassVar[str] = "insert_bars"
    bar: int
    bars: int

    def apply(self, song: Song) -> Song:
        if not 1 <= self.bars <= MOST_SECTION_BARS:
            raise InvalidEdit(f"At most {MOST_SECTION_BARS} bars are inserted at once.")
        split, place = _split_at(song, self.bar)
        near = split.sections[min(place, len(split.sections) - 1)]
        return _with_room(split, place, near.label, self.bars)

    def sentence(self, song: Song) -> str:
        return f"{_bars_said(self.bars).capitalize()} inserted at bar {self.bar}"


@dataclass(frozen=True)
class DeleteBars:
    """1-based bars `first` to `last` of everything cut out; what follows closes up. A section that they were cut from the
    middle of stays one."""

    kind: ClassVar[str] = "delete_bars"
    first: int
    last: int

    def apply(self, song: Song) -> Song:
        if not 1 <= self.first <= self.last <= song.bars:
            raise InvalidEdit(f"The song has {_bars_said(song.bars)}.")
        inside = any(first < self.first and self.last < first + s.bars - 1 for first, s in song.placed())
        cut, place = _split_at(song, self.first)
        cut, end = _split_at(cut, self.last + 1)
        cut = _rearranged(cut, [p for k, p in enumerate(_as_is(cut)) if not place <= k < end])
        return MergeSection(cut.sections[place - 1].id).apply(cut) if inside else cut

    def sentence(self, song: Song) -> str:
        what = f"bar {self.first}" if self.first == self.last else f"bars {self.first} to {self.last}"
        return f"{what.capitalize()} deleted"


@dataclass(frozen=True)
class DuplicateBars:
    """1-based bars `first` to `last` of everything once more behind themselves, as sections of their own."""

    kind: ClassVar[str] = "duplicate_bars"
    first: int
    last: int

    def apply(self, song: Song) -> Song:
        if not 1 <= self.first <= self.last <= song.bars:
            raise InvalidEdit(f"The song has {_bars_said(song.bars)}.")
        cut, place = _split_at(song, self.first)
        cut, end = _split_at(cut, self.last + 1)
        pieces, used = _as_is(cut), _ids(cut)
        again = []
        for piece in pieces[place:end]:
            name = fresh_id(used, "s")
            used.add(name)
            again.append(replace(piece, section=replace(piece.section, id=name)))
        return _rearranged(cut, [*pieces[:end], *again, *pieces[end:]])

    def sentence(self, song: Song) -> str:
        return f"Bars {self.first} to {self.last} duplicated"

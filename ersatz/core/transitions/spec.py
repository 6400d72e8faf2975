"""What a kind of transition is: what pages and edits know of it, and what it does to the song as it is played.

A spec's `put` gets the transition in its place (Boundary) and adds notes, rests and stretches of effects to the Stage.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Literal

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.song.document import Song, SongSection, Transition, TransitionKind
from ersatz.core.song.parts import Note, Part, Role
from ersatz.core.song.strips import AutomationPoint, Effect

#: Control values are over a tick apart: what is to be untouched keeps this far away, and what is mixed in fades in so fast.
SNAP_TICKS, FADE_IN_TICKS = 4, 24
#: What it is made of or works on: nothing but its own part, one part, parts and buses, or chains of parts, buses and the master.
WorksOn = Literal["carrier", "part", "parts", "chains"]


@dataclass(frozen=True)
class Carrier:
    """The part that plays a transition, where the song has none yet: name, role, library sound and levels in dB."""

    name: str
    role: Role
    sound: str
    gain_db: float
    low_cut_hz: float
    reverb_db: float


#: A value at a share 0..1 of the way, given the amount 0..1.
Course = Callable[[float, float], float]
#: An effect that is added to a chain, and how its values move.
Added = tuple[Effect, dict[str, Course]]


@dataclass(frozen=True)
class TransitionSpec:
    """`usual_beats`: its length where nothing else is said. `behind`: it begins at the boundary; the others end there. `added`: the
    effects that chains get; where `of_each` is given (effect, beats, amount), every stretch gets one of its own, made so."""

    kind: TransitionKind
    usual_beats: float
    works_on: WorksOn
    put: Callable[[Boundary, Stage], None]
    behind: bool = False
    carrier: Carrier | None = None
    rhythms: tuple[str, ...] = ()
    has_amount: bool = True
    has_seed: bool = False
    added: tuple[Added, ...] = ()
    of_each: Callable[[Effect, float, float], Effect] | None = None
    #: What people read where it isn't the kind.
    called: str = ""

    @property
    def title(self) -> str:
        """What a person reads."""
        return self.called or self.kind


@dataclass(frozen=True)
class Placed:
    """A note at a place of the song. `swell`: it is played backwards and ends where it would begin."""

    note: Note
    swell: bool = False


@dataclass(frozen=True)
class StagedPart(Part):
    """A part with the notes that transitions place, the stretches (first tick, tick behind) in which its patterns rest, and the
    gaps, in which it starts nothing at all."""

    placed: tuple[Placed, ...] = ()
    rests: tuple[tuple[int, int], ...] = ()
    gaps: tuple[tuple[int, int], ...] = ()


@dataclass
class Stage:
    """What transitions add, by part; and by owner of a chain and the effects that it gets, in stretches of the song."""

    placed: dict[str, list[Placed]] = field(default_factory=lambda: defaultdict(list))
    rests: dict[str, list[tuple[int, int]]] = field(default_factory=lambda: defaultdict(list))
    gaps: dict[str, list[tuple[int, int]]] = field(default_factory=lambda: defaultdict(list))
    chains: dict[tuple[str, str], list[Stretch]] = field(default_factory=lambda: defaultdict(list))
    throws: dict[str, list[tuple[int, int, float]]] = field(default_factory=lambda: defaultdict(list))


@dataclass(frozen=True)
class Stretch:
    start: int
    boundary: int
    amount: float


def mixed_in(spans: Iterable[tuple[int, int]]) -> tuple[AutomationPoint, ...]:
    """The blend of an effect that is there between two ticks, span by span in order, and elsewhere isn't there at all."""
    points = [AutomationPoint(0, 0.0)]
    for start, end in spans:
        points += [
            AutomationPoint(start + SNAP_TICKS, 0.0), AutomationPoint(start + FADE_IN_TICKS, 1.0),
            AutomationPoint(end - 2 * SNAP_TICKS, 1.0), AutomationPoint(end - SNAP_TICKS, 0.0),
        ]  # fmt: skip
    return tuple(points)


def base_of(part: Part) -> str:
    """The id of the song's part that a part of a staged song came from."""
    return part.id.partition("~")[0]


def versions_of(part_id: str, song: Song) -> list[Part]:
    """The parts of a staged song that a part has become."""
    return [p for p in song.parts if base_of(p) == part_id]


def playing_in(section: str, parts: Iterable[Part]) -> list[Part]:
    """Of every part the version that plays in a section, the first one where none does."""
    chosen: dict[str, Part] = {}
    for part in parts:
        if base_of(part) not in chosen or part.cell(section):
            chosen[base_of(part)] = part
    return list(chosen.values())


@dataclass(frozen=True)
class Boundary:
    """A transition in its place."""

    song: Song
    transition: Transition
    boundary: int
    behind: bool = False

    @property
    def ticks(self) -> int:
        """Position of the bar line."""
        return round(self.transition.beats * TICKS_PER_BEAT)

    @property
    def start(self) -> int:
        """Position at which the transition begins."""
        return max(0, self.boundary - self.ticks)

    @property
    def amount(self) -> float:
        """How much of it, 0..1."""
        return min(1.0, max(0.0, self.transition.amount))

    def parts(self, usual: Callable[[Part], bool]) -> list[Part]:
        """Those that it is made of: named ones, all of a named bus, or else the usual ones."""
        on = self.transition.on
        if not on:
            return [p for p in self.song.parts if usual(p)]
        return [p for p in self.song.parts if base_of(p) in on or p.out in on]

    def players(self, usual: Callable[[Part], bool], section: str) -> list[Part]:
        """Those of them that play in a section, each with the sound that it has there."""
        return playing_in(section, self.parts(usual))

    def owners(self, usual: tuple[str, ...]) -> tuple[str, ...]:
        """Whose chains it works in; a part's with all of its sounds."""
        out: list[str] = []
        for owner in self.transition.on or usual:
            versions = versions_of(owner, self.song)
            out += [p.id for p in versions] if versions else [owner] if self.song.strip(owner) else []
        return tuple(out)

    @property
    def section(self) -> SongSection:
        """The section that it ends."""
        return next(s for s in self.song.sections if s.id == self.transition.section)

    def hits_of(self, part: Part) -> list[tuple[int, Note]]:
        """What the part's pattern plays in the section, (tick of the song, note), in order."""
        cell = part.cell(self.section.id)
        pattern = part.patterns.get(cell.pattern) if cell else None
        if pattern is None:
            return []
        begin = self.boundary - self.section.bars * self.song.grid.ticks_per_bar
        length = pattern.loop_ticks or pattern.bars * self.song.grid.ticks_per_bar
        hits = [(t, n) for n in pattern.notes if n.tick < length for t in range(begin + n.tick, self.boundary, length)]
        return sorted(hits, key=lambda hit: hit[0])

    def struck_at(self, part: Part) -> Callable[[float], Note]:
        """What the part strikes at a tick: the hit of its pattern that stands there or went before. A sliced part so goes through
        its slices, any other repeats its one sound."""
        hits = self.hits_of(part) or [(0, Note(0, 1, 60, 1.0))]
        ticks = [tick for tick, _ in hits]
        return lambda tick: hits[max(0, bisect_right(ticks, tick) - 1)][1]

    def section_behind(self) -> SongSection | None:
        """None at the song's end."""
        return next((s for bar, s in self.song.placed() if self.song.grid.ticks_of_bar(bar) == self.boundary), None)

    def carrier(self) -> Part | None:
        """The part that plays the transition."""
        named = [p for p in self.song.parts if p.id in self.transition.on]
        return named[0] if named else self.song.part(self.transition.kind)

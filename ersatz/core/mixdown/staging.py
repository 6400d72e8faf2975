"""The song as it is played: alternatives and transitions turned into plain parts, notes, effects and automation.

Transitions end, or begin, at the joint of a section and what follows, and everything snaps back there: what they add to
chains is mixed in over the stretch alone (its blend is 0 elsewhere, where the mixdown leaves it out) and out again SNAP_TICKS
before the joint.
"""

from __future__ import annotations

import random
from bisect import bisect_right
from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, fields, replace

from ersatz.core.edits.transitions import BUS, RHYTHMS
from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.song.document import (
    BEHIND_THE_JOINT,
    BUSES,
    MASTER,
    Automation,
    AutomationPoint,
    Cell,
    Effect,
    Note,
    Part,
    Song,
    SongSection,
    Sound,
    Transition,
)

#: Control values are over a tick apart: what is to be untouched keeps this far away.
SNAP_TICKS = 4
FADE_IN_TICKS = 24
#: Accents of a fill of one bar, by 16ths; of a shorter one its end.
FILLS = (
    (0, 0, 0.5, 0, 0.8, 0, 0.5, 0.6, 0, 0.5, 0.7, 0, 0.8, 0.6, 0.9, 0.7),
    (0.7, 0, 0, 0.5, 0.7, 0, 0, 0.6, 0.8, 0, 0.6, 0, 0.9, 0, 0.9, 0.9),
    (0, 0, 0.6, 0.5, 0.8, 0, 0.6, 0, 0.6, 0.5, 0.8, 0, 0.7, 0.7, 0.8, 1.0),
    (0.6, 0, 0.4, 0.6, 0, 0.4, 0.7, 0, 0.5, 0.8, 0, 0.6, 0.8, 0.8, 0.9, 1.0),
)
#: Points of a curve that isn't a straight line.
POINTS = 17


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
class _Stage:
    """What transitions add, by part, and by owner of a chain: (owner, kind of stretch) -> stretches."""

    placed: dict[str, list[Placed]] = field(default_factory=lambda: defaultdict(list))
    rests: dict[str, list[tuple[int, int]]] = field(default_factory=lambda: defaultdict(list))
    gaps: dict[str, list[tuple[int, int]]] = field(default_factory=lambda: defaultdict(list))
    chains: dict[tuple[str, str], list[_Stretch]] = field(default_factory=lambda: defaultdict(list))
    throws: dict[str, list[tuple[int, int, float]]] = field(default_factory=lambda: defaultdict(list))


@dataclass(frozen=True)
class _Stretch:
    start: int
    joint: int
    amount: float


def staged(song: Song) -> Song:
    """The song with nothing left but plain cells, notes, effects and automation. A song that has no transitions and no alternatives
    keeps its parts as they are."""
    song = _alternatives(song)
    if not song.transitions:
        return song
    stage = _Stage()
    joints = {s.id: song.grid.ticks_of_bar(bar + s.bars) for bar, s in song.placed()}
    for transition in song.transitions:
        if transition.section in joints:
            _KINDS[transition.kind](_Joint(song, transition, joints[transition.section]), stage)
    return _with_chains(_with_parts(song, stage), stage)


def _alternatives(song: Song) -> Song:
    """Cells with a sound of their own as parts of their own; cells that another part plays, moved to that part."""
    lent: dict[str, list[Cell]] = defaultdict(list)
    for part in song.parts:
        for cell in part.cells:
            if cell.part and cell.part != part.id and cell.on and song.part(cell.part) is not None:
                lent[cell.part].append(replace(cell, part="", sound=None, other=None))
    if not lent and not any(c.sound or c.part for p in song.parts for c in p.cells):
        return song
    out = []
    for part in song.parts:
        taken = {c.section for c in lent[part.id]}
        cells = (*(c for c in part.cells if c.section not in taken and not c.part), *lent[part.id])
        sounds: list[Sound] = []
        for cell in cells:
            if cell.sound and cell.sound not in sounds:
                sounds.append(cell.sound)
        out.append(replace(part, cells=tuple(c for c in cells if not c.sound)))
        for k, sound in enumerate(sounds, 1):
            own = tuple(replace(c, sound=None) for c in cells if c.sound == sound)
            out.append(replace(part, id=f"{part.id}~{k}", sound=sound, cells=own))
    return replace(song, parts=tuple(out))


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
class _Joint:
    """A transition in its place."""

    song: Song
    transition: Transition
    joint: int

    @property
    def ticks(self) -> int:
        return round(self.transition.beats * TICKS_PER_BEAT)

    @property
    def start(self) -> int:
        return max(0, self.joint - self.ticks)

    @property
    def amount(self) -> float:
        return min(1.0, max(0.0, self.transition.amount))

    def parts(self, usual: Callable[[Part], bool]) -> list[Part]:
        """Those that it is made of: named ones, all of a named bus, or else the usual ones."""
        on = self.transition.on
        if not on:
            return [p for p in self.song.parts if usual(p)]
        return [p for p in self.song.parts if base_of(p) in on or BUS + p.bus in on]

    def players(self, usual: Callable[[Part], bool], section: str) -> list[Part]:
        """Those of them that play in a section, each with the sound that it has there."""
        return playing_in(section, self.parts(usual))

    def owners(self, usual: tuple[str, ...]) -> tuple[str, ...]:
        """Whose chains it works in; a part's with all of its sounds."""
        out: list[str] = []
        for owner in self.transition.on or usual:
            known = owner.removeprefix(BUS) in BUSES or owner == MASTER
            out += [owner] if known else [p.id for p in versions_of(owner, self.song)]
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
        begin = self.joint - self.section.bars * self.song.grid.ticks_per_bar
        length = pattern.loop_ticks or pattern.bars * self.song.grid.ticks_per_bar
        hits = [(t, n) for n in pattern.notes if n.tick < length for t in range(begin + n.tick, self.joint, length)]
        return sorted(hits, key=lambda hit: hit[0])

    def struck_at(self, part: Part) -> Callable[[float], Note]:
        """What the part strikes at a tick: the hit of its pattern that stands there or went before. A sliced part so goes through
        its slices, any other repeats its one sound."""
        hits = self.hits_of(part) or [(0, Note(0, 1, 60, 1.0))]
        ticks = [tick for tick, _ in hits]
        return lambda tick: hits[max(0, bisect_right(ticks, tick) - 1)][1]

    def section_behind(self) -> SongSection | None:
        return next((s for bar, s in self.song.placed() if self.song.grid.ticks_of_bar(bar) == self.joint), None)

    def carrier(self) -> Part | None:
        """The part that plays a riser, a fall, an impact, a crash."""
        named = [p for p in self.song.parts if p.id in self.transition.on]
        return named[0] if named else self.song.part(self.transition.kind)


# What each kind is made of -------------------------------------------------------------------------------------------


def _sounds_once(j: _Joint, stage: _Stage) -> None:
    carrier = j.carrier()
    if carrier is not None:
        behind = j.transition.kind in BEHIND_THE_JOINT
        note = Note(j.joint if behind else j.start, max(1, j.ticks), 60, 0.25 + 0.75 * j.amount)
        stage.placed[carrier.id].append(Placed(note))


def _roll(j: _Joint, stage: _Stage) -> None:
    """The backbeat's own sound, faster and louder towards the joint."""
    chosen = j.players(lambda p: p.role == "clap", j.section.id)[:1] or [p for p in j.song.parts if p.bus == "drums"][:1]
    spans = RHYTHMS.get(j.transition.rhythm, RHYTHMS["8ths to 32nds"])
    for part in chosen:
        struck, at = j.struck_at(part), float(j.start)
        for share, step in spans:
            end = at + share * (j.joint - j.start)
            while at < end - 1:
                along = (at - j.start) / max(1, j.joint - j.start)
                velocity = (0.3 + 0.7 * along) * (0.4 + 0.6 * j.amount)
                hit = struck(at)
                note = Note(round(at), step, hit.midi, round(velocity, 3), semitones=hit.semitones)
                stage.placed[part.id].append(Placed(note))
                at += step
        for version in versions_of(base_of(part), j.song):
            stage.rests[version.id].append((j.start, j.joint))


def _fill(j: _Joint, stage: _Stage) -> None:
    """Backbeat and percussion share out the accents of a figure, the percussion falling in pitch; the kick keeps the beats of the
    first half."""
    chance = random.Random(f"{j.transition.seed}|fill")
    voices = j.players(lambda p: p.role in ("clap", "perc"), j.section.id)
    struck = {part.id: j.struck_at(part) for part in voices}
    figure, sixteenth = chance.choice(FILLS), TICKS_PER_BEAT // 4
    steps = (j.joint - j.start) // sixteenth
    for k in range(steps):
        accent = figure[(k - steps) % len(figure)]
        if not accent or not voices:
            continue
        part = voices[0] if accent >= 0.8 else chance.choice(voices)
        at = j.start + k * sixteenth
        hit = struck[part.id](at)
        falls = hit.semitones if part.role == "clap" else float(round(5 - 10 * k / max(1, steps)))
        velocity = round(accent * (0.4 + 0.6 * j.amount), 3)
        stage.placed[part.id].append(Placed(Note(at, sixteenth, hit.midi, velocity, semitones=falls)))
    for part in voices:
        for version in versions_of(base_of(part), j.song):
            stage.rests[version.id].append((j.start, j.joint))
    for kick in (p for p in j.song.parts if p.role == "kick"):
        stage.rests[kick.id].append(((j.start + j.joint) // 2, j.joint))


def _gap(j: _Joint, stage: _Stage) -> None:
    for part in j.parts(lambda p: True):
        stage.gaps[part.id].append((j.start, j.joint))


def _swell(j: _Joint, stage: _Stage) -> None:
    """What the part plays first behind the joint, or else ahead of it, backwards."""
    section = j.section_behind() or j.section
    chosen = j.players(lambda p: p.role == "chords", section.id)[:1] or j.players(lambda p: p.role == "lead", section.id)[:1]
    for part in chosen:
        cell = part.cell(section.id)
        pattern = part.patterns.get(cell.pattern if cell else "") or next(iter(part.patterns.values()), None)
        notes = pattern.notes if pattern else ()
        first = [n for n in notes if n.tick == notes[0].tick][:6] or [Note(0, 1, 60, 1.0)]
        for note in first:
            swelling = Note(j.start, max(1, j.joint - j.start), note.midi, round(0.2 + 0.8 * j.amount, 3))
            stage.placed[part.id].append(Placed(swelling, swell=True))


def _in_chains(usual: tuple[str, ...]) -> Callable[[_Joint, _Stage], None]:
    def add(j: _Joint, stage: _Stage) -> None:
        for owner in j.owners(usual):
            stretches = stage.chains[owner, j.transition.kind]
            # Two of a kind take turns.
            start = max([j.start, *(s.joint for s in stretches if s.joint <= j.joint)])
            if start < j.joint - SNAP_TICKS - FADE_IN_TICKS:
                stretches.append(_Stretch(start, j.joint, j.amount))

    return add


def _throw(j: _Joint, stage: _Stage) -> None:
    """The delay's send opens for the last hit before the joint."""
    inside = j.section.id
    for part in j.players(lambda p: p.role == "lead", inside)[:1] or j.players(lambda p: p.role == "clap", inside)[:1]:
        hits = [tick for tick, _ in j.hits_of(part) if j.start <= tick]
        if hits:
            stage.throws[part.id].append((hits[-1], j.joint, -18 + 18 * j.amount))


_KINDS: dict[str, Callable[[_Joint, _Stage], None]] = {
    "riser": _sounds_once, "fall": _sounds_once, "impact": _sounds_once, "crash": _sounds_once, "snare roll": _roll,
    "drum fill": _fill, "gap": _gap, "reverse swell": _swell, "echo throw": _throw,
    "low-cut sweep": _in_chains((BUS + "drums", BUS + "bass", BUS + "music")), "high-cut sweep": _in_chains((BUS + "music",)),
    "wash": _in_chains((BUS + "drums",)), "slow-down": _in_chains((MASTER,)),
}  # fmt: skip


# Put together --------------------------------------------------------------------------------------------------------


def _with_parts(song: Song, stage: _Stage) -> Song:
    def of(part: Part) -> Part:
        placed, rests, gaps = stage.placed.get(part.id), stage.rests.get(part.id), stage.gaps.get(part.id)
        throws = stage.throws.get(part.id, [])
        if throws:
            part = replace(part, automation=_thrown(part, throws))
        if not (placed or rests or gaps):
            return part
        values = {f.name: getattr(part, f.name) for f in fields(Part)}
        return StagedPart(**values, placed=tuple(placed or ()), rests=tuple(rests or ()), gaps=tuple(gaps or ()))

    return replace(song, parts=tuple(of(p) for p in song.parts))


def _thrown(part: Part, throws: list[tuple[int, int, float]]) -> tuple[Automation, ...]:
    """The part's curves with its delay send opened over some stretches."""
    old = next((a for a in part.automation if a.target == "delay_db"), None)
    points = list(old.points) if old else [AutomationPoint(0, part.delay_db)]
    for start, end, level in sorted(throws):
        base = next((p.value for p in reversed(points) if p.tick <= start), points[0].value)
        after = next((p.value for p in reversed(points) if p.tick <= end), base)
        points = [p for p in points if not start - 1 <= p.tick <= end]
        points += [AutomationPoint(max(0, start - 1), base), AutomationPoint(start, max(level, base)),
                   AutomationPoint(end - 1, max(level, base)), AutomationPoint(end, after)]  # fmt: skip
        points.sort(key=lambda p: p.tick)
    return (*(a for a in part.automation if a is not old), Automation("delay_db", tuple(points)))


#: Kind of stretch -> (effect, values by name: what it is at a share 0..1 of the way, given the amount).
_Curve = Callable[[float, float], float]
_ADDED: dict[str, tuple[tuple[Effect, dict[str, _Curve]], ...]] = {
    "low-cut sweep": (
        (Effect("sweep", {"resonance": 0.12}, {"kind": "high-pass 24"}),
         {"cutoff_hz": lambda u, a: 25 * (3.2 * 2 ** (4.6 * a)) ** u}),
    ),
    "high-cut sweep": (
        (Effect("sweep", {"resonance": 0.12}, {"kind": "low-pass 24"}), {"cutoff_hz": lambda u, a: 18_000 * 2 ** (-6.4 * a * u)}),
    ),
    "wash": (
        (Effect("reverb", {"decay_s": 3.5, "low_cut_hz": 200.0}, {"kind": "hall"}),
         {"level_db": lambda u, a: -34 + (22 + 14 * a) * u}),
        (Effect("sweep", {"resonance": 0.1}, {"kind": "high-pass 12"}), {"cutoff_hz": lambda u, a: 25 * (2 + 14 * a) ** u}),
    ),
    "slow-down": ((Effect("slow-down"), {"along": lambda u, a: u}),),
}  # fmt: skip


def _with_chains(song: Song, stage: _Stage) -> Song:
    """Effects with their automation at the end of the chains of parts, buses and the master."""
    for (owner, kind), stretches in stage.chains.items():
        for effect, curves in _ADDED[kind]:
            if kind == "slow-down":
                for stretch in stretches:
                    beats = (stretch.joint - stretch.start) / TICKS_PER_BEAT
                    song = _added(song, owner, replace(effect, params={"beats": beats, "depth": stretch.amount}), curves, [stretch])
            else:
                song = _added(song, owner, effect, curves, stretches)
    return song


def _added(song: Song, owner: str, effect: Effect, curves: dict[str, _Curve], stretches: list[_Stretch]) -> Song:
    name = owner.removeprefix(BUS)
    part = None if owner.startswith(BUS) else song.part(owner)
    chain = part.effects if part else song.master.effects if name == MASTER else song.buses.get(name, ())
    place = f"effects.{len(chain)}."
    ordered = sorted(stretches, key=lambda s: s.start)
    automation = [Automation(place + "blend", tuple(_blend(ordered)))]
    automation += [Automation(place + value, tuple(_along(ordered, curve))) for value, curve in curves.items()]
    if part:
        made = replace(part, effects=(*chain, effect), automation=(*part.automation, *automation))
        return replace(song, parts=tuple(made if p.id == part.id else p for p in song.parts))
    old = song.automation.get(name, ())
    song = replace(song, automation={**song.automation, name: (*old, *automation)})
    if name == MASTER:
        return replace(song, master=replace(song.master, effects=(*chain, effect)))
    return replace(song, buses={**song.buses, name: (*chain, effect)})


def _blend(stretches: list[_Stretch]) -> Iterable[AutomationPoint]:
    yield AutomationPoint(0, 0.0)
    for s in stretches:
        yield AutomationPoint(s.start + SNAP_TICKS, 0.0)
        yield AutomationPoint(s.start + FADE_IN_TICKS, 1.0)
        yield AutomationPoint(s.joint - 2 * SNAP_TICKS, 1.0)
        yield AutomationPoint(s.joint - SNAP_TICKS, 0.0)


def _along(stretches: list[_Stretch], curve: _Curve) -> Iterable[AutomationPoint]:
    for s in stretches:
        for k in range(POINTS):
            u = k / (POINTS - 1)
            yield AutomationPoint(round(s.start + u * (s.joint - 1 - s.start)), round(curve(u, s.amount), 5))

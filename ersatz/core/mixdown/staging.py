"""The song as it is played: alternatives and transitions turned into plain parts, notes, effects and automation.

Transitions end, or begin, at the boundary of a section and what follows, and everything snaps back there: what they add to
chains is mixed in over the stretch alone (its blend is 0 elsewhere, where the mixdown leaves it out) and out again SNAP_TICKS
before the boundary.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import fields, replace

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.song.document import Song, with_strip
from ersatz.core.song.parts import Cell, Part, Sound
from ersatz.core.song.strips import SENDS, Automation, AutomationPoint, Effect, identified
from ersatz.core.transitions import TRANSITIONS
from ersatz.core.transitions.spec import Boundary, Course, Stage, StagedPart, Stretch, mixed_in

#: Points of a curve that isn't a straight line.
POINTS = 17


def staged(song: Song) -> Song:
    """The song with nothing left but plain cells, notes, effects and automation. A song that has no transitions and no alternatives
    keeps its parts as they are."""
    song = _alternatives(song)
    if not song.transitions:
        return song
    stage = Stage()
    boundaries = {s.id: song.grid.ticks_of_bar(bar + s.bars) for bar, s in song.placed()}
    for transition in song.transitions:
        if transition.section in boundaries:
            spec = TRANSITIONS[transition.kind]
            spec.put(Boundary(song, transition, boundaries[transition.section], spec.behind), stage)
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
        if part.follows:
            # A layer has one sound: its cells only switch it.
            out.append(part)
            continue
        sounds: list[Sound] = []
        for cell in cells:
            if cell.sound and cell.sound not in sounds:
                sounds.append(cell.sound)
        out.append(replace(part, cells=tuple(c for c in cells if not c.sound)))
        for k, sound in enumerate(sounds, 1):
            own = tuple(replace(c, sound=None) for c in cells if c.sound == sound)
            out.append(replace(part, id=f"{part.id}~{k}", sound=sound, cells=own))
    return replace(song, parts=tuple(out))


# Put together --------------------------------------------------------------------------------------------------------


def _with_parts(song: Song, stage: Stage) -> Song:
    def of(part: Part) -> Part:
        placed, rests, gaps = stage.placed.get(part.id), stage.rests.get(part.id), stage.gaps.get(part.id)
        if (throws := stage.throws.get(part.id)) and (found := song.return_with("delay")):
            part = replace(part, automation=_thrown(part, found[0].id, throws))
        if not (placed or rests or gaps):
            return part
        values = {f.name: getattr(part, f.name) for f in fields(Part)}
        return StagedPart(**values, placed=tuple(placed or ()), rests=tuple(rests or ()), gaps=tuple(gaps or ()))

    return replace(song, parts=tuple(of(p) for p in song.parts))


def _thrown(part: Part, to: str, throws: list[tuple[int, int, float]]) -> tuple[Automation, ...]:
    """The part's curves with its send to the delay opened over some stretches."""
    old = part.curve(SENDS, to)
    points = list(old.points) if old else [AutomationPoint(0, part.send_db(to))]
    for start, end, level in sorted(throws):
        base = next((p.value for p in reversed(points) if p.tick <= start), points[0].value)
        after = next((p.value for p in reversed(points) if p.tick <= end), base)
        points = [p for p in points if not start - 1 <= p.tick <= end]
        points += [AutomationPoint(max(0, start - 1), base), AutomationPoint(start, max(level, base)),
                   AutomationPoint(end - 1, max(level, base)), AutomationPoint(end, after)]  # fmt: skip
        points.sort(key=lambda p: p.tick)
    return (*(a for a in part.automation if a is not old), Automation(SENDS, to, tuple(points)))


def _with_chains(song: Song, stage: Stage) -> Song:
    """Effects with their automation at the end of the chains of parts, buses and the master."""
    for (owner, kind), stretches in stage.chains.items():
        spec = TRANSITIONS[kind]
        for effect, courses in spec.added:
            if spec.of_each is None:
                song = _added(song, owner, effect, courses, stretches)
                continue
            for stretch in stretches:
                beats = (stretch.boundary - stretch.start) / TICKS_PER_BEAT
                song = _added(song, owner, spec.of_each(effect, beats, stretch.amount), courses, [stretch])
    return song


def _added(song: Song, owner: str, effect: Effect, courses: dict[str, Course], stretches: list[Stretch]) -> Song:
    strip = song.strip(owner)
    if strip is None:
        return song
    chain = identified((*strip.chain, effect))
    ordered = sorted(stretches, key=lambda s: s.start)
    device = chain[-1].id
    curves = [Automation(device, "blend", mixed_in((s.start, s.boundary) for s in ordered))]
    curves += [Automation(device, value, tuple(_along(ordered, course))) for value, course in courses.items()]
    return with_strip(song, replace(strip, chain=chain, automation=(*strip.automation, *curves)))


def _along(stretches: list[Stretch], course: Course) -> Iterable[AutomationPoint]:
    for s in stretches:
        for k in range(POINTS):
            u = k / (POINTS - 1)
            yield AutomationPoint(round(s.start + u * (s.boundary - 1 - s.start)), round(course(u, s.amount), 5))

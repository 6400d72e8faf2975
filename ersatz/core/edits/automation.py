"""Edits of automation: curves over the song for what a part, a bus, a return or the master does."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Literal, get_args

from ersatz.core.edits.arrangement import section_name, section_of, with_part
from ersatz.core.edits.sound import figure
from ersatz.core.effects.chain import spec_of
from ersatz.core.errors import InvalidEdit
from ersatz.core.song.document import (
    BUSES,
    MASTER,
    RETURNS,
    Automation,
    AutomationPoint,
    Effect,
    Song,
    Tick,
    effect_target,
    effect_value,
)
from ersatz.core.transitions import BUS

MOST_AUTOMATION_POINTS = 2000
Shape = Literal["rise", "fall", "pulse", "stairs"]
SHAPES: tuple[Shape, ...] = get_args(Shape)
STAIRS = 8
SPAN_DB, OPEN_SEND_DB = 18.0, -12.0
#: Automated values of a part's fader, with their ranges; buses, returns and master have the first.
FADERS = {"gain_db": (-60.0, 24.0), "pan": (-1.0, 1.0), "reverb_db": (-60.0, 12.0), "delay_db": (-60.0, 12.0)}


def automatable(song: Song, owner: str) -> dict[str, tuple[float, float]]:
    """What of a part, bus, return or the master may be automated: target -> lowest and highest value. A bus is named "bus:drums".
    Raises InvalidEdit."""
    part = song.part(owner)
    if part is None and owner.removeprefix(BUS) not in (*BUSES, *RETURNS, MASTER):
        raise InvalidEdit(f"There is nothing called “{owner}” to automate.")
    out = dict(FADERS) if part else {"gain_db": FADERS["gain_db"]}
    for effect in _effects_of(song, owner):
        out[effect_target(effect, "blend")] = (0.0, 1.0)
        out.update({effect_target(effect, p.name): (p.low, p.high) for p in spec_of(effect).params if p.moves is not None})
    return out


def _effects_of(song: Song, owner: str) -> tuple[Effect, ...]:
    """The chain of a part, a bus or the master; returns have none."""
    part, name = song.part(owner), owner.removeprefix(BUS)
    return part.effects if part else song.master.effects if name == MASTER else song.buses.get(name, ())


def _effect_of(song: Song, owner: str, effect_id: str) -> Effect:
    return next(e for e in _effects_of(song, owner) if e.id == effect_id)


def curves_of(song: Song, owner: str) -> tuple[Automation, ...]:
    part = song.part(owner)
    return part.automation if part else song.automation.get(owner.removeprefix(BUS), ())


def owner_name(song: Song, owner: str) -> str:
    part = song.part(owner)
    return part.name if part else owner.removeprefix(BUS).capitalize() + (" bus" if owner.startswith(BUS) else "")


def target_name(target: str) -> str:
    return target.rpartition(".")[2].removesuffix("_db").removesuffix("_hz").replace("_", " ")


def described(song: Song, owner: str, target: str) -> tuple[str, str]:
    """What a target is called, and its unit."""
    effect_id, name = effect_value(target)
    if not effect_id:
        return {"gain_db": "Level", "pan": "Pan", "reverb_db": "Reverb send", "delay_db": "Delay send"}[target], (
            "" if target == "pan" else "dB"
        )
    spec = spec_of(_effect_of(song, owner, effect_id))
    param = next((p for p in spec.params if p.name == name), None)
    return f"{spec.title}: {param.title if param else 'Blend'}", param.unit if param else ""


@dataclass(frozen=True)
class SetAutomation:
    """A curve over the song for a value of a part, a bus, a return or the master; without points it is taken away."""

    kind: ClassVar[str] = "set_automation"
    owner: str
    target: str
    points: tuple[AutomationPoint, ...]

    def apply(self, song: Song) -> Song:
        allowed = automatable(song, self.owner)
        if self.target not in allowed:
            raise InvalidEdit(f"“{self.target}” can’t be automated there.")
        low, high = allowed[self.target]
        ticks = [p.tick for p in self.points]
        if ticks != sorted(ticks) or len(ticks) > MOST_AUTOMATION_POINTS or any(t < 0 for t in ticks):
            raise InvalidEdit(f"An automation has up to {MOST_AUTOMATION_POINTS} points in order of time.")
        if any(not low <= p.value <= high or abs(p.curve) > 1 for p in self.points):
            raise InvalidEdit(f"Its values lie between {figure(low, '')} and {figure(high, '')}.")
        old = curves_of(song, self.owner)
        new = (*(a for a in old if a.target != self.target), *((Automation(self.target, self.points),) if self.points else ()))
        part = song.part(self.owner)
        if part:
            return with_part(song, replace(part, automation=new))
        return replace(song, automation={**song.automation, self.owner.removeprefix(BUS): new})

    def sentence(self, song: Song) -> str:
        what = "automated" if self.points else "no longer automated"
        return f"{owner_name(song, self.owner)}: {target_name(self.target)} {what}"


def shape_points(shape: Shape, first: int, last: int, low: float, high: float, beat: int) -> tuple[AutomationPoint, ...]:
    """A shape from tick `first` to `last`, between two values: a rise or a fall, bent so that it is steepest at its end; a
    pulse that opens on every beat; stairs of STAIRS steps."""
    if shape in ("rise", "fall"):
        start, end = (low, high) if shape == "rise" else (high, low)
        return AutomationPoint(first, start, -0.4), AutomationPoint(last, end)
    if shape == "pulse":
        points: list[AutomationPoint] = []
        for tick in range(first, last, beat):
            half = min(tick + beat // 2, last)
            points += [AutomationPoint(tick, high), AutomationPoint(half - 1, high), AutomationPoint(half, low)]
            points.append(AutomationPoint(min(tick + beat, last) - 1, low))
        return tuple(points)
    out: list[AutomationPoint] = []
    for k in range(STAIRS):
        value = low + (high - low) * k / (STAIRS - 1)
        out += [AutomationPoint(first + (last - first) * k // STAIRS, value),
                AutomationPoint(first + (last - first) * (k + 1) // STAIRS - 1, value)]  # fmt: skip
    return tuple(out)


def standing(song: Song, owner: str, target: str) -> float:
    """The value that a target has where nothing is automated."""
    part = song.part(owner)
    effect_id, name = effect_value(target)
    if not effect_id:
        return float(getattr(part, target)) if part else 0.0
    effect = _effect_of(song, owner, effect_id)
    if name == "blend":
        return effect.blend
    return next(p.value(effect.params) for p in spec_of(effect).params if p.name == name)


def usual_span(song: Song, owner: str, target: str) -> tuple[float, float]:
    """Between which values a shape goes where none are named: a level or a send up to where it stands (a closed send to -12 dB)
    from SPAN_DB under it, anything else through its range."""
    low, high = automatable(song, owner)[target]
    if target not in ("gain_db", "reverb_db", "delay_db"):
        return low, high
    top = standing(song, owner, target)
    top = OPEN_SEND_DB if top <= low else top
    return max(low, top - SPAN_DB), top


@dataclass(frozen=True)
class ShapeAutomation:
    """A shape drawn over a stretch, `first` tick to `last`; what the curve did there goes, what it does elsewhere stays: behind the
    shape the value is again what it was. Without `low` and `high` it spans what is usual."""

    kind: ClassVar[str] = "shape_automation"
    owner: str
    target: str
    shape: Shape
    first: Tick
    last: Tick
    low: float | None = None
    high: float | None = None

    def apply(self, song: Song) -> Song:
        if self.target not in automatable(song, self.owner):
            raise InvalidEdit(f"“{self.target}” can’t be automated there.")
        usual = usual_span(song, self.owner, self.target)
        low, high = (given if given is not None else u for given, u in zip((self.low, self.high), usual))
        if not 0 <= self.first < self.last - song.grid.ticks_per_bar // 16:
            raise InvalidEdit("A shape is drawn over at least a 16th.")
        beat = song.grid.ticks_per_bar // song.grid.beats_per_bar
        points = shape_points(self.shape, self.first, self.last, low, high, beat)
        return SetAutomation(self.owner, self.target, _over(song, self.owner, self.target, points)).apply(song)

    def sentence(self, song: Song) -> str:
        return f"{owner_name(song, self.owner)}: {self.shape} of {target_name(self.target)}"


def _over(song: Song, owner: str, target: str, points: tuple[AutomationPoint, ...]) -> tuple[AutomationPoint, ...]:
    """A curve with `points` in the place of those that lay there."""
    old = next((a.points for a in curves_of(song, owner) if a.target == target), ())
    first, last = points[0].tick, points[-1].tick
    held = old or (AutomationPoint(0, standing(song, owner, target)),)

    def at(tick: int) -> AutomationPoint:
        return AutomationPoint(tick, round(value_at(held, tick), 5))

    before = (*(p for p in held if p.tick < first), *((at(first - 1),) if first > 0 else ()))
    after = (at(last + 1), *(p for p in held if p.tick > last + 1))
    return (*before, *points, *after)


def value_at(points: tuple[AutomationPoint, ...], tick: int) -> float:
    """On the straight line between two points: where a bent line is cut, it is cut once and bends no more."""
    before = next((p for p in reversed(points) if p.tick <= tick), None)
    after = next((p for p in points if p.tick > tick), None)
    if before is None or after is None:
        return (before or after or points[0]).value
    return before.value + (tick - before.tick) / (after.tick - before.tick) * (after.value - before.value)


@dataclass(frozen=True)
class DrawAutomation:
    """A line drawn from its first point to its last, on what stood: what the curve did there goes, everywhere else the value is
    what it was."""

    kind: ClassVar[str] = "draw_automation"
    owner: str
    target: str
    points: tuple[AutomationPoint, ...]

    def apply(self, song: Song) -> Song:
        if self.target not in automatable(song, self.owner):
            raise InvalidEdit(f"“{self.target}” can’t be automated there.")
        if not self.points or [p.tick for p in self.points] != sorted({p.tick for p in self.points}):
            raise InvalidEdit("A line has points in order of time.")
        return SetAutomation(self.owner, self.target, _over(song, self.owner, self.target, self.points)).apply(song)

    def sentence(self, song: Song) -> str:
        bar = song.grid.ticks_per_bar
        first, last = self.points[0].tick // bar + 1, max(0, self.points[-1].tick - 1) // bar + 1
        where = f"in bar {first}" if last <= first else f"in bars {first} to {last}"
        return f"{owner_name(song, self.owner)}: {target_name(self.target)} drawn {where}"


@dataclass(frozen=True)
class CopyAutomation:
    """What a curve does in one section done again in another, as far as that is long."""

    kind: ClassVar[str] = "copy_automation"
    owner: str
    target: str
    section: str
    to: str

    def apply(self, song: Song) -> Song:
        curve = next((a for a in curves_of(song, self.owner) if a.target == self.target), None)
        if curve is None:
            raise InvalidEdit("There is no curve to copy yet.")
        source, goal = section_of(song, self.section), section_of(song, self.to)
        starts = {s.id: song.grid.ticks_of_bar(bar) for bar, s in song.placed()}
        length = min(source.bars, goal.bars) * song.grid.ticks_per_bar
        first, shift = starts[source.id], starts[goal.id] - starts[source.id]
        inside = [p for p in curve.points if first <= p.tick < first + length]
        if not inside or inside[0].tick > first:
            held = next((p.value for p in reversed(curve.points) if p.tick <= first), curve.points[0].value)
            inside.insert(0, AutomationPoint(first, held))
        points = tuple(replace(p, tick=p.tick + shift) for p in inside)
        return SetAutomation(self.owner, self.target, _over(song, self.owner, self.target, points)).apply(song)

    def sentence(self, song: Song) -> str:
        where = f"{section_name(song, self.section)} copied to {section_name(song, self.to)}"
        return f"{owner_name(song, self.owner)}: {target_name(self.target)} of {where}"

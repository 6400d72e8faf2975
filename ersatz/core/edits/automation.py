"""Edits of automation: curves over the song for what a strip does."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, Literal, get_args

from ersatz.core.edits.arrangement import section_name, section_of, strip_of
from ersatz.core.edits.sound import figure
from ersatz.core.errors import InvalidEdit
from ersatz.core.song.bounds import Tick
from ersatz.core.song.document import Song, with_strip
from ersatz.core.song.strips import FADER, SENDS, Automation, AutomationPoint, Target
from ersatz.core.targets import Value, values_of

MOST_AUTOMATION_POINTS = 2000
Shape = Literal["rise", "fall", "pulse", "stairs"]
SHAPES: tuple[Shape, ...] = get_args(Shape)
STAIRS = 8
SPAN_DB, OPEN_SEND_DB = 18.0, -12.0


def automatable(song: Song, strip_id: str) -> dict[Target, Value]:
    """What of a strip may be automated. Raises InvalidEdit."""
    return values_of(song, strip_of(song, strip_id))


def _value(song: Song, target: Target) -> Value:
    found = automatable(song, target.strip).get(target)
    if found is None:
        raise InvalidEdit(f"“{target.param}” can’t be automated there.")
    return found


def _points_of(song: Song, target: Target) -> tuple[AutomationPoint, ...]:
    curve = strip_of(song, target.strip).curve(target.device, target.param)
    return curve.points if curve else ()


def described(song: Song, target: Target) -> str:
    """What a target is called."""
    if target.device == SENDS:
        return f"Send to {strip_of(song, target.param).name}"
    return _value(song, target).title


def _said(song: Song, target: Target) -> tuple[str, str]:
    """What strip and value are called in a sentence."""
    return strip_of(song, target.strip).name, described(song, target)


@dataclass(frozen=True)
class SetAutomation:
    """A curve over the song for a value of a strip; without points it is taken away."""

    kind: ClassVar[str] = "set_automation"
    target: Target
    points: tuple[AutomationPoint, ...]

    def apply(self, song: Song) -> Song:
        allowed = _value(song, self.target).param
        low, high = allowed.low, allowed.high
        ticks = [p.tick for p in self.points]
        if ticks != sorted(ticks) or len(ticks) > MOST_AUTOMATION_POINTS or any(t < 0 for t in ticks):
            raise InvalidEdit(f"An automation has up to {MOST_AUTOMATION_POINTS} points in order of time.")
        if any(not low <= p.value <= high or abs(p.curve) > 1 for p in self.points):
            raise InvalidEdit(f"Its values lie between {figure(low, '')} and {figure(high, '')}.")
        strip, (device, param) = strip_of(song, self.target.strip), (self.target.device, self.target.param)
        kept = (a for a in strip.automation if (a.device, a.param) != (device, param))
        drawn = (Automation(device, param, self.points),) if self.points else ()
        return with_strip(song, replace(strip, automation=(*kept, *drawn)))

    def sentence(self, song: Song) -> str:
        name, value = _said(song, self.target)
        return f"{name}: {value} {'automated' if self.points else 'no longer automated'}"


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


def usual_span(song: Song, target: Target) -> tuple[float, float]:
    """Between which values a shape goes where none are named: a level or a send up to where it stands (a closed send to -12 dB)
    from SPAN_DB under it, anything else through its range."""
    value = _value(song, target)
    low, high = value.param.low, value.param.high
    if target.device != SENDS and (target.device, target.param) != (FADER, "gain_db"):
        return low, high
    top = value.stands
    top = OPEN_SEND_DB if top <= low else top
    return max(low, top - SPAN_DB), top


@dataclass(frozen=True)
class ShapeAutomation:
    """A shape drawn over a stretch, `first` tick to `last`; what the curve did there goes, what it does elsewhere stays: behind the
    shape the value is again what it was. Without `low` and `high` it spans what is usual."""

    kind: ClassVar[str] = "shape_automation"
    target: Target
    shape: Shape
    first: Tick
    last: Tick
    low: float | None = None
    high: float | None = None

    def apply(self, song: Song) -> Song:
        _value(song, self.target)
        usual = usual_span(song, self.target)
        low, high = (given if given is not None else u for given, u in zip((self.low, self.high), usual))
        if not 0 <= self.first < self.last - song.grid.ticks_per_bar // 16:
            raise InvalidEdit("A shape is drawn over at least a 16th.")
        beat = song.grid.ticks_per_bar // song.grid.beats_per_bar
        points = shape_points(self.shape, self.first, self.last, low, high, beat)
        return SetAutomation(self.target, _over(song, self.target, points)).apply(song)

    def sentence(self, song: Song) -> str:
        name, value = _said(song, self.target)
        return f"{name}: {self.shape} of {value}"


def _over(song: Song, target: Target, points: tuple[AutomationPoint, ...]) -> tuple[AutomationPoint, ...]:
    """A curve with `points` in the place of those that lay there."""
    first, last = points[0].tick, points[-1].tick
    held = _points_of(song, target) or (AutomationPoint(0, _value(song, target).stands),)

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
    target: Target
    points: tuple[AutomationPoint, ...]

    def apply(self, song: Song) -> Song:
        _value(song, self.target)
        if not self.points or [p.tick for p in self.points] != sorted({p.tick for p in self.points}):
            raise InvalidEdit("A line has points in order of time.")
        return SetAutomation(self.target, _over(song, self.target, self.points)).apply(song)

    def sentence(self, song: Song) -> str:
        bar = song.grid.ticks_per_bar
        first, last = self.points[0].tick // bar + 1, max(0, self.points[-1].tick - 1) // bar + 1
        where = f"in bar {first}" if last <= first else f"in bars {first} to {last}"
        name, value = _said(song, self.target)
        return f"{name}: {value} drawn {where}"


@dataclass(frozen=True)
class CopyAutomation:
    """What a curve does in one section done again in another, as far as that is long."""

    kind: ClassVar[str] = "copy_automation"
    target: Target
    section: str
    to: str

    def apply(self, song: Song) -> Song:
        drawn = _points_of(song, self.target)
        if not drawn:
            raise InvalidEdit("There is no curve to copy yet.")
        source, goal = section_of(song, self.section), section_of(song, self.to)
        starts = {s.id: song.grid.ticks_of_bar(bar) for bar, s in song.placed()}
        length = min(source.bars, goal.bars) * song.grid.ticks_per_bar
        first, shift = starts[source.id], starts[goal.id] - starts[source.id]
        inside = [p for p in drawn if first <= p.tick < first + length]
        if not inside or inside[0].tick > first:
            held = next((p.value for p in reversed(drawn) if p.tick <= first), drawn[0].value)
            inside.insert(0, AutomationPoint(first, held))
        points = tuple(replace(p, tick=p.tick + shift) for p in inside)
        return SetAutomation(self.target, _over(song, self.target, points)).apply(song)

    def sentence(self, song: Song) -> str:
        where = f"{section_name(song, self.section)} copied to {section_name(song, self.to)}"
        name, value = _said(song, self.target)
        return f"{name}: {value} of {where}"

"""A strip: what passes audio. A part's output, a bus, a return and the master are strips, and all go through the same: gain before
the chain, chain of effects, fader, pan, width, ducking, sends, output.

Levels are dB, positions ticks. What is named by id: the strip that it goes to, the returns that it sends to, the curve that ducks
it, the effects of its chain.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from itertools import count
from math import inf
from typing import Annotated, Literal, TypeVar

from ersatz.core.serial import Most, Within
from ersatz.core.song.bounds import Curve, Decibels, Depth, Hertz, Id, Name, Seed, Share, Tick, Value

MASTER = "master"
#: Devices of a strip that are no effects: its fader, its sends, a part's voice.
FADER, SENDS, VOICE = "fader", "sends", "voice"
#: A send at this level or under is closed; none is higher than that.
CLOSED_DB, SEND_HIGH_DB = -60.0, 12.0
MOST_WIDTH = 2.0
#: Option of an effect that adds to its input: only what is added is let through, as on a return.
NO_DRY = "taken out"


@dataclass(frozen=True)
class Effect:
    """One effect of a chain. `blend` 0..1 mixes it in; it works only above `above_hz` and below `below_hz` where these aren't 0,
    and only on the middle or the sides where `channel` says so: effects with a band or a channel of their own are a split.
    `shape`: a drawn curve, 0..1. `sidechain`: the part whose sound steers it, "" for its own input. Switched off, it passes its
    input at `bypass_db`, the gain by which the effect changed the loudness when it was measured, so that on and off are compared at
    the same level."""

    kind: Id
    params: Annotated[dict[str, Value], Most(100)] = field(default_factory=dict)
    choices: Annotated[dict[str, Id], Most(50)] = field(default_factory=dict)
    on: bool = True
    blend: Share = 1.0
    above_hz: Hertz = 0.0
    below_hz: Hertz = 0.0
    channel: Literal["both", "mid", "side"] = "both"
    shape: Curve = ()
    sidechain: Id = ""
    bypass_db: Decibels = 0.0
    #: Its own within the chain, whatever place it takes; "" until it stands in one.
    id: Id = ""


def identified(chain: tuple[Effect, ...], gone: Iterable[str] = ()) -> tuple[Effect, ...]:
    """A chain in which every effect has an id of its own: those without one, and of two with the same one the later, get the first
    of e1, e2, ... that is free and not among `gone`."""
    taken = {e.id for e in chain if e.id}
    if len(taken) == len(chain):
        return chain
    taken |= set(gone)
    fresh = (name for k in count(1) if (name := f"e{k}") not in taken)
    seen: set[str] = set()
    out = []
    for effect in chain:
        out.append(effect if effect.id and effect.id not in seen else replace(effect, id=next(fresh)))
        seen.add(effect.id)
    return tuple(out)


@dataclass(frozen=True)
class Target:
    """A value of a strip that can be moved. `device`: FADER (values gain_db, pan, width), SENDS (a return's id), VOICE (a parameter
    of a part's voice) or the id of an effect of its chain (a parameter, or "blend")."""

    strip: Id
    device: Id
    param: Id


@dataclass(frozen=True)
class AutomationPoint:
    """`curve` -1..1 bends the way to the next point: 0 is straight, 1 fast at first."""

    tick: Tick
    value: Value
    curve: Annotated[float, Within(-1, 1)] = 0.0


@dataclass(frozen=True)
class Automation:
    """A value of the strip that it lies in over the song; device and param as in a Target. Before the first point and after the
    last the value stands still."""

    device: Id
    param: Id
    points: Annotated[tuple[AutomationPoint, ...], Most(20_000)]

    def __post_init__(self) -> None:
        ticks = [p.tick for p in self.points]
        if not ticks or ticks != sorted(ticks):
            raise ValueError("an automation has points in order of time")


@dataclass(frozen=True)
class Move:
    """By how much a modulator moves a value at its full height: in the unit that the parameter is moved in (octaves, semitones), or
    in the value's own."""

    target: Target
    amount: Annotated[float, Within(-1e4, 1e4)]


@dataclass(frozen=True)
class Modulator:
    """What moves values of the strip that it lies in or of others. With `follows` a follower of that part's level, 0 at 48 dB under
    full scale to 1 at full scale, by `attack_ms` and `release_ms`: of its notes at its fader, without its effects. Else an LFO,
    -1..1: `rate` a note length, or "Hz" for `rate_hz`; `start`: its cycles run with the song, or begin anew with each hit of the
    part that it lies in; then `once`: one cycle, whose end stands; `points`: the drawn cycle, joined by lines; `phase` 0..1 of a
    cycle in front; `seed`: of the random one. A follower moves no parameter of a voice: notes are made before their level is."""

    id: Id
    shape: Literal["sine", "triangle", "rise", "fall", "square", "random", "drawn"] = "sine"
    rate: Id = "1/4"
    rate_hz: Annotated[float, Within(0.001, 100)] = 1.0
    phase: Share = 0.0
    start: Literal["with the song", "with the hits"] = "with the song"
    once: bool = False
    points: Curve = ()
    moves: Annotated[tuple[Move, ...], Most(32)] = ()
    on: bool = True
    seed: Seed = 0
    follows: Id = ""
    attack_ms: Annotated[float, Within(0, 1000)] = 10.0
    release_ms: Annotated[float, Within(1, 5000)] = 150.0


@dataclass(frozen=True)
class Send:
    """How loud a strip goes to a return, behind its fader or before it."""

    db: Decibels
    before_fader: bool = False


@dataclass(frozen=True)
class Duck:
    """A strip pulled down along one of the song's ducking curves, by `depth_db` at its lowest point."""

    curve: Id
    depth_db: Depth


@dataclass(frozen=True, kw_only=True)
class Strip:
    """In the order of the signal: `gain_in_db`, `chain`, `width` (0 mono, 1 as it comes, 2 twice as wide) with everything under
    `mono_below_hz` in the middle, `gain_db` (the fader), `pan` -1..1, `duck`, `sends` by the return's id, `out`, the strip that it
    goes to. `mute`: nothing leaves it; what it steers and triggers goes on."""

    id: Id
    name: Name
    out: Id = MASTER
    gain_in_db: Decibels = 0.0
    chain: Annotated[tuple[Effect, ...], Most(32)] = ()
    gain_db: Decibels = 0.0
    pan: Annotated[float, Within(-1, 1)] = 0.0
    width: Annotated[float, Within(0, 10)] = 1.0
    mono_below_hz: Annotated[float, Within(0, 2000)] = 0.0
    mute: bool = False
    duck: Duck | None = None
    sends: Annotated[dict[str, Send], Most(32)] = field(default_factory=dict)
    automation: Annotated[tuple[Automation, ...], Most(200)] = ()
    modulators: Annotated[tuple[Modulator, ...], Most(32)] = ()

    def __post_init__(self) -> None:
        object.__setattr__(self, "chain", identified(self.chain))

    def effect(self, effect_id: str) -> Effect | None:
        """Of the chain by id; None where there is none."""
        return next((e for e in self.chain if e.id == effect_id), None)

    def curve(self, device: str, param: str) -> Automation | None:
        """The automation of a device's value; None where it stands still."""
        return next((a for a in self.automation if (a.device, a.param) == (device, param)), None)

    @property
    def duck_db(self) -> float:
        """How far it is ducked, 0 for not at all."""
        return self.duck.depth_db if self.duck else 0.0

    def send_db(self, return_id: str) -> float:
        """CLOSED_DB where nothing is sent."""
        return self.sends[return_id].db if return_id in self.sends else CLOSED_DB


AnyStrip = TypeVar("AnyStrip", bound=Strip)


def sends_of(strip: Strip) -> set[str]:
    """Returns that a strip sends to, or may by its curves."""
    return set(strip.sends) | {a.param for a in strip.automation if a.device == SENDS}


def kept_automation(curves: tuple[Automation, ...], chain: tuple[Effect, ...]) -> tuple[Automation, ...]:
    """Curves of a strip without those of effects that its chain no longer holds."""
    here = {FADER, SENDS, VOICE} | {e.id for e in chain}
    return tuple(c for c in curves if c.device in here)


def ducked(curve: str, depth_db: float) -> Duck | None:
    """Ducking by a curve; None for no depth at all."""
    return Duck(curve, depth_db) if depth_db > 0 else None


def sending(levels_db: dict[str, float]) -> dict[str, Send]:
    """Sends to returns by id, behind the fader; closed ones are left out."""
    return {name: Send(db) for name, db in levels_db.items() if db > CLOSED_DB}


def with_fader(strip: AnyStrip, gain_db: float) -> AnyStrip:
    """A strip with its fader elsewhere, and what is drawn for the fader as much higher or lower."""
    return drawn_along(strip, replace(strip, gain_db=round(gain_db, 3)))


def with_send(strip: AnyStrip, to: str, send: Send) -> AnyStrip:
    """A strip with a send, and what is drawn for a send that it had as much higher or lower."""
    return drawn_along(strip, replace(strip, sends={**strip.sends, to: send}))


def drawn_along(was: Strip, strip: AnyStrip) -> AnyStrip:
    """A strip whose fader and sends stand elsewhere than they did, with what is drawn for these moved as far."""

    def moved(curve: Automation) -> Automation:
        if (curve.device, curve.param) == (FADER, "gain_db"):
            return _higher(curve, strip.gain_db - was.gain_db, (-inf, inf))
        if curve.device == SENDS and curve.param in was.sends and curve.param in strip.sends:
            by = strip.sends[curve.param].db - was.sends[curve.param].db
            return _higher(curve, by, (CLOSED_DB, SEND_HIGH_DB))
        return curve

    return replace(strip, automation=tuple(map(moved, strip.automation)))


def _higher(curve: Automation, by_db: float, within: tuple[float, float]) -> Automation:
    low, high = within
    if not by_db:
        return curve
    return replace(curve, points=tuple(replace(p, value=round(min(max(p.value + by_db, low), high), 4)) for p in curve.points))

"""Edits of strips: what a part's output, a bus, a return and the master have in common; which buses and returns there are."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated, Any, ClassVar, Literal

from ersatz.core.edits.arrangement import checked_name, fresh_id, part_of, strip_of
from ersatz.core.edits.sound import MOST_EFFECTS, check_range, figure
from ersatz.core.effects.chain import spec_of
from ersatz.core.errors import InvalidEdit
from ersatz.core.serial import Most
from ersatz.core.song.bounds import Decibels, Id
from ersatz.core.song.document import (
    MOST_BUSES,
    MOST_RETURNS,
    SPACES,
    Master,
    Song,
    settled,
    with_each,
    with_strip,
)
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import (
    CLOSED_DB,
    MASTER,
    SEND_HIGH_DB,
    SENDS,
    VOICE,
    AnyStrip,
    Modulator,
    Send,
    Strip,
    drawn_along,
    ducked,
    kept_automation,
    with_fader,
)
from ersatz.core.targets import STRIP_VALUES, value_of, values_of
from ersatz.core.voices.modulation import SYNCED_BEATS
from ersatz.core.words import minus

Figure = Literal["gain_in_db", "gain_db", "pan", "width", "mono_below_hz"]
MOST_DUCKED_DB = 40.0
MOST_MODULATORS = 8
RATES = ("Hz", *SYNCED_BEATS)
Space = Literal["reverb", "delay"]


def is_return(song: Song, strip: Strip) -> bool:
    """Whether a strip is one of the song's returns."""
    return any(r.id == strip.id for r in song.returns)


def _rewired(song: Song, strip: Strip, through: Strip) -> Song:
    """The song with a strip that goes or sends elsewhere. Raises InvalidEdit for a circle."""
    try:
        return with_strip(song, strip)
    except ValueError as error:
        raise InvalidEdit(f"{strip.name} would come back to itself through {through.name}.") from error


def _with(strip: AnyStrip, name: str, value: float) -> AnyStrip:
    values: dict[str, Any] = {name: value}
    return replace(strip, **values)


@dataclass(frozen=True)
class SetStrip:
    """A figure of a strip. Where its level is drawn over the song, the curve goes up or down with the fader."""

    kind: ClassVar[str] = "set_strip"
    strip: str
    name: Figure
    value: float

    def apply(self, song: Song) -> Song:
        strip, param = strip_of(song, self.strip), STRIP_VALUES[self.name]
        check_range(param, self.value)
        value = round(self.value, 3)
        return with_strip(song, with_fader(strip, value) if self.name == "gain_db" else _with(strip, self.name, value))

    def sentence(self, song: Song) -> str:
        name, param = strip_of(song, self.strip).name, STRIP_VALUES[self.name]
        if self.name == "gain_db":
            return minus(f"{name} at {self.value:+.1f} dB")
        return f"{name}: {param.title} {figure(self.value, param.unit)}"


@dataclass(frozen=True)
class MuteStrip:
    kind: ClassVar[str] = "mute_strip"
    strip: str
    mute: bool

    def apply(self, song: Song) -> Song:
        return with_strip(song, replace(strip_of(song, self.strip), mute=self.mute))

    def sentence(self, song: Song) -> str:
        return f"{strip_of(song, self.strip).name} {'muted' if self.mute else 'no longer muted'}"


@dataclass(frozen=True)
class SetSend:
    """How loud a strip goes to a return; at CLOSED_DB not at all."""

    kind: ClassVar[str] = "set_send"
    strip: str
    to: str
    db: Decibels
    before_fader: bool = False

    def apply(self, song: Song) -> Song:
        strip, to = strip_of(song, self.strip), strip_of(song, self.to)
        if not is_return(song, to) or isinstance(strip, Master):
            raise InvalidEdit(f"{strip.name} can’t be sent to {to.name}.")
        if self.db > SEND_HIGH_DB:
            raise InvalidEdit(f"A send is at most at {SEND_HIGH_DB:+.0f} dB.")
        others = {name: send for name, send in strip.sends.items() if name != to.id}
        sends = others if self.db <= CLOSED_DB else {**others, to.id: Send(round(self.db, 2), self.before_fader)}
        curves = strip.automation
        if to.id not in sends and not isinstance(strip, Part):
            # A bus sends where it is wired to; its curve would wire it on.
            curves = tuple(c for c in curves if (c.device, c.param) != (SENDS, to.id))
        return _rewired(song, drawn_along(strip, replace(strip, sends=sends, automation=curves)), to)

    def sentence(self, song: Song) -> str:
        name, to = strip_of(song, self.strip).name, strip_of(song, self.to).name
        if self.db <= CLOSED_DB:
            return f"{name} no longer sent to {to}"
        return f"{name}: send to {to} {figure(self.db, 'dB')}{', before the fader' if self.before_fader else ''}"


@dataclass(frozen=True)
class SetOutput:
    """Where a strip goes: a bus or the master."""

    kind: ClassVar[str] = "set_output"
    strip: str
    out: str

    def apply(self, song: Song) -> Song:
        strip, out = strip_of(song, self.strip), strip_of(song, self.out)
        if isinstance(strip, Master) or isinstance(out, Part) or is_return(song, out):
            raise InvalidEdit("A part, a bus or a return goes to a bus or to the master.")
        return _rewired(song, replace(strip, out=out.id), out)

    def sentence(self, song: Song) -> str:
        return f"{strip_of(song, self.strip).name} goes to {strip_of(song, self.out).name}"


@dataclass(frozen=True)
class SetDuck:
    """How far a strip is pulled down, along which of the song's ducking curves: the one that it has, or else the first, where none
    is named. 0 dB: not at all."""

    kind: ClassVar[str] = "set_duck"
    strip: str
    depth_db: float
    curve: str = ""

    def apply(self, song: Song) -> Song:
        strip = strip_of(song, self.strip)
        if not 0 <= self.depth_db <= MOST_DUCKED_DB:
            raise InvalidEdit(f"Ducking lies between 0 and {MOST_DUCKED_DB:.0f} dB.")
        curve = self.curve or (strip.duck.curve if strip.duck else next((c.id for c in song.curves), ""))
        if self.depth_db and song.curve(curve) is None:
            raise InvalidEdit("This ducking curve isn’t there any more." if curve else "The song has no ducking curve yet.")
        return with_strip(song, replace(strip, duck=ducked(curve, round(self.depth_db, 2))))

    def sentence(self, song: Song) -> str:
        strip, curve = strip_of(song, self.strip), song.curve(self.curve)
        if not self.depth_db:
            return f"{strip.name} not ducked"
        return f"{strip.name} ducked by {self.depth_db:.1f} dB{f' along {curve.name}' if curve else ''}"


@dataclass(frozen=True)
class AddBus:
    """A bus into the master, or into another bus; the strips `of` go to it."""

    kind: ClassVar[str] = "add_bus"
    name: str
    out: str = MASTER
    of: Annotated[tuple[Id, ...], Most(64)] = ()

    def apply(self, song: Song) -> Song:
        if len(song.buses) >= MOST_BUSES:
            raise InvalidEdit(f"A song has at most {MOST_BUSES} buses.")
        bus = Strip(id=fresh_id({s.id for s in song.strips()}, "bus:"), name=checked_name(self.name))
        song = SetOutput(bus.id, self.out).apply(replace(song, buses=(*song.buses, bus)))
        for strip in self.of:
            song = SetOutput(strip, bus.id).apply(song)
        return song

    def sentence(self, song: Song) -> str:
        return f"Bus {self.name.strip()} added"


@dataclass(frozen=True)
class AddReturn:
    """A return with a reverb or a delay, to which nothing is sent yet."""

    kind: ClassVar[str] = "add_return"
    name: str
    space: Space = "reverb"

    def apply(self, song: Song) -> Song:
        if len(song.returns) >= MOST_RETURNS:
            raise InvalidEdit(f"A song has at most {MOST_RETURNS} returns.")
        made = fresh_id({s.id for s in song.strips()}, "return:")
        added = Strip(id=made, name=checked_name(self.name), chain=(SPACES[self.space],))
        return replace(song, returns=(*song.returns, added))

    def sentence(self, song: Song) -> str:
        return f"Return {self.name.strip()} added"


@dataclass(frozen=True)
class RenameStrip:
    kind: ClassVar[str] = "rename_strip"
    strip: str
    name: str

    def apply(self, song: Song) -> Song:
        return with_strip(song, replace(strip_of(song, self.strip), name=checked_name(self.name)))

    def sentence(self, song: Song) -> str:
        return f"{strip_of(song, self.strip).name} is now called {self.name.strip()}"


@dataclass(frozen=True)
class DeleteStrip:
    """A bus or a return. What went to the bus goes where the bus went; what was sent to the return isn't any more."""

    kind: ClassVar[str] = "delete_strip"
    strip: str

    def _bus_or_return(self, song: Song) -> Strip:
        gone = strip_of(song, self.strip)
        if isinstance(gone, (Part, Master)):
            raise InvalidEdit(f"{gone.name} is no bus and no return.")
        return gone

    def apply(self, song: Song) -> Song:
        gone = self._bus_or_return(song)

        def without(strip: AnyStrip) -> AnyStrip:
            return replace(
                strip,
                out=gone.out if strip.out == gone.id else strip.out,
                sends={to: send for to, send in strip.sends.items() if to != gone.id},
                automation=tuple(c for c in strip.automation if (c.device, c.param) != (SENDS, gone.id)),
            )

        # Transitions that worked on it and on nothing else go with it: on nothing named they would work on the usual ones.
        transitions = tuple(
            replace(t, on=tuple(o for o in t.on if o != gone.id)) for t in song.transitions if t.on != (gone.id,)
        )  # fmt: skip
        left = with_each(song, without)
        left = replace(
            left,
            buses=tuple(b for b in left.buses if b.id != gone.id),
            returns=tuple(r for r in left.returns if r.id != gone.id),
            transitions=transitions,
        )
        return settled(left)

    def sentence(self, song: Song) -> str:
        return f"{self._bus_or_return(song).name} deleted"


@dataclass(frozen=True)
class CopyChain:
    """A strip's effects behind those of another, or in their place. What steers them goes with them; what would steer itself
    doesn't."""

    kind: ClassVar[str] = "copy_chain"
    strip: str
    to: str
    instead: bool = False

    def apply(self, song: Song) -> Song:
        strip, to = strip_of(song, self.strip), strip_of(song, self.to)
        if strip.id == to.id:
            raise InvalidEdit("Effects are copied to another strip.")
        copied = tuple(replace(e, id="", sidechain="" if e.sidechain == to.id else e.sidechain) for e in strip.chain)
        chain = copied if self.instead else (*to.chain, *copied)
        if len(chain) > MOST_EFFECTS:
            raise InvalidEdit(f"A chain has at most {MOST_EFFECTS} effects.")
        kept = kept_automation(to.automation, () if self.instead else to.chain)
        return settled(with_strip(song, replace(to, chain=chain, automation=kept)))

    def sentence(self, song: Song) -> str:
        strip, to = strip_of(song, self.strip), strip_of(song, self.to)
        effects = ", ".join(spec_of(e).title for e in strip.chain) or "no effects"
        return f"{to.name}: {effects} of {strip.name} {'loaded' if self.instead else 'added'}"


@dataclass(frozen=True)
class SwitchChain:
    """All effects of a strip on, or off; `bypass_db`: what they add to its loudness, which is then kept."""

    kind: ClassVar[str] = "switch_chain"
    strip: str
    on: bool
    bypass_db: Decibels = 0.0

    def apply(self, song: Song) -> Song:
        strip = strip_of(song, self.strip)
        if not strip.chain:
            raise InvalidEdit(f"{strip.name} has no effects.")
        kept = (0.0 if self.on else round(self.bypass_db, 2), *(0.0 for _ in strip.chain[1:]))
        chain = tuple(replace(e, on=self.on, bypass_db=db) for e, db in zip(strip.chain, kept))
        return with_strip(song, replace(strip, chain=chain))

    def sentence(self, song: Song) -> str:
        return f"{strip_of(song, self.strip).name}: all effects {'on' if self.on else 'off'}"


@dataclass(frozen=True)
class SetCuts:
    """Where a part's notes are cut, in front of everything else; 0 for not at all."""

    kind: ClassVar[str] = "set_cuts"
    part: str
    low_cut_hz: float
    high_cut_hz: float

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        for hz, low, high, title in ((self.low_cut_hz, 16, 4000, "low cut"), (self.high_cut_hz, 200, 20_000, "high cut")):
            if hz and not low <= hz <= high:
                raise InvalidEdit(f"A {title} lies between {low} and {high} Hz.")
        return with_strip(song, replace(part, low_cut_hz=round(self.low_cut_hz, 1), high_cut_hz=round(self.high_cut_hz, 1)))

    def sentence(self, song: Song) -> str:
        low, high = (figure(hz, "Hz") if hz else "none" for hz in (self.low_cut_hz, self.high_cut_hz))
        return f"{part_of(song, self.part).name}: low cut {low}, high cut {high}"


@dataclass(frozen=True)
class SetModulators:
    """The LFOs and followers of a strip, which move values of this strip or of others."""

    kind: ClassVar[str] = "set_modulators"
    strip: str
    modulators: Annotated[tuple[Modulator, ...], Most(MOST_MODULATORS)]

    def apply(self, song: Song) -> Song:
        strip = strip_of(song, self.strip)
        if len({m.id for m in self.modulators}) != len(self.modulators) or not all(m.id for m in self.modulators):
            raise InvalidEdit("Modulators have ids of their own.")
        for modulator in self.modulators:
            if modulator.rate not in RATES:
                raise InvalidEdit(f"A modulator’s rate is one of {', '.join(RATES)}.")
            if modulator.follows and song.part(modulator.follows) is None:
                raise InvalidEdit("A follower follows a part of the song.")
            for move in modulator.moves:
                if move.target not in values_of(song, strip_of(song, move.target.strip)):
                    raise InvalidEdit(f"“{move.target.param}” can’t be moved there.")
                if modulator.follows and move.target.device == VOICE:
                    raise InvalidEdit("A follower moves faders, sends and effects: notes are made before their level is.")
        return with_strip(song, replace(strip, modulators=self.modulators))

    def sentence(self, song: Song) -> str:
        strip = strip_of(song, self.strip)
        if len(self.modulators) < len(strip.modulators):
            return f"{strip.name}: a modulator less"
        changed = next((m for m in self.modulators if m not in strip.modulators), None)
        if changed is None or not changed.moves:
            return f"{strip.name}: modulators"
        target = changed.moves[0].target
        moved = strip_of(song, target.strip)
        value = value_of(moved, target.device, target.param)
        of = "" if moved.id == strip.id else f" of {moved.name}"
        return f"{strip.name}: LFO moves {value.title if value else target.param}{of}"

"""The song: sections, parts with patterns and sounds, buses, returns, master, ducking curves. Frozen, JSON in and out.

Everything that passes audio is a strip (strips.py); a part is a strip and what it plays (parts.py). Sections follow each other
without gaps; a section's bars are counted from the sections before it. Levels are dB.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import Annotated, Any, Literal, get_args

from ersatz.core.errors import UnusableDocument
from ersatz.core.grid import MAX_BPM, MIN_BPM, BarGrid
from ersatz.core.pitch import Key
from ersatz.core.serial import Most, Within, from_json, to_json
from ersatz.core.song.bounds import MAX_BARS, Beats, Decibels, Id, Name, Seed, Share
from ersatz.core.song.migrate import OLDEST, brought_up
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import FADER, MASTER, NO_DRY, SENDS, VOICE, AnyStrip, Effect, Strip, Target, sends_of

SCHEMA = "ersatz.song/5"
#: The buses and returns that a song begins with.
DRUMS, BASS, MUSIC, EFFECTS_BUS = "bus:drums", "bus:bass", "bus:music", "bus:effects"
REVERB_RETURN, DELAY_RETURN = "return:reverb", "return:delay"
#: The ducking curve that a draft follows the reference's pump with.
PUMP = "pump"
DUCK_POINTS = 64
PHRASE_BARS = 4
#: Parts that are added; those that transitions bring with them come on top.
MOST_PARTS = 64
MOST_BUSES, MOST_RETURNS, MOST_CURVES = 32, 16, 32
Rate = Literal["1/4", "1/8", "hits"]
Label = Literal["intro", "build", "drop", "breakdown", "bridge", "outro"]
TransitionKind = Literal[
    "riser", "fall", "snare roll", "drum fill", "low-cut sweep", "high-cut sweep", "wash", "gap", "reverse swell", "impact",
    "crash", "slow-down", "echo throw",
]  # fmt: skip


@dataclass(frozen=True)
class SongSection:
    """`levels_db`: how loud each phrase of PHRASE_BARS plays, all parts alike; phrases beyond the list play at 0 dB. `ducks`:
    whether the ducker is triggered here. `name`: what the producer calls it, "" for its label."""

    id: Id
    label: Label
    bars: int
    levels_db: Annotated[tuple[Decibels, ...], Most(MAX_BARS)] = ()
    ducks: bool = True
    name: Name = ""

    def __post_init__(self) -> None:
        if not 1 <= self.bars <= MAX_BARS:
            raise ValueError("a section has at least one bar")

    def level_db(self, bar: int) -> float:
        """Level of the phrase that holds 0-based `bar` of the section."""
        phrase = bar // PHRASE_BARS
        return self.levels_db[phrase] if phrase < len(self.levels_db) else 0.0


@dataclass(frozen=True)
class Transition:
    """What happens where `section` ends: over its last `beats`, or over the first ones behind it (transitions/). `amount`
    0..1: how much of it. `on`: the parts, or buses, that it is made of or works on; empty for the usual ones. `rhythm`: of a
    roll. `seed` chooses a fill."""

    id: Id
    kind: TransitionKind
    section: Id
    beats: Beats
    amount: Share = 0.7
    on: Annotated[tuple[Id, ...], Most(100)] = ()
    rhythm: Id = ""
    seed: Seed = 0


@dataclass(frozen=True)
class DuckCurve:
    """How strips step back after a trigger. `shape` has DUCK_POINTS points over one beat from the trigger on, 0 = untouched, 1 =
    fully down; strips scale it. Triggered at every step of `rate`, or ("hits") by the notes of the parts `triggers`; where none is
    named, by the first kick's. A muted part goes on triggering, and so does one that rests in a section."""

    id: Id
    name: Name
    rate: Rate
    shape: Annotated[tuple[Share, ...], Most(DUCK_POINTS)]
    triggers: Annotated[tuple[Id, ...], Most(32)] = ()

    def __post_init__(self) -> None:
        if len(self.shape) != DUCK_POINTS:
            raise ValueError(f"a ducking curve has {DUCK_POINTS} points")


@dataclass(frozen=True)
class EqBand:
    """A peaking band (bell)."""

    hz: Annotated[float, Within(1, 1e5)]
    gain_db: Decibels
    q: Annotated[float, Within(0.01, 100)]


@dataclass(frozen=True, kw_only=True)
class Master(Strip):
    """Where everything ends. In the order of the signal: width and mono, `low_cut_hz` and `eq`, chain, fader, clipping, limiting to
    `ceiling_dbtp`. `target_lufs`: the integrated loudness that it is brought to when it is matched; None where nobody said it."""

    id: Id = MASTER
    name: Name = "Master"
    out: Id = ""
    mono_below_hz: Annotated[float, Within(0, 2000)] = 110.0
    eq: Annotated[tuple[EqBand, ...], Most(64)] = ()
    low_cut_hz: Annotated[float, Within(1, 2000)] = 25.0
    ceiling_dbtp: Annotated[float, Within(-60, 0)] = -1.0
    target_lufs: Annotated[float, Within(-60, 0)] | None = None


def standard_buses() -> tuple[Strip, ...]:
    """Drums, bass and music, as every song begins."""
    names = {DRUMS: "Drums", BASS: "Bass", MUSIC: "Music", EFFECTS_BUS: "Effects"}
    return tuple(Strip(id=bus, name=name) for bus, name in names.items())


def standard_returns() -> tuple[Strip, ...]:
    """A room and dotted echoes from side to side."""
    return (
        Strip(id=REVERB_RETURN, name="Reverb", chain=(SPACES["reverb"],)),
        Strip(id=DELAY_RETURN, name="Delay", chain=(SPACES["delay"],)),
    )


ROOM = {"decay_s": 1.8, "pre_delay_ms": 18.0, "low_cut_hz": 280.0, "high_cut_hz": 8500.0, "level_db": 0.0}
ECHOES = {"feedback": 0.42, "low_cut_hz": 350.0, "high_cut_hz": 5500.0, "level": 1.0}
#: What a return is made with.
SPACES = {
    "reverb": Effect("reverb", ROOM, {"kind": "room", "dry": NO_DRY}),
    "delay": Effect("delay", ECHOES, {"time": "1/8 dotted", "mode": "alternating", "dry": NO_DRY}),
}


@dataclass(frozen=True)
class Song:
    """`bpm`: quarter notes per minute; bars have four. `tonic` as pitch.TONICS spells it, `mode` "major" or "minor".
    `swing_percent`: where every second 16th lies in its 8th, 50 straight. `curves`: the ducking curves that strips take. `seed`:
    of everything that chance decides. `style`: the one that it was drafted in, "" for none."""

    title: Name
    bpm: float
    tonic: str
    mode: str
    swing_percent: Annotated[float, Within(50, 80)]
    sections: Annotated[tuple[SongSection, ...], Most(MAX_BARS)]
    parts: Annotated[tuple[Part, ...], Most(MOST_PARTS + len(get_args(TransitionKind)))]
    buses: Annotated[tuple[Strip, ...], Most(MOST_BUSES)] = field(default_factory=standard_buses)
    returns: Annotated[tuple[Strip, ...], Most(MOST_RETURNS)] = field(default_factory=standard_returns)
    master: Master = field(default_factory=Master)
    curves: Annotated[tuple[DuckCurve, ...], Most(MOST_CURVES)] = ()
    transitions: Annotated[tuple[Transition, ...], Most(1000)] = ()
    seed: Seed = 0
    style: Id = ""

    def __post_init__(self) -> None:
        if not MIN_BPM <= self.bpm <= MAX_BPM:
            raise ValueError(f"the tempo must lie between {MIN_BPM:.0f} and {MAX_BPM:.0f} BPM")
        if not self.sections:
            raise ValueError("a song has at least one section")
        if sum(s.bars for s in self.sections) > MAX_BARS:
            raise ValueError(f"a song has at most {MAX_BARS} bars")
        Key(self.tonic, self.mode)
        check_wiring(self)

    @property
    def grid(self) -> BarGrid:
        """Bars and beats to seconds and back."""
        return BarGrid(self.bpm)

    @property
    def key(self) -> Key:
        """As the note functions take it."""
        return Key(self.tonic, self.mode)

    @property
    def bars(self) -> int:
        """Length of all sections."""
        return sum(s.bars for s in self.sections)

    def placed(self) -> Iterator[tuple[int, SongSection]]:
        """Each section with its 1-based first bar."""
        bar = 1
        for section in self.sections:
            yield bar, section
            bar += section.bars

    def part(self, part_id: str) -> Part | None:
        """By id; None where there is none."""
        return next((p for p in self.parts if p.id == part_id), None)

    def strips(self) -> Iterator[Strip]:
        """Parts, buses, returns, the master."""
        yield from self.parts
        yield from self.buses
        yield from self.returns
        yield self.master

    def strip(self, strip_id: str) -> Strip | None:
        """Part, bus, return or master by id; None where there is none."""
        return next((s for s in self.strips() if s.id == strip_id), None)

    def curve(self, curve_id: str) -> DuckCurve | None:
        """A ducking curve by id; None where there is none."""
        return next((c for c in self.curves if c.id == curve_id), None)

    def return_with(self, effect: str) -> tuple[Strip, Effect] | None:
        """The first return that an effect of this kind works in, and the effect."""
        return next(((r, e) for r in self.returns for e in r.chain if e.kind == effect), None)

    def gap_beats(self, section_id: str) -> float:
        """Beats at the end of a section in which everything is silent."""
        return max((t.beats for t in self.transitions if t.kind == "gap" and not t.on and t.section == section_id), default=0.0)

    def to_json(self) -> dict[str, Any]:
        """The document as plain values."""
        return {"schema": SCHEMA, **to_json(self)}

    @staticmethod
    def from_json(data: Any) -> Song:
        """Of any format since the first. Raises UnusableDocument."""
        data = brought_up(data)
        if not isinstance(data, dict) or data.get("schema") != SCHEMA:
            raise UnusableDocument(f"This is not a song of format “{OLDEST}” to “{SCHEMA}”.")
        return from_json(Song, data)

    def sha(self) -> str:
        """Identity of everything that sounds: names don't, nor do versions that are kept beside."""
        return sha_of(self.to_json())


def check_wiring(song: Song) -> None:
    """Raises ValueError where strips share an id, or one goes, sends or listens to what isn't there, or to itself by any way."""
    ids = [s.id for s in song.strips()]
    if len(set(ids)) != len(ids):
        raise ValueError("two strips have one id")
    if song.master.id != MASTER or song.master.out or song.master.sends:
        raise ValueError("the master is where everything ends")
    buses, returns = {b.id for b in song.buses}, {r.id for r in song.returns}
    curves = {c.id for c in song.curves}
    if len(curves) != len(song.curves):
        raise ValueError("two ducking curves have one id")
    for strip in song.strips():
        if strip.id != MASTER and strip.out != MASTER and strip.out not in buses:
            raise ValueError(f"“{strip.id}” goes to “{strip.out}”, which is no bus")
        if not sends_of(strip) <= returns:
            raise ValueError(f"“{strip.id}” sends to what is no return")
        if strip.duck and strip.duck.curve not in curves:
            raise ValueError(f"“{strip.id}” is ducked by a curve that isn't there")
    parts = {p.id: p for p in song.parts}
    for part in song.parts:
        if part.follows and part.follows.part not in parts:
            raise ValueError(f"“{part.id}” follows what isn't there")
    follows = {p.id: [p.follows.part] for p in song.parts if p.follows}
    if any(part_id in onward(part_id, follows) for part_id in follows):
        raise ValueError("a layer follows itself")
    goes_to = {s.id: [s.out, *sends_of(s)] for s in (*song.buses, *song.returns)}
    if any(strip_id in onward(strip_id, goes_to) for strip_id in goes_to):
        raise ValueError("a bus or a return goes to itself")


def onward(strip_id: str, goes_to: dict[str, list[str]]) -> set[str]:
    """Everything that a strip reaches."""
    reached: set[str] = set()
    ahead = list(goes_to.get(strip_id, []))
    while ahead:
        following = ahead.pop()
        if following not in reached:
            reached.add(following)
            ahead += goes_to.get(following, [])
    return reached


def fitted(song: Song, strip: AnyStrip) -> AnyStrip:
    """A strip for this song: what it goes to, sends to and is ducked by only as far as that is there."""
    returns = {r.id for r in song.returns}
    return replace(
        strip,
        out=strip.out if strip.out == MASTER or any(b.id == strip.out for b in song.buses) else MASTER,
        sends={to: send for to, send in strip.sends.items() if to in returns},
        duck=strip.duck if strip.duck and song.curve(strip.duck.curve) else None,
    )


def with_strip(song: Song, strip: Strip) -> Song:
    """The song with this strip in the place of the one of the same id."""
    if isinstance(strip, Master):
        return replace(song, master=strip)
    if isinstance(strip, Part):
        return replace(song, parts=_with(song.parts, strip))
    return replace(song, buses=_with(song.buses, strip), returns=_with(song.returns, strip))


def with_each(song: Song, change: Callable[[AnyStrip], AnyStrip]) -> Song:
    """The song with every strip changed in the same way."""
    return replace(
        song,
        parts=tuple(change(p) for p in song.parts),  # type: ignore[arg-type, misc]
        buses=tuple(change(b) for b in song.buses),  # type: ignore[arg-type]
        returns=tuple(change(r) for r in song.returns),  # type: ignore[arg-type]
        master=change(song.master),  # type: ignore[arg-type]
    )


def settled(song: Song) -> Song:
    """The song without moves of modulators whose value isn't there any more, and without followers of parts that aren't."""
    devices = {s.id: {FADER, SENDS, VOICE} | {e.id for e in s.chain} for s in song.strips()}
    returns, followed = {r.id for r in song.returns}, {"", *(p.id for p in song.parts)}

    def there(target: Target) -> bool:
        if target.device == SENDS and target.param not in returns:
            return False
        return target.device in devices.get(target.strip, ())

    def of(strip: AnyStrip) -> AnyStrip:
        if all(m.follows in followed and all(there(move.target) for move in m.moves) for m in strip.modulators):
            return strip
        kept = (
            replace(m, moves=tuple(move for move in m.moves if there(move.target)))
            for m in strip.modulators if m.follows in followed
        )  # fmt: skip
        return replace(strip, modulators=tuple(kept))

    return with_each(song, of)


def _with(strips: tuple[AnyStrip, ...], strip: AnyStrip) -> tuple[AnyStrip, ...]:
    return tuple(strip if s.id == strip.id else s for s in strips)


def sha_of(document: dict[str, Any]) -> str:
    """`Song.sha` of a song's JSON."""
    parts = [{**part, "name": "", "cells": [{**cell, "other": None} for cell in part["cells"]]} for part in document["parts"]]
    nameless = {kind: [{**row, "name": ""} for row in document[kind]] for kind in ("sections", "buses", "returns", "curves")}
    return digest({**document, **nameless, "title": "", "parts": parts, "master": {**document["master"], "name": ""}})


def digest(value: Any) -> str:
    """Short stable hash of JSON-ready data."""
    text = json.dumps(value, sort_keys=True, separators=(",", ":"))
    return hashlib.blake2b(text.encode(), digest_size=12).hexdigest()

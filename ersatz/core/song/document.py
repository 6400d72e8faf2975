"""The song: sections, parts with patterns and sounds, ducking, buses, returns, master. Frozen, JSON in and out.

Positions are ticks (960 per quarter note) from the start of a pattern; a pattern repeats through its cell. Levels are dB.
Sections follow each other without gaps; a section's bars are counted from the sections before it.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from itertools import count
from typing import Annotated, Any, Literal, get_args

from ersatz.core.errors import UnusableDocument
from ersatz.core.grid import MAX_BPM, MIN_BPM, TICKS_PER_BEAT, BarGrid
from ersatz.core.pitch import Key
from ersatz.core.serial import Most, Within, from_json, to_json
from ersatz.core.song.migrate import from_version_1, from_version_2, with_named_effects

SCHEMA = "ersatz.song/3"
BUSES = ("drums", "bass", "music", "effects")
RETURNS = ("reverb", "delay")
MASTER = "master"
DUCK_POINTS = 64
PHRASE_BARS = 4
MIN_LOOP_TICKS = TICKS_PER_BEAT // 4
MAX_BARS = 1000
#: Parts that are added; those that transitions bring with them come on top.
MOST_PARTS = 64
MOST_PATTERN_BARS = 64
Role = Literal["kick", "clap", "hats", "perc", "bass", "chords", "lead", "noise", "impact"]
Rate = Literal["1/4", "1/8", "kick"]
Label = Literal["intro", "build", "drop", "breakdown", "bridge", "outro"]
TransitionKind = Literal[
    "riser", "fall", "snare roll", "drum fill", "low-cut sweep", "high-cut sweep", "wash", "gap", "reverse swell", "impact",
    "crash", "slow-down", "echo throw",
]  # fmt: skip
STEPS_PER_BAR = 16
#: Begins the target of an effect's automation.
EFFECTS_PREFIX = "effects."
MAX_TICKS = MAX_BARS * 4 * TICKS_PER_BEAT

# Bounds of what a document may hold: wide enough for anything that an edit makes, narrow enough that nothing takes for ever.
Tick = Annotated[int, Within(0, MAX_TICKS)]
Midi = Annotated[int, Within(0, 127)]
Share = Annotated[float, Within(0, 1)]
Decibels = Annotated[float, Within(-200, 100)]
Hertz = Annotated[float, Within(0, 1e5)]
Semitones = Annotated[float, Within(-128, 128)]
Beats = Annotated[float, Within(0, MAX_BARS * 4)]
Ms = Annotated[float, Within(-10_000, 10_000)]
BarCount = Annotated[int, Within(0, MAX_BARS)]
Seed = Annotated[int, Within(-(1 << 53), 1 << 53)]
Id = Annotated[str, Most(80)]
Name = Annotated[str, Most(200)]
Curve = Annotated[tuple[Annotated[float, Within(-1, 1)], ...], Most(256)]


@dataclass(frozen=True)
class Note:
    """`midi` is ignored by unpitched voices. `velocity` 0..1. `bend`: a pitch curve as (ticks from the note's start, semitones),
    joined by lines: a slide is a bend that ends on another note. `nudge_ms`: how much later than its place it sounds. `semitones`:
    how much higher; an unpitched hit is played as much faster. `repeats`: it is struck so often, evenly within its length."""

    tick: Tick
    ticks: Tick
    midi: Midi
    velocity: Share
    bend: Annotated[tuple[tuple[Annotated[float, Within(-MAX_TICKS, MAX_TICKS)], Semitones], ...], Most(4000)] = ()
    nudge_ms: Ms = 0.0
    semitones: Semitones = 0.0
    repeats: Annotated[int, Within(1, 64)] = 1


@dataclass(frozen=True)
class Pattern:
    """`loop_ticks`: after so many ticks it begins again, 0 for after its bars: a length of its own against the other parts."""

    bars: int
    notes: Annotated[tuple[Note, ...], Most(50_000)]
    loop_ticks: Tick = 0

    def __post_init__(self) -> None:
        if not 1 <= self.bars <= MOST_PATTERN_BARS:
            raise ValueError(f"a pattern has 1 to {MOST_PATTERN_BARS} bars")
        if self.loop_ticks and not MIN_LOOP_TICKS <= self.loop_ticks <= self.bars * 4 * TICKS_PER_BEAT:
            raise ValueError("a pattern begins again within its bars")


@dataclass(frozen=True)
class Modulation:
    """`source` moves `target` by `amount`, in the unit that the voice's parameter says."""

    source: Id
    target: Id
    amount: Annotated[float, Within(-1e4, 1e4)]


@dataclass(frozen=True)
class Sound:
    """A voice and its parameters, by name; what is left out has the voice's default. `shapes`: drawn curves by name, -1..1.
    `name`: what the library calls it. `level_db` brings it to the loudness of others of its role. `samples`: hashes of the
    audio that the voice plays, by slot. `kind`: the instrument that it is ("closed hat", "chop", "sub"), "" where nobody said
    it."""

    voice: Id
    params: Annotated[dict[str, Annotated[float, Within(-1e6, 1e6)]], Most(200)] = field(default_factory=dict)
    choices: Annotated[dict[str, Id], Most(100)] = field(default_factory=dict)
    modulations: Annotated[tuple[Modulation, ...], Most(64)] = ()
    shapes: Annotated[dict[str, Curve], Most(16)] = field(default_factory=dict)
    name: Name = ""
    level_db: Decibels = 0.0
    samples: Annotated[dict[str, Annotated[str, Most(128)]], Most(8)] = field(default_factory=dict)
    kind: Id = ""


@dataclass(frozen=True)
class Alternative:
    """Another version of what a cell plays: another pattern, with a sound of its own, or by another part (its id)."""

    pattern: Id
    level_db: Decibels = 0.0
    sound: Sound | None = None
    part: Id = ""


@dataclass(frozen=True)
class Cell:
    """What a part plays in a section: silent for `entry_bars` at the start and `exit_bars` at the end. `fill`: the pattern of its
    last `fill_bars`. `sound`: its own in this section. `part`: another part that plays its pattern of this name instead.
    `other`: the version that is kept beside this one."""

    section: Id
    pattern: Id
    on: bool = True
    entry_bars: BarCount = 0
    exit_bars: BarCount = 0
    level_db: Decibels = 0.0
    fill: Id = ""
    fill_bars: BarCount = 0
    sound: Sound | None = None
    part: Id = ""
    other: Alternative | None = None


@dataclass(frozen=True)
class Effect:
    """One effect of a chain. `blend` 0..1 mixes it in; it works only above `above_hz` and below `below_hz` where these aren't 0.
    `shape`: a drawn curve, 0..1. `key`: the part that steers it. Switched off, it passes its input at `bypass_db`, the gain by
    which the effect changed the loudness when it was measured, so that on and off are compared at the same level."""

    kind: Id
    params: Annotated[dict[str, Annotated[float, Within(-1e6, 1e6)]], Most(100)] = field(default_factory=dict)
    choices: Annotated[dict[str, Id], Most(50)] = field(default_factory=dict)
    on: bool = True
    blend: Share = 1.0
    above_hz: Hertz = 0.0
    below_hz: Hertz = 0.0
    shape: Curve = ()
    key: Id = ""
    bypass_db: Decibels = 0.0
    #: Its own within the chain, whatever place it takes; "" until it stands in one.
    id: Id = ""


def identified(effects: tuple[Effect, ...], gone: Iterable[str] = ()) -> tuple[Effect, ...]:
    """A chain in which every effect has an id of its own: those without one, and of two with the same one the later, get the first
    of e1, e2, ... that is free and not among `gone`."""
    taken = {e.id for e in effects if e.id}
    if len(taken) == len(effects):
        return effects
    taken |= set(gone)
    fresh = (name for k in count(1) if (name := f"e{k}") not in taken)
    seen: set[str] = set()
    out = []
    for effect in effects:
        out.append(effect if effect.id and effect.id not in seen else replace(effect, id=next(fresh)))
        seen.add(effect.id)
    return tuple(out)


@dataclass(frozen=True)
class AutomationPoint:
    """`curve` -1..1 bends the way to the next point: 0 is straight, 1 fast at first."""

    tick: Tick
    value: Annotated[float, Within(-1e6, 1e6)]
    curve: Annotated[float, Within(-1, 1)] = 0.0


@dataclass(frozen=True)
class Automation:
    """A value over the song. `target`: "gain_db", "pan", "reverb_db", "delay_db" or "effects.ID.NAME" (of the effect with that id
    a parameter, or "blend"). Before the first point and after the last the value stands still."""

    target: Id
    points: Annotated[tuple[AutomationPoint, ...], Most(20_000)]

    def __post_init__(self) -> None:
        ticks = [p.tick for p in self.points]
        if not ticks or ticks != sorted(ticks):
            raise ValueError("an automation has points in order of time")

    @property
    def effect(self) -> str:
        """Id of the effect that it moves, "" for a fader's value."""
        return effect_value(self.target)[0]


def effect_value(target: str) -> tuple[str, str]:
    """Effect's id and name of its value, ("", target) for a fader's."""
    device, _, name = target.rpartition(".")
    return device.removeprefix(EFFECTS_PREFIX), name


def effect_target(effect: Effect, name: str) -> str:
    """What names a value of an effect in an Automation."""
    return f"{EFFECTS_PREFIX}{effect.id}.{name}"


@dataclass(frozen=True)
class Groove:
    """`timing_ms`: how much later each 16th of the bar sounds, STEPS_PER_BAR of them or none, and `swing_percent` on top (0: the
    song's); both by `amount`. Humanised: moved and weighed by chance, normally distributed, the same for the same `seed`."""

    name: Name = ""
    timing_ms: Annotated[tuple[Ms, ...], Most(STEPS_PER_BAR)] = ()
    swing_percent: Annotated[float, Within(0, 100)] = 0.0
    amount: Annotated[float, Within(0, 10)] = 1.0
    humanise_ms: Annotated[float, Within(0, 1000)] = 0.0
    humanise_velocity: Share = 0.0
    seed: Seed = 0

    def __post_init__(self) -> None:
        if len(self.timing_ms) not in (0, STEPS_PER_BAR):
            raise ValueError(f"a groove has {STEPS_PER_BAR} steps")


@dataclass(frozen=True)
class Part:
    """`choke`: hits of parts with the same name here cut each other off."""

    id: Id
    name: Name
    role: Role
    sound: Sound
    bus: Literal["drums", "bass", "music", "effects"]
    patterns: Annotated[dict[str, Pattern], Most(500)]
    cells: Annotated[tuple[Cell, ...], Most(MAX_BARS)]
    gain_db: Decibels = 0.0
    pan: Annotated[float, Within(-1, 1)] = 0.0
    low_cut_hz: Hertz = 0.0
    high_cut_hz: Hertz = 0.0
    duck_db: Annotated[float, Within(0, 100)] = 0.0
    reverb_db: Decibels = -60.0
    delay_db: Decibels = -60.0
    effects: Annotated[tuple[Effect, ...], Most(32)] = ()
    automation: Annotated[tuple[Automation, ...], Most(200)] = ()
    choke: Name = ""
    groove: Groove = Groove()

    def __post_init__(self) -> None:
        object.__setattr__(self, "effects", identified(self.effects))

    def cell(self, section: str) -> Cell | None:
        return next((c for c in self.cells if c.section == section), None)


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
class Ducking:
    """`shape` has 64 points over one beat from the trigger on, 0 = untouched, 1 = fully down; parts scale it."""

    rate: Rate
    shape: tuple[Share, ...]

    def __post_init__(self) -> None:
        if len(self.shape) != DUCK_POINTS:
            raise ValueError(f"a ducking shape has {DUCK_POINTS} points")


@dataclass(frozen=True)
class EqBand:
    """A peaking band (bell)."""

    hz: Annotated[float, Within(1, 1e5)]
    gain_db: Decibels
    q: Annotated[float, Within(0.01, 100)]


@dataclass(frozen=True)
class Reverb:
    kind: Literal["room", "plate", "hall", "dome"] = "room"
    decay_s: Annotated[float, Within(0.01, 60)] = 1.8
    pre_delay_ms: Annotated[float, Within(0, 2000)] = 18.0
    low_cut_hz: Hertz = 280.0
    high_cut_hz: Annotated[float, Within(20, 1e5)] = 8500.0
    duck_db: Annotated[float, Within(0, 100)] = 4.0


@dataclass(frozen=True)
class Delay:
    """Synced to the song: `steps` 16ths between echoes, `feedback` 0..0.8."""

    steps: Annotated[float, Within(0.1, 64)] = 3.0
    feedback: Annotated[float, Within(0, 0.95)] = 0.42
    low_cut_hz: Hertz = 350.0
    high_cut_hz: Annotated[float, Within(20, 1e5)] = 5500.0
    duck_db: Annotated[float, Within(0, 100)] = 3.0


@dataclass(frozen=True)
class Master:
    """`effects` stand between the EQ and the gain. `width` scales the side signal (1 = as mixed); under `mono_below_hz` the side
    is cut."""

    eq: Annotated[tuple[EqBand, ...], Most(64)] = ()
    low_cut_hz: Annotated[float, Within(1, 2000)] = 25.0
    width: Annotated[float, Within(0, 10)] = 1.0
    mono_below_hz: Annotated[float, Within(1, 2000)] = 110.0
    gain_db: Decibels = 0.0
    ceiling_dbtp: Annotated[float, Within(-60, 0)] = -1.0
    effects: Annotated[tuple[Effect, ...], Most(32)] = ()

    def __post_init__(self) -> None:
        object.__setattr__(self, "effects", identified(self.effects))


@dataclass(frozen=True)
class Song:
    """`buses`: effects by bus. `automation`: of buses, returns and the master, by name; of these "gain_db" moves on top of the
    level, and "effects.ID.NAME" as in parts."""

    title: Name
    bpm: float
    tonic: str
    mode: str
    swing_percent: Annotated[float, Within(50, 80)]
    sections: Annotated[tuple[SongSection, ...], Most(MAX_BARS)]
    parts: Annotated[tuple[Part, ...], Most(MOST_PARTS + len(get_args(TransitionKind)))]
    ducking: Ducking
    reverb: Reverb = Reverb()
    delay: Delay = Delay()
    master: Master = Master()
    buses: dict[str, tuple[Effect, ...]] = field(default_factory=dict)
    automation: dict[str, tuple[Automation, ...]] = field(default_factory=dict)
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
        if set(self.buses) - set(BUSES):
            raise ValueError(f"the buses are {', '.join(BUSES)}")
        object.__setattr__(self, "buses", {bus: identified(chain) for bus, chain in self.buses.items()})
        if set(self.automation) - {*BUSES, *RETURNS, MASTER}:
            raise ValueError(f"automated are parts, {', '.join((*BUSES, *RETURNS))} and {MASTER}")

    @property
    def grid(self) -> BarGrid:
        return BarGrid(self.bpm)

    @property
    def key(self) -> Key:
        return Key(self.tonic, self.mode)

    @property
    def bars(self) -> int:
        return sum(s.bars for s in self.sections)

    def placed(self) -> Iterator[tuple[int, SongSection]]:
        """Each section with its 1-based first bar."""
        bar = 1
        for section in self.sections:
            yield bar, section
            bar += section.bars

    def part(self, part_id: str) -> Part | None:
        return next((p for p in self.parts if p.id == part_id), None)

    def gap_beats(self, section_id: str) -> float:
        """Beats at the end of a section in which everything is silent."""
        return max((t.beats for t in self.transitions if t.kind == "gap" and not t.on and t.section == section_id), default=0.0)

    def to_json(self) -> dict[str, Any]:
        return {"schema": SCHEMA, **to_json(self)}

    @staticmethod
    def from_json(data: Any) -> Song:
        if isinstance(data, dict) and data.get("schema") == "ersatz.song/1":
            data = from_version_1(data)
        if isinstance(data, dict) and data.get("schema") == "ersatz.song/2":
            data = from_version_2(data)
        if not isinstance(data, dict) or data.get("schema") != SCHEMA:
            raise UnusableDocument(f"This is not a song of format “{SCHEMA}”.")
        return from_json(Song, with_named_effects(data))

    def sha(self) -> str:
        """Identity of everything that sounds: names don't, nor do versions that are kept beside."""
        return sha_of(self.to_json())


def sha_of(document: dict[str, Any]) -> str:
    """`Song.sha` of a song's JSON."""
    parts = [{**part, "name": "", "cells": [{**cell, "other": None} for cell in part["cells"]]} for part in document["parts"]]
    sections = [{**section, "name": ""} for section in document["sections"]]
    return digest({**document, "title": "", "parts": parts, "sections": sections})


def digest(value: Any) -> str:
    """Short stable hash of JSON-ready data."""
    text = json.dumps(value, sort_keys=True, separators=(",", ":"))
    return hashlib.blake2b(text.encode(), digest_size=12).hexdigest()

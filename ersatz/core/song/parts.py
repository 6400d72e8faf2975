"""A part: a strip and what it plays. Positions are ticks (960 per quarter note) from the start of a pattern; a pattern repeats
through its cell."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Annotated, Literal

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.serial import Most, Within
from ersatz.core.song.bounds import (
    MAX_BARS,
    MAX_TICKS,
    STEPS_PER_BAR,
    BarCount,
    Curve,
    Decibels,
    Hertz,
    Id,
    Midi,
    Ms,
    Name,
    Seed,
    Semitones,
    Share,
    Tick,
    Value,
)
from ersatz.core.song.strips import Strip

MIN_LOOP_TICKS = TICKS_PER_BEAT // 4
MOST_PATTERN_BARS = 64
#: Roles that are hit and not held.
DRUM_ROLES = ("kick", "clap", "hats", "perc")
Role = Literal["kick", "clap", "hats", "perc", "bass", "chords", "lead", "noise", "impact"]


@dataclass(frozen=True)
class Note:
    """`midi` is ignored by unpitched voices. `velocity` 0..1. `bend`: a pitch curve as (ticks from the note's start, semitones),
    joined by lines: a slide is a bend that ends on another note. `nudge_ms`: how much later than its place it sounds. `semitones`:
    how much higher; an unpitched hit is played as much faster. `repeats`: it is struck so often, evenly within its length. `level`:
    a curve over the note as (ticks from its start, dB), joined by lines, on top of everything else."""

    tick: Tick
    ticks: Tick
    midi: Midi
    velocity: Share
    bend: Annotated[tuple[tuple[Annotated[float, Within(-MAX_TICKS, MAX_TICKS)], Semitones], ...], Most(4000)] = ()
    nudge_ms: Ms = 0.0
    semitones: Semitones = 0.0
    repeats: Annotated[int, Within(1, 64)] = 1
    pan: Annotated[float, Within(-1, 1)] = 0.0
    level: Annotated[tuple[tuple[Tick, Decibels], ...], Most(1000)] = ()


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

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def _hash(self) -> int:
        """Worked out once: a pattern holds many notes, and every render asks whether it has seen this one."""
        return hash((self.bars, self.notes, self.loop_ticks))


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
    params: Annotated[dict[str, Value], Most(200)] = field(default_factory=dict)
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
class Groove:
    """`timing_ms`: how much later each 16th of the bar sounds, STEPS_PER_BAR of them or none, and `swing_percent` on top (0: the
    song's); both by `amount`. Humanised: moved and weighed by chance, normally distributed, the same again where the pattern
    comes again. `random_...`: every hit a little different, also from one time round to the next, evenly within so much to
    both sides. All of it is the same for the same `seed`."""

    name: Name = ""
    timing_ms: Annotated[tuple[Ms, ...], Most(STEPS_PER_BAR)] = ()
    swing_percent: Annotated[float, Within(0, 100)] = 0.0
    amount: Annotated[float, Within(0, 10)] = 1.0
    humanise_ms: Annotated[float, Within(0, 1000)] = 0.0
    humanise_velocity: Share = 0.0
    seed: Seed = 0
    random_velocity: Share = 0.0
    random_pan: Share = 0.0
    random_semitones: Annotated[float, Within(0, 24)] = 0.0

    def __post_init__(self) -> None:
        if len(self.timing_ms) not in (0, STEPS_PER_BAR):
            raise ValueError(f"a groove has {STEPS_PER_BAR} steps")


@dataclass(frozen=True)
class Follows:
    """A layer's: `part` is the one whose notes it plays. `semitones` and `cents` higher, `late_ms` later, `velocity` times as hard.
    `only` some of them: the accents (the loudest, and what comes within a tenth of them), of notes that begin together
    the top or the lowest one, or the root of the chord that they make."""

    part: Id
    semitones: Annotated[int, Within(-48, 48)] = 0
    cents: Annotated[float, Within(-100, 100)] = 0.0
    late_ms: Annotated[float, Within(-100, 100)] = 0.0
    velocity: Annotated[float, Within(0, 2)] = 1.0
    only: Literal["all", "accents", "top", "root", "lowest"] = "all"


@dataclass(frozen=True, kw_only=True)
class Part(Strip):
    """`follows`: its notes are another part's, wherever that one plays and this one isn't switched off; its own patterns rest.
    `low_cut_hz`, `high_cut_hz`: of its notes, in front of everything else, 0 for none. `choke`: hits of parts with the same name
    here cut each other off."""

    role: Role
    sound: Sound
    patterns: Annotated[dict[str, Pattern], Most(500)] = field(default_factory=dict)
    cells: Annotated[tuple[Cell, ...], Most(MAX_BARS)] = ()
    low_cut_hz: Hertz = 0.0
    high_cut_hz: Hertz = 0.0
    choke: Name = ""
    groove: Groove = Groove()
    follows: Follows | None = None

    def cell(self, section: str) -> Cell | None:
        """What the part does in a section (its id), None where it is silent."""
        return next((c for c in self.cells if c.section == section), None)

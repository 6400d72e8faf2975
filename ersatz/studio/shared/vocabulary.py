"""What the pages' JavaScript needs to know of the core: kinds, names and measures, said once and read by `vocabulary.js`."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

from ersatz.core.balance.clashes import MOST_LIMITED_DB, REGION_DB
from ersatz.core.edits.automation import SHAPES
from ersatz.core.edits.sections import MOST_SECTION_BARS
from ersatz.core.edits.whole import MAX_SWING, MIN_SWING
from ersatz.core.grid import MAX_BPM, MIN_BPM, TICKS_PER_BEAT
from ersatz.core.pitch import SCALES, TONICS, Key, pitch_names
from ersatz.core.song.parts import MOST_PATTERN_BARS
from ersatz.core.song.strips import CLOSED_DB
from ersatz.core.survey.document import LABELS
from ersatz.core.target.document import BALANCE_HZ
from ersatz.core.targets import STRIP_VALUES
from ersatz.core.transitions import TRANSITIONS
from ersatz.core.voices.sampler import FIRST_SLICE

#: What a new part of a role is called.
ROLE_NAMES = {
    "kick": "Kick", "clap": "Clap", "hats": "Hats", "perc": "Percussion", "bass": "Bass", "chords": "Chords", "lead": "Lead",
    "noise": "Noise", "impact": "Hit",
}  # fmt: skip


@dataclass(frozen=True)
class TransitionKind:
    """What the page knows of a kind of transition (core/transitions)."""

    title: str
    behind: bool
    works_on: str
    rhythms: tuple[str, ...]
    has_amount: bool
    has_seed: bool


@dataclass(frozen=True)
class Limits:
    """Bounds that edits refuse to leave, lowest and highest; and figures that something is judged by: a send at `closed_db` is
    closed, the spectrum is compared over `balance_hz` and told of from `region_db` on, a limiter that takes more than
    `most_limited_db` is driven."""

    tempo_bpm: tuple[float, float]
    swing_percent: tuple[float, float]
    section_bars: tuple[int, int]
    pattern_bars: tuple[int, int]
    fader_db: tuple[float, float]
    closed_db: float
    balance_hz: tuple[float, float]
    region_db: float
    most_limited_db: float


@dataclass(frozen=True)
class Vocabulary:
    """`roles` by id with their names; `pitch_names` of the twelve pitch classes as each key spells them, by mode and tonic."""

    ticks_per_bar: int
    labels: tuple[str, ...]
    roles: dict[str, str]
    automation_shapes: list[str]
    first_slice: int
    tonics: tuple[str, ...]
    scales: dict[str, tuple[int, int, int, int, int, int, int]]
    pitch_names: dict[str, dict[str, tuple[str, ...]]]
    transitions: dict[str, TransitionKind]
    limits: Limits


@cache
def vocabulary() -> Vocabulary:
    """Kinds, labels, limits and ticks that the browser half has to know, said once."""
    kinds: dict[str, TransitionKind] = {
        spec.kind: TransitionKind(spec.title, spec.behind, spec.works_on, spec.rhythms, spec.has_amount, spec.has_seed)
        for spec in TRANSITIONS.values()
    }
    return Vocabulary(
        ticks_per_bar=4 * TICKS_PER_BEAT,
        labels=LABELS,
        roles=ROLE_NAMES,
        automation_shapes=list(SHAPES),
        first_slice=FIRST_SLICE,
        tonics=TONICS,
        scales=SCALES,
        pitch_names={mode: {tonic: pitch_names(Key(tonic, mode)) for tonic in TONICS} for mode in SCALES},
        transitions=kinds,
        limits=_limits(),
    )


def _limits() -> Limits:
    fader = STRIP_VALUES["gain_db"]
    return Limits(
        tempo_bpm=(MIN_BPM, MAX_BPM),
        swing_percent=(MIN_SWING, MAX_SWING),
        section_bars=(1, MOST_SECTION_BARS),
        pattern_bars=(1, MOST_PATTERN_BARS),
        fader_db=(fader.low, fader.high),
        closed_db=CLOSED_DB,
        balance_hz=BALANCE_HZ,
        region_db=REGION_DB,
        most_limited_db=MOST_LIMITED_DB,
    )

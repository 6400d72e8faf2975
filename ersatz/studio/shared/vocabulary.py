"""What the pages' JavaScript needs to know of the core: kinds, names and measures, said once and read by `vocabulary.js`."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

from ersatz.core.edits.automation import SHAPES
from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.pitch import SCALES, TONICS, Key, pitch_names
from ersatz.core.survey.document import LABELS
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


@cache
def vocabulary() -> Vocabulary:
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
    )

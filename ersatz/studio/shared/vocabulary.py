"""What the pages' JavaScript needs to know of the core: kinds, names and measures, said once and read by `vocabulary.js`."""

from __future__ import annotations

from functools import cache
from typing import Any

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


@cache
def vocabulary() -> dict[str, Any]:
    return {
        "ticksPerBar": 4 * TICKS_PER_BEAT,
        "labels": LABELS,
        "roles": ROLE_NAMES,
        "automationShapes": list(SHAPES),
        "firstSlice": FIRST_SLICE,
        "tonics": TONICS,
        "scales": SCALES,
        # Pitch classes as each key spells them.
        "pitchNames": {mode: {tonic: pitch_names(Key(tonic, mode)) for tonic in TONICS} for mode in SCALES},
        "transitions": {
            spec.kind: {
                "title": spec.title,
                "behind": spec.behind,
                "worksOn": spec.works_on,
                "rhythms": spec.rhythms,
                "hasAmount": spec.has_amount,
                "hasSeed": spec.has_seed,
            }
            for spec in TRANSITIONS.values()
        },
    }

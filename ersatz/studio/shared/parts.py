"""What pages know of a part."""

from __future__ import annotations

from ersatz.core.song.parts import Part
from ersatz.core.voices import complete, sampler

#: Notes that a part is first heard at, by role.
MIDDLE = {"bass": 36, "lead": 69}


def middle_of(part: Part) -> int:
    """The note that a part is first heard at."""
    sliced = complete(part.sound).choices.get("slice_mode", "off") != "off"
    return sampler.FIRST_SLICE if sliced else MIDDLE.get(part.role, 60)

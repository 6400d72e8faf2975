"""What happens at the boundaries of sections: one list of kinds, read by edits, the mixdown and the pages.

A new kind is a file (or a place in one) with its TransitionSpec, an entry here, and its name in the song's TransitionKind.
"""

from ersatz.core.song.document import EFFECTS_BUS, PUMP, REVERB_RETURN
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import ducked, sending
from ersatz.core.transitions.carried import CRASH, FALL, IMPACT, RISER
from ersatz.core.transitions.chains import HIGH_CUT_SWEEP, LOW_CUT_SWEEP, SLOW_DOWN, WASH
from ersatz.core.transitions.drums import DRUM_FILL, SNARE_ROLL
from ersatz.core.transitions.parts import ECHO_THROW, GAP, REVERSE_SWELL
from ersatz.core.transitions.spec import TransitionSpec
from ersatz.core.voices import library

TRANSITIONS: dict[str, TransitionSpec] = {
    spec.kind: spec
    for spec in (
        RISER, FALL, SNARE_ROLL, DRUM_FILL, LOW_CUT_SWEEP, HIGH_CUT_SWEEP, WASH, GAP, REVERSE_SWELL, IMPACT, CRASH, SLOW_DOWN,
        ECHO_THROW,
    )
}  # fmt: skip

__all__ = ["TRANSITIONS", "TransitionSpec", "carrier"]


def carrier(kind: str, duck_db: float = 0.0) -> Part:
    """The part that plays risers, falls, impacts or crashes; its level is the producer's to change."""
    c = TRANSITIONS[kind].carrier
    if c is None:
        raise ValueError(f"no part of its own plays a {kind}")
    return Part(
        id=kind, name=c.name, role=c.role, sound=library.sound(c.sound), out=EFFECTS_BUS, gain_db=c.gain_db,
        low_cut_hz=c.low_cut_hz, sends=sending({REVERB_RETURN: c.reverb_db}), duck=ducked(PUMP, duck_db),
    )  # fmt: skip

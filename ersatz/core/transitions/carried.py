"""Transitions that a part of their own plays: a riser or a fall of noise, an impact, a crash."""

from __future__ import annotations

from ersatz.core.song.parts import Note
from ersatz.core.transitions.spec import Boundary, Carrier, Placed, Stage, TransitionSpec


def _sounds_once(j: Boundary, stage: Stage) -> None:
    carrier = j.carrier()
    if carrier is not None:
        behind = j.behind
        note = Note(j.boundary if behind else j.start, max(1, j.ticks), 60, 0.25 + 0.75 * j.amount)
        stage.placed[carrier.id].append(Placed(note))


RISER = TransitionSpec("riser", 32, "carrier", _sounds_once, carrier=Carrier("Riser", "noise", "Rising fog", -9.0, 250.0, -20.0))
FALL = TransitionSpec(
    "fall",
    8,
    "carrier",
    _sounds_once,
    behind=True,
    called="downlifter",
    carrier=Carrier("Downlifter", "noise", "Ebb", -14.0, 250.0, -20.0),
)
IMPACT = TransitionSpec(
    "impact", 4, "carrier", _sounds_once, behind=True, carrier=Carrier("Impact", "impact", "Dropped anchor", -12.0, 28.0, -16.0)
)
CRASH = TransitionSpec(
    "crash", 8, "carrier", _sounds_once, behind=True, carrier=Carrier("Crash", "hats", "Whitecap", -17.0, 400.0, -18.0)
)

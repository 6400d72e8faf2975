"""An effect as a curve, where one says it all: frequency response, static curve, waveshape, gain over the beat. Plain lists."""

from __future__ import annotations

from typing import TypedDict

import numpy as np

from ersatz.core.dsp import filters, shapers
from ersatz.core.effects import ducking, dynamics, eq, moving
from ersatz.core.effects.chain import settings_of
from ersatz.core.song.strips import Effect

RATE_HZ = 44_100
AXIS_HZ = np.geomspace(20, 20_000, 120)
LEVELS_DB = np.linspace(-60, 0, 61)


def _rounded(values: np.ndarray) -> list[float]:
    return [float(v) for v in np.round(values, 3)]


class EffectPicture(TypedDict):
    """`kind`: "response" (dB at AXIS_HZ), "levels" (dB out at LEVELS_DB), "shape" (out over -1..1), "gain" (0..1 over a cycle)."""

    kind: str
    values: list[float]


def picture_of(effect: Effect) -> EffectPicture | None:
    """None where no curve would tell."""
    s = settings_of(effect)
    if effect.kind == "eq":
        return {"kind": "response", "values": _rounded(eq.response_db(eq.sections_of(s, RATE_HZ), AXIS_HZ, RATE_HZ))}
    if effect.kind == "sweep":
        found = filters.response_db(s.choices["kind"], s.flat("cutoff_hz"), s.flat("resonance"), AXIS_HZ, RATE_HZ, s.flat("vowel"))
        return {"kind": "response", "values": _rounded(np.maximum(found, -60))}
    if effect.kind == "compressor":
        gain = dynamics.gain_db(LEVELS_DB, s.flat("threshold_db"), s.flat("ratio"), s.flat("knee_db")) + s.flat("gain_db")
        return {"kind": "levels", "values": _rounded(LEVELS_DB + gain)}
    if effect.kind == "saturation":
        x = np.linspace(-1, 1, 81)
        out = shapers.curve(x * 10 ** (s.flat("drive_db") / 20), s.choices["kind"]) * 10 ** (-s.flat("drive_db") / 40)
        return {"kind": "shape", "values": _rounded(out)}
    if effect.kind == "ducker":
        down = np.array(effect.shape or ducking.DEFAULT_SHAPE)
        return {"kind": "gain", "values": _rounded(10 ** (-s.flat("depth_db") * down / 20))}
    if effect.kind == "tremolo":
        return {
            "kind": "gain",
            "values": _rounded(1 - s.flat("depth") * (1 - moving.tremolo_gain(s, np.linspace(0, 1, 96, endpoint=False)))),
        }
    return None

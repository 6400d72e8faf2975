"""Width: side against mid, mono below a frequency."""

from __future__ import annotations

import numpy as np

from ersatz.core.dsp import followers
from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.params import Param


def _width(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """The side signal scaled (0 mono, 1 untouched); under `mono_below_hz` it is taken out, without phase."""
    mid, side = (x[0] + x[1]) / 2, (x[0] - x[1]) / 2
    side = side * s.curve("width", x.shape[1])
    if s.flat("mono_below_hz") > 0:
        side = side - followers.below(side, s.flat("mono_below_hz"), where.rate)
    return np.stack([mid + side, mid - side])


def _reach(s: Settings, bpm: float) -> float:
    return followers.below_context_s(s.flat("mono_below_hz")) if s.flat("mono_below_hz") > 0 else 0.0


WIDTH = EffectSpec(
    "width", "Width",
    (Param("width", "", 0, 2, 1, "Width", moves=""), Param("mono_below_hz", "Hz", 0, 500, 0, "Mono below")),
    _width, before_s=_reach, after_s=_reach,
)  # fmt: skip

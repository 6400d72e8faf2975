"""Colour: saturation of six kinds, reduction of bits and rate."""

from __future__ import annotations

import numpy as np

from ersatz.core.dsp import filters, rates, shapers
from ersatz.core.dsp.levels import factor
from ersatz.core.effects import eq
from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.params import Choice, Param

#: Bent more on one side, a curve leaves an offset behind: cut under this.
OFFSET_CUT_HZ = 12.0


def _saturate(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """Drive in, curve at four times the rate, tone, level out. What the drive adds to a small signal is taken off again by half."""
    drive, kind = s.values["drive_db"], s.choices["kind"]
    y = shapers.saturate(x * factor(drive), kind) * factor(s.values["level_db"] - drive / 2)
    if kind in ("tube", "rectified"):
        y = filters.cascade(eq.low_cut(OFFSET_CUT_HZ, where.rate, 1), y)
    return filters.cascade(eq.high_cut(s.flat("tone_hz"), where.rate, 1), y) if s.flat("tone_hz") < 19_000 else y


SATURATION = EffectSpec(
    "saturation", "Saturation",
    (Param("drive_db", "dB", 0, 36, 6, "Drive", moves=""), Param("tone_hz", "Hz", 1000, 20_000, 20_000, "Tone", "log"),
     Param("level_db", "dB", -24, 12, 0, "Level", moves="")),
    _saturate, (Choice("kind", shapers.KINDS, "soft", "Kind"),),
    before_s=lambda s, bpm: 0.15 if s.choices["kind"] in ("tube", "rectified") else 0.01,
    after_s=lambda s, bpm: rates.CONTEXT / 44_100,
)  # fmt: skip


def _reduce(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """Each sample of the lower rate is held, counted from the song's start; then rounded to 2^bits steps."""
    n = x.shape[1]
    hold = where.rate / s.flat("rate_hz")
    if hold > 1.0001:
        at = where.start + np.arange(n)
        taken = np.ceil(np.floor(at / hold) * hold).astype(np.int64) - where.start
        x = x[:, np.clip(taken, 0, n - 1)]
    steps = 2.0 ** (s.curve("bits", n) - 1)
    return np.asarray(np.round(x * steps) / steps)


REDUCTION = EffectSpec(
    "reduction", "Bit and rate reduction",
    (Param("bits", "bits", 1, 16, 12, "Bits", moves=""), Param("rate_hz", "Hz", 500, 44_100, 44_100, "Rate", "log")),
    _reduce, before_s=lambda s, bpm: 2 / s.flat("rate_hz"), period_beats=lambda s: np.inf if s.flat("rate_hz") < 44_100 else 0.0,
)  # fmt: skip

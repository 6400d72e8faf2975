"""Waveshapers without audible aliasing: each curve with its antiderivative (Parker, Zavalishin & Le Bivic 2016).

The output is the mean of the curve between two samples, (F(x1) - F(x0)) / (x1 - x0): exact for a straight line between them, so
that most of what would fold is averaged away. All curves rise by 1 at 0 and stay within
about -1..1, but `rectified`, which lets the upper half pass and turns a quarter of the lower half over.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ersatz.core.dsp import rates

#: Where two samples are nearer than this, the quotient is taken at their middle.
NEAR = 1e-4
TUBE_BIAS = 0.35
OVERSAMPLING = 4

Curve = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Shaper:
    """`curve` and its antiderivative `area`."""

    title: str
    curve: Curve
    area: Curve


def _log_cosh(x: np.ndarray) -> np.ndarray:
    a = np.abs(x)
    return np.asarray(a + np.log1p(np.exp(-2 * a)) - np.log(2))


def _tube(x: np.ndarray) -> np.ndarray:
    """Bent more on one side than on the other, so that even harmonics appear."""
    scale = 1 - np.tanh(TUBE_BIAS) ** 2
    return np.asarray((np.tanh(x + TUBE_BIAS) - np.tanh(TUBE_BIAS)) / scale)


def _tube_area(x: np.ndarray) -> np.ndarray:
    scale = 1 - np.tanh(TUBE_BIAS) ** 2
    return np.asarray((_log_cosh(x + TUBE_BIAS) - np.tanh(TUBE_BIAS) * x) / scale)


SHAPERS: dict[str, Shaper] = {
    "soft": Shaper("Soft", np.tanh, _log_cosh),
    "tape": Shaper("Tape", lambda x: x / np.sqrt(1 + x * x), lambda x: np.sqrt(1 + x * x)),
    "tube": Shaper("Tube", _tube, _tube_area),
    "hard": Shaper("Hard", lambda x: np.clip(x, -1, 1), lambda x: np.where(np.abs(x) <= 1, x * x / 2, np.abs(x) - 0.5)),
    "fold": Shaper("Fold", np.sin, lambda x: -np.cos(x)),
    "rectified": Shaper("Rectified", lambda x: np.where(x >= 0, x, -x / 4), lambda x: np.where(x >= 0, x * x / 2, -x * x / 8)),
}  # fmt: skip


def shape(x: np.ndarray, kind: str) -> np.ndarray:
    """The curve applied to (..., n) at the signal's own rate, antialiased. The first sample counts as having stood before."""
    shaper = SHAPERS[kind]
    before = np.concatenate([x[..., :1], x[..., :-1]], axis=-1)
    step = x - before
    near = np.abs(step) < NEAR
    quotient = (shaper.area(x) - shaper.area(before)) / np.where(near, 1.0, step)
    return np.where(near, shaper.curve((x + before) / 2), quotient)


def saturate(x: np.ndarray, kind: str, oversampling: int = OVERSAMPLING) -> np.ndarray:
    """The curve applied at several times the rate, shape (..., n)."""
    return rates.down(shape(rates.up(x, oversampling), kind), oversampling)

"""Waveshapers without audible aliasing: each curve with its antiderivative (Parker, Zavalishin & Le Bivic 2016).

The output is the mean of the curve between two samples, (F(x1) - F(x0)) / (x1 - x0): exact for a straight line between them, so
that most of what would fold is averaged away. All curves rise by 1 at 0 and stay within
about -1..1, but `rectified`, which lets the upper half pass and turns a quarter of the lower half over.
"""

from __future__ import annotations

import math

import numpy as np

from ersatz.core.compiled import compiled, inlined
from ersatz.core.dsp import rates

#: Where two samples are nearer than this, the curve is as good as a straight line.
NEAR = 1e-6
TUBE_BIAS = 0.35
TUBE_OFFSET = float(np.tanh(TUBE_BIAS))
TUBE_SLOPE = 1 - TUBE_OFFSET**2
OVERSAMPLING = 4
KINDS = ("soft", "tape", "tube", "hard", "fold", "rectified")


#: Samples that are worked on at once: they stay in the processor's first memory.
TILE = 256
LOG_2 = float(np.log(2.0))
#: From here on ln cosh is a straight line, to 4e-11.
STRAIGHT = 12.0
#: exp(x) = sum of x^k / k!, here for -0.375..0, and artanh(x) = x times the sum of x^2k / (2k + 1), here for 0..1/3. What is left
#: out is smooth and at most 3e-8, and so is its slope.
EXPONENTIAL = tuple(1 / math.factorial(k) for k in range(9))
ARTANH = tuple(1 / (2 * k + 1) for k in range(8))


@inlined
def _series(x: float, coefficients: tuple[float, ...]) -> float:  # pragma: no cover - compiled
    """Horner's scheme."""
    y = coefficients[len(coefficients) - 1]
    for k in range(len(coefficients) - 2, -1, -1):
        y = y * x + coefficients[k]
    return y


@inlined
def _decayed(a: float) -> float:  # pragma: no cover - compiled
    """exp(-2 a) of 0..STRAIGHT."""
    e = _series(a / -32, EXPONENTIAL)
    # To the 64th.
    e *= e
    e *= e
    e *= e
    e *= e
    e *= e
    e *= e
    return e


@inlined
def tanh(x: float) -> float:  # pragma: no cover - compiled
    """To 3e-8."""
    e = _decayed(min(abs(x), STRAIGHT))
    return math.copysign((1.0 - e) / (1.0 + e), x)


@compiled
def _soft(x: np.ndarray, bias: float, area: np.ndarray, curve: np.ndarray) -> None:  # pragma: no cover - compiled
    """ln cosh and tanh of x + bias. Both are made of e = exp(-2 |x|): |x| - ln 2 + ln(1 + e) and (1 - e) / (1 + e). Without a
    branch or a call, so that it runs in vectors."""
    for i in range(len(x)):
        v = np.float64(x[i]) + bias
        a = abs(v)
        e = _decayed(min(a, STRAIGHT))
        # One division for both quotients: it takes as long as a dozen products. ln(1 + e) = 2 artanh(e / (2 + e)).
        r = 1.0 / ((1.0 + e) * (2.0 + e))
        s = e * (1.0 + e) * r
        area[i] = a - LOG_2 + 2.0 * s * _series(s * s, ARTANH)
        curve[i] = math.copysign((1.0 - e) * (2.0 + e) * r, v)


@compiled
def _curves(x: np.ndarray, kind: int, area: np.ndarray, curve: np.ndarray) -> None:  # pragma: no cover - compiled
    """The curve of a tile and its antiderivative, in double precision also where the signal has less: all else is made of their
    differences."""
    # A loop for each, in which nothing is asked.
    if kind == 0:
        _soft(x, 0.0, area, curve)
    elif kind == 1:
        for i in range(len(x)):
            v = np.float64(x[i])
            area[i] = np.sqrt(1.0 + v * v)
            curve[i] = v / area[i]
    elif kind == 2:
        _soft(x, TUBE_BIAS, area, curve)
        for i in range(len(x)):
            area[i] = (area[i] - TUBE_OFFSET * np.float64(x[i])) / TUBE_SLOPE
            curve[i] = (curve[i] - TUBE_OFFSET) / TUBE_SLOPE
    elif kind == 3:
        for i in range(len(x)):
            v = np.float64(x[i])
            curve[i] = min(max(v, -1.0), 1.0)
            area[i] = 0.5 * v * v if abs(v) <= 1.0 else abs(v) - 0.5
    elif kind == 4:
        for i in range(len(x)):
            v = np.float64(x[i])
            area[i], curve[i] = -np.cos(v), np.sin(v)
    else:
        for i in range(len(x)):
            v = np.float64(x[i])
            curve[i] = v if v >= 0 else -0.25 * v
            area[i] = 0.5 * v * curve[i]


@compiled
def _curved(x: np.ndarray, kind: int) -> np.ndarray:  # pragma: no cover - compiled
    out, area = np.empty(x.shape), np.empty(x.shape)
    _curves(x, kind, area, out)
    return out.astype(x.dtype)


@compiled
def _shaped(x: np.ndarray, kind: int) -> np.ndarray:  # pragma: no cover - compiled
    out = np.empty(len(x), x.dtype)
    # In front of each tile the sample before it; the first one counts as having stood.
    place, area, curve = np.empty(TILE + 1), np.empty(TILE + 1), np.empty(TILE + 1)
    place[0] = x[0]
    _curves(x[:1], kind, area[:1], curve[:1])
    for start in range(0, len(x), TILE):
        tile = x[start : start + TILE]
        m = len(tile)
        place[1 : m + 1] = tile
        _curves(tile, kind, area[1 : m + 1], curve[1 : m + 1])
        x0, x1, area0, area1, y0, y1 = place[:m], place[1 : m + 1], area[:m], area[1 : m + 1], curve[:m], curve[1 : m + 1]
        there = out[start : start + m]
        for i in range(m):
            step = x1[i] - x0[i]
            # A difference needs all digits, the quotient of two doesn't.
            quotient = np.float32(area1[i] - area0[i]) / np.float32(step)
            mean = 0.5 * (y0[i] + y1[i]) if abs(step) < NEAR else quotient
            # Every curve passes through silence.
            there[i] = 0.0 if x0[i] == 0.0 and x1[i] == 0.0 else mean
        place[0], area[0], curve[0] = place[m], area[m], curve[m]
    return out


def _each(x: np.ndarray, function, kind: str) -> np.ndarray:  # type: ignore[no-untyped-def]
    """Along the last axis. Raises ValueError for a kind that doesn't exist."""
    out = np.empty(x.shape, x.dtype)
    for index in np.ndindex(x.shape[:-1]):
        out[index] = function(np.ascontiguousarray(x[index]), KINDS.index(kind))
    return out


def curve(x: np.ndarray, kind: str) -> np.ndarray:
    """The curve itself, sample by sample, shape of `x`."""
    return _each(x, _curved, kind)


def shape(x: np.ndarray, kind: str) -> np.ndarray:
    """The curve applied to (..., n) at the signal's own rate, antialiased. The first sample counts as having stood before."""
    return _each(x, _shaped, kind)


def saturate(x: np.ndarray, kind: str, oversampling: int = OVERSAMPLING) -> np.ndarray:
    """The curve applied at several times the rate, shape (..., n)."""
    return rates.down(shape(rates.up(np.asarray(x, np.float32), oversampling), kind), oversampling).astype(np.float64)

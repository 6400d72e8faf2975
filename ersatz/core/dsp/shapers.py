"""Waveshapers without audible aliasing: each curve with its antiderivative (Parker, Zavalishin & Le Bivic 2016).

The output is the mean of the curve between two samples, (F(x1) - F(x0)) / (x1 - x0): exact for a straight line between them, so
that most of what would fold is averaged away. All curves rise by 1 at 0 and stay within
about -1..1, but `rectified`, which lets the upper half pass and turns a quarter of the lower half over.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from ersatz.core.dsp import rates

#: Where two samples are nearer than this, the quotient is taken at their middle.
NEAR = 1e-4
TUBE_BIAS = 0.35
TUBE_OFFSET = float(np.tanh(TUBE_BIAS))
TUBE_SLOPE = 1 - TUBE_OFFSET**2
OVERSAMPLING = 4
KINDS = ("soft", "tape", "tube", "hard", "fold", "rectified")


#: ln cosh is read from a table of cubics, which err by less than 1e-11 and cost a fifth; beyond it is a straight line.
TABLE_STEP, TABLE_END = 1 / 128, 12.0
TABLE_LAST = TABLE_END - 1e-9
LOG_2 = float(np.log(2.0))
#: Samples that are worked on at once: they stay in the processor's first memory, with the part of the table that they need.
TILE = 256


def _cubics() -> np.ndarray:
    """Through four points around each step of the table (Lagrange), coefficients of 1, t, t^2, t^3, shape (steps, 4)."""
    places = np.arange(-1, int(TABLE_END / TABLE_STEP) + 3) * TABLE_STEP
    heights = np.abs(places) + np.log1p(np.exp(-2 * np.abs(places))) - LOG_2
    a, b, c, d = np.lib.stride_tricks.sliding_window_view(heights, 4).T
    return np.stack([b, c - a / 3 - b / 2 - d / 6, (a + c) / 2 - b, (b - c) / 2 + (d - a) / 6], axis=1)


LOG_COSH = _cubics()


@njit(cache=True, nogil=True, fastmath={"contract"}, inline="always")
def _cubic(a: float) -> tuple[np.ndarray, float]:  # pragma: no cover - compiled
    """The cubic of the table that a place of 0..TABLE_END falls on, and how far along it, 0..1."""
    place = a / TABLE_STEP
    # Unsigned: an index that can't be negative isn't looked at twice.
    i = np.uint64(place)
    return LOG_COSH[i], place - i


@njit(cache=True, nogil=True, fastmath={"contract"})
def _log_cosh(x: float) -> float:  # pragma: no cover - compiled
    a = abs(x)
    if a >= TABLE_END:
        return a - LOG_2
    row, t = _cubic(a)
    return row[0] + t * (row[1] + t * (row[2] + t * row[3]))


@njit(cache=True, nogil=True)
def _curve(kind: int, x: float) -> float:  # pragma: no cover - compiled
    if kind == 0:
        return np.tanh(x)
    if kind == 1:
        return x / np.sqrt(1.0 + x * x)
    if kind == 2:
        return (np.tanh(x + TUBE_BIAS) - TUBE_OFFSET) / TUBE_SLOPE
    if kind == 3:
        return min(max(x, -1.0), 1.0)
    if kind == 4:
        return np.sin(x)
    return x if x >= 0 else -0.25 * x


@njit(cache=True, nogil=True, fastmath={"contract"}, inline="always")
def _area(kind: int, x: float) -> float:  # pragma: no cover - compiled
    """Antiderivative of the curve."""
    if kind == 0:
        return _log_cosh(x)
    if kind == 1:
        return np.sqrt(1.0 + x * x)
    if kind == 2:
        return (_log_cosh(x + TUBE_BIAS) - TUBE_OFFSET * x) / TUBE_SLOPE
    if kind == 3:
        return 0.5 * x * x if abs(x) <= 1.0 else abs(x) - 0.5
    if kind == 4:
        return -np.cos(x)
    return 0.5 * x * x if x >= 0 else -0.125 * x * x


@njit(cache=True, nogil=True)
def _curved(x: np.ndarray, kind: int) -> np.ndarray:  # pragma: no cover - compiled
    out = np.empty(len(x), x.dtype)
    for i in range(len(x)):
        out[i] = _curve(kind, x[i])
    return out


@njit(cache=True, nogil=True, fastmath={"contract"}, inline="always")
def tanh(x: float) -> float:  # pragma: no cover - compiled
    """By its series around 0, else as the slope of the tabled antiderivative: errs by less than 1e-7, in a fifth of the time."""
    a = abs(x)
    if a < 1 / 32:
        s = x * x
        return x * (1.0 + s * (-1 / 3 + s * (2 / 15)))
    if a >= TABLE_END:
        return 1.0 if x > 0 else -1.0
    row, t = _cubic(a)
    slope = (row[1] + t * (2.0 * row[2] + t * 3.0 * row[3])) / TABLE_STEP
    return slope if x > 0 else -slope


@njit(cache=True, nogil=True, fastmath={"contract"})
def _log_coshes(
    x: np.ndarray, bias: float, out: np.ndarray, table: np.ndarray, at: np.ndarray, part: np.ndarray,
    a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray,
) -> None:  # pragma: no cover - compiled  # fmt: skip
    """`_log_cosh` of x + bias for a tile; `table`: LOG_COSH end to end; the rest is room. Three loops, of which the first and the
    last are compiled to vectors."""
    for i in range(len(x)):
        out[i] = abs(np.float64(x[i]) + bias)
        place = min(out[i], TABLE_LAST) / TABLE_STEP
        row = np.int32(place)
        at[i], part[i] = 4 * row, place - row
    for i in range(len(x)):
        k = np.uint64(at[i])
        a[i], b[i], c[i], d[i] = table[k], table[k + np.uint64(1)], table[k + np.uint64(2)], table[k + np.uint64(3)]
    for i in range(len(x)):
        t = part[i]
        out[i] = out[i] - LOG_2 if out[i] >= TABLE_END else a[i] + t * (b[i] + t * (c[i] + t * d[i]))


@njit(cache=True, nogil=True, fastmath={"contract"})
def _areas(
    x: np.ndarray, kind: int, out: np.ndarray, table: np.ndarray, at: np.ndarray, room: np.ndarray
) -> None:  # pragma: no cover - compiled
    """`_area` of a tile, the frequent kinds in vectors. All else is made of their differences, which need all digits, also where
    the signal has few."""
    m = len(x)
    # A loop for each, in which nothing is asked.
    if kind == 0 or kind == 2:
        bias = TUBE_BIAS if kind == 2 else 0.0
        _log_coshes(x, bias, out, table, at[:m], room[0, :m], room[1, :m], room[2, :m], room[3, :m], room[4, :m])
        if kind == 2:
            for i in range(m):
                out[i] = (out[i] - TUBE_OFFSET * np.float64(x[i])) / TUBE_SLOPE
    elif kind == 1:
        for i in range(m):
            out[i] = _area(1, np.float64(x[i]))
    else:
        for i in range(m):
            out[i] = _area(kind, np.float64(x[i]))


@njit(cache=True, nogil=True, fastmath={"contract"})
def _shaped(x: np.ndarray, kind: int) -> np.ndarray:  # pragma: no cover - compiled
    out = np.empty(len(x), x.dtype)
    before = np.float64(x[0])
    area_before = _area(kind, before)
    found, room, at, table = np.empty(TILE), np.empty((5, TILE)), np.empty(TILE, np.int32), LOG_COSH.ravel()
    for start in range(0, len(x), TILE):
        tile = x[start : start + TILE]
        areas = found[: len(tile)]
        _areas(tile, kind, areas, table, at, room)
        for i in range(len(tile)):
            here = np.float64(tile[i])
            step = here - before
            if here == 0.0 and before == 0.0:
                # Silence: every curve passes through it.
                out[start + i] = 0.0
            elif abs(step) < NEAR:
                middle = 0.5 * (here + before)
                out[start + i] = tanh(middle) if kind == 0 else _curve(kind, middle)
            else:
                out[start + i] = (areas[i] - area_before) / step
            before, area_before = here, areas[i]
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

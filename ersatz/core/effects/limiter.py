"""The end of the master: soft clipping, then a look-ahead limiter on true peaks.

Soft clipping is linear up to KNEE and bends by tanh above, run at 2x so that its harmonics don't fold. The limiter looks
for the peak of the signal interpolated 4x (BS.1770-5 annex 2), falls over LOOK_AHEAD samples and climbs back linearly
within at most RELEASE, so its gain depends on a bounded stretch of samples only and a render in pieces equals the whole.
"""

from __future__ import annotations

from functools import cache
from math import comb

import numpy as np
from numba import njit

from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.loudness import interpolator
from ersatz.core.params import Param

KNEE = 0.7
LOOK_AHEAD = 132
RELEASE = 6000
#: Samples on each side on which an output sample can depend, a multiple of 64.
CONTEXT = 6400
#: A shorter interpolator than the meter's: what it misses is covered by the margin.
PEAK_HALF_TAPS = 20
PEAK_PHASES = 8
#: A high-pass that opens above 19 kHz, sixteen differences in a row, and how much of what it lets through is added to a peak: music
#: has next to nothing there, noise up to half the rate enough to pass the ceiling by half a decibel.
EDGE_TAPS = np.array([(-1) ** k * comb(16, k) for k in range(17)]) / 2.0**16
EDGE_SHARE = 0.6
#: What 4x interpolation can miss between its points.
MARGIN_DB = 0.22


# Sums may be added in any order: a fixed one for a given machine, and four times as fast.
_REORDERED = {"reassoc", "contract"}


@njit(cache=True, nogil=True, fastmath=_REORDERED)
def _peaks(padded: np.ndarray, taps: np.ndarray, floor: float) -> np.ndarray:  # pragma: no cover - compiled
    """Largest magnitude around each sample, interpolated points included where it matters, shape (n,). `padded` has half a filter
    of silence on both sides."""
    half = taps.shape[1] // 2
    n = padded.shape[1] - 2 * half
    out = np.zeros(n)
    for c in range(padded.shape[0]):
        x = padded[c]
        for i in range(n):
            a = abs(x[i + half])
            if a > out[i]:
                out[i] = a
            if i + 1 < n and (a > floor or abs(x[i + half + 1]) > floor):
                for p in range(taps.shape[0]):
                    total = 0.0
                    for k in range(taps.shape[1]):
                        total += taps[p, k] * x[i + k + 1]
                    total = abs(total)
                    if total > out[i]:
                        out[i] = total
                    if total > out[i + 1]:
                        out[i + 1] = total
    return out


#: Samples that are looked at together, and on how many before and behind what opens above 19 kHz depends.
TILE, EDGE_REACH = 64, len(EDGE_TAPS) - 1


@njit(cache=True, nogil=True, fastmath=_REORDERED)
def _needed(padded: np.ndarray, peaks: np.ndarray, taps: np.ndarray, ceiling: float) -> np.ndarray:  # pragma: no cover - compiled
    """Gain at which each sample stays under the ceiling, at most 1, shape (n,). `padded` has EDGE_REACH samples of silence on both
    sides. What the high-pass lets through is no louder than the loudest sample that it hears: where that can't pass the ceiling,
    nothing is worked out."""
    n, half = len(peaks), (len(taps) - 1) // 2
    out = np.ones(n)
    room = np.zeros((3, TILE + 2 * half))
    for start in range(0, n, TILE):
        many = min(TILE, n - start)
        loudest = 0.0
        for i in range(max(0, start - EDGE_REACH), min(n, start + many + EDGE_REACH)):
            loudest = max(loudest, peaks[i])
        if loudest * (1.0 + EDGE_SHARE) <= ceiling:
            continue
        heard, edge, highest = room[0, : many + 2 * half], room[1, : many + 2 * half], room[2, :many]
        edge[:] = 0.0
        highest[:] = 0.0
        # Outer loops over taps, so that the inner ones run in vectors. From `half` samples before the tile to as many behind it.
        for c in range(padded.shape[0]):
            heard[:] = 0.0
            for k in range(len(taps)):
                at, tap = start + k + EDGE_REACH - 2 * half, taps[k]
                piece = padded[c, at : at + len(heard)]
                for i in range(len(heard)):
                    heard[i] += tap * piece[i]
            for i in range(len(heard)):
                edge[i] = max(edge[i], abs(heard[i]))
        for k in range(2 * half + 1):
            piece = edge[k : k + many]
            for i in range(many):
                highest[i] = max(highest[i], piece[i])
        for i in range(many):
            out[start + i] = min(1.0, ceiling / max(peaks[start + i] + EDGE_SHARE * highest[i], 1e-9))
    return out


@njit(cache=True, nogil=True)
def _gain(need: np.ndarray, ahead: int, release: int) -> np.ndarray:  # pragma: no cover - compiled
    """Never above `need`: falls over the look-ahead, climbs back by 1 / release per sample, shape (n,)."""
    n = len(need)
    climb = np.ones(n)
    slope = 1.0 / release
    last = 1.0
    for i in range(n):
        last = min(need[i], last + slope, 1.0)
        climb[i] = last
    # Lowest of the next `ahead` samples, by a monotone queue.
    low = np.ones(n)
    queue = np.zeros(n, np.int64)
    head, tail, j = 0, 0, 0
    for i in range(n):
        while j < n and j < i + ahead:
            while tail > head and climb[queue[tail - 1]] >= climb[j]:
                tail -= 1
            queue[tail] = j
            tail += 1
            j += 1
        while queue[head] < i:
            head += 1
        low[i] = climb[queue[head]]
    # Average of the last `ahead`, summed afresh every 64 samples so that rounding can't depend on where a piece began.
    out = np.ones(n)
    total = 0.0
    for i in range(n):
        if i % 64 == 0 or i < ahead:
            total = 0.0
            count = 0
            for k in range(max(0, i - ahead + 1), i + 1):
                total += low[k]
                count += 1
            out[i] = total / count
        else:
            total += low[i] - low[i - ahead]
            out[i] = total / ahead
    return out


#: Half-band interpolator of the clipper, Kaiser window.
CLIP_TAPS = 16


@njit(cache=True, nogil=True)
def _bend(x: float, knee: float) -> float:  # pragma: no cover - compiled
    """What the clipper takes away from `x`: 0 up to the knee, then towards 1.2 by tanh."""
    a = abs(x)
    if a <= knee:
        return 0.0
    room = 1.2 - knee
    bent = knee + room * np.tanh((a - knee) / room)
    return (bent - a) if x > 0 else (a - bent)


@njit(cache=True, nogil=True, fastmath=_REORDERED)
def _clip(padded: np.ndarray, taps: np.ndarray, knee: float) -> np.ndarray:  # pragma: no cover - compiled
    """`padded` has a filter of silence on both sides, and so has the result."""
    width = len(taps)
    half = width // 2
    out = padded.copy()
    for c in range(padded.shape[0]):
        x, y = padded[c], out[c]
        for i in range(width, len(x) - width):
            # The half-band decimator: half of this sample's own change and the shares of the points between.
            y[i] += 0.5 * _bend(x[i], knee)
            if max(abs(x[i]), abs(x[i + 1])) > 0.8 * knee:
                total = 0.0
                for k in range(width):
                    total += taps[k] * x[i + k - half + 1]
                change = 0.5 * _bend(total, knee)
                if change != 0.0:
                    for k in range(width):
                        y[i + k - half + 1] += change * taps[k]
    return out


@cache
def _clip_taps() -> np.ndarray:
    k = np.arange(-CLIP_TAPS // 2 + 1, CLIP_TAPS // 2 + 1) - 0.5
    taps = np.sinc(k) * np.kaiser(CLIP_TAPS + 2, 6.0)[1:-1]
    return np.asarray(taps / taps.sum())


def soft_clip(x: np.ndarray) -> np.ndarray:
    """Linear up to KNEE, then towards 1.2 by tanh; at twice the rate, so that its harmonics don't fold. Shape (2, n).

    Only what the clipper takes away passes through the decimator, so what stays under the knee is left untouched."""
    padded = np.pad(np.asarray(x, np.float64), ((0, 0), (CLIP_TAPS, CLIP_TAPS)))
    return np.asarray(_clip(padded, _clip_taps(), KNEE)[:, CLIP_TAPS:-CLIP_TAPS])


def limit(x: np.ndarray, ceiling_dbtp: float) -> np.ndarray:
    """Limited copy, shape (2, n). The first and last CONTEXT samples are only right if silence surrounds `x`."""
    ceiling = 10 ** ((ceiling_dbtp - MARGIN_DB) / 20)
    taps = interpolator(PEAK_HALF_TAPS, PEAK_PHASES)
    half = taps.shape[1] // 2
    peaks = _peaks(np.pad(np.asarray(x, np.float64), ((0, 0), (half, half))), taps, ceiling * 0.65)
    need = _needed(np.pad(np.asarray(x, np.float64), ((0, 0), (EDGE_REACH, EDGE_REACH))), peaks, EDGE_TAPS, ceiling)
    return np.asarray(x * _gain(need, LOOK_AHEAD, RELEASE))


def _limit(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    return limit(x * 10 ** (s.flat("gain_db") / 20), s.flat("ceiling_dbtp"))


def _clip_softly(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    return soft_clip(x * 10 ** (s.flat("gain_db") / 20))


_REACH_S = CONTEXT / 44_100

LIMITER = EffectSpec(
    "limiter", "Limiter",
    (Param("gain_db", "dB", -12, 24, 0, "Gain"), Param("ceiling_dbtp", "dBTP", -24, 0, -1, "Ceiling")),
    _limit, before_s=lambda s, bpm: _REACH_S, after_s=lambda s, bpm: _REACH_S,
)  # fmt: skip

CLIPPER = EffectSpec(
    "clipper", "Soft clipper", (Param("gain_db", "dB", -12, 24, 0, "Gain"),), _clip_softly,
    before_s=lambda s, bpm: 0.001, after_s=lambda s, bpm: 0.001,
)  # fmt: skip

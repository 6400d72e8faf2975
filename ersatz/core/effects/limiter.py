"""The end of the master: soft clipping, then a look-ahead limiter on true peaks.

Soft clipping is linear up to KNEE and bends by tanh above, run at 2x so that its harmonics don't fold. The limiter looks
for the peak of the signal interpolated 4x (BS.1770-5 annex 2), falls over LOOK_AHEAD samples and climbs back linearly
within at most RELEASE, so its gain depends on a bounded stretch of samples only and a render in pieces equals the whole.
"""

from __future__ import annotations

import math
from functools import cache
from math import comb

import numpy as np

from ersatz.core.compiled import inlined, unordered
from ersatz.core.dsp.shapers import tanh
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
EDGE_TAPS = np.array([(-1) ** k * comb(16, k) / 2.0**16 for k in range(17)], np.float32)
EDGE_SHARE = 0.6
#: What 4x interpolation can miss between its points.
MARGIN_DB = 0.22


#: Samples that are looked at together: inner loops run along them, in vectors.
TILE = 64


def mirrored(taps: np.ndarray) -> np.ndarray:
    """An interpolator by what its rows share, shape (phases - 1, half the taps): the row of the middle, which weighs a sample in
    front and the one as far behind alike, then for each pair of rows that mirror each other what weighs the sum of the two and what
    weighs their difference. Half the products of the rows themselves."""
    half, middle = taps.shape[1] // 2, len(taps) // 2
    rows = [taps[middle, :half]]
    for row in taps[:middle]:
        rows += [0.5 * (row + row[::-1])[:half], 0.5 * (row - row[::-1])[:half]]
    return np.array(rows)


@unordered
def _between(x: np.ndarray, taps: np.ndarray, sums: np.ndarray, many: int) -> None:  # pragma: no cover - compiled
    """The weighed sums of the seven rows of `mirrored` taps (PEAK_PHASES) for points behind `many` samples, into `sums`. x[0] is
    the first sample that the first point hears. Two taps a round, so that sums are fetched and put back half as often."""
    half = taps.shape[1]
    last = 2 * half - 1
    s0, s1, s2, s3, s4, s5, s6 = sums[0], sums[1], sums[2], sums[3], sums[4], sums[5], sums[6]
    sums[:] = 0
    for k in range(0, half, 2):
        a0, a1, a2, a3, a4, a5, a6 = taps[0, k], taps[1, k], taps[2, k], taps[3, k], taps[4, k], taps[5, k], taps[6, k]
        m = k + 1
        b0, b1, b2, b3, b4, b5, b6 = taps[0, m], taps[1, m], taps[2, m], taps[3, m], taps[4, m], taps[5, m], taps[6, m]
        front, behind, front_next, behind_next = x[k:], x[last - k :], x[m:], x[last - m :]
        for i in range(many):
            e, o = front[i] + behind[i], front[i] - behind[i]
            f, g = front_next[i] + behind_next[i], front_next[i] - behind_next[i]
            s0[i] += a0 * e + b0 * f
            s1[i] += a1 * e + b1 * f
            s2[i] += a2 * o + b2 * g
            s3[i] += a3 * e + b3 * f
            s4[i] += a4 * o + b4 * g
            s5[i] += a5 * e + b5 * f
            s6[i] += a6 * o + b6 * g


@unordered
def _peaks(padded: np.ndarray, taps: np.ndarray, floor: float) -> np.ndarray:  # pragma: no cover - compiled
    """Largest magnitude around each sample, interpolated points included where it matters, float32, shape (n,). `padded`, float32,
    has half a filter of silence on both sides; `taps` are `mirrored` ones, float32."""
    half = taps.shape[1]
    n = padded.shape[1] - 2 * half
    # One more behind the end.
    out = np.zeros(n + 1, np.float32)
    sums, room, least = np.zeros((7, TILE), np.float32), np.zeros((2, TILE + 1), np.float32), np.float32(floor)
    s0, s1, s2, s3, s4, s5, s6 = sums[0], sums[1], sums[2], sums[3], sums[4], sums[5], sums[6]
    level, highest = room[0], room[1]
    for c in range(padded.shape[0]):
        for start in range(0, n, TILE):
            many = min(TILE, n - start)
            x, here, behind = padded[c, start + half :], out[start : start + many], out[start + 1 : start + many + 1]
            loud = 0
            for i in range(many + 1):
                level[i] = abs(x[i])
                loud += level[i] > least
            for i in range(many):
                here[i] = max(here[i], level[i])
            if not loud:
                continue
            _between(padded[c, start + 1 : start + many + 2 * half], taps, sums, many)
            for i in range(many):
                # Two rows that mirror each other are the sum and the difference of the same two: the larger one, that of both.
                pair = max(abs(s1[i]) + abs(s2[i]), abs(s3[i]) + abs(s4[i]))
                peak = max(abs(s0[i]), pair, abs(s5[i]) + abs(s6[i]))
                highest[i] = peak if max(level[i], level[i + 1]) > least else np.float32(0.0)
            for i in range(many):
                here[i] = max(here[i], highest[i])
            for i in range(many):
                behind[i] = max(behind[i], highest[i])
    return out[:n]


#: On how many samples before and behind what opens above 19 kHz depends.
EDGE_REACH = len(EDGE_TAPS) - 1


@unordered
def _needed(padded: np.ndarray, peaks: np.ndarray, taps: np.ndarray, ceiling: float) -> np.ndarray:  # pragma: no cover - compiled
    """Gain at which each sample stays under the ceiling, at most 1, float64, shape (n,). `padded` has EDGE_REACH samples of silence
    on both sides. What the high-pass lets through is no louder than the loudest sample that it hears: where that can't pass the
    ceiling, nothing is worked out."""
    n, half = len(peaks), (len(taps) - 1) // 2
    out = np.ones(n)
    heard, edge, highest = np.zeros((3, TILE + 2 * half), padded.dtype)
    most = np.float32(ceiling / (1.0 + EDGE_SHARE))
    for start in range(0, n, TILE):
        many = min(TILE, n - start)
        loud = 0
        around = peaks[max(0, start - EDGE_REACH) : start + many + EDGE_REACH]
        for i in range(len(around)):
            loud += around[i] > most
        if not loud:
            continue
        # Outer loops over taps, so that the inner ones run in vectors. From `half` samples before the tile to as many behind it.
        wide = many + 2 * half
        edge[:] = 0
        for c in range(padded.shape[0]):
            x = padded[c, start + EDGE_REACH - 2 * half :]
            middle = x[half:]
            for i in range(wide):
                heard[i] = taps[half] * middle[i]
            for k in range(half):
                tap, front, behind = taps[k], x[k:], x[2 * half - k :]
                for i in range(wide):
                    heard[i] += tap * (front[i] + behind[i])
            for i in range(wide):
                edge[i] = max(edge[i], abs(heard[i]))
        highest[:] = 0
        for k in range(2 * half + 1):
            piece = edge[k:]
            for i in range(many):
                highest[i] = max(highest[i], piece[i])
        here, need = peaks[start:], out[start:]
        for i in range(many):
            need[i] = min(1.0, ceiling / max(here[i] + EDGE_SHARE * highest[i], 1e-9))
    return out


#: The limiter's gain is summed afresh so often, so that rounding can't depend on where a piece began.
SUMMED_AFRESH = 64


@unordered
def _gain(need: np.ndarray, ahead: int, release: int) -> np.ndarray:  # pragma: no cover - compiled
    """Never above `need`: falls over the look-ahead, climbs back by 1 / release per sample, shape (n,)."""
    n = len(need)
    climb = np.ones(n)
    slope = 1.0 / release
    last = 1.0
    for i in range(n):
        last = min(need[i], min(last + slope, 1.0))
        climb[i] = last
    # Lowest of the next `ahead` samples: of blocks as long, from a sample to the end of its block and from the begin of the next
    # one on (van Herk 1992).
    low, begun = np.ones(n), np.ones(n)
    for first in range(0, n, ahead):
        stop = min(first + ahead, n)
        least = 1.0
        for i in range(first, stop):
            least = min(least, climb[i])
            begun[i] = least
        least = 1.0
        for i in range(stop - 1, first - 1, -1):
            least = min(least, climb[i])
            low[i] = least
    for i in range(n):
        low[i] = min(low[i], begun[min(i + ahead - 1, n - 1)])
    # Average of the last `ahead`, of fewer at the begin.
    out = np.ones(n)
    total = 0.0
    for i in range(min(ahead, n)):
        total += low[i]
        out[i] = total / (i + 1)
    for start in range(ahead, n, SUMMED_AFRESH):
        total = 0.0
        for k in range(start - ahead, start):
            total += low[k]
        for i in range(start, min(start + SUMMED_AFRESH, n)):
            total += low[i] - low[i - ahead]
            out[i] = total / ahead
    return out


#: Half-band interpolator of the clipper, Kaiser window.
CLIP_TAPS = 16


@inlined
def _bend(x: np.float32, knee: float) -> float:  # pragma: no cover - compiled
    """Half of what the clipper takes away from `x`: nothing up to the knee, then towards 1.2 by tanh. Without a branch, so that it
    runs in vectors."""
    room, over = 1.2 - knee, max(abs(np.float64(x)) - knee, 0.0)
    return math.copysign(0.5 * (over - room * tanh(over / room)), -x)


@unordered
def _clip(padded: np.ndarray, taps: np.ndarray, knee: float) -> np.ndarray:  # pragma: no cover - compiled
    """`padded` has a filter of silence on both sides, and so has the result. What is bent halfway between samples first, then the
    half-band decimator: half of a sample's own change and the shares of the points around it. `taps` mirror themselves."""
    width = len(taps)
    half = width // 2
    n = padded.shape[1] - 2 * width
    # Between two samples under this, nothing is looked for.
    near, least = np.float32(0.8 * knee), np.float32(knee)
    out = padded.copy()
    changes = np.zeros(padded.shape[1], padded.dtype)
    bends = np.zeros(n // TILE + 3, np.bool_)
    sums, level = np.zeros(TILE, padded.dtype), np.zeros(TILE + 1, padded.dtype)
    for c in range(padded.shape[0]):
        changes[:] = 0
        bends[:] = False
        for tile in range((n + TILE - 1) // TILE):
            start = width + tile * TILE
            many = min(TILE, width + n - start)
            x, y, z = padded[c, start:], out[c, start:], changes[start:]
            loud, over, between = 0, 0, 0
            for i in range(many + 1):
                level[i] = abs(x[i])
                loud += level[i] > near
                over += level[i] > least
            if not loud:
                continue
            sums[:] = 0
            for k in range(half):
                tap, front, behind = taps[k], padded[c, start + k - half + 1 :], padded[c, start + half - k :]
                for i in range(many):
                    sums[i] += tap * (front[i] + behind[i])
            if over:
                for i in range(many):
                    y[i] += _bend(x[i], knee)
            for i in range(many):
                sums[i] = sums[i] if max(level[i], level[i + 1]) > near else np.float32(0.0)
                between += abs(sums[i]) > least
            if between:
                bends[tile + 1] = True
                for i in range(many):
                    z[i] = _bend(sums[i], knee)
        for tile in range((n + TILE - 1) // TILE):
            if not (bends[tile] or bends[tile + 1] or bends[tile + 2]):
                continue
            start = width + tile * TILE
            many = min(TILE, width + n - start)
            y = out[c, start:]
            for k in range(half):
                tap, front, behind = taps[k], changes[start + k - half :], changes[start + half - 1 - k :]
                for i in range(many):
                    y[i] += tap * (front[i] + behind[i])
    return out


@cache
def _clip_taps() -> np.ndarray:
    k = np.arange(-CLIP_TAPS // 2 + 1, CLIP_TAPS // 2 + 1) - 0.5
    taps = np.sinc(k) * np.kaiser(CLIP_TAPS + 2, 6.0)[1:-1]
    return np.asarray(taps / taps.sum(), np.float32)


def soft_clip(x: np.ndarray) -> np.ndarray:
    """Linear up to KNEE, then towards 1.2 by tanh; at twice the rate, so that its harmonics don't fold. Shape (2, n), float32.

    Only what the clipper takes away passes through the decimator, so what stays under the knee is left untouched."""
    return np.asarray(_clip(_padded(x, CLIP_TAPS), _clip_taps(), KNEE)[:, CLIP_TAPS:-CLIP_TAPS])


def _padded(x: np.ndarray, by: int) -> np.ndarray:
    """With so many silent samples on both sides, float32."""
    out: np.ndarray = np.zeros((len(x), x.shape[1] + 2 * by), np.float32)
    out[:, by:-by] = x
    return out


@cache
def _peak_taps() -> np.ndarray:
    return mirrored(interpolator(PEAK_HALF_TAPS, PEAK_PHASES)).astype(np.float32)


def limit(x: np.ndarray, ceiling_dbtp: float) -> np.ndarray:
    """Limited copy, shape (2, n), float32. The first and last CONTEXT samples are only right if silence surrounds `x`."""
    x = np.asarray(x, np.float32)
    ceiling = 10 ** ((ceiling_dbtp - MARGIN_DB) / 20)
    peaks = _peaks(_padded(x, PEAK_HALF_TAPS), _peak_taps(), ceiling * 0.65)
    need = _needed(_padded(x, EDGE_REACH), peaks, EDGE_TAPS, ceiling)
    return np.asarray(x * _gain(need, LOOK_AHEAD, RELEASE).astype(np.float32))


def _limit(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    return limit(x * 10 ** (s.flat("gain_db") / 20), s.flat("ceiling_dbtp")).astype(np.float64)


def _clip_softly(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    return soft_clip(x * 10 ** (s.flat("gain_db") / 20)).astype(np.float64)


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

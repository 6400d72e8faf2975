"""Fast levels for the pump: mid and side in narrow and in quick bands, cut by the grid.

Conventions: at RATE_HZ, Hann frames of FRAME samples (23 ms) whose bins up to NARROW_TOP stand alone, and of QUICK_FRAME samples
(12 ms) in wider bands, every HOP samples; levels are power in dB, cut into PER_BEAT points per beat.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ersatz.core.audio import resample
from ersatz.core.compiled import compiled
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.frames import band_powers
from ersatz.core.survey.threads import in_threads

RATE_HZ = 11_025
FRAME, QUICK_FRAME, HOP = 256, 128, 64
#: First and last bin of FRAME that stands alone, and the edges of the bands above, in bins.
NARROW_FIRST, NARROW_TOP = 1, 36
WIDE_EDGES = (36, 42, 50, 60, 72, 86, 104, 122)
QUICK_EDGES = (6, 8, 11, 15, 20, 26, 34, 44, 60)
#: Points per beat of a cut curve.
PER_BEAT = 64
BLOCK = 1024
#: What lies further under its own row's top, or under the loudest row's, isn't heard, dB.
ROW_FLOOR_DB, FLOOR_DB = 45.0, 75.0
#: Share of the ceiling that the inverse curve is driven to: none of it at the first median of the half seconds' peaks (against the
#: highest), all of it at the second.
DRIVE, VARIED, ALIKE = 0.96, 0.65, 0.84
#: Peaks this near to the highest are at a limiter's ceiling; a track with so many of them was limited.
PINNED, LIMITED = 0.99, 0.2
#: Less than this changes no level.
LEAST_DRIVE = 0.05
#: A side quieter than this against the mid is none: power.
NO_SIDE = 1e-6


@dataclass(frozen=True)
class Levels:
    """`db` has shape (rows, bars, points), NaN where nothing sounds; `centers_hz`, `side` and `quick` describe the rows."""

    db: np.ndarray
    centers_hz: np.ndarray
    side: np.ndarray
    #: Rows of QUICK_FRAME; the others of FRAME overlap with them.
    quick: np.ndarray


def fast_powers(
    mid: np.ndarray, side: np.ndarray, rate_hz: int, resampled_mid: Callable[[], np.ndarray] | None = None
) -> list[np.ndarray]:
    """Power per row and frame of the mid and, unless there is none, of the side; needs no grid. `resampled_mid`: gives the mid at
    RATE_HZ where others need it too."""
    has_side = float(side @ side) > NO_SIDE * float(mid @ mid)
    drive = _drive(mid, side, rate_hz)
    if drive > 0:
        mid, side = _unsaturated(mid, side, rate_hz, drive)
    slow_mid = resampled_mid() if resampled_mid and drive == 0 else _resampled(mid, rate_hz)
    return [_row_power(slow_mid), *([_row_power(_resampled(side, rate_hz))] if has_side else [])]


def _resampled(x: np.ndarray, rate_hz: int) -> np.ndarray:
    return np.asarray(resample(x[None], rate_hz, RATE_HZ)[0])


def row_centers_hz() -> np.ndarray:
    """Centre frequencies of one channel's rows."""
    bin_hz, quick_hz = RATE_HZ / FRAME, RATE_HZ / QUICK_FRAME
    narrow = np.arange(NARROW_FIRST, NARROW_TOP) * bin_hz
    wide = [np.sqrt(a * b) * bin_hz for a, b in pairwise(WIDE_EDGES)]
    quick = [np.sqrt(a * b) * quick_hz for a, b in pairwise(QUICK_EDGES)]
    return np.concatenate([narrow, wide, quick])


def cut_levels(bars: BarTable, powers: list[np.ndarray]) -> Levels:
    """`powers` as fast_powers gives them, cut into bars."""
    points = PER_BEAT * bars.grid.beats_per_bar
    times = (bars.edges_s[:-1, None] + np.arange(points) / points * bars.grid.bar_s).ravel()
    place = np.clip(times * RATE_HZ / HOP, 0, powers[0].shape[1] - 1.001)
    base = place.astype(int)
    part = (place - base).astype(np.float32)
    rows = [row for power in powers for row in power]
    cut = np.empty((len(rows), len(base)), np.float32)

    def fill(k: int) -> float:
        db = 10 * np.log10(rows[k] + np.float32(1e-9))
        _between(db, base, part, cut[k])
        return float(np.percentile(cut[k], 99))

    top = np.array(in_threads(fill, range(len(rows))))
    floor = np.maximum(top - ROW_FLOOR_DB, top.max() - FLOOR_DB)
    cut[cut < floor[:, None].astype(np.float32)] = np.nan
    centers = row_centers_hz()
    return Levels(
        cut.reshape(len(cut), bars.count, points),
        np.tile(centers, len(powers)),
        np.repeat(np.arange(len(powers)) == 1, len(centers)),
        np.tile(np.arange(len(centers)) > len(centers) - len(QUICK_EDGES), len(powers)),
    )


@compiled
def _between(values: np.ndarray, base: np.ndarray, part: np.ndarray, out: np.ndarray) -> None:
    """Values at places between two frames."""
    for i in range(len(base)):
        out[i] = values[base[i]] * (1 - part[i]) + values[base[i] + 1] * part[i]


def _drive(mid: np.ndarray, side: np.ndarray, rate_hz: int) -> float:
    """What the samples have to be multiplied with to stand on the curve (tanh) of the master's saturation, 0 where there is none.

    A master driven into its ceiling turns down everything under the kick, which isn't the sidechain. Where the peaks of every half
    second are alike, as saturation makes them, it was driven; where they vary, or where a limiter has made them equal, it wasn't.
    """
    pieces = _half_seconds(mid, rate_hz)
    top = max(1e-9, *(float((np.abs(mid[p]) + np.abs(side[p])).max()) for p in pieces))
    peaks = np.array([np.abs(mid[p] + side[p]).max() for p in pieces if p.stop <= len(mid)]) / top
    loud = peaks[peaks > 0.5]
    alike = float(np.median(loud)) if len(loud) else 0.0
    pinned = float((loud > PINNED).mean()) if len(loud) else 0.0
    drive = DRIVE * float(np.clip((alike - VARIED) / (ALIKE - VARIED), 0, 1)) * (pinned < LIMITED)
    return drive / top if drive >= LEAST_DRIVE else 0.0


def _unsaturated(mid: np.ndarray, side: np.ndarray, rate_hz: int, drive: float) -> tuple[np.ndarray, np.ndarray]:
    """Mid and side before the master's saturation."""
    scale = np.float32(drive)
    new_mid, new_side = np.empty_like(mid), np.empty_like(side)
    for p in _half_seconds(mid, rate_hz):
        left, right = np.arctanh((mid[p] + side[p]) * scale), np.arctanh((mid[p] - side[p]) * scale)
        new_mid[p], new_side[p] = (left + right) * np.float32(0.5), (left - right) * np.float32(0.5)
    return new_mid, new_side


def _half_seconds(x: np.ndarray, rate_hz: int) -> list[slice]:
    """They fit the cache, whole tracks don't."""
    return [slice(i, i + rate_hz // 2) for i in range(0, len(x), rate_hz // 2)]


def _row_power(x: np.ndarray) -> np.ndarray:
    narrow = _frame_power(x, FRAME, (*range(NARROW_FIRST, NARROW_TOP), *WIDE_EDGES))
    return np.concatenate([narrow, _frame_power(x, QUICK_FRAME, QUICK_EDGES)])


def _frame_power(x: np.ndarray, frame: int, edges: tuple[int, ...]) -> np.ndarray:
    """Power between neighbouring bins per frame, shape (len(edges) - 1, frames)."""
    padded = np.pad(x, (frame // 2, frame))
    frames = np.lib.stride_tricks.sliding_window_view(padded, frame)[::HOP][: len(x) // HOP + 1]
    bins = np.array(edges)
    whole = np.ones(len(bins) - 1, np.float32)
    return band_powers(frames, (bins[:-1], whole, bins[1:], 0 * whole), BLOCK)

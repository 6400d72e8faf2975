"""How levels move within the bar, whatever the music: what ducking is read from.

Levels of all bars are laid over each other, and for each region of the spectrum and each point of the bar the spread of two things
is kept: how the level moves from there on, over the next LAGS points, and where it stands against its row's own median. A note that
is struck anew jumps, a ducked one climbs; what moves alike in most bars and rows of a region shows in all its quantiles.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.survey.envelopes import Levels

#: Distances in points over which levels are seen to move.
LAGS = (4, 16)
#: Differences and levels are counted in bins of STEP_DB up to EDGE_DB.
EDGE_DB, STEP_DB = 30.0, 0.5
BINS = int(2 * EDGE_DB / STEP_DB) + 1
MOVES, STANDS = (0.2, 0.5, 0.8), (0.5, 0.85)
#: Fewer differences say nothing.
LEAST = 3
#: Edges of regions: of the mid's and the side's narrow rows, and of their quick rows.
MID_HZ, SIDE_HZ, QUICK_HZ = (150.0, 350.0, 1000.0, 2200.0), (350.0, 1000.0, 2200.0), (1200.0,)
REGIONS = len(MID_HZ) + len(SIDE_HZ) + 2 * len(QUICK_HZ) + 4
#: What is told of each region: quantiles of moves per lag, of levels, and the share of what is known.
FEATURES = len(LAGS) * len(MOVES) + len(STANDS) + 1


def fold(levels: Levels, use: np.ndarray) -> np.ndarray:
    """Of the bars that are in use (bool per bar): float32, shape (REGIONS * FEATURES, points), region by region; moves and levels
    in units of 10 dB, 0 where too little is known.
    """
    db = np.ascontiguousarray(levels.db[:, use], np.float32)
    rows, bars, points = db.shape
    region = _regions(levels)
    every = db.reshape(rows, -1)[:, ::4]
    known = np.isfinite(every).any(axis=1)
    median = np.zeros(rows, np.float32)
    median[known] = np.nanmedian(every[known], axis=1)
    moves = np.zeros((len(LAGS), REGIONS, points, BINS), np.float32)
    stands = np.zeros((REGIONS, points, BINS), np.float32)
    count = np.zeros((REGIONS, points), np.float32)
    _count(db, median, region, np.array(LAGS), moves, stands, count)
    share = count / np.maximum(np.bincount(region, minlength=REGIONS)[:, None] * bars, 1)
    told = [_quantiles(m, MOVES) for m in moves] + [_quantiles(stands, STANDS)]
    return np.concatenate([np.concatenate(told, axis=1) / 10, share[:, None]], axis=1).reshape(-1, points).astype(np.float32)


def _regions(levels: Levels) -> np.ndarray:
    """Number of each row's region: the mid's narrow and quick ones, then the side's."""
    out = np.empty(len(levels.centers_hz), np.int64)
    first = 0
    for side, edges_hz in ((False, MID_HZ), (True, SIDE_HZ)):
        for quick, bounds_hz in ((False, edges_hz), (True, QUICK_HZ)):
            mine = (levels.side == side) & (levels.quick == quick)
            out[mine] = first + np.searchsorted(bounds_hz, levels.centers_hz[mine], side="right")
            first += len(bounds_hz) + 1
    return out


def _quantiles(counts: np.ndarray, shares: tuple[float, ...]) -> np.ndarray:
    """dB, shape (regions, shares, points), from counts of shape (regions, points, bins); 0 where LEAST isn't reached."""
    summed = np.cumsum(counts, axis=-1)
    total = summed[..., -1:]
    bins = np.stack([(summed < share * total).sum(axis=-1) for share in shares], axis=1)
    return np.where(total[:, None, :, 0] >= LEAST, np.minimum(bins, BINS - 1) * STEP_DB - EDGE_DB, 0.0)


@compiled
def _count(
    db: np.ndarray, median: np.ndarray, region: np.ndarray, lags: np.ndarray,
    moves: np.ndarray, stands: np.ndarray, count: np.ndarray,
) -> None:  # fmt: skip
    points = db.shape[2]
    for row in range(db.shape[0]):
        where = region[row]
        flat = db[row].reshape(-1)
        for i in range(len(flat)):
            level = flat[i]
            if level != level:
                continue
            point = i % points
            count[where, point] += 1
            stands[where, point, int((max(-EDGE_DB, min(EDGE_DB, level - median[row])) + EDGE_DB) / STEP_DB)] += 1
            for k in range(len(lags)):
                if i + lags[k] < len(flat):
                    move = flat[i + lags[k]] - level
                    if move == move:
                        moves[k, where, point, int((max(-EDGE_DB, min(EDGE_DB, move)) + EDGE_DB) / STEP_DB + 0.5)] += 1

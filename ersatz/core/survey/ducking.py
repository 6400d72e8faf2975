"""How well does a ducker's curve explain how levels move?

A ducker multiplies: whatever else happens, every level that it acts on moves by the curve's own difference between two moments.
Music moves levels too, but seldom by just that: its onsets are jumps, its decays differ from note to note and from band to
band. So the differences of level between pairs of moments, of all bars and bands, are gathered by place in the bar, and a curve
is scored by how many of them lie where it puts them: a redescending M-estimator (Huber & Ronchetti 2009; here the Cauchy loss),
in which notes struck anew, the kick itself and all that isn't ducked are outliers. Bands that follow better without the curve
count nothing, so that ducked and unducked material may sound together.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy

from ersatz.core.compiled import compiled, unordered
from ersatz.core.survey.envelopes import FRAME, PER_BEAT, RATE_HZ
from ersatz.core.survey.threads import in_threads

#: Distances of the pairs in points.
LAGS = (2, 4, 8, 16, 32)
#: Those that single sections are read from.
SECTION_LAGS = (8, 32)
#: Differences are counted in bins of STEP_DB up to EDGE_DB.
EDGE_DB, STEP_DB = 40.0, 1.0
BINS = int(2 * EDGE_DB / STEP_DB) + 1
BIN_DB = (np.arange(BINS) - BINS // 2) * STEP_DB
#: Squared distance of every bin from every other.
BIN_APART = np.square(BIN_DB[:, None] - BIN_DB[None, :])
#: The loss's scale: the differences' own spread within these bounds, dB.
SCALE_DB = (0.5, 4.0)
#: Rows that are counted, and candidates that are looked up, at a time.
TOGETHER, CANDIDATES = 16, 64
#: A row with fewer differences says as little as one with none.
LEAST_COUNT = 500
#: How far rows with clear evidence outweigh those with little: the power of the mean over rows that a curve is chosen by.
#: What isn't ducked only ever makes a row shallower, so the clearest rows are nearest to the truth.
CLEAR = 2.0
#: A part of the spectrum that explains so much has half a voice in the depth, and the share of all voices that it is taken at.
HALF_HEARD, AGREED = 0.02, 0.4
#: Depths come out too shallow by so much, on all material alike: noise beside a level makes its differences smaller.
SHRUNK = 1.1
FALL_S = 0.003
#: Curves are drawn this much finer than points.
FINE = 4
#: Curves this near to the best one's score are as good: their mean is the answer.
AS_GOOD = 0.985
#: Hypotheses that explain less than this share of the best one's are out.
NEAR = 0.5
#: A trigger less must explain so much more.
MORE = 1.1

#: Recovery from 1 to 0 over x = 0..1 at a depth in dB: two exponentials, straight, S-shaped and bowed in dB, straight in gain, as
#: curves are drawn or made by compressors (releases after Giannoulis, Massberg & Reiss 2012).
RECOVERIES: tuple[Callable[[np.ndarray, np.ndarray], np.ndarray], ...] = (
    lambda x, depth: (np.exp(-3.5 * x) - np.exp(-3.5)) / (1 - np.exp(-3.5)),
    lambda x, depth: (np.exp(-5.5 * x) - np.exp(-5.5)) / (1 - np.exp(-5.5)),
    lambda x, depth: 1 - x,
    lambda x, depth: 0.5 + 0.5 * np.cos(np.pi * x),
    lambda x, depth: 1 - x**1.7,
    lambda x, depth: -20 * np.log10(10 ** (-depth / 20) * (1 - x) + x) / depth,
)


@dataclass(frozen=True)
class Trigger:
    """A hypothesis: points of the bar at which the curve starts anew, and how long it is at most, in beats."""

    rate: str
    at: tuple[int, ...]
    beats: float
    #: How plain an explanation it is: what it explains counts by so much.
    plain: float = 1.0


@dataclass(frozen=True)
class Evidence:
    """Cauchy score of every difference, shape (lags, points, differences, rows); its scale in dB, shape (rows, lags); and how many
    differences were counted per row.
    """

    table: np.ndarray
    scale_db: np.ndarray
    count: np.ndarray


@dataclass(frozen=True)
class Curves:
    """Candidates: depth and end (n,), gain over one period in dB (n, PER_BEAT * FINE * beats), as seen over the bar (n, points)."""

    depth_db: np.ndarray
    end: np.ndarray
    gain_db: np.ndarray
    seen_db: np.ndarray


@dataclass(frozen=True)
class Fit:
    """The best curve under one trigger. `gain` is the mean score over no curve, `rows` the same by row."""

    trigger: Trigger
    depth_db: float
    curve_db: np.ndarray
    gain: float
    rows: np.ndarray


def gather(levels: np.ndarray) -> Evidence:
    """`levels` in dB, shape (rows, bars, points), NaN where nothing is known."""
    rows, _, points = levels.shape
    table = np.zeros((len(LAGS), points, BINS, rows), np.float32)
    scales = np.full((rows, len(LAGS)), SCALE_DB[1], np.float32)
    counted = np.zeros(rows, np.float32)

    def fill(part: np.ndarray) -> None:
        scored = np.zeros((len(part), len(LAGS), points, BINS), np.float32)
        for row, score in zip(part, scored):
            counts = np.zeros((len(LAGS), points, BINS), np.float32)
            _count(np.ascontiguousarray(levels[row], np.float32), np.array(LAGS), counts)
            counted[row] = counts.sum()
            for k in range(len(LAGS)):
                share = counts[k].sum(axis=0)
                if share.sum() < LEAST_COUNT / 10:
                    continue
                order = np.cumsum(share) / share.sum()
                spread = np.interp(0.75, order, BIN_DB) - np.interp(0.25, order, BIN_DB)
                scales[row, k] = np.clip(spread / 1.35, *SCALE_DB)
                score[k] = counts[k] @ (-np.log1p(BIN_APART / scales[row, k] ** 2)).astype(np.float32)
        # Rows lie next to each other in the table: one alone would be written all over it.
        table[..., part[0] : part[-1] + 1] = np.moveaxis(scored, 0, -1)

    in_threads(fill, np.array_split(np.arange(rows), -(-rows // TOGETHER)))
    return Evidence(table, scales, counted)


def best_fits(evidence: Evidence, triggers: list[Trigger], beat_s: float) -> tuple[Fit, ...]:
    """The likeliest first: a coarse search under every trigger, a fine one under those that come near to the best."""
    points = evidence.table.shape[1]

    def start(trigger: Trigger) -> tuple[float, float, float]:
        coarse = draw_curves(trigger, beat_s, points, (0, 2, 3), np.array([0.25, 0.4, 0.6, 0.8, 0.95]), np.array([0.01]),
                             np.array([2.0, 4.0, 6.5, 10.0, 15.0, 22.0]))  # fmt: skip
        scores = _scores(evidence, coarse.seen_db)
        k = int(np.argmax(_clear(scores)))
        return float(scores.mean(axis=1).max()) * trigger.plain, float(coarse.end[k]), float(coarse.depth_db[k])

    starts = in_threads(start, triggers)
    best = max(worth for worth, _, _ in starts)
    near = [(trigger, end, depth) for trigger, (worth, end, depth) in zip(triggers, starts) if worth >= NEAR * best]
    fits = in_threads(lambda at: _fine_fit(evidence, at[0], beat_s, *at[1:]), near)
    return tuple(sorted(fits, key=lambda f: -f.gain * f.trigger.plain))


def triggering(evidence: Evidence, places: list[int], beat_s: float) -> list[int]:
    """Numbers of those of the places (points of the bar) that a curve starts at: all of them, less one after the other for as long
    as the rest explains more without.
    """

    def worth(chosen: list[int]) -> float:
        trigger = Trigger("", tuple(places[i] for i in chosen), 1.0)
        ends, depths = np.array([0.3, 0.6]), np.array([4.0, 9.0])
        curves = draw_curves(trigger, beat_s, evidence.table.shape[1], (1, 2), ends, np.array([0.01]), depths)
        return float(_scores(evidence, curves.seen_db).mean(axis=1).max())

    chosen = list(range(len(places)))
    best = worth(chosen) if chosen else 0.0
    while len(chosen) > 1:
        without = [[i for i in chosen if i != out] for out in chosen]
        gains = [worth(rest) for rest in without]
        k = int(np.argmax(gains))
        if gains[k] < MORE * best:
            break
        chosen, best = without[k], gains[k]
    return chosen


def _fine_fit(evidence: Evidence, trigger: Trigger, beat_s: float, end: float, depth: float) -> Fit:
    ends = np.clip(end + np.array([-0.14, -0.07, 0.0, 0.07, 0.14]), 0.12, 1.0)
    depths = np.clip(depth * np.geomspace(0.62, 1.6, 9), 1.0, 32.0)
    fine = draw_curves(trigger, beat_s, evidence.table.shape[1], range(len(RECOVERIES)), ends, np.array([0.0, 0.015, 0.03]), depths)
    scores = _scores(evidence, fine.seen_db)
    worth = _clear(scores)
    good = worth >= AS_GOOD * worth.max()
    k = int(np.argmax(worth))
    curve = np.average(fine.gain_db[good], axis=0, weights=worth[good] + 1e-9)
    return Fit(trigger, -float(curve.min()), curve, float(scores.mean(axis=1).max()), scores[k])


def agreed(evidence: Evidence, fit: Fit, beat_s: float, regions: np.ndarray, voices: np.ndarray) -> Fit:
    """The fit at the depth that different parts of the spectrum agree on: `regions` names each row's part (0, 1, ...), `voices` how
    much each part has to say. A bass that rests on the beat looks deeply ducked in its own part, and what isn't ducked makes others
    shallow; a weighted quantile over the parts holds.
    """
    factors = np.geomspace(0.25, 2.2, 30)
    scores = _scores(evidence, _scaled(fit, beat_s, evidence.table.shape[1], factors))
    found, weights = np.ones(len(voices)), np.zeros(len(voices))
    for region in np.unique(regions):
        worth = _clear(scores[:, regions == region])
        k = int(np.argmax(worth))
        found[region] = factors[k]
        weights[region] = voices[region] * worth[k] / (worth[k] + HALF_HEARD)
    if weights.sum() <= 0:
        return fit
    order = np.argsort(found)
    k = int(np.searchsorted(np.cumsum(weights[order]), AGREED * weights.sum()))
    factor = SHRUNK * float(found[order[k]])
    return replace(fit, depth_db=factor * fit.depth_db, curve_db=factor * fit.curve_db)


def _scaled(fit: Fit, beat_s: float, points: int, factors: np.ndarray) -> np.ndarray:
    """The fitted curve times each factor as seen over the bar, shape (factors, points)."""
    return _seen(factors[:, None] * fit.curve_db, fit.trigger, beat_s, points)


def depths_like(evidence: Evidence, fit: Fit, beat_s: float, chosen: np.ndarray, deepest_db: float) -> float:
    """Depth at which the fitted curve, only scaled, explains the chosen rows best, dB; 0 where none of them follows it."""
    factors = np.linspace(0.0, max(1.0, deepest_db / max(fit.depth_db, 1e-9)), 25)[1:]
    scores = _scores(evidence, _scaled(fit, beat_s, evidence.table.shape[1], factors))[:, chosen]
    worth = _clear(scores) if scores.shape[1] else np.zeros(len(factors))
    k = int(np.argmax(worth))
    return float(factors[k] * fit.depth_db) if worth[k] > 0 else 0.0


def depth_of_bars(levels: np.ndarray, evidence: Evidence, fit: Fit, beat_s: float) -> float:
    """Depth at which the fitted curve, only scaled, explains some bars best, dB; 0 where they don't follow it. `levels` has shape
    (rows, bars, points) with the rows of `evidence`. A section needs no finer answer than every third row, every fourth difference
    and two lags give.
    """
    factors = np.linspace(0.0, 1.25, 9)
    seen = _scaled(fit, beat_s, levels.shape[2], factors)
    rows = np.ascontiguousarray(levels[::3], np.float32)
    out = np.zeros((len(factors), len(rows)), np.float32)
    lags = [LAGS.index(lag) for lag in SECTION_LAGS]
    _explain(rows, seen, np.array(SECTION_LAGS), np.ascontiguousarray(evidence.scale_db[::3, lags]), out)
    worth = _clear(out - out[:1])
    k = int(np.argmax(worth))
    return float(factors[k] * fit.depth_db)


def draw_curves(
    trigger: Trigger,
    beat_s: float,
    points: int,
    shapes: Sequence[int],
    ends: np.ndarray,
    holds_s: np.ndarray,
    depths_db: np.ndarray,
    frame: int = FRAME,
) -> Curves:
    """Every combination of recovery, end (share of the period), hold and depth that lasts long enough to be one, as seen by frames
    of so many samples."""
    n = int(PER_BEAT * FINE * trigger.beats)
    period_s = trigger.beats * beat_s
    t = np.arange(n) / n * period_s
    kinds = np.array(shapes)
    kind, end, hold, depth = (v.ravel() for v in np.meshgrid(kinds, ends, holds_s, depths_db, indexing="ij"))
    usable = end * period_s - hold - FALL_S > 0.03
    kind, end, hold, depth = kind[usable], end[usable], hold[usable], depth[usable]
    x = np.clip((t - FALL_S - hold[:, None]) / (end * period_s - hold - FALL_S)[:, None], 0, 1)
    left = np.empty_like(x)
    for k, recovery in enumerate(RECOVERIES):
        mine = kind == k
        left[mine] = recovery(x[mine], depth[mine, None])
    gain = -depth[:, None] * np.where(t < FALL_S, t / FALL_S, left)
    return Curves(depth, end, gain, _seen(gain, trigger, beat_s, points, frame))


def _seen(gain_db: np.ndarray, trigger: Trigger, beat_s: float, points: int, frame: int = FRAME) -> np.ndarray:
    """Curves laid over a bar from every trigger on, smoothed as the analysis window does, shape (n, points)."""
    fine = points * FINE
    bar = np.zeros((len(gain_db), fine), np.float32)
    ends = [*trigger.at[1:], trigger.at[0] + points]
    for start, stop in zip(trigger.at, ends):
        n = min((stop - start) * FINE, gain_db.shape[1])
        bar[:, (start * FINE + np.arange(n)) % fine] = gain_db[:, :n]
    # A steady partial's amplitude is what a frame's window averages.
    window = np.hanning(int(frame / RATE_HZ / beat_s * PER_BEAT * FINE) | 1).astype(np.float32)
    window /= window.sum()
    reach = len(window)
    amplitude = 10 ** (bar / 20)
    wrapped = np.concatenate([amplitude[:, -reach:], amplitude, amplitude[:, :reach]], axis=1)
    smooth = scipy.signal.fftconvolve(wrapped, window[None], mode="same", axes=1)[:, reach:-reach]
    return np.asarray(20 * np.log10(np.maximum(smooth[:, ::FINE], 1e-4)), np.float32)


def _clear(scores: np.ndarray) -> np.ndarray:
    """Worth of curves: the power mean over rows of what they gain, shape (n,)."""
    return np.asarray(np.mean(np.maximum(scores, 0) ** CLEAR, axis=1) ** (1 / CLEAR))


def _scores(evidence: Evidence, seen_db: np.ndarray) -> np.ndarray:
    """Mean gain over no curve per candidate (as seen over the bar) and row, at least 0, shape (n, rows)."""
    seen = np.concatenate([seen_db, np.zeros((1, evidence.table.shape[1]), np.float32)])
    out = np.zeros((len(seen), evidence.table.shape[3]), np.float32)
    groups = [slice(k, k + CANDIDATES) for k in range(0, len(seen), CANDIDATES)]
    in_threads(lambda group: _look_up(evidence.table, seen[group], np.array(LAGS), out[group]), groups)
    return np.asarray(np.maximum(out[:-1] - out[-1:], 0) / np.maximum(evidence.count, LEAST_COUNT))


@compiled
def _count(levels: np.ndarray, lags: np.ndarray, counts: np.ndarray) -> None:
    """Differences of one row's levels (bars, points) by lag, point and size, each shared between the two bins it lies between."""
    points = levels.shape[1]
    flat = levels.reshape(-1)
    for k in range(len(lags)):
        lag = lags[k]
        for i in range(len(flat) - lag):
            d = flat[i + lag] - flat[i]
            if d == d:
                x = (max(-EDGE_DB, min(EDGE_DB, d)) + EDGE_DB) / STEP_DB
                low = min(int(x), BINS - 2)
                part = np.float32(x - low)
                counts[k, i % points, low] += 1 - part
                counts[k, i % points, low + 1] += part


@unordered
def _look_up(table: np.ndarray, seen: np.ndarray, lags: np.ndarray, out: np.ndarray) -> None:
    rows = table.shape[3]
    points = table.shape[1]
    for k in range(len(lags)):
        for i in range(points):
            ahead = (i + lags[k]) % points
            # One point of the table stays in the cache for all candidates.
            for c in range(seen.shape[0]):
                d = seen[c, ahead] - seen[c, i]
                x = (max(-EDGE_DB, min(EDGE_DB, d)) + EDGE_DB) / STEP_DB
                low = min(int(x), BINS - 2)
                part = np.float32(x - low)
                for row in range(rows):
                    out[c, row] += table[k, i, low, row] * (1 - part) + table[k, i, low + 1, row] * part


@compiled
def _explain(levels: np.ndarray, seen: np.ndarray, lags: np.ndarray, scale_db: np.ndarray, out: np.ndarray) -> None:
    """Cauchy score per curve and row of all differences as they are; the logarithm is taken of products, which is faster."""
    rows, _, points = levels.shape
    curves = seen.shape[0]
    product = np.ones(curves)
    for row in range(rows):
        flat = levels[row].reshape(-1)
        for k in range(len(lags)):
            factors = 0
            for i in range(0, len(flat) - lags[k], 4):
                d = flat[i + lags[k]] - flat[i]
                if d == d:
                    for c in range(curves):
                        x = (d - seen[c, (i + lags[k]) % points] + seen[c, i % points]) / scale_db[row, k]
                        product[c] *= 1 + x * x
                    factors += 1
                    # No factor is over 1e5.
                    if factors == 40:
                        out[:, row] -= np.log(product)
                        product[:] = 1
                        factors = 0
            out[:, row] -= np.log(product)
            product[:] = 1

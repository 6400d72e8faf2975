"""How far, how long and how often does the sidechain duck the track?

Conventions: `depth_db` is how far the ducked material lies under its full recovery at its lowest point, `release_ms` runs from
that lowest point to within 1 dB of recovery, `curve_db` has 64 points over one beat from the trigger on, 0 = recovered. What
doesn't duck reads 0.

Method: envelopes at 6 ms per band, of side and of mid without the kick's own bands, in dB, are cut at every trigger (each beat,
or each hit of the kick) and normalised to their level late in the period; the median over the hits leaves what all of them
share. A ducker multiplies: the dip is common to unrelated bands, starts with the trigger and comes back without overshoot. A stab
or a hat that merely alternates shows in its own bands only, so the answer is a middle value over bands weighted by how
consistently they dip, and it must beat the same measure taken at shifted places.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import BandDepth, Presence, Pump, SectionPump
from ersatz.core.survey.frames import EDGES_HZ
from ersatz.core.survey.hits import Hits
from ersatz.core.survey.shared import Shared

POINTS = 64
#: The kick's click covers the mid this long after the trigger; the side is free of it.
COVERED_S = 0.045
#: Ducking under this can't be told from the unevenness of music.
LEAST_DB = 1.5
#: More than complete ducking: silence between hits, not a ducker.
MOST_DB = 36.0
MIN_HITS = 12
#: Spread between hits from which on a band's curve says little.
UNEVEN_DB = 9.0
BAND_RANGES = {"low": (20.0, 200.0), "mid": (200.0, 2800.0), "high": (2800.0, 18_000.0)}


@dataclass(frozen=True)
class _Trigger:
    """Where the ducker may be triggered: seconds, and how long each may recover."""

    rate: str
    times_s: np.ndarray
    bar: np.ndarray


@dataclass(frozen=True)
class _Reading:
    depth_db: float
    release_ms: float
    curve_db: np.ndarray
    confidence: float
    bands: dict[str, BandDepth]


NOTHING = _Reading(0.0, 0.0, np.zeros(POINTS), 0.0, {name: BandDepth(0.0) for name in BAND_RANGES})


def measure_pump(
    shared: Shared, bars: BarTable, hits: Hits, presence: Presence, spans: list[tuple[int, int]], drops: list[int]
) -> Pump:
    """`spans` are (first bar index, bars) of the sections, `drops` the indices of those that play at full energy."""
    body = np.maximum(np.array(presence.chords), np.array(presence.bass))
    main = np.zeros(bars.count, bool)
    for i in drops or range(len(spans)):
        main[spans[i][0] : spans[i][0] + spans[i][1]] = True
    main &= body > 0.3
    best, rate = NOTHING, "1/4"
    for trigger in _triggers(bars, hits, main):
        reading = _read(shared, bars, trigger, main)
        # The quarter is the plainer explanation: the kick's own pattern must be clearly deeper.
        bonus = 1.25 if rate == "1/4" and best is not NOTHING else 1.0
        if reading.depth_db * reading.confidence > bonus * best.depth_db * best.confidence:
            best, rate = reading, trigger.rate
    per_section, active = [], []
    for i, (first, length) in enumerate(spans):
        inside = np.zeros(bars.count, bool)
        inside[first : first + length] = True
        inside &= body > 0.4
        same_rate = [t for t in _triggers(bars, hits, inside) if t.rate == rate]
        here = _read(shared, bars, same_rate[0], inside) if same_rate and best.depth_db else NOTHING
        per_section.append(SectionPump(i, round(here.depth_db, 2)))
        if here.depth_db > 0:
            active.append(i)
    return Pump(
        depth_db=round(best.depth_db, 2),
        rate=rate,
        release_ms=round(best.release_ms, 1),
        curve_db=tuple(round(float(v), 2) for v in best.curve_db),
        confidence=round(best.confidence, 2),
        bands=best.bands,
        active_sections=tuple(active),
        per_section=tuple(per_section),
    )


def no_pump(sections: int) -> Pump:
    """The answer where nothing ducks."""
    return Pump(0.0, "1/4", 0.0, tuple([0.0] * POINTS), 0.0, NOTHING.bands, (), tuple(SectionPump(i, 0.0) for i in range(sections)))


def _triggers(bars: BarTable, hits: Hits, use: np.ndarray) -> list[_Trigger]:
    """Hypotheses worth testing in the bars of `use`: every beat, every hit of the kick."""
    where = np.flatnonzero(use)
    beat = bars.grid.beat_s
    out = []
    quarter = (bars.edges_s[where][:, None] + np.arange(4) * beat).ravel()
    out.append(_Trigger("1/4", quarter, np.repeat(where, 4)))
    mask = hits.kick_mask() & use[:, None]
    bar, step = np.nonzero(mask)
    times = bars.edges_s[bar] + step * beat / 4 + np.where(step % 2 == 1, hits.swing_s, 0.0)
    on_quarter = mask[:, ::4].sum() / max(1, mask.sum())
    if len(times) >= MIN_HITS and on_quarter < 0.85:
        out.append(_Trigger("kick", times, bar))
    return out


def _read(shared: Shared, bars: BarTable, trigger: _Trigger, use: np.ndarray) -> _Reading:
    beat = bars.grid.beat_s
    gaps = np.diff(np.append(trigger.times_s, trigger.times_s[-1] + beat if len(trigger.times_s) else 0.0))
    # Only triggers with room to recover teach the curve.
    keep = (gaps > 0.62 * beat) & use[trigger.bar]
    times = trigger.times_s[keep]
    times = times[times + beat < shared.duration_s]
    if len(times) < MIN_HITS:
        return NOTHING
    offsets = np.arange(POINTS) / POINTS * beat
    room = np.minimum(gaps[keep][: len(times)], beat)
    curves, weights, centres, sides = [], [], [], []
    total = float((shared.mid_power + shared.side_power)[:, :].mean())
    for power, is_side in ((shared.side_power, True), (shared.mid_power, False)):
        for row in range(len(EDGES_HZ) - 1):
            low_hz = EDGES_HZ[row]
            if low_hz < (110 if is_side else 200) or low_hz > 6000:
                continue
            share = float(power[row].mean()) / max(total, 1e-20)
            if share < 2e-6:
                continue
            curve, agreement = _folded(power[row], shared.hop_s, times, offsets, room, is_side)
            if curve is None:
                continue
            weight = agreement * share**0.25 * (2.0 if is_side else 1.0) * (0.35 if low_hz > 2800 else 1.0)
            curves.append(curve)
            weights.append(weight)
            centres.append(float(np.sqrt(low_hz * EDGES_HZ[row + 1])))
            sides.append(is_side)
    if len(curves) < 3 or sum(weights) <= 0:
        return NOTHING
    stack, weight = np.array(curves), np.array(weights)
    bottoms = -stack.min(axis=1)
    depth = _weighted_quantile(bottoms, weight, 0.6)
    # The shape from the bands that dip about as far as the answer.
    near = weight * np.exp(-0.5 * ((bottoms - depth) / 2.5) ** 2)
    shape = np.array([_weighted_quantile(column, near, 0.5) for column in stack.T])
    curve = _as_ducking(shape)
    depth = float(-curve.min())
    consistent = float(np.average(bottoms > 0.5 * depth, weights=weight))
    if not LEAST_DB <= depth <= MOST_DB or consistent < 0.5:
        return NOTHING
    confidence = float(np.clip(consistent * min(1.0, depth / 4) * min(1.0, len(times) / 32), 0, 0.97))
    by_band = {}
    for name, (low, high) in BAND_RANGES.items():
        inside = np.array([low <= c < high for c in centres])
        value = _weighted_quantile(bottoms[inside], weight[inside], 0.5) if inside.any() else 0.0
        by_band[name] = BandDepth(round(max(0.0, value), 2))
    return _Reading(depth, _release_ms(curve, beat), curve, confidence, by_band)


def _folded(
    power: np.ndarray, hop_s: float, times: np.ndarray, offsets: np.ndarray, room: np.ndarray, is_side: bool
) -> tuple[np.ndarray | None, float]:
    """Typical dip of one band in dB over the period, and the share of hits that agree (0..1)."""
    place = (times[:, None] + offsets[None, :]) / hop_s
    index = np.clip(place.astype(int), 0, len(power) - 2)
    part = place - index
    level = 10 * np.log10(power[index] * (1 - part) + power[index + 1] * part + 1e-12)
    top = np.partition(level, int(0.8 * POINTS), axis=1)[:, int(0.8 * POINTS)]
    # From the next trigger on nothing can be read: taken as recovered.
    level = np.where(offsets[None, :] > room[:, None] - 0.012, top[:, None], level)
    sounding = top > np.percentile(top, 85) - 18
    if sounding.sum() < MIN_HITS:
        return None, 0.0
    relative = level[sounding] - top[sounding][:, None]
    curve = np.median(relative, axis=0)
    if not is_side:
        covered = offsets < COVERED_S
        # Under the click the curve is unknown: the first clear value stands for it.
        curve[covered] = curve[np.argmin(covered)]
    early = (offsets > (0.0 if is_side else COVERED_S)) & (offsets < 0.3 * offsets[-1])
    late = offsets > 0.6 * offsets[-1]
    dips = relative[:, early].mean(axis=1) < relative[:, late].mean(axis=1) - 1.0
    # A ducker does the same to every beat; what plays on some beats only differs from hit to hit.
    low, high = np.percentile(relative, [25, 75], axis=0)
    unevenness_db = float(np.mean(high - low))
    agreement = (float(np.clip(2 * dips.mean() - 1, 0, 1)) + 0.02) * float(np.exp(-((unevenness_db / UNEVEN_DB) ** 2)) + 1e-3)
    recovered = float(np.median(np.sort(curve)[-POINTS // 5 :]))
    return np.minimum(curve - recovered, 0.0), agreement


def _as_ducking(shape: np.ndarray) -> np.ndarray:
    """The nearest curve that a ducker makes: a fall to the lowest point within the first third, then only upwards."""
    third = POINTS // 3
    smooth = np.convolve(np.pad(shape, 1, mode="edge"), [0.25, 0.5, 0.25], "valid")
    bottom = int(np.argmin(smooth[:third]))
    rising = np.concatenate([np.full(bottom, smooth[bottom]), _isotonic(smooth[bottom:])])
    fall = np.minimum.accumulate(smooth[: bottom + 1])
    rising[: bottom + 1] = fall
    rising[bottom:] = np.convolve(np.pad(rising[bottom:], 2, mode="edge"), np.ones(5) / 5, "valid")
    # The last stretch is recovery by definition.
    return np.asarray(np.minimum(rising - float(np.median(rising[-POINTS // 6 :])), 0.0))


def _isotonic(values: np.ndarray) -> np.ndarray:
    """Least-squares non-decreasing fit (pool adjacent violators; Barlow et al. 1972)."""
    blocks: list[list[float]] = []
    for v in values:
        blocks.append([float(v), 1.0])
        while len(blocks) > 1 and blocks[-2][0] > blocks[-1][0]:
            b, n = blocks.pop()
            a, m = blocks.pop()
            blocks.append([(a * m + b * n) / (m + n), m + n])
    return np.concatenate([np.full(int(n), v) for v, n in blocks])


def _release_ms(curve: np.ndarray, beat_s: float) -> float:
    """From the end of the lowest stretch to within 1 dB of full recovery."""
    bottom = int(np.flatnonzero(curve <= curve.min() + 0.25)[0])
    back = np.flatnonzero(curve[bottom:] >= -1.0)
    if len(back) == 0:
        return (POINTS - bottom) / POINTS * beat_s * 1000
    k = bottom + int(back[0])
    if k > bottom:
        step = float(curve[k] - curve[k - 1])
        exact = k - 1 + ((-1.0 - float(curve[k - 1])) / step if step > 0 else 1.0)
    else:
        exact = float(k)
    return (exact - bottom) / POINTS * beat_s * 1000


def _weighted_quantile(values: np.ndarray, weights: np.ndarray, q: float) -> float:
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    if total[-1] <= 0:
        return float(np.median(values))
    return float(np.interp(q * total[-1], total - weights[order] / 2, values[order]))

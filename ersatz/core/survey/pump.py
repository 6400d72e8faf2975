"""How far, how long and how often does the sidechain duck the track?

Conventions: `depth_db` is how far the ducked material lies under its full recovery at its lowest point, `release_ms` runs from
that lowest point to within 1 dB of recovery, `curve_db` has 64 points over one beat from the trigger on, 0 = recovered. What
doesn't duck reads 0.

Method: a ducker multiplies, so it shows as a difference between bars. (1) The typical bar with kick is held against the typical
bar of each section without, band by band, mid and side: chords that play the same rhythm in both cancel, what is left follows the
trigger. Where the ducker runs on without the kick the two don't differ, so the surest comparisons count. (2)
Where the track has no such pair, sustained material is held against its own full level. The kick's own footprint is
taken out with what it does alone in the bars of the intro, the side has none; stretches under a clap are left out. A difference
counts as far as beats of different content and unrelated bands agree on it. (3) A ducker's curve (fall, hold, recovery
of four shapes; after the knees and releases in Giannoulis, Massberg & Reiss 2012) seen through the analysis window is
fitted to what they agree on; where that curve explains little, nothing ducks.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from ersatz.core.survey.bars import STEPS_PER_BEAT, BarTable
from ersatz.core.survey.document import BandDepth, Presence, Pump, SectionPump
from ersatz.core.survey.envelopes import FRAME, PER_BEAT, RATE_HZ, Envelopes
from ersatz.core.survey.hits import SURE, Hits

POINTS = PER_BEAT
#: Ducking under this can't be told from the unevenness of music.
LEAST_DB = 1.5
LEAST_BARS = 4
#: Depth times confidence under which it is taken for such unevenness, dB: of what is left in the end, and of a reading without
#: a comparison.
LEAST_EVIDENCE, ALONE_EVIDENCE = 1.0, 1.5
#: Share of the views' weight that must be known at a point.
LEAST_HEARD = 0.15
#: A clap or snare covers what lies under it for so long.
MASKED_S = 0.09
#: The kick itself covers what lies under its first so much.
KICK_S = 0.07
#: How far under its own top a curve still counts as sounding, dB.
SOUNDING_DB = 6.0
#: Disagreement between beats (median absolute deviation) from which on a band says little, dB.
UNEVEN_DB = 2.5
#: A rise this steep late in the period is a note that begins, not a recovery: dB within a 32nd of a beat.
ONSET_DB = 7.0
#: A curve that varies less than this is flat; a model must explain this share of what varies.
FLAT_DB, LEAST_EXPLAINED, LEAST_CONFIDENCE = 0.35, 0.35, 0.15
#: Confidence from which a comparison is believed, and from which a reading that stands without one is.
COMPARED, PLAIN = 0.25, 0.36
#: Comparisons that reach this share of the surest one's confidence count with it.
AS_SURE = 0.85
#: Presence of the lead from which a bar counts as led.
LED = 0.4
BAND_NAMES = ("low", "mid", "high")
#: How sure it is that nothing ducks where nothing was found: light ducking is easily missed.
NONE_CONFIDENCE = 0.6
SIDE_WEIGHT, OWN_WEIGHT = 2.5, 0.35


@dataclass(frozen=True)
class Trigger:
    """Where in the bar the ducker sets in: points of the cut curves, and how many follow before the next one."""

    rate: str
    at: tuple[int, ...]
    room: tuple[int, ...]


@dataclass(frozen=True)
class View:
    """What one band of one channel says: gain over the period in dB, NaN where unknown; its weight; and its band's number."""

    curve_db: np.ndarray
    weight: float
    band: int


@dataclass(frozen=True)
class Reading:
    depth_db: float
    release_ms: float
    curve_db: np.ndarray
    confidence: float
    views: tuple[View, ...] = ()
    #: The bars that it was held against: there nothing ducks, or less.
    rest: np.ndarray | None = None


NOTHING = Reading(0.0, 0.0, np.zeros(POINTS), 0.0)


def measure_pump(
    envelopes: Envelopes, bars: BarTable, hits: Hits, presence: Presence, spans: list[tuple[int, int]], drops: list[int]
) -> Pump:
    """`spans` are (first bar index, bars) of the sections, `drops` the indices of those that play at full energy."""
    masked = _without_claps(envelopes, hits, bars)
    kick = np.array(presence.kick) > 0.5
    body = np.maximum(np.array(presence.chords), np.array(presence.lead)) > 0.3
    main = np.zeros(bars.count, bool)
    for i in drops or range(len(spans)):
        main[spans[i][0] : spans[i][0] + spans[i][1]] = True
    ducked = main & kick if (main & kick).sum() >= LEAST_BARS else main
    free = ~kick & body
    alone = kick & ~body & (np.array(presence.bass) < 0.3)
    best, rate, beat_s = NOTHING, "1/4", round(bars.grid.beat_s, 4)
    triggers = _triggers(bars, hits, ducked)
    led = np.array(presence.lead) >= LED
    loud, quiet = _split(ducked, led), [_split(part, led) for part in _each(free, spans)]
    for trigger in triggers:
        reading = _read(masked, envelopes, trigger, loud, quiet, alone, beat_s)
        if reading.depth_db * reading.confidence < LEAST_EVIDENCE:
            continue
        # The quarter is the plainer explanation: another must be clearly deeper.
        bonus = 1.25 if best is not NOTHING else 1.0
        if reading.depth_db * reading.confidence > bonus * best.depth_db * best.confidence:
            best, rate = reading, trigger.rate
    trigger = next(t for t in triggers if t.rate == rate)
    per_section = []
    for i, (first, length) in enumerate(spans):
        inside = np.zeros(bars.count, bool)
        inside[first : first + length] = True
        per_section.append(SectionPump(i, round(_section_depth(masked, envelopes, trigger, inside, alone, best, beat_s), 2)))
    return Pump(
        # Depth is the drawn curve's own lowest point.
        depth_db=round(-float(best.curve_db.min()), 2) + 0.0,
        rate=rate,
        release_ms=round(best.release_ms, 1),
        curve_db=tuple(round(float(v), 2) for v in best.curve_db),
        confidence=round(best.confidence if best.depth_db else NONE_CONFIDENCE, 2),
        bands={name: BandDepth(round(_band_depth(best, k), 2)) for k, name in enumerate(BAND_NAMES)},
        active_sections=tuple(
            s.section for s in per_section if best.depth_db > 0 and s.depth_db >= max(LEAST_DB, 0.4 * best.depth_db)
        ),
        per_section=tuple(per_section),
    )


def _each(free: np.ndarray, spans: list[tuple[int, int]]) -> list[np.ndarray]:
    """The bars without kick section by section: a ducker may run on in one build and rest in the breakdown before it."""
    out = []
    for first, length in spans:
        inside = np.zeros(len(free), bool)
        inside[first : first + length] = free[first : first + length]
        if inside.sum() >= LEAST_BARS:
            out.append(inside)
    return out


def _split(bars: np.ndarray, led: np.ndarray) -> list[np.ndarray]:
    """The bars, and those without and with a lead, where there are enough of both: a lead or a voice that isn't ducked, or that
    the other side lacks, hides what the rest does.
    """
    parts = [bars & ~led, bars & led]
    return [bars, *parts] if all(part.sum() >= LEAST_BARS for part in parts) else [bars]


def no_pump(sections: int) -> Pump:
    """The answer where nothing ducks."""
    bands = {name: BandDepth(0.0) for name in BAND_NAMES}
    return Pump(0.0, "1/4", 0.0, tuple([0.0] * POINTS), 0.0, bands, (), tuple(SectionPump(i, 0.0) for i in range(sections)))


def _triggers(bars: BarTable, hits: Hits, use: np.ndarray) -> list[Trigger]:
    """Hypotheses worth testing: every beat, every 8th, every hit of the typical kick pattern."""
    beats = bars.grid.beats_per_bar
    bar = beats * POINTS
    half = POINTS // 2
    out = [
        Trigger("1/4", tuple(range(0, bar, POINTS)), (POINTS,) * beats),
        Trigger("1/8", tuple(range(0, bar, half)), (half,) * 2 * beats),
    ]
    typical = np.median(hits.kick[use], axis=0) if use.any() else np.zeros(bars.steps)
    steps = [int(s) for s in np.flatnonzero(typical >= SURE)]
    if steps and steps != list(range(0, bars.steps, STEPS_PER_BEAT)):
        step = POINTS // STEPS_PER_BEAT
        at = [s * step for s in steps]
        # Odd 16ths are as late as the swing says.
        late = round(hits.swing_s / bars.grid.beat_s * POINTS)
        at = [a + (late if s % 2 else 0) for a, s in zip(at, steps)]
        room = [b - a for a, b in zip(at, [*at[1:], at[0] + bar])]
        out.append(Trigger("kick", tuple(at), tuple(min(r, POINTS) for r in room)))
    return out


def _without_claps(envelopes: Envelopes, hits: Hits, bars: BarTable) -> np.ndarray:
    """The cut powers in dB with NaN under claps and snares, shape (channels, bands, bars, points)."""
    level = 10 * np.log10(envelopes.power + 1e-10)
    step = POINTS // STEPS_PER_BEAT
    before, after = round(0.012 / bars.grid.beat_s * POINTS), round(MASKED_S / bars.grid.beat_s * POINTS)
    for bar, s in np.argwhere(hits.clap > 0.4):
        start = max(0, s * step - before)
        level[:, :, bar, start : s * step + after] = np.nan
    return np.asarray(level)


def _typical(level: np.ndarray, use: np.ndarray, quantile: float = 50) -> np.ndarray:
    """Median (or another percentile) over the bars in use, NaN where under a third are known, (channels, bands, points)."""
    chosen = level[:, :, use]
    bars = chosen.shape[2]
    if bars == 0:
        return np.full((level.shape[0], level.shape[1], level.shape[3]), np.nan)
    # NaN sorts last.
    ordered = np.sort(chosen, axis=2)
    known = np.isfinite(chosen).sum(axis=2)
    place = np.maximum(known - 1, 0) * quantile / 100
    low = np.floor(place).astype(int)[:, :, None]
    below = np.take_along_axis(ordered, low, axis=2)[:, :, 0]
    above = np.take_along_axis(ordered, np.minimum(low + 1, np.maximum(known - 1, 0)[:, :, None]), axis=2)[:, :, 0]
    part = place - low[:, :, 0]
    return np.asarray(np.where(known > 0.3 * bars, below * (1 - part) + above * part, np.nan))


def _footprint(
    level: np.ndarray, power: np.ndarray, alone: np.ndarray, bar: np.ndarray, cover: int, trigger: Trigger
) -> np.ndarray:
    """The typical bar less what the kick does alone; unknown where the kick is most of it. The side has no kick."""
    out = bar.copy()
    if alone.sum() >= LEAST_BARS:
        kick = np.median(power[0][:, alone], axis=1)
        total = 10 ** (bar[0] / 10)
        out[0] = np.where(kick < 0.5 * total, 10 * np.log10(np.maximum(total - kick, 1e-10)), np.nan)
    else:
        for at in trigger.at:
            out[0][:, at : at + cover] = np.nan
    return out


def _read(
    level: np.ndarray,
    envelopes: Envelopes,
    trigger: Trigger,
    loud: list[np.ndarray],
    quiet: list[list[np.ndarray]],
    alone: np.ndarray,
    beat_s: float,
) -> Reading:
    """`loud` are the bars with kick at full energy as _split gives them, `quiet` those without kick, by section."""
    if loud[0].sum() < LEAST_BARS:
        return NOTHING
    cover = round(KICK_S / beat_s * POINTS)

    def less_kick(bars: np.ndarray, quantile: float) -> np.ndarray:
        return _footprint(level, envelopes.power, alone, _typical(level, bars, quantile), cover, trigger)

    with_kick = [less_kick(bars, 50) for bars in loud]
    without = [[_typical(level, bars) for bars in part] for part in quiet]
    # Like with like: bars with a lead against such bars, where both have them.
    pairs = [
        replace(_fit(_views(one, others[k % len(others)], trigger, 1.0), beat_s), rest=part[k % len(part)])
        for k, one in enumerate(with_kick)
        for others, part in zip(without, quiet)
    ]
    sure = max((r.confidence for r in pairs), default=0.0)
    compared = _together([r for r in pairs if r.confidence >= AS_SURE * sure]) if sure >= COMPARED else NOTHING
    if sure >= PLAIN:
        return compared
    own = [_fit(_views(less_kick(bars, 75), None, trigger, OWN_WEIGHT), beat_s) for bars in loud]
    if not quiet:
        return max(own, key=lambda r: r.confidence)
    # A ducker that runs on in the breakdown cancels out of the difference; but there it is seen without the kick. And where
    # breakdown and drop play different rhythms, the drop's own level says more.
    running_on = [_fit(_views(others[0], None, trigger, 1.0), beat_s) for others in without]
    plain = [r for r in (*running_on, *own) if r.confidence >= PLAIN and r.depth_db * r.confidence >= ALONE_EVIDENCE]
    return max((compared, *plain), key=lambda r: r.depth_db * r.confidence)


def _together(readings: list[Reading]) -> Reading:
    """Readings that are about as sure as each other: their mean, weighted by confidence."""
    weight = np.array([r.confidence for r in readings])
    curve = np.average([r.curve_db for r in readings], axis=0, weights=weight)
    surest = max(readings, key=lambda r: r.confidence)
    depth, release = (float(np.average([getattr(r, n) for r in readings], weights=weight)) for n in ("depth_db", "release_ms"))
    curve *= depth / max(float(-curve.min()), 1e-9)
    rest = np.any([r.rest for r in readings if r.rest is not None], axis=0)
    return Reading(depth, release, curve, surest.confidence, surest.views, rest)


def _views(bar: np.ndarray, against: np.ndarray | None, trigger: Trigger, weight: float) -> list[View]:
    """One view per channel and band: the bar's difference to another bar, or to its own top, laid over all triggers."""
    out = []
    loudest = np.nanmax(bar) if np.isfinite(bar).any() else 0.0
    for channel in range(bar.shape[0]):
        for band in range(bar.shape[1]):
            curve = bar[channel, band]
            sounding = curve if against is None else against[channel, band]
            if np.isfinite(sounding).sum() < POINTS or np.nanmax(sounding) < loudest - 45:
                continue
            known = np.isfinite(curve) & np.isfinite(sounding)
            if against is not None:
                known &= sounding > np.nanpercentile(sounding, 90) - SOUNDING_DB
                curve = curve - sounding
            if known.sum() < POINTS // 2:
                continue
            cuts = _cuts(np.where(known, curve, np.nan), trigger)
            view = _folded(cuts, against is None, max(trigger.room))
            if view is None:
                continue
            shape, agreement = view
            share = 10 ** ((float(np.nanmax(sounding)) - loudest) / 40)
            out.append(View(shape, weight * agreement * share * (SIDE_WEIGHT if channel else 1.0), band))
    return out


def _cuts(curve: np.ndarray, trigger: Trigger) -> np.ndarray:
    """The bar's curve from every trigger to the next, NaN beyond, shape (triggers, POINTS)."""
    doubled = np.concatenate([curve, curve])
    out = np.full((len(trigger.at), POINTS), np.nan)
    for row, at, room in zip(out, trigger.at, trigger.room):
        row[:room] = doubled[at : at + room]
    return out


def _folded(cuts: np.ndarray, own: bool, room: int) -> tuple[np.ndarray, float] | None:
    """Median over the triggers, 0 where recovered, and how far they agree (0..1); None if too little is known. `room` is the
    most that a trigger has before the next one.
    """
    known = np.isfinite(cuts)
    # What a trigger's cut is at its end is its own full level; without an end it lends that of the others.
    late = cuts[:, int(0.7 * room) : room]
    ends = np.where(np.isfinite(late).sum(axis=1) > 3, _median(late.T), np.nan)
    if not np.isfinite(ends).any():
        return None
    ends = np.where(np.isfinite(ends), ends, _median(ends[:, None])[0])
    relative = cuts - ends[:, None]
    covered = known.any(axis=0)
    if covered[: POINTS // 2].mean() < 0.35:
        return None
    shape = _median(relative)
    spread = _median(np.abs(relative - shape))[covered]
    uneven = float(np.sqrt(np.mean(np.square(spread))) + 0.5 * np.nanstd(ends))
    agreement = float(np.exp(-((uneven / UNEVEN_DB) ** 2)))
    if own and len(cuts) < 2:
        agreement *= 0.5
    filled = np.interp(np.arange(POINTS), np.flatnonzero(covered), shape[covered])
    step = POINTS // 32
    rise = filled[step:] - filled[:-step]
    late_rise = float(rise[int(0.2 * POINTS) :].max())
    if late_rise > ONSET_DB:
        agreement *= 0.05
    return shape, agreement


HOLDS_S = (0.004, 0.015, 0.03, 0.045)
ENDS = np.arange(0.3, 1.0, 0.05)
DEPTHS_DB = np.concatenate([np.arange(1, 6, 0.5), np.arange(6, 16, 1.0), np.arange(16, 36, 2.0)])
FALL_S = 0.003
#: Models whose error lies within this of the best one's are as good: their mean is the answer, dB.
AS_GOOD_DB = 0.06
FINE = 4


def _fit(views: list[View], beat_s: float) -> Reading:
    """The ducker's curve that the views agree on best."""
    if len(views) < 2 or sum(v.weight for v in views) <= 0.02:
        return NOTHING
    stack, weight = np.array([v.curve_db for v in views]), np.array([v.weight for v in views])
    target, heard = _weighted_median(stack, weight)
    target = np.where(heard > LEAST_HEARD * weight.sum(), target, np.nan)
    spread, _ = _weighted_median(np.abs(stack - target), weight)
    known = np.isfinite(target)
    if known[: POINTS // 2].mean() < 0.3:
        return NOTHING
    depths, curves, seen = _models(beat_s)
    # The level of full recovery is a free constant of each model.
    difference = target[known].astype(np.float32) - seen[:, known]
    offset = np.mean(difference, axis=1, keepdims=True)
    error = np.abs(difference - np.clip(offset, -2.5, 2.5)).mean(axis=1)
    good = error <= error.min() + AS_GOOD_DB
    depth, curve = float(depths[good].mean()), curves[good].mean(axis=0)
    flat = float(np.abs(target[known] - np.median(target[known])).mean())
    explained = 1 - float(error.min()) / max(flat, 1e-9)
    if depth < LEAST_DB or explained < LEAST_EXPLAINED or flat < FLAT_DB:
        return NOTHING
    agree = float(np.average([_follows(v.curve_db, curve) for v in views], weights=weight))
    uneven = float(np.nanmean(spread))
    confidence = float(np.clip(explained * agree * np.exp(-((uneven / (0.35 * depth + 1.5)) ** 2)), 0, 0.97))
    if agree < 0.3 or confidence < LEAST_CONFIDENCE:
        return NOTHING
    return Reading(depth, _release_ms(curve, beat_s), curve, confidence, tuple(views))


@lru_cache(maxsize=8)
def _models(beat_s: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Every ducker's curve of the grid: depths (models,), the curve in dB and as seen through the window, both (models, POINTS).

    Recovery in four shapes, as curves are drawn or made by compressors: exponential, straight and S-shaped in dB, straight in gain.
    """
    t = np.arange(POINTS * FINE) / (POINTS * FINE) * beat_s
    hold, end, depth = (v.ravel()[:, None] for v in np.meshgrid(HOLDS_S, ENDS * beat_s, DEPTHS_DB, indexing="ij"))
    usable = (end - hold - FALL_S > 0.03)[:, 0]
    hold, end, depth = hold[usable], end[usable], depth[usable]
    x = np.clip((t - FALL_S - hold) / (end - hold - FALL_S), 0, 1)
    low = 10 ** (-depth / 20)
    recoveries = (
        (np.exp(-3.5 * x) - np.exp(-3.5)) / (1 - np.exp(-3.5)),
        1 - x,
        0.5 + 0.5 * np.cos(np.pi * x),
        np.log(low + (1 - low) * x) / np.log(low),
    )
    left = np.concatenate([np.where(t < FALL_S, t / FALL_S, r) for r in recoveries])
    depths = np.tile(depth, (len(recoveries), 1))
    reach = max(1, round(FRAME / RATE_HZ / 2 / beat_s * POINTS * FINE))
    window = np.square(np.hanning(2 * reach + 1))
    window /= window.sum()
    gain = np.pad(10 ** (-depths * left / 10), ((0, 0), (reach, reach)), constant_values=1.0)
    smooth = sum(w * gain[:, k : k + len(t)] for k, w in enumerate(window))
    seen = (10 * np.log10(np.asarray(smooth))[:, ::FINE]).astype(np.float32)
    return depths[:, 0], -(depths * left)[:, ::FINE], seen


def _follows(view: np.ndarray, curve: np.ndarray) -> float:
    """1 when a view dips as the curve does, 0 when it doesn't: its slope against the curve, at most 1."""
    known = np.isfinite(view)
    a, b = curve[known] - curve[known].mean(), view[known] - view[known].mean()
    return float(np.clip((a @ b) / max(float(a @ a), 1e-9), 0, 1))


def _band_depth(reading: Reading, third: int) -> float:
    """Depth of the views in one third of the spectrum: the curve's depth times how far they follow it."""
    bands = ((0,), (1, 2), (3,))[third]
    inside = [v for v in reading.views if v.band in bands]
    if not inside or reading.depth_db == 0:
        return 0.0
    return reading.depth_db * float(
        np.average([_follows(v.curve_db, reading.curve_db) for v in inside], weights=[v.weight + 1e-9 for v in inside])
    )


def _section_depth(
    level: np.ndarray,
    envelopes: Envelopes,
    trigger: Trigger,
    inside: np.ndarray,
    alone: np.ndarray,
    best: Reading,
    beat_s: float,
) -> float:
    """How far one section follows the track's curve, dB."""
    if best.depth_db == 0 or inside.sum() < 1:
        return 0.0
    cover = round(KICK_S / beat_s * POINTS)
    bar = _footprint(level, envelopes.power, alone & ~inside, _typical(level, inside), cover, trigger)
    rest = None if best.rest is None else best.rest & ~inside
    against = _typical(level, rest) if rest is not None and rest.sum() >= LEAST_BARS else None
    views = _views(bar, against, trigger, 1.0)
    views = [v for v in views if v.weight > 0.02]
    if not views:
        return 0.0
    return best.depth_db * float(
        np.average([_follows(v.curve_db, best.curve_db) for v in views], weights=[v.weight for v in views])
    )


def _release_ms(curve: np.ndarray, beat_s: float) -> float:
    """From the start of the lowest stretch to within 1 dB of full recovery."""
    bottom = int(np.flatnonzero(curve <= curve.min() + 0.05)[0])
    back = np.flatnonzero(curve[bottom:] >= -1.0)
    if len(back) == 0:
        return (POINTS - bottom) / POINTS * beat_s * 1000
    k = bottom + int(back[0])
    step = float(curve[k] - curve[k - 1])
    exact = k - 1 + ((-1.0 - float(curve[k - 1])) / step if step > 0 else 1.0)
    return max(0.0, exact - bottom) / POINTS * beat_s * 1000


def _median(values: np.ndarray) -> np.ndarray:
    """Median along the first axis of what isn't NaN, NaN where nothing is; np.nanmedian, without its cost for small arrays."""
    ordered = np.sort(values, axis=0)
    known = np.isfinite(values).sum(axis=0)
    low, high = np.maximum(known - 1, 0) // 2, known // 2
    pair = np.take_along_axis(ordered, np.stack([low, np.minimum(high, len(values) - 1)]), axis=0)
    return np.asarray(pair.mean(axis=0))


def _weighted_median(values: np.ndarray, weights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Along the first axis, over what isn't NaN: where half of the weight is reached, between the middles of neighbours' weights;
    and the weight of what is known, both of the shape of a row.
    """
    order = np.argsort(values, axis=0)
    ordered = np.take_along_axis(values, order, axis=0)
    share = np.where(np.isfinite(ordered), weights[order], 0.0)
    total = share.sum(axis=0)
    middles = np.cumsum(share, axis=0) - share / 2
    out = np.full(values.shape[1], np.nan)
    for k in np.flatnonzero(total > 0):
        known = share[:, k] > 0
        out[k] = np.interp(0.5 * total[k], middles[known, k], ordered[known, k])
    return out, total

"""How does a bar with kick differ from the same music without it?

Where a track has its chords both under the kick and without it, what they play cancels in the difference, and what is left is the
ducker's curve: where there are such bars, no other reading is as exact. A ducker that runs on without the kick cancels too, so that
no difference says nothing.

Conventions: levels in dB, NaN where unknown; a band is one of BANDS_HZ of the mid or of the side, a cut is what lies between a
trigger and the next, as PER_BEAT points from the trigger on.

Method: the typical (median) bar with kick less the typical bar of each section without, band by band. The kick's own footprint is
taken out with what it does alone where the track opens with it, else its first moments are left out of the mid; the side has none.
Stretches under a clap are left out. A band counts as far as its cuts agree with each other (their median absolute deviation). The
curve that the bands' weighted median follows best is the answer; its confidence is the share of the median that it explains, times
how many bands follow it and how far they agree.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from ersatz.core.survey.bars import STEPS_PER_BEAT, BarTable
from ersatz.core.survey.document import Presence
from ersatz.core.survey.ducking import Curves, Trigger, draw_curves
from ersatz.core.survey.envelopes import PER_BEAT, QUICK_FRAME, Levels
from ersatz.core.survey.hits import Hits

BANDS_HZ = ((170, 430), (480, 860), (860, 1720), (1720, 3440))
#: Bars with a lead are only held against such bars: presence from which one is led, and from which chords or a lead play.
LED, BODY = 0.4, 0.3
LEAST_BARS = 4
#: Share of the bars that must be known for a typical one.
TYPICAL = 0.3
#: A clap covers what lies under it for so long, a kick in the mid.
CLAP_S, KICK_S, EARLY_S = 0.09, 0.07, 0.012
CLAP = 0.4
#: How far under its own top a band still counts as sounding, and under the loudest band's, dB.
SOUNDING_DB, AUDIBLE_DB = 6.0, 45.0
#: Disagreement between cuts from which on a band says little, dB.
UNEVEN_DB = 2.5
#: A rise this steep late in the period is a note that begins: dB within a 32nd of a beat.
ONSET_DB = 7.0
SIDE_WEIGHT = 2.5
#: What is fitted: recoveries by number in ducking.RECOVERIES, holds, ends as shares of the period, depths.
SHAPES, HOLDS_S, ENDS = (0, 2, 3, 5), np.array([0.004, 0.025, 0.045]), np.arange(0.3, 1.0, 0.05)
DEPTHS_DB = np.concatenate([np.arange(1, 6, 0.5), np.arange(6, 16), np.arange(16, 34, 2)])
#: Share of the bands' weight that must be known at a point, and of the period's first half that must be known at all.
LEAST_HEARD, LEAST_KNOWN = 0.15, 0.3
#: Less than this isn't told from the unevenness of music; a curve must explain this share of what varies, bands follow it so far.
LEAST_DB, FLAT_DB, LEAST_EXPLAINED, LEAST_AGREEMENT = 1.5, 0.35, 0.35, 0.3
#: Curves whose error lies within this of the best one's are as good, dB: their mean is the answer.
AS_GOOD_DB = 0.06
#: Differences that reach this share of the surest one's confidence count with it.
AS_SURE = 0.85
#: The level of full recovery is known to this, dB.
OFFSET_DB = 2.5
#: Every beat is the plainer explanation: another must be so much clearer.
PLAINER = 1.25


@dataclass(frozen=True)
class Difference:
    """A ducker's curve that the difference of bars follows: `curve_db` as ducking.draw_curves draws it."""

    trigger: Trigger
    depth_db: float
    curve_db: np.ndarray
    confidence: float


@dataclass(frozen=True)
class Pairs:
    """Typical bars of the music with kick and without, shape (channels, bands, points) each: all such bars, and where there are
    enough those without and with a lead. `free` by section; `footprint` what the kick does alone, where it is heard."""

    driven: list[np.ndarray]
    free: list[list[np.ndarray]]
    footprint: np.ndarray | None
    beat_s: float


@dataclass(frozen=True)
class _View:
    """One band's difference from the trigger on and what it has to say."""

    curve_db: np.ndarray
    weight: float


def pair_bars(
    levels: Levels, bars: BarTable, hits: Hits, presence: Presence, spans: Sequence[tuple[int, int]], drops: Sequence[int]
) -> Pairs | None:
    """The typical bars with kick at full energy (in the sections that `drops` numbers) and those of each section without (`spans`:
    first bar, bars); None where there are no such bars."""
    kick = np.array(presence.kick) > 0.5
    led = np.array(presence.lead) >= LED
    body = np.maximum(np.array(presence.chords), np.array(presence.lead)) > BODY
    alone = kick & ~body & (np.array(presence.bass) < BODY)
    full = kick & _inside([spans[i] for i in drops], bars.count)
    driven = full if full.sum() >= LEAST_BARS else kick
    loud = _with_and_without(driven, led)
    quiet = [_with_and_without(part, led) for part in _by_section(~kick & body, spans)]
    if loud[0].sum() < LEAST_BARS or not quiet:
        return None
    bands = _without_claps(_bands(levels), hits, bars)
    return Pairs(
        [_median(bands[:, :, use], TYPICAL) for use in loud],
        [[_median(bands[:, :, use], TYPICAL) for use in part] for part in quiet],
        _median(bands[:, :, alone], TYPICAL) if alone.sum() >= LEAST_BARS else None,
        round(bars.grid.beat_s, 4),
    )


def clearest(pairs: Pairs, triggers: Sequence[Trigger]) -> Difference | None:
    """The difference under the trigger that explains it best; None where no curve does."""
    best: Difference | None = None
    for trigger in triggers:
        found = [d for views in _all_views(pairs, trigger) if (d := _fit(views, trigger, pairs.beat_s)) is not None]
        if not found:
            continue
        together = _together(found)
        ahead = PLAINER if best is not None else 1.0
        if best is None or together.depth_db * together.confidence > ahead * best.depth_db * best.confidence:
            best = together
    return best


def _all_views(pairs: Pairs, trigger: Trigger) -> Iterator[list[_View]]:
    """Of every kind of bars with kick against every section without: like with like where both have a lead."""
    for k, bar in enumerate(pairs.driven):
        less_kick = _without_kick(bar, pairs.footprint, trigger, pairs.beat_s)
        for others in pairs.free:
            yield _views(less_kick, others[k % len(others)], trigger)


def _by_section(free: np.ndarray, spans: Sequence[tuple[int, int]]) -> list[np.ndarray]:
    """The free bars section by section: a ducker may run on in one build and rest in the breakdown before it."""
    parts = [free & _inside([span], len(free)) for span in spans]
    return [part for part in parts if part.sum() >= LEAST_BARS]


def _inside(spans: Sequence[tuple[int, int]], count: int) -> np.ndarray:
    """Which of the track's bars lie in these sections, shape (count,)."""
    out = np.zeros(count, bool)
    for first, length in spans:
        out[first : first + length] = True
    return out


def _with_and_without(bars: np.ndarray, led: np.ndarray) -> list[np.ndarray]:
    """The bars, those without and those with a lead, where there are enough of both: a lead that isn't ducked, or that the other
    side lacks, hides what the rest does."""
    parts = [bars & ~led, bars & led]
    return [bars, *parts] if all(part.sum() >= LEAST_BARS for part in parts) else [bars]


def _bands(levels: Levels) -> np.ndarray:
    """Level per band, shape (channels, bands, bars, points): of quick rows where there are any."""
    channels = []
    for side in np.unique(levels.side):
        rows = []
        for low, high in BANDS_HZ:
            inside = (levels.side == side) & (levels.centers_hz >= low) & (levels.centers_hz < high)
            quick = inside & levels.quick
            chosen = levels.db[quick if quick.any() else inside]
            rows.append((10 ** (np.nan_to_num(chosen, nan=-120.0) / 10)).sum(axis=0))
        channels.append(rows)
    return np.asarray(10 * np.log10(np.array(channels) + 1e-12), np.float32)


def _without_claps(bands: np.ndarray, hits: Hits, bars: BarTable) -> np.ndarray:
    step = PER_BEAT // STEPS_PER_BEAT
    early, late = round(EARLY_S / bars.grid.beat_s * PER_BEAT), round(CLAP_S / bars.grid.beat_s * PER_BEAT)
    out = bands.copy()
    for bar, s in np.argwhere(hits.clap > CLAP):
        out[:, :, bar, max(0, s * step - early) : s * step + late] = np.nan
    return out


def _without_kick(bar: np.ndarray, footprint: np.ndarray | None, trigger: Trigger, beat_s: float) -> np.ndarray:
    """A typical bar less the kick's own sound in the mid; unknown where the kick is most of it."""
    out = bar.copy()
    if footprint is not None:
        total, kick = 10 ** (bar[0] / 10), np.nan_to_num(10 ** (footprint[0] / 10))
        out[0] = np.where(kick < 0.5 * total, 10 * np.log10(np.maximum(total - kick, 1e-12)), np.nan)
        return out
    cover = round(KICK_S / beat_s * PER_BEAT)
    for at in trigger.at:
        out[0][:, at : at + cover] = np.nan
    return out


def _views(bar: np.ndarray, against: np.ndarray, trigger: Trigger) -> list[_View]:
    out = []
    loudest = float(np.nanmax(bar)) if np.isfinite(bar).any() else 0.0
    for channel in range(bar.shape[0]):
        for band in range(bar.shape[1]):
            curve, other = bar[channel, band], against[channel, band]
            if np.isfinite(other).sum() < PER_BEAT or np.nanmax(other) < loudest - AUDIBLE_DB:
                continue
            known = np.isfinite(curve) & np.isfinite(other) & (other > np.nanpercentile(other, 90) - SOUNDING_DB)
            if known.sum() < PER_BEAT // 2:
                continue
            folded = _folded(np.where(known, curve - other, np.nan), trigger)
            if folded is not None:
                share = 10 ** ((float(np.nanmax(other)) - loudest) / 40)
                out.append(_View(folded[0], folded[1] * share * (SIDE_WEIGHT if channel else 1.0)))
    return out


def _folded(difference: np.ndarray, trigger: Trigger) -> tuple[np.ndarray, float] | None:
    """Median over the triggers' cuts, 0 where recovered, and how far they agree (0..1); None if too little is known."""
    bar, most = len(difference), int(trigger.beats * PER_BEAT)
    rooms = [min(most, following - at) for at, following in zip(trigger.at, [*trigger.at[1:], trigger.at[0] + bar])]
    doubled = np.concatenate([difference, difference])
    cuts = np.full((len(trigger.at), most), np.nan)
    for cut, at, room in zip(cuts, trigger.at, rooms):
        cut[:room] = doubled[at : at + room]
    # What a cut is at its end is its full level; one that isn't known there takes that of the others.
    late = cuts[:, int(0.7 * max(rooms)) : max(rooms)]
    ends = np.where(np.isfinite(late).sum(axis=1) > 3, _median(late.T), np.nan)
    if not np.isfinite(ends).any():
        return None
    ends = np.where(np.isfinite(ends), ends, np.nanmedian(ends))
    relative = cuts - ends[:, None]
    covered = np.isfinite(cuts).any(axis=0)
    if covered[: most // 2].mean() < LEAST_KNOWN:
        return None
    shape = _median(relative)
    spread = _median(np.abs(relative - shape))[covered]
    uneven = float(np.sqrt(np.mean(np.square(spread))) + 0.5 * np.std(ends))
    agreement = float(np.exp(-((uneven / UNEVEN_DB) ** 2)))
    filled = np.interp(np.arange(most), np.flatnonzero(covered), shape[covered])
    step = PER_BEAT // 32
    if float((filled[step:] - filled[:-step])[int(0.2 * most) :].max()) > ONSET_DB:
        agreement *= 0.05
    return shape, agreement


def _middle(views: list[_View]) -> np.ndarray | None:
    """The views' weighted median, NaN where too little of their weight is known; None where that is most of it."""
    weight = np.array([v.weight for v in views])
    if len(views) < 2 or weight.sum() <= 0.02:
        return None
    middle, heard = _weighted_median(np.array([v.curve_db for v in views]), weight)
    middle = np.where(heard > LEAST_HEARD * weight.sum(), middle, np.nan)
    return middle if np.isfinite(middle[: len(middle) // 2]).mean() >= LEAST_KNOWN else None


def _fit(views: list[_View], trigger: Trigger, beat_s: float) -> Difference | None:
    """The curve that the views agree on best."""
    target = _middle(views)
    if target is None:
        return None
    stack, weight = np.array([v.curve_db for v in views]), np.array([v.weight for v in views])
    known = np.isfinite(target)
    curves = _curves(trigger.beats, beat_s)
    seen = curves.seen_db[:, known]
    error = np.abs(_centred(target[known].astype(np.float32) - seen)).mean(axis=-1)
    good = error <= error.min() + AS_GOOD_DB
    depth, curve = float(curves.depth_db[good].mean()), curves.gain_db[good].mean(axis=0)
    flat = float(np.abs(target[known] - np.median(target[known])).mean())
    explained = 1 - float(error.min()) / max(flat, 1e-9)
    if depth < LEAST_DB or explained < LEAST_EXPLAINED or flat < FLAT_DB:
        return None
    agree = float(np.average([_follows(v.curve_db, _drawn(curve, len(target))) for v in views], weights=weight))
    spread, _ = _weighted_median(np.abs(stack - target), weight)
    uneven = float(np.nanmean(spread))
    if agree < LEAST_AGREEMENT:
        return None
    confidence = explained * agree * float(np.exp(-((uneven / (0.35 * depth + 1.5)) ** 2)))
    return Difference(trigger, depth, curve, float(np.clip(confidence, 0, 0.97)))


def _centred(difference: np.ndarray) -> np.ndarray:
    """What is left once the level of full recovery is free, within OFFSET_DB."""
    return np.asarray(difference - np.clip(difference.mean(axis=-1, keepdims=True), -OFFSET_DB, OFFSET_DB))


def _drawn(curve_db: np.ndarray, points: int) -> np.ndarray:
    return np.interp(np.arange(points) / points, np.arange(len(curve_db)) / len(curve_db), curve_db)


@lru_cache(maxsize=8)
def _curves(beats: float, beat_s: float) -> Curves:
    """Every ducker's curve over one cut of so many beats."""
    points = int(beats * PER_BEAT)
    return draw_curves(Trigger("", (0,), beats), beat_s, points, SHAPES, ENDS, HOLDS_S, DEPTHS_DB, QUICK_FRAME)


def _together(found: list[Difference]) -> Difference:
    """Differences that are about as sure as the surest: their mean, weighted by confidence."""
    sure = max(d.confidence for d in found)
    found = [d for d in found if d.confidence >= AS_SURE * sure]
    weight = np.array([d.confidence for d in found])
    depth = float(np.average([d.depth_db for d in found], weights=weight))
    curve = np.average([d.curve_db for d in found], axis=0, weights=weight)
    return replace(found[0], depth_db=depth, curve_db=curve * (depth / max(-float(curve.min()), 1e-9)), confidence=sure)


def _follows(view: np.ndarray, curve: np.ndarray) -> float:
    """1 when a view dips as the curve does, 0 when it doesn't: its slope against the curve, at most 1."""
    known = np.isfinite(view)
    a, b = curve[known] - curve[known].mean(), view[known] - view[known].mean()
    return float(np.clip((a @ b) / max(float(a @ a), 1e-9), 0, 1))


def _median(values: np.ndarray, least: float = 0.0) -> np.ndarray:
    """Median along the last axis but one of what isn't NaN, NaN where no more than a share `least` is known; np.nanmedian, without
    its cost for small arrays."""
    ordered = np.sort(values, axis=-2)
    known = np.isfinite(values).sum(axis=-2)
    low, high = np.maximum(known - 1, 0) // 2, np.minimum(known // 2, values.shape[-2] - 1)
    pair = np.take_along_axis(ordered, np.stack([low, high], axis=-2), axis=-2).mean(axis=-2)
    return np.asarray(np.where(known > least * values.shape[-2], pair, np.nan))


def _weighted_median(values: np.ndarray, weights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Along the first axis, over what isn't NaN: where half of the weight is reached, between the middles of neighbours' weights;
    and the weight of what is known."""
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

"""How far, how long and how often does the sidechain duck the track?

Conventions: `depth_db` is how far the ducked material lies under its full recovery at its lowest point, `release_ms` runs from
that lowest point to within 1 dB of recovery, `curve_db` has 64 points over one period from the trigger on (half a beat at 1/8,
else a beat), 0 = recovered. What doesn't duck reads 0.

Method: two witnesses that fail on different music. Whole hypotheses (every beat, every 8th, the kick's pattern, kick and snare)
are held against how all levels move, see ducking.py; and networks that learned from music of known ducking read the bars laid over
each other, see learned.py. Whether anything ducks is the mean of their probabilities, depth and rate are theirs together, and how
far they agree says how sure the depth is, with weights fitted on real music of known ducking (bench/material) and on generated
pieces. Where bars with kick can be held against the same music without it (comparison.py) and their difference is clear, that is
the answer; where it is less clear, the depth is theirs together with it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from ersatz.core.survey.bars import STEPS_PER_BEAT, BarTable
from ersatz.core.survey.comparison import Difference, clearest, pair_bars
from ersatz.core.survey.document import BandDepth, Presence, Pump, PumpCorrection, SectionPump
from ersatz.core.survey.ducking import (
    FINE,
    Evidence,
    Fit,
    Trigger,
    agreed,
    best_fits,
    depth_of_bars,
    depths_like,
    gather,
    triggering,
)
from ersatz.core.survey.envelopes import PER_BEAT, Levels
from ersatz.core.survey.folded import fold
from ersatz.core.survey.hits import SURE, Hits
from ersatz.core.survey.learned import RATES, Learned, read_learned
from ersatz.core.survey.threads import in_threads

POINTS = PER_BEAT
LEAST_BARS = 4
#: Every beat and every 8th are plain explanations: a pattern of hits must explain more.
HIT_PLAIN, CHOSEN_PLAIN = 0.8, 0.5
#: Share of the strongest low hit from which a step may trigger.
THUMPS = 0.7
#: The bands that depths are told for, and the edges between them.
BAND_NAMES, BAND_EDGES_HZ, DEEPEST_DB = ("low", "mid", "high"), (250.0, 2000.0), 30.0
#: A section ducks from this depth on, and from this share of the track's.
LEAST_DB, LEAST_SHARE = 1.2, 0.4
#: Parts of the spectrum whose depths are held against each other, and what each has to say: three of the mid, of which the lowest
#: is the bass with its own rhythm, and three of the side.
REGION_EDGES_HZ, REGION_VOICES = (350.0, 1000.0), (0.5, 1.0, 1.0, 1.0, 1.0, 1.0)
#: Share of rows that must sound for "nothing ducks" to mean anything.
LEAST_SOUNDING = 0.1
#: A difference of bars this sure is the answer; a less sure one is a third witness of the depth.
COMPARED = 0.5
#: What the networks say of depth and rate, and a difference of the depth, counts so much more than votes that are as sure: fitted
#: on the tuned two thirds of bench/material and of bench/testset.
MORE_THAN_VOTES = 2.0
#: See probability().
CERTAIN_FROM, CERTAIN_PER = -0.11, 0.81
#: What the networks learned from ducks less often than club music does: so much more likely is it there, in nepers of the odds.
DUCKS_MORE = 0.6
#: See depth_probability().
AGREEING_FROM, AGREEING_PER, SPREAD_PER = 1.05, -1.22, -1.69
NEAR_DB, NEAR_SHARE = 1.5, 0.2
#: How far a hypothesis that explains more outweighs the others: the power of what each explains.
CLEARLY = 4


@dataclass(frozen=True)
class Reading:
    """All hypotheses' fits, the likeliest first, and the evidence that they were fitted to."""

    fits: tuple[Fit, ...]
    evidence: Evidence
    #: Share of the rows that sound long enough to show ducking.
    sounding: float
    #: Every beat, and every 8th or the kick's own pattern where that explains most.
    plain: tuple[Trigger, ...]


def measure_pump(
    levels: Levels, bars: BarTable, hits: Hits, presence: Presence, spans: list[tuple[int, int]], drops: list[int]
) -> Pump:
    """`spans` are (first bar index, bars) of the sections, `drops` the numbers of those that play at full energy."""
    kick = np.array(presence.kick) > 0.5
    use = kick if kick.sum() >= LEAST_BARS else np.ones(bars.count, bool)
    reading = read(levels, bars, hits, use)
    if reading is None:
        return no_pump(len(spans), told=False)
    beat_s = _beat_s(bars)
    best = reading.fits[0]
    pairs = pair_bars(levels, bars, hits, presence, spans, drops)
    difference = clearest(pairs, reading.plain) if pairs is not None else None
    if difference is not None and difference.confidence >= COMPARED:
        best = replace(best, trigger=difference.trigger, depth_db=difference.depth_db, curve_db=difference.curve_db)
        right = difference.confidence
    else:
        regions = np.searchsorted(REGION_EDGES_HZ, levels.centers_hz, side="right") + len(REGION_VOICES) // 2 * levels.side
        best = agreed(reading.evidence, best, beat_s, regions, np.array(REGION_VOICES))
        learned = read_learned(fold(levels, use))
        voted, seen = probability(best), in_club_music(learned.certain)
        sure = (voted + seen) / 2
        if sure < 0.5:
            return no_pump(len(spans), told=reading.sounding >= LEAST_SOUNDING, confidence=1 - sure)
        right = min(sure, depth_probability(best, learned))
        best = _joined(reading.fits, best, voted, learned, seen, difference)
    depths = in_threads(lambda span: depth_of_bars(levels.db[:, span[0] : sum(span)], reading.evidence, best, beat_s), spans)
    band_of = np.searchsorted(BAND_EDGES_HZ, levels.centers_hz, side="right")
    bands = {
        name: BandDepth(round(depths_like(reading.evidence, best, beat_s, band_of == k, DEEPEST_DB), 2))
        for k, name in enumerate(BAND_NAMES)
    }
    curve = _per_point(best.curve_db)
    return Pump(
        # Depth is the drawn curve's own lowest point.
        depth_db=round(-float(curve.min()), 2),
        rate=best.trigger.rate,
        release_ms=round(release_ms(curve, best.trigger.beats * beat_s), 1),
        curve_db=tuple(round(float(v), 2) + 0.0 for v in curve),
        confidence=round(right, 2),
        bands=bands,
        active_sections=tuple(i for i, d in enumerate(depths) if d >= max(LEAST_DB, LEAST_SHARE * best.depth_db)),
        per_section=tuple(SectionPump(i, round(d, 2)) for i, d in enumerate(depths)),
    )


def read(levels: Levels, bars: BarTable, hits: Hits, use: np.ndarray) -> Reading | None:
    """What the bars in use (bool per bar) say; None where nothing sounds."""
    evidence = gather(np.where(use[None, :, None], levels.db, np.float32(np.nan)))
    if not evidence.count.any():
        return None
    beat_s = _beat_s(bars)
    triggers = _triggers(evidence, bars, hits, use)
    fits = best_fits(evidence, triggers, beat_s)
    known = np.isfinite(levels.db[:, use])
    kicks = [t for t in triggers if t.rate == "kick"][:1]
    plain = [t for t in (triggers[0], triggers[1], *kicks) if t.rate == "1/4" or t == fits[0].trigger]
    return Reading(fits, evidence, float((known.mean(axis=(1, 2)) > 0.5).mean()), tuple(plain))


def probability(fit: Fit) -> float:
    """That anything ducks: a logistic regression on what the best hypothesis explains, fitted on the tuned two thirds of
    bench/material and of bench/testset.
    """
    return float(scipy.special.expit(CERTAIN_FROM + CERTAIN_PER * _explained(fit)))


def in_club_music(certain: float) -> float:
    """The networks' probability that anything ducks, where ducking is as frequent as in club music."""
    odds = float(np.exp(DUCKS_MORE))
    return odds * certain / (1 - certain + odds * certain)


def depth_probability(fit: Fit, learned: Learned) -> float:
    """That the depth is right within NEAR_DB or NEAR_SHARE of it: a logistic regression on how far the two witnesses' depths are
    apart and how widely the networks expect to err, fitted on the tuned two thirds of bench/material.
    """
    depth_db = float(np.sqrt(fit.depth_db * learned.depth_db))
    apart = abs(np.log(learned.depth_db / fit.depth_db))
    spread = np.log(learned.spread_db / max(NEAR_DB, NEAR_SHARE * depth_db))
    return float(scipy.special.expit(AGREEING_FROM + AGREEING_PER * apart + SPREAD_PER * spread))


def _joined(
    fits: tuple[Fit, ...], best: Fit, voted: float, learned: Learned, seen: float, difference: Difference | None = None
) -> Fit:
    """What the witnesses say together, votes and networks each heard as far as it is sure that anything ducks at all (`voted`,
    `seen`), a difference of bars as far as it is sure itself."""
    explained = {rate: max((f.gain * f.trigger.plain for f in fits if f.trigger.rate == rate), default=0.0) for rate in RATES}
    shares = np.array([explained[rate] ** CLEARLY for rate in RATES])
    rate = RATES[int(np.argmax(voted * shares / max(shares.sum(), 1e-12) + MORE_THAN_VOTES * seen * learned.rates))]
    # Of 8ths the networks learned from few, and read them 2 to 3 dB too deep.
    heard = 0.0 if rate == best.trigger.rate == "1/8" else seen
    depths, worth = [best.depth_db, learned.depth_db], [voted, MORE_THAN_VOTES * heard]
    if difference is not None:
        depths.append(difference.depth_db)
        worth.append(MORE_THAN_VOTES * difference.confidence)
    depth_db = float(np.exp(np.average(np.log(depths), weights=worth)))
    fit = next((f for f in fits if f.trigger.rate == rate), None)
    trigger = fit.trigger if fit else Trigger(rate, learned.triggers(rate), 0.5 if rate == "1/8" else 1.0)
    fine = int(POINTS * FINE * trigger.beats)
    shapes = []
    if best.trigger.rate == rate:
        shapes.append(best.curve_db / best.curve_db.min())
    if learned.rate == rate or not shapes:
        shapes.append(np.interp(np.arange(fine) / fine, np.arange(POINTS) / POINTS, learned.shape))
    shape = np.mean(shapes, axis=0)
    return replace(best, trigger=trigger, depth_db=depth_db, curve_db=-depth_db * shape / shape.max())


def _explained(fit: Fit) -> float:
    return float(np.log(1e3 * fit.gain * fit.trigger.plain + 0.05))


def no_pump(sections: int, told: bool = True, confidence: float = 0.0) -> Pump:
    """The answer where nothing ducks, or where it can't be told."""
    bands = {name: BandDepth(0.0) for name in BAND_NAMES}
    flat = tuple(SectionPump(i, 0.0) for i in range(sections))
    return Pump(0.0, "1/4", 0.0, tuple([0.0] * POINTS), round(confidence if told else 0.0, 2), bands, (), flat, told)


def corrected_pump(measured: Pump, said: PumpCorrection, beat_s: float, kick: tuple[float, ...]) -> Pump:
    """The measured curve brought to the depth, rate and release that the producer hears, a straight recovery where none was
    measured; it acts where it was seen to, else in the sections with kick (`kick`: presence per section).
    """
    count = len(measured.per_section)
    if said.depth_db == 0:
        return no_pump(count, confidence=1.0)
    period_s = beat_s / 2 if said.rate == "1/8" else beat_s
    shape = np.array(measured.curve_db) / -measured.depth_db if measured.depth_db else np.linspace(1, 0, POINTS)
    bottom = int(np.argmax(shape))
    low, high = 0.05, 20.0
    for _ in range(40):
        stretch = float(np.sqrt(low * high))
        curve = -said.depth_db * _stretched(shape, bottom, stretch)
        low, high = (stretch, high) if release_ms(curve, period_s) < said.release_ms else (low, stretch)
    ratio = said.depth_db / measured.depth_db if measured.depth_db else 0.0
    active = measured.active_sections or tuple(i for i, presence in enumerate(kick) if presence >= 0.5)
    return Pump(
        depth_db=round(said.depth_db, 2),
        rate=said.rate,
        release_ms=round(release_ms(curve, period_s), 1),
        curve_db=tuple(round(float(v), 2) + 0.0 for v in curve),
        confidence=1.0,
        bands={name: BandDepth(round(band.depth_db * ratio, 2)) for name, band in measured.bands.items()},
        active_sections=active,
        per_section=tuple(SectionPump(i, round(said.depth_db, 2) if i in active else 0.0) for i in range(count)),
    )


def _stretched(shape: np.ndarray, bottom: int, factor: float) -> np.ndarray:
    """A curve of POINTS points whose recovery, from its lowest point on, lasts `factor` times as long."""
    points = np.arange(POINTS)
    after = np.interp((points - bottom) / factor + bottom, points, shape)
    return np.asarray(np.where(points <= bottom, shape, after))


def _beat_s(bars: BarTable) -> float:
    return round(bars.grid.beat_s, 4)


def _triggers(evidence: Evidence, bars: BarTable, hits: Hits, use: np.ndarray) -> list[Trigger]:
    """Hypotheses worth testing: every beat, every 8th, the kick's typical pattern, all low hits, those of them that the levels fall
    at; each pattern also with the backbeat.
    """
    bar = bars.grid.beats_per_bar * POINTS
    out = [Trigger("1/4", tuple(range(0, bar, POINTS)), 1.0), Trigger("1/8", tuple(range(0, bar, POINTS // 2)), 0.5)]
    kick, thump = (np.median(x[use], axis=0) for x in (hits.kick, hits.thump))
    snares = [s for s in hits.backbeat if kick[s] < SURE]
    step = POINTS // STEPS_PER_BEAT
    # Odd 16ths are as late as the swing says.
    late = round(hits.swing_s / bars.grid.beat_s * POINTS)
    places = [s * step + (late if s % 2 else 0) for s in range(bars.steps)]
    thumps = np.flatnonzero(thump >= THUMPS * thump.max()).tolist()
    beats = [list(range(s, bars.steps, STEPS_PER_BEAT)) for s in range(1, STEPS_PER_BEAT)]
    # Where the grid lies off the beat, so does every beat.
    off = [steps for steps in beats if set(steps) <= set(thumps)]
    chosen = [thumps[i] for i in triggering(evidence, [places[s] for s in thumps], _beat_s(bars))]
    patterns = [(np.flatnonzero(kick >= SURE).tolist(), HIT_PLAIN), (thumps, HIT_PLAIN), *((s, HIT_PLAIN) for s in off)]
    for steps, plain in (*patterns, (chosen, CHOSEN_PLAIN)):
        for more in ([], snares):
            pattern = sorted({*steps, *more})
            at = tuple(places[s] for s in pattern)
            if steps and all(set(at) != set(t.at) for t in out):
                out.append(Trigger(_rate(pattern, snares, bars.steps), at, 1.0, plain))
    return out


def _rate(pattern: list[int], snares: list[int], steps: int) -> str:
    if pattern in [list(range(s, steps, STEPS_PER_BEAT)) for s in range(STEPS_PER_BEAT)]:
        return "1/4"
    return "kick and snare" if snares and set(snares) <= set(pattern) else "kick"


def _per_point(curve: np.ndarray) -> np.ndarray:
    """A fine curve of one period at POINTS points, its lowest point kept."""
    lowest = curve.min()
    points = np.interp(np.arange(POINTS) / POINTS, np.arange(len(curve)) / len(curve), curve)
    return np.asarray(points * (lowest / min(points.min(), -1e-9)))


def release_ms(curve_db: np.ndarray, period_s: float) -> float:
    """From the start of the lowest stretch to within 1 dB of full recovery."""
    n = len(curve_db)
    bottom = int(np.flatnonzero(curve_db <= curve_db.min() + 0.05)[0])
    back = np.flatnonzero(curve_db[bottom:] >= -1.0)
    if len(back) == 0:
        return (n - bottom) / n * period_s * 1000
    k = bottom + int(back[0])
    step = float(curve_db[k] - curve_db[k - 1])
    exact = k - 1 + ((-1.0 - float(curve_db[k - 1])) / step if step > 0 else 1.0)
    return max(0.0, exact - bottom) / n * period_s * 1000

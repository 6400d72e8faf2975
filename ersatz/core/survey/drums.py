"""The groove: which drums hit on which step of each section, how late or early, how swung?

Conventions: strengths 0..1 per 16th step; timing in ms against the straight grid, later is positive. Method: the typical
strength of a step is its median over the section's bars (hits.py). A section whose upper onsets stand on thirds of the beat and
not on its quarters is pictured in triplets, three steps a beat, by the onsets themselves. Swing: place of the odd 16ths inside
the 8th, from the folded high and middle onsets against the even ones.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import DrumPattern, Drums, KickPortrait, StepTiming
from ersatz.core.survey.hits import Hits
from ersatz.core.survey.shared import Shared
from ersatz.core.survey.slots import peaks_at

#: A step of a section's picture counts as played from this typical strength on: kicks are all alike, hats are not.
TYPICAL = {"kick": 0.55, "clap": 0.5, "hats": 0.3}
MAX_SWING_PERCENT = 72.0
TRIPLETS_PER_BEAT = 3
#: How far the weaker third of the beat must stand over the strongest quarter, and what share of the beat's own onsets it must
#: reach; how near to its place an onset counts.
TRIPLET_LEAD, TRIPLET_SHARE, TRIPLET_REACH_S = 1.6, 0.3, 0.012
#: How often a swing within a point, and a picture of F1 0.9, were right on bench/testset, by how clearly the off-16ths stand out
#: (0..1) and by the share of all steps that agree with the picture.
SWING_CLEAR, SWING_SURE = (0.0, 0.1, 0.3, 0.7), (0.65, 0.75, 0.85, 0.97)
STEPS_AGREE, PICTURE_SURE = (0.85, 0.93, 0.97, 0.99), (0.3, 0.55, 0.7, 0.95)
#: Off-16ths that stand out by less are no swing.
LEAST_CLEAR = 0.15


def measure_swing(shared: Shared, bars: BarTable) -> tuple[float, float]:
    """Place of the off-16th inside its 8th in percent, 50 straight; and how sure that is."""
    eighth = bars.grid.beat_s / 2
    curve = _sharpened(shared.onsets(4700, 18_000)) + 0.7 * _sharpened(shared.onsets(1000, 4700))
    bins = 200
    start = bars.grid.first_downbeat_s
    t = np.arange(len(curve)) * shared.hop_s - start
    inside = t >= 0
    place = t[inside] % eighth / eighth * bins
    base = place.astype(int)
    part = place - base
    weights = curve[inside]
    total = np.bincount(base % bins, weights * (1 - part), bins) + np.bincount((base + 1) % bins, weights * part, bins)
    folded = total / np.maximum(np.bincount(base % bins, 1 - part, bins) + np.bincount((base + 1) % bins, part, bins), 1e-9)
    smooth = np.convolve(np.tile(folded, 3), np.hanning(13) / 6, "same")[bins : 2 * bins]
    on = float(np.argmax(np.concatenate([smooth[-24:], smooth[:24]]))) - 24
    window = np.arange(int(0.42 * bins), int(MAX_SWING_PERCENT / 100 * bins))
    k = window[int(np.argmax(smooth[window]))]
    background = float(np.median(smooth))
    clear = (float(smooth[k]) - background) / max(float(smooth.max()) - background, 1e-12)
    sure = round(float(np.interp(clear, SWING_CLEAR, SWING_SURE)), 2)
    if clear <= LEAST_CLEAR or k in (window[0], window[-1]):
        return 50.0, sure
    near = np.arange(k - 8, k + 9)
    weight = np.maximum(smooth[near % bins] - background, 0)
    off = float((near * weight).sum() / max(float(weight.sum()), 1e-12))
    percent = 100 * (off - on) / bins
    # Under a point the fold can't tell swing from the shape of the hits.
    return round(percent, 1) if 51.0 <= percent <= MAX_SWING_PERCENT else 50.0, sure


def describe_drums(
    shared: Shared, bars: BarTable, hits: Hits, spans: list[tuple[int, int]], portrait: KickPortrait | None
) -> Drums:
    """One picture of the bar per section; `spans` are (first bar index, bars)."""
    curves = {
        "kick": _sharpened(shared.onsets(20, 110)),
        "clap": _sharpened(shared.onsets(1000, 4700)),
        "hats": _sharpened(shared.onsets(6000, 18_000)),
    }
    patterns = []
    for i, (first, length) in enumerate(spans):
        triplets = _in_triplets(shared, bars, curves["clap"] + curves["hats"], first, length)
        steps = TRIPLETS_PER_BEAT * bars.grid.beats_per_bar if triplets else bars.steps
        rows, timing, agreed = {}, {}, []
        for name, curve in curves.items():
            if triplets:
                played = _onset_steps(shared, bars, curve, first, length, steps)
            else:
                played = getattr(hits, name)[first : first + length]
            typical = np.median(played, axis=0) if length > 2 else played.mean(axis=0)
            rows[name] = tuple(round(float(v), 2) if v >= TYPICAL[name] else 0.0 for v in typical)
            timing[name] = _timing(shared, bars, curve, first, length, rows[name])
            agreed.append(((played >= TYPICAL[name]) == (np.array(rows[name]) > 0)).mean())
        confidence = round(float(np.interp(np.mean(agreed), STEPS_AGREE, PICTURE_SURE)), 2)
        patterns.append(DrumPattern(i, steps, rows["kick"], rows["clap"], rows["hats"], StepTiming(**timing), confidence))
    return Drums(portrait, _on_the_kick(patterns))


def _in_triplets(shared: Shared, bars: BarTable, curve: np.ndarray, first: int, length: int) -> bool:
    """Whether onsets stand on the thirds of the beat, both of them, and not on its quarters."""
    beats = bars.grid.beats_per_bar
    starts = (bars.edges_s[first : first + length, None] + np.arange(beats) * bars.grid.beat_s).ravel()

    def strength(part: float) -> float:
        times = starts + part * bars.grid.beat_s
        return float(np.mean(peaks_at(curve, times, shared.hop_s, TRIPLET_REACH_S, TRIPLET_REACH_S)))

    thirds = min(strength(1 / 3), strength(2 / 3))
    quarters = max(strength(part) for part in (0.25, 0.5, 0.75))
    return thirds > max(TRIPLET_LEAD * quarters, TRIPLET_SHARE * strength(0.0))


def _onset_steps(shared: Shared, bars: BarTable, curve: np.ndarray, first: int, length: int, steps: int) -> np.ndarray:
    """Strength of the onsets per bar and step, 1 for the strong ones, shape (length, steps)."""
    times = bars.edges_s[first : first + length, None] + np.arange(steps) * bars.grid.bar_s / steps
    peaks = peaks_at(curve, times.ravel(), shared.hop_s).reshape(length, steps)
    return np.asarray(np.minimum(peaks / max(float(np.percentile(peaks, 90)), 1e-9), 1.0))


def _on_the_kick(patterns: list[DrumPattern]) -> tuple[DrumPattern, ...]:
    """Kick timing without its constant part: the grid lies on the kick's attack, what is left over is the low band's own delay."""
    known = [t for p in patterns for t in p.timing_ms.kick if t is not None]
    if not known:
        return tuple(patterns)
    lag = float(np.median(known))
    return tuple(
        replace(p, timing_ms=replace(p.timing_ms, kick=tuple(None if t is None else round(t - lag, 1) for t in p.timing_ms.kick)))
        for p in patterns
    )


def _timing(
    shared: Shared, bars: BarTable, curve: np.ndarray, first: int, length: int, row: tuple[float, ...]
) -> tuple[float | None, ...]:
    """Centroid of the averaged onset within +-35 ms of each hit step, ms."""
    reach = round(0.035 / shared.hop_s)
    out: list[float | None] = []
    starts = bars.edges_s[first : first + length]
    for step, strength in enumerate(row):
        if strength == 0:
            out.append(None)
            continue
        times = starts + step * bars.grid.bar_s / len(row)
        place = times / shared.hop_s
        index = np.floor(place).astype(int)
        offsets = np.arange(-reach, reach + 1)
        cut = curve[np.clip(index[:, None] + offsets, 0, len(curve) - 1)].mean(axis=0)
        cut = np.maximum(cut - 0.5 * cut.max(), 0)
        lag = float((place - index).mean())
        centre = float((cut * offsets).sum() / max(float(cut.sum()), 1e-12)) - lag
        # The onset curve leads the attack by about 3.5 ms (see tempo.ONSET_LEAD_S).
        out.append(round(centre * shared.hop_s * 1000 + 3.5, 1))
    return tuple(out)


def _sharpened(curve: np.ndarray) -> np.ndarray:
    """Onsets over the local average (0.4 s): a noisy bed raises both."""
    width = 69
    return np.asarray(np.maximum(curve - np.convolve(curve, np.ones(width) / width, "same"), 0))

"""Which drum hits when: strength of kick, clap or snare, and hats at every 16th of every bar.

Conventions: strengths 0..1, shape (bars, steps), 1 = as strong as the track's strong hits. Method: the kick is one sample played
again and again, so its waveform is learned from the surest hits and every step is measured against it. Claps, snares and
hats are noise that lasts longer than a click: rises of the noise level (frames.py, slots.py) in four bands. A clap or snare
must rise in all bands from 1 to 8 kHz at once, against what it does on the track's own backbeat; what rises above 8 kHz is a hat.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.compiled import unordered
from ersatz.core.survey.bars import STEPS_PER_BEAT, BarTable
from ersatz.core.survey.shared import LOW_HZ, Shared
from ersatz.core.survey.slots import REACH, SPAN, peaks_at, sustained_rise

#: A step counts as hit from this share of the track's strong hits on.
HIT = 0.42
#: Kicks from this strength on are taken out of the low register.
SURE = 0.55
#: Noise bands of claps and snares, and of hats, Hz.
CLAP_BANDS_HZ = ((1000, 2000), (2000, 4000), (4000, 8000))
HATS_HZ = (8000, 16_000)
#: Where backbeats stand, in 16ths: two and four, three in half time, dembow.
BACKBEATS = ((4, 12), (8,), (3, 6, 11, 14))
#: Late claps and bursts: how far after the step a rise still belongs to it.
LATE_S = 0.03
#: Three steps that rise so far on average, against a clap, drown it.
DROWNED = 0.9
LEAST_BARS = 8
#: A kick plays on the one: what hits there less than this share of its busiest step is a bass on the off-beat.
ON_THE_ONE = 0.3


@dataclass(frozen=True)
class Hits:
    """Strengths per bar and 16th, shape (bars, steps)."""

    kick: np.ndarray
    clap: np.ndarray
    hats: np.ndarray
    #: The backbeat's steps, as far as there is one.
    backbeat: tuple[int, ...]
    swing_s: float
    #: How far low and knock or click set in together per step, whatever it is that hits, shape (bars, steps).
    thump: np.ndarray
    #: The low register (shared.LOW_HZ) with the kick's waveform taken out where it was recognised, shape (samples,).
    low_without_kick: np.ndarray

    def kick_mask(self) -> np.ndarray:
        """Which steps have a kick, bool, shape (bars, steps)."""
        return np.asarray(self.kick >= HIT)


def find_hits(shared: Shared, bars: BarTable, swing_percent: float) -> Hits:
    """Strengths of kick, clap and hats at every 16th, odd ones as late as the swing says."""
    swing_s = (swing_percent - 50) / 100 * bars.grid.beat_s / 2
    times = bars.step_times_s(swing_s)

    def attacks(low_hz: float, high_hz: float) -> np.ndarray:
        return _strength(peaks_at(shared.attacks(low_hz, high_hz), times, shared.hop_s).reshape(bars.count, bars.steps))

    low, knock, click = attacks(20, 110), attacks(110, 360), attacks(1000, 4700)
    kick = np.clip(np.minimum(low, 0.3 + np.maximum(knock, click)), 0, 1)
    thump = kick
    kick, low_without_kick = _by_template(shared, bars, thump, swing_s)
    by_step = kick.mean(axis=0)
    if by_step[0] < ON_THE_ONE * by_step.max():
        kick, low_without_kick = np.zeros_like(kick), shared.low
    clap, backbeat = _claps(shared, bars, times, kick)
    hats = peaks_at(sustained_rise(shared.noise(*HATS_HZ)), times, shared.hop_s).reshape(bars.count, bars.steps)
    return Hits(np.clip(kick, 0, 1), clap, _hats(hats, clap), backbeat, swing_s, thump, low_without_kick)


def _claps(shared: Shared, bars: BarTable, times: np.ndarray, kick: np.ndarray) -> tuple[np.ndarray, tuple[int, ...]]:
    """Strength of clap or snare per step and the backbeat's steps."""
    rises = [_rises(shared.noise(low, high), times, shared.hop_s).reshape(bars.count, bars.steps) for low, high in CLAP_BANDS_HZ]
    # Rolls in a build hit the backbeat too: it is learned where the kick plays.
    driven = np.asarray((kick > HIT).any(axis=1))
    if driven.sum() < LEAST_BARS:
        driven = np.ones(bars.count, bool)
    backbeat: tuple[int, ...] = ()
    best, lead = np.minimum.reduce([_strength(r) for r in rises]), -0.1
    for steps in BACKBEATS:
        inside = [s for s in steps if s < bars.steps]
        if not inside:
            continue
        # What each band does on the backbeat in the bars that have one.
        levels = [np.percentile(r[driven][:, inside].mean(axis=1), 80) for r in rises]
        strength = _weakest([r / max(float(level), 1e-9) for r, level in zip(rises, levels)], inside)
        mean = np.minimum(strength, 1.0)[driven].mean(axis=0)
        others = np.delete(mean, inside)
        here = float(mean[inside].min()) - float(np.sort(others)[-len(inside) - 2 :].mean())
        if here > lead:
            # The weakest band of each hit decides, so the strong hits lie under 1 at first.
            strong = float(np.percentile(strength[driven][:, inside], 75))
            best, backbeat, lead = strength / max(strong, 0.2), tuple(inside), here
    return np.clip(best, 0, 1), backbeat


def _weakest(bands: list[np.ndarray], backbeat: list[int]) -> np.ndarray:
    """The weakest band of each step, which decides whether a clap hits there, shape (bars, steps).

    Where other instruments make a band rise between the backbeats as far as a clap would, it says nothing about the backbeat of
    that bar either: the next one decides.
    """
    ordered = np.sort(bands, axis=0)
    between = [np.sort(np.delete(b, backbeat, axis=1), axis=1)[:, -3:].mean(axis=1) for b in bands]
    drowned = np.take_along_axis(np.array(between)[:, :, None], np.argmin(bands, axis=0)[None], axis=0)[0] > DROWNED
    on = np.isin(np.arange(ordered.shape[2]), backbeat)
    return np.where(drowned & on, ordered[1], ordered[0])


def _rises(noise: np.ndarray, times: np.ndarray, hop_s: float) -> np.ndarray:
    """Rise of the noise's amplitude at each step, or what it has more than a beat before and after, whichever is larger.

    Where the kick ducks everything else on the same beat a clap doesn't rise over what was there before; but it stands out of
    the other beats.
    """
    rise = peaks_at(sustained_rise(noise), times, hop_s, late_s=LATE_S)
    index = np.round(times / hop_s).astype(int)
    after = np.sqrt(np.mean([noise[np.clip(index + d, 0, len(noise) - 1)] for d in range(REACH, REACH + SPAN)], axis=0))
    beat = np.pad(after, STEPS_PER_BEAT, mode="edge")
    more = np.minimum(after - beat[: -2 * STEPS_PER_BEAT], after - beat[2 * STEPS_PER_BEAT :])
    return np.asarray(np.maximum(rise, more))


def _hats(rise: np.ndarray, clap: np.ndarray) -> np.ndarray:
    """Strength of the hats per step; how strong a hat is gets learned where no clap rings above 8 kHz too."""
    free = clap < 0.3
    reference = float(np.percentile(np.where(free, rise, 0).max(axis=1), 70))
    return np.clip(rise / max(reference, 1e-9), 0, 1)


def _strength(steps: np.ndarray) -> np.ndarray:
    """1 at what the strong hits reach in the bars that have them."""
    return np.asarray(steps / max(float(np.percentile(steps.max(axis=1), 75)), 1e-9))


def _by_template(shared: Shared, bars: BarTable, first_guess: np.ndarray, swing_s: float) -> tuple[np.ndarray, np.ndarray]:
    """Strength per step by matched filtering with the track's own kick, so that bass notes don't count.

    Club kicks are one sample played again and again: its waveform under 1 kHz is learned from the surest hits and every step
    is measured against it, as amplitude and as correlation. Where the hits don't resemble each other the guess stays.
    Second comes the low register without those kicks.
    """
    length, slack = int(0.12 * LOW_HZ), int(0.012 * LOW_HZ)
    start = np.round(bars.step_times_s(swing_s) * LOW_HZ).astype(int)
    usable = (start >= slack) & (start + length + slack < len(shared.low))
    sure = np.flatnonzero((first_guess.ravel() > 0.75) & usable)
    if len(sure) < 8:
        return first_guess, shared.low
    sure = sure[:: max(1, len(sure) // 400)]
    offsets = np.arange(length)
    template = shared.low[start[sure][:, None] + offsets].mean(axis=0)
    for _ in range(2):
        lags, scores = _best_lags(shared.low, start[sure], template, slack)
        close = scores > np.median(scores) - 0.1
        template = shared.low[(start[sure] + lags)[close][:, None] + offsets].mean(axis=0)
    if float(np.median(scores)) < 0.6:
        return first_guess, shared.low
    out = np.zeros(first_guess.size)
    where = np.flatnonzero(usable)
    lags, scores = _best_lags(shared.low, start[where], template, slack)
    pieces = shared.low[(start[where] + lags)[:, None] + offsets]
    amplitude = pieces @ template / max(float(template @ template), 1e-12)
    out[where] = np.clip(amplitude, 0, 1) * np.clip((scores - 0.35) / 0.3, 0, 1)
    # The tail of a kick or a long bass note may resemble the kick, but doesn't set in.
    out = np.minimum(out, 0.1 + 2.0 * first_guess.ravel())
    return out.reshape(first_guess.shape), _without(shared.low, start[where] + lags, out[where], template)


def barest(pieces: np.ndarray) -> np.ndarray:
    """Indices of the pieces (hits, samples) that hold least beside the kick: a quarter of them, eight at least.

    An intro has kicks without bass; judged by what sounds in the second half of each piece.
    """
    rest = np.square(pieces[:, pieces.shape[1] // 2 :]).sum(axis=1)
    return np.argsort(rest)[: max(8, len(pieces) // 4)]


def _without(x: np.ndarray, at: np.ndarray, strength: np.ndarray, template: np.ndarray) -> np.ndarray:
    """`x` less the kick's own waveform after every strong hit, over a third of a second or up to the next hit."""
    at = at[strength > SURE]
    length = int(0.33 * LOW_HZ)
    inside = at[at + length < len(x)]
    if len(inside) < 8:
        return x
    whole = x[inside[:, None] + np.arange(length)]
    gaps = np.append(np.diff(inside), length)
    free = gaps >= min(length, int(np.percentile(gaps, 75)))
    tail = whole[free][barest(whole[free])].mean(axis=0)
    tail *= np.minimum(1, np.arange(length)[::-1] / (0.03 * LOW_HZ))
    # Hits lie between samples: the derivative shifts the tail by a part of one (first order of Taylor's series).
    slope = np.gradient(tail)
    head = len(template)
    fit = np.linalg.pinv(np.stack([tail[:head], slope[:head]], axis=1))
    out = x.copy()
    for place, gap in zip(inside, gaps):
        n = min(length, int(gap))
        amplitude, shift = fit @ x[place : place + head]
        out[place : place + n] -= np.clip(amplitude, 0, 1.3) * tail[:n] + np.clip(shift, -0.6, 0.6) * slope[:n]
    return out


def _best_lags(x: np.ndarray, start: np.ndarray, template: np.ndarray, slack: int) -> tuple[np.ndarray, np.ndarray]:
    """Lag within +-slack at which each piece resembles the template most, and that correlation."""
    unit = (template / max(float(np.linalg.norm(template)), 1e-12)).astype(np.float32)
    lags, scores = np.zeros(len(start), np.int64), np.full(len(start), -1.0)
    _match(x, start, unit, slack, lags, scores)
    return lags, scores


@unordered
def _match(  # pragma: no cover - compiled
    x: np.ndarray, start: np.ndarray, unit: np.ndarray, slack: int, lags: np.ndarray, scores: np.ndarray
) -> None:
    n = len(unit)
    for i in range(len(start)):
        for lag in range(-slack, slack + 1):
            at = start[i] + lag
            dot, energy = np.float32(0), np.float32(0)
            for k in range(n):
                v = x[at + k]
                dot += v * unit[k]
                energy += v * v
            score = dot / max(np.sqrt(energy), 1e-9)
            if score > scores[i]:
                scores[i], lags[i] = score, lag

"""Which drums hit when, how swung, and what is the kick like?

Conventions: strengths 0..1 per 16th step; timing in ms against the straight grid, later is positive. Method: onset
curves of a low, a middle and a high band read at the 16ths of each bar; a low onset counts as a kick when the
attack spreads upwards (a bass note's doesn't), a middle one as clap or snare when it stands out of its neighbours. Swing: place of
the odd 16ths inside the 8th, from the folded high and middle onsets against the even ones. Kick: aligned median of its hits.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy import signal

from ersatz.core.pitch import hz_midi, note_name
from ersatz.core.survey.bars import STEPS, BarTable
from ersatz.core.survey.document import DrumPattern, Drums, KickPortrait, StepTiming
from ersatz.core.survey.shared import LOW_HZ, TONAL_HZ, Shared

#: A step counts as hit from this share of the track's strong hits on.
HIT = 0.42
#: Median correlation from which on the surest claps count as one sample.
CLAP_ALIKE = 0.45
MAX_SWING_PERCENT = 72.0


@dataclass(frozen=True)
class Hits:
    """Strength per bar and 16th, shape (bars, 16), 1 = as strong as the track's strong hits."""

    kick: np.ndarray
    clap: np.ndarray
    hats: np.ndarray
    swing_s: float
    #: The low register (shared.LOW_HZ) with the kick's waveform taken out where it was recognised, shape (samples,).
    low_without_kick: np.ndarray

    def kick_mask(self) -> np.ndarray:
        return np.asarray(self.kick >= HIT)


def find_hits(shared: Shared, bars: BarTable, swing_percent: float) -> Hits:
    swing_s = (swing_percent - 50) / 100 * bars.grid.beat_s / 2

    def steps(low_hz: float, high_hz: float) -> np.ndarray:
        return bars.step_peaks(shared, shared.attack[shared.rows(low_hz, high_hz)].sum(axis=0), swing_s)

    low, knock, click = _strength(steps(20, 110)), _strength(steps(110, 360)), _strength(steps(1000, 4700))
    kick = np.minimum(low, 0.3 + np.maximum(knock, click))
    kick, low_without_kick = _by_template(shared, bars, np.clip(kick, 0, 1), swing_s)
    # A clap is broad: the upper bands must rise with the middle, and it towers over the bar's other steps.
    upper = _strength(steps(4700, 10_000))
    clap = np.minimum(click, 0.25 + 1.2 * upper)
    hats = _strength(steps(6000, 18_000))
    clap = np.clip(_contrast(clap), 0, 1)
    clap = np.maximum(_clap_by_template(shared, bars, clap, swing_s), np.where(clap > 0.9, clap, 0.0))
    return Hits(np.clip(kick, 0, 1), clap, np.clip(hats, 0, 1), swing_s, low_without_kick)


def _clap_by_template(shared: Shared, bars: BarTable, first_guess: np.ndarray, swing_s: float) -> np.ndarray:
    """The same idea for clap and snare between 1 and 5 kHz, by one fast correlation over the whole track.

    Where the surest hits don't resemble each other (a clap made anew each time, or no clap at all) the guess stays.
    """
    rate = TONAL_HZ
    x = signal.sosfilt(signal.butter(2, 1000, "highpass", fs=rate, output="sos"), shared.decimated).astype(np.float32)
    length, slack = int(0.045 * rate), int(0.008 * rate)
    start = np.round(bars.step_times_s(swing_s) * rate).astype(int)
    usable = (start >= slack) & (start + length + slack < len(x))
    sure = np.flatnonzero((first_guess.ravel() > 0.8) & usable)
    if len(sure) < 8:
        return first_guess
    # The hit that the others resemble most is the template.
    surest = sure[:: max(1, len(sure) // 64)]
    segments = x[(start[surest] - slack)[:, None] + np.arange(length + 2 * slack)]
    best, resembling = segments[0, slack : slack + length], -1.0
    for candidate in segments[:: max(1, len(segments) // 24), slack : slack + length]:
        found = _normalised(segments, candidate).max(axis=1)
        if float(np.median(found)) > resembling:
            best, resembling = candidate, float(np.median(found))
    if resembling < CLAP_ALIKE:
        return first_guess
    scores = np.zeros(first_guess.size)
    where = np.flatnonzero(usable)
    scores[where] = _normalised(x[None], best)[0][start[where][:, None] + np.arange(-slack, slack + 1)].max(axis=1)
    return np.clip((scores - 0.5 * resembling) / (0.5 * resembling), 0, 1).reshape(first_guess.shape)


def _normalised(x: np.ndarray, template: np.ndarray) -> np.ndarray:
    """Correlation coefficient of the template with every stretch of each row of `x`, shape (rows, n - length + 1)."""
    length = len(template)
    unit = template / max(float(np.linalg.norm(template)), 1e-12)
    total = np.cumsum(np.square(x, dtype=np.float64), axis=1)
    energy = total[:, length - 1 :] - np.pad(total[:, :-length], ((0, 0), (1, 0)))
    return np.asarray(signal.oaconvolve(x, unit[None, ::-1], "valid", axes=1) / np.sqrt(np.maximum(energy, 1e-12)))


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
    return out.reshape(first_guess.shape), _without(shared.low, start[where] + lags, out[where], template)


def _without(x: np.ndarray, at: np.ndarray, strength: np.ndarray, template: np.ndarray) -> np.ndarray:
    """`x` less the average of what follows every strong hit, over a third of a second or up to the next hit."""
    at = at[strength > HIT]
    length = int(0.33 * LOW_HZ)
    inside = at[at + length < len(x)]
    if len(inside) < 8:
        return x
    whole = x[inside[:, None] + np.arange(length)]
    gaps = np.append(np.diff(inside), length)
    known = np.arange(length)[None, :] < gaps[:, None]
    tail = (whole * known).sum(axis=0) / np.maximum(known.sum(axis=0), 1)
    unit = float(template @ template)
    out = x.copy()
    for place, gap in zip(inside, gaps):
        n = min(length, int(gap))
        amplitude = float(x[place : place + len(template)] @ template) / max(unit, 1e-12)
        out[place : place + n] -= np.clip(amplitude, 0, 1.3) * tail[:n]
    return out


def _best_lags(x: np.ndarray, start: np.ndarray, template: np.ndarray, slack: int) -> tuple[np.ndarray, np.ndarray]:
    """Lag within +-slack at which each piece resembles the template most, and that correlation."""
    unit = template / max(float(np.linalg.norm(template)), 1e-12)
    best = np.full(len(start), -1.0)
    lags = np.zeros(len(start), int)
    offsets = np.arange(len(template))
    for lag in range(-slack, slack + 1):
        pieces = x[(start + lag)[:, None] + offsets]
        score = pieces @ unit / np.maximum(np.linalg.norm(pieces, axis=1), 1e-9)
        better = score > best
        best[better], lags[better] = score[better], lag
    return lags, best


def _sharpened(curve: np.ndarray) -> np.ndarray:
    """Onsets over the local average (0.4 s): a noisy bed raises both."""
    width = 69
    return np.asarray(np.maximum(curve - np.convolve(curve, np.ones(width) / width, "same"), 0))


def _strength(steps: np.ndarray) -> np.ndarray:
    """1 at what the strong hits reach in the bars that have them."""
    return np.asarray(steps / max(float(np.percentile(steps.max(axis=1), 75)), 1e-9))


def _contrast(steps: np.ndarray) -> np.ndarray:
    """Steps that tower over their bar's median: a backbeat, not a roll of hats."""
    middle = np.median(steps, axis=1, keepdims=True)
    return np.asarray(np.where(steps > 1.35 * middle, steps, 0.5 * steps))


def measure_swing(shared: Shared, bars: BarTable) -> float:
    """Place of the off-16th inside its 8th in percent, 50 straight."""
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
    strong = smooth[k] > background + 0.15 * (float(smooth.max()) - background)
    if not strong or k in (window[0], window[-1]):
        return 50.0
    near = np.arange(k - 8, k + 9)
    weight = np.maximum(smooth[near % bins] - background, 0)
    off = float((near * weight).sum() / max(float(weight.sum()), 1e-12))
    percent = 100 * (off - on) / bins
    # Under a point the fold can't tell swing from the shape of the hits.
    return round(percent, 1) if 51.0 <= percent <= MAX_SWING_PERCENT else 50.0


def describe_drums(shared: Shared, bars: BarTable, hits: Hits, spans: list[tuple[int, int]]) -> Drums:
    """Kick portrait and one 16-step picture per section; `spans` are (first bar index, bars)."""
    kick_curve = _sharpened(shared.onsets(20, 110))
    clap_curve = _sharpened(shared.onsets(1000, 4700))
    hats_curve = _sharpened(shared.onsets(6000, 18_000))
    patterns = []
    for i, (first, length) in enumerate(spans):
        cut = slice(first, first + length)
        rows = {}
        timing = {}
        for name, steps, curve in (
            ("kick", hits.kick, kick_curve), ("clap", hits.clap, clap_curve), ("hats", hits.hats, hats_curve)
        ):  # fmt: skip
            typical = np.median(steps[cut], axis=0) if length > 2 else steps[cut].mean(axis=0)
            rows[name] = tuple(round(float(v), 2) if v >= HIT / 1.5 else 0.0 for v in typical)
            timing[name] = _timing(shared, bars, curve, first, length, rows[name])
        patterns.append(
            DrumPattern(i, STEPS, rows["kick"], rows["clap"], rows["hats"],
                        StepTiming(timing["kick"], timing["clap"], timing["hats"]))
        )  # fmt: skip
    return Drums(_kick_portrait(shared, bars, hits), _on_the_kick(patterns))


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
        times = starts + step * bars.grid.bar_s / STEPS
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


def _kick_portrait(shared: Shared, bars: BarTable, hits: Hits) -> KickPortrait | None:
    """Fundamental, decay to -20 dB and click level from the aligned median of well separated hits."""
    rate = shared.rate_hz
    strong = np.argwhere(hits.kick > 0.7)
    if len(strong) < 4:
        return None
    length = int(0.3 * rate)
    pieces = []
    for bar, step in strong[:: max(1, len(strong) // 96)]:
        start = round((bars.edges_s[bar] + step * bars.grid.bar_s / STEPS) * rate)
        if start >= 0 and start + length < len(shared.mid):
            pieces.append(shared.mid[start : start + length])
    if len(pieces) < 4:
        return None
    stack = np.stack(pieces)
    mean = stack.mean(axis=0)
    spectrum = np.abs(np.fft.rfft(mean[int(0.05 * rate) : int(0.25 * rate)] * np.hanning(int(0.25 * rate) - int(0.05 * rate)),
                                  1 << 17))  # fmt: skip
    hz = np.arange(len(spectrum)) * rate / (1 << 17)
    inside = (hz >= 30) & (hz <= 110)
    fundamental = float(hz[inside][np.argmax(spectrum[inside])])
    envelope = np.sqrt(np.convolve(np.square(mean), np.ones(rate // 100) / (rate // 100), "same"))
    top = int(np.argmax(envelope))
    below = np.flatnonzero(envelope[top:] < 0.1 * envelope[top])
    decay_ms = float((below[0] if len(below) else length - top) / rate * 1000)
    power = np.square(np.abs(np.fft.rfft(stack[:, : int(0.012 * rate)].astype(np.float64), axis=1))).mean(axis=0)
    bins = np.arange(len(power)) * rate / int(0.012 * rate)
    click = float(power[(bins >= 2000) & (bins <= 8000)].sum() / max(float(power.sum()), 1e-12))
    return KickPortrait(round(fundamental, 2), note_name(round(hz_midi(fundamental))), round(decay_ms, 1),
                        round(float(10 * np.log10(max(click, 1e-6))), 1))  # fmt: skip

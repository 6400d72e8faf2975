"""Which tempo, and where are the beats and the bar lines?

Conventions: seconds from the start of the file; `first_downbeat_s` is bar 1 beat 1, the first bar line at or after
the start. Method: (1) one Fourier transform of the whole onset curve, so that the tempo's resolution is that of the whole track
(Grosche & Müller 2011 use the same transform in windows); (2) beat hypotheses scored by the sum over the beat, 8th and
16th rate and a prior over what dance floors use; (3) phase by folding the onset curve of the low, middle and high bands onto the
beat, sharpened to the attack in the waveform; (4) the bar line from harmonic change, kick against backbeat and large
changes, which fall on bar lines (Vande Veire & De Bie 2018; Zehren, Alunno & Bientinesi 2020).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import fft

from ersatz.core.survey.document import TempoEvidence, TempoGuess
from ersatz.core.survey.shared import TONAL_HOP, TONAL_HZ, Shared, frame_means

MIN_BPM, MAX_BPM = 70.0, 190.0
#: Log-normal prior over tempo in octaves: centre and spread of the styles that the trade makes.
PRIOR_BPM, PRIOR_OCTAVES = 127.0, 0.42
#: Outside these the octave is looked at twice; a place with less than EMPTY of the other's onsets has no drum.
SLOW_BPM, FAST_BPM, EMPTY = 86.0, 158.0, 0.4
#: A grid line this little before the file's start counts as its start.
EARLY_S = 0.03
BEATS_PER_BAR = 4
#: Candidates for the bar line: the 8ths of a bar.
PLACES = 8
#: The folded onset curve peaks this long before the attack: half the analysis window, less what the log takes away.
#: Calibrated on clicks and noise bursts at known samples (tests/core/test_tempo.py).
ONSET_LEAD_S = 0.0035
#: A fit this close to a whole or half BPM, times the track's seconds, is taken to be it: a fiftieth of a bin.
ROUND_WITHIN = 0.4
#: Rise of the folded waveform within 3 ms, in nepers, that counts as a clean attack.
ATTACK_JUMP = 0.9


@dataclass(frozen=True)
class Beat:
    """Tempo and beat phase, before the bar line is known."""

    bpm: float
    confidence: float
    alternatives: tuple[TempoGuess, ...]
    phase_s: float
    lead: float
    drift_percent: float
    evidence: TempoEvidence


def measure_beat(shared: Shared, bpm: float | None = None) -> Beat:
    """Tempo and phase. With `bpm` given (the producer's correction) only the phase and the confidence are measured."""
    onset = _onset_curve(shared)
    rate = 1 / shared.hop_s
    size = fft.next_fast_len(8 * len(onset), real=True)
    spectrum = fft.rfft(onset, size)
    magnitude = np.abs(spectrum)
    bin_hz = rate / size

    def at(hz: np.ndarray | float) -> np.ndarray:
        index = np.clip(np.round(np.asarray(hz) / bin_hz).astype(int), 1, len(magnitude) - 2)
        return np.asarray(np.maximum(np.maximum(magnitude[index - 1], magnitude[index]), magnitude[index + 1]))

    tempi = np.arange(MIN_BPM, MAX_BPM, 0.02)
    rates = tempi / 60
    raw = _smear(at(rates)) + 0.8 * _smear(at(2 * rates)) + 0.7 * _smear(at(4 * rates)) + 0.35 * _smear(at(rates / 2))
    score = raw * np.exp(-0.5 * (np.log2(tempi / PRIOR_BPM) / PRIOR_OCTAVES) ** 2)
    score /= max(float(score.max()), 1e-12)
    guesses = _peaks(tempi, score)
    chosen = _octave(shared, guesses[0].bpm) if bpm is None else bpm
    fine = _refine(magnitude, bin_hz, chosen) if bpm is None else bpm
    coherence, drift = _coherence(onset, rate, fine)
    contrast = float(raw[np.argmin(np.abs(tempi - chosen))] / max(float(np.median(raw)), 1e-12))
    rival = next((g.confidence for g in guesses[1:]), 0.0)
    certain = coherence * np.clip((contrast - 2.0) / 4.0, 0, 1) * np.clip(1.25 - 0.5 * rival, 0, 1)
    phase, lead = _phase(shared, fine)
    evidence = TempoEvidence(
        tuple(float(round(b, 1)) for b in np.arange(MIN_BPM, MAX_BPM, 1.0)),
        tuple(round(float(score[(tempi >= b - 0.5) & (tempi < b + 0.5)].max()), 3)
              for b in np.arange(MIN_BPM, MAX_BPM, 1.0)),
    )  # fmt: skip
    alternatives = _alternatives(magnitude, bin_hz, fine, guesses, float(certain))
    return Beat(fine, float(np.clip(certain, 0, 0.99)), alternatives, phase, lead, drift, evidence)


def _onset_curve(shared: Shared) -> np.ndarray:
    """All bands, each equally loud in the sum, slow level changes taken out."""
    flux = shared.flux / np.maximum(shared.flux.mean(axis=1, keepdims=True), 1e-9)
    curve = flux.sum(axis=0).astype(np.float64)
    curve[:3] = curve[-3:] = 0
    wide = int(4 / shared.hop_s)
    local = np.convolve(curve, np.ones(wide) / wide, "same")
    out = curve / np.maximum(local, 0.2 * curve.mean() + 1e-12)
    return np.asarray(np.minimum(out, np.percentile(out, 99.7))) - 1.0


def _smear(x: np.ndarray) -> np.ndarray:
    """Maximum over +-0.06 BPM, so that peaks at a tempo and its multiples meet on the search grid."""
    return np.asarray(np.max([np.roll(x, k) for k in range(-3, 4)], axis=0))


def _peaks(tempi: np.ndarray, score: np.ndarray) -> list[TempoGuess]:
    """Best hypotheses, at least 3 % apart."""
    order = np.argsort(score)[::-1]
    found: list[TempoGuess] = []
    for i in order[:4000]:
        if all(abs(tempi[i] / g.bpm - 1) > 0.03 for g in found):
            found.append(TempoGuess(float(tempi[i]), float(score[i])))
            if len(found) == 5:
                break
    return found


def _octave(shared: Shared, bpm: float) -> float:
    """The octave that a DJ would count, where the onsets leave it open: kick or backbeat stands on every beat.

    Above FAST_BPM, a beat of which every second place is empty is counted at half; below SLOW_BPM, a beat with as much
    halfway as on it is counted at double time.
    """
    if SLOW_BPM <= bpm <= FAST_BPM:
        return bpm
    period = 60 / bpm * (2 if bpm > FAST_BPM else 1)
    bins = 64
    curve = _unit(_fold(shared.onsets(20, 155), shared.hop_s, period, bins))
    curve = curve + _unit(_fold(shared.onsets(600, 3600), shared.hop_s, period, bins))
    wide = np.max([np.roll(curve, k) for k in range(-3, 4)], axis=0)
    place = int(np.argmax(wide + np.roll(wide, bins // 2)))
    pair = sorted((float(wide[place]), float(wide[(place + bins // 2) % bins])))
    filled = pair[0] / max(pair[1], 1e-9)
    if bpm > FAST_BPM:
        return bpm / 2 if filled < EMPTY and bpm / 2 >= MIN_BPM else bpm
    return bpm * 2 if filled > 1 - EMPTY / 2 else bpm


def _alternatives(
    magnitude: np.ndarray, bin_hz: float, bpm: float, guesses: list[TempoGuess], certain: float
) -> tuple[TempoGuess, ...]:
    """The other hypotheses, best first; half and double time always among them."""
    others = {round(_refine(magnitude, bin_hz, g.bpm), 3): 0.6 * g.confidence * (1 - certain) for g in guesses[:4]}
    for octave in (bpm / 2, bpm * 2):
        others.setdefault(round(octave, 3), 0.3 * (1 - certain) if MIN_BPM <= octave <= MAX_BPM else 0.02)
    ranked = sorted(others.items(), key=lambda item: -item[1])
    return tuple(TempoGuess(b, round(c, 3)) for b, c in ranked if abs(b / bpm - 1) > 0.01)[:4]


def _refine(magnitude: np.ndarray, bin_hz: float, bpm: float) -> float:
    """Tempo from the interpolated peaks at the beat rate and its multiples, the higher ones being the finer rulers."""
    estimates, weights = [], []
    for harmonic in (1, 2, 3, 4, 8):
        centre = harmonic * bpm / 60 / bin_hz
        reach = max(2, int(centre * 0.0012))
        low, high = int(centre) - reach, int(centre) + reach + 2
        if low < 1 or high >= len(magnitude) - 1:
            continue
        k = low + int(np.argmax(magnitude[low:high]))
        if k in (low, high - 1):
            continue
        a, b, c = magnitude[k - 1], magnitude[k], magnitude[k + 1]
        exact = k + 0.5 * (a - c) / min(a - 2 * b + c, -1e-12)
        estimates.append(exact * bin_hz * 60 / harmonic)
        weights.append((b * harmonic) ** 2)
    if not estimates:
        return bpm
    values, weight = np.array(estimates), np.array(weights)
    middle = values[np.argmax(weight)]
    near = np.abs(values - middle) < 0.03
    fine = float(np.average(values[near], weights=weight[near]))
    # Producers set round tempi: within what the track's length can resolve, the round one is the better estimate.
    track_s = 1 / (8 * bin_hz)
    nearest = round(fine * 2) / 2
    if abs(fine - nearest) < ROUND_WITHIN / track_s:
        return nearest
    return fine


def _coherence(onset: np.ndarray, rate: float, bpm: float) -> tuple[float, float]:
    """How steadily the beat keeps its phase over the track (0..1), and the drift of its tempo in percent."""
    t = np.arange(len(onset)) / rate
    best, drift = 0.0, 0.0
    for harmonic in (1, 2, 4):
        wave = onset * np.exp(-2j * np.pi * harmonic * bpm / 60 * t)
        length = max(1, int(8 * 60 / bpm * rate))
        parts = np.add.reduceat(wave, np.arange(0, len(wave), length))
        strength = np.abs(parts)
        if strength.sum() == 0:
            continue
        coherence = float(np.abs(parts.sum()) / strength.sum())
        if coherence > best:
            best = coherence
            loud = strength > 0.3 * strength.max()
            beats = np.unwrap(np.angle(parts[loud])) / (2 * np.pi * harmonic)
            seconds = np.arange(len(parts))[loud] * length / rate
            if len(beats) > 3:
                slope = np.polyfit(seconds, beats, 1)[0]
                drift = abs(float(slope)) / (bpm / 60) * 100
    return best, round(drift, 4)


def _phase(shared: Shared, bpm: float) -> tuple[float, float]:
    """Time of a beat, 0 <= t < one beat, and how much likelier it is than the place half a beat off (-1..1).

    Folded onsets of the low, middle and high bands pick the place; its time is sharpened by `_fine_phase`.
    """
    period = 60 / bpm
    bins = 96
    low = _unit(_fold(shared.onsets(20, 155), shared.hop_s, period, bins))
    middle = _unit(_fold(shared.onsets(360, 3600), shared.hop_s, period, bins))
    high = _unit(_fold(shared.onsets(4700, 18_000), shared.hop_s, period, bins))
    curve = 1.6 * low + 1.0 * middle + 0.25 * high
    # The 16th grid must stand on the onsets as a whole; among its places the beat is where low and middle are strong.
    comb = np.asarray(sum(np.roll(low + middle + high, -k * bins // 4) for k in range(4)))
    smooth = np.convolve(np.tile(curve, 3), np.hanning(9) / 4, "same")[bins : 2 * bins]
    score = smooth + 0.25 * comb / 4
    best = int(np.argmax(score))
    other = float(score[(best + bins // 2 + np.arange(-3, 4)) % bins].max())
    lead = (float(score[best]) - other) / max(float(score[best]), 1e-9)
    return _fine_phase(shared, period, best / bins * period), lead


def _fine_phase(shared: Shared, period: float, coarse_s: float) -> float:
    """Start of the attack near `coarse_s`: peak of the folded onset curve, then of the waveform where it jumps."""
    bins = max(96, round(period * 1000))
    curve = sum(
        weight * _unit(_fold(shared.onsets(low, high), shared.hop_s, period, bins))
        for weight, low, high in ((0.4, 20, 155), (1.0, 360, 3600), (1.0, 4700, 18_000))
    )
    width = max(3, round(0.008 / period * bins)) | 1
    smooth = np.convolve(np.tile(np.asarray(curve), 3), np.hanning(width + 2)[1:-1], "same")[bins : 2 * bins]
    offset = (np.arange(bins) / bins * period - coarse_s + period / 2) % period - period / 2
    near = np.abs(offset) < 0.025
    fine = coarse_s + float(offset[near][np.argmax(smooth[near])]) + ONSET_LEAD_S
    return _attack(shared, period, fine)


def _fold(values: np.ndarray, hop_s: float, period: float, bins: int) -> np.ndarray:
    """Mean of a curve over one period."""
    place = (np.arange(len(values)) * hop_s % period) / period * bins
    base = np.floor(place).astype(int)
    part = place - base
    total = np.bincount(base % bins, values * (1 - part), bins) + np.bincount((base + 1) % bins, values * part, bins)
    count = np.bincount(base % bins, 1 - part, bins) + np.bincount((base + 1) % bins, part, bins)
    return np.asarray(total / np.maximum(count, 1e-9))


def _unit(x: np.ndarray) -> np.ndarray:
    x = x - x.min()
    return np.asarray(x / max(float(x.max()), 1e-12))


def _attack(shared: Shared, period: float, near_s: float) -> float:
    """Start of the average attack within 10 ms of `near_s`, where the folded waveform jumps; else `near_s`."""
    step = max(1, round(shared.rate_hz * 0.0005))
    usable = len(shared.mid) // step * step
    power = np.square(shared.mid[:usable]).reshape(-1, step).mean(axis=1)
    hop = step / shared.rate_hz
    reach = round(0.016 / hop)
    beats = int((shared.duration_s - near_s) / period)
    starts = np.round((near_s + np.arange(beats) * period) / hop).astype(int) - reach
    starts = starts[(starts >= 0) & (starts + 2 * reach < len(power))]
    if len(starts) < 8:
        return near_s % period
    cuts = power[starts[:, None] + np.arange(2 * reach)]
    top = cuts.max(axis=1)
    if not top.any():
        # Left and right cancel: the mid has no waveform to sharpen on.
        return near_s % period
    cuts = cuts[top > 0.1 * np.percentile(top, 90)]
    level = np.median(np.log(np.maximum(cuts, 1e-12)), axis=0) / 2
    level = np.convolve(np.pad(level, 1, mode="edge"), np.ones(3) / 3, "valid")
    ahead = round(0.003 / hop)
    jump = level[ahead:] - level[:-ahead]
    if float(jump.max()) < ATTACK_JUMP:
        return near_s % period
    top_at = int(np.argmax(jump))
    # Back to where the jump has climbed a tenth of the way.
    floor, peak = float(level[top_at]), float(level[top_at + ahead])
    start = top_at + ahead
    while start > 0 and level[start] > floor + 0.1 * (peak - floor):
        start -= 1
    moved = (start - reach + 1) * hop
    return (near_s + moved) % period if abs(moved) < 0.01 else near_s % period


def measure_downbeat(shared: Shared, beat: Beat) -> tuple[float, float]:
    """Time of bar 1 beat 1 and how sure it is (0..1).

    Eight places of the bar compete, the beats and the 8ths between them: a bass on the off-beat can fool the phase,
    but chords and sections change on bar lines.
    """
    period = 60 / beat.bpm / 2
    first = beat.phase_s % period
    if first > period - EARLY_S:
        first = max(0.0, first - period)
    count = int((shared.duration_s - first) / period)
    if count < 16:
        return first, 0.0
    on_beat = round((beat.phase_s - first) / period) % 2
    edges = first + np.arange(count + 1) * period
    level = np.log(frame_means(shared.mid_power + shared.side_power, edges, shared.hop_s) + 1e-9)
    tonal = frame_means(shared.semitones, edges, TONAL_HOP / TONAL_HZ)
    scores = (
        1.0 * _by_place(_chroma_change(tonal))
        + 0.7 * _by_place(_chroma_change(tonal[:28]))
        + 1.6 * _by_place(_large_change(level))
        + 0.9 * _backbeat(shared, edges)
        + 0.5 * _by_place(_accent(shared, edges))
    )
    scores[on_beat::2] += 1.2 * min(1.0, 2 * beat.lead)
    # Tracks usually start on a bar line; a gentle hint only, excerpts don't.
    sounding = level.max(axis=0) > level.max() - np.log(1e5)
    start = int(np.argmax(sounding))
    if start < PLACES:
        scores[start % PLACES] += 0.25
    order = np.argsort(scores)[::-1]
    margin = float(scores[order[0]] - scores[order[1]])
    return float(first + int(order[0]) * period), float(np.clip(margin / 1.5, 0.05, 0.98))


def _by_place(change: np.ndarray) -> np.ndarray:
    """Mean of a curve per 8th at each of the eight places in the bar, standardised."""
    change = np.minimum(change, np.percentile(change, 99.5))
    mean = np.array([change[k::PLACES].mean() for k in range(PLACES)])
    spread = float(change.std()) / np.sqrt(max(1, len(change) / PLACES)) + 1e-9
    return np.asarray(np.tanh((mean - mean.mean()) / spread / 6))


def _chroma_change(tonal: np.ndarray) -> np.ndarray:
    unit = tonal / np.maximum(np.linalg.norm(tonal, axis=0, keepdims=True), 1e-9)
    change = np.zeros(unit.shape[1])
    # Two beats against the two before: an arpeggio inside one chord changes less than a chord.
    span = 4
    if unit.shape[1] <= 2 * span:
        return change
    total = np.concatenate([np.zeros((unit.shape[0], 1)), np.cumsum(unit, axis=1)], axis=1)
    mean = total[:, span:] - total[:, :-span]
    mean /= np.maximum(np.linalg.norm(mean, axis=0, keepdims=True), 1e-9)
    change[span : span + mean.shape[1] - span] = 1 - (mean[:, span:] * mean[:, :-span]).sum(axis=0)
    return change


def _large_change(level: np.ndarray) -> np.ndarray:
    """Difference of the mean band levels after and before each 8th, squared: large ones decide."""
    n = level.shape[1]
    out = np.zeros(n)
    total = np.concatenate([np.zeros((level.shape[0], 1)), np.cumsum(level, axis=1)], axis=1)
    for span in (8, 16, 32):
        if n <= 2 * span:
            continue
        k = np.arange(span, n - span)
        after = (total[:, k + span] - total[:, k]) / span
        before = (total[:, k] - total[:, k - span]) / span
        out[k] += np.square(after - before).mean(axis=0)
    # Only local peaks count: the flank of a large change belongs to its peak.
    peak = np.zeros(n)
    inner = (out[1:-1] >= out[:-2]) & (out[1:-1] > out[2:])
    peak[1:-1][inner] = out[1:-1][inner]
    return peak


def _accent(shared: Shared, edges: np.ndarray) -> np.ndarray:
    """High-band onsets on the beat: cymbals and impacts mark bar lines."""
    high = shared.onsets(4700, 18_000) + shared.onsets(20, 110)
    index = np.clip(np.round(edges[:-1] / shared.hop_s).astype(int), 2, shared.frames - 4)
    return np.asarray(np.max([high[index + d] for d in range(-2, 4)], axis=0))


def _backbeat(shared: Shared, edges: np.ndarray) -> np.ndarray:
    """A place gains where claps or snares stand one and three beats after it: middle onsets against low ones."""
    index = np.clip(np.round(edges[:-1] / shared.hop_s).astype(int), 2, shared.frames - 4)

    def on_beat(low_hz: float, high_hz: float) -> np.ndarray:
        curve = shared.onsets(low_hz, high_hz)
        peak = np.max([curve[index + d] for d in range(-2, 4)], axis=0)
        return np.asarray(peak / max(float(np.percentile(peak, 90)), 1e-9))

    snare = on_beat(1000, 4700)
    kick = on_beat(20, 110)
    value = np.minimum(snare, 1.5) - 0.5 * np.minimum(kick, 1.5)
    mean = np.array([value[k::PLACES].mean() for k in range(PLACES)])
    odd = (np.roll(mean, -2) + np.roll(mean, -6) - mean - np.roll(mean, -4)) / 2
    return np.asarray(np.tanh(odd * 4)) / 2

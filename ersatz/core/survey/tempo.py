"""Which tempo, and when exactly does bar 1 begin?

Conventions: seconds from the start of the file; `first_downbeat_s` is bar 1 beat 1, the first bar line at or after
the start. Method: (1) one Fourier transform of the whole onset curve, so that the tempo's resolution is that of the whole track
(Grosche & Müller 2011 use the same transform in windows); (2) beat hypotheses scored by the sum over the beat, 8th and
16th rate and a prior over what dance floors use; (3) their octaves, the metre and the bar line by the rhythm, the sections and
the chords (barline.py); (4) the bar line's time by folding the onset curves onto the beat, sharpened to the attack in the
waveform.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import fft

from ersatz.core.survey import barline
from ersatz.core.survey.document import TempoChange, TempoEvidence, TempoGuess
from ersatz.core.survey.shared import Shared
from ersatz.core.survey.slots import Curves, Slots, cut_slots, drum_curves
from ersatz.core.survey.steadiness import LEAST_LEAD, find_jumps, measure_steadiness, without_jumps

MIN_BPM, MAX_BPM = 70.0, 190.0
#: A grid line this little before the file's start counts as its start.
EARLY_S = 0.03
#: The folded onset curve peaks this long before the attack: half the analysis window, less what the log takes away.
#: Calibrated on clicks and noise bursts at known samples (tests/core/test_tempo.py).
ONSET_LEAD_S = 0.0035
#: A fit this close to a whole or half BPM, times the track's seconds, is taken to be it: a fiftieth of a bin.
ROUND_WITHIN = 0.4
START_HINT = 0.15
#: Rise of the folded waveform within 3 ms, in nepers, that counts as a clean attack.
ATTACK_JUMP = 0.9


@dataclass(frozen=True)
class Beat:
    """Tempo, bar line and metre; `certain` is how sure the bar line is."""

    bpm: float
    confidence: float
    alternatives: tuple[TempoGuess, ...]
    first_downbeat_s: float
    beats_per_bar: int
    certain: float
    drift_percent: float
    changes: tuple[TempoChange, ...]
    evidence: TempoEvidence


def measure_beat(shared: Shared, bpm: float | None = None, beats_per_bar: int | None = None) -> Beat:
    """Tempo and bar line. With `bpm` given (the producer's correction) only the bar line and the confidence are measured; with
    `beats_per_bar` the metre is taken as given too."""
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
    score = raw * barline.tempo_prior(tempi)
    score /= max(float(score.max()), 1e-12)
    guesses = _peaks(tempi, score)
    curves = drum_curves(shared)
    if bpm is None:
        chosen, slots = _octave(shared, curves, _refine(magnitude, bin_hz, guesses[0].bpm))
        # The octave may have come from a coarser peak: read it again where it lies.
        fine = _refine(magnitude, bin_hz, chosen)
    else:
        fine = chosen = bpm
        slots = cut_slots(shared, curves, fine, _anchor(shared, fine))
    coherence = _coherence(onset, rate, fine)
    contrast = float(raw[np.argmin(np.abs(tempi - chosen))] / max(float(np.median(raw)), 1e-12))
    rival = next((g.confidence for g in guesses[1:]), 0.0)
    certain = coherence * np.clip((contrast - 2.0) / 4.0, 0, 1) * np.clip(1.25 - 0.5 * rival, 0, 1)
    metre = beats_per_bar or barline.beats_per_bar(slots)[0]
    place, margin = _bar_place(slots, metre)
    jumps = find_jumps(slots, place)
    if jumps:
        # Held against one line, bars before and after a jump speak for different places.
        place, margin = _bar_place(without_jumps(slots, jumps), metre)
        jumps = jumps if margin >= LEAST_LEAD else ()
    coarse = float(slots.edges_s[place])
    beat_s = 60 / fine
    first = coarse + (_fine_phase(shared, beat_s, coarse) - coarse + beat_s / 2) % beat_s - beat_s / 2
    steadiness = measure_steadiness(onset, rate, fine, slots, jumps)
    if steadiness.drifts:
        # No one grid fits: the tempo is said to be uncertain.
        certain *= 0.4
    evidence = TempoEvidence(
        tuple(float(round(b, 1)) for b in np.arange(MIN_BPM, MAX_BPM, 1.0)),
        tuple(round(float(score[(tempi >= b - 0.5) & (tempi < b + 0.5)].max()), 3)
              for b in np.arange(MIN_BPM, MAX_BPM, 1.0)),
    )  # fmt: skip
    alternatives = _alternatives(magnitude, bin_hz, fine, guesses, float(certain))
    return Beat(
        bpm=fine,
        confidence=float(np.clip(certain, 0, 0.99)),
        alternatives=alternatives,
        first_downbeat_s=_first_line(first, beat_s * metre),
        beats_per_bar=metre,
        certain=float(np.clip(margin / 0.5, 0.05, 0.98)),
        drift_percent=steadiness.drift_percent,
        changes=steadiness.changes,
        evidence=evidence,
    )


def _bar_place(slots: Slots, metre: int) -> tuple[int, float]:
    """Slot of the first bar line and its lead over the next best place."""
    period = 4 * metre
    if slots.count < 3 * period:
        return 0, 0.0
    scores = barline.place_scores(slots, period)
    # Tracks usually start on a bar line; a gentle hint only, excerpts don't.
    sounding = slots.level.max(axis=0) > slots.level.max() - np.log(1e5)
    start = int(np.argmax(sounding))
    if start < period:
        scores[start] += START_HINT
    order = np.argsort(scores)[::-1]
    return int(order[0]), float(scores[order[0]] - scores[order[1]])


def _first_line(line_s: float, bar_s: float) -> float:
    """The first bar line at or after the file's start."""
    first = line_s % bar_s
    return max(0.0, first - bar_s) if first > bar_s - EARLY_S else first


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


def _octave(shared: Shared, curves: Curves, bpm: float) -> tuple[float, Slots]:
    """The octave that a DJ would count, and the track cut into its 16ths."""
    best: tuple[float, float, Slots] | None = None
    for tempo in (bpm, bpm / 2, bpm * 2):
        if tempo != bpm and not MIN_BPM <= tempo <= MAX_BPM:
            continue
        slots = cut_slots(shared, curves, tempo, _anchor(shared, tempo))
        score = barline.octave_score(slots, tempo)
        if best is None or score > best[0]:
            best = (score, tempo, slots)
    assert best is not None
    return best[1], best[2]


def _anchor(shared: Shared, bpm: float) -> float:
    """Where the 8ths lie, seconds: on them hits are strongest even when the 16ths between are swung."""
    period = 30 / bpm
    bins = 96
    curve = sum(
        _unit(_fold(shared.onsets(low, high), shared.hop_s, period, bins)) for low, high in ((20, 155), (360, 3600), (4700, 18_000))
    )
    smooth = np.convolve(np.tile(np.asarray(curve), 3), np.hanning(9) / 4, "same")[bins : 2 * bins]
    return float(np.argmax(smooth)) / bins * period + ONSET_LEAD_S


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


def _coherence(onset: np.ndarray, rate: float, bpm: float) -> float:
    """How steadily the beat keeps its phase over the track (0..1)."""
    t = np.arange(len(onset)) / rate
    best = 0.0
    for harmonic in (1, 2, 4):
        wave = onset * np.exp(-2j * np.pi * harmonic * bpm / 60 * t)
        length = max(1, int(8 * 60 / bpm * rate))
        parts = np.add.reduceat(wave, np.arange(0, len(wave), length))
        strength = float(np.abs(parts).sum())
        if strength > 0:
            best = max(best, float(np.abs(parts.sum())) / strength)
    return best


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
    hop = step / shared.rate_hz
    reach = round(0.016 / hop)
    beats = int((shared.duration_s - near_s) / period)
    starts = np.round((near_s + np.arange(beats) * period) / hop).astype(int) - reach
    starts = starts[(starts >= 0) & (starts + 2 * reach < len(shared.mid) // step)]
    if len(starts) < 8:
        return near_s % period
    cuts = np.square(shared.mid[starts[:, None] * step + np.arange(2 * reach * step)])
    cuts = cuts.reshape(len(starts), 2 * reach, step).mean(axis=2)
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

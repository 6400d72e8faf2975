"""The kick by itself: fundamental, pitch fall, decay, click and drive, and its sound.

Conventions: a portrait lasts LENGTH_S from the attack on. Method: the hits with least beside them (hits.barest) are aligned
and their median taken: what all share is the kick. Fundamental: the strongest partial of its tail. Pitch: from the times
between zero crossings of the low-passed median. Click: power from 2 to 8 kHz in the first 12 ms. Drive: the partials of the
tail against its fundamental.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import scipy

from ersatz.core.audio import Audio
from ersatz.core.pitch import hz_midi, note_name
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import KickPortrait
from ersatz.core.survey.hits import Hits, barest
from ersatz.core.survey.shared import Shared

LENGTH_S = 0.4
#: Hits are looked at from this strength on, at most so many of them.
STRONG, MOST_HITS = 0.7, 192
#: Points of the drawn envelope, and the level it is drawn down to.
ENVELOPE_POINTS, FLOOR_DB = 80, -60.0
PITCH_LOWPASS_HZ = 500.0
#: While the click lasts crossings are its own; from then on a kick's pitch falls, and a rise by this is another sound.
CLICK_S, RISEN = 0.015, 1.25
#: Where the fundamental is read from.
TAIL_S = (0.05, 0.25)
#: How often it was right on bench/testset, by how much the hits' tails are one sound (correlation).
ALIKE, SURE = (0.3, 0.9, 0.99), (0.5, 0.85, 0.97)


def measure_kick(shared: Shared, bars: BarTable, hits: Hits) -> KickPortrait | None:
    """None where there are too few hits to know."""
    pieces = _pieces(shared.mid, shared.rate_hz, _hit_times(bars, hits.kick))
    return None if pieces is None else portrait_of(pieces, shared.rate_hz)


def portrait_of(pieces: np.ndarray, rate: int) -> KickPortrait:
    """The portrait of aligned hits of LENGTH_S each, shape (hits, samples)."""
    mean = np.median(pieces, axis=0)
    fundamental = _fundamental(mean, rate)
    envelope_db = _envelope_db(mean, rate)
    pitch_hz = _pitch(mean, rate)
    decayed = np.flatnonzero(envelope_db[int(np.argmax(envelope_db)) :] < -20)
    step_ms = LENGTH_S * 1000 / ENVELOPE_POINTS
    settled = [t for t, hz in pitch_hz if hz <= 1.15 * fundamental]
    return KickPortrait(
        fundamental_hz=round(fundamental, 2),
        note=note_name(round(hz_midi(fundamental))),
        decay_ms=round(float((decayed[0] if len(decayed) else ENVELOPE_POINTS) * step_ms), 1),
        click_db=round(_click_db(pieces, rate), 1),
        start_hz=round(max((hz for _, hz in pitch_hz), default=fundamental), 1),
        fall_ms=round(settled[0] * 1000, 1) if settled else 0.0,
        drive_db=round(_drive_db(mean, rate, fundamental), 1),
        envelope_db=tuple(round(float(v), 1) for v in envelope_db),
        pitch=tuple((round(t * 1000, 1), round(hz, 1)) for t, hz in pitch_hz),
        confidence=round(float(np.interp(_alike(pieces, mean, rate), ALIKE, SURE)), 2),
    )


def kick_sound(audio: Audio, hit_times_s: np.ndarray) -> Audio | None:
    """The median of the track's barest kick hits in stereo, faded at its end; None where there are too few."""
    sides = [_pieces(channel, audio.rate_hz, hit_times_s) for channel in audio.stereo()]
    if any(side is None for side in sides):
        return None
    fade = np.minimum(1, np.arange(int(LENGTH_S * audio.rate_hz))[::-1] / (0.03 * audio.rate_hz))
    return Audio(np.array([np.median(side, axis=0) * fade for side in sides if side is not None], np.float32), audio.rate_hz)


def _hit_times(bars: BarTable, kick: np.ndarray) -> np.ndarray:
    bar, step = np.nonzero(kick > STRONG)
    return np.asarray(bars.edges_s[bar] + step * bars.grid.bar_s / bars.steps)


def _pieces(mono: np.ndarray, rate: int, times_s: np.ndarray) -> np.ndarray | None:
    """The barest hits, aligned to the first of them within 2 ms, shape (hits, samples)."""
    length, slack = int(LENGTH_S * rate), int(0.002 * rate)
    starts = np.round(times_s * rate).astype(int)
    starts = starts[(starts >= slack) & (starts + length + slack < len(mono))]
    starts = starts[:: max(1, len(starts) // MOST_HITS)]
    if len(starts) < 4:
        return None
    pieces = mono[starts[:, None] + np.arange(length)]
    chosen = barest(pieces)
    lead = pieces[chosen[0]]
    head = int(0.08 * rate)
    out = []
    for i in chosen:
        wide = mono[starts[i] - slack : starts[i] + head + slack]
        lag = int(np.argmax(np.correlate(wide, lead[:head], "valid"))) - slack
        out.append(mono[starts[i] + lag : starts[i] + lag + length])
    return np.array(out)


def _alike(pieces: np.ndarray, mean: np.ndarray, rate: int) -> float:
    """Median correlation of the hits' tails with their median's, -1..1."""
    tail = slice(*(int(t * rate) for t in TAIL_S))
    hits, one = pieces[:, tail], mean[tail]
    return float(np.median(hits @ one / np.maximum(np.linalg.norm(hits, axis=1) * np.linalg.norm(one), 1e-12)))


def _fundamental(mean: np.ndarray, rate: int) -> float:
    tail = mean[int(TAIL_S[0] * rate) : int(TAIL_S[1] * rate)]
    spectrum = np.abs(np.fft.rfft(tail * np.hanning(len(tail)), 1 << 17))
    hz = np.arange(len(spectrum)) * rate / (1 << 17)
    inside = (hz >= 30) & (hz <= 110)
    return float(hz[inside][np.argmax(spectrum[inside])])


def _envelope_db(mean: np.ndarray, rate: int) -> np.ndarray:
    """Level of the analytic signal per 5 ms against its peak, dB."""
    envelope = np.abs(scipy.signal.hilbert(mean))
    usable = len(envelope) // ENVELOPE_POINTS * ENVELOPE_POINTS
    level = np.sqrt(np.square(envelope[:usable]).reshape(ENVELOPE_POINTS, -1).mean(axis=1))
    return np.asarray(np.maximum(20 * np.log10(level / max(float(level.max()), 1e-12) + 1e-9), FLOOR_DB))


def _pitch(mean: np.ndarray, rate: int) -> list[tuple[float, float]]:
    """(seconds, Hz) between successive zero crossings, as long as the kick stays above -30 dB and its pitch doesn't rise again:
    then it is something else that is heard."""
    low = scipy.signal.sosfiltfilt(scipy.signal.butter(2, PITCH_LOWPASS_HZ, fs=rate, output="sos"), mean)
    k = np.flatnonzero(np.signbit(low[1:]) != np.signbit(low[:-1]))
    exact = k + low[k] / (low[k] - low[k + 1])
    loud = np.abs(low).max() * 10 ** (-30 / 20)
    out: list[tuple[float, float]] = []
    for a, b in pairwise(exact):
        if np.abs(low[int(a) : int(b) + 1]).max() < loud:
            break
        hz = rate / (2 * (b - a))
        if a > CLICK_S * rate and hz > RISEN * min((h for _, h in out), default=hz):
            break
        if 25 <= hz <= PITCH_LOWPASS_HZ:
            out.append((float((a + b) / 2 / rate), float(hz)))
    return out


def _click_db(pieces: np.ndarray, rate: int) -> float:
    head = int(0.012 * rate)
    power = np.square(np.abs(np.fft.rfft(pieces[:, :head].astype(np.float64), axis=1))).mean(axis=0)
    hz = np.arange(len(power)) * rate / head
    share = float(power[(hz >= 2000) & (hz <= 8000)].sum() / max(float(power.sum()), 1e-12))
    return float(10 * np.log10(max(share, 1e-6)))


def _drive_db(mean: np.ndarray, rate: int, fundamental: float) -> float:
    """Power of partials two to eight of the tail against the first, dB: a clean sine's is far down."""
    tail = mean[int(0.04 * rate) : int(0.16 * rate)]
    power = np.square(np.abs(np.fft.rfft(tail * np.hanning(len(tail)), 1 << 16)))
    width = rate / (1 << 16)

    def at(partial: int) -> float:
        low, high = (round(fundamental * partial * f / width) for f in (0.85, 1.15))
        return float(power[low : high + 1].max())

    return float(10 * np.log10(max(sum(at(p) for p in range(2, 9)), 1e-12) / max(at(1), 1e-12)))

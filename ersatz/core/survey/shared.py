"""What all questions share: the track decoded once and transformed once.

Conventions: mid = (left + right) / 2, side = (left - right) / 2, both float32, shape (samples,). Frames of `frame`
samples every `hop` samples; frame t is centred on second t * hop / rate. Band powers have shape (bands, frames).
Onset strength is the half-wave rectified rise of log power per band (superflux without vibrato suppression, after
Böck & Widmer 2013).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy import fft

from ersatz.core import bands
from ersatz.core.audio import Audio, resample
from ersatz.core.survey.frames import HOP, NOISE_EDGES_HZ, NOISE_MEAN, band_frames, band_powers, bin_ranges, rows_between
from ersatz.core.survey.threads import in_threads

ANALYSIS_HZ = 44_100
TONAL_HZ = 11_025
TONAL_FRAME = 4096
TONAL_HOP = 1024
LOW_HZ = 2205
MIDI_LOW, MIDI_HIGH = 24, 100
#: Level rises under this are noise; log compression after Müller 2015, on power relative to the track's own peak.
LOG_GAMMA = 1e4


#: Frames of the third octaves overlap by a quarter: over a section that is exact enough.
BALANCE_HOP = bands.FRAME * 3 // 4
#: Frames at a time, few enough for the cache.
BALANCE_BLOCK = 16
#: A frame may begin so much before its span: its window is closed there.
STRADDLE_S = 0.01


@dataclass(frozen=True)
class Shared:
    """One decoded track and its transforms."""

    audio: Audio
    rate_hz: int
    mid: np.ndarray
    side: np.ndarray
    mid_power: np.ndarray
    side_power: np.ndarray
    #: Level of what is noise, both channels, shape (len(NOISE_EDGES_HZ) - 1, frames); see frames.py.
    noise_power: np.ndarray

    @property
    def hop_s(self) -> float:
        """Seconds between two frames."""
        return HOP / self.rate_hz

    @property
    def frames(self) -> int:
        """Number of frames."""
        return int(self.mid_power.shape[1])

    @property
    def duration_s(self) -> float:
        """Seconds."""
        return self.audio.duration_s

    @cached_property
    def flux(self) -> np.ndarray:
        """Onset strength per band, shape (bands, frames)."""
        power = self.mid_power + self.side_power
        level = np.log1p(LOG_GAMMA * power / np.maximum(np.percentile(power, 99, axis=1, keepdims=True), 1e-20))
        rise = np.zeros_like(level)
        # Two frames apart: the Hann window smears a jump over about that much.
        rise[:, 2:] = np.maximum(level[:, 2:] - level[:, :-2], 0.0)
        # Centre the two-frame difference on the frame between.
        rise[:, 1:-1] = rise[:, 2:]
        return np.asarray(rise, dtype=np.float32)

    @cached_property
    def attack(self) -> np.ndarray:
        """Rise of the amplitude per band over two frames, in full-scale units, shape (bands, frames): what is loud."""
        amplitude = np.sqrt(self.mid_power + self.side_power)
        rise = np.zeros_like(amplitude)
        rise[:, 1:-1] = np.maximum(amplitude[:, 2:] - amplitude[:, :-2], 0.0)
        return rise

    def rows(self, low_hz: float, high_hz: float) -> slice:
        """Bands that lie between two frequencies."""
        return rows_between(low_hz, high_hz)

    def onsets(self, low_hz: float, high_hz: float) -> np.ndarray:
        """Onset strength between two frequencies, shape (frames,)."""
        return np.asarray(self.flux[self.rows(low_hz, high_hz)].sum(axis=0))

    def attacks(self, low_hz: float, high_hz: float) -> np.ndarray:
        """Rise of the amplitude between two frequencies, shape (frames,)."""
        return np.asarray(self.attack[self.rows(low_hz, high_hz)].sum(axis=0))

    def noise(self, low_hz: float, high_hz: float) -> np.ndarray:
        """Level of the noise between two of NOISE_EDGES_HZ, shape (frames,)."""
        first, last = NOISE_EDGES_HZ.index(int(low_hz)), NOISE_EDGES_HZ.index(int(high_hz))
        return np.asarray(self.noise_power[first:last].sum(axis=0))

    def power(self, low_hz: float, high_hz: float) -> np.ndarray:
        """Power of both channels between two frequencies, shape (frames,)."""
        rows = self.rows(low_hz, high_hz)
        return np.asarray(self.mid_power[rows].sum(axis=0) + self.side_power[rows].sum(axis=0))

    @cached_property
    def semitones(self) -> np.ndarray:
        """Magnitude per semitone MIDI_LOW..MIDI_HIGH-1, sustained part only, shape (semitones, tonal frames).

        The tonal frames are TONAL_HOP / TONAL_HZ apart. Drums are taken out by a median over time (FitzGerald 2010).
        """
        return _semitones(self.tonal_magnitude, self.tuning_cents)

    @cached_property
    def decimated(self) -> np.ndarray:
        """The mid at TONAL_HZ, shape (samples,)."""
        return np.asarray(resample(self.mid[None, :], self.rate_hz, TONAL_HZ)[0])

    @cached_property
    def tonal_magnitude(self) -> np.ndarray:
        """Magnitude spectrum of the mid at TONAL_HZ, median-filtered over time, shape (bins, frames)."""
        low = self.decimated
        padded = np.pad(low, (TONAL_FRAME // 2, TONAL_FRAME))
        frames = np.lib.stride_tricks.sliding_window_view(padded, TONAL_FRAME)[::TONAL_HOP]
        frames = frames[: max(1, len(low) // TONAL_HOP + 1)]
        window = np.hanning(TONAL_FRAME).astype(np.float32)
        top = int(2200 / TONAL_HZ * TONAL_FRAME)
        magnitude = np.abs(fft.rfft(frames * window, axis=1)[:, :top]).T.astype(np.float32)
        return _median5(magnitude)

    @cached_property
    def low(self) -> np.ndarray:
        """The mid at LOW_HZ: kick and bass only, shape (samples,)."""
        return np.asarray(resample(self.decimated[None, :], TONAL_HZ, LOW_HZ)[0])

    @cached_property
    def tuning_cents(self) -> float:
        """Deviation from A4 = 440 Hz: circular mean of the partials' deviations from the tempered scale."""
        spectrum = self.tonal_magnitude.mean(axis=1)
        k = np.flatnonzero((spectrum[1:-1] > spectrum[:-2]) & (spectrum[1:-1] > spectrum[2:])) + 1
        k = k[(k * TONAL_HZ / TONAL_FRAME > 180)]
        if len(k) == 0:
            return 0.0
        a, b, c = (np.log(np.maximum(spectrum[k + d], 1e-12)) for d in (-1, 0, 1))
        exact = (k + 0.5 * (a - c) / np.minimum(a - 2 * b + c, -1e-9)) * TONAL_HZ / TONAL_FRAME
        cents = 1200 * np.log2(exact / 440)
        weight = spectrum[k] ** 2
        angle = np.angle(np.sum(weight * np.exp(2j * np.pi * cents / 100)))
        return float(angle / (2 * np.pi) * 100)

    def third_octaves(self, start_s: float, end_s: float) -> np.ndarray:
        """Mean power per third octave between two times, shape (bands.BANDS,), from the track's own channels. Of frames that lie
        inside: a kick before a breakdown is a hundred times what the breakdown has in its lows."""
        rate = self.audio.rate_hz
        first = max(0, int(np.ceil((start_s - STRADDLE_S) * rate / BALANCE_HOP)))
        last = max(first + 1, int((end_s * rate - bands.FRAME) / BALANCE_HOP) + 1)
        return np.asarray(self._third_octave_frames[:, first : min(last, self._third_octave_frames.shape[1])].mean(1))

    @cached_property
    def _third_octave_frames(self) -> np.ndarray:
        rate = self.audio.rate_hz
        ranges = bin_ranges(bands.EDGES_HZ, rate, bands.FRAME)
        scale = 2.0 / (bands.FRAME * float(np.square(np.hanning(bands.FRAME)).sum()))
        total: np.ndarray = np.zeros((bands.BANDS, 1), np.float32)
        for channel in self.audio.samples:
            padded = np.pad(channel, (0, max(0, bands.FRAME - len(channel))))
            frames = np.lib.stride_tricks.sliding_window_view(padded, bands.FRAME)[::BALANCE_HOP]
            total = total + band_powers(frames, ranges, BALANCE_BLOCK) * scale
        return np.asarray(total)


def prepare(audio: Audio) -> Shared:
    """Transform a decoded track. Rates other than 44.1 and 48 kHz are resampled to 44.1 kHz for the bands."""
    stereo = audio.stereo()
    rate = audio.rate_hz
    if rate not in (44_100, 48_000):
        stereo, rate = resample(np.ascontiguousarray(stereo), rate, ANALYSIS_HZ), ANALYSIS_HZ
    mid, side = in_threads(lambda combined: _half(combined(stereo[0], stereo[1])), (np.add, np.subtract))
    mono = audio.channels == 1
    parts = in_threads(lambda x: band_frames(x, rate), [mid] if mono else [mid, side])
    mid_power, noise = parts[0]
    side_power, side_noise = (np.zeros_like(mid_power), np.float32(0)) if mono else parts[1]
    return Shared(audio, rate, mid, side, mid_power, side_power, (noise + side_noise) / NOISE_MEAN)


def _half(x: np.ndarray) -> np.ndarray:
    x *= np.float32(0.5)
    return np.asarray(x, np.float32)


def _median5(x: np.ndarray) -> np.ndarray:
    """Median of five over time by a sorting network, far faster than a generic filter."""
    p = np.pad(x, ((0, 0), (2, 2)), mode="edge")
    a, b, c, d, e = (p[:, i : i + x.shape[1]] for i in range(5))
    a, b = np.minimum(a, b), np.maximum(a, b)
    d, e = np.minimum(d, e), np.maximum(d, e)
    a, d = np.minimum(a, d), np.maximum(a, d)  # smallest of four is out of the race
    b, e = np.minimum(b, e), np.maximum(b, e)  # largest of four is out of the race
    return np.asarray(np.maximum(np.minimum(b, c), np.minimum(np.maximum(b, c), d)))


def _semitones(magnitude: np.ndarray, tuning_cents: float) -> np.ndarray:
    hz = np.arange(magnitude.shape[0]) * TONAL_HZ / TONAL_FRAME
    with np.errstate(divide="ignore"):
        midi = 69 + 12 * np.log2(np.maximum(hz, 1e-6) / 440) - tuning_cents / 100
    centres = np.arange(MIDI_LOW, MIDI_HIGH)
    # A raised-cosine over +-1 semitone, wider where one bin is more than a semitone.
    bin_width = 12 / np.log(2) * (TONAL_HZ / TONAL_FRAME) / np.maximum(hz, 20)
    reach = np.maximum(0.6, bin_width)
    distance = np.abs(midi[None, :] - centres[:, None]) / reach[None, :]
    weights = np.where(distance < 1, 0.5 + 0.5 * np.cos(np.pi * distance), 0).astype(np.float32)
    return np.asarray(weights @ magnitude)


def frame_means(values: np.ndarray, edges_s: np.ndarray, hop_s: float) -> np.ndarray:
    """Mean of `values` (..., frames) between consecutive edges, shape (..., len(edges) - 1)."""
    total = np.concatenate([np.zeros((*values.shape[:-1], 1)), np.cumsum(values, axis=-1, dtype=np.float64)], axis=-1)
    index = np.clip(np.round(edges_s / hop_s).astype(int), 0, values.shape[-1])
    first = np.minimum(index[:-1], values.shape[-1] - 1)
    last = np.maximum(index[1:], first + 1)
    return np.asarray((total[..., last] - total[..., first]) / (last - first))

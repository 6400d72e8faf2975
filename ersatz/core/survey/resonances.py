"""Where does the track ring: narrow peaks between 800 Hz and 8 kHz that stay, whatever note is played?

Method: power in 1/24 octaves from half-second frames; per band the level that its loudest tenth of the frames reach, the upper
envelope of all notes' partials. A single held note raises two bands of it at most, a resonance all partials near its
centre: gaps of under a semitone and a half are closed, then peaks narrower than that are opened (grey-scale morphology, Serra
1982). What is left stands over its median within two thirds of an octave to either side.
"""

from __future__ import annotations

import numpy as np
import scipy
from scipy import fft

from ersatz.core.survey.document import Resonance
from ersatz.core.survey.shared import Shared

FRAME_S = 0.37
LOW_HZ, TOP_HZ = 800.0, 8000.0
PER_OCTAVE = 24
GAP, NARROW, AROUND = 5, 3, 33
#: Frames within this of the loud ones count; more of them than this say nothing new.
SOUNDING_DB, MOST_FRAMES = 25.0, 400
LEAST_DB = 6.0
#: Centres closer than this are one resonance.
APART = PER_OCTAVE // 4


def find_resonances(shared: Shared) -> tuple[Resonance, ...]:
    """Of a track; the strongest first."""
    return resonances_in(shared.mid, shared.rate_hz, 0.45 * shared.audio.rate_hz)


def resonances_in(mono: np.ndarray, rate_hz: int, top_hz: float | None = None) -> tuple[Resonance, ...]:
    """Of a signal, shape (n,), that reaches up to `top_hz`; the strongest first."""
    centres, level = _upper_envelope(mono, rate_hz, top_hz or 0.45 * rate_hz)
    if len(centres) < AROUND:
        return ()
    opened = scipy.ndimage.grey_opening(scipy.ndimage.grey_closing(level, GAP), NARROW)
    over = opened - scipy.ndimage.median_filter(opened, AROUND, mode="nearest")
    over[(centres < LOW_HZ) | (centres > TOP_HZ)] = 0.0
    out = []
    while (peak := int(np.argmax(over))) >= 0 and over[peak] >= LEAST_DB:
        first = last = peak
        while first > 0 and over[first - 1] > over[peak] / 2:
            first -= 1
        while last + 1 < len(over) and over[last + 1] > over[peak] / 2:
            last += 1
        middle = float(np.average(np.log2(centres[first : last + 1]), weights=over[first : last + 1]))
        out.append(Resonance(round(2**middle, 0), round(float(over[peak]), 1)))
        over[max(0, first - APART) : last + 1 + APART] = 0.0
    return tuple(out)


def _upper_envelope(mono: np.ndarray, rate: int, reaches_hz: float) -> tuple[np.ndarray, np.ndarray]:
    """Centres in Hz, half an octave and more beyond both ends, and the level that each band reaches, dB."""
    size = fft.next_fast_len(int(FRAME_S * rate), real=True)
    top_hz = min(TOP_HZ * 2**0.7, reaches_hz)
    low_hz = LOW_HZ / 2**0.7
    edges = low_hz * 2 ** (np.arange(int(np.log2(top_hz / low_hz) * PER_OCTAVE) + 1) / PER_OCTAVE)
    if len(mono) < size:
        return np.zeros(0), np.zeros(0)
    frames = np.lib.stride_tricks.sliding_window_view(mono, size)[::size]
    frames = frames[:: max(1, len(frames) // MOST_FRAMES)]
    bins = np.round(edges * size / rate).astype(int)
    spectrum = fft.rfft(frames * np.hanning(size).astype(np.float32), axis=1)[:, bins[0] : bins[-1]]
    power = np.square(spectrum.real) + np.square(spectrum.imag)
    level = 10 * np.log10(np.add.reduceat(power, bins[:-1] - bins[0], axis=1) / np.diff(bins) + 1e-9)
    loud = level.max(axis=1)
    kept = level[loud > np.percentile(loud, 90) - SOUNDING_DB]
    return np.sqrt(edges[1:] * edges[:-1]), np.percentile(kept, 90, axis=0)

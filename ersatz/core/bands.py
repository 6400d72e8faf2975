"""Third-octave bands and power spectra, shared by the survey and the solver of a draft.

Band centres are the preferred frequencies of IEC 61260-1 (base ten), 20 Hz to 20 kHz; edges are exact,
centre * 10^(+-1/20). Levels are 10 log10 of power, relative to the whole signal's power.
"""

from __future__ import annotations

from functools import cache, lru_cache

import numpy as np
from scipy import fft

from ersatz.core.compiled import compiled, unordered

NOMINAL_HZ = (
    20, 25, 31.5, 40, 50, 63, 80, 100, 125, 160, 200, 250, 315, 400, 500, 630, 800, 1000, 1250, 1600, 2000, 2500,
    3150, 4000, 5000, 6300, 8000, 10000, 12500, 16000, 20000,
)  # fmt: skip
BANDS = len(NOMINAL_HZ)
EXACT_HZ = 1000.0 * 10.0 ** ((np.arange(BANDS) - 17) / 10.0)
#: Where the bands meet, from the lowest one's lower edge on.
EDGES_HZ = np.append(EXACT_HZ * 10**-0.05, EXACT_HZ[-1] * 10**0.05)
FLOOR_DB = -100.0
#: Long enough that the 20 Hz band (4.6 Hz wide) spans more than one bin.
FRAME = 16384
#: Frames that are transformed at once.
AT_ONCE = 64


def hz_said(hz: float) -> str:
    """A frequency as it is written on pages: Hz, from 1000 on kHz."""
    return f"{hz / 1000:.3g} kHz" if hz >= 1000 else f"{hz:.3g} Hz"


def power_spectrum(mono: np.ndarray) -> np.ndarray:
    """Average power per bin over half-overlapped Hann frames of FRAME samples (Welch 1967); shape (FRAME//2+1,)."""
    mono, window, hop = np.ascontiguousarray(mono, np.float32), _window(), FRAME // 2
    count = 1 + max(0, len(mono) - FRAME) // hop
    power = np.zeros(FRAME // 2 + 1)
    for first in range(0, count, AT_ONCE):
        _add_powers(fft.rfft(_frames(mono[first * hop :], min(AT_ONCE, count - first), window), axis=1), power)
    # One-sided mean power per sample: Parseval with the window's own energy.
    power[1:-1] *= 2.0
    return power / (count * FRAME * float(np.square(window).sum()))


def mid_and_side(stereo: np.ndarray) -> np.ndarray:
    """`power_spectrum` of what both sides of (2, n) have in common and of what they differ by, shape (2, FRAME // 2 + 1), whose sum
    is that of both sides."""
    mid, side, is_mono = _turned(np.ascontiguousarray(stereo, np.float32))
    power = power_spectrum(mid)
    # Much is mono.
    return np.stack([power, np.zeros_like(power) if is_mono else power_spectrum(side)])


@unordered
def _turned(stereo: np.ndarray) -> tuple[np.ndarray, np.ndarray, bool]:  # pragma: no cover - compiled
    """Both sides' sum and difference at the power of both, and whether there is no difference."""
    left, right, gain = stereo[0], stereo[1], np.float32(np.sqrt(0.5))
    mid, side = np.empty_like(left), np.empty_like(left)
    apart = np.float32(0.0)
    for i in range(len(left)):
        mid[i], side[i] = gain * (left[i] + right[i]), gain * (left[i] - right[i])
        apart = max(apart, abs(side[i]))
    return mid, side, apart == 0


@compiled
def _frames(x: np.ndarray, count: int, window: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """The first so many, half-overlapped and windowed; behind the end is silence."""
    length = len(window)
    out = np.zeros((count, length), np.float32)
    for k in range(count):
        start = k * (length // 2)
        here, frame = x[start : start + length], out[k]
        for i in range(len(here)):
            frame[i] = window[i] * here[i]
    return out


@compiled
def _add_powers(spectra: np.ndarray, out: np.ndarray) -> None:  # pragma: no cover - compiled
    """Of each bin, onto `out`."""
    for spectrum in spectra:
        for i in range(len(out)):
            out[i] += spectrum[i].real * spectrum[i].real + spectrum[i].imag * spectrum[i].imag


@cache
def _window() -> np.ndarray:
    return np.hanning(FRAME).astype(np.float32)


@lru_cache(maxsize=8)
def band_weights(bins: int, rate_hz: int) -> np.ndarray:
    """Share of each spectral bin that lies in each third octave, shape (BANDS, bins); not to be written to."""
    weights = share_of_bins(bins, rate_hz, EDGES_HZ[:-1], EDGES_HZ[1:])
    weights.setflags(write=False)
    return weights


def share_of_bins(bins: int, rate_hz: int, low_hz: np.ndarray, high_hz: np.ndarray) -> np.ndarray:
    """Share of each spectral bin that lies in each band, shape (len(low_hz), bins): edges cut bins in proportion."""
    width = rate_hz / 2 / (bins - 1)
    low = (np.arange(bins) - 0.5) * width
    high = low + width
    overlap = np.minimum(high, high_hz[:, None]) - np.maximum(low, low_hz[:, None])
    return np.clip(overlap / width, 0.0, 1.0)


def band_power(stereo: np.ndarray, rate_hz: int) -> np.ndarray:
    """Mean power in each third octave, channels added, shape (BANDS,)."""
    return in_bands(np.sum([power_spectrum(channel) for channel in stereo], axis=0), rate_hz)


def in_bands(spectrum: np.ndarray, rate_hz: int) -> np.ndarray:
    """What of a `power_spectrum` lies in each third octave, shape (BANDS,)."""
    return np.asarray(band_weights(len(spectrum), rate_hz) @ spectrum)


def relative_db(power: np.ndarray, total: float | None = None) -> np.ndarray:
    """Levels against the sum of the bands, or against `total`; never below FLOOR_DB."""
    whole = float(power.sum()) if total is None else total
    return np.maximum(10 * np.log10(np.maximum(power, 1e-30) / max(whole, 1e-30)), FLOOR_DB)

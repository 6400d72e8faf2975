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


def hz_said(hz: float) -> str:
    """A frequency as it is written on pages: Hz, from 1000 on kHz."""
    return f"{hz / 1000:.3g} kHz" if hz >= 1000 else f"{hz:.3g} Hz"


def power_spectrum(mono: np.ndarray) -> np.ndarray:
    """Average power per bin over half-overlapped Hann frames of FRAME samples (Welch 1967); shape (FRAME//2+1,)."""
    return _mean_power(_frames(np.ascontiguousarray(mono, np.float32), _window()))


def mid_and_side(stereo: np.ndarray) -> np.ndarray:
    """`power_spectrum` of what both sides of (2, n) have in common and of half their difference, shape (2, FRAME // 2 + 1); twice
    their sum is the power of both sides."""
    mid, side, is_mono = _halves(np.ascontiguousarray(stereo, np.float32))
    power = power_spectrum(mid)
    # Much is mono.
    return np.stack([power, np.zeros_like(power) if is_mono else power_spectrum(side)])


@unordered
def _halves(stereo: np.ndarray) -> tuple[np.ndarray, np.ndarray, bool]:  # pragma: no cover - compiled
    """What both sides have in common, half their difference, and whether there is none."""
    left, right = stereo[0], stereo[1]
    mid, side = np.empty_like(left), np.empty_like(left)
    apart = np.float32(0.0)
    for i in range(len(left)):
        mid[i], side[i] = np.float32(0.5) * (left[i] + right[i]), np.float32(0.5) * (left[i] - right[i])
        apart = max(apart, abs(side[i]))
    return mid, side, apart == 0


@compiled
def _frames(x: np.ndarray, window: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """Half-overlapped and windowed; what is shorter than one is filled up with silence."""
    length = len(window)
    count = 1 + max(0, len(x) - length) // (length // 2)
    out = np.zeros((count, length), np.float32)
    for k in range(count):
        start = k * (length // 2)
        here, frame = x[start : start + length], out[k]
        for i in range(len(here)):
            frame[i] = window[i] * here[i]
    return out


def _mean_power(frames: np.ndarray) -> np.ndarray:
    """One-sided mean power per sample of windowed frames: Parseval with the window's own energy."""
    power = np.zeros(FRAME // 2 + 1)
    for start in range(0, len(frames), 64):
        _add_powers(fft.rfft(frames[start : start + 64], axis=1), power)
    power[1:-1] *= 2.0
    return power / (len(frames) * FRAME * float(np.square(_window()).sum()))


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
    return np.asarray(band_weights(FRAME // 2 + 1, rate_hz) @ sum(power_spectrum(channel) for channel in stereo))


def relative_db(power: np.ndarray, total: float | None = None) -> np.ndarray:
    """Levels against the sum of the bands, or against `total`; never below FLOOR_DB."""
    whole = float(power.sum()) if total is None else total
    return np.maximum(10 * np.log10(np.maximum(power, 1e-30) / max(whole, 1e-30)), FLOOR_DB)

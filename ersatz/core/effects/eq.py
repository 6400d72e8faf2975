"""Equaliser bands and cuts as second-order sections (Bristow-Johnson's cookbook; Butterworth cuts)."""

from __future__ import annotations

import math

import numpy as np
from scipy import signal

from ersatz.core.song.document import EqBand


def bell(band: EqBand, rate_hz: int) -> np.ndarray:
    """One peaking section, shape (6,)."""
    a = 10 ** (band.gain_db / 40)
    w = 2 * math.pi * min(band.hz, 0.45 * rate_hz) / rate_hz
    alpha = math.sin(w) / (2 * band.q)
    a0 = 1 + alpha / a
    return np.array([(1 + alpha * a) / a0, -2 * math.cos(w) / a0, (1 - alpha * a) / a0,
                     1.0, -2 * math.cos(w) / a0, (1 - alpha / a) / a0])  # fmt: skip


def low_cut(hz: float, rate_hz: int, order: int = 2) -> np.ndarray:
    return np.asarray(signal.butter(order, hz, "highpass", fs=rate_hz, output="sos"))


def high_cut(hz: float, rate_hz: int, order: int = 2) -> np.ndarray:
    return np.asarray(signal.butter(order, min(hz, 0.45 * rate_hz), "lowpass", fs=rate_hz, output="sos"))


def response_db(sections: np.ndarray, hz: np.ndarray, rate_hz: int) -> np.ndarray:
    """Magnitude response at `hz`, dB."""
    _, h = signal.freqz_sos(sections, worN=hz, fs=rate_hz)
    return np.asarray(20 * np.log10(np.maximum(np.abs(h), 1e-12)))


def apply(sections: np.ndarray, x: np.ndarray) -> np.ndarray:
    """Filter along the last axis from silence."""
    return np.asarray(signal.sosfilt(sections, x, axis=-1))

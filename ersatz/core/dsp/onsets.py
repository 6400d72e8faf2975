"""Where something is hit in a sample: places to slice at.

Rising energy over the bins of a short-time spectrum in a compressed scale (spectral flux, as reviewed by Bello et al. 2005), peaks
over a moving median; each place is then moved back to where the level begins to rise, so that a slice has all of its attack.
"""

from __future__ import annotations

import numpy as np
import scipy
from scipy import fft

WINDOW, HOP = 1024, 128
#: Compression of magnitudes: log(1 + this * magnitude).
COMPRESSION = 100.0
#: Hits are at least this far apart.
APART_S = 0.045
#: The median that a peak must stand out from is taken over this long.
AROUND_S = 0.3
#: An attack begins at most this long before the peak of the flux.
ATTACK_S = 0.025


def flux(mono: np.ndarray) -> np.ndarray:
    """How much the spectrum rises, per HOP samples, shape (frames,); frame k is centred on sample k * HOP."""
    padded = np.pad(np.asarray(mono, np.float32), (WINDOW // 2, WINDOW))
    frames = np.lib.stride_tricks.sliding_window_view(padded, WINDOW)[::HOP][: len(mono) // HOP + 1]
    window = np.hanning(WINDOW).astype(np.float32)
    loudest = max(float(np.abs(mono).max(initial=0.0)), 1e-9)
    spectrum = np.abs(fft.rfft(frames * window, axis=1)) / (loudest * WINDOW / 4)
    compressed = np.log1p(COMPRESSION * spectrum)
    rise = np.maximum(np.diff(compressed, axis=0, prepend=0.0), 0.0).sum(axis=1)
    return np.asarray(rise / WINDOW * 2)


def hits(mono: np.ndarray, rate: float, sensitivity: float = 0.5) -> np.ndarray:
    """Samples at which hits begin, in order, from (n,). `sensitivity` 0..1: more finds softer hits."""
    if len(mono) < WINDOW:
        return np.zeros(1, np.int64)
    curve = flux(mono)
    median = scipy.ndimage.median_filter(curve, max(3, int(AROUND_S * rate / HOP) | 1), mode="mirror")
    # From a third of the strongest rise to a fortieth of it.
    floor = float((curve - median).max()) / 3 * (3 / 40) ** np.clip(sensitivity, 0, 1)
    apart = max(1, int(APART_S * rate / HOP))
    peaks = np.flatnonzero((curve >= scipy.ndimage.maximum_filter1d(curve, 2 * apart + 1)) & (curve - median > max(floor, 1e-6)))
    starts = [_attack(mono, int(k) * HOP, rate) for k in peaks]
    return np.unique(np.array(starts, np.int64))


def _attack(mono: np.ndarray, near: int, rate: float) -> int:
    """The quietest place before a rise: the last one whose next half millisecond lies under a tenth of the peak's level."""
    start = max(0, near - int(ATTACK_S * rate))
    stretch = np.abs(mono[start : near + WINDOW // 2])
    width = max(1, int(0.0005 * rate))
    level = scipy.ndimage.maximum_filter1d(stretch, width, origin=-(width // 2))
    top = int(np.argmax(level))
    before = float(level[0])
    quiet = np.flatnonzero(level[: top + 1] <= before + 0.1 * (float(level[top]) - before))
    return start + (int(quiet[-1]) if len(quiet) else 0)

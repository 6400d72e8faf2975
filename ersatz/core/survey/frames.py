"""Short-time band levels of one channel, in one pass.

Conventions: frames of FRAME samples every HOP samples, Hann window, frame t centred on sample t * HOP; powers are those of the
windowed frame. Two answers per frame: the power of each band (a sum over its bins, edge bins in proportion) and the level of
what is noise in it. A drum's burst fills every bin of a band, a chord only a few: a generalised mean of order 1/4 over
the bins hardly sees the few (between the arithmetic and the geometric mean whose ratio is the spectral flatness of
Johnston 1988).
"""

from __future__ import annotations

import numpy as np
from scipy import fft

from ersatz.core.compiled import unordered

FRAME = 1024
HOP = 256
#: Lower edges of the analysis bands and the top, Hz. Narrow where parts are told apart, wide on top.
EDGES_HZ = (
    20, 65, 110, 155, 200, 270, 360, 470, 600, 770, 1000, 1300, 1700, 2200, 2800, 3600, 4700, 6000, 7700, 10_000,
    13_000, 18_000,
)  # fmt: skip
#: Bands wide enough to tell noise from tones: seven bins at least.
NOISE_EDGES_HZ = (700, 1000, 1400, 2000, 2800, 4000, 5600, 8000, 11_000, 16_000)
#: Mean of the fourth root of an exponentially distributed power, to the fourth: what white noise of power 1 gives.
NOISE_MEAN = 0.6748
BLOCK = 128
#: See bin_ranges.
Ranges = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]


def rows_between(low_hz: float, high_hz: float) -> slice:
    """Bands that lie between two frequencies."""
    inside = [i for i in range(len(EDGES_HZ) - 1) if EDGES_HZ[i] >= low_hz and EDGES_HZ[i + 1] <= high_hz]
    return slice(inside[0], inside[-1] + 1)


def band_frames(x: np.ndarray, rate_hz: int) -> tuple[np.ndarray, np.ndarray]:
    """Band powers, shape (len(EDGES_HZ) - 1, frames), and noise levels, shape (len(NOISE_EDGES_HZ) - 1, frames); float32."""
    padded = np.pad(x, (FRAME // 2, FRAME))
    frames = np.lib.stride_tricks.sliding_window_view(padded, FRAME)[::HOP][: len(x) // HOP + 1]
    window = np.hanning(FRAME).astype(np.float32)
    ranges = bin_ranges(np.array(EDGES_HZ, float), rate_hz, FRAME)
    noise = np.minimum(np.round(np.array(NOISE_EDGES_HZ) * FRAME / rate_hz), FRAME // 2).astype(np.int64)
    power = np.empty((len(EDGES_HZ) - 1, len(frames)), np.float32)
    level = np.empty((len(NOISE_EDGES_HZ) - 1, len(frames)), np.float32)
    for start in range(0, len(frames), BLOCK):
        block = fft.rfft(frames[start : start + BLOCK] * window, axis=1)
        _sum_bands_and_noise(block, ranges, noise, start, power, level)
    return power, level


def bin_ranges(edges_hz: np.ndarray, rate_hz: int, frame: int) -> Ranges:
    """First bin of each band between neighbouring edges and the share of it that lies inside, then the same of the last bin."""
    width = rate_hz / frame
    place = np.minimum(edges_hz / width + 0.5, frame // 2 + 0.999)
    whole = place.astype(np.int64)
    part = (place - whole).astype(np.float32)
    return whole[:-1], 1 - part[:-1], whole[1:], part[1:]


def band_powers(frames: np.ndarray, ranges: Ranges, at_once: int) -> np.ndarray:
    """Power per band of Hann-windowed frames (frames, samples), float32, shape (bands, frames); so many frames at a time as fit the
    cache."""
    window = np.hanning(frames.shape[1]).astype(np.float32)
    out = np.empty((len(ranges[0]), len(frames)), np.float32)
    for start in range(0, len(frames), at_once):
        _sum_bands(fft.rfft(frames[start : start + at_once] * window, axis=1), ranges, start, out)
    return out


@unordered
def _sum_bands(block: np.ndarray, ranges: Ranges, start: int, power: np.ndarray) -> None:  # pragma: no cover - compiled
    """Of a block of frames, into the columns of `power` from `start` on."""
    square = np.empty(block.shape[1], np.float32)
    for t in range(block.shape[0]):
        _sum_frame(block[t], ranges, square, start + t, power)


@unordered
def _sum_frame(frame: np.ndarray, ranges: Ranges, square: np.ndarray, t: int, power: np.ndarray) -> None:  # pragma: no cover
    """Writes the power of each bin of a frame to `square` and of each band to column `t` of `power`."""
    first, low, last, high = ranges
    for k in range(len(square)):
        re, im = frame[k].real, frame[k].imag
        square[k] = re * re + im * im
    for b in range(len(first)):
        a, z = first[b], last[b]
        if a == z:
            power[b, t] = square[a] * (high[b] - (np.float32(1) - low[b]))
            continue
        total = square[a] * low[b] + square[z] * high[b]
        for k in range(a + 1, z):
            total += square[k]
        power[b, t] = total


@unordered
def _sum_bands_and_noise(  # pragma: no cover - compiled
    block: np.ndarray, ranges: Ranges, noise: np.ndarray, start: int, power: np.ndarray, level: np.ndarray
) -> None:
    """`_sum_bands`, and how loud the noise between edges is, into `level`."""
    square = np.empty(block.shape[1], np.float32)
    root = np.empty(block.shape[1], np.float32)
    for t in range(block.shape[0]):
        _sum_frame(block[t], ranges, square, start + t, power)
        for k in range(noise[0], noise[-1]):
            root[k] = np.sqrt(np.sqrt(square[k]))
        for b in range(len(noise) - 1):
            total = np.float32(0)
            for k in range(noise[b], noise[b + 1]):
                total += root[k]
            count = noise[b + 1] - noise[b]
            mean = total / max(count, 1)
            level[b, start + t] = mean * mean * mean * mean * count

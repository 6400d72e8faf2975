"""Fast envelopes for the pump: power in four bands, of mid and of side, every 3 ms, cut by the grid.

Conventions: at RATE_HZ, frames of 128 samples (12 ms) every 32, Hann window; cut curves have PHASES points per bar.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import fft

from ersatz.core.audio import resample
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.shared import Shared

RATE_HZ = 11_025
FRAME, HOP = 128, 32
BAND_EDGES_HZ = (170, 430, 860, 1720, 3440)
#: Points per beat of a cut curve.
PER_BEAT = 64
BLOCK = 1024
#: Share of the ceiling that the inverse curve is driven to: none of it at the first median of the half seconds' peaks (against the
#: highest), all of it at the second.
DRIVE, VARIED, ALIKE = 0.96, 0.65, 0.84


@dataclass(frozen=True)
class Envelopes:
    """Power per band and bar, shape (channels, bands, bars, points): channel 0 is the mid, 1 the side (absent in mono)."""

    power: np.ndarray

    @property
    def points(self) -> int:
        return int(self.power.shape[-1])


def fast_powers(shared: Shared) -> list[np.ndarray]:
    """Power per band and frame of the mid and, unless the file is mono, of the side; needs no grid."""
    channels = _unsaturated(shared)
    return [_band_power(x) for x in resample(channels[: shared.audio.channels], shared.rate_hz, RATE_HZ)]


def cut_envelopes(bars: BarTable, powers: list[np.ndarray]) -> Envelopes:
    """`powers` as fast_powers gives them, cut into bars."""
    points = PER_BEAT * bars.grid.beats_per_bar
    times = (bars.edges_s[:-1, None] + np.arange(points) / points * bars.grid.bar_s).ravel()
    place = np.clip(times * RATE_HZ / HOP, 0, None)
    out = []
    for power in powers:
        base = np.minimum(place.astype(int), power.shape[1] - 2)
        part = np.clip(place - base, 0, 1).astype(np.float32)
        cut = power[:, base] * (1 - part) + power[:, base + 1] * part
        out.append(cut.reshape(len(power), bars.count, points))
    return Envelopes(np.array(out))


def _unsaturated(shared: Shared) -> np.ndarray:
    """Mid and side before the master's saturation, shape (2, samples).

    A master driven into its ceiling turns down everything under the kick, which isn't the sidechain. Where the peaks of every half
    second are alike, as saturation makes them, its curve (tanh) is undone; where they vary the audio is left as it is.
    """
    mid, side = shared.mid, shared.side
    half_second = shared.rate_hz // 2
    # By half seconds throughout: they fit the cache, whole tracks don't.
    pieces = [slice(i, i + half_second) for i in range(0, len(mid), half_second)]
    top = max(1e-9, *(float((np.abs(mid[p]) + np.abs(side[p])).max()) for p in pieces))
    peaks = np.array([np.abs(mid[p] + side[p]).max() for p in pieces if p.stop <= len(mid)]) / top
    loud = peaks[peaks > 0.5]
    alike = float(np.median(loud)) if len(loud) else 0.0
    drive = DRIVE * float(np.clip((alike - VARIED) / (ALIKE - VARIED), 0, 1))
    out = np.empty((2, len(mid)), np.float32)
    if drive < 0.05:
        out[0], out[1] = mid, side
        return out
    scale = np.float32(drive / top)
    for p in pieces:
        left, right = np.arctanh((mid[p] + side[p]) * scale), np.arctanh((mid[p] - side[p]) * scale)
        out[0, p], out[1, p] = (left + right) * np.float32(0.5), (left - right) * np.float32(0.5)
    return out


def _band_power(x: np.ndarray) -> np.ndarray:
    padded = np.pad(x, (FRAME // 2, FRAME))
    frames = np.lib.stride_tricks.sliding_window_view(padded, FRAME)[::HOP][: len(x) // HOP + 1]
    window = np.hanning(FRAME).astype(np.float32)
    edges = np.round(np.array(BAND_EDGES_HZ) * FRAME / RATE_HZ).astype(int)
    out = np.empty((len(edges) - 1, len(frames)), np.float32)
    for start in range(0, len(frames), BLOCK):
        block = fft.rfft(frames[start : start + BLOCK] * window, axis=1)[:, : edges[-1]]
        power = np.square(block.real) + np.square(block.imag)
        out[:, start : start + BLOCK] = np.add.reduceat(power, edges[:-1], axis=1).T
    return out

"""Loudness of a programme, after ITU-R BS.1770-5 and EBU Tech 3341/3342.

Conventions: audio is float32, shape (channels, samples); levels are LUFS (absolute) or LU (relative). A mono file
is one channel, stereo two, both with weight 1.
Method: K-weighting (two biquads, annex 1), mean square over 400 ms blocks with 75 % overlap, absolute gate at
-70 LUFS, relative gate 10 LU under the gated mean. True peak by 4x oversampling (annex 2).
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache

import numpy as np

from ersatz.core.compiled import compiled, unordered
from ersatz.core.dsp.filters import biquad, kept

ABSOLUTE_GATE_LUFS = -70.0
RELATIVE_GATE_LU = -10.0
RANGE_GATE_LU = -20.0  # EBU Tech 3342
STEP_S = 0.1
SILENCE_LUFS = -120.0
SILENCE_DBTP = -120.0


@dataclass(frozen=True)
class Loudness:
    """Programme loudness; `short_term_lufs[i]` is the 3 s window that ends `short_term_t_s[i]` into the file."""

    integrated_lufs: float
    range_lu: float
    true_peak_dbtp: float
    max_short_term_lufs: float
    max_momentary_lufs: float
    short_term_t_s: tuple[float, ...]
    short_term_lufs: tuple[float, ...]

    @property
    def plr_db(self) -> float:
        """Peak to loudness ratio."""
        return self.true_peak_dbtp - self.integrated_lufs


def k_weighting(rate_hz: int) -> np.ndarray:
    """The two biquads of BS.1770 annex 1 for any rate, shape (2, 6) as (b0 b1 b2 1 a1 a2).

    The standard gives coefficients at 48 kHz only; the analogue prototypes behind them (a shelf of 4 dB at 1681.97 Hz,
    Q 0.7072, and a high-pass at 38.1355 Hz, Q 0.5003) are bilinear-transformed for other rates.
    """
    f0, gain_db, q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    k = math.tan(math.pi * f0 / rate_hz)
    vh = 10 ** (gain_db / 20)
    vb = vh**0.4996667741545416
    a0 = 1 + k / q + k * k
    shelf = [(vh + vb * k / q + k * k) / a0, 2 * (k * k - vh) / a0, (vh - vb * k / q + k * k) / a0,
             1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]  # fmt: skip
    f0, q = 38.13547087602444, 0.5003270373238773
    k = math.tan(math.pi * f0 / rate_hz)
    a0 = 1 + k / q + k * k
    highpass = [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]
    return np.array([shelf, highpass])


@compiled
def _weighted_steps(x: np.ndarray, sos: np.ndarray, step: int) -> np.ndarray:  # pragma: no cover - compiled
    """Sum of squares of the K-weighted signal per whole step of `step` samples."""
    steps = len(x) // step
    out = np.zeros(steps)
    z = np.zeros((2, 2))
    for i in range(steps):
        total = 0.0
        for n in range(i * step, (i + 1) * step):
            v = float(x[n])
            for s in range(2):
                v, z[s, 0], z[s, 1] = biquad(v, z[s, 0], z[s, 1], sos[s, 0], sos[s, 1], sos[s, 2], sos[s, 4], sos[s, 5])
            total += v * v
        out[i] = total
        # On silence they would shrink to figures that take a hundred times as long.
        for s in range(2):
            z[s, 0], z[s, 1] = kept(z[s, 0]), kept(z[s, 1])
    return out


def step_energy(samples: np.ndarray, rate_hz: int) -> np.ndarray:
    """Mean square of the K-weighted signal in steps of 100 ms, channels added, shape (steps,)."""
    step = round(rate_hz * STEP_S)
    sos = k_weighting(rate_hz)
    with ThreadPoolExecutor(2) as pool:
        energy = sum(pool.map(lambda channel: _weighted_steps(np.ascontiguousarray(channel), sos, step), samples))
    return np.asarray(energy) / step


def _lufs(energy: np.ndarray) -> np.ndarray:
    return -0.691 + 10 * np.log10(np.maximum(energy, 10 ** ((SILENCE_LUFS + 0.691) / 10)))


def _windows(steps: np.ndarray, length: int) -> np.ndarray:
    """Mean over every window of `length` steps, hop one step."""
    if len(steps) < length:
        return np.array([steps.mean()]) if len(steps) else np.array([0.0])
    total = np.cumsum(np.concatenate([[0.0], steps]))
    return (total[length:] - total[:-length]) / length


def integrated_lufs(steps: np.ndarray) -> float:
    """Gated loudness from 100 ms step energies (BS.1770-5, annex 1)."""
    blocks = _windows(steps, 4)
    blocks = blocks[_lufs(blocks) > ABSOLUTE_GATE_LUFS]
    if len(blocks) == 0:
        return SILENCE_LUFS
    gate = float(_lufs(blocks.mean())) + RELATIVE_GATE_LU
    return float(_lufs(blocks[_lufs(blocks) > gate].mean()))


def mean_lufs(samples: np.ndarray, rate_hz: int) -> float:
    """Loudness of a stretch without any gate, silence included, to the last whole 100 ms; shape (channels, n)."""
    steps = step_energy(samples, rate_hz)
    return float(_lufs(steps.mean())) if len(steps) else SILENCE_LUFS


def loudness_range_lu(steps: np.ndarray) -> float:
    """EBU Tech 3342: 10th to 95th percentile of the gated short-term loudness."""
    blocks = _windows(steps, 30)
    levels = _lufs(blocks)
    kept = blocks[levels > ABSOLUTE_GATE_LUFS]
    if len(kept) == 0:
        return 0.0
    levels = _lufs(kept)
    levels = np.sort(levels[levels > float(_lufs(kept.mean())) + RANGE_GATE_LU])
    low, high = np.percentile(levels, [10, 95], method="nearest")
    return float(high - low)


#: Interpolator of 48 taps per phase; the true peak of EBU Tech 3341's cases is met within 0.05 dB.
PHASES, HALF_TAPS = 4, 24
#: Window shape: flat to about 20 kHz at 44.1 kHz.
KAISER = 5.0
#: A peak between two samples that both lie under this share of the highest sample can't outdo it in real material.
NEAR_PEAK = 0.6


@cache
def interpolator(half_taps: int = HALF_TAPS, phases: int = PHASES) -> np.ndarray:
    """Kaiser-windowed sinc for the points between samples, shape (phases - 1, 2 * half_taps)."""
    k = np.arange(-half_taps + 1, half_taps + 1)
    rows = []
    for phase in range(1, phases):
        t = k - phase / phases
        rows.append(np.sinc(t) * np.i0(KAISER * np.sqrt(np.maximum(0, 1 - (t / half_taps) ** 2))) / np.i0(KAISER))
    taps = np.array(rows)
    return np.asarray(taps / taps.sum(axis=1, keepdims=True))


@unordered
def _between_samples(x: np.ndarray, taps: np.ndarray, threshold: float) -> float:  # pragma: no cover - compiled
    """Largest magnitude between the samples of `x`, which is padded by half the taps on both sides."""
    peak = 0.0
    half = taps.shape[1] // 2
    for n in range(half - 1, len(x) - half - 1):
        if abs(x[n]) < threshold and abs(x[n + 1]) < threshold:
            continue
        for p in range(taps.shape[0]):
            total = np.float32(0.0)
            for k in range(taps.shape[1]):
                total += taps[p, k] * x[n - half + 1 + k]
            peak = max(peak, float(abs(total)))
    return peak


def true_peak_dbtp(samples: np.ndarray, rate_hz: int) -> float:
    """Largest magnitude at 4x oversampling (BS.1770-5 annex 2), dBTP, over all channels."""
    top = float(max((max(channel.max(), -channel.min()) for channel in samples if len(channel)), default=0.0))
    if top == 0.0:
        return SILENCE_DBTP
    taps = interpolator().astype(np.float32)
    with ThreadPoolExecutor(2) as pool:
        peaks = pool.map(lambda channel: _between_samples(np.pad(channel, HALF_TAPS), taps, np.float32(NEAR_PEAK * top)), samples)
        return 20 * math.log10(max(top, *peaks))


def measure_loudness(samples: np.ndarray, rate_hz: int, steps: np.ndarray | None = None) -> Loudness:
    """Everything at once. `samples` shape (channels, n), one or two channels; `steps` if step_energy was run before."""
    steps = step_energy(samples, rate_hz) if steps is None else steps
    short = _lufs(_windows(steps, 30))
    momentary = _lufs(_windows(steps, 4))
    return Loudness(
        integrated_lufs=integrated_lufs(steps),
        range_lu=loudness_range_lu(steps),
        true_peak_dbtp=true_peak_dbtp(samples, rate_hz),
        max_short_term_lufs=float(short.max()),
        max_momentary_lufs=float(momentary.max()),
        short_term_t_s=tuple(round(3.0 + i * STEP_S, 1) for i in range(len(short))),
        short_term_lufs=tuple(round(float(v), 2) for v in short),
    )

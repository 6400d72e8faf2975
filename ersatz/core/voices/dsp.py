"""Sample loops shared by the voices: a filter, envelopes. Compiled, no state outside the call.

The filter is the trapezoidal state-variable filter (Zavalishin 2012), stable under any modulation of its cutoff.
"""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def svf(x: np.ndarray, cutoff_hz: np.ndarray, q: float, rate: float, mode: int) -> np.ndarray:  # pragma: no cover
    """State-variable filter with a cutoff per sample. mode 0 low-pass, 1 band-pass (unit peak), 2 high-pass."""
    out = np.empty(len(x))
    ic1 = 0.0
    ic2 = 0.0
    k = 1.0 / q
    for i in range(len(x)):
        g = np.tan(np.pi * min(cutoff_hz[i], 0.45 * rate) / rate)
        a1 = 1.0 / (1.0 + g * (g + k))
        v3 = x[i] - ic2
        v1 = a1 * (ic1 + g * v3)
        v2 = ic2 + g * v1
        ic1 = 2.0 * v1 - ic1
        ic2 = 2.0 * v2 - ic2
        if mode == 0:
            out[i] = v2
        elif mode == 1:
            out[i] = k * v1
        else:
            out[i] = x[i] - k * v1 - v2
    return out


def fixed(cutoff_hz: float, n: int) -> np.ndarray:
    return np.full(n, float(cutoff_hz))


def lowpass(x: np.ndarray, hz: float, rate: float, q: float = 0.707) -> np.ndarray:
    return np.asarray(svf(x, fixed(hz, len(x)), q, rate, 0))


def highpass(x: np.ndarray, hz: float, rate: float, q: float = 0.707) -> np.ndarray:
    return np.asarray(svf(x, fixed(hz, len(x)), q, rate, 2))


def bandpass(x: np.ndarray, hz: float, rate: float, q: float) -> np.ndarray:
    return np.asarray(svf(x, fixed(hz, len(x)), q, rate, 1))


def falling(n: int, seconds: float, rate: float) -> np.ndarray:
    """Exponential decay with time constant `seconds`."""
    return np.exp(-np.arange(n) / (seconds * rate))


def adsr(held: int, n: int, rate: float, attack_s: float, decay_s: float, sustain: float, release_s: float) -> np.ndarray:
    """Attack, decay to sustain while held, exponential release; shape (n,). Ends at zero."""
    t = np.arange(n) / rate
    up = np.minimum(1.0, t / max(attack_s, 1e-4))
    body = np.where(t < attack_s, up, sustain + (1 - sustain) * np.exp(-(t - attack_s) / max(decay_s, 1e-4)))
    off = min(held, n - 1)
    body[off:] = body[off] * np.exp(-(t[off:] - t[off]) / max(release_s / 3, 1e-4))
    return declick(body, rate, 0.0, 0.004)


def declick(x: np.ndarray, rate: float, attack_s: float = 0.0005, release_s: float = 0.004) -> np.ndarray:
    """Ends faded linearly, so that no hit starts or stops with a step. Works on (n,) and (2, n)."""
    n = x.shape[-1]
    a, r = min(n, int(attack_s * rate)), min(n, max(1, int(release_s * rate)))
    shape = np.ones(n)
    if a:
        shape[:a] = np.linspace(0, 1, a, endpoint=False)
    shape[n - r :] *= np.linspace(1, 0, r)
    return x * shape


def widened(mono: np.ndarray, rate: float, milliseconds: float) -> np.ndarray:
    """Mono to stereo by a short delay on one side, shape (2, n)."""
    shift = int(milliseconds / 1000 * rate)
    right = np.concatenate([np.zeros(shift), mono[: len(mono) - shift]]) if shift else mono
    return np.stack([mono, right])


def both(mono: np.ndarray) -> np.ndarray:
    """Mono on both sides, shape (2, n)."""
    return np.stack([mono, mono])

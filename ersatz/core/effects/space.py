"""Reverb and delay as impulse responses, so that a render in pieces joins without a seam.

The reverb is exponentially decaying noise, uncorrelated on both sides, its highs dying faster than its lows (Moorer 1979), after a
few early reflections. The delay is a train of echoes, each darker than the one before.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.effects import eq
from ersatz.core.song.document import Delay, Reverb

RANDOM_SEED = 20_031
#: Echoes under this level are left out.
ECHO_FLOOR = 10 ** (-54 / 20)


def reverb_response(reverb: Reverb, rate_hz: int) -> np.ndarray:
    """Impulse response, unit energy per side, shape (2, n). `decay_s` is the time to -60 dB of the middle band."""
    n = int((reverb.decay_s * 1.05 + reverb.pre_delay_ms / 1000) * rate_hz)
    rng = np.random.default_rng(RANDOM_SEED)
    t = np.arange(n) / rate_hz
    out = np.zeros((2, n))
    for low, high, factor in ((None, 900.0, 1.1), (900.0, 4500.0, 1.0), (4500.0, None, 0.62)):
        noise = rng.standard_normal((2, n))
        if low:
            noise = eq.apply(eq.low_cut(low, rate_hz), noise)
        if high:
            noise = eq.apply(eq.high_cut(high, rate_hz), noise)
        out += noise * 10 ** (-3 * t / (reverb.decay_s * factor))
    out *= np.minimum(1, t / 0.012)
    for k, (ms, pan) in enumerate(((7.3, 0.7), (11.9, 0.35), (17.1, 0.6), (23.3, 0.4), (31.7, 0.55))):
        at = int(ms / 1000 * rate_hz)
        if at < n:
            out[:, at] += np.array([pan, 1 - pan]) * 14 * 0.8**k
    shift = int(reverb.pre_delay_ms / 1000 * rate_hz)
    out = np.concatenate([np.zeros((2, shift)), out[:, : n - shift]], axis=1)
    out = eq.apply(eq.low_cut(reverb.low_cut_hz, rate_hz), out)
    out = eq.apply(eq.high_cut(reverb.high_cut_hz, rate_hz), out)
    return np.asarray(out / np.sqrt(np.square(out).sum(axis=1, keepdims=True)), np.float32)


def delay_response(delay: Delay, bpm: float, rate_hz: int) -> np.ndarray:
    """Echoes alternating between the sides, first one at full level, shape (2, n)."""
    step = 60 / bpm / 4 * delay.steps * rate_hz
    count = max(1, min(24, 1 + int(np.log(ECHO_FLOOR) / np.log(max(min(delay.feedback, 0.8), 1e-3)))))
    n = int(step * (count + 1)) + 2048
    out = np.zeros((2, n))
    pulse = np.zeros(2048)
    pulse[0] = 1.0
    for k in range(count):
        pulse = eq.apply(eq.high_cut(delay.high_cut_hz, rate_hz, 1), pulse)
        at = round(step * (k + 1))
        near, far = (0.8, 0.35) if k % 2 == 0 else (0.35, 0.8)
        out[:, at : at + 2048] += np.array([[near], [far]]) * pulse * delay.feedback**k
    return np.asarray(eq.apply(eq.low_cut(delay.low_cut_hz, rate_hz), out), np.float32)

"""Reverb and delay as impulse responses, so that a render in pieces joins without a seam.

The reverb is exponentially decaying noise, uncorrelated on both sides, its highs dying faster than its lows (Moorer 1979), after a
few early reflections. Its kinds differ in what comes first: a room's early reflections, a plate's density from the first moment, a
hall's slow build-up. The delay is a train of echoes, each darker than the one before.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Literal, cast

import numpy as np
from scipy import signal

from ersatz.core.dsp.levels import factor
from ersatz.core.effects import eq
from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.params import Choice, Param
from ersatz.core.song.document import Delay, Reverb

RANDOM_SEED = 20_031
#: Echoes under this level are left out.
ECHO_FLOOR = 10 ** (-54 / 20)
#: Early reflections: time in ms and share of the left side.
REFLECTIONS = ((7.3, 0.7), (11.9, 0.35), (17.1, 0.6), (23.3, 0.4), (31.7, 0.55))
REFLECTION_GAIN = 14.0
LOW_SPLIT_HZ, HIGH_SPLIT_HZ = 900.0, 4500.0


@dataclass(frozen=True)
class Space:
    """`build_s`: how long the late part takes to stand; `early`: gain of the reflections; `low`, `high`: decay of the lows and the
    highs against the middle."""

    build_s: float
    early: float
    low: float
    high: float


SPACES = {
    "room": Space(0.012, 1.0, 1.1, 0.62),
    "plate": Space(0.001, 0.0, 1.0, 0.85),
    "hall": Space(0.080, 0.6, 1.25, 0.5),
}


@lru_cache(maxsize=24)
def reverb_response(reverb: Reverb, rate_hz: int) -> np.ndarray:
    """Impulse response, unit energy per side, shape (2, n). `decay_s` is the time to -60 dB of the middle band."""
    space = SPACES[reverb.kind]
    n = int((reverb.decay_s * 1.05 + reverb.pre_delay_ms / 1000) * rate_hz)
    rng = np.random.default_rng(RANDOM_SEED)
    t = np.arange(n) / rate_hz
    out = np.zeros((2, n))
    for low, high, share in (
        (None, LOW_SPLIT_HZ, space.low),
        (LOW_SPLIT_HZ, HIGH_SPLIT_HZ, 1.0),
        (HIGH_SPLIT_HZ, None, space.high),
    ):
        noise = rng.standard_normal((2, n))
        if low:
            noise = eq.apply(eq.low_cut(low, rate_hz), noise)
        if high:
            noise = eq.apply(eq.high_cut(high, rate_hz), noise)
        out += noise * 10 ** (-3 * t / (reverb.decay_s * share))
    out *= np.minimum(1, t / space.build_s)
    for k, (ms, pan) in enumerate(REFLECTIONS):
        at = int(ms / 1000 * rate_hz)
        if at < n:
            out[:, at] += np.array([pan, 1 - pan]) * space.early * REFLECTION_GAIN * 0.8**k
    shift = int(reverb.pre_delay_ms / 1000 * rate_hz)
    out = np.concatenate([np.zeros((2, shift)), out[:, : n - shift]], axis=1)
    out = eq.apply(eq.low_cut(reverb.low_cut_hz, rate_hz), out)
    out = eq.apply(eq.high_cut(reverb.high_cut_hz, rate_hz), out)
    response = np.asarray(out / np.sqrt(np.square(out).sum(axis=1, keepdims=True)), np.float32)
    response.setflags(write=False)
    return response


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


def _settings_of(s: Settings) -> Reverb:
    kind = cast(Literal["room", "plate", "hall"], s.choices["kind"])
    return Reverb(kind, *(round(s.flat(k), 4) for k in ("decay_s", "pre_delay_ms", "low_cut_hz", "high_cut_hz")))


def _reverb(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """Dry and reverberant sound."""
    n = x.shape[1]
    response = reverb_response(_settings_of(s), where.rate)
    wet = signal.oaconvolve(x, response, axes=-1)[:, :n]
    return np.asarray(x + factor(s.values["level_db"]) * wet)


REVERB = EffectSpec(
    "reverb", "Reverb",
    (Param("decay_s", "s", 0.1, 20, 1.2, "Decay", "log"), Param("pre_delay_ms", "ms", 0, 250, 10, "Pre-delay"),
     Param("low_cut_hz", "Hz", 20, 2000, 250, "Low cut", "log"), Param("high_cut_hz", "Hz", 500, 20_000, 8000, "High cut", "log"),
     Param("level_db", "dB", -40, 6, -12, "Level", moves="")),
    _reverb, (Choice("kind", tuple(SPACES), "room", "Kind"),),
    lambda s, bpm: s.flat("decay_s") * 1.05 + s.flat("pre_delay_ms") / 1000,
)  # fmt: skip

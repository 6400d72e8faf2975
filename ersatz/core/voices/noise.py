"""Noise effects: riser and impact. A riser lasts as long as it is held."""

from __future__ import annotations

import numpy as np

from ersatz.core.voices import dsp
from ersatz.core.voices.spec import Param, VoiceSpec


def _riser(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Noise through a rising band-pass with growing tremolo; independent sides, so it widens as it climbs."""
    n = max(held, int(0.2 * rate))
    u = np.linspace(0, 1, n)
    cutoff = p["from_hz"] * (p["to_hz"] / p["from_hz"]) ** u
    level = (0.05 + 0.95 * u ** p["curve"]) * velocity
    centre = dsp.svf(rng.standard_normal(n), cutoff, 1.2, rate, 1)
    sides = np.stack([dsp.svf(rng.standard_normal(n), cutoff, 1.2, rate, 1) for _ in range(2)])
    out = (centre * (1 - 0.6 * u) + sides * (0.2 + 0.8 * u)) * level
    return dsp.declick(out, rate, 0.05, 0.01) * 0.8


def _impact(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """A falling low thud under a wide crash of noise."""
    n = int((p["decay_ms"] / 1000 * 4) * rate)
    t = np.arange(n) / rate
    thud = np.sin(2 * np.pi * np.cumsum(38 + 70 * np.exp(-t / 0.07)) / rate) * dsp.falling(n, 0.3, rate) * p["thud"]
    crash = np.stack([dsp.highpass(rng.standard_normal(n), 900, rate) for _ in range(2)])
    crash *= dsp.falling(n, p["decay_ms"] / 1000, rate) * 0.4
    return dsp.declick(thud + crash, rate, 0.0005, 0.1) * velocity


SPECS = (
    VoiceSpec("riser", "Riser", False, (
        Param("from_hz", "Hz", 60, 2000, 350), Param("to_hz", "Hz", 1000, 16_000, 9000),
        Param("curve", "", 0.5, 4, 1.7)), _riser),
    VoiceSpec("impact", "Impact", False, (
        Param("decay_ms", "ms", 100, 2000, 550), Param("thud", "", 0, 1, 0.7)), _impact),
)  # fmt: skip

"""Noise effects: riser, falling sweep, impact. Sweeps last as long as they are held."""

from __future__ import annotations

import numpy as np

from ersatz.core.dsp import filters
from ersatz.core.params import Param
from ersatz.core.voices import shapes
from ersatz.core.voices.spec import Patch, Played, VoiceSpec

SHORTEST_SWEEP_S = 0.2
SWEEP_Q = 1.2


def _sweep(p: Patch, note: Played, rng: np.random.Generator, along: np.ndarray, level: np.ndarray) -> np.ndarray:
    """Noise through a band-pass that goes from one place to the other; wider the nearer `along` is to 1."""
    n = len(along)
    cutoff = p["from_hz"] * (p["to_hz"] / p["from_hz"]) ** along
    q = np.array([SWEEP_Q])
    centre = filters.svf(rng.standard_normal(n), cutoff, q, note.rate, filters.BAND)
    sides = np.stack([filters.svf(rng.standard_normal(n), cutoff, q, note.rate, filters.BAND) for _ in range(2)])
    return (centre * (1 - 0.6 * along) + sides * (0.2 + 0.8 * along)) * level * note.velocity * 0.8


def _held(note: Played) -> int:
    return max(note.held, int(SHORTEST_SWEEP_S * note.rate))


def _riser(p: Patch, note: Played, rng: np.random.Generator) -> np.ndarray:
    """Climbs and swells towards its end."""
    along = np.linspace(0, 1, _held(note))
    return shapes.declick(_sweep(p, note, rng, along, 0.05 + 0.95 * along ** p["curve"]), note.rate, 0.05, 0.01)


def _fall(p: Patch, note: Played, rng: np.random.Generator) -> np.ndarray:
    """Starts full and wide, sinks and dies away."""
    along = np.linspace(1, 0, _held(note))
    return shapes.declick(_sweep(p, note, rng, along, along ** p["curve"]), note.rate, 0.002, 0.05)


def _impact_s(p: Patch) -> float:
    return p["decay_ms"] / 1000 * 4


def _impact(p: Patch, note: Played, rng: np.random.Generator) -> np.ndarray:
    """A falling low thud under a wide crash of noise."""
    rate = note.rate
    n = int(_impact_s(p) * rate)
    t = np.arange(n) / rate
    thud = np.sin(2 * np.pi * np.cumsum(38 + 70 * np.exp(-t / 0.07)) / rate) * shapes.falling(n, 0.3, rate) * p["thud"]
    crash = np.stack([filters.highpass(rng.standard_normal(n), p["crash_hz"], rate) for _ in range(2)])
    crash *= shapes.falling(n, p["decay_ms"] / 1000, rate) * 0.4
    return shapes.declick(thud + crash, rate, 0.0005, 0.1) * note.velocity


_SWEEP_PARAMS = (
    Param("from_hz", "Hz", 60, 2000, 350, "Low end", "log"),
    Param("to_hz", "Hz", 1000, 16_000, 9000, "High end", "log"),
    Param("curve", "", 0.5, 4, 1.7, "Curve"),
)

SPECS = (
    VoiceSpec("riser", "Riser", False, _SWEEP_PARAMS, _riser, lambda p: SHORTEST_SWEEP_S, held=True),
    VoiceSpec("fall", "Downlifter", False, _SWEEP_PARAMS, _fall, lambda p: SHORTEST_SWEEP_S, held=True),
    VoiceSpec("impact", "Impact", False, (
        Param("decay_ms", "ms", 100, 2000, 550, "Decay", "log"), Param("thud", "", 0, 1, 0.7, "Thud"),
        Param("crash_hz", "Hz", 200, 6000, 900, "Crash from", "log")), _impact, _impact_s),
)  # fmt: skip

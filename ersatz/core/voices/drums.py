"""Drum voices: kick, clap, snare, hats, shaker, rim. Unpitched unless said; all start at full level without delay."""

from __future__ import annotations

import numpy as np

from ersatz.core.voices import dsp
from ersatz.core.voices import oscillators as osc
from ersatz.core.voices.spec import Param, VoiceSpec


def _kick(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Sine whose pitch falls exponentially to the fundamental, decay, drive, and a click of filtered noise."""
    n = int((p["decay_ms"] * 1.5 + 30) / 1000 * rate)
    t = np.arange(n) / rate
    pitch = p["fundamental_hz"] * (1 + p["fall_octaves"] * 2 * np.exp(-t / (p["fall_ms"] / 1000)))
    body = np.sin(2 * np.pi * np.cumsum(pitch) / rate)
    # decay_ms is the time to -20 dB, as the survey's portrait measures it.
    body *= np.exp(-t * 2.303 / (p["decay_ms"] / 1000))
    drive = 1 + 4 * p["drive"]
    body = np.tanh(drive * body) / np.tanh(drive)
    click = dsp.bandpass(rng.standard_normal(n), 3200, rate, 0.8) * dsp.falling(n, 0.0022, rate)
    knock = dsp.bandpass(rng.standard_normal(n), 420, rate, 1.2) * dsp.falling(n, 0.008, rate)
    out = body + p["click"] * (1.2 * click + 0.5 * knock) * (0.6 + 0.4 * velocity)
    return dsp.both(dsp.declick(out, rate, 0.0003, 0.02) * 0.9)


def _clap(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Four short bursts of band-passed noise and a tail, different on both sides."""
    n = int((p["tail_ms"] * 4 + 80) / 1000 * rate)
    sides = []
    for side in range(2):
        noise = rng.standard_normal(n)
        envelope = np.zeros(n)
        for k in range(4):
            start = int((k * p["spread_ms"] + side * 0.4 * k) / 1000 * rate)
            envelope[start:] = np.maximum(envelope[start:], dsp.falling(n - start, 0.0045, rate))
        last = int(3 * p["spread_ms"] / 1000 * rate)
        envelope[last:] = np.maximum(envelope[last:], 0.75 * dsp.falling(n - last, p["tail_ms"] / 1000, rate))
        tone = dsp.bandpass(noise, p["tone_hz"], rate, 0.9) + 0.35 * dsp.bandpass(noise, p["tone_hz"] * 3.1, rate, 0.8)
        sides.append(tone * envelope)
    middle = (sides[0] + sides[1]) * 0.5
    out = np.stack([0.75 * middle + 0.5 * sides[0], 0.75 * middle + 0.5 * sides[1]])
    return dsp.declick(out, rate) * 1.6 * velocity


def _snare(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Two body tones with a short pitch fall and a noise rattle."""
    n = int((p["tail_ms"] * 4 + 60) / 1000 * rate)
    t = np.arange(n) / rate
    fall = 1 + 0.5 * np.exp(-t / 0.008)
    body = sum(
        g * np.sin(2 * np.pi * np.cumsum(p["tone_hz"] * r * fall) / rate) * dsp.falling(n, s, rate)
        for r, g, s in ((1.0, 0.8, 0.05), (1.72, 0.45, 0.035))
    )
    rattle = dsp.highpass(rng.standard_normal(n), 1400, rate) * dsp.falling(n, p["tail_ms"] / 1000, rate) * 0.55
    wide = dsp.highpass(rng.standard_normal(n), 3500, rate) * dsp.falling(n, p["tail_ms"] / 1000, rate) * 0.18
    out = np.stack([body + rattle + wide, body + rattle - wide])
    return dsp.declick(out, rate) * velocity


def _hat(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Six inharmonic pulses and noise through a high-pass; longer decay opens it."""
    n = int((p["decay_ms"] * 5 + 15) / 1000 * rate)
    metal = sum(osc.pulse(np.full(n, f / rate), 0.5, rng.random()) for f in (2867.0, 3493.0, 4211.0, 5623.0, 6389.0, 8117.0)) / 6
    noise = rng.standard_normal(n)
    air = rng.standard_normal(n) * 0.35
    shape = dsp.falling(n, p["decay_ms"] / 1000, rate)
    # A struck cymbal starts brighter than it ends.
    cutoff = p["tone_hz"] * (0.8 + 0.4 * velocity)
    left = dsp.highpass((1 - p["noise"]) * metal + p["noise"] * (noise + air), cutoff, rate, 0.9)
    right = dsp.highpass((1 - p["noise"]) * metal + p["noise"] * (noise - air), cutoff, rate, 0.9)
    return dsp.declick(np.stack([left, right]) * shape, rate, 0.0003) * velocity


def _shaker(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Grains that gather and fall back: the attack grows with gentleness."""
    n = int(0.11 * rate)
    rise = p["attack_ms"] / 1000
    t = np.arange(n) / rate
    shape = np.minimum(1, t / rise) * np.exp(-np.maximum(0, t - rise) / (p["decay_ms"] / 1000))
    noise = dsp.bandpass(rng.standard_normal(n), p["tone_hz"], rate, 1.1)
    return dsp.declick(dsp.widened(noise * shape, rate, 0.7), rate) * velocity * 1.4


def _rim(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Short ring of two partials: rim, wood or a small tom by its tone."""
    n = int((p["decay_ms"] * 6 + 10) / 1000 * rate)
    t = np.arange(n) / rate
    bend = 1 + 0.25 * np.exp(-t / 0.006)
    tone = np.sin(2 * np.pi * np.cumsum(p["tone_hz"] * bend) / rate) + 0.5 * np.sin(
        2 * np.pi * np.cumsum(p["tone_hz"] * 2.71 * bend) / rate
    )
    stick = dsp.bandpass(rng.standard_normal(n), 4200, rate, 0.9) * dsp.falling(n, 0.0015, rate)
    out = tone * dsp.falling(n, p["decay_ms"] / 1000, rate) * 0.6 + 0.7 * stick
    return dsp.both(dsp.declick(out, rate, 0.0003)) * velocity


SPECS = (
    VoiceSpec("kick", "Kick", False, (
        Param("fundamental_hz", "Hz", 30, 110, 50), Param("fall_octaves", "oct", 0, 4, 1.6),
        Param("fall_ms", "ms", 4, 80, 16), Param("decay_ms", "ms", 60, 900, 260), Param("click", "", 0, 1, 0.45),
        Param("drive", "", 0, 1, 0.25)), _kick),
    VoiceSpec("clap", "Clap", False, (
        Param("tone_hz", "Hz", 500, 4000, 1250), Param("spread_ms", "ms", 4, 18, 9.5),
        Param("tail_ms", "ms", 20, 300, 75)), _clap),
    VoiceSpec("snare", "Snare", False, (
        Param("tone_hz", "Hz", 120, 350, 188), Param("tail_ms", "ms", 20, 300, 85)), _snare),
    VoiceSpec("hat", "Hat", False, (
        Param("tone_hz", "Hz", 3000, 12_000, 7200), Param("decay_ms", "ms", 8, 400, 28),
        Param("noise", "", 0, 1, 0.55)), _hat),
    VoiceSpec("shaker", "Shaker", False, (
        Param("tone_hz", "Hz", 2500, 12_000, 6800), Param("attack_ms", "ms", 2, 40, 14),
        Param("decay_ms", "ms", 8, 120, 26)), _shaker),
    VoiceSpec("rim", "Rim or small tom", False, (
        Param("tone_hz", "Hz", 120, 2500, 820), Param("decay_ms", "ms", 5, 120, 22)), _rim),
)  # fmt: skip

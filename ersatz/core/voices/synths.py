"""Pitched voices: bass, saw stack for chords and pads, pluck, vowel lead."""

from __future__ import annotations

import numpy as np

from ersatz.core.pitch import midi_hz
from ersatz.core.voices import dsp
from ersatz.core.voices import oscillators as osc
from ersatz.core.voices.spec import Param, VoiceSpec

VOWELS_HZ = ((730, 1090, 2440), (570, 840, 2410), (530, 1840, 2480), (270, 2290, 3010))


def _bass(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Saw and pulse through a low-pass with a falling envelope, a sine an octave-free sub under it, drive. Mono."""
    n = held + int(0.06 * rate)
    hz = midi_hz(midi)
    steady = np.full(n, hz / rate)
    saw = osc.unison(osc.saw_tables(), steady, np.array([-1, 1]) * p["detune_cents"], np.array([0.0, 0.37]), np.zeros(2))[0]
    square = osc.pulse(steady, 0.5)
    raw = (1 - p["square"]) * saw + p["square"] * 0.7 * square
    t = np.arange(n) / rate
    open_octaves = p["envelope_octaves"] * (0.4 + 0.6 * velocity) * np.exp(-t / (p["envelope_ms"] / 1000))
    cutoff = np.minimum(p["cutoff_hz"] * 2**open_octaves, 0.4 * rate)
    top = dsp.svf(raw, cutoff, p["resonance"], rate, 0)
    sub = np.sin(2 * np.pi * hz * t)
    mix = p["sub"] * sub + (1 - 0.5 * p["sub"]) * top
    drive = 1 + 3 * p["drive"]
    mix = np.tanh(drive * 0.8 * mix) / np.tanh(drive)
    return dsp.both(mix * dsp.adsr(held, n, rate, 0.003, 0.4, p["sustain"], 0.05)) * (0.55 + 0.45 * velocity) * 0.8


def _stack(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Seven detuned saws across the width, low-pass with envelope: pads when slow, stabs when fast. Mono below 200 Hz."""
    n = held + int((p["release_ms"] / 1000 + 0.02) * rate)
    hz = midi_hz(midi)
    spread = np.array([-1.0, -0.62, -0.28, 0.0, 0.3, 0.65, 1.0])
    order = np.array([0.9, -0.7, 0.5, 0.0, -0.5, 0.7, -0.9]) * p["width"]
    out = osc.unison(osc.saw_tables(), np.full(n, hz / rate), spread * p["detune_cents"], rng.random(7), order)
    t = np.arange(n) / rate
    cutoff = p["cutoff_hz"] * 2 ** (p["envelope_octaves"] * (0.5 + 0.5 * velocity) * np.exp(-t / (p["envelope_ms"] / 1000)))
    cutoff = np.minimum(cutoff * 2 ** ((midi - 60) / 12 * 0.4), 0.42 * rate)
    out = np.stack([dsp.svf(side, cutoff, p["resonance"], rate, 0) for side in out])
    side = dsp.highpass((out[0] - out[1]) / 2, 200, rate)
    mid = (out[0] + out[1]) / 2
    shape = dsp.adsr(held, n, rate, p["attack_ms"] / 1000, 0.5, p["sustain"], p["release_ms"] / 1000)
    return np.stack([mid + side, mid - side]) * shape * (0.5 + 0.5 * velocity) * 0.6


def _pluck(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Three saws and a pulse with a fast filter fall, widened by a micro delay on the wet side."""
    n = held + int((p["release_ms"] / 1000 + 0.02) * rate)
    hz = midi_hz(midi)
    steady = np.full(n, hz / rate)
    stack = osc.unison(osc.saw_tables(), steady, np.array([-1, 0, 1]) * p["detune_cents"], rng.random(3), np.zeros(3))[0]
    raw = stack + 0.5 * osc.pulse(2 * steady, 0.3, 0.1)
    t = np.arange(n) / rate
    cutoff = p["cutoff_hz"] * 2 ** (p["envelope_octaves"] * velocity * np.exp(-t / (p["envelope_ms"] / 1000)))
    tone = dsp.svf(raw, np.minimum(cutoff, 0.42 * rate), p["resonance"], rate, 0)
    shape = dsp.adsr(held, n, rate, 0.002, p["decay_ms"] / 1000, p["sustain"], p["release_ms"] / 1000)
    mono = tone * shape * (0.4 + 0.6 * velocity)
    wide = dsp.widened(mono, rate, 11.0)
    return dsp.declick(0.7 * dsp.both(mono) + 0.35 * p["width"] * (wide - 0.5 * dsp.both(mono)), rate, 0.0) * 0.8


def _voice(p: dict[str, float], midi: int, held: int, velocity: float, rate: int, rng: np.random.Generator) -> np.ndarray:
    """A pulse train through three moving formants with vibrato: a wordless voice."""
    n = held + int(0.09 * rate)
    t = np.arange(n) / rate
    hz = midi_hz(midi)
    wobble = 1 + 0.005 * np.sin(2 * np.pi * 5.2 * t) * np.minimum(1, t * 3)
    phase = np.cumsum(hz * wobble) / rate % 1.0
    # A raised-cosine pulse: its spectrum falls fast enough that nothing aliases audibly.
    source = np.where(phase < 0.4, 0.5 - 0.5 * np.cos(2 * np.pi * phase / 0.4), 0.0) - 0.2
    source = source + 0.04 * rng.standard_normal(n)
    source = np.diff(source, prepend=source[0]) * 6 + 0.3 * source
    first = int(p["vowel"]) % len(VOWELS_HZ)
    second = (first + 1) % len(VOWELS_HZ)
    glide = np.clip(t / max(held / rate, 0.05), 0, 1) * p["glide"]
    out = np.zeros(n)
    for a, b, gain in zip(VOWELS_HZ[first], VOWELS_HZ[second], (1.0, 0.7, 0.4)):
        out += gain * dsp.svf(source, a + (b - a) * glide, 7.0, rate, 1)
    shape = dsp.adsr(held, n, rate, 0.015, 0.3, 0.75, 0.08)
    return dsp.declick(dsp.widened(out * shape, rate, 9.0), rate) * velocity * 1.5


SPECS = (
    VoiceSpec("bass", "Bass", True, (
        Param("detune_cents", "cents", 0, 40, 5), Param("square", "", 0, 1, 0.35),
        Param("cutoff_hz", "Hz", 60, 8000, 320), Param("resonance", "Q", 0.5, 12, 1.1),
        Param("envelope_octaves", "oct", 0, 5, 2.4), Param("envelope_ms", "ms", 20, 900, 130),
        Param("sub", "", 0, 1, 0.6), Param("drive", "", 0, 1, 0.3), Param("sustain", "", 0, 1, 0.75)), _bass),
    VoiceSpec("stack", "Saw stack", True, (
        Param("detune_cents", "cents", 0, 60, 14), Param("width", "", 0, 1, 0.9),
        Param("cutoff_hz", "Hz", 200, 16_000, 2200), Param("resonance", "Q", 0.5, 8, 0.8),
        Param("envelope_octaves", "oct", 0, 5, 1.0), Param("envelope_ms", "ms", 20, 2000, 300),
        Param("attack_ms", "ms", 1, 1500, 12), Param("sustain", "", 0, 1, 0.85),
        Param("release_ms", "ms", 10, 2000, 140)), _stack),
    VoiceSpec("pluck", "Pluck", True, (
        Param("detune_cents", "cents", 0, 40, 7), Param("width", "", 0, 1, 0.7),
        Param("cutoff_hz", "Hz", 200, 12_000, 900), Param("resonance", "Q", 0.5, 8, 1.4),
        Param("envelope_octaves", "oct", 0, 5, 3.0), Param("envelope_ms", "ms", 20, 900, 110),
        Param("decay_ms", "ms", 30, 2000, 260), Param("sustain", "", 0, 1, 0.25),
        Param("release_ms", "ms", 10, 1500, 160)), _pluck),
    VoiceSpec("voice", "Wordless voice", True, (
        Param("vowel", "", 0, 3, 0), Param("glide", "", 0, 1, 0.5)), _voice),
)  # fmt: skip

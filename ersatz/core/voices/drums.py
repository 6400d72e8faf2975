"""Drum voices. Unpitched unless said: the note only counts for toms. All start at full level without delay.

Each has a function for its length in seconds beside it, from which the render's length and the mixdown's reach follow. Metal is a
set of inharmonic pulses (as in analogue cymbal circuits); claps are bursts a few ms apart; drum bodies are sines with a falling
pitch.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.dsp import filters
from ersatz.core.params import Param
from ersatz.core.voices import oscillators as osc
from ersatz.core.voices import shapes
from ersatz.core.voices.spec import Patch, Played, VoiceSpec

Generator = np.random.Generator
#: Pulse frequencies of a hat, Hz, none a small multiple of another.
METAL_HZ = (2867.0, 3493.0, 4211.0, 5623.0, 6389.0, 8117.0)
#: Time constants after which a decay is inaudible: -43 dB at 5, -52 dB at 6.
SILENT_AFTER = 6.0


def _fallen(hz: float, octaves: float, seconds: float, t: np.ndarray, rate: int) -> np.ndarray:
    """Sine whose pitch falls exponentially by `octaves` to `hz`."""
    return np.asarray(np.sin(2 * np.pi * np.cumsum(hz * (1 + (2**octaves - 1) * np.exp(-t / seconds))) / rate))


def _kick_s(p: Patch) -> float:
    return max(p["decay_ms"] * 1.5, p["tail_ms"] * 1.5 if p["tail"] > 0 else 0.0) / 1000 + 0.03


def _kick(p: Patch, note: Played, rng: Generator) -> np.ndarray:
    """Sine whose pitch falls to the fundamental, a body above it, a long tail, drive, and a click of filtered noise."""
    rate = note.rate
    n = int(_kick_s(p) * rate)
    t = np.arange(n) / rate
    pitch = p["fundamental_hz"] * (1 + p["fall_octaves"] * 2 * np.exp(-t / (p["fall_ms"] / 1000)))
    phase = 2 * np.pi * np.cumsum(pitch) / rate
    # decay_ms is the time to -20 dB, as the survey's portrait measures it.
    out = np.sin(phase) * np.exp(-t * 2.303 / (p["decay_ms"] / 1000))
    if p["body"] > 0:
        out += 0.6 * p["body"] * np.sin(2 * phase) * np.exp(-t / 0.045)
    if p["tail"] > 0:
        out += p["tail"] * np.sin(phase) * np.exp(-t * 2.303 / (p["tail_ms"] / 1000)) * (1 - np.exp(-t / 0.03))
    drive = 1 + 4 * p["drive"] + 16 * max(0.0, p["drive"] - 0.7) / 0.3
    out = np.tanh(drive * out) / np.tanh(drive)
    click = filters.bandpass(rng.standard_normal(n), 3200, rate, 0.8) * shapes.falling(n, 0.0022, rate)
    knock = filters.bandpass(rng.standard_normal(n), 420, rate, 1.2) * shapes.falling(n, 0.008, rate)
    out = out + p["click"] * (1.2 * click + 0.5 * knock) * (0.6 + 0.4 * note.velocity)
    return shapes.both(shapes.declick(out, rate, 0.0003, 0.02) * 0.9) * note.velocity


def _clap_s(p: Patch) -> float:
    return (p["tail_ms"] * 4 + 80) / 1000


def _clap(p: Patch, note: Played, rng: Generator) -> np.ndarray:
    """Short bursts of band-passed noise and a tail, different on both sides."""
    rate = note.rate
    n = int(_clap_s(p) * rate)
    bursts = int(p["bursts"])
    sides = []
    for side in range(2):
        noise = rng.standard_normal(n)
        envelope = np.zeros(n)
        for k in range(bursts):
            start = int((k * p["spread_ms"] + side * 0.4 * k) / 1000 * rate)
            envelope[start:] = np.maximum(envelope[start:], shapes.falling(n - start, 0.0045, rate))
        last = int((bursts - 1) * p["spread_ms"] / 1000 * rate)
        envelope[last:] = np.maximum(envelope[last:], 0.75 * shapes.falling(n - last, p["tail_ms"] / 1000, rate))
        tone = filters.bandpass(noise, p["tone_hz"], rate, 0.9) + 0.35 * filters.bandpass(noise, p["tone_hz"] * 3.1, rate, 0.8)
        sides.append(tone * envelope)
    middle = (sides[0] + sides[1]) * 0.5
    out = np.stack([0.75 * middle + 0.5 * sides[0], 0.75 * middle + 0.5 * sides[1]])
    return shapes.declick(out, rate) * 1.6 * note.velocity


def _snare_s(p: Patch) -> float:
    return (p["tail_ms"] * 4 + 60) / 1000


def _snare(p: Patch, note: Played, rng: Generator) -> np.ndarray:
    """Two body tones with a short pitch fall and a noise rattle."""
    rate = note.rate
    n = int(_snare_s(p) * rate)
    t = np.arange(n) / rate
    fall = 1 + 0.5 * np.exp(-t / 0.008)
    body = sum(
        g * np.sin(2 * np.pi * np.cumsum(p["tone_hz"] * r * fall) / rate) * shapes.falling(n, s, rate)
        for r, g, s in ((1.0, 0.8, 0.05), (1.72, 0.45, 0.035))
    )
    tail = shapes.falling(n, p["tail_ms"] / 1000, rate) * p["rattle"]
    rattle = filters.highpass(rng.standard_normal(n), p["rattle_hz"], rate) * tail * 0.55
    wide = filters.highpass(rng.standard_normal(n), p["rattle_hz"] * 2.5, rate) * tail * 0.18
    out = np.stack([body + rattle + wide, body + rattle - wide])
    return shapes.declick(out, rate) * note.velocity


def _hat_s(p: Patch) -> float:
    return (p["decay_ms"] * 5 + 15) / 1000


def _metal(n: int, rate: int, rng: Generator, scale: float = 1.0) -> np.ndarray:
    """Pulses of METAL_HZ, each from a place of its own in its cycle."""
    cents = 1200 * np.log2(np.array(METAL_HZ) / METAL_HZ[0])
    steady = np.full(n, METAL_HZ[0] * scale / rate)
    bank = osc.unison(osc.saw_tables(), steady, cents, rng.random(len(cents)), np.zeros(len(cents)), width=np.full(n, 0.5))
    # A unison has the power of one voice and is panned to the middle; a mean of the six is wanted.
    return bank[0] * np.sqrt(2 / len(cents))


def _hat(p: Patch, note: Played, rng: Generator) -> np.ndarray:
    """Inharmonic pulses and noise through a high-pass; longer decay opens it."""
    rate = note.rate
    n = int(_hat_s(p) * rate)
    metal = _metal(n, rate, rng)
    noise = rng.standard_normal(n)
    air = rng.standard_normal(n) * 0.35
    shape = shapes.falling(n, p["decay_ms"] / 1000, rate)
    # A struck cymbal starts brighter than it ends.
    cutoff = p["tone_hz"] * (0.8 + 0.4 * note.velocity)
    left = filters.highpass((1 - p["noise"]) * metal + p["noise"] * (noise + air), cutoff, rate, 0.9)
    right = filters.highpass((1 - p["noise"]) * metal + p["noise"] * (noise - air), cutoff, rate, 0.9)
    return shapes.declick(np.stack([left, right]) * shape, rate, 0.0003) * note.velocity


def _cymbal_s(p: Patch) -> float:
    return p["decay_ms"] * SILENT_AFTER / 1000


def _cymbal(p: Patch, note: Played, rng: Generator) -> np.ndarray:
    """Two dense sets of pulses that beat against each other, noise over them, the highs dying first; a stick for rides."""
    rate = note.rate
    n = int(_cymbal_s(p) * rate)
    t = np.arange(n) / rate
    decay = p["decay_ms"] / 1000
    sides = []
    for scale in (0.71, 0.73):
        metal = _metal(n, rate, rng, scale) + 0.8 * _metal(n, rate, rng, scale * 1.47)
        mixed = (1 - p["noise"]) * 1.6 * metal + p["noise"] * rng.standard_normal(n)
        low = filters.bandpass(mixed, p["tone_hz"], rate, 0.6) * np.exp(-t / decay)
        high = filters.highpass(mixed, p["tone_hz"] * 1.8, rate) * np.exp(-t / (0.45 * decay))
        sides.append(low + 0.7 * high)
    stick = filters.bandpass(rng.standard_normal(n), 5200, rate, 0.9) * shapes.falling(n, 0.003, rate) * p["stick"]
    out = np.stack(sides) * (1 - np.exp(-t / 0.0015)) + 0.8 * stick
    return shapes.declick(out, rate, 0.0003, 0.05) * note.velocity


def _shaker_s(p: Patch) -> float:
    return max(0.11, (p["attack_ms"] + SILENT_AFTER * p["decay_ms"]) / 1000)


def _shaker(p: Patch, note: Played, rng: Generator) -> np.ndarray:
    """Grains that gather and fall back: the attack grows with gentleness."""
    rate = note.rate
    n = int(_shaker_s(p) * rate)
    rise = p["attack_ms"] / 1000
    t = np.arange(n) / rate
    shape = np.minimum(1, t / rise) * np.exp(-np.maximum(0, t - rise) / (p["decay_ms"] / 1000))
    noise = filters.bandpass(rng.standard_normal(n), p["tone_hz"], rate, 1.1)
    return shapes.declick(shapes.widened(noise * shape, rate, 0.7), rate) * note.velocity * 1.4


def _rim_s(p: Patch) -> float:
    return (p["decay_ms"] * SILENT_AFTER + 10) / 1000


def _rim(p: Patch, note: Played, rng: Generator) -> np.ndarray:
    """Short ring of two partials under a stick: rim, wood, block or bell by its tone and the ratio of the two."""
    rate = note.rate
    n = int(_rim_s(p) * rate)
    t = np.arange(n) / rate
    bend = 1 + 0.25 * np.exp(-t / 0.006)
    tone = np.sin(2 * np.pi * np.cumsum(p["tone_hz"] * bend) / rate) + 0.5 * np.sin(
        2 * np.pi * np.cumsum(p["tone_hz"] * p["ratio"] * bend) / rate
    )
    stick = filters.bandpass(rng.standard_normal(n), 4200, rate, 0.9) * shapes.falling(n, 0.0015, rate)
    out = tone * shapes.falling(n, p["decay_ms"] / 1000, rate) * 0.6 + 0.7 * stick
    return shapes.both(shapes.declick(out, rate, 0.0003)) * note.velocity


def _tom_s(p: Patch) -> float:
    return (p["decay_ms"] * SILENT_AFTER + 20) / 1000


def _tom(p: Patch, note: Played, rng: Generator) -> np.ndarray:
    """Skin: a fundamental and the next two modes of a round membrane, falling in pitch, with a breath of noise."""
    rate = note.rate
    n = int(_tom_s(p) * rate)
    t = np.arange(n) / rate
    hz = p["tone_hz"] * 2 ** ((note.midi - 60) / 12)
    decay = p["decay_ms"] / 1000
    # Mode ratios of the ideal membrane (Fletcher & Rossing 1998, section 3.2).
    out = sum(
        g * _fallen(hz * r, p["fall_octaves"], 0.03, t, rate) * np.exp(-t / (decay * s))
        for r, g, s in ((1.0, 1.0, 1.0), (1.593, 0.35, 0.5), (2.136, 0.2, 0.35))
    )
    breath = filters.bandpass(rng.standard_normal(n), 1800, rate, 0.7) * shapes.falling(n, 0.02, rate) * p["noise"]
    return shapes.both(shapes.declick(0.8 * out + breath, rate, 0.0003)) * note.velocity


def _noise_hit_s(p: Patch) -> float:
    return (p["decay_ms"] * SILENT_AFTER + 10) / 1000


def _noise_hit(p: Patch, note: Played, rng: Generator) -> np.ndarray:
    """A burst of noise through a band-pass that sweeps from one place to another."""
    rate = note.rate
    n = int(_noise_hit_s(p) * rate)
    t = np.arange(n) / rate
    sweep = p["to_hz"] * (p["from_hz"] / p["to_hz"]) ** np.exp(-t / (p["decay_ms"] / 1000))
    q = np.array([p["q"]])
    sides = [filters.svf(rng.standard_normal(n), sweep, q, rate, filters.BAND) for _ in range(2)]
    middle = filters.svf(rng.standard_normal(n), sweep, q, rate, filters.BAND)
    out = np.stack([(1 - p["width"]) * middle + p["width"] * side for side in sides])
    return shapes.declick(out * shapes.falling(n, p["decay_ms"] / 1000, rate) * np.sqrt(p["q"]), rate, 0.0003) * note.velocity


SPECS = (
    VoiceSpec("kick", "Kick", False, (
        Param("fundamental_hz", "Hz", 30, 110, 50, "Fundamental", "log"), Param("fall_octaves", "oct", 0, 4, 1.6, "Pitch fall"),
        Param("fall_ms", "ms", 4, 80, 16, "Fall time", "log"), Param("decay_ms", "ms", 60, 900, 260, "Decay", "log"),
        Param("click", "", 0, 1, 0.45, "Click"), Param("body", "", 0, 1, 0, "Body"), Param("tail", "", 0, 1, 0, "Tail"),
        Param("tail_ms", "ms", 100, 2500, 600, "Tail decay", "log"), Param("drive", "", 0, 1, 0.25, "Drive")), _kick, _kick_s),
    VoiceSpec("clap", "Clap", False, (
        Param("tone_hz", "Hz", 500, 4000, 1250, "Tone", "log"), Param("bursts", "", 1, 6, 4, "Bursts", step=1),
        Param("spread_ms", "ms", 4, 18, 9.5, "Spread"), Param("tail_ms", "ms", 20, 300, 75, "Tail", "log")), _clap, _clap_s),
    VoiceSpec("snare", "Snare", False, (
        Param("tone_hz", "Hz", 120, 350, 188, "Tone", "log"), Param("tail_ms", "ms", 20, 300, 85, "Tail", "log"),
        Param("rattle", "", 0, 2, 1, "Rattle"), Param("rattle_hz", "Hz", 400, 5000, 1400, "Rattle from", "log")), _snare, _snare_s),
    VoiceSpec("hat", "Hat", False, (
        Param("tone_hz", "Hz", 3000, 12_000, 7200, "Tone", "log"), Param("decay_ms", "ms", 8, 400, 28, "Decay", "log"),
        Param("noise", "", 0, 1, 0.55, "Noise or metal")), _hat, _hat_s),
    VoiceSpec("cymbal", "Crash or ride", False, (
        Param("tone_hz", "Hz", 1500, 8000, 3600, "Tone", "log"), Param("decay_ms", "ms", 100, 2500, 700, "Decay", "log"),
        Param("noise", "", 0, 1, 0.4, "Noise or metal"), Param("stick", "", 0, 1, 0.2, "Stick")), _cymbal, _cymbal_s),
    VoiceSpec("shaker", "Shaker", False, (
        Param("tone_hz", "Hz", 2500, 12_000, 6800, "Tone", "log"), Param("attack_ms", "ms", 2, 40, 14, "Attack", "log"),
        Param("decay_ms", "ms", 8, 120, 26, "Decay", "log")), _shaker, _shaker_s),
    VoiceSpec("rim", "Rim, wood or bell", False, (
        Param("tone_hz", "Hz", 120, 2500, 820, "Tone", "log"), Param("ratio", "", 1.1, 5, 2.71, "Second partial"),
        Param("decay_ms", "ms", 5, 400, 22, "Decay", "log")), _rim, _rim_s),
    VoiceSpec("tom", "Tom", True, (
        Param("tone_hz", "Hz", 50, 400, 110, "Tone at middle C", "log"), Param("fall_octaves", "oct", 0, 2, 0.5, "Pitch fall"),
        Param("decay_ms", "ms", 30, 600, 130, "Decay", "log"), Param("noise", "", 0, 1, 0.25, "Noise")), _tom, _tom_s),
    VoiceSpec("noise-hit", "Noise percussion", False, (
        Param("from_hz", "Hz", 100, 16_000, 6000, "From", "log"), Param("to_hz", "Hz", 100, 16_000, 1800, "To", "log"),
        Param("q", "Q", 0.5, 12, 2, "Narrowness", "log"), Param("decay_ms", "ms", 5, 500, 45, "Decay", "log"),
        Param("width", "", 0, 1, 0.4, "Width")), _noise_hit, _noise_hit_s),
)  # fmt: skip

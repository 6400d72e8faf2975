"""Sounds of the generated test tracks: none of them is made the way Ersatz or the demo references make theirs.

Single notes and hits, mono, shape (samples,), at demo.synth.RATE_HZ, peak near 1.
"""

from __future__ import annotations

import numpy as np
from scipy import signal

from demo.synth import RATE_HZ, band, decay, fade, harmonics, hz


def seconds(n: int) -> np.ndarray:
    return np.arange(n) / RATE_HZ


def kick(rng: np.random.Generator, fundamental_hz: float, drive: float) -> np.ndarray:
    """A pitch that falls as 1/t, so no exponential fits it exactly, under a short band of noise."""
    long_s = float(rng.uniform(0.16, 0.34))
    n = int((long_s + 0.06) * RATE_HZ)
    t = seconds(n)
    pitch = fundamental_hz * (1 + rng.uniform(2.5, 6.0) / (1 + t / 0.004) ** 1.6)
    body = np.sin(2 * np.pi * np.cumsum(pitch) / RATE_HZ) * np.clip(1 - t / long_s, 0, 1) ** rng.uniform(0.6, 1.4)
    click = band(rng.standard_normal(n), 1500, 8000) * decay(n, 0.002) * rng.uniform(0.1, 0.5)
    body = np.tanh(drive * body) / np.tanh(drive)
    return fade(0.9 * body + click, 0.0003, 0.01)


def clap(rng: np.random.Generator) -> np.ndarray:
    n = int(0.3 * RATE_HZ)
    out = np.zeros(n)
    gap = rng.uniform(0.007, 0.012)
    for k in range(int(rng.integers(2, 5))):
        i = int(k * gap * RATE_HZ)
        out[i:] += rng.standard_normal(n - i) * decay(n - i, 0.005 if k < 2 else rng.uniform(0.03, 0.07))
    middle = rng.uniform(900, 1500)
    return _peak(fade(band(out, middle * 0.7, middle * 5), 0.0002, 0.02))


def snare(rng: np.random.Generator) -> np.ndarray:
    n = int(0.28 * RATE_HZ)
    t = seconds(n)
    low = rng.uniform(170, 230)
    shell = np.sin(2 * np.pi * np.cumsum(low * (1 + 0.5 * np.exp(-t / 0.01))) / RATE_HZ) * decay(n, 0.05)
    wires = band(rng.standard_normal(n), 1400, 12_000) * decay(n, rng.uniform(0.04, 0.09))
    return _peak(fade(0.6 * shell + 0.7 * wires, 0.0002, 0.02))


def hat(rng: np.random.Generator, open_s: float) -> np.ndarray:
    n = int((open_s * 5 + 0.01) * RATE_HZ)
    return _peak(fade(band(rng.standard_normal(n), rng.uniform(6000, 8500), 15_000, 4) * decay(n, open_s), 0.0002, 0.004))


def shaker(rng: np.random.Generator) -> np.ndarray:
    n = int(0.07 * RATE_HZ)
    return _peak(band(rng.standard_normal(n), 4000, 10_000) * np.hanning(n))


def rim(rng: np.random.Generator) -> np.ndarray:
    n = int(0.06 * RATE_HZ)
    t = seconds(n)
    a, b = rng.uniform(700, 1000), rng.uniform(1600, 2100)
    return _peak((np.sin(2 * np.pi * a * t) + 0.7 * np.sin(2 * np.pi * b * t)) * decay(n, 0.012))


def conga(rng: np.random.Generator, midi: float) -> np.ndarray:
    n = int(0.2 * RATE_HZ)
    t = seconds(n)
    return _peak(np.sin(2 * np.pi * np.cumsum(hz(midi) * (1 + 0.12 * np.exp(-t / 0.02))) / RATE_HZ) * decay(n, 0.06))


def bass(kind: str, midi: float, long_s: float) -> np.ndarray:
    n = int((long_s + 0.02) * RATE_HZ)
    t = seconds(n)
    f = hz(midi)
    if kind == "sub":
        out = np.sin(2 * np.pi * f * t) + 0.12 * np.sin(4 * np.pi * f * t)
    elif kind == "fm":
        out = np.sin(2 * np.pi * f * t + 2.2 * np.exp(-t / 0.12) * np.sin(2 * np.pi * f * 2 * t))
    elif kind == "reese":
        pair = harmonics(f * 1.004, n, lambda k: 1 / k, 2500) + harmonics(f * 0.996, n, lambda k: 1 / k, 2500, 0.3)
        out = band(pair, None, 900)
    elif kind == "square":
        out = band(harmonics(f, n, lambda k: (k % 2) / k, 3000), None, 1200)
    elif kind == "acid":
        dull, bright = harmonics(f, n, lambda k: 1 / k, 500), harmonics(f, n, lambda k: np.exp(-((np.log(k * f / 900)) ** 2)), 5000)
        out = dull + 0.8 * bright * np.exp(-t / 0.09)
    else:
        out = harmonics(f, n, lambda k: 1 / k**1.4, 4000) * (0.4 + 0.6 * np.exp(-t / 0.15))
    return fade(_peak(out), 0.002, 0.012)


def slid(note: np.ndarray, semitones: float, slide_s: float) -> np.ndarray:
    """The note, arriving at its pitch from `semitones` above it along a straight line in octaves."""
    n = len(note)
    left = np.clip(1 - seconds(n) / slide_s, 0, 1)
    place = np.cumsum(2 ** (semitones * left / 12)) - 1
    return np.asarray(np.interp(place, np.arange(n), note, right=0.0))


def ringing(x: np.ndarray, centre_hz: float, q: float, gain_db: float) -> np.ndarray:
    """A peak in the response: the signal plus its own narrow band."""
    b, a = signal.iirpeak(centre_hz, q, fs=RATE_HZ)
    return np.asarray((x + (10 ** (gain_db / 20) - 1) * signal.lfilter(b, a, x)).astype(x.dtype))


def chord_note(kind: str, midi: float, long_s: float, rng: np.random.Generator) -> np.ndarray:
    n = int((long_s + 0.08) * RATE_HZ)
    t = seconds(n)
    f = hz(midi)
    if kind == "pad":
        pair = harmonics(f * 1.003, n, lambda k: 1 / k**1.3, 5000, rng.random())
        return fade(_peak(pair + harmonics(f * 0.997, n, lambda k: 1 / k**1.3, 5000, rng.random())), min(0.25, long_s / 4), 0.08)
    if kind == "organ":
        out = sum(a * np.sin(2 * np.pi * f * k * t) for k, a in ((1, 1.0), (2, 0.6), (3, 0.35), (4, 0.3), (6, 0.15)))
        return fade(_peak(np.asarray(out)), 0.006, 0.03)
    if kind == "keys":
        out = np.sin(2 * np.pi * f * t + 1.1 * np.exp(-t / 0.25) * np.sin(2 * np.pi * f * t)) * np.exp(-t / 0.9)
        return fade(_peak(out), 0.002, 0.05)
    wide = sum(harmonics(f * 2 ** (c / 1200), n, lambda k: 1 / k, 9000, rng.random()) for c in (-17, -9, 0, 8, 18))
    return fade(_peak(np.asarray(wide)), 0.003, 0.03)


def lead(kind: str, midi: float, long_s: float, rng: np.random.Generator) -> np.ndarray:
    n = int((long_s + 0.05) * RATE_HZ)
    t = seconds(n)
    f = hz(midi)
    if kind == "pluck":
        out = harmonics(f, n, lambda k: 1 / k**1.1, 8000) * np.exp(-t / 0.12)
    elif kind == "square":
        out = harmonics(f, n, lambda k: (k % 2) / k, 7000)
    elif kind == "chop":
        glottal = harmonics(f, n, lambda k: 1 / k, 6000)
        a, b = rng.uniform(500, 800), rng.uniform(1000, 1900)
        out = _resonance(glottal, a) + 0.6 * _resonance(glottal, b)
    else:
        return chord_note("stack", midi, long_s, rng)
    return fade(_peak(out), 0.004, 0.03)


def _resonance(x: np.ndarray, centre_hz: float) -> np.ndarray:
    b, a = signal.iirpeak(centre_hz, 6, fs=RATE_HZ)
    return np.asarray(signal.lfilter(b, a, x))


def swept_noise(rng: np.random.Generator, n: int, start_hz: float, end_hz: float) -> np.ndarray:
    """Noise under a low-pass that moves evenly in octaves, in 48 crossfaded steps."""
    noise = rng.standard_normal(n)
    out = np.zeros(n)
    edges = np.linspace(0, n, 49).astype(int)
    for k, cut in enumerate(np.geomspace(start_hz, end_hz, 48)):
        a, b = max(0, edges[k] - 256), min(n, edges[k + 1] + 256)
        piece = band(noise[a:b], cut * 0.4, min(cut * 1.4, 18_000))
        ramp = np.minimum(1, np.minimum(np.arange(b - a), np.arange(b - a)[::-1]) / 512)
        out[a:b] += piece * ramp
    return _peak(out)


def impact(rng: np.random.Generator) -> np.ndarray:
    n = int(1.6 * RATE_HZ)
    t = seconds(n)
    boom = np.sin(2 * np.pi * np.cumsum(38 + 50 * np.exp(-t / 0.06)) / RATE_HZ) * decay(n, 0.3)
    crash = band(rng.standard_normal(n), 2500, 15_000) * decay(n, 0.45)
    return fade(0.5 * boom + 0.35 * crash, 0.0005, 0.1)


def _peak(x: np.ndarray) -> np.ndarray:
    return np.asarray(x / max(float(np.abs(x).max()), 1e-9))

"""A small studio of its own for the demo references. It shares no code with Ersatz, on purpose: surveying and
matching what comes out of here is then a real test.

Everything is stereo float64, shape (2, samples) for tracks and (samples,) for single hits, at RATE_HZ.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from scipy import ndimage, signal

RATE_HZ = 48_000


def hz(midi: float) -> float:
    return 440.0 * 2.0 ** ((midi - 69) / 12)


def decay(n: int, seconds: float) -> np.ndarray:
    return np.exp(-np.arange(n) / (seconds * RATE_HZ))


def fade(x: np.ndarray, attack_s: float = 0.001, release_s: float = 0.004) -> np.ndarray:
    x = x.copy()
    a, r = max(1, int(attack_s * RATE_HZ)), max(1, int(release_s * RATE_HZ))
    x[:a] *= np.linspace(0, 1, a)
    x[-r:] *= np.linspace(1, 0, r)
    return x


def band(x: np.ndarray, low_hz: float | None, high_hz: float | None, order: int = 2) -> np.ndarray:
    kind = x.dtype
    if low_hz:
        x = signal.sosfilt(signal.butter(order, low_hz, "highpass", fs=RATE_HZ, output="sos"), x)
    if high_hz:
        x = signal.sosfilt(signal.butter(order, high_hz, "lowpass", fs=RATE_HZ, output="sos"), x)
    return x.astype(kind)


def harmonics(
    freq_hz: float, n: int, level: Callable[[np.ndarray], np.ndarray], top_hz: float = 16_000, phase: float = 0.0
) -> np.ndarray:
    """Sum of sine harmonics below `top_hz`, by one inverse FFT per cycle table (no aliasing)."""
    count = max(1, int(min(top_hz, RATE_HZ * 0.45) / freq_hz))
    size = 4096
    spectrum = np.zeros(size // 2 + 1, complex)
    k = np.arange(1, min(count, size // 2 - 1) + 1)
    spectrum[1 : len(k) + 1] = -0.5j * size * level(k)
    table = np.fft.irfft(spectrum)
    position = (phase + freq_hz / RATE_HZ * np.arange(n)) % 1.0 * size
    return np.interp(position, np.arange(size + 1), np.append(table, table[0]))


def saw(freq_hz: float, n: int, top_hz: float = 16_000, phase: float = 0.0) -> np.ndarray:
    return harmonics(freq_hz, n, lambda k: 0.6 / k, top_hz, phase)


# Single hits ------------------------------------------------------------------------------------------------------


def kick(fundamental_hz: float, length_s: float, start_hz: float, rng: np.random.Generator) -> np.ndarray:
    n = int(length_s * RATE_HZ)
    t = np.arange(n) / RATE_HZ
    pitch = fundamental_hz + (start_hz - fundamental_hz) * np.exp(-t / 0.012)
    body = np.sin(2 * np.pi * np.cumsum(pitch) / RATE_HZ) * np.exp(-t / (length_s / 3.2))
    click = band(rng.standard_normal(n), 1800, 9000) * decay(n, 0.003) * 0.35
    return fade(np.tanh(1.6 * body) * 0.9 + click, 0.0004, 0.02)


def clap(rng: np.random.Generator, bursts: tuple[float, ...], tone_hz: float, tail_s: float) -> np.ndarray:
    n = int(0.35 * RATE_HZ)
    out = np.zeros(n)
    for start_s in bursts:
        i = int(start_s * RATE_HZ)
        out[i:] += rng.standard_normal(n - i) * decay(n - i, 0.006)
    last = int(bursts[-1] * RATE_HZ)
    out[last:] += rng.standard_normal(n - last) * decay(n - last, tail_s) * 0.7
    return fade(band(out, tone_hz * 0.6, tone_hz * 4), 0.0003, 0.02)


def hat(rng: np.random.Generator, length_s: float, low_hz: float = 6500) -> np.ndarray:
    n = int((length_s * 4 + 0.02) * RATE_HZ)
    t = np.arange(n) / RATE_HZ
    metal = sum(np.sign(np.sin(2 * np.pi * f * t)) for f in (3187.0, 4421.0, 5527.0, 6373.0, 7919.0))
    return fade(band(metal * 0.25 + rng.standard_normal(n), low_hz, 16_000) * decay(n, length_s), 0.0003, 0.01)


def shaker(rng: np.random.Generator) -> np.ndarray:
    n = int(0.09 * RATE_HZ)
    shape = np.interp(np.arange(n) / n, [0, 0.25, 0.5, 1], [0, 1, 0.5, 0])
    return band(rng.standard_normal(n), 4500, 11_000) * shape


def slap_bass(midi: int, length_s: float) -> np.ndarray:
    """Each harmonic dies faster than the one below it, with a click of the finger on top."""
    n = int((length_s + 0.05) * RATE_HZ)
    t = np.arange(n) / RATE_HZ
    f = hz(midi)
    out = np.zeros(n)
    for k in range(1, int(min(4000 / f, 40)) + 1):
        out += np.sin(2 * np.pi * f * k * t) / k**0.9 * np.exp(-t * (1.2 + 2.6 * k)) * (0.5 if k % 5 == 0 else 1)
    out[: int(0.004 * RATE_HZ)] *= np.linspace(0.2, 1, int(0.004 * RATE_HZ))
    return fade(np.tanh(1.2 * out), 0.002, 0.03)


def growl_bass(midi: int, length_s: float) -> np.ndarray:
    n = int((length_s + 0.03) * RATE_HZ)
    f = hz(midi)
    raw = saw(f, n, 5000) + saw(f * 1.006, n, 5000, 0.3) + 0.8 * np.sin(2 * np.pi * f * np.arange(n) / RATE_HZ)
    bright, dark = band(raw, None, 1800), band(raw, None, 350)
    mix = decay(n, 0.11)
    return fade(np.tanh(0.9 * (bright * mix + dark * (1 - mix))), 0.002, 0.02)


def strings(midi: int, n: int, rng: np.random.Generator, attack_s: float, top_hz: float = 9000) -> np.ndarray:
    """Five detuned saws spread over the width, shape (2, n)."""
    out = np.zeros((2, n))
    for i, cents in enumerate((-13, -6, 1, 7, 12)):
        voice = saw(hz(midi + cents / 100), n, top_hz, rng.random())
        pan = i / 4
        out += voice * np.array([[np.cos(pan * np.pi / 2)], [np.sin(pan * np.pi / 2)]])
    shape = np.minimum(1, np.arange(n) / (attack_s * RATE_HZ))
    out *= shape
    out[:, -int(0.03 * RATE_HZ) :] *= np.linspace(1, 0, int(0.03 * RATE_HZ))
    return out * 0.4


def voice_chop(midi: int, length_s: float, vowel: str) -> np.ndarray:
    formants = {"a": (800, 1200, 2600), "o": (450, 800, 2600), "e": (400, 2000, 2600)}[vowel]
    n = int(length_s * RATE_HZ)
    t = np.arange(n) / RATE_HZ
    wobble = 1 + 0.004 * np.sin(2 * np.pi * 5.5 * t) * np.minimum(1, t * 4)
    phase = np.cumsum(hz(midi) * wobble) / RATE_HZ
    size = 2048
    k = np.arange(1, 60)
    spectrum = np.zeros(size // 2 + 1, complex)
    spectrum[1:60] = -0.5j * size / k**0.7
    glottis = np.interp(phase % 1 * size, np.arange(size), np.fft.irfft(spectrum))
    out = sum(band(glottis, f * 0.88, f * 1.14, 2) * g for f, g in zip(formants, (1.0, 0.7, 0.35)))
    return fade(out, 0.012, 0.05)


def sweep_noise(rng: np.random.Generator, n: int, low_hz: float, high_hz: float) -> np.ndarray:
    """Noise whose band climbs from low to high, made of eight cross-faded bands."""
    noise = rng.standard_normal(n)
    edges = np.geomspace(low_hz, high_hz, 9)
    where = np.linspace(0, 8, n)
    out = np.zeros(n)
    for i in range(8):
        out += band(noise, edges[i], edges[i] * 2.2) * np.clip(1 - np.abs(where - i - 0.5) / 1.2, 0, 1)
    return out


def impact(rng: np.random.Generator) -> np.ndarray:
    n = int(2.2 * RATE_HZ)
    t = np.arange(n) / RATE_HZ
    low = np.sin(2 * np.pi * np.cumsum(34 + 60 * np.exp(-t / 0.08)) / RATE_HZ) * decay(n, 0.4)
    return fade(low * 0.8 + band(rng.standard_normal(n), 300, 12_000) * decay(n, 0.5) * 0.5, 0.0005, 0.1)


# Tracks -----------------------------------------------------------------------------------------------------------


@dataclass
class Desk:
    """Stereo tracks by name and the means to place hits on them."""

    frames: int
    tracks: dict[str, np.ndarray] = field(default_factory=dict)

    def place(self, name: str, at: int, sound: np.ndarray, gain: float = 1.0, pan: float = 0.0) -> None:
        track = self.tracks.setdefault(name, np.zeros((2, self.frames), np.float32))
        if sound.ndim == 1:
            sound = np.stack([sound * np.sqrt(0.5 - pan / 2), sound * np.sqrt(0.5 + pan / 2)])
        end = min(self.frames, at + sound.shape[1])
        if at >= 0 and end > at:
            track[:, at:end] += gain * sound[:, : end - at]


def room(track: np.ndarray, rng: np.random.Generator, seconds: float, amount: float) -> np.ndarray:
    n = int(seconds * RATE_HZ)
    tail = rng.standard_normal((2, n)) * decay(n, seconds / 5)
    tail = band(tail, 350, 7000)
    tail = (tail / np.sqrt(np.square(tail).sum(axis=1, keepdims=True))).astype(np.float32)
    wet = signal.oaconvolve(track, tail, axes=1)[:, : track.shape[1]]
    return track + amount * wet


def duck_gain(frames: int, triggers: list[tuple[int, float]], curve_s: np.ndarray, curve: np.ndarray) -> np.ndarray:
    """Gain of the ducker: `curve` (0..1, 1 = fully down) over `curve_s` after each (sample, depth in dB)."""
    db = np.zeros(frames, np.float32)
    n = int(curve_s[-1] * RATE_HZ)
    shape = np.interp(np.arange(n) / RATE_HZ, curve_s, curve)
    for at, depth_db in triggers:
        end = min(frames, at + n)
        if 0 <= at < end:
            db[at:end] = np.minimum(db[at:end], -depth_db * shape[: end - at])
    return (10 ** (db / 20)).astype(np.float32)


def loudness_lufs(mix: np.ndarray) -> float:
    """BS.1770 integrated loudness at 48 kHz, with the standard's tabled coefficients."""
    shelf = [1.53512485958697, -2.69169618940638, 1.19839281085285, 1.0, -1.69065929318241, 0.73248077421585]
    cut = [1.0, -2.0, 1.0, 1.0, -1.99004745483398, 0.99007225036621]
    weighted = signal.sosfilt(np.array([shelf, cut]), mix)
    step = RATE_HZ // 10
    usable = weighted.shape[1] // step * step
    energy = np.square(weighted[:, :usable]).reshape(2, -1, step).mean(axis=2).sum(axis=0)
    block = np.convolve(energy, np.ones(4) / 4, "valid")
    block = block[block > 10 ** ((-70 + 0.691) / 10)]
    block = block[block > block.mean() / 10]
    return float(-0.691 + 10 * np.log10(block.mean()))


def master(mix: np.ndarray, target_lufs: float, ceiling_db: float = -1.0) -> np.ndarray:
    """Soft clipping and a look-ahead limiter, driven until the loudness stands within 0.02 LU."""
    # Clipping and limiting will take about 1.5 dB of what the gain adds.
    gain_db = target_lufs - loudness_lufs(mix) + 1.5
    out = mix
    ceiling = 10 ** (ceiling_db / 20)
    for _ in range(7):
        hot = mix * 10 ** (gain_db / 20)
        hot = np.tanh(hot / 1.8) * 1.8
        need = np.minimum(1.0, ceiling * 0.97 / np.maximum(np.abs(hot).max(axis=0), 1e-9))
        ahead = int(0.003 * RATE_HZ)
        low = ndimage.minimum_filter1d(need, 2 * ahead + 1)
        smooth = ndimage.uniform_filter1d(low, ahead)
        out = hot * np.minimum(smooth, need)
        error = target_lufs - loudness_lufs(out)
        if abs(error) < 0.02:
            break
        gain_db += error * 1.6
    return out

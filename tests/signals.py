"""Signals with known answers, made from plain formulas."""

from __future__ import annotations

import numpy as np
from scipy import signal

RATE = 44_100


def sine(hz: float, seconds: float, dbfs: float, rate: int = RATE, phase_deg: float = 0.0) -> np.ndarray:
    t = np.arange(round(seconds * rate)) / rate
    return (10 ** (dbfs / 20) * np.sin(2 * np.pi * hz * t + np.radians(phase_deg))).astype(np.float32)


def both(mono: np.ndarray) -> np.ndarray:
    return np.stack([mono, mono])


def kick_hit(rate: int = RATE, fundamental_hz: float = 50.0) -> np.ndarray:
    t = np.arange(int(0.3 * rate)) / rate
    pitch = fundamental_hz * (1 + 3 * np.exp(-t / 0.012))
    body = np.sin(2 * np.pi * np.cumsum(pitch) / rate) * np.exp(-t / 0.09)
    click = np.random.default_rng(3).standard_normal(len(t)) * np.exp(-t / 0.002) * 0.4
    return body + click


def noise_hit(length_s: float, decay_s: float, low_hz: float, seed: int, rate: int = RATE) -> np.ndarray:
    t = np.arange(int(length_s * rate)) / rate
    noise = np.random.default_rng(seed).standard_normal(len(t)) * np.exp(-t / decay_s)
    return signal.sosfilt(signal.butter(2, low_hz, "highpass", fs=rate, output="sos"), noise)


def club_track(
    bpm: float = 126.0, bars: int = 32, duck_db: float = 8.0, start_s: float = 0.0, swing_percent: float = 50.0,
    root_midi: int = 45, release_s: float = 0.2, kick: bool = True, per_beat: int = 1,
) -> np.ndarray:  # fmt: skip
    """Kick on the beats, backbeat, off-beat and 16th hats, bass and a wide minor-key pad that duck together
    `per_beat` times a beat, shape (2, n).

    The first quarter has drums only, the rest everything. Chords i VI iv v on `root_midi`, natural minor.
    """
    beat = 60 / bpm
    n = int((start_s + bars * 4 * beat) * RATE)
    out = np.zeros((2, n))
    music = np.zeros((2, n))
    rng = np.random.default_rng(7)

    def put(target: np.ndarray, at_s: float, sound: np.ndarray, gain: float, side: float = 0.0) -> None:
        i = round((start_s + at_s) * RATE)
        piece = sound[: max(0, n - i)]
        target[0, i : i + len(piece)] += gain * (1 - side) * piece
        target[1, i : i + len(piece)] += gain * (1 + side) * piece

    hit, clap, hat = kick_hit(), noise_hit(0.25, 0.06, 900, 1), noise_hit(0.06, 0.012, 7000, 2)
    t = np.arange(n) / RATE
    for bar in range(bars):
        for q in range(4):
            at = (bar * 4 + q) * beat
            if kick:
                put(out, at, hit, 0.8)
            if q % 2:
                put(out, at, clap, 0.22)
        for step in range(16):
            late = (swing_percent - 50) / 100 * beat / 2 if step % 2 else 0.0
            put(out, bar * 4 * beat + step * beat / 4 + late, hat, 0.16 if step % 2 else 0.24)
        if bar < bars // 4:
            continue
        degree = (0, -4, 5, -5)[bar % 4]
        span = slice(round((start_s + bar * 4 * beat) * RATE), round((start_s + (bar + 1) * 4 * beat) * RATE))
        tt = t[span] - t[span][0]
        for k, third in enumerate((0, 4 if degree == -4 else 3, 7)):
            f = 440 * 2 ** ((root_midi + 12 + degree + third - 69) / 12)
            for side in (-0.7, 0.7):
                wobble = rng.random() * 6.28
                tone = signal.sawtooth(2 * np.pi * f * (1 + 0.003 * side) * tt + wobble)
                music[0, span] += 0.05 * (1 - side) * tone
                music[1, span] += 0.05 * (1 + side) * tone
            if k == 0:
                music[:, span] += 0.25 * np.sign(np.sin(2 * np.pi * f / 4 * tt)) * 0.5
    since = (t - start_s) % (beat / per_beat)
    curve = np.where(since < 0.02, 1.0, np.exp(-(since - 0.02) / (release_s / np.log(max(duck_db, 1.01)))))
    music *= 10 ** (-duck_db * curve / 20)
    low = signal.butter(2, 6000, "lowpass", fs=RATE, output="sos")
    mix = out + signal.sosfilt(low, music)
    return (mix / np.abs(mix).max() * 0.89).astype(np.float32)


def moving_levels(rows: int, bars: int, seed: int, points: int = 256) -> np.ndarray:
    """Levels that wander, with notes struck at any 16th that die away: music that nothing ducks, dB."""
    rng = np.random.default_rng(seed)
    steps = rng.normal(-0.05, 0.25, (rows, bars * points))
    struck = rng.random((rows, bars * points // 16)) < 0.12
    steps[:, ::16] += struck * rng.uniform(4, 15, struck.shape)
    levels = np.empty_like(steps)
    level = np.zeros(rows)
    for i, step in enumerate(steps.T):
        level = np.clip(level + step, -25, 5)
        levels[:, i] = level
    return levels.reshape(rows, bars, points)

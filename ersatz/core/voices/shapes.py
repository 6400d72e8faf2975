"""Shapes that the voices share: decays, faded ends, mono to stereo."""

from __future__ import annotations

import numpy as np

from ersatz.core.compiled import compiled


def falling(n: int, seconds: float, rate: float) -> np.ndarray:
    """Exponential decay with time constant `seconds`."""
    return np.exp(-np.arange(n) / (seconds * rate))


def adsr(held: int, n: int, rate: float, attack_s: float, decay_s: float, sustain: float, release_s: float) -> np.ndarray:
    """Attack, decay to sustain while held, exponential release; shape (n,). Ends at zero."""
    t = np.arange(n) / rate
    up = np.minimum(1.0, t / max(attack_s, 1e-4))
    body = np.where(t < attack_s, up, sustain + (1 - sustain) * np.exp(-(t - attack_s) / max(decay_s, 1e-4)))
    off = min(held, n - 1)
    body[off:] = body[off] * np.exp(-(t[off:] - t[off]) / max(release_s / 3, 1e-4))
    return declick(body, rate, 0.0, 0.004)


def declick(x: np.ndarray, rate: float, attack_s: float = 0.0005, release_s: float = 0.004) -> np.ndarray:
    """Ends faded linearly, so that no hit starts or stops with a step. Works on (n,) and (2, n)."""
    out = np.array(x, np.float64, order="C")
    fade(np.atleast_2d(out), int(attack_s * rate), int(release_s * rate))
    return out


@compiled
def fade(x: np.ndarray, attack: int, release: int) -> None:  # pragma: no cover - compiled
    """The first and the last so many samples of x, shape (rows, n), along straight lines from and to 0, in place."""
    n = x.shape[1]
    a, r = min(n, attack), min(n, max(1, release))
    for row in x:
        for i in range(a):
            row[i] *= i / a
        for i in range(1, r):
            row[n - r + i] *= 1.0 - i / (r - 1)


def widened(mono: np.ndarray, rate: float, milliseconds: float) -> np.ndarray:
    """Mono to stereo by a short delay on one side, shape (2, n)."""
    shift = int(milliseconds / 1000 * rate)
    right = np.concatenate([np.zeros(shift), mono[: len(mono) - shift]]) if shift else mono
    return np.stack([mono, right])


def both(mono: np.ndarray) -> np.ndarray:
    """Mono on both sides, shape (2, n)."""
    return np.stack([mono, mono])

"""Decibels to factors and back, for whole curves of them."""

from __future__ import annotations

import math

import numpy as np

from ersatz.core.compiled import compiled

_PER_DB = math.log(10) / 20
#: Silence.
FLOOR_DB = -120.0


def panned(pan: np.ndarray | float, gain_db: np.ndarray | float) -> np.ndarray:
    """Gains of both sides for a pan of -1..1 at a level, constant power and 1 in the middle; shape (2, n), or (2, 1) where both
    stand."""
    if isinstance(pan, float) and isinstance(gain_db, float):
        # Most do: what arrays cost by the way is more than the figures.
        turn, level = (min(max(pan, -1.0), 1.0) + 1) * math.pi / 4, math.sqrt(2) * math.exp(gain_db * _PER_DB)
        return np.array([[math.cos(turn) * level], [math.sin(turn) * level]])
    angle = (np.clip(pan, -1, 1) + 1) * np.pi / 4
    linear = np.sqrt(2) * factor(gain_db)
    out = np.empty((2, max(np.size(angle), np.size(linear))))
    out[0], out[1] = np.cos(angle), np.sin(angle)
    return np.multiply(out, linear, out)


@compiled
def add(out: np.ndarray, gain: float, x: np.ndarray) -> None:  # pragma: no cover - compiled
    """`x` at a gain, a factor, onto `out`; both of shape (n,)."""
    for i in range(len(x)):
        out[i] += gain * x[i]


@compiled
def add_along(out: np.ndarray, gain: float, curve: np.ndarray, x: np.ndarray) -> None:  # pragma: no cover - compiled
    """`add` at a gain that moves: `curve` is a factor for each sample."""
    for i in range(len(x)):
        out[i] += gain * curve[i] * x[i]


def factor(db: np.ndarray | float) -> np.ndarray:
    """10^(dB / 20), shape of `db`: by the exponential, which costs a fifth of a power."""
    return np.asarray(math.exp(db * _PER_DB) if isinstance(db, float) else np.exp(np.multiply(db, _PER_DB)))


def to_db(values: np.ndarray, per_decade: float = 10.0) -> np.ndarray:
    """Powers, or amplitudes at 20 dB per decade, as dB, FLOOR_DB at the least; shape of `values`."""
    out = np.asarray(np.maximum(values, 10 ** (FLOOR_DB / per_decade)))
    return np.asarray(np.multiply(np.log10(out, out), per_decade, out))

"""Values that may move: one figure, one per sample, or one every so many samples."""

from __future__ import annotations

import numpy as np

from ersatz.core.compiled import compiled

#: Samples between two figures of what is automated or modulated: 1.5 ms at 44.1 kHz.
CONTROL = 64


def figures(value: np.ndarray | float) -> np.ndarray:
    """A value per sample, or the one figure of what doesn't move, shape (n,) or (1,)."""
    return np.atleast_1d(np.ascontiguousarray(value, np.float64))


def joined(values: np.ndarray | float, every: int, n: int) -> np.ndarray:
    """Values at every `every`-th sample joined by straight lines, shape (n,); behind the last one it stands."""
    return np.asarray(_joined(figures(values), every, n))


@compiled
def _joined(values: np.ndarray, every: int, n: int) -> np.ndarray:  # pragma: no cover - compiled
    out = np.empty(n)
    last = len(values) - 1
    for k in range((n + every - 1) // every):
        begin = values[min(k, last)]
        rise = (values[min(k + 1, last)] - begin) / every
        start = k * every
        for j in range(min(every, n - start)):
            out[start + j] = begin + rise * j
    return out

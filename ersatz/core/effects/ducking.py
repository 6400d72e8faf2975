"""The ducker: a drawn gain curve that starts again at every trigger."""

from __future__ import annotations

import numpy as np


def duck_curve_db(start: int, n: int, triggers: np.ndarray, shape: np.ndarray, beat_samples: float) -> np.ndarray:
    """Reduction 0..1 per sample for samples start..start+n-1, shape (n,); multiply by the depth in dB.

    `triggers` are sample positions, sorted; `shape` is spread over one beat and has recovered after it. A new trigger takes
    over from the old one within 4 ms, so that the gain never jumps.
    """
    out = np.zeros(n)
    fade = 176
    points = np.arange(len(shape)) / len(shape) * beat_samples
    first = int(np.searchsorted(triggers, start - beat_samples - fade))
    last = int(np.searchsorted(triggers, start + n))
    t = np.arange(start, start + n)
    for trigger in triggers[max(0, first) : last]:
        begin = max(0, trigger - start)
        elapsed = t[begin:] - trigger
        fresh = np.interp(elapsed, points, shape, right=0.0)
        blend = np.clip(elapsed / fade, 0, 1)
        out[begin:] = np.maximum(out[begin:] * (1 - blend), np.minimum(fresh, 1.0) * blend)
    return out

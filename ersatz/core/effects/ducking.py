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
    span = int(beat_samples) + fade
    for trigger in triggers[max(0, first) : last]:
        begin, end = max(0, int(trigger) - start), min(n, int(trigger) - start + span)
        if end <= begin:
            continue
        elapsed = np.arange(begin, end) + (start - int(trigger))
        fresh = np.interp(elapsed, points, shape, right=0.0)
        blend = np.minimum(elapsed / fade, 1.0)
        out[begin:end] = np.maximum(out[begin:end] * (1 - blend), np.minimum(fresh, 1.0) * blend)
        out[end:] = 0.0
    return out

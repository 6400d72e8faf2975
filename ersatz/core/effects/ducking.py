"""The ducker: a drawn gain curve that starts again at every trigger."""

from __future__ import annotations

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.dsp.levels import factor
from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.params import Choice, Param

#: A new trigger takes over from the old one within this time, so that the gain never jumps.
TAKEOVER = 176
BEATS = {"1/8": 0.5, "1/4": 1.0, "1/2": 2.0, "1 bar": 4.0}
#: Without a drawn curve: down at once, back over most of the period.
DEFAULT_SHAPE = tuple(round(float(max(0.0, 1 - (k / 52)) ** 1.6), 4) for k in range(64))


def duck_curve_db(start: int, n: int, triggers: np.ndarray, shape: np.ndarray, beat_samples: float) -> np.ndarray:
    """Reduction 0..1 per sample for samples start..start+n-1, shape (n,); multiply by the depth in dB.

    `triggers` are sample positions, sorted; `shape` is spread over one beat and has recovered after it. A new trigger takes
    over from the old one within TAKEOVER samples.
    """
    first, last = np.searchsorted(triggers, [start - beat_samples - TAKEOVER, start + n])
    near = np.asarray(triggers[first:last], np.int64) - start
    return np.asarray(_pulled(n, near, np.asarray(shape, np.float64), beat_samples / len(shape), int(beat_samples) + TAKEOVER))


@compiled
def _pulled(n: int, triggers: np.ndarray, shape: np.ndarray, every: float, span: int) -> np.ndarray:  # pragma: no cover - compiled
    """Triggers from the first sample on, before it negative; the shape has a point `every` so many samples and is over behind its
    last one; nothing of it is left after `span`."""
    out = np.zeros(n)
    last = len(shape) - 1
    for trigger in triggers:
        end = min(n, trigger + span)
        for i in range(max(0, trigger), end):
            place = (i - trigger) / every
            k = int(place)
            fresh = 0.0
            if k < last:
                fresh = shape[k] + (place - k) * (shape[k + 1] - shape[k])
            elif place == last:
                fresh = shape[last]
            blend = min((i - trigger) / TAKEOVER, 1.0)
            out[i] = max(out[i] * (1.0 - blend), min(fresh, 1.0) * blend)
        out[max(end, 0) :] = 0.0
    return out


def _period(s: Settings, bpm: float) -> float:
    """Seconds that the curve is spread over."""
    return BEATS[s.choices["period"]] * 60 / bpm


def _duck(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    n = x.shape[1]
    period = _period(s, where.bpm) * where.rate
    if s.choices["trigger"] == "a part's hits":
        triggers = where.hits
    else:
        first = int(np.floor((where.start - period) / period))
        triggers = np.round(np.arange(max(first, 0), (where.start + n) / period + 1) * period).astype(np.int64)
    reduction = duck_curve_db(where.start, n, triggers, np.array(s.shape or DEFAULT_SHAPE), period)
    return np.asarray(x * factor(-s.curve("depth_db", n) * reduction))


DUCKER = EffectSpec(
    "ducker", "Ducker", (Param("depth_db", "dB", 0, 60, 8, "Depth", moves=""),), _duck,
    (Choice("trigger", ("the period", "a part's hits"), "the period", "Triggered by"),
     Choice("period", tuple(BEATS), "1/4", "Period")),
    # A hit of the bar before may still pull down.
    before_s=lambda s, bpm: _period(s, bpm) + TAKEOVER / 44_100 if s.choices["trigger"] == "a part's hits" else 0.0,
    period_beats=lambda s: BEATS[s.choices["period"]] if s.choices["trigger"] == "the period" else 0.0, has_sidechain=True,
)  # fmt: skip

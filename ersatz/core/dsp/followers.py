"""Level followers, delays that move, and splits without phase: what dynamics and modulation effects are made of.

Conventions: one channel is (n,); levels are dB; time constants are seconds to 63 % of a step.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.compiled import compiled, inlined
from ersatz.core.dsp import filters
from ersatz.core.dsp.levels import to_db


def coefficient(seconds: float, rate: float) -> float:
    """Of a one-pole smoother, 0 for no time at all."""
    return float(np.exp(-1 / (seconds * rate))) if seconds > 0 else 0.0


@inlined
def released(held: float, level: float, release: float) -> float:  # pragma: no cover - compiled
    """A level that rises at once and falls by a one-pole smoother, one step on."""
    return max(level, release * held + (1.0 - release) * level)


@inlined
def smoothed(smooth: float, level: float, attack: float) -> float:  # pragma: no cover - compiled
    """A one-pole smoother, one step on."""
    return attack * smooth + (1.0 - attack) * level


@compiled
def decoupled(level_db: np.ndarray, attack: float, release: float) -> np.ndarray:  # pragma: no cover - compiled
    """Smooth decoupled peak follower (Giannoulis, Massberg & Reiss 2012, equation 17): release first, then attack."""
    out = np.empty(len(level_db))
    held = level_db[0]
    smooth = level_db[0]
    for i in range(len(level_db)):
        held = released(held, level_db[i], release)
        smooth = smoothed(smooth, held, attack)
        out[i] = smooth
    return out


def peak_db(x: np.ndarray) -> np.ndarray:
    """Level of the louder channel per sample, dB, shape (n,), of (1, n) or (2, n)."""
    return to_db(_peaks(np.ascontiguousarray(x, np.float64)), 20.0)


@compiled
def _peaks(x: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    left, right = x[0], x[len(x) - 1]
    out = np.empty(len(left))
    for i in range(len(left)):
        out[i] = max(abs(left[i]), abs(right[i]))
    return out


def rms_db(x: np.ndarray, seconds: float, rate: float) -> np.ndarray:
    """Mean power of the channels of (1, n) or (2, n) over the last `seconds`, dB re a full-scale square wave, shape (n,)."""
    return to_db(_mean_power(np.ascontiguousarray(x, np.float64), max(1, int(seconds * rate))))


@compiled
def _mean_power(x: np.ndarray, width: int) -> np.ndarray:  # pragma: no cover - compiled
    """Mean of the channels' squares over the last `width` samples, silence in front."""
    left, right = x[0], x[len(x) - 1]
    n = len(left)
    total, power = np.zeros(n + width + 1), 0.0
    for i in range(n):
        power += left[i] * left[i] + right[i] * right[i]
        total[width + i + 1] = power
    out = np.empty(n)
    for i in range(n):
        out[i] = (total[width + i + 1] - total[i + 1]) / (2 * width)
    return out


@inlined
def hermite_weights(t: float) -> tuple[float, float, float, float]:  # pragma: no cover - compiled
    """What four samples in a row count for at a share `t` of the way from the second to the third: four-point third-order Hermite
    interpolation (Niemitalo 2001)."""
    return (
        0.5 * t * (t * (2.0 - t) - 1.0),
        1.0 + 0.5 * t * t * (3.0 * t - 5.0),
        0.5 * t * (1.0 + t * (4.0 - 3.0 * t)),
        0.5 * t * t * (t - 1.0),
    )


@inlined
def hermite_both(left: np.ndarray, right: np.ndarray, place: float) -> tuple[float, float]:  # pragma: no cover - compiled
    """Both sides between their samples, by `hermite_weights`; 0 beyond their ends."""
    j = int(np.floor(place))
    if j < 1 or j + 2 >= len(left):
        return 0.0, 0.0
    wa, wb, wc, wd = hermite_weights(place - j)
    # Unsigned: an index that can't be negative isn't looked at twice.
    b, one = np.uint64(j), np.uint64(1)
    a, c, d = b - one, b + one, b + one + one
    return (
        wa * left[a] + wb * left[b] + wc * left[c] + wd * left[d],
        wa * right[a] + wb * right[b] + wc * right[c] + wd * right[d],
    )


@inlined
def hermite(x: np.ndarray, place: float) -> float:  # pragma: no cover - compiled
    """A signal between its samples, by `hermite_weights`; 0 beyond its ends."""
    return hermite_both(x, x, place)[0]


@compiled
def delayed(x: np.ndarray, delay: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """`x` as it was `delay[i]` samples ago, at least 1."""
    out = np.empty(len(x))
    for i in range(len(x)):
        out[i] = hermite(x, i - delay[i])
    return out


@compiled
def read_at(x: np.ndarray, places: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """`x` at places in samples, shape of `places`."""
    out = np.empty(len(places))
    for i in range(len(places)):
        out[i] = hermite(x, places[i])
    return out


@compiled
def delayed_back(x: np.ndarray, delay: np.ndarray, feedback: float) -> np.ndarray:  # pragma: no cover - compiled
    """A delay line fed with its own output, read between samples linearly; the delayed signal alone."""
    n = len(x)
    line = np.zeros(n)
    out = np.zeros(n)
    for i in range(n):
        place = i - max(delay[i], 1.0)
        j = int(np.floor(place))
        t = place - j
        old = 0.0
        if j >= 0:
            old = line[j] * (1.0 - t) + (line[j + 1] * t if j + 1 < i else line[j] * t)
        line[i] = x[i] + feedback * old
        out[i] = old
    return out


def below(x: np.ndarray, hz: float, rate: float) -> np.ndarray:
    """What of (2, n), (1, n) or (n,) lies under `hz`, without phase: a second-order Butterworth filter there and back.

    Its power response 1 / (1 + (f / hz)^4) and that of the rest, x - below(x), add up to one: a crossover of 24 dB per octave.
    """
    return filters.there_and_back(filters.butterworth(2, min(hz, 0.45 * rate), rate), x)


def below_context_s(hz: float) -> float:
    """Seconds on each side that `below` reaches, to -90 dB: its poles ring with a time constant of 1 / (2 pi 0.707 hz)."""
    return 10.4 / (2 * np.pi * 0.707 * max(hz, 10.0))

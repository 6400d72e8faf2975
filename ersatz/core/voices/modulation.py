"""What moves a sound: envelopes with curved stages, low-frequency oscillators in the song's time.

Conventions: times in seconds, one value per sample, shape (n,); envelopes run 0..1, LFOs -1..1. A stage's curve c bends its way
from 0 to 1 as (1 - e^(-k c u)) / (1 - e^(-k c)), k = CURVE: 0 is straight, 1 fast at first, -1 slow at first.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import factorial

import numpy as np

from ersatz.core.compiled import compiled

CURVE = 5.0
#: A stage that bends less is straight. So many samples are multiplied along a bend from one exponential.
STRAIGHT, AFRESH = 1e-3, 64
#: No stage is shorter, so that nothing clicks.
SHORTEST_S = 0.0005
#: Of x, x^3, x^5, ... in the series of the sine.
SINE = np.array([(-1) ** k / factorial(2 * k + 1) for k in range(8)])
#: Beats per cycle of the synced rates: straight, dotted, triplet, bars of four beats.
SYNCED_BEATS = {
    "1/32": 1 / 8, "1/16 triplet": 1 / 6, "1/16": 1 / 4, "1/16 dotted": 3 / 8, "1/8 triplet": 1 / 3, "1/8": 1 / 2,
    "1/8 dotted": 3 / 4, "1/4 triplet": 2 / 3, "1/4": 1.0, "1/4 dotted": 1.5, "1/2": 2.0, "1 bar": 4.0, "2 bars": 8.0, "4 bars":
    16.0, "8 bars": 32.0,
}  # fmt: skip
#: All of them come round together after this many beats.
ROUND_BEATS = 96.0
LFO_SHAPES = ("sine", "triangle", "rise", "fall", "square", "random", "drawn")
#: A step of an LFO is rounded over this time.
SMOOTH_S = 0.002


@dataclass(frozen=True)
class Envelope:
    attack_s: float
    decay_s: float
    sustain: float
    release_s: float
    hold_s: float = 0.0
    attack_curve: float = 0.0
    decay_curve: float = 0.6
    release_curve: float = 0.6


def bent(u: np.ndarray | float, curve: float) -> np.ndarray:
    """0..1 to 0..1 along a curve of -1..1."""
    k = CURVE * curve
    if abs(k) < STRAIGHT:
        return np.asarray(u)
    return np.asarray((1 - np.exp(-k * np.asarray(u))) / (1 - np.exp(-k)))


def envelope(e: Envelope, held: int, n: int, rate: float) -> np.ndarray:
    """Attack, hold, decay to the sustain while held; release from wherever it stands. Shape (n,), zero once released."""
    attack, decay, release = (max(s, SHORTEST_S) * rate for s in (e.attack_s, e.decay_s, e.release_s))
    falls = attack + e.hold_s * rate
    out = np.empty(n)
    pressed = min(held, n)
    top = min(int(np.ceil(attack)), pressed)
    _stage(out, 0, top, 0.0, attack, 0.0, 1.0, CURVE * e.attack_curve)
    _stage(out, top, pressed, falls, decay, 1.0, e.sustain, CURVE * e.decay_curve)
    if held < n:
        fallen = (1 - e.sustain) * bent(min(max((held - falls) / decay, 0.0), 1.0), e.decay_curve)
        level = float(bent(held / attack, e.attack_curve) if held < attack else 1 - fallen)
        _stage(out, held, n, float(held), release, level, 0.0, CURVE * e.release_curve)
    return out


@compiled
def _stage(
    out: np.ndarray, start: int, stop: int, begins: float, length: float, level: float, to: float, k: float
) -> None:  # pragma: no cover - compiled
    """Samples start..stop-1 of what goes from `level` to `to` in `length` samples from `begins` on."""
    step = np.exp(-k / length)
    share = (to - level) / (1.0 - np.exp(-k)) if abs(k) >= STRAIGHT else 0.0
    first, last = min(max(start, int(np.ceil(begins))), stop), min(max(start, int(np.ceil(begins + length))), stop)
    out[start:first] = level
    out[last:stop] = to
    if abs(k) < STRAIGHT:
        for i in range(first, last):
            out[i] = level + (to - level) * (i - begins) / length
        return
    for begin in range(first, last, AFRESH):
        # One multiplication a sample instead of an exponential, begun again before its rounding adds up.
        left = np.exp(-k * (begin - begins) / length)
        for i in range(begin, min(begin + AFRESH, last)):
            out[i] = level + share * (1.0 - left)
            left *= step


def lfo(shape: str, phases: np.ndarray, rate: float, points: np.ndarray | None = None, seed: int = 0) -> np.ndarray:
    """One LFO of LFO_SHAPES from its phases in cycles, -1..1, shape (n,). `points` is the drawn cycle, -1..1, joined by lines.

    Steps are rounded over SMOOTH_S. "random" holds a new value in each cycle, the same for the same seed and cycle.
    """
    u = phases - np.floor(phases)
    if shape == "sine":
        return np.asarray(_sine(u))
    if shape == "triangle":
        return np.asarray(1 - 4 * np.abs((u + 0.25) % 1.0 - 0.5))
    if shape == "rise":
        stepped = 2 * u - 1
    elif shape == "fall":
        stepped = 1 - 2 * u
    elif shape == "square":
        stepped = np.where(u < 0.5, 1.0, -1.0)
    elif shape == "random":
        stepped = _held(np.floor(phases).astype(np.int64), seed)
    elif shape == "drawn":
        drawn = np.zeros(2) if points is None or len(points) == 0 else np.asarray(points, float)
        place = u * len(drawn)
        stepped = np.interp(place, np.arange(len(drawn) + 1), np.append(drawn, drawn[0]))
    else:
        raise ValueError(f"there is no LFO shape “{shape}”")
    return _rounded(np.asarray(stepped), max(1, int(SMOOTH_S * rate)))


@compiled
def _sine(u: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """sin(2 pi u), u of 0..1, by its series to the fifteenth power on the quarter around 0: errs by less than 1e-11, in a sixth of
    the time."""
    out = np.empty(len(u))
    for i in range(len(u)):
        # Folded to -1/4..1/4: sin(2 pi u) = sin(2 pi (1/2 - u)).
        t = u[i] if u[i] < 0.75 else u[i] - 1.0
        x = 2.0 * np.pi * (t if t <= 0.25 else 0.5 - t)
        s, total = x * x, 0.0
        for k in range(len(SINE) - 1, -1, -1):
            total = SINE[k] + s * total
        out[i] = x * total
    return out


def _held(cycles: np.ndarray, seed: int) -> np.ndarray:
    """-1..1 per cycle by an integer hash (Wang 2007), so that any cycle can be asked for by itself."""
    x = (cycles + np.int64(seed)).astype(np.uint64)
    with np.errstate(over="ignore"):
        x = (x ^ np.uint64(61)) ^ (x >> np.uint64(16))
        x *= np.uint64(0x9E3779B97F4A7C15)
        x ^= x >> np.uint64(29)
        x *= np.uint64(0xBF58476D1CE4E5B9)
        x ^= x >> np.uint64(32)
    return np.asarray((x % np.uint64(1 << 20)).astype(float) / (1 << 19) - 1)


def _rounded(x: np.ndarray, width: int) -> np.ndarray:
    """Moving mean of the last `width` values; the first counts as having stood before."""
    total = np.cumsum(np.concatenate([np.full(width, x[0]), x]))
    return np.asarray((total[width:] - total[:-width]) / width)


def cycles_per_second(rate: str, hz: float, bpm: float) -> float:
    """Of a rate named in SYNCED_BEATS, or of `hz` for any other name."""
    beats = SYNCED_BEATS.get(rate)
    return hz if beats is None else bpm / 60 / beats

"""Delay: echoes in the song's time or in milliseconds, straight, from side to side, leaning to the sides in turn, or as
micro-widening."""

from __future__ import annotations

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.dsp import filters
from ersatz.core.dsp.control import figures
from ersatz.core.dsp.levels import add
from ersatz.core.effects import eq
from ersatz.core.effects.spec import DRY, NO_DRY, EffectSpec, Settings, Where
from ersatz.core.params import Choice, Param

BEATS = {"1/32": 0.125, "1/16 triplet": 1 / 6, "1/16": 0.25, "1/8 triplet": 1 / 3, "1/16 dotted": 0.375, "1/8": 0.5,
"1/4 triplet": 2 / 3,
         "1/8 dotted": 0.75, "1/4": 1.0, "1/4 dotted": 1.5, "1/2": 2.0, "1 bar": 4.0}  # fmt: skip
ALTERNATING = "alternating"
MODES = ("straight", "ping-pong", ALTERNATING, "micro-widening")
#: Alternating echoes: how loud on the near and on the far side, the level under which they are left out, how many at the most; the
#: samples that the last one rings on for, and those after which a low cut has forgotten what came before.
NEAR, FAR, FLOOR, MOST_ECHOES, PULSE, SETTLES = 0.8, 0.35, 10 ** (-54 / 20), 24, 2048, 16_384
#: Echoes under this level are forgotten.
SILENT_DB = -70.0
LONGEST_S = 24.0


@compiled
def _echoes(
    x: np.ndarray, step: int, feedback: float, low: float, high: float, crossed: bool, level: np.ndarray, dry: float
) -> np.ndarray:  # pragma: no cover - compiled
    """Echoes at a level, per sample or one for all, over so much of the sound itself, shape (2, n). `low`, `high`: one-pole
    coefficients of the loop's cuts: each round takes a little from both ends. Crossed, all enters on the left and every echo
    changes sides."""
    out = np.empty(x.shape)
    # What comes back after `step` samples, both sides.
    line = np.zeros((step, 2))
    at, moves = 0, len(level) > 1
    low_left, low_right, high_left, high_right = 0.0, 0.0, 0.0, 0.0
    slow, fast = 1.0 - low, 1.0 - high
    for i in range(x.shape[1]):
        left, right = line[at, 0], line[at, 1]
        gain = level[i if moves else 0]
        out[0, i], out[1, i] = dry * x[0, i] + gain * left, dry * x[1, i] + gain * right
        if crossed:
            left, right = right, left
        high_left += fast * (left - high_left)
        high_right += fast * (right - high_right)
        low_left += slow * (high_left - low_left)
        low_right += slow * (high_right - low_right)
        left, right = x[0, i], x[1, i]
        if crossed:
            left, right = 0.5 * (left + right), 0.0
        line[at, 0] = left + feedback * (high_left - low_left)
        line[at, 1] = right + feedback * (high_right - low_right)
        at += 1
        if at == step:
            at = 0
            low_left, low_right = filters.kept(low_left), filters.kept(low_right)
            high_left, high_right = filters.kept(high_left), filters.kept(high_right)
    return out


def _count(feedback: float) -> int:
    """Alternating echoes that are over FLOOR."""
    return max(1, min(MOST_ECHOES, 1 + int(np.log(FLOOR) / np.log(max(min(feedback, 0.8), 1e-3)))))


@compiled
def _darken(
    left: np.ndarray, right: np.ndarray, state: np.ndarray, b0: float, b1: float, a1: float
) -> None:  # pragma: no cover - compiled
    """A block of both sides through one first-order section, in place. `state`: what went in and came out last, of both sides."""
    heard, heard_right, y, z = state[0], state[1], state[2], state[3]
    for i in range(len(left)):
        u, v = left[i], right[i]
        # The product with what came out last is all that the next sample waits for.
        y = (b0 * u + b1 * heard) - a1 * y
        z = (b0 * v + b1 * heard_right) - a1 * z
        heard, heard_right = u, v
        left[i], right[i] = y, z
    state[0], state[1], state[2], state[3] = heard, heard_right, filters.kept(y), filters.kept(z)


@compiled
def _leaning(
    x: np.ndarray, places: np.ndarray, gains: np.ndarray, first: int, b0: float, b1: float, a1: float
) -> np.ndarray:  # pragma: no cover - compiled
    """Echoes of x, shape (2, n), `places` samples late and rising, each through a first-order section more than the one before, at
    `gains` of shape (echoes, sides). From sample `first` on, zeros before. Block by block, so that all echoes find theirs in the
    processor's own memory."""
    n, count = x.shape[1], len(places)
    out = np.zeros(x.shape)
    block = np.zeros((2, filters.FORGET_EVERY))
    states = np.zeros((count, 4))
    for start in range(0, n - places[0], filters.FORGET_EVERY):
        many = min(filters.FORGET_EVERY, n - start)
        left, right = block[0, :many], block[1, :many]
        left[:], right[:] = x[0, start : start + many], x[1, start : start + many]
        for k in range(count):
            at = start + places[k]
            begin, end = max(0, first - at), min(many, n - at)
            if end <= 0:
                break
            _darken(left, right, states[k], b0, b1, a1)
            if begin < end:
                add(out[0, at + begin : at + end], gains[k, 0], left[begin:end])
                add(out[1, at + begin : at + end], gains[k, 1], right[begin:end])
    return out


def alternating(
    x: np.ndarray, step: float, feedback: float, low_cut_hz: float, high_cut_hz: float, rate: int, lead: int = 0
) -> np.ndarray:
    """Echoes every `step` samples that lean to the left and to the right in turn, the first at full level, each darker than the one
    before; without the sound itself, shape (2, n) as `x`. The first `lead` samples of what comes out may be anything."""
    count = _count(feedback)
    places = np.array([round(step * (k + 1)) for k in range(count)])
    gains = np.array([(NEAR, FAR) if k % 2 == 0 else (FAR, NEAR) for k in range(count)]) * feedback ** np.arange(count)[:, None]
    b0, b1, _, _, a1, _ = eq.high_cut(high_cut_hz, rate, 1)[0]
    first = max(0, lead - SETTLES)
    out = _leaning(np.ascontiguousarray(x, np.float64), places, gains, first, b0, b1, a1)
    out[:, first:] = filters.cascade(eq.low_cut(low_cut_hz, rate), np.ascontiguousarray(out[:, first:]))
    return out


def step_samples(s: Settings, bpm: float, rate: float) -> int:
    """Samples between two echoes, at least 1."""
    return max(1, round(_step(s, bpm, rate)))


def _step(s: Settings, bpm: float, rate: float) -> float:
    beats = BEATS.get(s.choices["time"])
    return (s.flat("time_ms") / 1000 if beats is None else beats * 60 / bpm) * rate


def _delay(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    n = x.shape[1]
    if s.choices["mode"] == "micro-widening":
        out = np.zeros((2, n))
        for c, name in enumerate(("left_ms", "right_ms")):
            shift = round(s.flat(name) / 1000 * where.rate)
            out[c, shift:] = x[c, : n - shift]
        return out
    if s.choices["mode"] == ALTERNATING:
        step, feedback = _step(s, where.bpm, where.rate), min(s.flat("feedback"), 0.8)
        cuts = s.flat("low_cut_hz"), s.flat("high_cut_hz")
        return _mixed(x, alternating(x, step, feedback, *cuts, where.rate, where.lead), s)
    step = step_samples(s, where.bpm, where.rate)
    low = float(np.exp(-2 * np.pi * s.flat("low_cut_hz") / where.rate))
    high = float(np.exp(-2 * np.pi * min(s.flat("high_cut_hz"), 0.45 * where.rate) / where.rate))
    crossed, dry = s.choices["mode"] == "ping-pong", 0.0 if s.choices["dry"] == NO_DRY else 1.0
    level = figures(s.values["level"])
    return np.asarray(_echoes(x.astype(np.float64), step, s.flat("feedback"), low, high, crossed, level, dry))


def _mixed(x: np.ndarray, wet: np.ndarray, s: Settings) -> np.ndarray:
    wet = s.values["level"] * wet
    return wet if s.choices["dry"] == NO_DRY else np.asarray(x + wet)


def _before_s(s: Settings, bpm: float) -> float:
    if s.choices["mode"] == "micro-widening":
        return max(s.flat("left_ms"), s.flat("right_ms")) / 1000
    if s.choices["mode"] == ALTERNATING:
        return (_step(s, bpm, 44_100) * (_count(s.flat("feedback")) + 1) + PULSE + 1) / 44_100
    rounds = 2 + SILENT_DB / 20 / np.log10(max(s.flat("feedback"), 0.01))
    return min(LONGEST_S, step_samples(s, bpm, 44_100) / 44_100 * rounds)


DELAY = EffectSpec(
    "delay", "Delay",
    (Param("time_ms", "ms", 1, 2000, 120, "Time in ms", "log"), Param("feedback", "", 0, 0.9, 0.4, "Feedback"),
     Param("level", "", 0, 1, 0.4, "Level", moves=""),
     Param("low_cut_hz", "Hz", 20, 2000, 250, "Low cut in the loop", "log"),
     Param("high_cut_hz", "Hz", 500, 20_000, 6000, "High cut in the loop", "log"),
     Param("left_ms", "ms", 0, 40, 1, "Left, micro-widening"), Param("right_ms", "ms", 0, 40, 18, "Right, micro-widening")),
    _delay,
    (Choice("time", ("ms", *BEATS), "1/8 dotted", "Time"), Choice("mode", MODES, "straight", "Mode"), DRY), _before_s,
)  # fmt: skip

"""Effects that move by themselves: chorus, flanger, phaser, tremolo and auto-pan, filter sweep.

Their LFOs run with the song, from its first sample, at a rate in Hz or in note lengths, so that any bar sounds as it does in the
whole.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.dsp import filters, followers
from ersatz.core.dsp.control import CONTROL
from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.params import Choice, Param

#: Beats per cycle.
BEATS = {"1/16": 0.25, "1/8 triplet": 1 / 3, "1/8": 0.5, "1/8 dotted": 0.75, "1/4": 1.0, "1/2": 2.0, "1 bar": 4.0, "2 bars": 8.0,
         "4 bars": 16.0, "8 bars": 32.0}  # fmt: skip
RATE = Choice("rate", ("Hz", *BEATS), "Hz", "Rate")
MODULATED_MS = 25.0
SMOOTH_MS = 3.0


def _hz(low: float, high: float, default: float) -> Param:
    return Param("rate_hz", "Hz", low, high, default, "Rate in Hz", "log")


def turns(s: Settings, where: Where, n: int) -> np.ndarray:
    """LFO phase in cycles at each sample, counted from the song's start."""
    beats = BEATS.get(s.choices["rate"])
    return where.seconds(n) * s.flat("rate_hz") if beats is None else where.beats(n) / beats


def _period(s: Settings) -> float:
    return BEATS.get(s.choices["rate"], np.inf)


@compiled
def _drifting(
    x: np.ndarray, phase: float, step: float, voices: int, base: float, depth: np.ndarray, width: float
) -> np.ndarray:  # pragma: no cover - compiled
    """Copies of (2, n) summed, each `base` to base + depth samples late by a sine of its own phase; `phase` and `step` in cycles.
    The sine is a turning pointer: one multiplication per sample."""
    out = np.zeros(x.shape)
    left, right = x[0], x[1]
    turn_c, turn_s = np.cos(2.0 * np.pi * step), np.sin(2.0 * np.pi * step)
    for v in range(voices):
        at = 2.0 * np.pi * (phase + v / voices)
        cosine, sine = np.cos(at), np.sin(at)
        side = -width if v % 2 else width
        for i in range(x.shape[1]):
            place = i - max(base + depth[i] * (0.5 + 0.5 * sine), 1.0)
            on_left, on_right = followers.hermite_both(left, right, place)
            out[0, i] += (1.0 + side) * on_left
            out[1, i] += (1.0 - side) * on_right
            cosine, sine = cosine * turn_c - sine * turn_s, sine * turn_c + cosine * turn_s
    return out


def _chorus(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """Copies that drift in time, each by an LFO of its own phase, alternately to the left and the right."""
    n, count = x.shape[1], int(s.flat("voices"))
    phase, after = turns(s, where, 2)
    per_ms = where.rate / 1000
    depth = s.curve("depth_ms", n) * per_ms
    wet = _drifting(x.astype(np.float64), phase % 1, after - phase, count, s.flat("delay_ms") * per_ms, depth, s.flat("width"))
    return np.asarray(0.7 * x + 0.7 / np.sqrt(count) * wet)


CHORUS = EffectSpec(
    "chorus", "Chorus",
    (_hz(0.02, 8, 0.6), Param("voices", "", 1, 6, 3, "Voices", step=1), Param("depth_ms", "ms", 0, 12, 3, "Depth", moves=""),
     Param("delay_ms", "ms", 1, 30, 9, "Delay"), Param("width", "", 0, 1, 0.9, "Width")),
    _chorus, (RATE,), lambda s, bpm: (s.flat("delay_ms") + 14) / 1000, lambda s, bpm: 0.001, _period,
)  # fmt: skip


def _flanger(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """A delay of a few milliseconds that moves, fed back, added to the dry signal; the sides a part of a cycle apart."""
    n = x.shape[1]
    phase = turns(s, where, n)
    depth, base = s.curve("depth_ms", n), s.flat("delay_ms")
    out = []
    for c in range(2):
        swing = 0.5 - 0.5 * np.cos(2 * np.pi * (phase + 0.5 * s.flat("width") * c))
        delay = (base + depth * swing) / 1000 * where.rate
        out.append(0.7 * x[c] + 0.7 * followers.delayed_back(x[c].astype(np.float64), delay, s.flat("feedback")))
    return np.stack(out)


def _flanger_before(s: Settings, bpm: float) -> float:
    """Until what goes round has fallen by 90 dB."""
    loop = (s.flat("delay_ms") + s.most("depth_ms")) / 1000
    return loop * (1 + np.log(10 ** (-90 / 20)) / np.log(max(abs(s.flat("feedback")), 0.01)))


FLANGER = EffectSpec(
    "flanger", "Flanger",
    (_hz(0.02, 8, 0.2), Param("delay_ms", "ms", 0.1, 10, 0.6, "Delay"), Param("depth_ms", "ms", 0, 10, 3, "Depth", moves=""),
     Param("feedback", "", -0.95, 0.95, 0.5, "Feedback"), Param("width", "", 0, 1, 0.4, "Width")),
    _flanger, (RATE,), _flanger_before, period_beats=_period,
)  # fmt: skip


def _phaser(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """All-passes in a row whose corner moves, added to the dry signal: notches that wander."""
    n = x.shape[1]
    phase = turns(s, where, n)
    out = []
    for c in range(2):
        swing = np.sin(2 * np.pi * (phase + 0.5 * s.flat("width") * c))
        corner = s.curve("centre_hz", n) * 2.0 ** (s.curve("depth_octaves", n) * swing)
        feedback = np.full(n, s.flat("feedback"))
        wet = filters.allpass_chain(x[c].astype(np.float64), corner, feedback, 2 * int(s.flat("notches")), where.rate)
        out.append(0.5 * (x[c] + wet))
    return np.stack(out)


PHASER = EffectSpec(
    "phaser", "Phaser",
    (_hz(0.02, 8, 0.3), Param("centre_hz", "Hz", 100, 6000, 900, "Centre", "log", moves="octaves"),
     Param("depth_octaves", "oct", 0, 3, 1.5, "Depth", moves=""), Param("notches", "", 1, 6, 3, "Notches", step=1),
     Param("feedback", "", 0, 0.9, 0.4, "Feedback"), Param("width", "", 0, 1, 0.3, "Width")),
    _phaser, (RATE,), lambda s, bpm: 0.5, period_beats=_period,
)  # fmt: skip

TREMOLO_SHAPES = ("sine", "square", "fall", "drawn")


def tremolo_gain(s: Settings, phase: np.ndarray) -> np.ndarray:
    """0..1 over the cycle: 1 is open."""
    u = phase - np.floor(phase)
    shape = s.choices["shape"]
    if shape == "sine":
        return np.asarray(0.5 + 0.5 * np.cos(2 * np.pi * u))
    if shape == "square":
        return np.where(u < s.flat("open"), 1.0, 0.0)
    if shape == "fall":
        return np.asarray(1 - u)
    points = np.array(s.shape or (1.0,))
    return points[np.minimum((u * len(points)).astype(int), len(points) - 1)]


def _tremolo(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """Level (or place, for auto-pan) by the LFO; steps are rounded over SMOOTH_MS so that nothing clicks."""
    n = x.shape[1]
    width = int(SMOOTH_MS / 1000 * where.rate)
    early = Where(where.rate, where.bpm, where.start - width)
    depth = s.curve("depth", n)

    def gain(offset: float) -> np.ndarray:
        open_ = tremolo_gain(s, turns(s, early, n + width) + offset)
        total = np.cumsum(np.concatenate([[0.0], open_]))
        return np.asarray((total[width:-1] - total[: -width - 1]) / width)

    left = 1 - depth * (1 - gain(0.0))
    right = 1 - depth * (1 - gain(0.5)) if s.choices["moves"] == "place" else left
    return np.asarray(x * np.stack([left, right]))


TREMOLO = EffectSpec(
    "tremolo", "Tremolo, auto-pan, rhythmic gate",
    (_hz(0.05, 30, 5), Param("depth", "", 0, 1, 0.7, "Depth", moves=""), Param("open", "", 0.05, 0.95, 0.5, "Open for")),
    _tremolo,
    (Choice("rate", RATE.options, "1/8", "Rate"), Choice("shape", TREMOLO_SHAPES, "sine", "Shape"),
     Choice("moves", ("level", "place"), "level", "Moves")),
    period_beats=_period,
)  # fmt: skip


def _sweep(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """A filter of the voices' kinds on everything that passes; its cutoff is meant to be automated."""
    cutoff, resonance, vowel = (s.values[name] for name in ("cutoff_hz", "resonance", "vowel"))
    return filters.filtered(s.choices["kind"], x.astype(np.float64), cutoff, resonance, where.rate, vowel)


#: Time constants after which a filter has forgotten what it heard, to -104 dB; and seconds for those that feed themselves.
RINGS_FOR, FED_BACK_S = 12.0, 1.0


def _sweep_before(s: Settings, bpm: float) -> float:
    """Of a second-order filter a time constant is Q / (pi hz); of two in a row, the sharper one's. Values that move are figured
    from here on: a second less whole steps of theirs, as it was a second once, so that songs sound as they did."""
    kind = s.choices["kind"]
    if kind in ("comb", "vowel", "all-pass chain"):
        return FED_BACK_S
    q = float(filters.q_of(s.most("resonance"))) * (filters.SHARPER if kind.endswith("24") else 1.0)
    heard, step = RINGS_FOR * max(q, filters.BUTTERWORTH_Q) / (np.pi * s.least("cutoff_hz")), CONTROL / 44_100
    return max(heard, FED_BACK_S - max(0.0, FED_BACK_S - heard) // step * step)


SWEEP = EffectSpec(
    "sweep", "Filter sweep",
    (Param("cutoff_hz", "Hz", 20, 20_000, 1000, "Cutoff", "log", moves="octaves"),
     Param("resonance", "", 0, 1, 0.094, "Resonance", moves=""), Param("vowel", "", 0, 4, 0, "Vowel, a to u", moves="")),
    _sweep, (Choice("kind", filters.KINDS[1:], "low-pass 24", "Kind"),), _sweep_before,
)  # fmt: skip


def _slow_down(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """As a machine that is braked evenly: at a share `along` of the stretch it runs at 1 - depth * along of its speed and
    has fallen behind by the integral of what is missing. Read between samples by cubic interpolation (Catmull-Rom)."""
    n = x.shape[1]
    along, depth = s.curve("along", n), s.flat("depth")
    behind = depth * s.flat("beats") * along**2 / 2 * 60 / where.bpm * where.rate
    place = np.maximum(np.arange(n) - behind, 0.0)
    i = np.minimum(place.astype(np.int64), n - 1)
    t = place - i
    a, b, c, d = (x[:, np.clip(i + k, 0, n - 1)] for k in (-1, 0, 1, 2))
    read = b + 0.5 * t * (c - a + t * (2 * a - 5 * b + 4 * c - d + t * (3 * (b - c) + d - a)))
    # What comes to a stop is heard no more.
    return np.where(behind > 0, read * (1 - depth * along**8), x)


SLOW_DOWN = EffectSpec(
    "slow-down", "Slow-down",
    (Param("along", "", 0, 1, 0, "How far", moves=""), Param("beats", "beats", 0.25, 32, 4, "Over"),
     Param("depth", "", 0, 1, 1, "Down by")),
    _slow_down, (), lambda s, bpm: s.flat("depth") * s.flat("beats") / 2 * 60 / bpm,
)  # fmt: skip

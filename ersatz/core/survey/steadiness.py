"""Does one tempo hold from start to end, and does the bar line stay where it is?

Method: (1) the tempo of every 12 seconds is read by itself, as the factor within 6 % at which the onsets of beat, 8th and 16th
add up best. A lasting step is a tempo change, a wandering course a drift. (2) Every bar is held against the rhythms
of barline.py; a Viterbi pass over the four beats pays for every jump, so that only a jump that all
later bars agree on is told: a beat was cut out or put in.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy import fft

from ersatz.core.survey.barline import PLACES, rhythm_scores
from ersatz.core.survey.document import TempoChange
from ersatz.core.survey.slots import Slots

WINDOW_S, HOP_S = 12.0, 3.0
FACTORS = np.arange(0.94, 1.0601, 0.001)
#: A window whose best factor stands out this much, against the median over factors, has a tempo of its own.
CLEAR = 2.2
#: Deviations under this are the method's own, and a live drummer's.
STEP = 0.005
#: So many windows in a row must agree on another tempo: a quarter of a minute and more.
RUN = 5
#: Price of a jump of the bar line: about ten bars whose rhythm fits better after it.
JUMP_COST = 3.2
#: Half a bar's jump costs more: most rhythms repeat by half bars, so a few odd bars could make it.
HALF_BAR_COST = 5.0
LEAST_LEAD = 0.04


@dataclass(frozen=True)
class Steadiness:
    """`drift_percent` is the spread of the local tempo (10th to 90th percentile); `changes` lasting steps and jumps."""

    drift_percent: float
    changes: tuple[TempoChange, ...]

    @property
    def drifts(self) -> bool:
        return self.drift_percent > 100 * STEP and not self.changes


def measure_steadiness(
    onset: np.ndarray, rate: float, bpm: float, slots: Slots, place: int, bar_line_lead: float = 1.0
) -> Steadiness:
    """`onset` is the onset curve at `rate` per second, `place` the slot of the first bar line and `bar_line_lead` its lead.

    Where the bar line itself is a guess nothing is said about its jumps.
    """
    times, factors, clear = _local_tempi(onset, rate, bpm)
    changes = _steps(times, factors, clear, bpm)
    usable = factors[clear]
    drift = float(np.subtract(*np.percentile(usable, [90, 10]))) * 100 if len(usable) >= 4 else 0.0
    if not changes and drift <= 100 * STEP and bar_line_lead >= LEAST_LEAD:
        changes = _jumps(slots, place, bpm)
    return Steadiness(round(drift, 3), changes)


def _local_tempi(onset: np.ndarray, rate: float, bpm: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Centre of each window in seconds, its tempo as a factor of `bpm`, and whether it is clear."""
    length, hop = int(WINDOW_S * rate), int(HOP_S * rate)
    if len(onset) < 2 * length:
        return np.zeros(0), np.zeros(0), np.zeros(0, bool)
    frames = np.lib.stride_tricks.sliding_window_view(onset, length)[::hop]
    size = 1 << 15
    magnitude = np.abs(fft.rfft((frames - frames.mean(axis=1, keepdims=True)) * np.hanning(length), size, axis=1))
    strength = np.zeros((len(frames), len(FACTORS)))
    for harmonic in (1, 2, 4):
        place = FACTORS * harmonic * bpm / 60 / rate * size
        base = np.minimum(place.astype(int), magnitude.shape[1] - 2)
        part = place - base
        row = magnitude[:, base] * (1 - part) + magnitude[:, base + 1] * part
        strength += row / max(float(np.median(magnitude)), 1e-9)
    best = strength.argmax(axis=1)
    inner = (best > 1) & (best < len(FACTORS) - 2)
    contrast = strength.max(axis=1) / np.maximum(np.median(strength, axis=1), 1e-9)
    loud = strength.max(axis=1) > 0.35 * np.percentile(strength.max(axis=1), 90)
    times = (np.arange(len(frames)) * hop + length / 2) / rate
    return times, FACTORS[best], inner & loud & (contrast > CLEAR)


def _steps(times: np.ndarray, factors: np.ndarray, clear: np.ndarray, bpm: float) -> tuple[TempoChange, ...]:
    """Runs of windows that agree on one tempo; where the next run differs by more than STEP there is a change."""
    runs: list[tuple[float, float, float]] = []
    where = np.flatnonzero(clear)
    start = 0
    for i in range(1, len(where) + 1):
        piece = factors[where[start:i]]
        if i < len(where) and abs(factors[where[i]] - np.median(piece)) <= STEP / 2:
            continue
        if len(piece) >= RUN:
            runs.append((float(times[where[start]]), float(times[where[i - 1]]), float(np.median(piece))))
        start = i
    out = []
    for before, after in pairwise(runs):
        if abs(after[2] - before[2]) > STEP:
            out.append(TempoChange(round((before[1] + after[0]) / 2, 2), round(after[2] * bpm, 2), 0.0))
    return tuple(out)


def _jumps(slots: Slots, place: int, bpm: float) -> tuple[TempoChange, ...]:
    """Jumps of the bar line by whole beats."""
    bars = (slots.count - place) // PLACES
    if bars < 16:
        return ()
    kick, snare, hats = (c[place : place + bars * PLACES].reshape(bars, PLACES) for c in (slots.kick, slots.snare, slots.hats))
    evidence = rhythm_scores(kick, snare, hats) * (snare.max(axis=1, keepdims=True) > 0.3)
    # Whole beats only: smaller shifts are another groove.
    evidence = evidence[:, ::4]
    path = _viterbi(evidence, np.array([0.0, JUMP_COST, HALF_BAR_COST, JUMP_COST]))
    out = []
    for bar in range(1, bars):
        beats = (path[bar] - path[bar - 1]) % 4
        if beats:
            at = float(slots.edges_s[place + _where(slots, evidence, bar, place) * PLACES])
            out.append(TempoChange(round(at, 2), round(bpm, 3), float(beats if beats < 3 else -1)))
    return tuple(out)


def _where(slots: Slots, evidence: np.ndarray, bar: int, place: int) -> int:
    """The bar of a jump that was found at `bar`: of all bars without drums around it the one where the level changes most."""
    first = last = bar
    while first > 1 and not evidence[first - 1].any():
        first -= 1
    while last + 1 < len(evidence) and not evidence[last].any():
        last += 1
    level = slots.level[:, place : place + len(evidence) * PLACES].reshape(len(slots.level), -1, PLACES).mean(axis=2)
    change = np.square(level[:, first : last + 1] - level[:, first - 1 : last]).mean(axis=0)
    return first + int(np.argmax(change))


def _viterbi(evidence: np.ndarray, cost: np.ndarray) -> list[int]:
    """Best path through (bars, states) when going from state a to b costs `cost[b - a]`; starts in state 0."""
    bars, states = evidence.shape
    turn = cost[(np.arange(states)[None, :] - np.arange(states)[:, None]) % states]
    total = evidence[0] - turn[0]
    back = np.zeros((bars, states), int)
    for bar in range(1, bars):
        reached = total[:, None] - turn
        back[bar] = reached.argmax(axis=0)
        total = reached.max(axis=0) + evidence[bar]
    path = [int(np.argmax(total))]
    for bar in range(bars - 1, 0, -1):
        path.append(int(back[bar, path[-1]]))
    return path[::-1]

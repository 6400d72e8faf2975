"""Does one tempo hold from start to end, and does the bar line stay where it is?

Method: (1) the tempo of every 12 seconds is read by itself, as the factor within 6 % at which the onsets of beat, 8th and 16th
add up best. A lasting step is a tempo change, a wandering course a drift. (2) Every bar is held against the rhythms
of barline.py; a Viterbi pass over the four beats pays for every jump, so that only a jump that all
later bars agree on is told: a beat was cut out or put in.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
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
#: A beat is cut out more often than put in; of rhythms that repeat by half bars nothing else tells the two apart.
MORE_COST = 0.1
START_COST = 3.0
#: A bar line that leads by less is a guess, and so are its jumps.
LEAST_LEAD = 0.04
#: Places of a jump whose rhythm fits within this of the best are told apart by what changes on bar lines.
AS_WELL = 0.6


@dataclass(frozen=True)
class Jump:
    """The first bar line that lies so many beats later (earlier where negative) than those before it say."""

    slot: int
    beats: int


@dataclass(frozen=True)
class Steadiness:
    """`drift_percent` is the spread of the local tempo (10th to 90th percentile); `changes` lasting steps and jumps."""

    drift_percent: float
    changes: tuple[TempoChange, ...]

    @property
    def drifts(self) -> bool:
        """Whether the tempo wanders without being at another one from some bar on."""
        return self.drift_percent > 100 * STEP and not self.changes


def measure_steadiness(onset: np.ndarray, rate: float, bpm: float, slots: Slots, jumps: tuple[Jump, ...]) -> Steadiness:
    """`onset` is the onset curve at `rate` per second, `jumps` those of the bar line; where the tempo itself changes nothing is
    said about them.
    """
    times, factors, clear = _local_tempi(onset, rate, bpm)
    changes = _steps(times, factors, clear, bpm)
    usable = factors[clear]
    drift = float(np.subtract(*np.percentile(usable, [90, 10]))) * 100 if len(usable) >= 4 else 0.0
    if not changes and drift <= 100 * STEP:
        changes = tuple(TempoChange(round(float(slots.edges_s[j.slot]), 2), round(bpm, 3), float(j.beats)) for j in jumps)
    return Steadiness(round(drift, 3), changes)


def _local_tempi(onset: np.ndarray, rate: float, bpm: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Centre of each window in seconds, its tempo as a factor of `bpm`, and whether it is clear."""
    length, hop = int(WINDOW_S * rate), int(HOP_S * rate)
    if len(onset) < 2 * length:
        return np.zeros(0), np.zeros(0), np.zeros(0, bool)
    frames = np.lib.stride_tricks.sliding_window_view(onset, length)[::hop]
    size = 1 << 15
    magnitude = np.abs(fft.rfft((frames - frames.mean(axis=1, keepdims=True)) * np.hanning(length), size, axis=1))
    usual = max(float(np.median(magnitude)), 1e-9)
    strength = np.zeros((len(frames), len(FACTORS)))
    for harmonic in (1, 2, 4):
        place = FACTORS * harmonic * bpm / 60 / rate * size
        base = np.minimum(place.astype(int), magnitude.shape[1] - 2)
        part = place - base
        row = magnitude[:, base] * (1 - part) + magnitude[:, base + 1] * part
        strength += row / usual
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


def find_jumps(slots: Slots, place: int) -> tuple[Jump, ...]:
    """Jumps of the bar line by whole beats, if there is a bar line at or near `place`."""
    bars = (slots.count - place) // PLACES
    if bars < 16:
        return ()
    kick, snare, hats = (c[place : place + bars * PLACES].reshape(bars, PLACES) for c in (slots.kick, slots.snare, slots.hats))
    # Bars without drums say nothing: chords there are taken for snares.
    drummed = np.minimum(kick.max(axis=1), snare.max(axis=1)) > 0.3
    evidence = rhythm_scores(kick, snare, hats) * drummed[:, None]
    # Whole beats only: smaller shifts are another groove.
    evidence = evidence[:, ::4]
    path = _viterbi(evidence, np.array([0.0, JUMP_COST + MORE_COST, HALF_BAR_COST, JUMP_COST]))
    turns = [bar for bar in range(1, bars) if path[bar] != path[bar - 1]]
    changes = _changes(slots)
    out = []
    for turn, first, last in zip(turns, [0, *turns], [*turns[1:], bars]):
        beats = (path[turn] - path[turn - 1]) % 4
        bar = _where(changes, evidence, path, place, (first, turn, last))
        out.append(Jump(place + bar * PLACES + 4 * path[turn], beats if beats < 3 else -1))
    return tuple(out)


def without_jumps(slots: Slots, jumps: tuple[Jump, ...]) -> Slots:
    """The track as if no beat had been cut out or put in: what is missing is repeated, what is too much left out. Only the
    first jump's times stay true."""
    order = np.arange(slots.count)
    for jump in reversed(jumps):
        before, missing = order[: jump.slot - 4 * max(jump.beats, 0)], order[jump.slot + 4 * min(jump.beats, 0) : jump.slot]
        order = np.concatenate([before, missing, order[jump.slot :]])
    return replace(
        slots, edges_s=np.append(slots.edges_s[order], slots.edges_s[-1]), kick=slots.kick[order], snare=slots.snare[order],
        hats=slots.hats[order], level=slots.level[:, order], tonal=slots.tonal[:, order],
    )  # fmt: skip


def _where(changes: np.ndarray, evidence: np.ndarray, path: list[int], place: int, span: tuple[int, int, int]) -> int:
    """The bar of a jump found at the middle one of three bars: of all places between its neighbours that the rhythm likes about as
    well, the one for which most of what changes does so on the old bar lines before it and on the new ones after it."""
    first, turn, last = span
    old, new = path[turn - 1], path[turn]
    gathered = np.cumsum(evidence[first:last, old] - evidence[first:last, new])[:-1]
    lines = place + np.arange(first, last) * PLACES
    on_old, on_new = (changes[np.minimum(lines + 4 * state, len(changes) - 1)] for state in (old, new))
    fits = np.cumsum(on_old - on_new)[:-1]
    fits[gathered < gathered.max() - AS_WELL] = -np.inf
    return first + 1 + int(np.argmax(fits))


def _changes(slots: Slots) -> np.ndarray:
    """How much level and pitches change at each slot, half a bar before against half a bar after, each against its mean."""
    out = np.zeros(slots.count)
    half = PLACES // 2
    unit = slots.tonal / np.maximum(np.linalg.norm(slots.tonal, axis=0, keepdims=True), 1e-9)
    for curve in (slots.level, unit):
        total = np.concatenate([np.zeros((len(curve), 1)), np.cumsum(curve, axis=1)], axis=1)
        mean = (total[:, half:] - total[:, :-half]) / half
        change = np.square(mean[:, half:] - mean[:, :-half]).sum(axis=0)
        out[half : half + len(change)] += change / max(float(change.mean()), 1e-12)
    return out


def _viterbi(evidence: np.ndarray, cost: np.ndarray) -> list[int]:
    """Best path through (bars, states) when going from state a to b costs `cost[b - a]`; the first state costs a little less
    than a jump: what the bars before it say may be wrong."""
    bars, states = evidence.shape
    turn = cost[(np.arange(states)[None, :] - np.arange(states)[:, None]) % states]
    total = evidence[0] - np.minimum(turn[0], START_COST)
    back = np.zeros((bars, states), int)
    for bar in range(1, bars):
        reached = total[:, None] - turn
        back[bar] = reached.argmax(axis=0)
        total = reached.max(axis=0) + evidence[bar]
    path = [int(np.argmax(total))]
    for bar in range(bars - 1, 0, -1):
        path.append(int(back[bar, path[-1]]))
    return path[::-1]

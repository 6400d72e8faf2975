"""Which transitions announce the sections: risers, snare rolls, gaps, impacts, falls and filter sweeps.

Method, at every boundary of two sections: a riser is a steady climb of the noise level (sections.py) that ends there; a snare
roll a run of one to eight bars before it with hits of clap or snare that the bars before don't have; a gap a stretch of up to two
bars in which the level falls well under both sides; an impact noise that rings through the first bar and is gone two bars later; a
fall noise that sinks steadily over the first two bars. A filter sweep is a stretch inside a section, without a riser, over which
the upper edge of what sounds moves steadily by most of an octave or more.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import Event
from ersatz.core.survey.frames import EDGES_HZ
from ersatz.core.survey.hits import Hits
from ersatz.core.survey.sections import Span, ramp
from ersatz.core.survey.shared import Shared

#: A hit of a roll is softer than a backbeat's.
ROLL_HIT = 0.12
#: Hits in the densest of a roll's last two bars, and in each of its bars.
ROLL_DENSE, ROLL_SPARSE = 6, 2
ROLL_BARS, ROLL_BEFORE = (1, 2, 4, 8), 4
#: How far a roll's hit stands over what the bars before have on its step.
ROLL_OVER = 0.12
#: A gap against the beats before it, against what follows, and against its own beats in the bars before.
GAP_DB, GAP_BEFORE_DB, GAP_UNUSUAL_DB, MOST_GAP_BEATS = 3.5, 8.0, 2.0, 7
IMPACT_DB, FALL_DB = 3.0, 8.0
#: The upper edge is where the density of power has fallen so far under its maximum from 360 Hz to 1 kHz.
EDGE_LOW_HZ, EDGE_TOP_HZ, EDGE_DB, EDGE_BANDS = 360, 18_000, 18.0, 5
#: A sweep moves the edge so far, and strays from a straight line by less than this share of it.
SWEEP_OCTAVES, SWEEP_STRAY = 0.7, 0.12
SWEEP_BARS = (32, 16, 12, 8, 4)


def find_events(shared: Shared, bars: BarTable, spans: list[Span], hits: Hits, noise: np.ndarray) -> tuple[Event, ...]:
    """`noise` as sections.rising_noise gives it."""
    beats = bars.grid.beats_per_bar
    full = _db(bars.step_means(shared.power(20, 18_000), shared.hop_s, beats)).ravel()
    out: list[Event] = []
    for before, span in pairwise(spans):
        boundary = span.start
        if span.label == "drop" or before.label == "build":
            out += _riser(noise, boundary, beats)
        if span.label == "drop" and before.label != "drop":
            out += _roll(hits.clap, boundary, beats)
        out += find_gap(full, boundary, beats)
        falls = _fall(noise, boundary, beats) if span.label in ("breakdown", "outro", "bridge") else []
        # A fall begins as loud as an impact; a riser before a drop may end as loud as what it leads to.
        out += falls or _impact(noise, boundary, after_riser=span.label == "drop")
    edge = upper_edge(shared, bars)
    rising = [(e.start_bar, e.start_bar + e.beats / beats) for e in out if e.kind == "riser"]
    for span in spans:
        out += _sweep(edge, span, beats, rising)
    return tuple(sorted(out, key=lambda e: e.start_bar))


def _db(power: np.ndarray) -> np.ndarray:
    return np.asarray(10 * np.log10(power + 1e-10))


def _confidence(value: float, sure: float) -> float:
    return round(float(np.clip(value / sure, 0.2, 0.95)), 2)


def _riser(noise: np.ndarray, boundary: int, beats: int) -> list[Event]:
    length, climb = ramp(noise, boundary)
    return [Event("riser", boundary - length + 1, float(length * beats), _confidence(climb, 25))] if length else []


def _roll(clap: np.ndarray, boundary: int, beats: int) -> list[Event]:
    """`clap` is the strength of snare or clap per bar and step; what the bars before the roll have as well, such as stabs that are
    taken for hits, is no part of it."""
    best: list[Event] = []
    for length in ROLL_BARS:
        start = boundary - length
        if start < ROLL_BEFORE:
            break
        usual = np.median(clap[start - ROLL_BEFORE : start], axis=0)
        new = ((clap[start:boundary] > ROLL_HIT) & (clap[start:boundary] > usual + ROLL_OVER)).sum(axis=1)
        # The very last bar may be a gap.
        if new[-2:].max() < ROLL_DENSE or new[:-1].min(initial=ROLL_SPARSE) < ROLL_SPARSE:
            continue
        best = [Event("snare roll", start + 1, float(length * beats), _confidence(float(new.max()), 14))]
    return best


def find_gap(full: np.ndarray, boundary: int, beats: int) -> list[Event]:
    """Beats right before the boundary that lie under the four before them, under what the bars before have on the same beats, and
    far under what follows: the longest such stretch."""
    at = boundary * beats
    if len(full) < at + 4:
        return []
    follows = float(np.median(full[at : at + 8]))
    for length in range(MOST_GAP_BEATS, 0, -1):
        start = at - length
        # A rhythm's own quiet beat comes again in every bar: it is looked for in the three bars before.
        bars_back = -(-length // beats)
        if start < max(4, bars_back + 2) * beats:
            continue
        inside = full[start:at]
        before = float(np.median(full[start - 4 : start]))
        usual = np.median([full[start - k * beats : at - k * beats] for k in range(bars_back, bars_back + 3)], axis=0)
        if np.all(inside < np.minimum(before - GAP_DB, follows - GAP_BEFORE_DB)) and np.all(inside < usual - GAP_UNUSUAL_DB):
            depth = min(before, follows) - float(inside.mean())
            return [Event("gap", 1 + start / beats, float(length), _confidence(depth, 12))]
    return []


def _impact(noise: np.ndarray, boundary: int, after_riser: bool) -> list[Event]:
    later = noise[2 * boundary + 4 : 2 * boundary + 12]
    if len(later) < 4:
        return []
    rise = float(noise[2 * boundary] - np.median(later))
    if rise < IMPACT_DB or noise[2 * boundary] < noise[2 * boundary + 1]:
        return []
    # What was as loud before is no new sound but the end of the old one.
    if not after_riser and noise[2 * boundary] < float(np.median(noise[max(0, 2 * boundary - 4) : 2 * boundary])) + IMPACT_DB:
        return []
    return [Event("impact", 1 + boundary, 1.0, _confidence(rise, 9))]


def _fall(noise: np.ndarray, boundary: int, beats: int) -> list[Event]:
    piece = noise[2 * boundary : 2 * boundary + 4]
    if len(piece) < 4 or np.any(np.diff(piece) > 0.5):
        return []
    sunk = float(piece[0] - piece[-1])
    return [Event("fall", 1 + boundary, float(2 * beats), _confidence(sunk, 20))] if sunk > FALL_DB else []


def upper_edge(shared: Shared, bars: BarTable) -> np.ndarray:
    """Upper edge of what sounds on, per bar, octaves over 1 Hz, shape (bars,). Hits are left out by taking the quiet steps, notes
    with less in their tops by taking the brighter half of each bar.
    """
    rows = shared.rows(EDGE_LOW_HZ, EDGE_TOP_HZ)
    low, high = np.array(EDGES_HZ[:-1], float)[rows], np.array(EDGES_HZ[1:], float)[rows]
    steps = bars.step_means((shared.mid_power + shared.side_power)[rows], shared.hop_s, 2 * bars.steps)
    halves = np.percentile(steps.reshape(len(low), 2 * bars.count, -1), 25, axis=2)
    density = _db(halves) - 10 * np.log10(high - low)[:, None]
    over = density - (density[:EDGE_BANDS].max(axis=0) - EDGE_DB)
    last = len(low) - 1 - np.argmax(over[::-1] >= 0, axis=0)
    after = np.minimum(last + 1, len(low) - 1)
    columns = np.arange(over.shape[1])
    part = np.clip(over[last, columns] / np.maximum(over[last, columns] - over[after, columns], 1e-6), 0, 1)
    octave = np.log2(np.sqrt(low * high))
    edge = octave[last] + part * (octave[after] - octave[last])
    return np.asarray(edge.reshape(bars.count, 2).max(axis=1))


def _sweep(edge: np.ndarray, span: Span, beats: int, risers: list[tuple[float, float]]) -> list[Event]:
    """The longest stretch at either end of a section over which the edge moves along a straight line in octaves."""
    for length in SWEEP_BARS:
        if length > span.bars:
            continue
        for first in {span.start, span.start + span.bars - length}:
            if any(start < first + 1 + length and end > first + 1 for start, end in risers):
                continue
            piece = edge[first : first + length]
            if len(piece) < length:
                continue
            slope, level = np.polyfit(np.arange(length), piece, 1)
            moved = float(slope) * (length - 1)
            stray = float(np.abs(piece - slope * np.arange(length) - level).mean())
            if abs(moved) >= SWEEP_OCTAVES and stray <= SWEEP_STRAY * abs(moved):
                ends = tuple(round(float(2**octave), 1) for octave in (level, level + moved))
                sure = _confidence(1 - stray / (SWEEP_STRAY * abs(moved)), 1.0)
                return [Event("sweep", first + 1, float(length * beats), sure, (ends[0], ends[1]))]
    return []

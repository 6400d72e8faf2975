"""Pitch bends of MIDI and bends of notes, both ways.

Conventions: a bend is (ticks from the note's start, semitones), joined by lines; the pitch wheel runs from -8192 to 8191 over the
range that its channel has been set to by registered parameter 0 (MIDI 1.0, pitch bend sensitivity), 2 semitones until then.
"""

from __future__ import annotations

import math
from itertools import pairwise

import mido

Bend = tuple[tuple[float, float], ...]

#: Range that is written, semitones: bends reach two octaves.
RANGE = 24
USUAL_RANGE = 2.0
#: A sliding wheel is moved this often, ticks: about 4 ms at 120 BPM.
STEP = 8
#: What is read is simplified to lines that miss no wheel position by more, semitones.
FINE = 0.02


def sensitivity(channel: int) -> list[mido.Message]:
    """Messages that set a channel's wheel to RANGE."""
    pairs = ((101, 0), (100, 0), (6, RANGE), (38, 0), (101, 127), (100, 127))
    return [mido.Message("control_change", channel=channel, control=c, value=v) for c, v in pairs]


def wheel(semitones: float) -> int:
    """MIDI pitch wheel value, -8192..8191, of a bend in semitones; RANGE semitones are the whole way."""
    return max(-8192, min(8191, round(semitones / RANGE * 8192)))


def moves(start: int, end: int, bend: Bend, offset: float) -> list[tuple[int, int]]:
    """(tick, wheel) of a note that lasts from `start` to `end` and lies `offset` semitones beside its key."""
    if not bend:
        return [(start, wheel(offset))]
    places = {0.0, *(min(at, float(end - start)) for at, _ in bend)}
    for (a, from_st), (b, to_st) in pairwise(bend):
        if from_st != to_st:
            places |= {float(t) for t in range(math.ceil(a), min(math.ceil(b), end - start), STEP)}
    return [(start + round(at), wheel(offset + value_at(bend, at))) for at in sorted(places)]


def value_at(bend: Bend, at: float) -> float:
    """Semitones at a place; a bend stands still in front of its first point and behind its last."""
    if at <= bend[0][0]:
        return bend[0][1]
    for (a, low), (b, high) in pairwise(bend):
        if at < b:
            return low + (high - low) * (at - a) / (b - a)
    return bend[-1][1]


def bend_of(positions: list[tuple[int, float]], start: int, end: int) -> tuple[float, Bend]:
    """(semitones that the note stands beside its key all along, its bend) from wheel positions as (tick, semitones), in order."""
    standing = next((st for tick, st in reversed(positions) if tick <= start), 0.0)
    points = [(0.0, standing)]
    for tick, semitones in positions:
        if start < tick < end:
            at = float(tick - start)
            # A wheel that isn't moved stands where it was, until just before it moves again.
            if at - points[-1][0] > STEP:
                points.append((at - STEP, points[-1][1]))
            points.append((at, semitones))
    return (0.0, tuple(_simplified(points))) if len(points) > 1 else (standing, ())


def _simplified(points: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """The line through fewest of the points that passes all others within FINE (Douglas & Peucker 1973)."""
    keep, stack = {0, len(points) - 1}, [(0, len(points) - 1)]
    while stack:
        first, last = stack.pop()
        (a, low), (b, high) = points[first], points[last]
        miss = [(abs(points[k][1] - low - (high - low) * (points[k][0] - a) / (b - a)), k) for k in range(first + 1, last)]
        far, k = max(miss, default=(0.0, 0))
        if far > FINE:
            keep.add(k)
            stack += [(first, k), (k, last)]
    return [points[k] for k in sorted(keep)]

"""Which transitions announce the sections: risers, snare rolls, gaps, impacts and falls, found at the joints.

Method, at every joint of two sections: a riser is a steady climb of the noise level (sections.py) that ends there; a snare
roll a run of bars before it in which hits of clap or snare get denser; a gap a stretch of up to two bars in which the level
falls well under both sides; an impact noise that rings through the first bar and is gone two bars later; a fall noise that sinks
steadily over the first two bars. Only joints are searched.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import Event
from ersatz.core.survey.hits import Hits
from ersatz.core.survey.sections import Span, ramp, rising_noise
from ersatz.core.survey.shared import Shared

#: A hit of a roll is softer than a backbeat's.
ROLL_HIT = 0.18
#: Hits in the densest of a roll's last two bars, and in each of its bars.
ROLL_DENSE, ROLL_SPARSE = 6, 3
ROLL_BARS = 8
IMPACT_DB, FALL_DB = 3.0, 8.0


def find_events(shared: Shared, bars: BarTable, spans: list[Span], hits: Hits) -> tuple[Event, ...]:
    beats = bars.grid.beats_per_bar
    full = _db(bars.step_means(shared.power(20, 18_000), shared.hop_s, beats)).ravel()
    noise = rising_noise(shared, bars)
    rolled = (hits.clap > ROLL_HIT).sum(axis=1)
    out: list[Event] = []
    for before, span in pairwise(spans):
        joint = span.start
        if span.label == "drop" or before.label == "build":
            out += _riser(noise, joint, beats)
        if span.label == "drop" and before.label != "drop":
            out += _roll(rolled, joint, beats)
        out += _gap(full, joint, beats)
        falls = _fall(noise, joint, beats) if span.label in ("breakdown", "outro", "bridge") else []
        # A fall begins as loud as an impact; a riser before a drop may end as loud as what it leads to.
        out += falls or _impact(noise, joint, after_riser=span.label == "drop")
    return tuple(out)


def _db(power: np.ndarray) -> np.ndarray:
    return np.asarray(10 * np.log10(power + 1e-10))


def _confidence(value: float, sure: float) -> float:
    return round(float(np.clip(value / sure, 0.2, 0.95)), 2)


def _riser(noise: np.ndarray, joint: int, beats: int) -> list[Event]:
    length, climb = ramp(noise, joint)
    return [Event("riser", joint - length + 1, float(length * beats), _confidence(climb, 25))] if length else []


def _roll(rolled: np.ndarray, joint: int, beats: int) -> list[Event]:
    """`rolled` is the number of snare hits per bar."""
    # The very last bar may be a gap.
    if rolled[max(0, joint - 2) : joint].max(initial=0) < ROLL_DENSE:
        return []
    start = joint - 1
    while start > max(0, joint - ROLL_BARS) and rolled[start - 1] >= ROLL_SPARSE:
        start -= 1
    return [Event("snare roll", start + 1, float((joint - start) * beats), _confidence(float(rolled[start:joint].max()), 14))]


def _gap(full: np.ndarray, joint: int, beats: int) -> list[Event]:
    """Beats right before the joint that lie 5 dB and more under what precedes and 8 dB under what follows."""
    at = joint * beats
    if at < 8 or len(full) < at + 4:
        return []
    base = float(np.median(full[max(0, at - 16) : at - 4]))
    follows = float(np.median(full[at : at + 8]))
    length = 0
    while length < 8 and full[at - 1 - length] < min(base - 5, follows - 8):
        length += 1
    if length in (0, 8):
        return []
    depth = min(base, follows) - float(full[at - length : at].mean())
    return [Event("gap", 1 + (at - length) / beats, float(length), _confidence(depth, 12))]


def _impact(noise: np.ndarray, joint: int, after_riser: bool) -> list[Event]:
    later = noise[2 * joint + 4 : 2 * joint + 12]
    if len(later) < 4:
        return []
    rise = float(noise[2 * joint] - np.median(later))
    if rise < IMPACT_DB or noise[2 * joint] < noise[2 * joint + 1]:
        return []
    # What was as loud before is no new sound but the end of the old one.
    if not after_riser and noise[2 * joint] < float(np.median(noise[max(0, 2 * joint - 4) : 2 * joint])) + IMPACT_DB:
        return []
    return [Event("impact", 1 + joint, 1.0, _confidence(rise, 9))]


def _fall(noise: np.ndarray, joint: int, beats: int) -> list[Event]:
    piece = noise[2 * joint : 2 * joint + 4]
    if len(piece) < 4 or np.any(np.diff(piece) > 0.5):
        return []
    sunk = float(piece[0] - piece[-1])
    return [Event("fall", 1 + joint, float(2 * beats), _confidence(sunk, 20))] if sunk > FALL_DB else []

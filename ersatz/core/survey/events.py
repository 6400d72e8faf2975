"""Which transitions announce the sections: gaps, impacts and risers, found at the joints.

Method: a gap is a stretch of up to two bars before a joint in which the level falls well under both sides; an impact is a
joint whose first beat outdoes the beats after it in low and high bands; a riser is a steady climb of the top band's level over
the last bars before a joint. Only joints are searched.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import Event
from ersatz.core.survey.sections import Span
from ersatz.core.survey.shared import Shared


def find_events(shared: Shared, bars: BarTable, spans: list[Span]) -> tuple[Event, ...]:
    beats = bars.grid.beats_per_bar
    full = _db(bars.step_means(shared.power(20, 18_000), shared.hop_s, beats)).ravel()
    low = _db(bars.step_means(shared.power(20, 155), shared.hop_s, beats)).ravel()
    high = _db(bars.step_means(shared.power(3600, 18_000), shared.hop_s, beats)).ravel()
    out: list[Event] = []
    for span in spans[1:]:
        joint = span.start * beats
        before, after = full[max(0, joint - 16) : joint], full[joint : joint + 8]
        if len(before) < 8 or len(after) < 4:
            continue
        out += _gap(low, full, joint)
        out += _impact(low, high, joint, beats)
        out += _riser(high, joint, beats)
    return tuple(out)


def _db(power: np.ndarray) -> np.ndarray:
    return np.asarray(10 * np.log10(power + 1e-10))


def _gap(low: np.ndarray, full: np.ndarray, joint: int) -> list[Event]:
    """Beats right before the joint that lie 5 dB and more under what precedes and 8 dB under what follows."""
    base = float(np.median(full[max(0, joint - 16) : joint - 4]))
    follows = float(np.median(full[joint : joint + 8]))
    length = 0
    while length < 8 and full[joint - 1 - length] < min(base - 5, follows - 8):
        length += 1
    if length == 0 or length == 8:
        return []
    depth = min(base, follows) - float(full[joint - length : joint].mean())
    return [Event("gap", 1 + (joint - length) / 4, float(length), round(float(np.clip(depth / 12, 0.3, 0.95)), 2))]


def _impact(low: np.ndarray, high: np.ndarray, joint: int, beats: int) -> list[Event]:
    rest = slice(joint + 8, joint + 32)
    if joint + 16 > len(low):
        return []
    rise = float(high[joint] - np.median(high[rest]))
    if rise < 2.5:
        return []
    return [Event("impact", 1 + joint / beats, 1.0, round(float(np.clip(rise / 8, 0.2, 0.9)), 2))]


def _riser(high: np.ndarray, joint: int, beats: int) -> list[Event]:
    for bars_long in (16, 8, 4):
        start = joint - bars_long * beats
        if start < 0:
            continue
        piece = high[start : joint - 2]
        slope, level = np.polyfit(np.arange(len(piece)), piece, 1)
        climb = float(slope) * len(piece)
        residual = piece - (slope * np.arange(len(piece)) + level)
        if climb > 8 and float(residual.std()) < 0.28 * climb:
            return [Event("riser", 1 + start / beats, float(bars_long * beats),
                          round(float(np.clip(climb / 25, 0.3, 0.9)), 2))]  # fmt: skip
    return []

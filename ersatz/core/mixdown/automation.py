"""Automated values over samples: points joined by bent lines, read at a control rate and joined by straight lines between.

CONTROL samples are 1.5 ms at 44.1 kHz: no step of a value is heard as a step, and a curve costs little.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from itertools import pairwise
from operator import attrgetter
from typing import TypeVar

import numpy as np

from ersatz.core.dsp.control import CONTROL, joined
from ersatz.core.grid import BarGrid
from ersatz.core.song.strips import Automation
from ersatz.core.voices.modulation import bent

#: Figures are rounded to so many, so that equal stretches give equal ones and share a key.
DIGITS = 6
_tick = attrgetter("tick")
#: One place, or many.
Samples = TypeVar("Samples", float, np.ndarray)


def values_at(automation: Automation, ticks: np.ndarray) -> np.ndarray:
    """The value at each position, shape of `ticks`; before the first point and after the last it stands still."""
    points = automation.points
    places = np.array([p.tick for p in points], float)
    heights = np.array([p.value for p in points], float)
    out = np.interp(ticks, places, heights)
    for i, (a, b) in enumerate(pairwise(points)):
        if a.curve and b.tick > a.tick:
            inside = (ticks >= a.tick) & (ticks < b.tick)
            u = (ticks[inside] - a.tick) / (b.tick - a.tick)
            out[inside] = heights[i] + (heights[i + 1] - heights[i]) * bent(u, a.curve)
    return np.asarray(out)


def control_values(automation: Automation, grid: BarGrid, bar: int, before: int, n: int, rate_hz: int) -> np.ndarray:
    """Values at every CONTROL samples of a stretch that begins `before` samples in front of 0-based `bar` and is `n` long."""
    at = np.arange(-before, n - before + CONTROL, CONTROL)
    return np.asarray(np.round(values_at(automation, ticks_at(at, grid, bar, rate_hz)), DIGITS))


def ticks_at(samples: Samples, grid: BarGrid, bar: int, rate_hz: int) -> Samples:
    """Ticks of the song at samples counted from the line of 0-based `bar`."""
    return bar * grid.ticks_per_bar + samples / rate_hz / grid.beat_s * grid.ticks_per_bar / grid.beats_per_bar


def curve(control: np.ndarray | float, n: int) -> np.ndarray:
    """Control values, or one that stands, to one per sample, shape (n,); behind the last one it stands."""
    return joined(control, CONTROL, n)


def standing(automation: Automation, first_tick: float, last_tick: float) -> float | None:
    """The one value that a curve has all through a stretch; None where it moves."""
    points = automation.points
    # The points inside and the ones on both sides of them; the curve stands where all are the same.
    first = bisect_right(points, first_tick, key=_tick) - 1
    last = bisect_left(points, last_tick, key=_tick)
    around = {p.value for p in points[max(first, 0) : last + 1]}
    return around.pop() if len(around) == 1 else None

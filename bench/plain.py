"""Plain changes: bar lines at which a track audibly steps, read from the audio alone, to hold found sections and changes against.

A bar line is plain where the level of one of six bands (30, 90, 250, 800, 2500, 7000, 15000 Hz), as the median or the 95th
percentile of frames of 50 ms, steps by STEP_DB or more between the four bars before and the four behind and keeps within STEADY_DB
on either side. Nothing of this is shared with the survey; of lines next to each other the largest step counts.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np
import soundfile

EDGES_HZ = (30, 90, 250, 800, 2500, 7000, 15_000)
FRAME_S = 0.05
STEP_DB, STEADY_DB, AROUND_BARS = 6.0, 3.0, 4
#: What is quieter than this under the track's loudest bar doesn't count as sounding.
FLOOR_DB = 60.0
#: A boundary at which no measure moves by this much stands where nothing changes.
NOTHING_DB = 1.5


@dataclass(frozen=True)
class Levels:
    """Level per measure (two percentiles of six bands) and bar, dB, shape (12, bars)."""

    db: np.ndarray

    def step_db(self, bar: int) -> float:
        """Largest steady step at 0-based bar line `bar`, 0 where there is none."""
        if not AROUND_BARS <= bar <= self.db.shape[1] - AROUND_BARS:
            return 0.0
        before, behind = self.db[:, bar - AROUND_BARS : bar], self.db[:, bar : bar + AROUND_BARS]
        steady = _is_steady(before) & _is_steady(behind)
        step = np.abs(behind.mean(axis=1) - before.mean(axis=1))
        return float(np.max(np.where(steady, step, 0.0)))

    def moves_db(self, bar: int) -> float:
        """How far any measure moves from the bars before to those behind a line, steady or not."""
        before = self.db[:, max(0, bar - AROUND_BARS) : bar]
        behind = self.db[:, bar : bar + AROUND_BARS]
        return float(np.max(np.abs(behind.mean(axis=1) - before.mean(axis=1)))) if before.size and behind.size else 99.0


def _is_steady(levels: np.ndarray) -> np.ndarray:
    """Which measures keep within STEADY_DB of their median, shape (12,)."""
    return np.asarray(np.abs(levels - np.median(levels, axis=1, keepdims=True)).max(axis=1) <= STEADY_DB)


def levels_of(path: Path, first_downbeat_s: float, bar_s: float, bars: int) -> Levels:
    x, rate = soundfile.read(str(path), dtype="float32", always_2d=True)
    frame = int(FRAME_S * rate)
    count = len(x) // frame
    window = np.hanning(frame).astype(np.float32)
    edges = np.round(np.array(EDGES_HZ) * frame / rate).astype(int)
    power = np.zeros((len(EDGES_HZ) - 1, count))
    for channel in x.T:
        frames = channel[: count * frame].reshape(count, frame)
        for start in range(0, count, 2000):
            square = np.abs(np.fft.rfft(frames[start : start + 2000] * window, axis=1)) ** 2
            for k, (low, high) in enumerate(pairwise(edges)):
                power[k, start : start + 2000] += square[:, low : max(high, low + 1)].sum(axis=1)
    db = 10 * np.log10(power + 1e-12)
    rows = []
    for share in (50, 95):
        for band in db:
            row = []
            for bar in range(bars):
                a = int((first_downbeat_s + bar * bar_s) / FRAME_S + 0.5)
                b = max(a + 1, int((first_downbeat_s + (bar + 1) * bar_s) / FRAME_S + 0.5))
                inside = band[a:b]
                row.append(np.percentile(inside, share) if len(inside) else -120.0)
            rows.append(row)
    found = np.array(rows)
    return Levels(np.maximum(found, found.max() - FLOOR_DB))


def plain_changes(levels: Levels) -> list[int]:
    """0-based bars that begin with a plain change."""
    steps = [levels.step_db(bar) for bar in range(levels.db.shape[1])]
    return [
        bar for bar, step in enumerate(steps)
        if step >= STEP_DB and step >= max(steps[max(0, bar - 1) : bar + 2]) and (bar == 0 or steps[bar - 1] < step)
    ]  # fmt: skip

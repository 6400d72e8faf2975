"""What every bar-wise question needs: the grid's edges and curves read at its 16th steps."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.grid import BarGrid
from ersatz.core.survey.shared import Shared, frame_means

#: 16ths per beat.
STEPS_PER_BEAT = 4
#: A last bar whose mean power lies 33 dB under the loudest bar's is a tail.
RUNG_OUT = 5e-4


@dataclass(frozen=True)
class BarTable:
    """The track cut into bars. `edges_s` has one more entry than there are bars."""

    grid: BarGrid
    count: int
    edges_s: np.ndarray

    @property
    def steps(self) -> int:
        """16ths per bar: 16 in 4/4."""
        return self.grid.beats_per_bar * STEPS_PER_BEAT

    def means(self, values: np.ndarray, hop_s: float) -> np.ndarray:
        """Mean of a curve (..., frames) per bar, shape (..., bars)."""
        return frame_means(values, self.edges_s, hop_s)

    def step_edges_s(self, per_bar: int) -> np.ndarray:
        """Seconds of all lines at `per_bar` steps a bar, shape (count * per_bar + 1,)."""
        step = self.grid.bar_s / per_bar
        return self.grid.first_downbeat_s + np.arange(self.count * per_bar + 1) * step

    def step_means(self, values: np.ndarray, hop_s: float, per_bar: int | None = None) -> np.ndarray:
        """Mean of a curve per step, shape (..., bars, per_bar); 16ths unless said otherwise."""
        per_bar = per_bar or self.steps
        flat = frame_means(values, self.step_edges_s(per_bar), hop_s)
        return flat.reshape(*flat.shape[:-1], self.count, per_bar)

    def step_times_s(self, swing_s: float) -> np.ndarray:
        """Time of every 16th, odd ones `swing_s` later, shape (bars * steps,)."""
        times = self.step_edges_s(self.steps)[:-1].copy()
        times[1::2] += swing_s
        return times


def bar_table(shared: Shared, grid: BarGrid) -> BarTable:
    """The grid's bars up to where the track has rung out: a tail after the last bar is no bar of its own."""
    count = grid.bars_in(shared.duration_s)
    edges = grid.first_downbeat_s + np.arange(count + 1) * grid.bar_s
    level = frame_means(shared.mid_power.sum(axis=0) + shared.side_power.sum(axis=0), edges, shared.hop_s)
    while count > 1 and level[count - 1] < level.max() * RUNG_OUT:
        count -= 1
    return BarTable(grid, count, edges[: count + 1])

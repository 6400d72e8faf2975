"""Bar lines in samples, and what lies around a bar.

Conventions: `bar` is 0-based, bars before the song are negative; a bar's samples are float32 of shape (2, samples of the bar), None
for silence.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ersatz.core.grid import BarGrid

RATE_HZ = 44_100


class Bars:
    """The bars of a song."""

    def __init__(self, grid: BarGrid):
        self.grid = grid
        self._edges: dict[int, int] = {}

    def edge(self, bar: int) -> int:
        """Sample of a bar's line; bars before the song lie before 0."""
        if bar not in self._edges:
            self._edges[bar] = self.grid.sample_of_bar(bar + 1, RATE_HZ)
        return self._edges[bar]

    def length(self, bar: int) -> int:
        """Samples of a bar; bars differ by one where the bar has no whole number of them."""
        return self.edge(bar + 1) - self.edge(bar)

    def around(self, bar: int, before: int, after: int) -> range:
        """Bars that hold a bar and so many samples in front of it and behind it."""
        first, last = bar, bar
        while self.edge(first) > self.edge(bar) - before:
            first -= 1
        while self.edge(last + 1) < self.edge(bar + 1) + after:
            last += 1
        return range(first, last + 1)

    def lengths(self, bars: range) -> tuple[int, ...]:
        """Samples of each of some bars (0-based)."""
        return tuple(self.length(b) for b in bars)

    def silence(self, bar: int) -> np.ndarray:
        """A silent bar, float32, shape (2, samples of that bar)."""
        return np.zeros((2, self.length(bar)), np.float32)

    def stretch(
        self, pieces: Sequence[np.ndarray | None], bars: range, bar: int, before: int, after: int, dtype: type = np.float32
    ) -> np.ndarray:  # fmt: skip
        """The samples from `before` in front of a bar to `after` behind it, of `bars`, which are those around it; shape (2, n)."""
        start = self.edge(bar) - before
        out: np.ndarray = np.zeros((2, before + self.length(bar) + after), dtype)
        for b, samples in zip(bars, pieces):
            if samples is not None:
                at = self.edge(b) - start
                inside = slice(max(at, 0), max(0, min(at + samples.shape[1], out.shape[1])))
                out[:, inside] = samples[:, inside.start - at : inside.stop - at]
        return out

"""Which bars stand for a whole song while it is matched: half of them, the two in the middle of each phrase.

Club music repeats: what enters, leaves or fills does so at the lines of phrases of four bars, so that the bars between stand for
those beside them. Where all bars are laid out from these, a song is as loud as measured whole to within a few hundredths of a LU,
and its phrases to 0.2 dB in the mean.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.balance.lanes import spread_bars
from ersatz.core.loudness import STEP_S
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.song.document import Song

#: Of so many bars one is listened to.
ONE_OF = 2


def stretches(song: Song, section: int) -> list[tuple[int, int]]:
    """The bars that stand for a section (by its place), as stretches of first and last bar, 1-based."""
    return spread_bars(song, section, song.sections[section].bars // ONE_OF)


@dataclass(frozen=True)
class Excerpt:
    """`bars`: 0-based bars of a song that are listened to, rising. `heard_for`: for each bar of the song the one of `bars` that
    stands for it, which is itself where that is among them."""

    bars: tuple[int, ...]
    heard_for: tuple[int, ...]

    def lengths(self, bars: Bars) -> np.ndarray:
        """Samples of each bar of the excerpt."""
        return np.array([bars.length(bar) for bar in self.bars], int)

    def starts(self, bars: Bars) -> dict[int, int]:
        """Where each bar of the excerpt begins in its samples one after the other."""
        lengths = self.lengths(bars)
        return dict(zip(self.bars, (np.cumsum(lengths) - lengths).tolist()))

    def steps(self, bars: Bars) -> np.ndarray:
        """Loudness is measured in steps of 100 ms: for each whole step of the song, the place of the one of the excerpt's samples,
        one after the other, that stands for it."""
        step = round(STEP_S * RATE_HZ)
        starts, count = self.starts(bars), int(self.lengths(bars).sum()) // step
        found = []
        for bar, heard in enumerate(self.heard_for):
            # Those that begin in the bar.
            first, stop = (-(-bars.edge(b) // step) for b in (bar, bar + 1))
            inside = np.arange(first, stop) * step - bars.edge(bar)
            found.append((starts[heard] + np.minimum(inside, bars.length(heard) - 1)) // step)
        return np.minimum(np.concatenate(found), count - 1)


def excerpt_of(song: Song) -> Excerpt:
    """The bars that stand for a song."""
    bars: list[int] = []
    heard_for: list[int] = []
    for place, (first, section) in enumerate(song.placed()):
        own = np.concatenate([np.arange(a - 1, b) for a, b in stretches(song, place)])
        bars += own.tolist()
        heard_for += [int(own[np.argmin(np.abs(own - bar))]) for bar in range(first - 1, first - 1 + section.bars)]
    return Excerpt(tuple(bars), tuple(heard_for))


def whole(song: Song) -> Excerpt:
    """All bars of a song, each for itself."""
    return Excerpt(tuple(range(song.bars)), tuple(range(song.bars)))

"""Which bars stand for a whole song while it is matched: half of them, the two in the middle of each phrase.

Club music repeats: what enters, leaves or fills does so at the lines of phrases of four bars, so that the bars between stand for
those beside them. Where all bars are laid out from these, a song is as loud as measured whole to within a few hundredths of a LU,
and its phrases to 0.2 dB in the mean.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from ersatz.core.balance.gain import peaks_db
from ersatz.core.balance.lanes import spread_bars
from ersatz.core.dsp.levels import factor
from ersatz.core.loudness import STEP_S, step_energy
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.mixdown.render import Mixdown
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
            found.append(np.rint((starts[heard] + np.minimum(inside, bars.length(heard) - 1)) / step).astype(int))
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


@dataclass(frozen=True)
class Mixed:
    """What comes into the master in the bars that stand for a song, one after the other, shape (2, n): whatever the master does is
    tried on it."""

    mixdown: Mixdown
    excerpt: Excerpt
    samples: np.ndarray

    def part_of(self, x: np.ndarray, first: int, last: int) -> np.ndarray:
        """1-based bars first..last, which are among the excerpt's, of its samples behind whatever was tried."""
        starts, bars = self.excerpt.starts(self.mixdown.bars), self.mixdown.bars
        return x[:, starts[first - 1] : starts[last - 1] + bars.length(last - 1)]

    def energies(self, x: np.ndarray) -> np.ndarray:
        """Of all steps of the song (step_energy), of the excerpt's samples behind whatever was tried."""
        return step_energy(x, RATE_HZ)[self._steps()]

    def peaks_db(self, x: np.ndarray) -> np.ndarray:
        """Highest peaks of all steps of the song."""
        return peaks_db(x, RATE_HZ)[self._steps()]

    def _steps(self) -> np.ndarray:
        return self.excerpt.steps(self.mixdown.bars)

    def with_levels_of(self, song: Song) -> Mixed:
        """The same mix where nothing but the levels of phrases has changed, without rendering it again."""
        was, now = (np.array([s.level_db(k) for s in each.sections for k in range(s.bars)]) for each in (self.mixdown.song, song))
        moves = (now - was)[list(self.excerpt.bars)]
        gains = np.repeat(factor(moves), self.excerpt.lengths(self.mixdown.bars)).astype(np.float32)
        return replace(self, mixdown=self.mixdown.varied(song), samples=self.samples * gains)


def mixed_in(mixdown: Mixdown, step: Callable[[float], None], excerpt: Excerpt | None = None) -> Mixed:
    """A song's mix in the bars of an excerpt, if left out in those that stand for the song."""
    heard = excerpt or excerpt_of(mixdown.song)
    return Mixed(mixdown, heard, mixdown.mix_of(heard.bars, step))

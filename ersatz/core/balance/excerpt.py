"""Which bars stand for a whole song while it is matched: half of them, of each phrase the two in its middle or its first and last,
in turn.

Club music repeats: most is the same in all bars of a phrase, and what enters, leaves or fills does so at its ends. So every bar has
one in its own phrase that stands for it, and a song laid out from these is as loud as measured whole to within a tenth of a LU, its
phrases to 0.2 dB in the mean. Short songs are heard whole: there a bar weighs more, and less is saved.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from ersatz.core import bands
from ersatz.core.balance.gain import peaks_db
from ersatz.core.dsp.levels import factor
from ersatz.core.loudness import STEP_S, step_energy
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.mixdown.graph import WORKERS
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import PHRASE_BARS, Song

#: Up to so many bars a song is heard whole.
SHORT_BARS = 64


def bars_heard(song: Song, section: int) -> list[int]:
    """The bars that stand for a section (by its place), 1-based, rising."""
    first, found = list(song.placed())[section]
    if song.bars <= SHORT_BARS:
        return list(range(first, first + found.bars))
    phrases = [range(k, min(k + PHRASE_BARS, found.bars)) for k in range(0, found.bars, PHRASE_BARS)]
    return [first + bar for k, phrase in enumerate(phrases) for bar in sorted({*_heard(phrase, ends=k % 2 == 1)})]


def _heard(phrase: range, ends: bool) -> Sequence[int]:
    return (phrase[0], phrase[-1]) if ends or len(phrase) < PHRASE_BARS else phrase[1:-1]


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
        own = np.array(bars_heard(song, place)) - 1
        bars += own.tolist()
        for bar in range(first - 1, first - 1 + section.bars):
            # In its own phrase, the nearest.
            elsewhere = (own - first + 1) // PHRASE_BARS != (bar - first + 1) // PHRASE_BARS
            heard_for.append(int(own[np.argmin(np.abs(own - bar) + section.bars * elsewhere)]))
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

    def bar(self, x: np.ndarray, bar: int) -> np.ndarray:
        """A bar, 1-based and one of the excerpt's, of its samples behind whatever was tried."""
        start = self._starts[bar - 1]
        return x[:, start : start + self.mixdown.bars.length(bar - 1)]

    def spectra(self, x: np.ndarray) -> dict[int, np.ndarray]:
        """Power spectra (bands.mid_and_side) of each bar, 1-based, of the excerpt's samples behind whatever was tried."""
        heard = [bar + 1 for bar in self.excerpt.bars]
        with ThreadPoolExecutor(WORKERS) as pool:
            return dict(zip(heard, pool.map(lambda bar: bands.mid_and_side(self.bar(x, bar)), heard)))

    def energies(self, x: np.ndarray) -> np.ndarray:
        """Of all steps of the song (step_energy), of the excerpt's samples behind whatever was tried."""
        return step_energy(x, RATE_HZ)[self._steps]

    def peaks_db(self, x: np.ndarray) -> np.ndarray:
        """Highest peaks of all steps of the song."""
        return peaks_db(x, RATE_HZ)[self._steps]

    @cached_property
    def _starts(self) -> dict[int, int]:
        return self.excerpt.starts(self.mixdown.bars)

    @cached_property
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

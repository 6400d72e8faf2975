"""The master: mix -> width and EQ -> level of the phrase -> chain -> fader -> clipping and limiting."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.dsp import filters
from ersatz.core.dsp.levels import factor
from ersatz.core.effects import eq, limiter
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.mixdown.graph import Inputs, Node, hashed
from ersatz.core.mixdown.strips import Strips, ramped_db
from ersatz.core.serial import to_json
from ersatz.core.song.document import Master, Song, digest

#: Filters of the master are started this early: over ten time constants of its narrowest low band.
CONTEXT = 16_384


class Mastering:
    """The master of a staged song. `blocks`: bars of the song and of its tail."""

    def __init__(self, song: Song, bars: Bars, strips: Strips, blocks: int):
        self._song, self._bars, self._strips, self._blocks = song, bars, strips, blocks
        self._toned: dict[int, Node] = {}

    def mix(self, bar: int) -> Node | None:
        """Everything that goes to the master, summed; None outside the song and where nothing sounds."""
        return self._strips.source(self._song.master, bar) if 0 <= bar < self._blocks else None

    @cached_property
    def _tone_settings(self) -> str:
        m = self._song.master
        return hashed(digest(to_json(m.eq)), m.low_cut_hz, m.width, m.mono_below_hz)

    def toned(self, bar: int) -> Node:
        """The mix through the master's width and EQ: what is linear, before the phrase's level."""
        known = self._toned.get(bar)
        if known is None:
            bars = self._bars.around(bar, CONTEXT, 0)
            mixes = [self.mix(b) for b in bars]

            def compute(inputs: Inputs) -> np.ndarray:
                return tone(self._bars.stretch(inputs, bars, bar, CONTEXT, 0), self._song.master, CONTEXT)

            settings = (self._tone_settings, self._bars.lengths(bars))
            known = self._toned[bar] = Node("tone", settings, lambda: mixes, compute)
        return known

    def forget(self) -> None:
        """Lets go of the nodes."""
        self._toned.clear()

    def _phrase_db(self, bar: int) -> float:
        """How loud the phrase plays, everything alike."""
        inside, section = self._strips.section(bar)
        return section.level_db(inside)

    def levelled(self, node: Node | None, bar: int) -> Node | None:
        """A bar at the level of its phrase. Late, so that a pattern that comes again at another level is the same until here."""
        levels = (self._phrase_db(bar), self._phrase_db(bar + 1))
        if node is None or not any(levels):
            return node
        n = self._bars.length(bar)

        def compute(inputs: Inputs) -> np.ndarray:
            return np.asarray(inputs[0] * factor(ramped_db(*levels, n)).astype(np.float32))

        return Node("level", (n, levels), lambda: (node,), compute, "quick")

    def faded(self, bar: int) -> Node | None:
        """The mix as it leaves the master's fader, before clipping and limiting."""
        master = self._song.master
        return None if master.mute else self._strips.faded(master, bar, self.chained(bar))

    def chained(self, bar: int) -> Node | None:
        """The mix behind the master's chain, before its fader."""
        return self._strips.chained(self._song.master, bar, lambda b: self.levelled(self.toned(b), b))

    def finished(self, bar: int) -> Node:
        """The finished mix."""
        bars = self._bars.around(bar, limiter.CONTEXT, limiter.CONTEXT)

        def compute(inputs: Inputs) -> np.ndarray:
            around = self._bars.stretch(inputs, bars, bar, limiter.CONTEXT, limiter.CONTEXT)
            return limited(around, self._song.master.ceiling_dbtp)

        settings = (self._song.master.ceiling_dbtp, self._bars.lengths(bars))
        return Node("master", settings, lambda: [self.faded(b) for b in bars], compute, "disk")


@compiled
def _narrowed(x: np.ndarray, width: float, cut: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """Both sides, shape (2, n), float64, with their difference `width` times as loud and through one second-order section."""
    n = x.shape[1]
    out = np.empty((2, n))
    left, right = x[0], x[1]
    b0, b1, b2, a1, a2 = cut[0], cut[1], cut[2], cut[4], cut[5]
    p, q = 0.0, 0.0
    for start in range(0, n, filters.FORGET_EVERY):
        for i in range(start, min(start + filters.FORGET_EVERY, n)):
            mid, side = 0.5 * (left[i] + right[i]), 0.5 * width * (left[i] - right[i])
            side, p, q = filters.biquad(side, p, q, b0, b1, b2, a1, a2)
            out[0, i], out[1, i] = mid + side, mid - side
        p, q = filters.kept(p), filters.kept(q)
    return out


#: A section that leaves everything as it is.
UNTOUCHED = np.array([1.0, 0.0, 0.0, 1.0, 0.0, 0.0])


def tone(x: np.ndarray, master: Master, skip: int = 0) -> np.ndarray:
    """The linear part of the master, width and EQ, from silence, without the first `skip` samples, float32, shape (2, n - skip)."""
    sections = [eq.low_cut(master.low_cut_hz, RATE_HZ), *(eq.bell(b, RATE_HZ)[None] for b in master.eq)]
    cut = eq.low_cut(master.mono_below_hz, RATE_HZ)[0] if master.mono_below_hz else UNTOUCHED
    y = filters.cascade(np.concatenate(sections), _narrowed(np.ascontiguousarray(x, np.float32), master.width, cut))
    return np.ascontiguousarray(y[:, skip:], np.float32)


def limited(x: np.ndarray, ceiling_dbtp: float) -> np.ndarray:
    """Clipping and limiting of a block with the limiter's context on both sides, shape (2, n less the context)."""
    x = limiter.limit(limiter.soft_clip(x), ceiling_dbtp)
    return np.ascontiguousarray(x[:, limiter.CONTEXT : -limiter.CONTEXT], np.float32)


def finish(x: np.ndarray, master: Master) -> np.ndarray:
    """Fader, clipping and limiting of a block with the limiter's context on both sides, shape (2, n less the context)."""
    return limited(x * float(factor(master.gain_in_db + master.gain_db)), master.ceiling_dbtp)

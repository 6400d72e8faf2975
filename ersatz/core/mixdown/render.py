"""The mixdown: a song's graph of nodes (notes -> strips -> master) and any range of it as samples.

Conventions: RATE_HZ; a bar's block runs from its bar line to the next (0-based `bar`; lengths differ by one sample where the bar
has no whole number of them); float32 of shape (2, samples).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial

import numpy as np

from ersatz.core.audio import Audio
from ersatz.core.dsp.levels import factor, panned
from ersatz.core.effects import limiter
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.graph import WORKERS, Graph, Inputs, Node, Source
from ersatz.core.mixdown.master import CONTEXT, Mastering, finish, tone
from ersatz.core.mixdown.notes import Notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.mixdown.strips import Strips
from ersatz.core.samples import Samples, no_samples
from ersatz.core.song.document import Master, Song
from ersatz.core.song.strips import MASTER, Strip
from ersatz.core.transitions.spec import versions_of
from ersatz.core.voices import gone

#: After the last bar the tails ring out this long at the most.
TAIL_S = 6.0
#: A strip in front of the master may stand above full scale: handed out by itself in a file, it is so much quieter.
HEADROOM_DB = 12.0
#: Bars that are made ahead of the one that is given: enough for two threads to share, few enough for the cache to hold all of
#: their nodes, so many of each stage at the most.
SPAN_BARS, LEAST_BARS, SPAN_NODES = 8, 2, 160
#: Pieces of a bar in a picture of its level.
PEAKS_PER_BAR = 16

Progress = Callable[[float], None]
#: (samples, shape (2, n)) -> figures
Measure = Callable[[np.ndarray], np.ndarray]
#: A strip, by id, in 1-based bars first..last.
Stretch = tuple[str, int, int]


def _unreported(fraction: float) -> None:
    pass


class Mixdown:
    """A song ready to be rendered. Cheap to make; the cache is where the work is kept. `samples` finds the audio that voices play;
    what it doesn't find is silent. `heard`: ids of the parts that sound, None for all; the others still steer and cut."""

    def __init__(
        self, song: Song, cache: RenderCache | None = None, samples: Samples = no_samples, heard: frozenset[str] | None = None
    ):
        self.song = staged(song)
        self._samples = samples
        self.cache = cache or RenderCache()
        self.bars = Bars(song.grid)
        self.blocks = song.bars + int(np.ceil(TAIL_S / song.grid.bar_s))
        self.frames = self.bars.edge(self.blocks)
        self._graph = Graph(self.cache)
        self.notes = Notes(self.song, self.bars, self.cache, samples)
        self._strips = Strips(self.song, self.bars, self.notes, heard, self._graph)
        self._master = Mastering(self.song, self.bars, self._strips, self.blocks)

    @property
    def is_complete(self) -> bool:
        """Whether all samples of the song were found: else it will sound otherwise when they are back."""
        return not any(gone(part.sound, self._samples) for part in self.song.parts)

    # Ranges -------------------------------------------------------------------------------------------------------

    def _rendered(
        self, source: Source, bars: Sequence[int], progress: Progress = _unreported
    ) -> Iterator[tuple[int, np.ndarray | None]]:
        """0-based bars, rising, of what has a node for each, with their samples, None for silence; rendered by WORKERS threads.
        What `progress` raises stops it."""
        together = max(LEAST_BARS, min(SPAN_BARS, SPAN_NODES // max(1, len(self.song.parts))))
        nodes = self._graph.computed([partial(source, bar) for bar in bars], together, self._forget, progress)
        for bar, node in zip(bars, nodes):
            yield bar, None if node is None else self._graph.samples(node)
        self._forget()

    def _joined(self, source: Source, start: int, stop: int, progress: Progress = _unreported) -> np.ndarray:
        """Samples start..stop-1 of what has a node for each bar, shape (2, n)."""
        first = next(b for b in range(self.blocks + 1) if self.bars.edge(b + 1) > start)
        last = next(b for b in range(first, self.blocks + 1) if self.bars.edge(b + 1) >= stop)
        out = np.zeros((2, stop - start), np.float32)
        for bar, samples in self._rendered(source, range(first, last + 1), progress):
            if samples is not None:
                a, b = max(self.bars.edge(bar), start), min(self.bars.edge(bar + 1), stop)
                inside = slice(a - self.bars.edge(bar), b - self.bars.edge(bar))
                out[:, a - start : b - start] = samples[:, inside]
        return out

    def _forget(self) -> None:
        """Nodes hold arrays of moving values and refer to each other: what is rendered is in the cache, the rest is let go."""
        for made in (self.notes, self._strips, self._master):
            made.forget()

    def samples(self, start: int, stop: int, progress: Progress = _unreported) -> np.ndarray:
        """Samples start..stop-1 of the finished mix, (2, n)."""
        return self._joined(self._master.finished, start, stop, progress)

    def mix(self, start: int, stop: int, progress: Progress = _unreported) -> np.ndarray:
        """Samples start..stop-1 of what comes into the master, at the level of its phrases, (2, n)."""
        return self._joined(self._mixed, start, stop, progress)

    def _mixed(self, bar: int) -> Node | None:
        return self._master.levelled(self._master.mix(bar), bar)

    def mix_of(self, bars: Sequence[int], progress: Progress = _unreported) -> np.ndarray:
        """`mix` of 0-based bars, rising, one after the other, (2, n)."""
        edges = np.cumsum([0, *(self.bars.length(bar) for bar in bars)])
        out = np.zeros((2, edges[-1]), np.float32)
        for k, (_, samples) in enumerate(self._rendered(self._mixed, bars, progress)):
            if samples is not None:
                out[:, edges[k] : edges[k + 1]] = samples
        return out

    def solo(self, strip: Strip, start: int, stop: int) -> np.ndarray:
        """One strip as it leaves its fader, at the level of its phrases, (2, n)."""
        return self._joined(lambda bar: self._master.levelled(self._strips.out(strip, bar), bar), start, stop)

    def strip_samples(self, strip_id: str, first_bar: int, last_bar: int) -> np.ndarray:
        """What leaves a strip in 1-based bars first..last at the level of its phrases, shape (2, n): a part with all of its sounds,
        the master finished."""
        return self._strip(strip_id, *self.bar_range(first_bar, last_bar))

    def measured_each(
        self, what: str, wanted: Sequence[Stretch], measure: Measure, progress: Progress = _unreported
    ) -> list[np.ndarray]:
        """`measure` of the `strip_samples` of each strip and range of bars, by WORKERS threads, kept like a render: what sounds the
        same is measured once, in whichever song. `what`: its name, with all that it depends on beside the samples."""
        # Strips of the same bars share much.
        ordered = sorted(set(wanted), key=lambda stretch: stretch[1:])
        make = [partial(self._measurement, what, measure, stretch) for stretch in ordered]
        nodes = self._graph.computed(make, SPAN_NODES, self._forget, progress)
        found = {stretch: self._graph.samples(node) for stretch, node in zip(ordered, nodes) if node is not None}
        self._forget()
        return [found[stretch] for stretch in wanted]

    def _measurement(self, what: str, measure: Measure, stretch: Stretch) -> Node:
        strip_id, bars = stretch[0], range(stretch[1] - 1, stretch[2])
        rows: list[list[Node | None]]
        if strip_id == MASTER:
            rows = [[self._master.finished(bar) for bar in bars]]
        else:
            strips = self._sounding(strip_id)
            rows = [[self._master.levelled(self._strips.out(strip, bar), bar) for bar in bars] for strip in strips]

        def compute(inputs: Inputs) -> np.ndarray:
            x = np.zeros((2, self.bars.edge(bars.stop) - self.bars.edge(bars.start)), np.float32)
            for k, samples in enumerate(inputs):
                if samples is not None:
                    at = self.bars.edge(bars[k % len(bars)]) - self.bars.edge(bars.start)
                    x[:, at : at + samples.shape[1]] += samples
            return measure(x)

        return Node("measured", (what, self.bars.lengths(bars)), lambda: [node for row in rows for node in row], compute)

    def _sounding(self, strip_id: str) -> Sequence[Strip]:
        """A strip that isn't the master, a part as all of its versions."""
        return versions_of(strip_id, self.song) or tuple(s for s in (self.song.strip(strip_id),) if s is not None)

    def _strip(self, strip_id: str, start: int, stop: int) -> np.ndarray:
        if strip_id == MASTER:
            return self.samples(start, stop)
        rows = [self.solo(strip, start, stop) for strip in self._sounding(strip_id)]
        return np.sum(rows, axis=0) if rows else np.zeros((2, stop - start), np.float32)

    def varied(self, song: Song) -> Mixdown:
        """Another song through the same cache, with the same samples."""
        return Mixdown(song, self.cache, self._samples)

    def before_limiting(self, first_bar: int, last_bar: int) -> np.ndarray:
        """The mix as it leaves the master's fader, before clipping and limiting, shape (2, n)."""
        return self._joined(self._master.faded, *self.bar_range(first_bar, last_bar))

    def behind_chain(self, strip_id: str, first_bar: int, last_bar: int) -> np.ndarray:
        """Any strip behind its chain and width, before its fader, shape (2, n); the master too."""
        start, stop = self.bar_range(first_bar, last_bar)
        versions = versions_of(strip_id, self.song)
        if versions:
            return self.before_fader(strip_id, first_bar, last_bar)
        strip = self.song.strip(strip_id)
        if strip is None:
            return np.zeros((2, stop - start), np.float32)
        if isinstance(strip, Master):
            return self._joined(self._master.chained, start, stop)
        return self._joined(lambda bar: self._strips.chained(strip, bar), start, stop)

    def contribution(self, strip_id: str, first_bar: int, last_bar: int) -> np.ndarray:
        """What a strip adds to the finished mix as far as that is linear: through the faders of the buses that it goes to, and the
        master's width, EQ and fader; shape (2, n). Chains of buses, the master's chain and its limiting are left out."""
        start, stop = self.bar_range(first_bar, last_bar)
        begin = max(0, start - CONTEXT)
        x = self._strip(strip_id, begin, stop)
        strip = self.song.strip(strip_id) or next(iter(versions_of(strip_id, self.song)), None)
        while strip is not None and strip.out not in ("", MASTER):
            strip = self.song.strip(strip.out)
            if strip is not None:
                x = x * (0.0 if strip.mute else panned(strip.pan, strip.gain_in_db + strip.gain_db).astype(np.float32))
        master = self.song.master
        y = tone(x.astype(np.float32), master, start - begin)
        return np.ascontiguousarray(y * np.float32(factor(master.gain_in_db + master.gain_db)))

    def before_fader(self, part_id: str, first_bar: int, last_bar: int) -> np.ndarray:
        """A part with all of its sounds behind its chain and before its fader, 1-based bars first..last, shape (2, n)."""
        start, stop = self.bar_range(first_bar, last_bar)
        rows = [self._joined(lambda bar, p=p: self._strips.chained(p, bar), start, stop) for p in versions_of(part_id, self.song)]  # type: ignore[misc]
        return np.sum(rows, axis=0) if rows else np.zeros((2, stop - start), np.float32)

    def bar_range(self, first_bar: int, last_bar: int) -> tuple[int, int]:
        """Sample range of bars first..last, both included, 1-based."""
        return self.bars.edge(first_bar - 1), self.bars.edge(last_bar)

    def whole(self, progress: Progress = _unreported) -> Audio:
        """The whole song with its tail, cut where it has rung out."""
        x = self.samples(0, self.frames, progress)
        end = self.bars.edge(self.song.bars)
        tail = np.abs(x[:, end:]).max(axis=0)
        loud = np.flatnonzero(tail > 10 ** (-72 / 20))
        keep = min(end + (int(loud[-1]) + RATE_HZ // 4 if len(loud) else 0), x.shape[1])
        return Audio(np.ascontiguousarray(x[:, :keep]), RATE_HZ)

    # Blocks -------------------------------------------------------------------------------------------------------

    def block(self, strip: Strip, bar: int) -> np.ndarray | None:
        """A strip's bar as it leaves its fader; None where it is silent."""
        node = self._master.faded(bar) if isinstance(strip, Master) else self._strips.out(strip, bar)
        return None if node is None else self._graph.samples(node)

    def plays_in(self, part_id: str) -> set[int]:
        """0-based bars of the song in which a part sounds."""
        versions = versions_of(part_id, self.song)
        return {b for b in range(self.song.bars) if any(self.notes.node(p, b) for p in versions)}

    def peaks(self, strip_id: str, first_bar: int, last_bar: int, per_bar: int = PEAKS_PER_BAR) -> list[float]:
        """Highest level, 0..1, in each of `per_bar` pieces of 1-based bars first..last of a strip: what is drawn behind its
        curves."""
        out: list[float] = []
        for bar in range(first_bar - 1, last_bar):
            node = self._node_of(strip_id, bar)
            if node is None:
                out += [0.0] * per_bar
            else:
                pieces = np.array_split(self._graph.samples(node), per_bar, axis=1)
                out += [round(float(np.abs(piece).max()), 3) for piece in pieces]
        self._forget()
        return out

    def _node_of(self, strip_id: str, bar: int) -> Node | None:
        versions = versions_of(strip_id, self.song)
        if versions:
            return next((node for p in versions if (node := self._strips.out(p, bar))), None)
        strip = self.song.strip(strip_id)
        if strip is None or isinstance(strip, Master):
            return self._master.finished(bar)
        return self._strips.out(strip, bar)

    # Masters ------------------------------------------------------------------------------------------------------

    def toned(self, mix: np.ndarray, master: Master, progress: Progress = _unreported) -> np.ndarray:
        """A mix through another master's width and EQ, for trying masters on one mix; shape (2, n)."""
        return self._in_blocks(mix, CONTEXT, 0, lambda x: tone(x, master, CONTEXT), progress)

    def limited(self, toned: np.ndarray, master: Master, progress: Progress = _unreported) -> np.ndarray:
        """That behind the master's fader, clipper and limiter: what `samples` gives of a master without a chain, but for the level
        of phrases, which is in the mix already and changes before the EQ instead of behind it."""
        return self._in_blocks(toned, limiter.CONTEXT, limiter.CONTEXT, lambda x: finish(x, master), progress)

    def _in_blocks(
        self, x: np.ndarray, before: int, after: int, process: Callable[[np.ndarray], np.ndarray], progress: Progress
    ) -> np.ndarray:
        """A process over a mix, a bar's length at a time on WORKERS threads, each with so much in front and behind."""
        padded, n, length = np.pad(x, ((0, 0), (before, after))), x.shape[1], self.bars.length(0)
        with ThreadPoolExecutor(WORKERS) as pool:
            under_way = [pool.submit(process, padded[:, at : min(at + length, n) + before + after]) for at in range(0, n, length)]
            pieces = []
            try:
                for k, future in enumerate(under_way):
                    pieces.append(future.result())
                    progress(k / len(under_way))
            finally:
                for future in under_way:
                    future.cancel()
        return np.concatenate(pieces, axis=1)


def stems(mixdown: Mixdown, start: int, stop: int) -> Iterator[tuple[Strip, np.ndarray]]:
    """Every part dry and every return, one after another, each (2, n): they sum to the mix before the master where buses do
    nothing."""
    for strip in (*mixdown.song.parts, *mixdown.song.returns):
        yield strip, mixdown.solo(strip, start, stop)

"""The song's ducking curves as gains over a bar."""

from __future__ import annotations

import numpy as np

from ersatz.core.dsp.levels import factor
from ersatz.core.effects.ducking import duck_curve_db
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.mixdown.graph import Inputs, Node, fingerprint
from ersatz.core.mixdown.schedule import duck_triggers
from ersatz.core.song.document import Song
from ersatz.core.song.strips import Duck


class Ducks:
    """Of a staged song."""

    def __init__(self, song: Song, bars: Bars):
        self._bars = bars
        self._beat = song.grid.beat_s * RATE_HZ
        self._curves = {c.id: c for c in song.curves}
        self._song = song
        self._shapes = {c.id: np.array(c.shape) for c in song.curves}
        self._written = {curve: fingerprint(shape) for curve, shape in self._shapes.items()}
        self._triggers: dict[str, np.ndarray] = {}
        self._acting: dict[tuple[str, int], tuple[int, ...]] = {}
        self._made: dict[tuple[str, float, int], Node | None] = {}

    def gain(self, duck: Duck | None, bar: int) -> Node | None:
        """Gain that pulls a strip down in a bar, shape (samples,): one node for all strips that it moves as far. None where nothing
        is triggered."""
        if duck is None or duck.depth_db <= 0:
            return None
        place = (duck.curve, duck.depth_db, bar)
        if place not in self._made:
            self._made[place] = self._make(duck, bar)
        return self._made[place]

    def _make(self, duck: Duck, bar: int) -> Node | None:
        near = self._near(duck.curve, bar)
        if not near:
            return None
        n, shape = self._bars.length(bar), self._shapes[duck.curve]

        def compute(inputs: Inputs) -> np.ndarray:
            reduction = duck_curve_db(0, n, np.array(near, np.int64), shape, self._beat)
            return factor(-duck.depth_db * reduction).astype(np.float32)

        return Node("duck", (near, n, self._written[duck.curve], self._beat, duck.depth_db), lambda: (), compute)

    def _near(self, curve: str, bar: int) -> tuple[int, ...]:
        """Triggers that act on a bar, in samples from its line; looked for once for all strips that they pull down."""
        if (curve, bar) not in self._acting:
            self._acting[curve, bar] = self._found(curve, bar)
        return self._acting[curve, bar]

    def _found(self, curve: str, bar: int) -> tuple[int, ...]:
        if curve not in self._triggers:
            self._triggers[curve] = duck_triggers(self._song, self._curves[curve], RATE_HZ)
        triggers, start = self._triggers[curve], self._bars.edge(bar)
        first, last = np.searchsorted(triggers, [start - 2 * self._beat, self._bars.edge(bar + 1)])
        return tuple(int(t) - start for t in triggers[first:last])

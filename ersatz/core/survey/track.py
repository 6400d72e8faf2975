"""A track that is being surveyed: transformed once, and what was measured on it kept, so that a correction measures only what it
touches.

Another key leaves grid, hits, bass and parts as they are; other sections too; another tempo or bar line begins after the transform.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from ersatz.core import loudness as bs1770
from ersatz.core.audio import Audio
from ersatz.core.grid import BarGrid
from ersatz.core.survey.bars import BarTable, bar_table
from ersatz.core.survey.bass import measure_bass
from ersatz.core.survey.changes import BarLevels, bar_levels
from ersatz.core.survey.document import Bass, Energy, Key, KickPortrait, Presence, Resonance, Source
from ersatz.core.survey.drums import measure_swing
from ersatz.core.survey.envelopes import Levels, cut_levels, fast_powers
from ersatz.core.survey.hits import Hits, find_hits
from ersatz.core.survey.key import measure_key
from ersatz.core.survey.kick import measure_kick
from ersatz.core.survey.presence import bass_presence, between_kicks, measure_energy, measure_presence
from ersatz.core.survey.resonances import find_resonances
from ersatz.core.survey.sections import rising_noise
from ersatz.core.survey.shared import prepare
from ersatz.core.survey.slides import find_slides
from ersatz.core.survey.tempo import Beat, measure_beat


@dataclass(frozen=True)
class Ground:
    """What depends on the grid alone."""

    bars: BarTable
    swing_percent: float
    swing_confidence: float
    hits: Hits
    energy: Energy
    noise_db: np.ndarray
    levels: BarLevels
    bass: Bass
    presence: Presence
    key: Key
    kick: KickPortrait | None


class Track:
    """Decoded audio with its transforms. What needs no grid is measured on the second core meanwhile."""

    def __init__(self, audio: Audio, source: Source):
        self.source = source
        self.duration_s = audio.duration_s
        self.shared = prepare(audio)
        self._beats: dict[tuple[float | None, int | None], Beat] = {}
        self._ground: tuple[BarGrid, Ground] | None = None
        pool = ThreadPoolExecutor(2)
        # The tempo waits for these.
        pool.submit(lambda: self.shared.semitones)
        self._powers = pool.submit(
            fast_powers, self.shared.mid, self.shared.side, self.shared.rate_hz, lambda: self.shared.decimated
        )
        self._loudness = pool.submit(_measure_loudness, audio)
        self._resonances = pool.submit(find_resonances, self.shared)
        pool.submit(self.shared.third_octaves, 0.0, audio.duration_s)
        pool.shutdown(wait=False)

    @property
    def loudness(self) -> tuple[np.ndarray, bs1770.Loudness]:
        """Energy per step, and the loudness of the whole."""
        return self._loudness.result()

    @property
    def resonances(self) -> tuple[Resonance, ...]:
        """Narrow peaks that stand out of the spectrum; waits for them."""
        return self._resonances.result()

    def levels(self, bars: BarTable) -> Levels:
        """Fast levels cut into these bars; waits for them."""
        return cut_levels(bars, self._powers.result())

    def beat(self, bpm: float | None = None, beats_per_bar: int | None = None) -> Beat:
        """The beat as measured, or at a tempo or in a metre that is given."""
        given = (bpm, beats_per_bar)
        if given not in self._beats:
            self._beats[given] = measure_beat(self.shared, bpm, beats_per_bar)
        return self._beats[given]

    def ground(self, grid: BarGrid) -> Ground:
        """Everything that depends on the grid alone, kept until another grid is asked for."""
        if self._ground is None or self._ground[0] != grid:
            self._ground = grid, self._measured(grid)
        return self._ground[1]

    def _measured(self, grid: BarGrid) -> Ground:
        shared = self.shared
        bars = bar_table(shared, grid)
        swing, swing_confidence = measure_swing(shared, bars)
        hits = find_hits(shared, bars, swing)
        with ThreadPoolExecutor(1) as pool:
            # Beside the bass, which needs nothing of it.
            kick = pool.submit(measure_kick, shared, bars, hits)
            between = between_kicks(shared, bars, hits)
            in_bass = bass_presence(shared, bars, hits, between)
            bass = measure_bass(shared, bars, hits, tuple(in_bass))
            bass = replace(bass, notes=find_slides(hits.low_without_kick, bars, shared.tuning_cents, bass.notes))
        return Ground(
            bars=bars,
            swing_percent=swing,
            swing_confidence=swing_confidence,
            hits=hits,
            energy=measure_energy(shared, bars),
            noise_db=rising_noise(shared, bars),
            levels=bar_levels(shared, bars),
            bass=bass,
            presence=measure_presence(shared, bars, hits, between, in_bass, bass),
            key=measure_key(shared, bars, bass),
            kick=kick.result(),
        )


def _measure_loudness(audio: Audio) -> tuple[np.ndarray, bs1770.Loudness]:
    steps = bs1770.step_energy(audio.samples, audio.rate_hz)
    return steps, bs1770.measure_loudness(audio.samples, audio.rate_hz, steps)

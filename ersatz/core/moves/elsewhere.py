"""What does a move that stands for the whole song do to its other sections?

A fader or a cut that is right in the drop is moved in the intro too. By the model the other sections are read by balance and
loudness alone, from what each part adds there (solver.py); a move that may be offered is then rendered there as well, and measured
by all that the finished mix tells, so that one which opens more elsewhere than it closes here isn't offered.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

import numpy as np

from ersatz.core.balance.solver import Powers, measure_powers
from ersatz.core.gap.plans import counterparts
from ersatz.core.gap.sections import SECTION_TOLERANCE_DB, levels_apart
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.moves.model import change_db, k_db, response_db, through_limiter_db
from ersatz.core.moves.readings import Reading, ducks_there, gap_of, leanings, loudness_reading, rate_reading, readings_of_mix
from ersatz.core.moves.section import SectionMix, measure_mix
from ersatz.core.song.document import Song
from ersatz.core.survey.document import Survey

#: So many last bars stand for each of the other sections where the model judges.
BARS = 4


class Elsewhere:
    """The other sections of a song that the reference has, as they are before any move."""

    def __init__(self, mix: SectionMix, mixdown: Mixdown, survey: Survey):
        self._mix, self._song, self._survey, self._mixdown = mix, mix.song, survey, mixdown
        powers = measure_powers(mix.song, survey, mixdown, bars=BARS)
        self._powers = powers if powers is not None and mix.place in powers.sections else None
        self._here_db = 0.0
        if self._powers is not None:
            self._here_db = _loud_db(self._levels(self._powers, mix.song)[self._powers.sections.index(mix.place)])
        self._before = self._gap(mix.song)

    def opened(self, after: Song) -> float:
        """By how many tolerances balance and loudness of the other sections are further off, by the model; negative where they are
        nearer."""
        return self._gap(after) - self._before

    def measured(self, after: Mixdown) -> float:
        """By how many tolerances the finished mix of the other sections is further off, rendered; negative where it is nearer."""
        return self._rendered(after) - self._rendered_before

    @cached_property
    def _rendered_before(self) -> float:
        return self._rendered(self._mixdown)

    def _rendered(self, mixdown: Mixdown) -> float:
        theirs = counterparts(self._song, self._survey)
        places = [k for k, s in enumerate(self._song.sections) if k != self._mix.place and s.id in theirs]
        mixes = [mix for k in places if (mix := measure_mix(self._song, mixdown, k, theirs[self._song.sections[k].id])) is not None]
        # The rate is set and not heard: it stands for every section that ducks.
        ducked = sum(mix.section.ducks and ducks_there(mix, self._survey) for mix in mixes)
        rate = rate_reading(mixdown.song, self._survey).gap * ducked
        return rate + sum(gap_of(readings_of_mix(mix, self._survey)) for mix in mixes)

    def _gap(self, after: Song) -> float:
        powers = self._powers
        if powers is None:
            return 0.0
        levels = self._levels(powers, after)
        others = (k for k, place in enumerate(powers.sections) if place != self._mix.place)
        return sum(r.gap for k in others for r in self._readings(levels[k], powers, k))

    def _levels(self, powers: Powers, song: Song) -> np.ndarray:
        """Per section and third octave, dB."""
        change = np.array([change_db(self._song, song, name) for name in powers.ids])
        sums = (powers.parts * 10 ** (change[:, None] / 10)).sum(axis=0) + powers.rest
        return np.asarray(10 * np.log10(sums + 1e-14) + response_db(song.master))

    def _readings(self, level_db: np.ndarray, powers: Powers, k: int) -> Iterator[Reading]:
        """Of another section. As much as it is louder than the measured one in front of the limiter, it is louder behind it than
        what was measured there, through the same limiter."""
        lufs = self._mix.lufs + through_limiter_db(self._mix.limited_db, _loud_db(level_db) - self._here_db)
        yield from leanings(levels_apart(level_db, powers.targets[k]), SECTION_TOLERANCE_DB)
        yield loudness_reading(lufs, float(powers.loudness[k]))


def _loud_db(level_db: np.ndarray) -> float:
    """Loudness of levels per third octave."""
    return k_db(10 ** (level_db / 10))

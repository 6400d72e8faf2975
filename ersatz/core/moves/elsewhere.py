"""What does a move that stands for the whole song do to its other sections?

A fader or a cut that is right in the drop is moved in the intro too. The other sections are read by their balance alone, from what
each part adds there (solver.py), so that a move which opens more elsewhere than it closes here isn't offered.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.balance.solver import Powers, measure_powers
from ersatz.core.gap.sections import SECTION_TOLERANCE_DB, levels_apart
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.moves.model import change_db, response_db
from ersatz.core.moves.readings import leanings
from ersatz.core.moves.section import SectionMix
from ersatz.core.song.document import Song
from ersatz.core.survey.document import Survey

#: So many last bars stand for each of the other sections.
BARS = 4


class Elsewhere:
    """The other sections of a song that the reference has, as they are before any move."""

    def __init__(self, mix: SectionMix, mixdown: Mixdown, survey: Survey):
        others = [k for k in range(len(mix.song.sections)) if k != mix.place]
        self._song = mix.song
        self._powers: Powers | None = measure_powers(mix.song, survey, mixdown, others, bars=BARS) if others else None
        self._before = self._gap(mix.song)

    def opened(self, after: Song) -> float:
        """By how many tolerances the balance of the other sections is further off, by the model; negative where it is nearer."""
        return self._gap(after) - self._before

    def _gap(self, after: Song) -> float:
        powers = self._powers
        if powers is None:
            return 0.0
        change = np.array([change_db(self._song, after, name) for name in powers.ids])
        sums = (powers.parts * 10 ** (change[:, None] / 10)).sum(axis=0) + powers.rest
        level = 10 * np.log10(sums + 1e-14) + response_db(after.master)
        off = (levels_apart(own, theirs) for own, theirs in zip(level, powers.targets))
        return sum(r.gap for row in off for r in leanings(row, SECTION_TOLERANCE_DB))

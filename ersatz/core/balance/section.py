"""A section of a song measured for its clashes: all that the rules of clashes.py read."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ersatz.core.balance.clashes import Clash, Measured, find_clashes
from ersatz.core.balance.lanes import Lanes, measure_lanes, measured_bars, reference_db
from ersatz.core.balance.meters import limiter_reduction_db
from ersatz.core.gap.plans import counterparts
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song
from ersatz.core.survey.document import Survey
from ersatz.core.survey.resonances import resonances_in

#: What of the readings of the limiter counts: most of them lie under it.
MOST_READINGS = 75


def clashes_in(
    song: Song,
    mixdown: Mixdown,
    section: int,
    survey: Survey | None = None,
    lanes: Lanes | None = None,
    progress: Callable[[float], None] = lambda fraction: None,
) -> list[Clash]:
    """Of the section at a place of the plan; `lanes` where its bars were measured already. Empty where it is silent."""
    first, last = measured_bars(song, section)
    lanes = lanes or measure_lanes(mixdown, first, last, progress)
    place = counterparts(song, survey).get(song.sections[section].id) if survey else None
    theirs = reference_db(survey, place, lanes.mix.level_db) if survey is not None and place is not None else None
    rings = {}
    for part in song.parts:
        if part.id in lanes.lanes and part.role in ("bass", "chords", "lead", "noise", "perc"):
            x = mixdown.strip_samples(part.id, first, last)
            rings[part.id] = [(r.hz, r.over_db) for r in resonances_in((x[0] + x[1]) * 0.5, RATE_HZ)]
    limited = float(np.percentile(limiter_reduction_db(mixdown, first, last), MOST_READINGS))
    return find_clashes(
        Measured(song, lanes, theirs, survey.pump if survey else None, limited, rings, song.sections[section].ducks)
    )

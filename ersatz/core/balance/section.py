"""A section of a song measured for its clashes: all that the rules of clashes.py read."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import scipy
import soxr

from ersatz.core.balance.clashes import Clash, Measured, find_clashes
from ersatz.core.balance.lanes import Lanes, measure_lanes, measured_bars, reference_db
from ersatz.core.balance.meters import most_limited_db
from ersatz.core.gap.plans import counterparts
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song
from ersatz.core.survey.document import Survey
from ersatz.core.survey.resonances import resonances_in

LOW_TONES_HZ = (32.0, 140.0)
#: Low tones are read at a rate that just holds them, in frames of 0.74 s: that tells tones of 50 Hz that lie a semitone apart.
TONE_RATE_HZ, TONE_FRAME = RATE_HZ / 64, 512
#: A tone is this wide on both sides, and holds so much of the power there.
TONE_WIDTH_OCTAVES, DWELLS = 1.5 / 12, 0.6


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
    rings, tones = {}, {}
    for part in song.parts:
        if part.id in lanes.lanes and part.role in ("kick", "bass"):
            # A kick falls through many pitches on its way to its own.
            share = 0.0 if part.role == "kick" else DWELLS
            tones[part.id] = low_tone_hz(mixdown.strip_samples(part.id, first, last), share)
        if part.id in lanes.lanes and part.role in ("bass", "chords", "lead", "noise", "perc"):
            x = mixdown.strip_samples(part.id, first, last)
            rings[part.id] = [(r.hz, r.over_db) for r in resonances_in((x[0] + x[1]) * 0.5, RATE_HZ)]
    limited = most_limited_db(mixdown, first, last)
    return find_clashes(
        Measured(song, lanes, theirs, survey.pump if survey else None, limited, rings, tones, song.sections[section].ducks)
    )


def low_tone_hz(x: np.ndarray, share: float = DWELLS) -> float:
    """The strongest tone between LOW_TONES_HZ of stereo samples, to a tenth of a semitone, if it holds `share` of the power there;
    else 0. A bass line that moves dwells on none: no one pitch is in tune with all of it."""
    mono = soxr.resample(x.mean(axis=0), RATE_HZ, TONE_RATE_HZ)
    if len(mono) < TONE_FRAME:
        mono = np.pad(mono, (0, TONE_FRAME - len(mono)))
    hz, power = scipy.signal.welch(mono, TONE_RATE_HZ, nperseg=TONE_FRAME, nfft=8 * TONE_FRAME)
    inside = (hz >= LOW_TONES_HZ[0]) & (hz <= LOW_TONES_HZ[1])
    hz, power = hz[inside], power[inside]
    best = float(hz[power.argmax()])
    held = float(power[np.abs(np.log2(hz / best)) < TONE_WIDTH_OCTAVES].sum())
    return best if power.max() > 1e-12 and held >= share * float(power.sum()) else 0.0

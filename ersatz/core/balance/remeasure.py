"""One section of a changed song measured anew, the rest as it was measured before: what a change did is known within moments, the
whole follows.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ersatz.core import bands
from ersatz.core.balance.pumping import own_pump
from ersatz.core.loudness import integrated_lufs, step_energy
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song
from ersatz.core.song.strips import MASTER
from ersatz.core.survey.document import SectionBands, SectionSpectrum, Survey
from ersatz.core.survey.spectrum import bands_of_samples


def has_plan_of(song: Song, survey: Survey) -> bool:
    """Whether a survey is of a song with the same tempo and sections: only then its sections stand for this song's. The last one
    may ring on."""
    plan = [(s.label, bar) for bar, s in song.placed()]
    same = plan == [(s.label, s.start_bar) for s in survey.sections] and survey.sections[-1].bars >= song.sections[-1].bars
    return same and abs(survey.tempo.bpm - song.bpm) < 1e-6


def with_section(survey: Survey, mixdown: Mixdown, place: int) -> Survey:
    """`survey` of an earlier state with the same plan; balance, loudness, width, crest and, in the main section, pump of the one at
    `place` are this song's, and so are key and swing. Presence, groove and what is told of the whole track stay."""
    song = mixdown.song
    first, section = list(song.placed())[place]
    x = mixdown.strip_samples(MASTER, first, first + section.bars - 1)
    spectrum, stereo = list(survey.spectrum.per_section), list(survey.stereo.per_section)
    level = np.round(bands.relative_db(bands.band_power(x, RATE_HZ)), 2)
    spectrum[place] = SectionSpectrum(tuple(float(v) for v in level))
    if stereo:
        found = zip(bands_of_samples(x, RATE_HZ), stereo[place].bands)
        stereo[place] = SectionBands(tuple(replace(new, onsets_per_beat=old.onsets_per_beat) for new, old in found))
    sections = list(survey.sections)
    sections[place] = replace(sections[place], loudness_lufs=round(integrated_lufs(step_energy(x, RATE_HZ)), 2))
    changed = replace(
        survey,
        source=replace(survey.source, sha256=song.sha()),
        key=replace(survey.key, tonic=song.tonic, mode=song.mode),
        tempo=replace(survey.tempo, swing_percent=song.swing_percent),
        sections=tuple(sections),
        spectrum=replace(survey.spectrum, per_section=tuple(spectrum)),
        stereo=replace(survey.stereo, per_section=tuple(stereo)),
    )
    return replace(changed, pump=own_pump(song, mixdown, place)) if place == survey.main_section() else changed

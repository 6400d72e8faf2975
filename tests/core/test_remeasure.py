"""A changed section measured by itself reads as it does in the whole song."""

from dataclasses import replace

import pytest

from ersatz.core.balance.match import survey_remake
from ersatz.core.balance.remeasure import has_plan_of, with_section
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown


def test_a_changed_section_reads_as_in_the_whole_and_the_others_stay(song):
    cache = RenderCache()
    before = Mixdown(song, cache)
    survey = survey_remake(before.whole(), before)
    place = survey.main_section()
    changed = replace(song, parts=tuple(replace(p, gain_db=p.gain_db + 7) if p.role == "bass" else p for p in song.parts))
    after = Mixdown(changed, cache)
    whole = survey_remake(after.whole(), after)
    quick = with_section(survey, after, place)
    assert quick.sections[place].loudness_lufs == pytest.approx(whole.sections[place].loudness_lufs, abs=0.2)
    assert quick.spectrum.per_section[place].level_db == pytest.approx(whole.spectrum.per_section[place].level_db, abs=1.0)
    for mine, theirs in zip(quick.stereo.per_section[place].bands, whole.stereo.per_section[place].bands):
        assert mine.width == pytest.approx(theirs.width, abs=0.03) and mine.crest_db == pytest.approx(theirs.crest_db, abs=0.6)
    assert quick.pump.depth_db == pytest.approx(whole.pump.depth_db, abs=0.05)
    # It did change, and nothing else is touched.
    now, was = (s.spectrum.per_section[place].level_db for s in (quick, survey))
    assert max(abs(a - b) for a, b in zip(now, was)) > 1.0
    assert quick.loudness == survey.loudness
    assert all(quick.spectrum.per_section[k] == survey.spectrum.per_section[k] for k in range(len(survey.sections)) if k != place)


def test_only_a_survey_of_the_same_plan_stands_for_a_song(song, club_survey):
    mixdown = Mixdown(song, RenderCache())
    survey = survey_remake(mixdown.whole(), mixdown)
    assert has_plan_of(song, survey)
    assert not has_plan_of(replace(song, bpm=song.bpm + 1), survey)
    for k in range(len(song.sections)):
        longer = (replace(s, bars=s.bars + 4) if i == k else s for i, s in enumerate(song.sections))
        assert not has_plan_of(replace(song, sections=tuple(longer)), survey)

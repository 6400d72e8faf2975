"""Every section beside its counterpart: each change shows in its own section and figure, and nowhere else."""

from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.gap import compare
from ersatz.core.survey.document import ROLES

PLACE = 1


def with_section(survey, **changes):
    sections = list(survey.sections)
    sections[PLACE] = replace(sections[PLACE], **changes)
    return replace(survey, sections=tuple(sections))


def verdicts(gap):
    return {(i, f.name): f.verdict for i, s in enumerate(gap.sections) for f in s.figures if f.verdict != "matched"}


def test_a_track_against_itself_is_matched_in_every_section(club_survey):
    gap = compare(club_survey, club_survey)
    assert len(gap.sections) == len(club_survey.sections) > PLACE
    assert all(len(s.figures) == 4 for s in gap.sections) and verdicts(gap) == {}


@pytest.mark.parametrize(("louder", "verdict"), [(0.9, None), (1.5, "close"), (-4.0, "off")])
def test_loudness_is_told_where_it_differs(club_survey, louder, verdict):
    mine = with_section(club_survey, loudness_lufs=club_survey.sections[PLACE].loudness_lufs + louder)
    assert verdicts(compare(club_survey, mine)) == ({(PLACE, "Loudness"): verdict} if verdict else {})


def test_roles_that_play_on_one_side_are_named(club_survey):
    rest, play = dict.fromkeys(ROLES, 0.0), dict.fromkeys(ROLES, 0.0)
    theirs = with_section(club_survey, presence={**play, "hats": 0.9, "bass": 0.8, "lead": 0.3})
    mine = with_section(club_survey, presence={**rest, "kick": 0.9, "lead": 0.0, "bass": 0.5})
    roles = compare(theirs, mine).sections[PLACE].figures[-1]
    # What is half there on either side is no difference.
    assert (roles.reference, roles.remake, roles.difference, roles.verdict) == ("hats", "kick", 2.0, "off")


def test_the_worst_band_is_named_and_counts_in_the_mean(club_survey):
    rows = list(club_survey.spectrum.per_section)
    level = np.array(rows[PLACE].level_db)
    k = club_survey.spectrum.centers_hz.index(1000.0)
    level[k] += 12.0
    rows[PLACE] = replace(rows[PLACE], level_db=tuple(level))
    mine = replace(club_survey, spectrum=replace(club_survey.spectrum, per_section=tuple(rows)))
    found = compare(club_survey, mine)
    mean, worst = found.sections[PLACE].figures[:2]
    assert worst.remake == "1 kHz" and worst.verdict == "off" and worst.difference == pytest.approx(11.5, abs=0.6)
    # One band of 26 is 12 dB up, all are taken down by the mean of that.
    assert 0.4 < mean.difference < 1.2 and mean.verdict == "matched"
    assert verdicts(found) == {(PLACE, "Balance, worst band"): "off"}


def test_a_section_that_the_remake_lacks_has_no_figures(club_survey):
    last = club_survey.sections[-1].label
    kept = [i for i, s in enumerate(club_survey.sections) if s.label != last]
    assert kept
    mine = replace(
        club_survey,
        sections=tuple(club_survey.sections[i] for i in kept),
        spectrum=replace(club_survey.spectrum, per_section=tuple(club_survey.spectrum.per_section[i] for i in kept)),
    )
    gap = compare(club_survey, mine, section=kept[0])
    lacking = [s for s in gap.sections if s.remake_bars is None]
    assert {s.label for s in lacking} == {last}
    assert all(s.figures == () and s.balance_db is None for s in lacking)

"""Parts of a draft enter and leave where the reference's do, also inside a section."""

from __future__ import annotations

from dataclasses import replace

import pytest

from ersatz.core.draft.trace import played
from ersatz.core.survey.document import Change, Section, Survey


@pytest.fixture
def survey(club_survey: Survey) -> Survey:
    """The club track's survey with a section of 16 bars in which the hats are heard throughout, and no changes."""
    presence = replace(club_survey.presence, hats=(0.6,) * len(club_survey.presence.bars))
    return replace(club_survey, presence=presence, changes=())


def _section(survey: Survey) -> Section:
    return replace(survey.sections[0], start_bar=5, bars=16)


def _change(bar: int, enters: tuple[str, ...] = (), leaves: tuple[str, ...] = ()) -> Change:
    return Change(bar, enters, leaves, (), 0.8)


def _played(survey: Survey, *changes: Change) -> tuple[bool, int, int]:
    return played(replace(survey, changes=changes), "hats", _section(survey), 16)


def test_without_changes_presence_decides(survey: Survey) -> None:
    assert _played(survey) == (True, 0, 0)
    quiet = replace(survey, presence=replace(survey.presence, hats=(0.0,) * len(survey.presence.bars)))
    assert _played(quiet, _change(11, enters=("hats",))) == (False, 0, 0)


def test_a_role_enters_and_leaves_at_the_line_of_its_change(survey: Survey) -> None:
    assert _played(survey, _change(11, enters=("hats",))) == (True, 6, 0)
    assert _played(survey, _change(18, leaves=("hats",))) == (True, 0, 3)
    assert _played(survey, _change(8, enters=("hats",)), _change(18, leaves=("hats",))) == (True, 3, 3)


def test_a_role_that_pauses_plays_from_start_to_end(survey: Survey) -> None:
    assert _played(survey, _change(9, leaves=("hats",)), _change(13, enters=("hats",))) == (True, 0, 0)


def test_changes_of_other_roles_and_at_the_sections_own_line_are_not_its_entry(survey: Survey) -> None:
    assert _played(survey, _change(11, enters=("bass",)), _change(5, enters=("hats",)), _change(21, leaves=("hats",))) == (
        True,
        0,
        0,
    )

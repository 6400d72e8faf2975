"""The section plan: what moves, what is cut, and that nothing else changes."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.edits import edit_json, parse_edit, section_name
from ersatz.core.edits.sections import (
    AdoptPlan,
    DeleteSection,
    DuplicateSection,
    MergeSection,
    MoveSection,
    PlannedSection,
    RelabelSection,
    RenameSection,
    ResizeSection,
    SplitSection,
)
from ersatz.core.errors import InvalidEdit
from ersatz.core.mixdown.automation import values_at
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import Master, Song, SongSection, Transition
from ersatz.core.song.parts import Cell, Note, Part, Pattern, Sound
from ersatz.core.song.strips import Automation, AutomationPoint

BAR = 3840
A = Pattern(1, (Note(0, 480, 60, 1.0),))
#: Rises by a dB per bar.
CLIMB = Automation("fader", "gain_db", (AutomationPoint(0, -20.0), AutomationPoint(20 * BAR, 0.0)))
PART = Part(
    id="lead", name="Lead", role="lead", sound=Sound("rim"), patterns={"A": A}, automation=(CLIMB,),
    cells=(Cell("s1", "A", on=False), Cell("s2", "A", entry_bars=4), Cell("s3", "A", exit_bars=2)),
)  # fmt: skip
SONG = Song(
    "Test", 120.0, "A", "minor", 50.0,
    (
        SongSection("s1", "intro", 4), SongSection("s2", "build", 8, levels_db=(-3.0, -1.0)),
        SongSection("s3", "drop", 8),
    ),
    (PART,), master=Master(automation=(CLIMB,)), transitions=(Transition("t1", "gap", "s2", 2.0),),
)  # fmt: skip


def plan(song):
    return [(s.label, s.bars) for s in song.sections]


def cells(song):
    return [
        (c.on, c.entry_bars, c.exit_bars) if (c := song.parts[0].cell(s.id)) else None for s in song.sections
    ]  # fmt: skip


def level(song, bar, owner="lead"):
    """Automated gain in the middle of a 0-based bar."""
    return float(values_at(song.strip(owner).automation[0], np.array([(bar + 0.5) * BAR]))[0])


def test_a_longer_section_moves_what_follows_with_its_automation():
    made = ResizeSection("s2", 12).apply(SONG)
    assert plan(made) == [("intro", 4), ("build", 12), ("drop", 8)]
    assert level(made, 11) == pytest.approx(level(SONG, 11), abs=0.01)
    assert level(made, 16) == pytest.approx(level(SONG, 12), abs=0.01)
    assert level(made, 16, "master") == pytest.approx(level(SONG, 12), abs=0.01)
    # What is new holds the last value.
    assert level(made, 14) == pytest.approx(-20 + 12, abs=0.01)


def test_a_longer_section_holds_its_value_before_another_one_follows():
    """The drop is in front of the intro: its last bar and the next one are far apart."""
    made = ResizeSection("s3", 12).apply(MoveSection("s3", 0).apply(SONG))
    for bar in (8, 11):
        assert level(made, bar) == pytest.approx(0.0, abs=0.01)
    assert level(made, 12) == pytest.approx(level(SONG, 0), abs=0.01)


def test_a_shorter_section_keeps_entries_and_exits_as_far_as_there_is_room():
    made = ResizeSection("s3", 4).apply(SONG)
    assert cells(made)[2] == (True, 0, 2)
    assert cells(ResizeSection("s2", 4).apply(SONG))[1] == (False, 0, 0)
    assert ResizeSection("s2", 1).apply(SONG).gap_beats("s2") == 2.0


def test_a_moved_section_takes_everything_along():
    made = MoveSection("s3", 0).apply(SONG)
    assert plan(made) == [("drop", 8), ("intro", 4), ("build", 8)]
    assert cells(made) == [(True, 0, 2), (False, 0, 0), (True, 4, 0)]
    for new, old in ((0, 12), (7, 19), (8, 0), (12, 4)):
        assert level(made, new) == pytest.approx(level(SONG, old), abs=0.01)
    assert MoveSection("s3", 0).sentence(SONG) == "Moved drop to bar 1"


def test_there_and_back_again_is_the_same_music():
    there = MoveSection("s3", 0).apply(SONG)
    back = MoveSection("s3", 2).apply(there)
    assert plan(back) == plan(SONG)
    for bar in range(20):
        assert level(back, bar) == pytest.approx(level(SONG, bar), abs=0.01)


def test_a_doubled_section_plays_the_same_twice():
    made = DuplicateSection("s3").apply(SONG)
    assert plan(made) == [("intro", 4), ("build", 8), ("drop", 8), ("drop", 8)]
    assert len({s.id for s in made.sections}) == 4
    assert cells(made)[2] == cells(made)[3] == (True, 0, 2)
    assert level(made, 23) == pytest.approx(level(SONG, 15), abs=0.01)


@pytest.mark.parametrize("bars", [1, 4, 6])
def test_a_split_section_sounds_as_it_did(bars):
    """The pattern is a bar long and begins anew anywhere without a difference; phrases have their levels by fours of bars."""
    levels = SONG.sections[1].levels_db if bars % 4 == 0 else ()
    whole = replace(SONG, sections=(SONG.sections[0], replace(SONG.sections[1], levels_db=levels), SONG.sections[2]))
    made = SplitSection("s3", bars).apply(SplitSection("s2", bars).apply(whole))
    assert [b for _, b in plan(made)] == [4, bars, 8 - bars, bars, 8 - bars]
    mixdown, before = Mixdown(made), Mixdown(whole)
    np.testing.assert_array_equal(mixdown.mix(0, mixdown.frames), before.mix(0, before.frames))
    assert made.gap_beats(made.sections[2].id) == 2.0 and len(made.transitions) == 1


def test_joined_sections_are_one_that_plays_on_as_the_first():
    made = MergeSection("s2").apply(SONG)
    assert plan(made) == [("intro", 4), ("build", 16)]
    assert cells(made)[1] == (True, 4, 0)
    assert made.parts[0].automation == SONG.parts[0].automation
    with pytest.raises(InvalidEdit, match="last"):
        MergeSection("s3").apply(SONG)


def test_taking_out_closes_up_and_leaves_at_least_one():
    made = DeleteSection("s1").apply(SONG)
    assert plan(made) == [("build", 8), ("drop", 8)]
    assert level(made, 0) == pytest.approx(level(SONG, 4), abs=0.01)
    with pytest.raises(InvalidEdit, match="at least one"):
        DeleteSection("s3").apply(DeleteSection("s2").apply(made))


def test_a_section_may_be_called_something_else():
    made = RelabelSection("s2", "breakdown").apply(SONG)
    assert plan(made)[1] == ("breakdown", 8)
    assert RelabelSection("s2", "breakdown").sentence(SONG) == "build is now breakdown"


def test_a_section_has_a_name_of_its_own_until_it_is_taken_away():
    made = RenameSection("s3", "Night watch").apply(SONG)
    assert section_name(made, "s3") == "Night watch"
    twice = DuplicateSection("s3").apply(made)
    assert [section_name(twice, s.id) for s in twice.sections[2:]] == ["Night watch 1", "Night watch 2"]
    assert RenameSection("s3", " ").apply(made) == SONG
    assert RenameSection("s3", "Night watch").sentence(SONG) == "drop is now called Night watch"
    with pytest.raises(InvalidEdit):
        RenameSection("s3", "x" * 99).apply(SONG)


def test_an_adopted_plan_takes_what_sections_of_that_name_play():
    wanted = tuple(PlannedSection(*p) for p in (("intro", 8), ("drop", 16), ("bridge", 4), ("build", 8), ("drop", 8)))
    made = AdoptPlan(wanted).apply(SONG)
    assert plan(made) == [("intro", 8), ("drop", 16), ("bridge", 4), ("build", 8), ("drop", 8)]
    assert cells(made) == [(False, 0, 0), (True, 0, 2), None, (True, 4, 0), (True, 0, 2)]
    assert len({s.id for s in made.sections}) == 5
    assert AdoptPlan(wanted).sentence(SONG) == "Adopted a plan of 5 sections, 44 bars"


def test_what_is_out_of_range_is_refused():
    for bad in (
        ResizeSection("s1", 0), ResizeSection("s1", 999), SplitSection("s1", 4), SplitSection("s1", 0), MoveSection("s1", 3),
        MoveSection("none", 0), DuplicateSection("none"), DeleteSection("none"), AdoptPlan(()),
    ):  # fmt: skip
        with pytest.raises(InvalidEdit):
            bad.apply(SONG)


EDITS = st.one_of(
    st.builds(ResizeSection, st.sampled_from(["s1", "s2", "s3"]), st.integers(1, 16)),
    st.builds(MoveSection, st.sampled_from(["s1", "s2", "s3"]), st.integers(0, 2)),
    st.builds(DuplicateSection, st.sampled_from(["s1", "s2", "s3"])),
    st.builds(SplitSection, st.sampled_from(["s1", "s2", "s3"]), st.integers(1, 7)),
    st.builds(MergeSection, st.sampled_from(["s1", "s2", "s3"])),
    st.builds(DeleteSection, st.sampled_from(["s1", "s2", "s3"])),
)


@given(st.lists(EDITS, max_size=8))
def test_any_row_of_edits_leaves_a_song_that_can_be_read_and_played(edits):
    song = SONG
    for edit in edits:
        try:
            song = parse_edit(edit_json(edit)).apply(song)
        except InvalidEdit:
            continue
    ids = [s.id for s in song.sections]
    assert len(set(ids)) == len(ids)
    assert Song.from_json(song.to_json()) == song
    assert {c.section for c in song.parts[0].cells} <= set(ids)
    for section in song.sections:
        cell = song.parts[0].cell(section.id)
        assert cell is None or cell.entry_bars + cell.exit_bars < section.bars
    Mixdown(song).notes.events(song.parts[0])

"""The song as a value and the edits that change it."""

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ersatz.core.edits import EDITS, Rename, SetCell, SwitchPart, edit_json, parse_edit, section_name
from ersatz.core.edits.cells import KeepAlternative
from ersatz.core.edits.sections import RenameSection
from ersatz.core.edits.strips import RenameStrip, SetDuck, SetStrip
from ersatz.core.errors import InvalidEdit, UnusableDocument
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Alternative


def test_a_song_survives_json(song):
    assert Song.from_json(json.loads(json.dumps(song.to_json()))) == song


def test_the_title_makes_no_other_sound(song):
    renamed = Rename("Night Ferry").apply(song)
    assert renamed.sha() == song.sha()
    assert SetStrip("kick", "gain_db", -3).apply(song).sha() != song.sha()


def test_names_and_kept_versions_make_no_other_sound(song):
    first = song.sections[0].id
    for edit in (
        RenameSection(first, "Casting off"),
        RenameStrip("kick", "Engine"),
        KeepAlternative("kick", first, Alternative("A")),
    ):
        changed = edit.apply(song)
        assert changed != song and changed.sha() == song.sha()


def test_switching_a_part_off_and_on_again_gives_the_same_song(song):
    section = next(c.section for c in song.part("kick").cells if c.on)
    off = SwitchPart("kick", section, False).apply(song)
    assert not off.part("kick").cell(section).on
    assert SwitchPart("kick", section, True).apply(off) == song


def test_an_edit_touches_nothing_else(song):
    changed = SwitchPart("bass", "s1", True).apply(song)
    assert [p for p in changed.parts if p.id != "bass"] == [p for p in song.parts if p.id != "bass"]


@pytest.mark.parametrize(
    "edit",
    [
        SwitchPart("nobody", "s1", True),
        SwitchPart("kick", "s99", True),
        SetStrip("kick", "gain_db", 99),
        SetDuck("bass", -1),
        Rename("  "),
    ],
)
def test_edits_that_dont_fit_are_refused_with_a_sentence(song, edit):
    with pytest.raises(InvalidEdit) as refused:
        edit.apply(song)
    assert str(refused.value).endswith(".")


def test_every_edit_of_the_arrangement_goes_through_json_and_names_itself(song):
    edits = [
        SwitchPart("kick", "s1", False), SetCell("kick", "s1", "A", 0, 0, -2.0), Rename("Foghorn"),
    ]  # fmt: skip
    assert {e.kind for e in edits} == {kind for kind, e in EDITS.items() if e.__module__.endswith("arrangement")}
    for edit in edits:
        assert parse_edit(json.loads(json.dumps(edit_json(edit)))) == edit
        assert edit.sentence(song)


@pytest.mark.parametrize("data", [None, {}, {"kind": "explode"}, [1]])
def test_unknown_edits_are_refused(data):
    with pytest.raises(InvalidEdit):
        parse_edit(data)


def test_an_edit_with_wrong_fields_is_refused():
    with pytest.raises(UnusableDocument):
        parse_edit({"kind": "switch_part", "part": "kick", "section": "s1", "on": "perhaps"})


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None, max_examples=40)
@given(data=st.data())
def test_any_order_of_edits_keeps_the_song_valid(song, data):
    current = song
    for _ in range(data.draw(st.integers(1, 6))):
        part = data.draw(st.sampled_from([p.id for p in song.parts if p.patterns]))
        section = data.draw(st.sampled_from([s.id for s in song.sections]))
        edit = data.draw(
            st.sampled_from([SwitchPart(part, section, True), SwitchPart(part, section, False), SetStrip(part, "gain_db", -7)])
        )
        current = edit.apply(current)
        assert edit.apply(current) == current
        assert Song.from_json(current.to_json()) == current
    assert [s.id for s in current.sections] == [s.id for s in song.sections]


def test_repeated_labels_are_numbered(song):
    names = [section_name(song, s.id) for s in song.sections]
    assert len(set(names)) == len(names)


def test_a_cell_says_which_pattern_from_when_to_when_and_how_loud(song):
    part = next(p for p in song.parts if len(p.patterns) > 1)
    section = max(song.sections, key=lambda s: s.bars)
    other = max(part.patterns)
    made = SetCell(part.id, section.id, other, 1, 2, -3.0)
    cell = made.apply(song).part(part.id).cell(section.id)
    assert (cell.on, cell.pattern, cell.entry_bars, cell.exit_bars, cell.level_db) == (True, other, 1, 2, -3.0)
    assert len(made.apply(song).part(part.id).cells) == len(part.cells)
    for bad in (
        SetCell(part.id, section.id, "none", 0, 0, 0.0), SetCell(part.id, section.id, other, section.bars, 0, 0.0),
        SetCell(part.id, section.id, other, -1, 0, 0.0), SetCell(part.id, section.id, other, 0, 0, 99.0),
    ):  # fmt: skip
        with pytest.raises(InvalidEdit):
            bad.apply(song)
    assert "pattern" in made.sentence(song)
    assert "−3.0 dB" in made.sentence(SetCell(part.id, section.id, other, 1, 2, 0.0).apply(song))
    assert "leaves 2 bars" in made.sentence(SetCell(part.id, section.id, other, 0, 0, -3.0).apply(song))

"""Edits that make a track out of a loop: cells by the rectangle, bars of everything, parts, patterns, versions, shapes."""

import json
from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.edits import EDITS, edit_json, parse_edit
from ersatz.core.edits.automation import CopyAutomation, DrawAutomation, SetAutomation, ShapeAutomation, automatable
from ersatz.core.edits.cells import FlipCell, KeepAlternative, PlacedCell, PutCells
from ersatz.core.edits.notes import WriteNotes
from ersatz.core.edits.parts import (
    AddLayer,
    AddPart,
    AddPattern,
    DeletePart,
    DeletePattern,
    MovePart,
    SetChoke,
    SetGroove,
    SetLayer,
    SetTempo,
)
from ersatz.core.edits.sections import AddSection, AdoptSection, DeleteBars, DuplicateBars, InsertBars
from ersatz.core.edits.strips import RenameStrip
from ersatz.core.edits.transitions import DeleteTransition, PutTransition
from ersatz.core.errors import InvalidEdit
from ersatz.core.mixdown.automation import values_at
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.song.document import REVERB_RETURN, Song
from ersatz.core.song.parts import Alternative, Follows, Groove, Note, Sound
from ersatz.core.song.strips import AutomationPoint, Effect, Target
from tests.core.test_transitions import BAR, SONG


def plan(song):
    return [(s.label, s.bars) for s in song.sections]


def starts(song, part):
    played = staged(song)
    return sorted(round(n.start) for n in sounding_notes(played, played.part(part)))


def climb(song):
    """A dB per bar on the pad and on the drums' bus."""
    points = (AutomationPoint(0, -20.0), AutomationPoint(20 * BAR, 0.0))
    return SetAutomation(Target("bus:drums", "fader", "gain_db"), points).apply(
        SetAutomation(Target("pad", "fader", "gain_db"), points).apply(song)
    )


def level(song, bar):
    """Automated gain of both in the middle of a 0-based bar."""
    curves = (song.part("pad").automation[0], song.strip("bus:drums").automation[0])
    return [round(float(values_at(c, np.array([(bar + 0.5) * BAR]))[0]), 2) for c in curves]


# Bars of everything --------------------------------------------------------------------------------------------------


def test_room_is_silent_and_moves_what_follows_with_its_automation_and_its_transition():
    song = climb(PutTransition("s1", "impact", 4).apply(SONG))
    made = InsertBars(3, 2).apply(song)
    assert plan(made) == [("build", 2), ("build", 2), ("build", 2), ("drop", 4)]
    assert [s for s in starts(made, "kick") if 2 * BAR <= s < 4 * BAR] == []
    assert starts(made, "impact") == [6 * BAR]
    for bar in range(8):
        assert level(made, bar + (2 if bar >= 2 else 0)) == level(song, bar)
    assert plan(InsertBars(9, 4).apply(SONG))[-1] == ("drop", 4)
    assert plan(AddSection("outro", 6, len(SONG.sections)).apply(SONG))[-1] == ("outro", 6)
    assert plan(AddSection("intro", 4, 0).apply(SONG))[:2] == [("intro", 4), plan(SONG)[0]]
    assert plan(InsertBars(1, 4).apply(SONG))[0] == ("build", 4)


def test_closing_up_cuts_bars_out_of_a_section_that_stays_one():
    made = DeleteBars(2, 3).apply(climb(SONG))
    assert plan(made) == [("build", 2), ("drop", 4)]
    assert [level(made, 0), level(made, 1), level(made, 2)] == [level(climb(SONG), b) for b in (0, 3, 4)]
    assert plan(DeleteBars(4, 5).apply(SONG)) == [("build", 3), ("drop", 3)]
    assert plan(DeleteBars(1, 4).apply(SONG)) == [("drop", 4)]
    with pytest.raises(InvalidEdit):
        DeleteBars(1, 8).apply(SONG)


def test_room_that_is_closed_up_again_leaves_the_same_music():
    back = DeleteBars(5, 8).apply(InsertBars(5, 4).apply(climb(SONG)))
    assert plan(back) == plan(SONG)
    assert [level(back, b) for b in range(8)] == [level(climb(SONG), b) for b in range(8)]
    assert starts(back, "lead") == starts(SONG, "lead")


def test_repeated_bars_play_the_same_again():
    made = DuplicateBars(4, 5).apply(climb(SONG))
    assert sum(bars for _, bars in plan(made)) == 10
    assert [level(made, b) for b in (3, 4, 5, 6, 7)] == [level(climb(SONG), b) for b in (3, 4, 3, 4, 5)]
    whole = SONG.bars * BAR
    assert starts(made, "kick") == starts(SONG, "kick") + [whole + k * 960 for k in range(8)]


def test_one_section_is_adopted_by_its_number_or_comes_in_empty():
    assert plan(AdoptSection("drop", 0, 8, 1).apply(SONG)) == [("build", 4), ("drop", 8)]
    made = AdoptSection("intro", 0, 16, 0).apply(SONG)
    assert plan(made) == [("intro", 16), ("build", 4), ("drop", 4)]
    assert all(p.cell(made.sections[0].id) is None for p in made.parts)
    assert AdoptSection("drop", 0, 8, 1).sentence(SONG) == "Drop adopted from the reference, 8 bars"


# Cells ---------------------------------------------------------------------------------------------------------------


def test_a_rectangle_of_cells_is_put_at_once():
    cells = tuple(PlacedCell(p, s, False, "A") for p in ("kick", "clap") for s in ("s1", "s2"))
    made = PutCells(cells, "off").apply(SONG)
    assert starts(made, "kick") == starts(made, "clap") == [] and starts(made, "rim")
    assert PutCells(cells, "off").sentence(SONG) == "2 parts off in 2 sections"
    assert PutCells(cells[:1], "pasted").sentence(SONG) == "Kick pasted in build"
    for bad in ((), (replace(cells[0], on=True, pattern="Z"),), (replace(cells[0], entry_bars=4),)):
        with pytest.raises(InvalidEdit):
            PutCells(bad).apply(SONG)


def test_a_fill_plays_in_the_last_bars_alone():
    song = AddPattern("clap").apply(SONG)
    song = WriteNotes("clap", "B", 1, tuple(Note(k * 240, 240, 60, 0.8) for k in range(16))).apply(song)
    made = PutCells((PlacedCell("clap", "s1", True, "A", fill="B", fill_bars=1),)).apply(song)
    per_bar = [sum(b * BAR <= s < (b + 1) * BAR for s in starts(made, "clap")) for b in range(8)]
    assert per_bar == [4, 4, 4, 16, 4, 4, 4, 4]
    with pytest.raises(InvalidEdit, match="fill"):
        PutCells((PlacedCell("clap", "s1", True, "A", fill="B", fill_bars=9),)).apply(song)


def test_a_flipped_cell_keeps_the_other_version_and_comes_back():
    bell = Alternative("A", -3.0, Sound("rim", name="bell"))
    song = KeepAlternative("lead", "s2", bell).apply(SONG)
    flipped = FlipCell("lead", "s2").apply(song)
    cell = flipped.part("lead").cell("s2")
    assert (cell.sound, cell.level_db, cell.other) == (bell.sound, -3.0, Alternative("A"))
    assert FlipCell("lead", "s2").apply(flipped) == song
    assert KeepAlternative("lead", "s2", None).apply(song) == SONG
    with pytest.raises(InvalidEdit, match="no other version"):
        FlipCell("lead", "s2").apply(SONG)


def test_the_flipped_section_sounds_other_and_the_rest_as_before():
    made = FlipCell("lead", "s2").apply(KeepAlternative("lead", "s2", Alternative("A", part="rim")).apply(SONG))
    a, b = Mixdown(made), Mixdown(SONG)
    assert np.array_equal(a.block(a.song.strip("bus:music"), 2), b.block(b.song.strip("bus:music"), 2))
    assert not np.array_equal(a.block(a.song.strip("bus:music"), 6), b.block(b.song.strip("bus:music"), 6))


# Parts and patterns --------------------------------------------------------------------------------------------------


def test_an_added_part_is_playable_at_once_and_leaves_no_trace_when_taken_out():
    made = AddPart("bass", "Keel bass").apply(SONG)
    part = made.part("keel-bass")
    assert (part.out, part.role, part.patterns["A"].notes) == ("bus:bass", "bass", ())
    assert AddPart("bass", "Keel bass").apply(made).parts[-1].id == "keel-bass-2"
    assert DeletePart("keel-bass").apply(made) == SONG
    steered = replace(SONG.part("pad"), chain=(Effect("ducker", sidechain="kick"),))
    song = PutTransition("s1", "gap", 2, on=("kick",)).apply(replace(SONG, parts=(SONG.part("kick"), steered)))
    gone = DeletePart("kick").apply(song)
    assert gone.part("pad").chain[0].sidechain == "" and gone.transitions[0].on == ()


def test_parts_are_renamed_moved_and_choked():
    assert RenameStrip("lead", "Foghorn").apply(SONG).part("lead").name == "Foghorn"
    assert MovePart("lead", 0).apply(SONG).parts[0].id == "lead"
    assert SetChoke("rim", "hats").apply(SONG).part("rim").choke == "hats"
    assert SetTempo(128.5).apply(SONG).bpm == 128.5
    for bad in (RenameStrip("lead", " "), MovePart("lead", 9), SetTempo(1000), AddPart("bass", sound="none")):
        with pytest.raises(InvalidEdit):
            bad.apply(SONG)


def test_patterns_are_added_copied_and_taken_out_with_what_played_them():
    made = AddPattern("kick", copy_of="A").apply(SONG)
    assert made.part("kick").patterns["B"] == SONG.part("kick").patterns["A"]
    made = PutCells((PlacedCell("kick", "s2", True, "A", fill="B", fill_bars=1),)).apply(made)
    assert DeletePattern("kick", "B").apply(made) == SONG
    assert DeletePattern("kick", "A").apply(made).part("kick").cells == ()


# Groove --------------------------------------------------------------------------------------------------------------

STEPS = tuple(Note(k * 240, 120, 60, 0.8) for k in range(16))


def grooved(groove, bpm=120.0, notes=STEPS):
    song = WriteNotes("rim", "A", 1, notes).apply(replace(SONG, bpm=bpm))
    song = SetGroove("rim", groove).apply(song)
    return [n for n in sorted(sounding_notes(song, song.part("rim")), key=lambda n: n.start) if n.start < BAR]


def test_a_timing_template_moves_each_step_by_its_milliseconds():
    timing = tuple(float(k) for k in range(16))
    for amount in (0.0, 0.5, 1.0):
        moved = [n.start - k * 240 for k, n in enumerate(grooved(Groove("x", timing, amount=amount)))]
        # At 120 BPM a tick is 0.5208 ms.
        np.testing.assert_allclose(moved, [amount * t / (500 / 960) for t in timing], atol=1e-6)


def test_a_parts_own_swing_stands_in_the_songs_place():
    late = [n.start - k * 240 for k, n in enumerate(grooved(Groove(swing_percent=60.0)))]
    np.testing.assert_allclose(late, [0, 48] * 8, atol=1e-9)


def test_chance_is_the_same_for_the_same_seed_and_stays_within_bounds():
    one, same, other = (grooved(Groove(humanise_ms=5.0, humanise_velocity=0.1, seed=s)) for s in (1, 1, 2))
    assert one == same != other
    moved = np.array([n.start - k * 240 for k, n in enumerate(one)][1:]) * 500 / 960
    assert 1 < moved.std() < 10 and np.abs(moved).max() <= 12.5
    assert len({n.velocity for n in one}) > 8


def test_a_hit_is_nudged_and_struck_again_within_its_length():
    (first, *rest) = grooved(Groove(), notes=(Note(960, 240, 60, 0.8, nudge_ms=-10.0, repeats=3),))
    np.testing.assert_allclose([first.start, *(n.start for n in rest)], [960 - 19.2, 1040 - 19.2, 1120 - 19.2])
    assert first.end - first.start == 80


def test_a_row_with_a_length_of_its_own_runs_against_the_bar():
    song = WriteNotes("rim", "A", 1, (Note(0, 240, 60, 0.8),), loop_ticks=720).apply(SONG)
    assert starts(song, "rim")[:7] == [k * 720 for k in range(6)] + [4320]
    # Every section begins it anew.
    assert 4 * BAR in starts(song, "rim")


def test_a_hit_of_another_pitch_is_higher_and_shorter():
    """A rim's strongest partial an octave up, by reading it twice as fast."""
    peaks = []
    for semitones in (0.0, 12.0):
        song = WriteNotes("rim", "A", 1, (Note(0, 240, 60, 1.0, semitones=semitones),)).apply(SONG)
        mixdown = Mixdown(song)
        x = mixdown.block(song.part("rim"), 0)[0][:8192]
        peaks.append(np.abs(np.fft.rfft(x * np.hanning(8192)))[20:].argmax() + 20)
    assert peaks[1] / peaks[0] == pytest.approx(2, rel=0.05)


# Automation ----------------------------------------------------------------------------------------------------------


def test_a_bus_is_told_from_the_part_of_its_name():
    song = RenameStrip("lead", "bass").apply(SONG)
    bass = AddPart("bass", "Bass").apply(song)
    made = SetAutomation(Target("bus:bass", "fader", "gain_db"), (AutomationPoint(0, -6.0),)).apply(bass)
    assert made.part("bass").automation == () and made.strip("bus:bass").automation
    sends = {t for t in automatable(bass, "bass") if t.device == "sends"}
    assert len(sends) == 2 and not any(t.device == "sends" for t in automatable(bass, "bus:bass"))


@pytest.mark.parametrize(
    "shape, early, end", [("rise", None, 0.0), ("fall", None, -20.0), ("pulse", -20.0, -20.0), ("stairs", -17.14, 0.0)]
)
def test_a_shape_takes_the_place_of_what_lay_there_and_of_nothing_else(shape, early, end):
    before = SetAutomation(Target("pad", "fader", "gain_db"), (AutomationPoint(0, -3.0), AutomationPoint(7 * BAR, -9.0))).apply(
        SONG
    )
    made = ShapeAutomation(Target("pad", "fader", "gain_db"), shape, BAR, 2 * BAR, -20.0, 0.0).apply(before)
    curve = made.part("pad").automation[0]
    if early is not None:
        assert values_at(curve, np.array([BAR + 700.0]))[0] == pytest.approx(early, abs=0.1)
    assert values_at(curve, np.array([2 * BAR - 1.0]))[0] == pytest.approx(end, abs=0.1)
    assert values_at(curve, np.array([0.0, 7.0 * BAR])).tolist() == [-3.0, -9.0]


def test_a_shape_begins_and_ends_with_the_value_that_stands():
    """A send that is closed, a level: both are behind the shape what they were without it."""
    send, level = Target("pad", "sends", REVERB_RETURN), Target("pad", "fader", "gain_db")
    for target, stands, top in ((send, -60.0, -12.0), (level, 0.0, 0.0)):
        made = ShapeAutomation(target, "rise", 2 * BAR, 4 * BAR - 1).apply(SONG)
        curve = made.part("pad").automation[0]
        at = np.array([0.0, 2 * BAR - 1.0, 2.0 * BAR, 4 * BAR - 1.0, 4.0 * BAR, 8.0 * BAR])
        np.testing.assert_allclose(values_at(curve, at), [stands, stands, top - 18, top, stands, stands], atol=1e-6)
    with pytest.raises(InvalidEdit):
        ShapeAutomation(Target("pad", "fader", "nothing"), "rise", 0, BAR).apply(SONG)


def test_a_line_is_drawn_on_what_stands_and_changes_no_other_bar():
    song = replace(SONG, parts=tuple(replace(p, gain_db=-7.0) if p.id == "pad" else p for p in SONG.parts))
    line = (AutomationPoint(2 * BAR, -12.0), AutomationPoint(3 * BAR, 0.0))
    # Neither drawn before nor drawn again: the level stands at the part's own, and at the bus's 0 dB.
    for owner, stands in (("pad", -7.0), ("bus:drums", 0.0)):
        drawn = DrawAutomation(Target(owner, "fader", "gain_db"), line).apply(song)
        again = DrawAutomation(
            Target(owner, "fader", "gain_db"), (AutomationPoint(5 * BAR, -3.0), AutomationPoint(6 * BAR, -3.0))
        ).apply(drawn)
        ticks = np.array([0, BAR, 2 * BAR - 2, 2 * BAR, 3 * BAR, 3 * BAR + 2, 4 * BAR, 9 * BAR], float)
        for made in (drawn, again):
            (curve,) = made.strip(owner).automation
            at = [float(v) for v in values_at(curve, ticks)]
            assert at == pytest.approx([stands, stands, stands, -12, 0, stands, stands, stands])
    with pytest.raises(InvalidEdit):
        DrawAutomation(Target("pad", "fader", "gain_db"), ()).apply(SONG)
    assert DrawAutomation(Target("pad", "fader", "gain_db"), line).sentence(SONG) == "Pad: Level drawn in bar 3"


def test_what_a_curve_does_in_a_section_is_copied_to_another():
    song = ShapeAutomation(Target("pad", "fader", "gain_db"), "rise", 0, 4 * BAR - 1, -20.0, 0.0).apply(SONG)
    made = CopyAutomation(Target("pad", "fader", "gain_db"), "s1", "s2").apply(song)
    curve = made.part("pad").automation[0]
    at = np.linspace(0, 4 * BAR - 2, 9)
    np.testing.assert_allclose(values_at(curve, at + 4 * BAR), values_at(curve, at), atol=1e-9)
    with pytest.raises(InvalidEdit, match="no curve"):
        CopyAutomation(Target("pad", "fader", "pan"), "s1", "s2").apply(SONG)


def test_every_edit_goes_through_json_and_names_itself():
    song = AddPattern("kick").apply(PutTransition("s1", "riser").apply(KeepAlternative("lead", "s1", Alternative("A")).apply(SONG)))
    song = SetAutomation(Target("pad", "fader", "pan"), (AutomationPoint(0, 0.0),)).apply(song)
    edits = [
        AdoptSection("drop", 0, 8, 1), AddSection("bridge", 8, 1), InsertBars(2, 1), DeleteBars(1, 1), DuplicateBars(1, 2),
        PutCells((PlacedCell("kick", "s1", True, "A"),)),
        KeepAlternative("lead", "s1", Alternative("A", 0.0, Sound("rim"))), FlipCell("lead", "s1"), PutTransition("s1", "wash"),
        DeleteTransition("t1"), AddPart("lead"), DeletePart("rim"), RenameStrip("rim", "Bell"), MovePart("rim", 0),
        SetChoke("rim", "a"), SetGroove("rim", Groove("late")), AddPattern("rim"), DeletePattern("kick", "B"), SetTempo(126.0),
        ShapeAutomation(Target("pad", "fader", "pan"), "rise", 0, BAR, 0.0, 1.0),
        CopyAutomation(Target("pad", "fader", "pan"), "s1", "s2"),
        DrawAutomation(Target("pad", "fader", "pan"), (AutomationPoint(0, 0.0), AutomationPoint(BAR, 1.0))),
        SetAutomation(Target("pad", "fader", "pan"), ()), AddLayer(Follows("pad", 12)), SetLayer("lead", Follows("pad")),
    ]  # fmt: skip
    new = {"cells", "transitions", "parts", "automation"}
    assert {e.kind for e in edits} >= {k for k, e in EDITS.items() if e.__module__.rpartition(".")[2] in new}
    for edit in edits:
        assert parse_edit(json.loads(json.dumps(edit_json(edit)))) == edit
        assert edit.sentence(song)
        changed = edit.apply(song)
        assert Song.from_json(json.loads(json.dumps(changed.to_json()))) == changed

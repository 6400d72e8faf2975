"""What is done to notes as a whole: laws rather than examples where there is one."""

import json
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.edits import Several, edit_json, parse_edit
from ersatz.core.edits.imported import ImportArrangement, ImportedTrack
from ersatz.core.edits.notes import CallAndAnswer, TransformNotes, WriteChord, WriteNotes
from ersatz.core.edits.sections import PlannedSection
from ersatz.core.errors import InvalidEdit, UnusableDocument
from ersatz.core.exchange.midi import arrangement_of, pattern_midi, read_midi, write_midi
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.pitch import TONICS, Key
from ersatz.core.song import transform
from ersatz.core.song.parts import Note
from tests.core.test_transitions import BAR, SONG

LENGTH = 2 * BAR
NOTES = st.lists(
    st.builds(Note, st.integers(0, LENGTH - 1), st.integers(1, 960), st.integers(48, 76), st.just(0.8)), min_size=1, max_size=12
).map(tuple)
KEYS = st.builds(Key, st.sampled_from(TONICS), st.sampled_from(["major", "minor"]))
C = Key("C", "major")
TRIAD = tuple(Note(0, BAR, m, 1.0) for m in (60, 64, 67))


@given(NOTES, KEYS)
def test_snapped_notes_lie_in_the_scale_and_stay_there(notes, key):
    once = transform.snapped(notes, key)
    assert all(n.midi % 12 in key.pitch_classes for n in once)
    assert all(abs(a.midi - b.midi) <= 1 for a, b in zip(notes, once))
    assert transform.snapped(once, key) == once


@given(NOTES, KEYS, st.integers(-7, 7))
def test_what_is_moved_in_the_scale_comes_back(notes, key, degrees):
    notes = transform.snapped(notes, key)
    assert transform.transposed_in_scale(transform.transposed_in_scale(notes, degrees, key), -degrees, key) == notes
    assert transform.transposed_in_scale(notes, 7, key) == transform.transposed(notes, 12)


@given(NOTES, KEYS)
def test_a_mirror_of_a_mirror_is_the_line_itself(notes, key):
    notes = tuple(sorted(transform.snapped(notes, key), key=lambda n: n.tick))
    assert transform.inverted(transform.inverted(notes, key), key) == notes


@given(NOTES, st.integers(-5000, 5000))
def test_shifting_goes_round_and_comes_back(notes, ticks):
    shifted = transform.shifted(notes, ticks, LENGTH)
    assert all(0 <= n.tick < LENGTH for n in shifted)
    assert transform.shifted(shifted, -ticks, LENGTH) == notes


@given(NOTES)
def test_legato_leaves_no_hole_before_the_next_note(notes):
    held = transform.legato(notes, LENGTH)
    starts = sorted({n.tick for n in held})
    for n in held:
        later = [s for s in starts if s > n.tick]
        assert n.tick + n.ticks >= (later[0] if later else LENGTH)


def test_backwards_ends_where_it_began():
    notes = (Note(0, 240, 60, 0.8), Note(960, 480, 62, 0.8))
    assert transform.reverse(notes, BAR) == (Note(BAR - 240, 240, 60, 0.8), Note(BAR - 1440, 480, 62, 0.8))


def test_stretching_leaves_out_what_falls_behind_the_pattern():
    notes = tuple(Note(k * 960, 240, 60, 0.8) for k in range(4))
    assert [n.tick for n in transform.stretched(notes, 2, BAR)] == [0, 1920]
    assert [n.tick for n in transform.stretched(notes, 0.5, BAR)] == [0, 480, 960, 1440]


def test_a_strum_goes_up_or_down_and_leaves_single_notes():
    up = transform.strummed((*TRIAD, Note(1920, 240, 72, 0.8)), 12)
    assert [n.nudge_ms for n in up] == [0, 12, 24, 0]
    assert [n.nudge_ms for n in transform.strummed(TRIAD, -12)] == [24, 12, 0]


def test_an_octave_layer_adds_and_never_doubles():
    assert [n.midi for n in transform.with_octave(TRIAD, 1)] == [60, 64, 67, 72, 76, 79]
    assert transform.with_octave(transform.with_octave(TRIAD, 1), 1)[6:] == tuple(
        replace(n, midi=n.midi + 24, velocity=0.49) for n in TRIAD
    )


def test_chords_are_stacked_in_thirds_on_a_degree():
    assert transform.chord_of(C, 0, 4, 60) == (60, 64, 67, 71)
    assert transform.chord_of(C, 1, 3, 60) == (62, 65, 69)
    assert transform.chord_of(Key("A", "minor"), 4, 3, 57) == (64, 67, 71)


@pytest.mark.parametrize(
    "order, octaves, first",
    [
        ("up", 1, [60, 64, 67, 60]),
        ("down", 1, [67, 64, 60, 67]),
        ("up and down", 1, [60, 64, 67, 64, 60]),
        ("up", 2, [60, 64, 67, 72, 76, 79, 60]),
    ],
)
def test_an_arpeggio_goes_through_its_chord_in_order(order, octaves, first):
    made = transform.arpeggio(TRIAD, 240, order, octaves, 0.5, BAR)
    assert [n.midi for n in made[: len(first)]] == first
    assert len(made) == 16 and {n.ticks for n in made} == {120}


def test_an_arpeggio_by_chance_is_the_same_for_the_same_seed():
    a, b, c = (transform.arpeggio(TRIAD, 240, "by chance", 2, 0.5, BAR, seed) for seed in (1, 1, 2))
    assert a == b != c


def test_a_rolling_bass_leaves_the_beats_to_the_kick_and_follows_the_roots():
    made = transform.rolling_bass({0: 36, BAR: 41}, 2 * BAR, 960)
    assert len(made) == 24 and all(n.tick % 960 for n in made)
    assert {n.midi for n in made if n.tick < BAR} == {36, 48} and {n.midi for n in made if n.tick >= BAR} == {41, 53}


def test_call_and_answer_share_the_bars_and_the_rhythm():
    call = tuple(Note(b * BAR + k * 480, 240, 60 + 2 * (k % 2), 0.8) for b in range(8) for k in range(3))
    kept, answer = transform.answered(call, 8 * BAR, 2, BAR, C, 48)
    assert {n.tick // BAR for n in kept} == {0, 1, 4, 5}
    assert [n.tick - 2 * BAR for n in answer] == [n.tick for n in kept]
    assert min(n.midi for n in answer) >= 48


# Edits ---------------------------------------------------------------------------------------------------------------


def lead(song):
    return song.part("lead").patterns["A"].notes


def test_an_edit_transforms_chosen_notes_and_leaves_the_others():
    made = TransformNotes("lead", "A", "transpose", 12, places=(1,)).apply(SONG)
    assert [n.midi for n in lead(made)] == [60, 72, 60, 60]
    assert TransformNotes("lead", "A", "transpose", 12).sentence(SONG) == "Lead A: transpose +12 semitones"
    with pytest.raises(InvalidEdit, match="any more"):
        TransformNotes("lead", "A", "transpose", 12, places=(9,)).apply(SONG)


@pytest.mark.parametrize(
    "how",
    ["transpose", "transpose in scale", "snap to scale", "invert", "reverse", "shift", "stretch", "legato", "strum",
     "octave layer", "louder", "length", "arpeggio", "rolling bass"],
)  # fmt: skip
def test_every_way_gives_notes_that_can_be_written(how):
    edit = TransformNotes("pad", "A", how, 2.0)
    made = edit.apply(SONG)
    assert made.part("pad").patterns["A"].notes
    assert parse_edit(json.loads(json.dumps(edit_json(edit)))) == edit


def test_a_chord_is_written_to_the_end_of_its_bar_over_what_is_there():
    made = WriteChord("pad", "A", 4, 4, 960).apply(SONG)
    chord = [n for n in made.part("pad").patterns["A"].notes if n.tick == 960]
    # The fourth degree of A minor with its seventh, from the G below middle C on.
    assert [n.midi for n in chord] == [62, 65, 69, 72]
    assert {n.tick + n.ticks for n in chord} == {BAR - 10}
    assert len(made.part("pad").patterns["A"].notes) == 6
    assert WriteChord("pad", "A", 4, 4, 960).apply(made) == made
    for bad in (WriteChord("pad", "A", 8, 3, 0), WriteChord("pad", "A", 1, 9, 0), WriteChord("pad", "A", 1, 3, BAR)):
        with pytest.raises(InvalidEdit):
            bad.apply(SONG)


def test_two_parts_converse():
    song = WriteNotes("lead", "A", 4, tuple(Note(b * BAR, 240, 60, 0.8) for b in range(4))).apply(SONG)
    made = CallAndAnswer("lead", "A", "pad", "A", 1).apply(song)
    assert [n.tick // BAR for n in lead(made)] == [0, 2]
    assert [n.tick // BAR for n in made.part("pad").patterns["A"].notes] == [1, 3]
    for bad in (CallAndAnswer("lead", "A", "lead", "A"), CallAndAnswer("lead", "A", "pad", "A", 4)):
        with pytest.raises(InvalidEdit):
            bad.apply(song)


def test_several_edits_are_one():
    edits = tuple(edit_json(TransformNotes("lead", "A", "transpose", k)) for k in (5, 7))
    assert [n.midi for n in lead(Several("An octave in two steps", edits).apply(SONG))] == [72] * 4
    assert Several("An octave in two steps", edits).sentence(SONG) == "An octave in two steps"
    with pytest.raises(InvalidEdit):
        Several("Nothing", ()).apply(SONG)


# MIDI ----------------------------------------------------------------------------------------------------------------


def test_an_exported_pattern_reads_as_itself():
    (track,) = read_midi(pattern_midi(SONG, SONG.part("pad"), "A")).tracks
    assert [(n.tick, n.ticks, n.midi, n.velocity) for n in track.notes] == [(0, 3800, 57, 1.0), (0, 3800, 64, 1.0)]


def test_a_song_written_and_imported_plays_the_same_notes(tmp_path):
    write_midi(SONG, tmp_path / "song.mid")
    read = read_midi((tmp_path / "song.mid").read_bytes())
    edit = arrangement_of(read, "song.mid", BAR)
    assert edit.sections == (PlannedSection("build", 4), PlannedSection("drop", 4))
    empty = replace(SONG, parts=())
    made = staged(edit.apply(empty))
    for name in ("pad", "lead", "kick"):
        before = sorted((n.start, n.midi if name != "kick" else 60) for n in sounding_notes(SONG, SONG.part(name)))
        after = sorted((n.start, n.midi if name != "kick" else 60) for n in sounding_notes(made, made.part(name)))
        assert after == before
    # What repeats is a short pattern, once.
    assert {k: p.bars for k, p in made.part("pad").patterns.items()} == {"A": 1}


def test_an_import_lengthens_the_plan_where_it_has_none_of_its_own():
    track = ImportedTrack("Bell", "lead", (Note(9 * BAR + 5, 240, 72, 0.9),))
    made = ImportArrangement("bell.mid", (track,)).apply(SONG)
    assert [s.bars for s in made.sections] == [4, 6]
    assert [round(n.start) for n in sounding_notes(made, made.parts[-1])] == [9 * BAR + 5]
    with pytest.raises(InvalidEdit):
        ImportArrangement("none.mid", ()).apply(SONG)


@pytest.mark.parametrize("data", [b"", b"MThd", b"RIFF....WAVE", b"MThd\x00\x00\x00\x06\x00\x02\x00\x01\x00\x60MTrk"])
def test_what_is_no_midi_is_said_in_a_sentence(data):
    with pytest.raises(UnusableDocument, match="MIDI"):
        read_midi(data)

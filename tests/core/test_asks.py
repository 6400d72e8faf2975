"""What is taken from the reference, generated and offered: rhythm, timing, presence, plans, seeded patterns, variations."""

from dataclasses import replace
from itertools import pairwise
from typing import get_args

import pytest

from ersatz.core.draft import draft_song, empty_song
from ersatz.core.draft.asks import ASKS, asked_edit, parse_ask
from ersatz.core.draft.describe import chord_name, facts_of
from ersatz.core.draft.generate import Mood, degrees_of, generate
from ersatz.core.draft.variation import standstills
from ersatz.core.edits import RelabelSection, parse_edit
from ersatz.core.edits.sections import AdoptPlan, DeleteSection, MoveSection, PlannedSection, ResizeSection
from ersatz.core.errors import InvalidEdit, OtherMetre
from ersatz.core.gap.plans import plan_differences
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.pitch import Key
from ersatz.core.song.document import Song
from ersatz.core.song.grooves import GROOVES
from ersatz.core.song.parts import Note, Pattern
from ersatz.core.styles import STYLES
from ersatz.core.target import target_of_surveys
from ersatz.core.target.from_style import target_of_style
from tests.core.test_transitions import BAR, SONG
from tests.tunes import standing_still


def ask(survey, song, kind, **fields):
    return parse_ask({"kind": kind, **fields}).edit(song, survey)


@pytest.fixture
def timed(club_survey):
    """The club survey with known timing: hats 5 ms late on the off-beats, swing 56 %."""
    main = club_survey.main_section()
    pattern = next(p for p in club_survey.drums.patterns if p.section == main)
    late = tuple(5.0 if k % 4 == 2 else None for k in range(16))
    hats = tuple(0.8 if k % 4 == 2 else 0.0 for k in range(16))
    pattern = replace(pattern, steps_per_bar=16, hats=hats, timing_ms=replace(pattern.timing_ms, hats=late))
    drums = replace(club_survey.drums, patterns=tuple(pattern if p.section == main else p for p in club_survey.drums.patterns))
    return replace(club_survey, drums=drums, tempo=replace(club_survey.tempo, swing_percent=56.0)), main


# Traced ------------------------------------------------------------------------------------------------------------


def test_traced_hits_have_the_references_steps_strength_and_timing(timed, song):
    survey, main = timed
    made = ask(survey, song, "trace", part="open-hat", pattern="A", section=main).apply(song)
    bars = made.part("open-hat").patterns["A"].bars
    notes = made.part("open-hat").patterns["A"].notes
    assert [n.tick for n in notes] == [b * BAR + k * 960 + 480 for b in range(bars) for k in range(4)]
    assert {(n.velocity, n.nudge_ms) for n in notes} == {(0.8, 5.0)}


def test_a_traced_bass_has_the_rhythm_and_the_songs_own_tonic(club_survey, song):
    main = club_survey.main_section()
    made = ask(club_survey, song, "trace", part="bass", pattern="A", section=main).apply(song)
    notes = made.part("bass").patterns["A"].notes
    assert notes and {n.midi % 12 for n in notes} == {song.key.pitch_class}
    first = (club_survey.sections[main].start_bar - 1) * 4
    heard = {round(4 * (n.start_beat - first)) * 240 for n in club_survey.bass.notes if n.confidence >= 0.3}
    assert {n.tick for n in notes} == {t for t in heard if 0 <= t < made.part("bass").patterns["A"].bars * BAR}


def test_what_the_survey_does_not_hear_hit_by_hit_is_said(club_survey, song):
    for fields in ({"part": "rim", "pattern": "A", "section": 0}, {"part": "kick", "pattern": "A", "section": 99}):
        with pytest.raises(InvalidEdit):
            ask(club_survey, song, "trace", **fields)


def test_a_groove_taken_over_sounds_where_the_reference_does(timed, song):
    survey, main = timed
    made = ask(survey, song, "load_groove", part="hats", section=main, role="hats").apply(song)
    groove = made.part("hats").groove
    swing = 0.06 * song.grid.bar_s * 1000 / 8
    assert groove.timing_ms[2] == 5.0 and groove.timing_ms[0] == 0.0
    assert groove.timing_ms[1] == pytest.approx(swing, abs=0.01)
    notes = list(sounding_notes(made, made.part("hats")))
    ms_per_tick = song.grid.beat_s / 0.96
    offbeats = {round(((n.start + 120) % 960 - 600) * ms_per_tick, 1) for n in notes if 450 < n.start % 960 < 540}
    assert offbeats == {5.0}


def test_a_row_follows_the_references_presence(club_survey, song):
    empty = replace(song, parts=tuple(replace(p, cells=()) for p in song.parts))
    made = ask(club_survey, empty, "follow_reference", parts=["kick"]).apply(empty)
    assert [(c.on, c.entry_bars, c.exit_bars) for c in made.part("kick").cells] == [
        (c.on, c.entry_bars, c.exit_bars) for c in song.part("kick").cells
    ]
    with pytest.raises(InvalidEdit):
        ask(club_survey, song, "follow_reference", parts=["impact"])


def test_only_the_chosen_cells_follow(club_survey, song):
    off = replace(song, parts=tuple(replace(p, cells=tuple(replace(c, on=False) for c in p.cells)) for p in song.parts))
    last = song.sections[-1].id
    made = ask(club_survey, off, "follow_reference", parts=["kick", "hats", "impact"], sections=[last]).apply(off)
    assert [p.cell(last).on for p in (made.part("kick"), made.part("hats"))] == [True, True]
    for part in made.parts:
        for cell in part.cells:
            assert not cell.on or (part.id in ("kick", "hats") and cell.section == last)


def test_another_metre_is_refused_in_one_sentence(club_survey, song):
    three = replace(club_survey, tempo=replace(club_survey.tempo, beats_per_bar=3))
    for refused in (
        lambda: draft_song(three), lambda: empty_song(three, "x"), lambda: target_of_surveys([three, three], ["a", "b"], "T"),
        lambda: asked_edit({"kind": "adopt_reference"}, song, three),
    ):  # fmt: skip
        with pytest.raises(OtherMetre, match="3 beats to the bar"):
            refused()


# Plans -------------------------------------------------------------------------------------------------------------


def test_a_draft_has_the_references_plan_and_every_change_shows(club_survey, song):
    assert all(d.is_none for d in plan_differences(song, club_survey))
    first = song.sections[0]
    longer = plan_differences(ResizeSection(first.id, first.bars + 4).apply(song), club_survey)
    assert (longer[0].longer_bars, longer[0].later_bars, longer[1].later_bars) == (4, 0, 4)
    fewer = plan_differences(DeleteSection(first.id).apply(song), club_survey)
    assert [d.counterpart for d in fewer if not d.section] == [0]
    other = plan_differences(RelabelSection(first.id, "bridge").apply(song), club_survey)
    assert other[0].counterpart is None


def test_one_section_is_adopted_where_it_belongs(club_survey, song):
    for k, section in enumerate(song.sections):
        without = DeleteSection(section.id).apply(song)
        back = ask(club_survey, without, "adopt_reference", section=k).apply(without)
        assert sorted(s.bars for s in back.sections) == sorted(s.bars for s in song.sections)
        assert all(d.is_none for d in plan_differences(back, club_survey))


def test_the_whole_plan_is_adopted(club_survey, song):
    mixed = MoveSection(song.sections[0].id, 1).apply(song)
    made = ask(club_survey, mixed, "adopt_reference", section=None).apply(mixed)
    assert [(s.label, s.bars) for s in made.sections] == [(s.label, s.bars) for s in club_survey.sections]


# Generated -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("part", ["kick", "clap", "hats", "open-hat", "shaker", "rim", "bass", "pad", "stabs", "lead"])
def test_a_seed_gives_the_same_notes_within_the_pattern_and_in_key(song, part):
    opened = song.part(part)
    for bars in (1, 3, 8, 16):
        notes = generate(song, opened, bars, 5)
        assert notes == generate(song, opened, bars, 5)
        assert all(n.tick >= 0 and n.tick + n.ticks <= bars * BAR for n in notes)
        if opened.role in ("bass", "chords", "lead"):
            assert {n.midi % 12 for n in notes} <= set(song.key.pitch_classes)
    assert len({generate(song, opened, 8, seed) for seed in range(8)}) > 1


@pytest.mark.parametrize("per_bar", [1, 3, 6, 12])
def test_density_is_met(song, per_bar):
    for part in ("hats", "bass", "rim"):
        notes = generate(song, song.part(part), 4, 2, per_bar)
        assert len({n.tick for n in notes}) == 4 * per_bar


def test_locked_notes_stay_and_nothing_sounds_over_them(song):
    locked = (Note(960, 960, 43, 1.0),)
    notes = generate(song, song.part("bass"), 2, 3, None, locked)
    assert locked[0] in notes
    assert all(n.tick >= 1920 or n.tick + n.ticks <= 960 for n in notes if n != locked[0])


def test_generated_lines_follow_the_chords_that_are_there(song):
    """Chords that say C and F in C major: the bass plays their roots."""
    chords = tuple(Note(b * BAR, BAR, m, 1.0) for b, root in enumerate((60, 65)) for m in (root, root + 4, root + 7))
    pad = replace(song.part("pad"), patterns={"A": Pattern(2, chords)})
    made = replace(song, tonic="C", mode="major", style="festival-house", parts=(pad, song.part("bass")))
    assert degrees_of(made) == (0, 3)
    notes = generate(made, made.part("bass"), 2, 1)
    assert {n.midi % 12 for n in notes if n.tick < BAR} == {0} and {n.midi % 12 for n in notes if n.tick >= BAR} == {5}


def test_an_ask_generates_around_locked_places(club_survey, song):
    old = song.part("lead").patterns["A"].notes
    made = ask(club_survey, song, "generate", part="lead", pattern="A", seed=9, locked=[0, 2]).apply(song)
    assert {old[0], old[2]} <= set(made.part("lead").patterns["A"].notes)
    main = club_survey.main_section()
    hats = ask(club_survey, song, "generate", part="hats", pattern="A", seed=1, per_bar=-1, section=main).apply(song)
    row = next(p for p in club_survey.drums.patterns if p.section == main).hats
    pattern = hats.part("hats").patterns["A"]
    assert len({n.tick for n in pattern.notes}) == pattern.bars * sum(v > 0 for v in row)


@pytest.mark.parametrize("part", ["hats", "rim", "bass", "stabs", "lead"])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_moods_are_measured_against_what_stands_there(club_survey, song, part, seed):
    def anew(mood):
        made = ask(club_survey, song, "generate", part=part, pattern="A", seed=seed, mood=mood).apply(song)
        return made.part(part).patterns["A"]

    now, plain = song.part(part).patterns["A"], anew("")

    def strikes(pattern):
        return sum({n.tick: n.repeats for n in pattern.notes}.values())

    assert strikes(anew("busier")) > strikes(now) > strikes(anew("sparser"))
    # Simple: two bars of rhythm, 8ths, all along.
    simple = anew("simpler")
    rhythms = {
        tuple(sorted({n.tick % (2 * BAR) for n in simple.notes if n.tick // (2 * BAR) == k})) for k in range(simple.bars // 2)
    }
    assert len(rhythms) == 1 and all(n.tick % 480 == 0 for n in simple.notes)
    # Strange: more of it off the 8ths than the same seed otherwise has, or elsewhere in pitch; never off the scale.
    strange = anew("stranger")
    assert strange.notes != plain.notes and all(n.tick + n.ticks <= strange.bars * BAR for n in strange.notes)
    for pattern in (anew("busier"), anew("sparser"), simple, strange):
        if part in ("bass", "stabs", "lead"):
            assert {n.midi % 12 for n in pattern.notes} <= set(song.key.pitch_classes)
        if part != "stabs":
            notes = pattern.notes
            assert all(a.tick < b.tick and a.tick + a.ticks <= b.tick for a, b in pairwise(notes))
    assert anew("stranger") == strange


@pytest.mark.parametrize("style", STYLES, ids=lambda s: s.name)
def test_every_part_of_every_style_is_generated_anew_in_every_mood(style):
    drafted = draft_song(target_of_style(style.name).typical, 1, style.name)
    for part in drafted.parts:
        for name, pattern in part.patterns.items():
            for k, mood in enumerate(get_args(Mood)):
                for seed in (k, k + 10):
                    notes = generate(drafted, part, pattern.bars, seed, None, (), mood, pattern.notes)
                    assert notes and notes[-1].tick < pattern.bars * BAR, (part.id, name, mood)


def test_one_of_two_talking_basses_keeps_to_its_bars(song):
    """What is generated anew rests where the other one answers."""
    bars = Pattern(8, tuple(Note(b * BAR, 480, 43, 1.0) for b in (0, 1, 4, 5)))
    bass = replace(song.part("bass"), patterns={"A": bars})
    made = replace(song, parts=tuple(bass if p.id == "bass" else p for p in song.parts))
    notes = generate(made, bass, 8, 3, now=bars.notes)
    assert {n.tick // BAR for n in notes} == {0, 1, 4, 5}
    assert {n.tick // BAR for n in generate(made, bass, 8, 3)} == set(range(8))


def test_a_draft_is_told_by_its_chords_and_sounds(song):
    facts = facts_of(song)
    assert facts.style and len(facts.chords) == 8 and facts.chords[0] == chord_name(song.key, 0)
    assert [name for _, name in facts.sounds] == [song.part(p).sound.name for p in ("bass", "pad", "lead")]
    assert facts.hook and max(n.tick for n in facts.hook) < 8 * BAR
    minor, major = Key("Bb", "minor"), Key("G", "major")
    assert [chord_name(minor, d) for d in range(7)] == ["B♭m", "C°", "D♭", "E♭m", "Fm", "G♭", "A♭"]
    assert [chord_name(major, d) for d in (0, 1, 6)] == ["G", "Am", "F♯°"]


# Variation -----------------------------------------------------------------------------------------------------------


def long(bars):
    return ResizeSection("s2", bars).apply(SONG)


def test_more_than_eight_bars_of_the_same_are_marked_and_eight_are_not():
    """Sections of four bars play the same bar: the second bar is the first that brings nothing new."""
    assert standstills(ResizeSection("s2", 5).apply(SONG)) == ()
    (found,) = standstills(long(12))
    assert (found.kind, found.first, found.last, found.section) == ("no change", 2, 16, "s2")


def test_a_song_in_which_nothing_plays_yet_stands_nowhere_still():
    assert standstills(replace(long(32), parts=tuple(replace(p, cells=()) for p in SONG.parts))) == ()


def test_a_drop_that_comes_again_as_it_was_is_marked():
    song = AdoptPlan(tuple(PlannedSection(*p) for p in (("drop", 4), ("build", 4), ("drop", 4)))).apply(SONG)
    song = replace(song, parts=tuple(replace(p, cells=tuple(c for c in p.cells if c.section != "s1")) for p in song.parts))
    same = [s for s in standstills(song) if s.kind == "same drop"]
    assert [(s.first, s.last) for s in same] == [(9, 12)]


def test_every_offer_is_taken_as_one_edit_and_changes_what_is_played(song, club_survey):
    section = max(song.sections, key=lambda s: s.bars)
    still = ResizeSection(section.id, 64).apply(standing_still(song))
    found = standstills(still)
    assert found and all(f.offers for f in found)
    for i, standstill in enumerate(found):
        for k, offer in enumerate(standstill.offers):
            edit = ask(club_survey, still, "vary", standstill=i, offer=k)
            made = edit.apply(still)
            assert made.sha() != still.sha() and edit.sentence(still) == offer.said
            assert Song.from_json(made.to_json()) == made
            assert standstills(made) != found
    with pytest.raises(InvalidEdit):
        ask(club_survey, still, "vary", standstill=0, offer=99)


def test_asks_are_no_edits_and_unknown_ones_are_refused():
    for kind in ASKS:
        with pytest.raises(InvalidEdit):
            parse_edit({"kind": kind})
    for data in (None, {}, {"kind": "guess"}):
        with pytest.raises(InvalidEdit):
            parse_ask(data)


def test_grooves_to_start_from_have_names_of_their_own():
    assert len({g.name for g in GROOVES}) == len(GROOVES)

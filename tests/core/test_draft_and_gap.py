"""Drafts: repeatable, on the reference's plan, with notes of their own, brought to its balance. Gaps: what differs."""

from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.balance.match import match_song, survey_remake
from ersatz.core.draft import draft_song
from ersatz.core.draft.build import ducker_of
from ersatz.core.draft.hooks import halved
from ersatz.core.effects.chain import apply_effect
from ersatz.core.effects.spec import Where
from ersatz.core.errors import Cancelled, NoTempo, UnusableDocument
from ersatz.core.gap import compare
from ersatz.core.gap.sections import spectrum_difference
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.mixdown.schedule import duck_triggers
from ersatz.core.pitch import Key
from ersatz.core.song.document import PUMP
from ersatz.core.styles import STYLES, choose_style
from ersatz.core.survey.document import Event
from tests.surveys import of_sections


def test_matching_can_be_ended_at_any_time(club_survey, song):
    """Progress is told all along, and what it raises ends the work: nobody waits for a phase to be over."""
    told = []

    def watch(phase, fraction):
        told.append((phase, fraction))
        if phase == "sends":
            raise Cancelled

    with pytest.raises(Cancelled):
        match_song(song, club_survey, None, watch)
    phases, fractions = zip(*told)
    assert list(dict.fromkeys(phases)) == ["registers", "levels and EQ of parts", "sends"] and phases.count("sends") == 1
    assert list(fractions) == sorted(fractions) and 0 <= fractions[0] < fractions[-1] <= 1
    # Not only where one begins.
    assert len(set(fractions[: phases.index("levels and EQ of parts")])) > 5


def test_a_reference_that_is_stereo_all_the_way_down_gets_a_bass_that_is(club_survey):
    bands = (replace(club_survey.stereo.bands[0], width=0.2), *club_survey.stereo.bands[1:])
    low = replace(club_survey, stereo=replace(club_survey.stereo, bands=bands, mono_below_hz=20.0))

    def width(survey):
        song = draft_song(survey, seed=3)
        mixdown = Mixdown(song)
        x = mixdown.before_fader("bass", min(mixdown.plays_in("bass")) + 1, min(mixdown.plays_in("bass")) + 4)
        middle, side = np.square(x[0] + x[1]).sum(), np.square(x[0] - x[1]).sum()
        return 2 * side / (middle + side)

    assert width(club_survey) < 0.02 < width(low) < 0.5


def test_the_same_seed_gives_the_same_song_and_another_seed_another(club_survey):
    assert draft_song(club_survey, 5) == draft_song(club_survey, 5)
    assert draft_song(club_survey, 5).sha() != draft_song(club_survey, 6).sha()


@pytest.mark.parametrize("style", [s.name for s in STYLES])
def test_every_style_drafts_on_the_references_plan(club_survey, style):
    song = draft_song(club_survey, 2, style)
    assert song.bpm == club_survey.tempo.bpm
    assert [(s.label, s.bars) for s in song.sections] == [(s.label, s.bars) for s in club_survey.sections]
    key = Key(song.tonic, song.mode)
    for part in song.parts:
        for pattern in part.patterns.values():
            assert pattern.notes
            assert all(0 <= n.tick < pattern.bars * 3840 and 0 < n.velocity <= 1 for n in pattern.notes)
            if part.role in ("bass", "chords", "lead"):
                assert {n.midi % 12 for n in pattern.notes} <= set(key.pitch_classes)


def test_parts_play_where_the_reference_has_them(club_survey, song):
    drums, main = song.sections[0], song.sections[club_survey.main_section()]
    assert song.part("kick").cell(drums.id).on
    assert not song.part("pad").cell(drums.id).on
    assert song.part("pad").cell(main.id).on


def test_ducking_is_set_from_the_measured_curve(club_survey, song):
    assert song.part("pad").duck_db == pytest.approx(club_survey.pump.depth_db, rel=0.01)
    assert song.part("kick").duck_db == 0
    assert max(song.curve(PUMP).shape) == pytest.approx(1.0, abs=0.01)


def test_without_a_steady_beat_a_draft_asks_for_a_tempo(club_survey):
    unsure = replace(club_survey, tempo=replace(club_survey.tempo, confidence=0.2))
    with pytest.raises(NoTempo, match="tempo"):
        draft_song(unsure)


def test_an_unknown_style_is_refused(club_survey):
    with pytest.raises(UnusableDocument, match="polka"):
        draft_song(club_survey, style_name="polka")


def test_styles_follow_tempo_and_kick():
    four = tuple(float(i % 4 == 0) for i in range(16))
    two_step = tuple(float(i in (0, 10)) for i in range(16))
    assert choose_style(174, two_step).name == "drum-and-bass"
    assert choose_style(138, four).name == "uplifting-trance"
    assert choose_style(150, four).name == "hard-techno"
    assert choose_style(131, two_step).name == "future-garage"


@pytest.fixture(scope="module")
def matched(club_survey):
    cache = RenderCache()
    song = match_song(draft_song(club_survey, 4), club_survey, cache)
    mixdown = Mixdown(song, cache)
    return song, survey_remake(mixdown.whole(), mixdown)


def test_an_untouched_draft_meets_its_reference(club_survey, matched):
    gap = compare(club_survey, matched[1])
    assert gap.figure("Tempo").verdict == "matched"
    assert abs(gap.figure("Loudness").difference) <= 0.3
    assert gap.figure("True peak").remake <= -0.95
    assert gap.figure("Balance, mean").difference <= 2.5
    assert abs(gap.figure("Pump depth").difference) <= 2.0
    assert abs(gap.figure("Width above 270 Hz").difference) <= 0.15


def test_a_track_against_itself_has_no_gap(club_survey):
    gap = compare(club_survey, club_survey)
    assert all(f.verdict == "matched" for f in gap.figures if f.name != "True peak")
    assert all(f.difference in (None, 0.0) for f in gap.figures)
    assert set(gap.spectrum_difference_db) == {0.0}


def test_how_empty_an_empty_band_is_makes_no_difference(club_survey):
    """A floor 60 dB down in the reference and none at all in the remake sound alike; a bass in its place doesn't."""

    def with_lows(survey, db):
        rows = [replace(row, level_db=(*(db,) * 8, *row.level_db[8:])) for row in survey.spectrum.per_section]
        return replace(survey, spectrum=replace(survey.spectrum, per_section=tuple(rows)))

    top = max(max(row.level_db) for row in club_survey.spectrum.per_section)
    empty, emptier, full = (with_lows(club_survey, top + db) for db in (-60.0, -95.0, 0.0))
    place = club_survey.main_section()
    assert np.abs(spectrum_difference(empty, emptier, place, place)).max() < 1e-9
    assert spectrum_difference(empty, full, place, place)[4] > 15


def joints(song, kind):
    """Labels of the sections that end in transitions of a kind, with their beats."""
    labels = {s.id: s.label for s in song.sections}
    return [(labels[t.section], t.beats) for t in song.transitions if t.kind == kind]


def test_a_drop_lands_and_what_follows_it_only_where_the_references_does(club_survey):
    bars = club_survey.sections[0].bars
    labels = ("build", "drop", "drop", "outro")
    assert joints(draft_song(of_sections(club_survey, *labels), 2), "impact") == [("build", 4.0)]
    behind = Event("impact", 1 + 3 * bars, 1.0, 0.9)
    assert joints(draft_song(of_sections(club_survey, *labels, events=[behind]), 2), "impact") == [("build", 4.0), ("drop", 4.0)]


def test_the_last_beat_before_a_drop_is_free_or_as_long_as_the_references_gap(club_survey):
    bars = club_survey.sections[0].bars
    labels = ("intro", "build", "drop", "drop", "breakdown")
    assert joints(draft_song(of_sections(club_survey, *labels), 2), "gap") == [("build", 1.0)]
    gap = Event("gap", 1 + 2 * bars - 0.5, 2.0, 0.9)
    assert joints(draft_song(of_sections(club_survey, *labels, events=[gap]), 2), "gap") == [("build", 2.0)]


def test_builds_roll_as_long_as_the_references_and_thin_their_lows_as_it_does(club_survey):
    bars = club_survey.sections[0].bars
    labels = ("breakdown", "drop", "build", "drop")
    song = draft_song(of_sections(club_survey, *labels), 2)
    assert joints(song, "snare roll") == [("build", 16.0)]
    roll = Event("snare roll", 1 + bars - 2, 8.0, 0.9)
    song = draft_song(of_sections(club_survey, *labels, events=[roll]), 2)
    assert joints(song, "snare roll") == [("breakdown", 8.0), ("build", 16.0)]
    survey = of_sections(club_survey, *labels)
    low = [-10.0] * len(survey.energy.low_db)
    level, thinned = list(low), list(low)
    for k in range(3 * bars - 4, 3 * bars):
        thinned[k] = -30.0
    beats = [
        joints(draft_song(replace(survey, energy=replace(survey.energy, low_db=tuple(rows))), 2), "low-cut sweep")
        for rows in (level, thinned)
    ]
    assert beats[0] == [("build", 8.0)] and beats[1][0][1] > 8.0


def test_the_second_half_of_a_drop_gains_a_ride_and_swaps_its_stabs(club_survey):
    song = draft_song(club_survey, 3)
    drops = [s for s in song.sections if s.label == "drop"]
    for section in drops:
        ride, stabs = song.part("ride").cell(section.id), song.part("stabs").cell(section.id)
        assert ride.on and ride.entry_bars >= section.bars // 2
        if stabs.on:
            assert {stabs.pattern, stabs.fill} == {"A", "B"} and stabs.fill_bars == section.bars // 2 - stabs.exit_bars
    others = [s.id for s in song.sections if s.label != "drop"]
    for part in ("ride", "clap-layer"):
        assert not any(song.part(part).cell(s).on for s in others)


def test_a_breakdown_sings_the_hook_halved(club_survey):
    song = draft_song(club_survey, 3)
    lead = song.part("lead")
    assert lead.patterns["H"] == halved(lead.patterns["A"])
    for section in song.sections:
        assert (lead.cell(section.id).pattern == "H") == (section.label == "breakdown")


def test_energy_adds_and_takes_away(club_survey):
    calm, usual, busy = (draft_song(club_survey, 3, energy=e) for e in (-1, 0, 1))
    assert calm.part("ride") is None and calm.part("clap-layer") is None
    assert usual.part("ride") is not None
    onsets = [
        sum(len(p.patterns["A"].notes) for p in s.parts if "A" in p.patterns and p.role in ("hats", "clap")) for s in (calm, busy)
    ]
    assert onsets[0] < onsets[1]
    drop = next(s for s in busy.sections if s.label == "drop")
    assert busy.part("ride").cell(drop.id).entry_bars < drop.bars // 2


def test_drums_have_the_references_timing(club_survey):
    main = club_survey.main_section()
    late = {2: 9.0, 6: 11.0}
    pattern = club_survey.drums.patterns[main]
    hats = tuple(1.0 if k in late else 0.0 for k in range(pattern.steps_per_bar))
    timing = replace(pattern.timing_ms, hats=tuple(late.get(k) for k in range(pattern.steps_per_bar)))
    patterns = tuple(replace(p, hats=hats, timing_ms=timing) if p is pattern else p for p in club_survey.drums.patterns)
    song = draft_song(replace(club_survey, drums=replace(club_survey.drums, patterns=patterns)), 3)
    for part in ("hats", "open-hat", "shaker", "rim"):
        assert (song.part(part).groove.timing_ms[2], song.part(part).groove.timing_ms[6]) == (9.0, 11.0)


def test_sweeps_and_rises_of_the_reference_become_curves_that_snap_back(club_survey):
    labels = ("intro", "breakdown", "drop")
    bars = club_survey.sections[0].bars
    plays = {**club_survey.sections[0].presence, "chords": 1.0}
    sweep = Event("sweep", 1.0 + bars, bars * 4.0, 0.9, (800.0, 3200.0))
    survey = of_sections(club_survey, *labels, events=[sweep])
    rows = {r: tuple([1.0] * len(survey.presence.bars)) for r in ("chords", "lead")}
    rising = tuple(-20.0 + 0.5 * max(0, k - bars) for k in range(len(survey.energy.full_db)))
    survey = replace(
        survey, presence=replace(survey.presence, **rows), energy=replace(survey.energy, full_db=rising),
        sections=tuple(replace(s, presence=plays) for s in survey.sections), changes=(),
    )  # fmt: skip
    song = draft_song(survey, 2)
    pad = song.part("pad")
    start, end = (song.grid.ticks_of_bar(b) for b in (1 + bars, 1 + 2 * bars))
    device = next(e.id for e in pad.chain if e.kind == "sweep")
    cutoff, blend = pad.curve(device, "cutoff_hz"), pad.curve(device, "blend")
    assert [cutoff.points[k].value for k in (0, -1)] == [1600.0, 6400.0]
    assert cutoff.points[0].tick == start and cutoff.points[-1].tick == end - 1
    assert blend.points[0].value == blend.points[-1].value == 0 and blend.points[-1].tick < end
    sends = pad.curve("sends", "return:reverb").points
    assert max(p.value for p in sends) == pytest.approx(sends[0].value + 8) and sends[-1].value == sends[0].value
    assert song.part("bass").automation == () and song.part("stabs").automation == ()
    # What jumps is no rise, and without a sweep there is no filter.
    jumps = tuple(-30.0 if k < bars + bars // 2 else -20.0 for k in range(len(rising)))
    still = draft_song(replace(survey, events=(), energy=replace(survey.energy, full_db=jumps)), 2)
    assert still.part("pad").curve("sends", "return:reverb") is None and all(e.kind != "sweep" for e in still.part("pad").chain)


def test_changes_are_met_within_a_bar(club_survey):
    def at(*bars):
        return replace(club_survey, changes=tuple(replace(club_survey.changes[0], bar=bar) for bar in bars))

    def met(remake):
        return compare(at(9, 17, 25, 33), remake).figure("Changes met")

    assert (met(at(10, 16, 25, 33)).remake, met(at(10, 16, 25, 33)).verdict) == (100.0, "matched")
    assert met(at(9, 19)).remake == 25.0
    assert (met(at()).difference, met(at()).verdict) == (-100.0, "off")
    assert "Changes met" not in [f.name for f in compare(at(), at(9)).figures]


def test_what_differs_is_said_with_its_size(club_survey):
    louder = replace(club_survey, loudness=replace(club_survey.loudness, integrated_lufs=club_survey.loudness.integrated_lufs + 3))
    figure = compare(club_survey, louder).figure("Loudness")
    assert figure.difference == pytest.approx(3.0)
    assert figure.verdict == "off"
    near = replace(club_survey, tempo=replace(club_survey.tempo, swing_percent=club_survey.tempo.swing_percent + 1.5))
    assert compare(club_survey, near).figure("Swing").verdict == "close"


def test_a_section_that_does_not_duck_triggers_nothing(song):
    first, *rest = song.sections
    resting = replace(song, sections=(replace(first, ducks=False), *rest))
    end = song.grid.sample_of_bar(first.bars + 1, 44_100)
    before, after = (duck_triggers(s, s.curve(PUMP), 44_100) for s in (song, resting))
    assert (before < end).any()
    assert not (after < end).any()
    assert (after >= end).sum() == (before >= end).sum()


def test_a_draft_ducks_where_the_reference_does(club_survey):
    quiet = replace(club_survey.sections[0], presence={**club_survey.sections[0].presence, "kick": 0.0})
    survey = replace(club_survey, sections=(quiet, *club_survey.sections[1:]))
    assert draft_song(survey, 1).sections[0].ducks == (0 in survey.pump.active_sections)
    runs_on = replace(survey, pump=replace(survey.pump, active_sections=(0, 1)))
    assert draft_song(runs_on, 1).sections[0].ducks


def test_ducking_on_every_eighth_keeps_its_curve_in_song_and_ducker(club_survey):
    """The survey's curve lasts half a beat; the song spreads its own over a beat, the ducker over its period."""
    curve = tuple(np.round(np.linspace(-8, 0, 64), 2).tolist())
    survey = replace(club_survey, pump=replace(club_survey.pump, depth_db=8.0, rate="1/8", curve_db=curve))
    song = draft_song(survey, seed=3)
    assert song.curve(PUMP).rate == "1/8"
    shape = np.array(song.curve(PUMP).shape)
    np.testing.assert_allclose(shape[:32], -np.array(curve)[::2] / 8, atol=1e-3)
    assert not shape[32:].any()
    ducker = ducker_of(survey.pump)
    assert ducker.choices["period"] == "1/8"
    np.testing.assert_allclose(ducker.shape, -np.array(curve) / 8, atol=1e-3)
    # Drawn over a beat it dips twice.
    beat = np.array(survey.pump.beat_db)
    assert len(beat) == 64 and (beat[:32] == beat[32:]).all()
    both = draft_song(replace(survey, pump=replace(survey.pump, rate="kick and snare")), 3).curve(PUMP)
    assert (both.rate, both.triggers) == ("hits", ("kick", "clap"))


def test_a_ducker_takes_over_the_measured_curve(club_survey):
    ducker = ducker_of(club_survey.pump)
    rate, bpm = 44_100, 120.0
    gain = apply_effect(np.ones((2, 4 * rate)), ducker, Where(rate, bpm, 8 * rate))[0]
    measured = np.array(club_survey.pump.curve_db)
    period = 0.5 if ducker.choices["period"] == "1/4" else 0.25
    at = (2 * rate + np.arange(8, 64) / 64 * period * rate).astype(int)
    np.testing.assert_allclose(20 * np.log10(gain[at]), np.minimum(measured[8:], 0), atol=0.15)
    assert ducker_of(replace(club_survey.pump, depth_db=0.0)) is None

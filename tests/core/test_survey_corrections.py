"""What the producer says over a measurement, and what follows from it."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.audio import Audio
from ersatz.core.survey import corrections as fix
from ersatz.core.survey import survey_audio, survey_track
from ersatz.core.survey.document import Corrections, PumpCorrection, SectionCorrection, Source, TempoGuess
from ersatz.core.survey.pump import corrected_pump, no_pump
from ersatz.core.survey.track import Track
from tests.signals import RATE, club_track

NONE = Corrections()


def spans(*parts):
    out, bar = [], 1
    for label, bars in parts:
        out.append(SectionCorrection(label, bar, bars))
        bar += bars
    return tuple(out)


@pytest.mark.parametrize(
    ("tapped", "meant"), [(125.1, 126.0), (63.4, 63.0), (41.5, 42.0), (84.5, 84.0), (100.0, 100.0), (150.6, 151.2)]
)
def test_a_tapped_tempo_means_the_measured_one_nearby(club_survey, tapped, meant):
    measured = replace(club_survey.tempo, bpm=126.0, alternatives=(TempoGuess(151.2, 0.1),))
    assert fix.meant_tempo(tapped, measured) == pytest.approx(meant)


def test_another_tempo_drops_what_was_counted_in_its_bars(club_survey):
    old = fix.with_sections(fix.with_key(NONE, "D", "minor"), fix.sections_of(club_survey), club_survey.bars)
    new = fix.with_tempo(old, 63.0)
    assert (new.bpm, new.sections, new.tonic) == (63.0, None, "D")


@given(st.integers(-4, 4), st.floats(-2000, 2000))
def test_bar_one_stays_inside_the_first_bar(club_survey, beats, ms):
    moved = fix.with_bar_one_moved(NONE, club_survey, beats, ms)
    assert 0 <= moved.first_downbeat_s <= club_survey.tempo.grid.bar_s
    assert moved.bpm == club_survey.tempo.bpm


def test_steps_add_up_before_anything_is_measured_on_them(club_survey):
    """Quick hands press again while the survey still has the grid of before."""
    first = club_survey.tempo.first_downbeat_s
    nudged = NONE
    for _ in range(3):
        nudged = fix.with_bar_one_moved(nudged, club_survey, ms=5.0)
    assert nudged.first_downbeat_s == pytest.approx(first + 0.015, abs=1e-4)
    slow = fix.with_tempo(nudged, 63.0)
    for after in (
        fix.with_bar_one_moved(slow, club_survey, 1),
        fix.with_bar_one_at(slow, club_survey, 3.5),
        fix.with_metre(slow, club_survey, 3),
    ):
        assert after.bpm == 63.0
    assert fix.with_bar_one_at(slow, club_survey, 3.5).first_downbeat_s == pytest.approx(3.5)
    assert fix.with_bar_one_moved(slow, club_survey, 1).first_downbeat_s == pytest.approx(first + 60 / 63.0, abs=1e-4)


def test_a_bar_line_can_be_put_at_a_time(club_survey):
    bar_s = club_survey.tempo.grid.bar_s
    assert fix.with_bar_one_at(NONE, club_survey, 5 * bar_s + 0.25).first_downbeat_s == pytest.approx(0.25, abs=1e-4)


def test_sections_as_found_can_be_said_again(club_survey):
    said = fix.with_sections(NONE, fix.sections_of(club_survey), club_survey.bars)
    assert [s.start_bar for s in said.sections] == [s.start_bar for s in club_survey.sections]


@pytest.mark.parametrize(
    ("sections", "says"),
    [
        ((), "at least one section"),
        (spans(("intro", 8), ("drop", 23)), "end at bar 31"),
        (spans(("intro", 8), ("drop", 30)), "end at bar 38"),
        ((SectionCorrection("intro", 1, 8), SectionCorrection("drop", 10, 23)), "bar 9 belongs"),
        ((SectionCorrection("intro", 1, 0), SectionCorrection("drop", 1, 32)), "at least one bar"),
        ((SectionCorrection("chorus", 1, 32),), "no kind of section"),
    ],
)
def test_sections_that_leave_a_hole_are_refused_with_a_sentence(sections, says):
    with pytest.raises(ValueError, match=says):
        fix.with_sections(NONE, sections, 32)


def test_what_was_done_last_has_a_name(club_survey):
    key = fix.with_key(NONE, "D", "minor")
    assert fix.sentence(NONE, key) == "key"
    assert fix.sentence(key, fix.with_tempo(key, 63.0)) == "tempo"
    assert fix.sentence(key, fix.with_bar_one_moved(key, club_survey, 1)) == "bar 1"
    assert fix.sentence(key, fix.with_sections(key, spans(("drop", 32)), 32)) == "sections"


def test_corrections_on_a_kept_track_read_as_on_a_fresh_one():
    audio = Audio(club_track(126.0, bars=24), RATE)
    source = Source("x.wav", audio.duration_s, RATE, 2, "")
    track = Track(audio, source)
    plain = survey_track(track)
    key = Corrections(tonic="C", mode="minor")
    half = Corrections(bpm=63.0)
    # In any order: what one correction leaves behind must not reach the next.
    assert survey_track(track, half) == survey_audio(audio, source, half)
    assert survey_track(track, key) == survey_audio(audio, source, key)

    assert survey_track(track) == plain


def test_the_measured_key_is_offered_where_another_was_set():
    audio = Audio(club_track(126.0, bars=24), RATE)
    track = Track(audio, Source("x.wav", audio.duration_s, RATE, 2, ""))
    measured, corrected = survey_track(track).key, survey_track(track, Corrections(tonic="C", mode="minor")).key
    assert (measured.tonic, measured.mode) != ("C", "minor")
    offered = [(g.tonic, g.mode) for g in corrected.alternatives]
    assert offered[0] == (measured.tonic, measured.mode)
    assert ("C", "minor") not in offered


@pytest.mark.parametrize(("depth_db", "rate", "release_ms"), [(3.0, "1/4", 120.0), (12.0, "kick", 300.0), (8.0, "1/8", 90.0)])
def test_a_corrected_pump_has_the_depth_rate_and_release_that_were_said(club_survey, depth_db, rate, release_ms):
    said = PumpCorrection(depth_db, rate, release_ms)
    found = corrected_pump(club_survey.pump, said, 0.476, (0.0, 1.0))
    assert (found.depth_db, found.rate, found.confidence) == (depth_db, rate, 1.0)
    assert found.release_ms == pytest.approx(release_ms, rel=0.05)
    assert min(found.curve_db) == pytest.approx(-depth_db, abs=0.02) and max(found.curve_db) == 0.0
    # It acts where it was seen to.
    assert found.active_sections == club_survey.pump.active_sections
    assert [p.depth_db > 0 for p in found.per_section] == [i in found.active_sections for i in range(len(found.per_section))]


def test_a_pump_where_none_was_measured_acts_with_the_kick_and_recovers_straight():
    found = corrected_pump(no_pump(3), PumpCorrection(6.0, "1/4", 200.0), 0.5, (0.1, 0.9, 0.6))
    assert found.active_sections == (1, 2)
    curve = np.array(found.curve_db)
    back = np.flatnonzero(curve > -1.0)[0]
    assert found.release_ms == pytest.approx(200, rel=0.05)
    assert np.ptp(np.diff(curve[1:back])) < 0.05
    nothing = corrected_pump(found, PumpCorrection(0.0, "1/4", 200.0), 0.5, (0.1, 0.9, 0.6))
    assert nothing.depth_db == 0 and nothing.told and nothing.active_sections == ()


def test_a_pump_is_corrected_with_the_survey_and_named_when_taken_back(club_audio, club_survey):
    new = fix.with_pump(NONE, 5.0, "kick", 150.0)
    assert fix.sentence(NONE, new) == "pump"
    source = Source("club.wav", club_audio.duration_s, RATE, 2, "0" * 64)
    found = survey_audio(club_audio, source, new)
    assert (found.pump.depth_db, found.pump.rate) == (5.0, "kick")
    assert replace(found, pump=club_survey.pump, corrections=NONE) == club_survey
    with pytest.raises(ValueError, match="follows one of"):
        fix.with_pump(NONE, 5.0, "snare", 150.0)

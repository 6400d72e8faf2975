"""Targets: the typical track of several surveys or of a style, and the spread around it."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.audio import Audio
from ersatz.core.draft import draft_song
from ersatz.core.errors import NoTempo, UnusableDocument
from ersatz.core.gap import compare
from ersatz.core.styles import KICKS, STYLES
from ersatz.core.survey import survey_audio
from ersatz.core.survey.document import Corrections, Section, Source, Survey
from ersatz.core.target import Corridor, Span, Target, target_of_style, target_of_surveys
from ersatz.core.target.document import at_tempo, balanced
from ersatz.core.target.plans import typical_plan
from tests.signals import RATE, club_track


def _survey(bpm: float, **how: float) -> Survey:
    audio = Audio(club_track(bpm, bars=32, **how).astype(np.float32), RATE)
    return survey_audio(audio, Source(f"{bpm}.wav", audio.duration_s, RATE, 2, f"{bpm}"))


@pytest.fixture(scope="module")
def slow() -> Survey:
    return _survey(124.0, duck_db=6.0)


@pytest.fixture(scope="module")
def fast() -> Survey:
    return _survey(128.0, duck_db=10.0)


@pytest.fixture(scope="module")
def target(slow: Survey, fast: Survey) -> Target:
    return target_of_surveys([slow, fast], ["slow", "fast"], "both")


def _section(label: str, bars: int, start: int = 1) -> Section:
    return Section(label, start, bars, 0.0, 1.0, 1.0, None, -8.0, {})  # type: ignore[arg-type]


def _plan(*sections: tuple[str, int]) -> list[Section]:
    return [_section(label, bars) for label, bars in sections]


def test_spans_run_from_the_10th_to_the_90th_percentile():
    span = Span.of([0, 10, 20, 30, 40, 50, 60, 70, 80, 90, 100])
    assert (span.low, span.high) == (10, 90)
    assert [span.beyond(v) for v in (4, 10, 50, 97)] == [-6, 0, 0, 7]
    corridor = Corridor.of([[0, 5], [10, 5]])
    assert (corridor.low, corridor.high) == ((1.0, 5.0), (9.0, 5.0))


def test_medians_of_two_tracks_lie_halfway(target: Target, slow: Survey, fast: Survey):
    typical, spread = target.typical, target.spread
    assert typical.tempo.bpm == pytest.approx(126.0, abs=0.02)
    assert (spread.bpm.low, spread.bpm.high) == pytest.approx((124.4, 127.6), abs=0.02)
    assert typical.loudness.integrated_lufs == pytest.approx(
        (slow.loudness.integrated_lufs + fast.loudness.integrated_lufs) / 2, abs=0.01
    )
    assert typical.pump.depth_db == pytest.approx((slow.pump.depth_db + fast.pump.depth_db) / 2, abs=0.01)
    assert -min(typical.pump.curve_db) == pytest.approx(typical.pump.depth_db, abs=0.01)
    assert [m.title for m in target.members] == ["slow", "fast"]


def test_a_target_of_one_track_twice_is_that_track(slow: Survey):
    typical = target_of_surveys([slow, slow], ["one", "again"], "same").typical
    assert [(s.label, s.start_bar, s.bars) for s in typical.sections] == [(s.label, s.start_bar, s.bars) for s in slow.sections]
    assert typical.presence.kick == pytest.approx(slow.presence.kick, abs=0.001)
    assert typical.drums.patterns[-1].kick == slow.drums.patterns[-1].kick
    assert (typical.key.tonic, typical.key.mode) == (slow.key.tonic, slow.key.mode)
    assert balanced(typical.spectrum.level_db) == pytest.approx(balanced(slow.spectrum.level_db), abs=0.02)
    assert typical.pump.curve_db == pytest.approx(slow.pump.curve_db, abs=0.02)


def test_sections_of_the_typical_track_follow_each_other(target: Target):
    expected = 1
    for section in target.typical.sections:
        assert section.start_bar == expected
        expected = section.end_bar
    assert target.typical.bars == expected - 1 == len(target.spread.loudness_course.low)


def test_a_target_needs_two_tracks_with_a_tempo(slow: Survey):
    with pytest.raises(UnusableDocument, match="two references"):
        target_of_surveys([slow], ["alone"], "one")
    unsteady = replace(slow, tempo=replace(slow.tempo, confidence=0.1))
    with pytest.raises(NoTempo, match="wobbly"):
        target_of_surveys([slow, unsteady], ["slow", "wobbly"], "two")


def test_the_typical_plan_is_the_one_nearest_to_all():
    usual = _plan(("intro", 16), ("breakdown", 16), ("build", 8), ("drop", 32), ("outro", 16))
    longer = _plan(("intro", 32), ("breakdown", 16), ("build", 8), ("drop", 32), ("outro", 16))
    without = _plan(("intro", 16), ("build", 8), ("drop", 32), ("outro", 16))
    medoid, kept, places = typical_plan([longer, usual, without])
    assert medoid == 1
    assert kept == [0, 1, 2, 3, 4]
    assert places == [(0, 1, 2, 3, 4), (0, 1, 2, 3, 4), (0, None, 1, 2, 3)]


def test_a_section_that_few_tracks_have_is_left_out():
    plain = _plan(("intro", 16), ("drop", 32), ("outro", 16))
    extra = _plan(("intro", 16), ("bridge", 8), ("breakdown", 16), ("drop", 32), ("outro", 16))
    _, kept, places = typical_plan([plain, plain, extra])
    assert len(kept) == 3
    assert places[2] == (0, 3, 4)


def test_another_tempo_keeps_bars_and_moves_seconds(target: Target):
    other = at_tempo(target.typical, 63.0)
    assert [s.bars for s in other.sections] == [s.bars for s in target.typical.sections]
    ratio = target.typical.tempo.bpm / 63.0
    assert other.source.duration_s == pytest.approx(target.typical.source.duration_s * ratio, rel=1e-3)
    assert other.pump.release_ms == pytest.approx(target.typical.pump.release_ms * ratio, rel=1e-2)
    assert other.sections[-1].end_s == pytest.approx(other.tempo.grid.seconds_of_bar(other.sections[-1].end_bar), abs=0.002)


def test_the_chosen_key_turns_the_pitch_classes_with_it(target: Target):
    chosen = target.chosen(Corrections(bpm=130.0, tonic="C", mode="minor"))
    assert (chosen.key.tonic, chosen.key.mode, chosen.tempo.bpm) == ("C", "minor", 130.0)
    tonic_before = target.typical.key.chroma[target.typical.key.pitch_key.pitch_class]
    assert chosen.key.chroma[0] == pytest.approx(tonic_before)
    assert target.chosen(Corrections()) == target.typical


@pytest.mark.parametrize("style", STYLES, ids=lambda s: s.name)
def test_a_style_is_a_target_with_its_own_figures(style):
    target = target_of_style(style.name)
    typical, spread = target.typical, target.spread
    assert Target.from_json(json.loads(json.dumps(target.to_json()))) == target
    assert style.bpm[0] <= typical.tempo.bpm <= style.bpm[1]
    assert -min(typical.pump.curve_db) == pytest.approx(typical.pump.depth_db, abs=0.01)
    assert spread.pump_release_ms.low <= typical.pump.release_ms <= spread.pump_release_ms.high
    assert np.sum(10 ** (np.array(typical.spectrum.level_db) / 10)) == pytest.approx(1.0, abs=0.01)
    powers = [10 ** (s.loudness_lufs / 10) for s in typical.sections for _ in range(s.bars)]
    assert 10 * np.log10(np.mean(powers)) == pytest.approx(style.lufs, abs=0.02)
    drop = typical.drums.patterns[typical.main_section()]
    assert tuple(i for i, v in enumerate(drop.kick) if v) == KICKS[style.kick][0]
    assert typical.sections[-1].end_bar - 1 == typical.bars
    song = draft_song(typical, style_name=style.name)
    assert (song.style, song.bars, song.bpm) == (style.name, typical.bars, typical.tempo.bpm)


def test_an_unknown_style_is_refused():
    with pytest.raises(UnusableDocument, match="no style"):
        target_of_style("polka")


def test_inside_the_spread_everything_is_matched(target: Target, slow: Survey):
    gap = compare(target.typical, slow, spread=target.spread)
    # The slow track lies a tenth of the way outside the corridor of the two: 0.4 BPM.
    tempo = gap.figure("Tempo")
    assert tempo.difference == pytest.approx(-0.4, abs=0.02)
    assert tempo.verdict == "off"
    assert gap.figure("Swing").verdict == "matched"
    assert gap.figure("Balance, mean").difference == pytest.approx(0.0, abs=0.5)
    middle = compare(target.typical, at_tempo(slow, 125.0), spread=target.spread).figure("Tempo")
    assert (middle.difference, middle.verdict) == (0.0, "matched")


def test_any_key_matches_a_style(slow: Survey):
    target = target_of_style("tech-house")
    assert compare(target.typical, slow, spread=target.spread).figure("Key").verdict == "matched"


def test_a_key_that_no_member_has_is_off(target: Target, slow: Survey):
    other = replace(slow, key=replace(slow.key, tonic="F#", mode="major"))
    assert compare(target.typical, other, spread=target.spread).figure("Key").verdict == "off"
    assert compare(target.typical, slow, spread=target.spread).figure("Key").verdict == "matched"

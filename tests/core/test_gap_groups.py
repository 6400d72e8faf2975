"""All figures of a section by group, and their course over a song's states."""

from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.gap import compare
from ersatz.core.gap.progress import FigureState, courses, figure_states, matched
from ersatz.core.survey.spectrum import WIDTH_BANDS_HZ, bands_of_samples, between_db

RATE = 44_100


def group(gap, name):
    return next(g for g in gap.groups if g.name.startswith(name))


def figure(found, name):
    return next(f for f in found.figures if f.name == name)


def test_a_track_beside_itself_is_matched_in_every_group(club_survey):
    gap = compare(club_survey, club_survey)
    expected = {"Presence of roles", "Width", "Correlation", "Crest", "Onsets per beat", "Loudness", "What lies between hits"}
    assert {g.name.split(" by ")[0] for g in gap.groups} >= {*expected, "Third octaves at equal loudness"}
    for found in gap.groups:
        assert found.matched == len(found.figures), found.name
        assert all(not f.difference for f in found.figures), found.name


def test_what_differs_is_found_in_its_group_and_counted(club_survey):
    main = club_survey.main_section()
    bands = list(club_survey.stereo.per_section)
    first = bands[main].bands[0]
    wide = replace(first, width=first.width + 0.3, crest_db=first.crest_db - 5.0, onsets_per_beat=(first.onsets_per_beat or 0) + 2)
    bands[main] = replace(bands[main], bands=(wide, *bands[main].bands[1:]))
    presence = {**club_survey.sections[main].presence, "hats": 0.0}
    sections = list(club_survey.sections)
    sections[main] = replace(sections[main], presence=presence)
    mine = replace(club_survey, stereo=replace(club_survey.stereo, per_section=tuple(bands)), sections=tuple(sections))
    gap = compare(club_survey, mine)
    name = "20 to 110 Hz"
    assert figure(group(gap, "Width"), name).difference == pytest.approx(0.3)
    assert figure(group(gap, "Crest"), name).difference == pytest.approx(-5.0)
    assert figure(group(gap, "Onsets"), name).difference == pytest.approx(2.0)
    assert figure(group(gap, "Presence"), "hats").verdict == "off"
    assert group(gap, "Width").matched == len(WIDTH_BANDS_HZ) - 1
    assert group(gap, "Width").of == "section"


def test_a_groove_is_compared_step_by_step(club_survey):
    main = club_survey.main_section()
    patterns = []
    for pattern in club_survey.drums.patterns:
        if pattern.section == main:
            late = tuple(v if v is None else v + 12.0 for v in pattern.timing_ms.kick)
            pattern = replace(pattern, hats=tuple(0.0 for _ in pattern.hats), timing_ms=replace(pattern.timing_ms, kick=late))
        patterns.append(pattern)
    mine = replace(club_survey, drums=replace(club_survey.drums, patterns=tuple(patterns)))
    found = group(compare(club_survey, mine), "Groove")
    assert figure(found, "kick: timing, mean distance").remake == pytest.approx(12.0)
    assert figure(found, "kick: steps of one side alone").remake == 0.0
    assert figure(found, "hats: steps of one side alone").remake == 100.0


def test_surveys_made_before_say_it_of_the_whole_track(club_survey):
    earlier = replace(club_survey, stereo=replace(club_survey.stereo, per_section=()))
    assert group(compare(earlier, club_survey), "Width").of == "track"


def test_bands_of_samples_with_known_answers():
    rng = np.random.default_rng(4)
    noise = rng.standard_normal((2, 4 * RATE)).astype(np.float32) * 0.1
    for band in bands_of_samples(noise, RATE):
        # Unrelated sides: as much side as middle.
        assert band.width == pytest.approx(1.0, abs=0.1) and band.correlation == pytest.approx(0.0, abs=0.1)
    assert all(b.width == pytest.approx(0.0, abs=1e-3) for b in bands_of_samples(np.stack([noise[0], noise[0]]), RATE))
    # Struck a quarter of the time, the rest 40 dB down: 34 dB under the average, which lies 6 dB under the strokes.
    gate = np.where(np.arange(4 * RATE) % RATE < RATE / 4, 1.0, 0.01).astype(np.float32)
    for band in bands_of_samples(noise * gate, RATE)[2:]:
        assert band.between_db == pytest.approx(-34.0, abs=1.5)
    assert between_db(np.ones(50)) == 0.0
    assert between_db(np.array([0.0] * 50 + [1.0])) == -60.0


def test_a_course_keeps_the_order_of_the_newest_and_what_is_gone():
    def state(name, off, verdict="off"):
        return FigureState(name, "dB", 1.0, off, off, verdict)

    old, new = (state("A", 3.0), state("B", 1.0)), (state("C", 2.0), state("A", 0.5, "matched"))
    found = courses([old, new])
    assert [c.name for c in found] == ["C", "A", "B"]
    assert [s and s.off for s in found[1].states] == [3.0, 0.5]
    assert found[0].states[0] is None and found[2].states[1] is None
    assert [s.off for s in found[1].ends] == [3.0, 0.5]
    assert [matched(s) for s in (old, new)] == [0, 1]


def test_states_count_tolerances_and_leave_what_has_none(club_survey):
    mine = replace(club_survey, loudness=replace(club_survey.loudness, integrated_lufs=club_survey.loudness.integrated_lufs + 1.0))
    states = {s.name: s for s in figure_states(compare(club_survey, mine))}
    # 1 LU off where half is the tolerance.
    assert states["Loudness"].off == pytest.approx(2.0)
    assert states["Key"].off is None and states["Tempo"].off == 0.0

"""What moves in a draft outside its drops: filters at rest, faders by phrase, roots under the pad, atmosphere."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.draft import draft_song
from ersatz.core.draft.movement import EDGE_DB, MOST_UNDER_DB, edges_hz
from ersatz.core.draft.parts import PAD_LOW_CUT_HZ, ROOTS_LOW_CUT_HZ
from ersatz.core.draft.patterns import BAR
from ersatz.core.survey.document import SectionSpectrum
from tests.surveys import of_sections

HZ = np.array(NOMINAL_HZ, float)
SLOPE = -10 - 2.0 * np.log2(HZ / 100)


def of_labels(survey, *labels):
    """Sections of an even level and a plain slope, under these labels."""
    level = tuple([-6.0] * len(survey.energy.full_db))
    even = replace(of_sections(survey, *labels), energy=replace(survey.energy, full_db=level))
    return with_levels(even, *([SLOPE] * len(labels)))


def with_levels(survey, *levels):
    rows = tuple(SectionSpectrum(tuple(float(v) for v in row)) for row in levels)
    return replace(survey, spectrum=replace(survey.spectrum, per_section=rows))


def with_role(survey, role, value):
    rows = {role: tuple([value] * len(survey.presence.bars))}
    sections = tuple(replace(s, presence={**s.presence, role: value}) for s in survey.sections)
    return replace(survey, presence=replace(survey.presence, **rows), sections=sections)


def stepped(low_hz=0.0, high_hz=1e9, by_db=30.0):
    return np.where((low_hz > HZ) | (high_hz < HZ), SLOPE - by_db, SLOPE)


@pytest.mark.parametrize("low_hz", [100.0, 200.0, 400.0])
def test_an_edge_lies_between_the_bands_where_a_filter_leaves_it(low_hz):
    low, high = edges_hz(stepped(low_hz=low_hz))
    assert low == pytest.approx(low_hz / 2 ** (1 / 6), rel=0.03) and high == 0
    low, high = edges_hz(stepped(high_hz=6300.0))
    assert low == 0 and high == pytest.approx(6300 * 2 ** (1 / 6), rel=0.03)


def test_slopes_and_small_steps_are_no_edges_nor_is_where_lossy_files_end():
    assert edges_hz(SLOPE) == (0.0, 0.0)
    assert edges_hz(stepped(200.0, 6300.0, EDGE_DB - 5)) == (0.0, 0.0)
    assert edges_hz(stepped(high_hz=16_000.0)) == (0.0, 0.0)


def test_what_sounds_beyond_a_step_means_that_no_filter_made_it():
    bass = np.where(HZ == 50, SLOPE[HZ == 200][0] - 3, stepped(low_hz=200.0))
    assert edges_hz(bass)[0] == 0.0
    hats = np.where(HZ == 12_500, SLOPE[HZ == 5000][0], stepped(high_hz=6300.0))
    assert edges_hz(hats)[1] == 0.0


def test_a_section_with_edges_is_filtered_there_and_nowhere_else(club_survey):
    survey = with_role(of_labels(club_survey, "intro", "breakdown", "drop"), "chords", 1.0)
    plain = draft_song(survey, 2)
    assert all(e.kind != "sweep" for p in plain.parts for e in p.chain)
    cut = draft_song(with_levels(survey, SLOPE, stepped(200.0, 6300.0), stepped(200.0, 6300.0)), 2)
    bars = survey.sections[0].bars
    start, end = (cut.grid.ticks_of_bar(b) for b in (1 + bars, 1 + 2 * bars))
    for part in ("pad", "atmosphere", "riser"):
        filters = {e.choices["kind"]: e.id for e in cut.part(part).chain if e.kind == "sweep"}
        assert set(filters) == {"low-pass 24", "high-pass 24"}
        for kind, hz in (("low-pass 24", 7100.0), ("high-pass 24", 178.0)):
            corner, blend = (cut.part(part).curve(filters[kind], name).points for name in ("cutoff_hz", "blend"))
            assert all(p.value == pytest.approx(hz, rel=0.03) for p in corner)
            there = [p.tick for p in blend if p.value > 0]
            assert start <= min(there) and max(there) < end
    assert all(e.kind != "sweep" for e in cut.part("bass").chain)


def test_faders_of_what_is_held_go_along_with_the_references_phrases(club_survey):
    survey = with_role(of_labels(club_survey, "intro", "breakdown", "drop"), "chords", 1.0)
    bars = survey.sections[0].bars
    assert draft_song(survey, 2).part("pad").curve("fader", "gain_db") is None
    by_bar = [-4.0] * len(survey.energy.full_db)
    by_bar[bars : bars + 4] = [-10.0] * 4
    # What differs elsewhere is what enters and leaves.
    by_bar[:4] = by_bar[2 * bars : 2 * bars + 4] = [-12.0] * 4
    song = draft_song(replace(survey, energy=replace(survey.energy, full_db=tuple(by_bar))), 2)
    phrase, begin = 4 * BAR, song.grid.ticks_of_bar(1 + bars)
    for part in (song.part("pad"), song.part("atmosphere")):
        curve = part.curve("fader", "gain_db")
        under = {p.tick - begin: round(p.value - part.gain_db, 1) for p in curve.points}
        assert {tick for tick, db in under.items() if db == -6.0} == {0, phrase - 1}
        assert {db for tick, db in under.items() if tick not in (0, phrase - 1)} == {0.0} and max(under) == bars * BAR
    assert song.part("bass").curve("fader", "gain_db") is None
    by_bar[bars : bars + 4] = [-60.0] * 4
    emptier = draft_song(replace(survey, energy=replace(survey.energy, full_db=tuple(by_bar))), 2).part("pad")
    assert min(p.value for p in emptier.curve("fader", "gain_db").points) == emptier.gain_db - MOST_UNDER_DB


def test_atmosphere_lies_over_all_but_the_drops(club_survey):
    labels = ("intro", "drop", "breakdown", "build", "drop", "outro")
    song = draft_song(of_labels(club_survey, *labels), 2)
    assert [song.part("atmosphere").cell(s.id).on for s in song.sections] == [label != "drop" for label in labels]
    assert draft_song(of_labels(club_survey, "drop", "drop"), 2).part("atmosphere") is None


def test_a_pad_has_the_roots_where_the_references_breakdown_has_lows_without_a_bass(club_survey):
    survey = with_role(with_role(of_labels(club_survey, "intro", "breakdown", "drop"), "chords", 1.0), "bass", 0.0)
    with_lows = np.where(HZ == 125, SLOPE.max() - 8, stepped(low_hz=200.0))
    rooted, bare = (draft_song(with_levels(survey, SLOPE, row, SLOPE), 2) for row in (with_lows, stepped(200.0, by_db=40.0)))
    pad = rooted.part("pad")
    assert [pad.cell(s.id).pattern for s in rooted.sections] == ["A", "H", "A"]
    lowest = min(n.midi for n in pad.patterns["H"].notes)
    # An octave around 125 Hz, B2.
    assert 41 <= lowest < min(n.midi for n in pad.patterns["A"].notes) and pad.patterns["H"].bars == pad.patterns["A"].bars
    assert pad.low_cut_hz == ROOTS_LOW_CUT_HZ and bare.part("pad").low_cut_hz == PAD_LOW_CUT_HZ
    assert "H" not in bare.part("pad").patterns
    played = draft_song(with_role(with_levels(survey, SLOPE, with_lows, SLOPE), "bass", 1.0), 2)
    assert "H" not in played.part("pad").patterns

"""What is moved in one section alone, and what a move of the whole song does elsewhere."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.balance.clashes import REGIONS
from ersatz.core.balance.pumping import rate_of
from ersatz.core.edits import parse_edit
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.moves.elsewhere import Elsewhere
from ersatz.core.moves.model import cut_of
from ersatz.core.moves.proposal import Proposal
from ersatz.core.moves.readings import entry_bars, readings
from ersatz.core.moves.rules import proposals
from ersatz.core.moves.section import measure_section
from ersatz.core.moves.within import CUT, cut_here, low_cuts, rises, variations
from ersatz.core.song.document import SongSection, with_strip
from ersatz.core.song.strips import Automation, AutomationPoint, Effect
from ersatz.core.survey.document import SectionSpectrum
from ersatz.core.voices import library


@pytest.fixture(scope="module")
def cache():
    return RenderCache()


def playing(song, place):
    section = song.sections[place].id
    return [p for p in song.parts if p.role != "kick" and (c := p.cell(section)) is not None and c.on]


@pytest.fixture(scope="module")
def place(song):
    """Of a section that isn't the main one, in which more than the kick plays."""
    return next(k for k, s in enumerate(song.sections) if s.label != "drop" and playing(song, k))


@pytest.fixture(scope="module")
def pad(song, place):
    """A part that plays there."""
    return playing(song, place)[0]


def applied(song, edits):
    for edit in edits:
        song = parse_edit(edit).apply(song)
    return song


@pytest.mark.parametrize(
    "presence, bars",
    [
        ([1, 1, 1, 1], 0), ([0, 0, 1, 1], 2), ([0, 0, 0, 0], None),
        # Comes and goes, and is half there from the start: no entry.
        ([0, 1, 0, 0, 1, 0], None), ([0.4, 0.4, 1, 1], None),
    ],
)  # fmt: skip
def test_a_role_enters_where_it_begins_to_play_and_goes_on(presence, bars):
    assert entry_bars(presence) == bars


def test_what_lies_under_everything_is_no_noise_on_top(song, place, cache, club_survey):
    quiet = replace(club_survey, sections=tuple(replace(s, presence={**s.presence, "noise": 0.0}) for s in club_survey.sections))
    plain = replace(song, parts=tuple(p for p in song.parts if p.role == "kick" or p.id == "atmosphere"))
    risen = with_strip(plain, replace(plain.part("atmosphere"), sound=library.sound("Rising fog")))
    for made, said in ((plain, False), (risen, True)):
        found = readings(measure_section(made, Mixdown(made, cache), place, place), quiet)
        assert ("Plays: noise" in found) == said
    assert found["Plays: noise"].difference == 1


def test_a_filter_stands_where_it_is_drawn_or_set_or_else_where_filters_do(pad):
    plain, low = (Effect("sweep", params, {"kind": "high-pass 24"}, id="f") for params in ({}, {"cutoff_hz": 200.0}))
    drawn = Automation("f", "cutoff_hz", (AutomationPoint(0, 100.0), AutomationPoint(960, 400.0)))
    assert cut_of(replace(pad, chain=(plain,), automation=()), plain, 960) == (1.0, 1000.0)
    assert cut_of(replace(pad, chain=(low,), automation=()), low, 960) == (1.0, 200.0)
    assert cut_of(replace(pad, chain=(low,), automation=(drawn,)), low, 960) == (1.0, 400.0)


def test_a_cut_of_one_section_leaves_every_other_bar_as_it_was(song, place, pad, cache):
    section = song.sections[place]
    first = next(bar for bar, s in song.placed() if s.id == section.id)
    cut = applied(song, cut_here(song, pad, section.id, 350.0))
    before, after = Mixdown(song, cache), Mixdown(cut, cache)
    for bar in (b for b in range(1, song.bars + 1) if not first <= b < first + section.bars):
        # A curve is read every 64 samples and joined by lines: so long it takes from one value to the next.
        was, now = (m.strip_samples(pad.id, bar, bar)[:, 128:-128] for m in (before, after))
        assert np.array_equal(was, now), bar
    inside = (first + 1, first + section.bars - 1)
    was, now = (np.abs(np.fft.rfft(m.strip_samples(pad.id, *inside)[0])) for m in (before, after))
    low = slice(1, int(len(was) * 175 / 22050))
    # An octave under its corner 24 dB are taken.
    assert np.square(now[low]).sum() < 0.05 * np.square(was[low]).sum()
    # Another section's cut beside it: both stay.
    other = next(s for s in song.sections if s.id != section.id)
    both = applied(cut, cut_here(cut, cut.part(pad.id), other.id, 120.0))
    assert [e.id for e in both.part(pad.id).chain].count(CUT) == 1
    points = both.part(pad.id).curve(CUT, "blend").points
    assert max(p.value for p in points) == 1.0
    assert len({p.tick for p in points if p.value == 1.0}) >= 3
    # Each at its own corner, and one that is moved again leaves the other.
    again = applied(both, cut_here(both, both.part(pad.id), section.id, 200.0))
    for found, corner in ((both, 350.0), (again, 200.0)):
        corners = {k: cut_of(found.part(pad.id), found.part(pad.id).effect(CUT), middle(found, k)) for k in (section.id, other.id)}
        assert corners == {section.id: (1.0, corner), other.id: (1.0, 120.0)}


def middle(song, section):
    """Tick of the middle of a section."""
    first, found = next((first, s) for first, s in song.placed() if s.id == section)
    return (first - 1 + found.bars / 2) * song.grid.ticks_per_bar


def test_lows_that_the_reference_lacks_in_a_section_are_cut_there(song, place, pad, cache, club_survey):
    mix = measure_section(song, Mixdown(song, cache), place, place)
    own = mix.lanes.mix.level_db
    level = tuple(float(v) - (30.0 if 40 <= hz <= 315 else 0.0) for v, hz in zip(own, club_survey.spectrum.centers_hz))
    spectra = list(club_survey.spectrum.per_section)
    spectra[place] = SectionSpectrum(level)
    survey = replace(club_survey, spectrum=replace(club_survey.spectrum, per_section=tuple(spectra)))
    found = [p.sentence for p in low_cuts(mix, survey, readings(mix, survey))]
    assert found and all("low cut at" in s and "here" in s for s in found)
    # Where the lows are the reference's none is proposed.
    spectra[place] = SectionSpectrum(tuple(float(v) for v in own))
    same = replace(club_survey, spectrum=replace(club_survey.spectrum, per_section=tuple(spectra)))
    assert not list(low_cuts(mix, same, readings(mix, same)))


def test_a_rise_of_the_reference_is_drawn_where_ours_stands(song, place, cache, club_survey):
    mix = measure_section(song, Mixdown(song, cache), place, place)
    theirs = club_survey.sections[place]
    course = np.array(club_survey.energy.mid_db)
    inside = slice(theirs.start_bar - 1, theirs.end_bar - 1)
    course[inside] = np.linspace(-24.0, -3.0, theirs.bars)
    survey = replace(club_survey, energy=replace(club_survey.energy, mid_db=tuple(float(v) for v in course)))
    found = readings(mix, survey)
    assert found["Rise, mid"].reference > 8
    proposal = next(p for p in rises(mix, survey, found) if p.figures == ("Rise, mid",))
    assert "rises by" in proposal.sentence
    after = proposal.applied(song)
    risen = measure_section(after, Mixdown(after, cache), place, place)
    assert readings(risen, survey)["Rise, mid"].remake > found["Rise, mid"].remake + 2


def test_a_second_drop_that_plays_nothing_new_is_told_to_play_another_pattern(song, cache, club_survey):
    drop = next(k for k, s in enumerate(song.sections) if s.label == "drop")
    again = SongSection("again", "drop", song.sections[drop].bars)
    parts = tuple(
        replace(p, cells=(*p.cells, *(replace(c, section="again") for c in p.cells if c.section == song.sections[drop].id)))
        for p in song.parts
    )
    twice = replace(song, sections=(*song.sections, again), parts=parts)
    mix = measure_section(twice, Mixdown(twice, cache), len(song.sections), drop)
    found = readings(mix, club_survey)
    assert found["Same as the drop before"].gap > 2
    proposal = next(variations(mix, club_survey, found))
    other = proposal.applied(twice)
    read = readings(replace(mix, song=other), club_survey)
    assert read["Same as the drop before"].gap == 0


def test_another_rate_than_the_references_is_a_figure_and_a_move(song, cache, club_survey):
    main = club_survey.main_section()
    wrong = applied(song, [{"kind": "set_triggers", "curve": song.curves[0].id, "rate": "1/8", "triggers": []}])
    mix = measure_section(wrong, Mixdown(wrong, cache), main, main)
    found = readings(mix, club_survey)
    assert found["Pump rate"].gap > 0
    move = next(p for p in proposals(mix, club_survey, found) if p.kind == "ducking rate")
    assert rate_of(move.applied(wrong).curves[0]) == club_survey.pump.rate


def test_what_plays_here_alone_opens_nothing_elsewhere(song, cache, club_survey):
    main = club_survey.main_section()
    here = song.sections[main].id
    part = next(p for p in song.parts if p.role == "lead" and p.patterns)
    alone = replace(part, cells=tuple(c if c.section == here else replace(c, on=False) for c in part.cells))
    made = replace(song, parts=tuple(alone if p.id == part.id else p for p in song.parts))
    mixdown = Mixdown(made, cache)
    elsewhere = Elsewhere(measure_section(made, mixdown, main, main), mixdown, club_survey)
    louder = applied(made, [{"kind": "set_strip", "strip": part.id, "name": "gain_db", "value": alone.gain_db + 9}])
    assert elsewhere.opened(louder) == pytest.approx(0.0, abs=1e-9)
    # What plays in other sections moves their balance.
    kick = next(p for p in made.parts if p.role == "kick")
    loud = applied(made, [{"kind": "set_strip", "strip": kick.id, "name": "gain_db", "value": kick.gain_db + 20}])
    plays = any(c.on and c.section != here for c in kick.cells)
    assert (abs(elsewhere.opened(loud)) > 0.1) == plays


@pytest.mark.parametrize("what", ["a louder master", "a quieter master", "a quieter kick"])
def test_balance_and_loudness_of_other_sections_move_as_the_rendering_says(what, song, cache, club_survey):
    main = club_survey.main_section()
    gain = song.master.gain_db
    kick = next(p for p in song.parts if p.role == "kick")
    strip, value = {"a louder master": ("master", gain + 5), "a quieter master": ("master", gain - 5)}.get(
        what, (kick.id, kick.gain_db - 9)
    )
    after = applied(song, [{"kind": "set_strip", "strip": strip, "name": "gain_db", "value": value}])

    def gap(played):
        rows = [
            readings(measure_section(played, Mixdown(played, cache), k, k), club_survey)
            for k in range(len(played.sections)) if k != main
        ]  # fmt: skip
        told = ("Loudness here", "Balance, mean", *(f"Balance, {name}" for name in REGIONS))
        return sum(r.gap for row in rows for figure, r in row.items() if figure in told)

    mixdown = Mixdown(song, cache)
    opened = Elsewhere(measure_section(song, mixdown, main, main), mixdown, club_survey).opened(after)
    measured = gap(after) - gap(song)
    assert abs(measured) > 1
    assert np.sign(opened) == np.sign(measured) and opened == pytest.approx(measured, abs=1.5)


def test_a_proposal_that_does_not_fit_the_song_is_none(song):
    edit = {"kind": "set_strip", "strip": "nobody", "name": "gain_db", "value": 0.0}
    assert Proposal("level", "nobody", "", (edit,), ()).applied(song) is None
    assert Proposal("level", "nobody", "", ({"kind": "no such"},), ()).applied(song) is None

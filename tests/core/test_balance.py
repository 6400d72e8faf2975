"""The balance of a mix: lanes measure what strips add, clashes are found when a mix is spoiled, the solver keeps its limits."""

from __future__ import annotations

import re
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

from ersatz.core import bands
from ersatz.core.balance.bypass import bypass_db
from ersatz.core.balance.changes import changes
from ersatz.core.balance.clashes import CUT_HZ
from ersatz.core.balance.ducking import fitted_to_kick, fitted_to_reference
from ersatz.core.balance.lanes import (
    STRETCH,
    measure_fine,
    measure_lane,
    measure_lanes,
    measured_bars,
    reference_db,
    spread_bars,
)
from ersatz.core.balance.match import _solve_width, balance_song
from ersatz.core.balance.meters import PER_BAR, limiter_reduction_db, measure_meters, measure_reductions
from ersatz.core.balance.reasons import reasons
from ersatz.core.balance.register import transposed, with_registers
from ersatz.core.balance.room import solve_room
from ersatz.core.balance.section import clashes_in, low_tone_hz
from ersatz.core.balance.solver import EQ_ID, MOST_EQ_DB, MOST_FROM_ROLE_DB, measure_powers, power_behind_master
from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.draft import draft_song
from ersatz.core.dsp.levels import to_db
from ersatz.core.edits import parse_edit
from ersatz.core.edits.parts import STARTS
from ersatz.core.edits.strips import SwitchChain
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.master import tone
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import PUMP, with_each, with_strip
from ersatz.core.song.parts import Follows
from ersatz.core.song.strips import MASTER, Effect, Send, ducked
from ersatz.core.survey.document import SectionBands
from ersatz.core.survey.spectrum import bands_of_samples
from ersatz.core.target.document import in_balance
from ersatz.core.voices import library

HZ = np.array(NOMINAL_HZ, float)


@pytest.fixture(scope="module")
def cache():
    return RenderCache()


@pytest.fixture(scope="module")
def drop(song):
    """Place of the song's last drop."""
    return max(k for k, s in enumerate(song.sections) if s.label == "drop")


@pytest.fixture(scope="module")
def clean(song, cache, drop):
    """Eight bars of the drop without faults: what is found in the draft by itself is cured first, once."""
    section = replace(song.sections[drop], bars=8, levels_db=())
    parts = tuple(
        replace(p, cells=tuple(replace(c, exit_bars=0, fill_bars=0, entry_bars=0) for c in p.cells if c.section == section.id))
        for p in song.parts
    )
    song = replace(song, sections=(section,), parts=parts, transitions=())
    for _ in range(4):
        found = clashes_in(song, Mixdown(song, cache), 0)
        if not found:
            break
        for edit in found[0].edits:
            song = parse_edit(edit).apply(song)
    return song


def sine(hz, seconds=1.5, level=0.25, sides=(1.0, 1.0)):
    t = np.arange(int(seconds * RATE_HZ)) / RATE_HZ
    tone = level * np.sin(2 * np.pi * hz * t)
    return np.stack([tone * sides[0], tone * sides[1]]).astype(np.float32)


# Lanes ---------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("hz", [63, 1000, 8000])
def test_a_sine_lies_in_its_third_octave_at_its_power(hz):
    lane = measure_lane("x", sine(hz))
    assert HZ[lane.power.argmax()] == hz
    # Both channels added: 2 * a^2 / 2.
    assert lane.level_db.max() == pytest.approx(10 * np.log10(0.25**2), abs=0.2)
    assert to_db(lane.frames.mean(axis=1).sum()) == pytest.approx(lane.level_db.max(), abs=0.3)


@pytest.mark.parametrize("hz", [63, 1000, 8000])
def test_a_fine_spectrum_tells_tones_a_sixth_of_an_octave_apart_and_lies_on_the_third_octaves(hz):
    above = hz * 2 ** (1 / 6)
    found = measure_fine(sine(hz, 3) + sine(above, 3, 0.125))
    level, at = np.array(found.level_db), np.array(found.hz)
    near = [int(np.abs(np.log(at / f)).argmin()) for f in (hz, above)]
    assert level[near[0]] - level[near[1]] == pytest.approx(6.0, abs=1.6)
    assert level[(at < hz / 1.5) | (at > above * 1.5)].max() < level[near[1]] - 20
    assert all(p >= m for p, m in zip(found.peak_db, found.level_db))
    noise = np.random.default_rng(1).normal(0, 0.1, (2, 10 * RATE_HZ)).astype(np.float32)
    flat, lane = measure_fine(noise), measure_lane("n", noise)
    third = int(np.abs(np.log(HZ / 1000)).argmin())
    assert flat.level_db[int(np.abs(np.log(at / 1000)).argmin())] == pytest.approx(float(lane.level_db[third]), abs=0.7)


def test_sides_are_told_from_the_middle():
    mono, apart, wide = (measure_lane("x", sine(100, sides=s)) for s in ((1, 1), (1, -1), (1, 0)))
    assert mono.side.sum() == pytest.approx(0.0, abs=1e-9)
    assert apart.side.sum() == pytest.approx(apart.power.sum(), rel=1e-3)
    assert wide.side.sum() == pytest.approx(wide.power.sum() / 2, rel=1e-3)


def test_silent_strips_have_no_lane(song, cache):
    muted = with_strip(song, replace(song.part("pad"), mute=True))
    lanes = measure_lanes(Mixdown(muted, cache), *measured_bars(muted, 0))
    assert "pad" not in lanes.lanes and "master" in lanes.lanes


def test_the_reference_stands_at_the_loudness_of_the_mix(club_survey):
    mix = np.linspace(-20, -60, len(HZ))
    level = reference_db(club_survey, 0, mix)
    assert level[in_balance()].mean() == pytest.approx(mix[in_balance()].mean())
    own = np.array(club_survey.spectrum.per_section[0].level_db)
    np.testing.assert_allclose(np.diff(level), np.diff(own))


def test_what_strips_add_sums_to_the_mix_before_the_limiter(song, cache, drop):
    """Faders of strips and buses, the master's EQ and fader: all that is linear."""
    plain = replace(song, buses=tuple(replace(b, gain_db=1.5 * k, chain=()) for k, b in enumerate(song.buses)))
    mixdown = Mixdown(plain, cache)
    first, last = measured_bars(plain, drop)
    last = first + 1
    rows = [mixdown.contribution(s.id, first, last) for s in (*plain.parts, *plain.returns)]
    np.testing.assert_allclose(sum(rows), mixdown.before_limiting(first, last), atol=2e-3)


def test_a_fader_scales_what_a_strip_adds(song, cache):
    louder = with_strip(song, replace(song.part("pad"), gain_db=song.part("pad").gain_db + 6.0))
    bar = min(Mixdown(song, cache).plays_in("pad")) + 1
    was, now = (Mixdown(s, cache).contribution("pad", bar, bar) for s in (song, louder))
    assert np.abs(was).max() > 0.01
    np.testing.assert_allclose(now, was * 10 ** (6 / 20), atol=1e-4)


# Meters --------------------------------------------------------------------------------------------------------------


def test_meters_read_each_sixteenth_and_say_what_the_limiter_takes(song, cache):
    mixdown = Mixdown(song, cache)
    meters = measure_meters(mixdown, song, 5, 6)
    assert all(len(row) == 2 * PER_BAR for row in (meters.momentary_lufs, meters.correlation, meters.strips["pad"].peak_db))
    x = mixdown.strip_samples("master", 5, 6)
    assert max(meters.strips["master"].peak_db) == pytest.approx(20 * np.log10(np.abs(x).max()), abs=0.06)
    assert all(p >= r - 0.05 for row in meters.strips.values() for p, r in zip(row.peak_db, row.rms_db))
    driven = replace(song, master=replace(song.master, gain_db=song.master.gain_db + 18))
    more = np.mean(limiter_reduction_db(Mixdown(driven, cache), 5, 6)) - np.mean(limiter_reduction_db(mixdown, 5, 6))
    assert 3 < more <= 18.1


def test_a_compressor_shows_what_it_takes_without_its_make_up(song, cache):
    squeezed = Effect("compressor", {"threshold_db": -40.0, "ratio": 8.0, "gain_db": 12.0}, id="c")
    made = with_strip(song, replace(song.part("pad"), chain=(squeezed,)))
    bar = min(Mixdown(made, cache).plays_in("pad")) + 1
    taken = measure_reductions(Mixdown(made, cache), made, made.part("pad"), bar, bar)["c"]
    assert max(taken) > 3 and min(taken) >= -0.5


def test_an_effect_is_bypassed_at_what_it_adds(song, cache):
    louder = Effect("eq", {"band1_hz": 1000.0, "band1_db": 6.0, "band1_q": 0.2}, {"band1_kind": "bell"}, id="e")
    bus = next(b for b in song.buses if b.id == song.part("pad").out)
    made = with_strip(song, replace(bus, chain=(louder,)))
    assert 2.5 < bypass_db(Mixdown(made, cache), made, made.strip(bus.id), 0) < 6.1


def test_a_chain_is_bypassed_at_what_all_of_it_adds(song, cache):
    """Two effects whose gains are known: off together, the strip is as loud as it was."""
    wide = {"band1_hz": 1000.0, "band1_q": 0.1}
    chain = tuple(Effect("eq", {**wide, "band1_db": 9.0}, {"band1_kind": "bell"}, id=f"e{k}") for k in (1, 2))
    made = with_strip(song, replace(song.part("pad"), chain=chain))
    db = bypass_db(Mixdown(made, cache), made, made.part("pad"))
    first = bypass_db(Mixdown(made, cache), made, made.part("pad"), 0)
    assert first > 3 and db == pytest.approx(2 * first, abs=0.7)
    off = SwitchChain("pad", False, db).apply(made)
    assert bypass_db(Mixdown(off, cache), off, off.part("pad")) == pytest.approx(db, abs=0.1)
    assert SwitchChain("pad", True).apply(off) == made


# Clashes: spoil and find -----------------------------------------------------------------------------------------------


def _with_effect(song, part, **bands):
    params = {f"band1_{k}": v for k, v in bands.items() if k != "kind"}
    effect = Effect("eq", params, {"band1_kind": bands.get("kind", "bell")})
    p = song.part(part)
    return with_strip(song, replace(p, chain=(*p.chain, effect)))


def _plain_pad(song):
    """The pad with a sound that has its fundamentals."""
    return replace(song.part("pad"), sound=library.sound("Wake"))


def _low_pad(song):
    return _louder(with_strip(song, _lower(replace(_plain_pad(song), low_cut_hz=0.0), 24)), "pad", 6)


def _lower(part, semitones):
    patterns = {n: replace(p, notes=tuple(replace(x, midi=x.midi - semitones) for x in p.notes)) for n, p in part.patterns.items()}
    return replace(part, patterns=patterns)


def _louder(song, part, by):
    return with_strip(song, replace(song.part(part), gain_db=song.part(part).gain_db + by))


def _detuned(song, semitones):
    """The kick's fundamental so far over the bass's one tone, and the bass under it not ducked."""
    bass, kick = song.part("bass"), song.part("kick")
    one = {n: replace(p, notes=tuple(replace(x, midi=38) for x in p.notes)) for n, p in bass.patterns.items()}
    song = _louder(with_strip(song, replace(bass, duck=None, patterns=one)), "bass", 7)
    first, last = measured_bars(song, 0)
    tone = low_tone_hz(Mixdown(song).strip_samples("bass", first, last))
    sound = replace(kick.sound, params={**kick.sound.params, "fundamental_hz": tone * 2 ** (semitones / 12)})
    return with_strip(song, replace(kick, sound=sound))


SPOILED = {
    "tuning": lambda s: _detuned(s, 1.5),
    "kick and bass": lambda s: _louder(with_strip(s, replace(s.part("bass"), duck=None)), "bass", 8),
    "lows": lambda s: _low_pad(s),
    "buried": lambda s: _louder(s, "bass", -24),
    "stereo lows": lambda s: replace(
        with_strip(s, replace(s.part("bass"), chain=(*s.part("bass").chain, Effect("chorus", {"depth": 1.0})), width=2.0)),
        master=replace(s.master, mono_below_hz=0.0),
    ),
    "limiter": lambda s: replace(s, master=replace(s.master, gain_db=s.master.gain_db + 12)),
    "resonance": lambda s: _with_effect(_louder(s, "pad", 6), "pad", hz=1600.0, db=22.0, q=8.0),
    "one place": lambda s: replace(s, parts=(*s.parts, replace(s.part("pad"), id="pad-2", name="Second pad"))),
    "too much": lambda s: _with_effect(_with_effect(s, "pad", hz=250.0, db=18.0, q=1.2), "bass", hz=250.0, db=9.0, q=1.2),
}


@pytest.mark.parametrize("kind", SPOILED)
def test_what_spoils_a_mix_is_found_first_or_second_and_cured(kind, clean, cache):
    before = [c.kind for c in clashes_in(clean, Mixdown(clean, cache), 0)]
    spoiled = SPOILED[kind](clean)
    found = clashes_in(spoiled, Mixdown(spoiled, cache), 0)
    assert kind in [c.kind for c in found[:2]], (before, [(c.kind, c.amount_db) for c in found])
    clash = next(c for c in found if c.kind == kind)
    cured = spoiled
    for edit in clash.edits:
        cured = parse_edit(edit).apply(cured)
    left = [c for c in clashes_in(cured, Mixdown(cured, cache), 0) if c.kind == kind and c.strips == clash.strips]
    assert not left or left[0].amount_db < clash.amount_db


def test_missing_highs_and_a_pump_that_is_off_are_found_against_the_reference(clean, cache, club_survey):
    dull = with_each(clean, lambda s: replace(s, high_cut_hz=2500.0) if getattr(s, "role", "") in ("hats", "clap", "perc") else s)
    assert "missing" in [c.kind for c in clashes_in(dull, Mixdown(dull, cache), 0, club_survey)[:2]]
    still = with_each(clean, lambda s: replace(s, duck=None))
    assert "ducking" in [c.kind for c in clashes_in(still, Mixdown(still, cache), 0, club_survey)[:2]]


def test_a_line_that_moves_has_no_one_tone():
    held = sine(55.0, 3)
    moving = np.concatenate([sine(hz, 1.0) for hz in (46.2, 58.3, 77.8, 51.9)], axis=1)
    assert low_tone_hz(held) == pytest.approx(55.0, abs=0.2)
    assert low_tone_hz(moving) == 0.0 == low_tone_hz(0 * held)


def test_a_kick_in_tune_with_the_bass_or_far_from_it_does_not_beat(clean, cache):
    for semitones in (0.0, 5.0):
        tuned = _detuned(clean, semitones)
        assert "tuning" not in [c.kind for c in clashes_in(tuned, Mixdown(tuned, cache), 0)]


def test_a_silent_section_has_no_clashes(song, cache):
    quiet = with_each(song, lambda s: replace(s, mute=True) if s.id != "master" else s)
    assert clashes_in(quiet, Mixdown(quiet, cache), 0) == []


# Ducking -------------------------------------------------------------------------------------------------------------


def test_a_curve_fitted_to_the_reference_is_its_own(song, club_survey):
    shape = np.array(fitted_to_reference(song.curve(PUMP), club_survey).shape)
    gain = np.array(club_survey.pump.beat_db)
    at = np.arange(len(shape)) / len(shape) * (len(gain) - 1)
    np.testing.assert_allclose(shape * -gain.min(), -np.interp(at, np.arange(len(gain)), gain), atol=0.02)


def test_a_curve_fitted_to_the_kick_opens_as_the_kick_falls(song, cache):
    shape = np.array(fitted_to_kick(song.curve(PUMP), song, Mixdown(song, cache)).shape)
    assert shape[0] > 0.9 and shape[-1] < 0.05 and (np.diff(shape) <= 1e-9).all()
    kick = song.part("kick")
    longer = with_strip(song, replace(kick, sound=replace(kick.sound, params={**kick.sound.params, "decay_ms": 900.0})))
    assert np.array(fitted_to_kick(song.curve(PUMP), longer, Mixdown(longer, cache)).shape).sum() > shape.sum()


# The solver ----------------------------------------------------------------------------------------------------------


def off_db(song, survey, cache, *places):
    """Mean distance per third octave in every section, or in those at some places, dB."""
    out = []
    for k in places or range(len(song.sections)):
        lanes = measure_lanes(Mixdown(song, cache), *measured_bars(song, k))
        level = lanes.mix.level_db
        out.append(float(np.abs(level - reference_db(survey, k, level))[in_balance()].mean()))
    return np.array(out)


@pytest.fixture(scope="module")
def balanced(song, club_survey, cache):
    """Of the song's parts the first of each role: fewer are measured sooner."""
    first = {p.role: p.id for p in reversed(song.parts)}
    song = replace(song, parts=tuple(p for p in song.parts if p.id in first.values()))
    spoiled = _with_effect(_louder(_louder(song, "bass", 7), "pad", -8), "pad", hz=450.0, db=9.0, q=1.0)
    return spoiled, balance_song(spoiled, _quiet_intro(club_survey), cache=cache)


def _quiet_intro(survey):
    """The reference with its first section 3 dB quieter than it is."""
    end_s = survey.sections[0].end_s
    quieter = tuple(replace(s, lufs=s.lufs - 3.0) if s.t_s <= end_s else s for s in survey.loudness.short_term)
    return replace(survey, loudness=replace(survey.loudness, short_term=quieter))


def test_a_balance_comes_nearer_to_the_reference_in_every_respect(balanced, club_survey, cache):
    spoiled, solved = balanced
    was, now = off_db(spoiled, club_survey, cache), off_db(solved, club_survey, cache)
    assert now.mean() < was.mean() - 1.0
    assert now[club_survey.main_section()] < 2.5


def test_strips_do_the_work_within_their_limits(balanced):
    _, solved = balanced
    assert max(abs(b.gain_db) for b in solved.master.eq) <= 3.0
    assert all(abs(v) <= 3.0 for s in solved.sections for v in s.levels_db)
    for part in solved.parts:
        eq = part.effect(EQ_ID)
        gains = [v for k, v in eq.params.items() if k.endswith("_db")] if eq else []
        assert all(abs(g) <= MOST_EQ_DB for g in gains)
        assert abs(part.gain_db - STARTS[part.role][1]) <= MOST_FROM_ROLE_DB + 8.0


def test_no_part_is_buried_for_the_sake_of_the_spectrum(song, club_survey, cache, drop):
    pinned = _louder(_louder(song, "lead", -14), "pad", 8)
    assert {"lead"} <= buried(pinned, cache, drop)
    assert not buried(balance_song(pinned, club_survey, sections=(drop,), cache=cache), cache, drop)


def buried(song, cache, place):
    return {c.strips[0] for c in clashes_in(song, Mixdown(song, cache), place) if c.kind == "buried"}


def test_the_sides_are_as_wide_as_the_references_also_behind_the_master(song, club_survey):
    rng = np.random.default_rng(2)
    mid, side = rng.standard_normal(1 << 16), 0.35 * rng.standard_normal(1 << 16)
    bands_told = tuple(replace(b, width=0.3) for b in club_survey.stereo.bands)
    survey = replace(club_survey, stereo=replace(club_survey.stereo, bands=bands_told))

    def through(width):
        return bands.mid_and_side(np.stack([mid + width * side, mid - width * side]).astype(np.float32))

    level = _solve_width(song, survey, through(1.0), 1.0).master.width
    # 2 s / (m + s) = 0.3 where the sides have 0.15 of all power.
    assert level == pytest.approx(np.sqrt(0.15 / 0.85) / 0.35, rel=0.02)
    # What is right already stays, and what had been set too wide comes back.
    for passed in (level, 0.8 * level, 1.1 * level):
        assert _solve_width(song, survey, through(passed), passed).master.width == pytest.approx(level, rel=0.02)


def test_middle_and_sides_have_the_power_of_both_sides_together():
    x = np.random.default_rng(4).standard_normal((2, 40_000)).astype(np.float32)
    mid, side = bands.mid_and_side(x)
    np.testing.assert_allclose(mid + side, bands.power_spectrum(x[0]) + bands.power_spectrum(x[1]), rtol=1e-4)
    common, none = bands.mid_and_side(np.stack([x[0], x[0]]))
    np.testing.assert_allclose(common, 2 * bands.power_spectrum(x[0]), rtol=1e-5)
    assert not none.any()


@pytest.mark.parametrize("most", [4, 8, 16])
def test_bars_that_stand_for_a_section_lie_all_over_it(song, most):
    for bars in range(1, 40):
        stretched = replace(song, sections=(replace(song.sections[0], bars=7), replace(song.sections[1], bars=bars)))
        spans = spread_bars(stretched, 1, most)
        covered = [b for first, last in spans for b in range(first, last + 1)]
        assert covered == sorted(set(covered)) and covered[0] >= 8 and covered[-1] <= 7 + bars
        assert len(covered) == min(bars, most)
        # No stretch of the section is further from one that is measured than half of what a stretch stands for.
        apart = max((b - a for a, b in pairwise([7, *covered, 8 + bars])), default=1)
        assert apart <= 1 + -(-bars * STRETCH // most)


def test_a_quiet_layer_and_one_in_the_place_of_its_leader_are_no_clashes(clean, cache):
    clap, pad = clean.part("clap"), clean.part("pad")
    quiet = replace(clap, id="under", patterns={}, follows=Follows("clap"), gain_db=clap.gain_db - 20)
    double = replace(pad, id="double", patterns={}, follows=Follows("pad", semitones=0))
    layered = replace(clean, parts=(*clean.parts, quiet, double))
    found = clashes_in(layered, Mixdown(layered, cache), 0)
    assert not [c for c in found if c.kind == "buried" and "under" in c.strips]
    assert not [c for c in found if c.kind == "one place" and set(c.strips) == {"pad", "double"}]
    # By itself it is.
    own = replace(quiet, follows=None, patterns=clap.patterns)
    alone = replace(clean, parts=(*clean.parts, own))
    assert [c for c in clashes_in(alone, Mixdown(alone, cache), 0) if c.kind == "buried" and "under" in c.strips]


def test_a_layer_goes_along_with_the_part_that_it_follows(song, club_survey, cache, drop):
    layered = draft_song(club_survey, seed=3)
    spoiled = _louder(layered, "clap", 9)
    solved = balance_song(spoiled, club_survey, sections=(drop,), cache=cache)
    moves = [solved.part(p).gain_db - spoiled.part(p).gain_db for p in ("clap", "clap-layer")]
    assert moves[0] < -2 and abs(moves[0] - moves[1]) < 1.5


def test_locked_strips_stay_and_a_second_balance_moves_little(balanced, club_survey, cache):
    spoiled, solved = balanced
    drop = club_survey.main_section()
    kept = balance_song(spoiled, club_survey, sections=(drop,), locked=frozenset({"pad", "master"}), cache=cache)
    assert kept.part("pad") == spoiled.part("pad") and kept.master == spoiled.master
    assert any(a.gain_db != b.gain_db for a, b in zip(kept.parts, spoiled.parts))
    again = balance_song(solved, _quiet_intro(club_survey), cache=cache)
    first = np.abs([a.gain_db - b.gain_db for a, b in zip(spoiled.parts, solved.parts)])
    second = np.abs([a.gain_db - b.gain_db for a, b in zip(solved.parts, again.parts)])
    assert second.mean() < first.mean()
    # A level that a phrase has is measured with it: it doesn't fall back to nothing.
    levels = [(v, w) for a, b in zip(solved.sections, again.sections) for v, w in zip(a.levels_db, b.levels_db)]
    assert max(abs(v) for v, _ in levels) > 1.5
    assert np.mean([abs(v - w) for v, w in levels]) < 0.6


def test_needless_lows_are_cut_by_role_and_those_who_need_theirs_keep_them(song, club_survey, cache, drop):
    low = _low_pad(song)
    solved = balance_song(low, club_survey, sections=(drop,), cache=cache)
    assert solved.part("pad").low_cut_hz == CUT_HZ["chords"]
    assert [solved.part(p).low_cut_hz for p in ("kick", "bass")] == [low.part(p).low_cut_hz for p in ("kick", "bass")]
    kept = balance_song(low, club_survey, sections=(drop,), locked=frozenset({"pad"}), cache=cache)
    assert kept.part("pad") == low.part("pad")
    assert "low cut 140 Hz" in {c.strip: c.what for c in changes(low, solved)}["pad"]


def test_one_section_alone_leaves_the_master(balanced, club_survey, cache, drop):
    spoiled, _ = balanced
    solved = balance_song(spoiled, club_survey, sections=(drop,), cache=cache)
    assert solved.master == spoiled.master and solved.sections == spoiled.sections
    assert off_db(solved, club_survey, cache, drop) < off_db(spoiled, club_survey, cache, drop)


def test_a_song_without_the_references_main_section_is_balanced_by_what_it_has(balanced, club_survey, cache):
    spoiled, _ = balanced
    first = spoiled.sections[0]
    parts = tuple(replace(p, cells=tuple(c for c in p.cells if c.section == first.id)) for p in spoiled.parts)
    alone = replace(spoiled, parts=parts, sections=(first,), transitions=())
    solved = balance_song(alone, club_survey, cache=cache)
    assert all(np.isfinite(b.gain_db) for b in solved.master.eq) and any(b.gain_db for b in solved.master.eq)
    # Of one that shares no section with it the loudness alone is brought there.
    strange = replace(alone, sections=(replace(first, label="bridge"),), master=replace(alone.master, gain_db=-30.0))
    solved = balance_song(strange, club_survey, cache=cache)
    assert solved.master.gain_db > -25.0
    assert replace(solved, master=replace(solved.master, gain_db=strange.master.gain_db)) == strange


def test_what_was_changed_is_said_strip_by_strip(song):
    moved = with_strip(song, replace(song.part("pad"), gain_db=song.part("pad").gain_db - 2.5, duck=ducked(PUMP, 9.0)))
    moved = with_strip(moved, replace(moved.part("bass"), chain=(Effect("eq", {"band1_hz": 90.0, "band1_db": 3.0},
                                                                        {"band1_kind": "bell"}, id=EQ_ID),)))  # fmt: skip
    said = {c.strip: c.what for c in changes(song, moved)}
    assert set(said) == {"pad", "bass"}
    assert "fader −2.5 dB" in said["pad"] and "ducking" in said["pad"] and said["bass"].endswith("+3.0 dB at 90 Hz")
    assert changes(song, song) == []


def test_a_strip_that_was_moved_says_what_was_off_where_it_is_most_of_the_mix(balanced, club_survey, cache):
    """The bass was 7 dB up: it comes down because of what the mix had too much of in its own bands."""
    spoiled, solved = balanced
    why = reasons(spoiled, solved, club_survey, Mixdown(spoiled, cache))
    off, low, unit = re.search(r"had ([\d.]+) dB too much (?:at|from) ([\d.]+) (k?Hz)", why["bass"]).groups()
    assert solved.part("bass").gain_db < spoiled.part("bass").gain_db
    assert 1 < float(off) < 9 and unit == "Hz" and float(low) < 100
    assert "loud as the reference" in why["master"]
    said = {c.strip: c.why for c in changes(spoiled, solved, why)}
    assert said["bass"] == why["bass"]
    assert reasons(spoiled, spoiled, club_survey, Mixdown(spoiled, cache)) == {}


# Registers -----------------------------------------------------------------------------------------------------------


def test_a_part_an_octave_too_high_is_brought_down_and_one_in_place_stays(song, club_survey):
    """The reference is what the song itself has: of the song with its pad an octave up the pad comes down again."""
    song = with_strip(song, _plain_pad(song))
    mixdown = Mixdown(song, RenderCache())
    powers = measure_powers(song, club_survey, mixdown)
    own = 10 * np.log10(powers.parts.sum(axis=0) + powers.rest + 1e-12)
    part = next(
        p for p in song.parts if p.role == "chords" and p.id in powers.ids and powers.parts[powers.ids.index(p.id)].sum() > 0
    )
    here = replace(powers, targets=own)
    assert with_registers(song, here) == song
    higher = with_strip(song, transposed(part, 12))
    moved = measure_powers(higher, club_survey, mixdown.varied(higher))
    # The louder the pad, the more its register tells.
    loud = powers.parts.copy(), moved.parts.copy()
    for table in loud:
        table[powers.ids.index(part.id)] *= 30
    wanted = 10 * np.log10(loud[0].sum(axis=0) + powers.rest + 1e-12)
    found = with_registers(higher, replace(moved, parts=loud[1], targets=wanted))
    assert found.part(part.id).patterns == part.patterns


def test_notes_stay_within_what_can_be_played(song):
    part = next(p for p in song.parts if p.role == "chords")
    up, down = transposed(part, 12), transposed(transposed(part, 12), -12)
    assert down == part
    for name, pattern in part.patterns.items():
        assert [n.midi + 12 for n in pattern.notes] == [n.midi for n in up.patterns[name].notes]


# Room ----------------------------------------------------------------------------------------------------------------


def wetter(song, by_db):
    to = song.return_with("reverb")[0].id
    return with_each(
        song, lambda s: replace(s, sends={n: replace(v, db=v.db + by_db) if n == to else v for n, v in s.sends.items()})
    )


def sends_of(song):
    to = song.return_with("reverb")[0].id
    return np.array([s.sends[to].db for s in song.strips() if to in s.sends])


@pytest.fixture(scope="module")
def roomy(song, club_survey, cache):
    """A song of hits and room, and a survey that says what lies between its hits."""
    hits = tuple(p for p in song.parts if p.id in ("kick", "clap", "hats"))
    to = song.return_with("reverb")[0].id
    sent = {"clap": {to: Send(-9.0)}, "hats": {to: Send(-9.0)}}
    bare = replace(song, parts=tuple(replace(p, sends=sent.get(p.role, {})) for p in hits))
    mixdown = Mixdown(bare, cache)
    place = club_survey.main_section()
    first, last = measured_bars(bare, place)
    own = bands_of_samples(mixdown.strip_samples(MASTER, first, last), RATE_HZ)
    rows = list(club_survey.stereo.per_section)
    rows[place] = SectionBands(own)
    return bare, replace(club_survey, stereo=replace(club_survey.stereo, per_section=tuple(rows))), place, (first, last)


@pytest.mark.parametrize("by_db", [-12.0, 12.0])
def test_too_dry_and_too_wet_are_brought_back_towards_the_reference(roomy, cache, by_db):
    song, survey, place, bars = roomy
    spoiled = wetter(song, by_db)
    found = solve_room(spoiled, survey, Mixdown(spoiled, cache), *bars, place)
    moved = sends_of(found) - sends_of(spoiled)
    assert (np.sign(moved) == -np.sign(by_db)).all() and (np.abs(moved) >= 3.0).all()


def test_room_that_is_right_or_locked_or_untold_stays(roomy, cache, club_survey):
    song, survey, place, bars = roomy
    assert solve_room(song, survey, Mixdown(song, cache), *bars, place) == song
    dry = wetter(song, -12.0)
    mixdown = Mixdown(dry, cache)
    assert solve_room(dry, survey, mixdown, *bars, place, frozenset(s.id for s in dry.strips())) == dry
    earlier = replace(survey, stereo=replace(survey.stereo, per_section=()))
    assert solve_room(dry, earlier, mixdown, *bars, place) == dry
    found = solve_room(dry, survey, mixdown, *bars, place)
    said = [c.what for c in changes(dry, found)]
    assert said and all("send to Reverb +" in what for what in said)


def test_power_behind_the_master_is_that_of_what_its_filters_let_through(song):
    """Uneven noise whose sides are another's: what the spectrum says against filtering it."""
    rng = np.random.default_rng(4)
    x = np.cumsum(rng.standard_normal((2, 8 * RATE_HZ)), axis=1)
    x = (x - np.stack([np.convolve(side, np.ones(4000) / 4000, "same") for side in x])).astype(np.float32)
    master = replace(song.master, low_cut_hz=35.0, mono_below_hz=160.0, width=1.0, eq=())
    filtered = bands.band_power(tone(x, master), RATE_HZ)
    heard = np.array(bands.NOMINAL_HZ) >= 25
    assert 10 * np.log10(power_behind_master(x, master) / filtered)[heard] == pytest.approx(0.0, abs=0.2)

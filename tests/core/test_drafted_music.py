"""The grammar of what a draft plays beside its hook: laws that hold for every style, key, energy and seed."""

import random
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.draft import basses, drums, harmony
from ersatz.core.draft.patterns import BAR, PHRASE_BARS, STEP, WRITTEN_BARS, by_energy
from ersatz.core.pitch import SCALES, TONICS, Key, hz_midi
from ersatz.core.styles import BACKBEATS, BY_NAME, KICKS, STYLES, kick_family

FOUR = tuple(float(i % 4 == 0) for i in range(16))
LOW = 31
KEYS = st.builds(Key, st.sampled_from(TONICS), st.sampled_from(sorted(SCALES)))
SEEDS = st.integers(0, 10_000)
ENERGIES = st.sampled_from((-1, 0, 1))
FAMILIES = st.sampled_from(sorted(KICKS))
LAST = WRITTEN_BARS - 1


def steps(pattern, bar):
    return {n.tick % BAR // STEP for n in pattern.notes if n.tick // BAR == bar}


def in_order(pattern):
    ticks = [n.tick for n in pattern.notes]
    return ticks == sorted(ticks) and ticks[-1] < pattern.bars * BAR and ticks[0] >= 0


# Harmony -------------------------------------------------------------------------------------------------------------


@st.composite
def progressions(draw):
    style, key, seed = draw(st.sampled_from(STYLES)), draw(KEYS), draw(SEEDS)
    return style, key, harmony.progression(style, key, (), random.Random(seed))


@given(progressions())
def test_sixteen_bars_begin_on_the_tonic_and_end_on_another_chord_the_second_time(made):
    style, key, degrees = made
    assert len(degrees) == WRITTEN_BARS and degrees[0] == 0
    assert degrees[: LAST - PHRASE_BARS] == degrees[PHRASE_BARS:LAST]
    assert degrees[LAST] != degrees[PHRASE_BARS - 1]
    assert degrees[:4] in harmony.PROGRESSIONS[style.progressions, key.mode]


@pytest.mark.parametrize("mode", ["minor", "major"])
@pytest.mark.parametrize("seed", range(6))
def test_the_references_own_progression_is_never_taken(mode, seed):
    style, key = BY_NAME["disco-house"], Key("Bb", mode)
    for reference in harmony.PROGRESSIONS["four", mode]:
        for turn in range(4):
            turned = reference[turn:] + reference[:turn]
            degrees = harmony.progression(style, key, turned, random.Random(seed))
            assert reference not in [degrees[k : k + 4] for k in range(0, 16, 4)]


@given(progressions(), st.sampled_from(sorted(harmony.COLOURS)))
def test_voices_lie_in_their_range_and_hold_or_step_more_than_they_leap(made, colour):
    _, key, degrees = made
    chords = harmony.voicings(key, degrees, colour)
    for chord, degree in zip(chords, degrees):
        wanted = {key.degree_midi(degree + k, 60) % 12 for k in harmony.steps_of(degree, colour)}
        assert {m % 12 for m in chord} == wanted and len(set(chord)) == 4
        assert min(chord) >= harmony.LOWEST and max(chord) <= harmony.HIGHEST and chord == tuple(sorted(chord))
    moves = [abs(x - y) for a, b in pairwise((*chords, chords[0])) for x, y in zip(a, b)]
    assert sum(m <= 2 for m in moves) > 0.45 * len(moves)
    assert max(moves) <= 9


@given(progressions())
def test_tones_that_two_triads_share_are_mostly_held(made):
    _, key, degrees = made
    chords = harmony.voicings(key, degrees, "triads")
    shared = held = 0
    for a, b in pairwise(chords):
        common = {m % 12 for m in a} & {m % 12 for m in b}
        shared += len(common)
        held += len({m % 12 for m in set(a) & set(b)} & common)
    assert held >= 0.6 * shared


@given(progressions(), st.sampled_from(sorted(harmony.COLOURS)), st.sampled_from(sorted(harmony.HELD)), SEEDS)
def test_a_pad_holds_what_the_next_chord_shares_and_never_strikes_a_sounding_note(made, colour, rhythm, seed):
    _, key, degrees = made
    chords = harmony.voicings(key, degrees, colour)
    pattern = harmony.pad(chords, degrees, colour, rhythm, key, random.Random(seed))
    assert pattern.bars == WRITTEN_BARS and in_order(pattern)
    assert {n.midi % 12 for n in pattern.notes} <= set(key.pitch_classes)
    for midi in {n.midi for n in pattern.notes}:
        line = [n for n in pattern.notes if n.midi == midi]
        assert all(a.tick + a.ticks <= b.tick for a, b in pairwise(line))
        assert line[-1].tick + line[-1].ticks <= WRITTEN_BARS * BAR
    for bar in range(0, WRITTEN_BARS, 4):
        assert {n.midi for n in pattern.notes if n.tick == bar * BAR} >= set(chords[bar]) - {
            n.midi for n in pattern.notes if n.tick < bar * BAR < n.tick + n.ticks
        }


@given(progressions(), st.sampled_from(sorted(harmony.COLOURS)), st.floats(80, 160))
def test_roots_under_a_pad_are_each_bars_own_and_low_but_no_bass(made, colour, near_hz):
    _, key, degrees = made
    held = harmony.pad(harmony.voicings(key, degrees, colour), degrees, colour, "whole", key, random.Random(1))
    pattern = harmony.on_roots(held, degrees, key, near_hz)
    assert in_order(pattern)
    for bar, degree in enumerate(degrees):
        sounding = [n.midi for n in pattern.notes if n.tick <= bar * BAR < n.tick + n.ticks]
        assert len(sounding) == len(set(sounding))
        root = min(sounding)
        assert root % 12 == key.degree_midi(degree, 60) % 12
        assert root >= harmony.LOWEST_ROOT and root <= max(hz_midi(near_hz), harmony.LOWEST_ROOT + 5) + 7


def test_a_suspended_dominant_lets_its_fourth_down_to_the_third():
    key, degrees = Key("C", "minor"), (0, 3, 5, 4) * 4
    pattern = harmony.pad(harmony.voicings(key, degrees, "suspended"), degrees, "suspended", "whole", key, random.Random(1))
    bar = [n for n in pattern.notes if n.tick // BAR == 3]
    first, second = ({n.midi % 12 for n in bar if n.tick % BAR == at} for at in (0, 8 * STEP))
    assert 0 in first and 10 not in first and second == {10}


@given(progressions(), FAMILIES, ENERGIES, SEEDS)
def test_stabs_play_their_bars_chord(made, family, energy, seed):
    style, key, degrees = made
    chords = harmony.voicings(key, degrees, style.colour)
    pattern = harmony.stabs(chords, family, energy, random.Random(seed))
    for n in pattern.notes:
        assert n.midi % 12 in {m % 12 for m in chords[n.tick // BAR]}
    assert steps(pattern, 0) != steps(pattern, 3)


# Basses --------------------------------------------------------------------------------------------------------------


@st.composite
def bass_lines(draw, talks=None):
    style, key, degrees = draw(progressions())
    talking = draw(st.booleans()) if talks is None else talks
    made = basses.lines(style.bass, key, degrees, LOW, draw(ENERGIES), random.Random(draw(SEEDS)), talking)
    return key, degrees, made


@given(bass_lines())
def test_basses_are_low_of_the_scale_and_one_note_at_a_time(made):
    key, _, lines = made
    for pattern in (lines.bass, lines.answer, lines.sub):
        if pattern is None:
            continue
        assert pattern.bars == WRITTEN_BARS and in_order(pattern)
        assert {n.midi % 12 for n in pattern.notes} <= set(key.pitch_classes)
        assert all(24 <= n.midi <= 62 and n.ticks > 0 for n in pattern.notes)
        assert all(a.tick + a.ticks <= b.tick for a, b in pairwise(pattern.notes))
        assert pattern.notes[-1].tick + pattern.notes[-1].ticks <= WRITTEN_BARS * BAR


@given(bass_lines(False))
def test_each_bar_of_a_bass_begins_on_its_root_but_where_it_leads_on(made):
    key, degrees, lines = made
    for bar in range(WRITTEN_BARS):
        first = next(n for n in lines.bass.notes if n.tick // BAR == bar)
        assert first.midi % 12 == key.degree_midi(degrees[bar], LOW) % 12


@given(bass_lines(False))
def test_a_bass_passes_into_the_next_chord_and_leads_back_to_its_beginning(made):
    key, degrees, lines = made
    for bar in (3, 11):
        here, there = (key.degree_midi(degrees[b], LOW) % 12 for b in (bar, bar + 1))
        last = [n for n in lines.bass.notes if n.tick // BAR == bar][-1]
        if here != there:
            following = next(n for n in lines.bass.notes if n.tick // BAR == bar + 1)
            assert (last.midi - there) % 12 in (1, 2, 10, 11)
            assert following.tick > last.tick
    leading = [n for n in lines.bass.notes if n.tick >= LAST * BAR + basses.LEADS_FROM * STEP]
    assert len(leading) == 2 and 1 <= abs(leading[-1].midi - lines.bass.notes[0].midi) <= 2


@given(bass_lines(True))
def test_two_basses_talk_in_turn_over_one_sub(made):
    _, _, lines = made
    assert {n.tick // BAR % 4 for n in lines.bass.notes} == {0, 1}
    assert {n.tick // BAR % 4 for n in lines.answer.notes} == {2, 3}
    both = sorted((*lines.bass.notes, *lines.answer.notes), key=lambda n: n.tick)
    assert all(a.tick + a.ticks <= b.tick for a, b in pairwise(both))
    starts = {n.tick for n in both}
    assert {n.tick for n in lines.sub.notes} <= starts
    assert all(n.midi <= LOW + 6 for n in lines.sub.notes)


@pytest.mark.parametrize("rhythm", basses.SLIDING)
def test_slides_end_on_the_note_that_follows(rhythm):
    slid = 0
    for seed in range(20):
        degrees = harmony.progression(BY_NAME["disco-house"], Key("A", "minor"), (), random.Random(seed))
        line = basses.lines((rhythm,), Key("A", "minor"), degrees, LOW, 0, random.Random(seed), False).bass
        for a, b in pairwise(line.notes):
            if a.bend:
                slid += 1
                assert a.midi + a.bend[-1][1] == b.midi and a.bend[-1][0] == a.ticks
                assert b.tick - (a.tick + a.ticks) <= basses.BREATH
    assert slid


def test_rolling_basses_leave_the_kick_alone():
    for figure in basses.FIGURES["rolling"]:
        assert not {step for step, _, _ in figure} & {0, 4, 8, 12}


# Drums ---------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("style", STYLES, ids=lambda s: s.name)
def test_kicks_keep_the_references_steps_and_turn_around_in_the_eighth_bar(style):
    row = tuple(float(i in (0, 7, 10)) for i in range(16))
    found = drums.kick_steps(style, row, random.Random(1))
    assert found == (0, 7, 10)
    pattern = drums.kick(found, style.kick, random.Random(1))
    assert all(steps(pattern, bar) == {0, 7, 10} for bar in range(LAST) if bar != 7)
    assert steps(pattern, 7) > steps(pattern, 0) and steps(pattern, LAST) != steps(pattern, 0)


def test_a_row_that_is_no_pattern_falls_back_to_the_style():
    assert drums.kick_steps(BY_NAME["tech-house"], (0.0,) * 16, random.Random(1)) == (0, 4, 8, 12)


@pytest.mark.parametrize(
    ("row", "bpm", "family"),
    [(FOUR, 125, "four"), ((1,) + (0,) * 9 + (1,) + (0,) * 5, 174, "two-step"), ((1, 0, 0, 1) + (0,) * 12, 130, "broken"),
     ((1,) + (0,) * 15, 85, "half"), ((0,) * 16, 125, "four")],
)  # fmt: skip
def test_kick_families(row, bpm, family):
    assert kick_family(row, bpm) == family


@given(FAMILIES, ENERGIES, SEEDS)
def test_drums_bring_something_new_by_the_eighth_and_the_sixteenth_bar(family, energy, seed):
    rng = random.Random(seed)
    made = (
        drums.kick(KICKS[family][0], family, rng), drums.backbeat(family, energy, rng), drums.closed_hats((), energy, rng),
        drums.open_hats(family, rng), drums.shaker(energy, rng), drums.percussion(KICKS[family][0], family, rng),
    )  # fmt: skip
    for pattern in made:
        bars = [
            [(n.tick % BAR, n.velocity, n.repeats, n.semitones) for n in pattern.notes if n.tick // BAR == bar]
            for bar in range(WRITTEN_BARS)
        ]
        assert pattern.bars == WRITTEN_BARS and in_order(pattern) and all(0 < n.velocity <= 1 for n in pattern.notes)
        assert bars[LAST] != bars[LAST - 2]
        assert len({tuple(b) for b in bars}) >= 2
    ghosts = [n for n in made[1].notes if n.velocity < 0.5]
    assert ghosts and not {n.tick % BAR // STEP for n in ghosts} & set(BACKBEATS[family])


@given(FAMILIES, SEEDS)
def test_percussion_answers_the_kick_where_neither_it_nor_the_backbeat_is(family, seed):
    rng = random.Random(seed)
    kicked = rng.choice(KICKS[family])
    pattern = drums.percussion(kicked, family, rng)
    for bar in range(LAST):
        assert not steps(pattern, bar) & {*kicked, *BACKBEATS[family]}
        assert len(steps(pattern, bar)) >= 2
    assert steps(pattern, 3) != steps(pattern, 0)
    falls = [n.semitones for n in pattern.notes if n.tick // BAR == LAST]
    assert falls == sorted(falls, reverse=True) and falls[0] > falls[-1]


def test_hats_lean_to_the_references_accents_but_keep_their_own_places():
    theirs = [0.0] * 16
    theirs[2] = theirs[10] = 1.0
    theirs[0] = 0.1
    plain, leaning = (drums.closed_hats(t, 0, random.Random(4)) for t in ((), theirs))
    assert [n.tick for n in plain.notes] == [n.tick for n in leaning.notes]
    by_step = [{n.tick // STEP: n.velocity for n in p.notes if n.tick < BAR} for p in (plain, leaning)]
    for step, velocity in by_step[0].items():
        wanted = velocity if not theirs[step] else (velocity + theirs[step]) / 2
        assert by_step[1][step] == pytest.approx(wanted, abs=1e-3)


def test_energy_takes_the_busier_or_the_calmer_half_and_leaves_a_choice():
    options = ["a", "aaaa", "aa", "aaa"]
    assert by_energy(options, len, 0) == options
    assert by_energy(options, len, 1) == ["aaa", "aaaa"] and by_energy(options, len, -1) == ["a", "aa"]
    assert len(by_energy(["a", "bb"], len, 1)) == 2
    assert len(drums.shaker(-1, random.Random(1)).notes) < len(drums.shaker(0, random.Random(1)).notes)


@given(FAMILIES, SEEDS)
def test_the_same_chance_gives_the_same_notes(family, seed):
    def made():
        rng, key = random.Random(seed), Key("D", "minor")
        degrees = harmony.progression(BY_NAME["disco-house"], key, (), rng)
        return drums.percussion(KICKS[family][0], family, rng), basses.lines(("tech", "call"), key, degrees, LOW, 0, rng, True)

    assert made() == made()

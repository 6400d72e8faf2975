"""The grammar of hooks: laws that hold for every kind, key, progression and seed."""

import random
from dataclasses import replace
from itertools import pairwise

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from ersatz.core.draft.harmony import PROGRESSIONS
from ersatz.core.draft.hooks import BY_SOUND, KINDS, RHYTHMS, halved, hook, kind_of, phrases
from ersatz.core.draft.patterns import BAR, PHRASE_BARS, STEP, WRITTEN_BARS
from ersatz.core.pitch import SCALES, TONICS, Key
from ersatz.core.styles import STYLES

LOW = 67
TUNES = tuple(RHYTHMS)
ALL = (*TUNES, "stab", "off-beat stab", "arpeggio", "acid", "siren")
KEYS = st.builds(Key, st.sampled_from(TONICS), st.sampled_from(sorted(SCALES)))
SEEDS = st.integers(0, 10_000)


@st.composite
def hooks(draw, kinds=ALL):
    kind, key, seed = draw(st.sampled_from(kinds)), draw(KEYS), draw(SEEDS)
    progression = draw(st.sampled_from([p for (_, mode), ps in PROGRESSIONS.items() if mode == key.mode for p in ps]))
    return kind, key, progression, hook(kind, key, progression, LOW, random.Random(seed))


def chord(key, degrees, tick):
    degree = degrees[tick // BAR % len(degrees)]
    return {key.degree_midi(degree + third, LOW) % 12 for third in (0, 2, 4)}


def intervals(pattern):
    return [b.midi - a.midi for a, b in pairwise(pattern.notes)]


@given(hooks())
def test_notes_are_of_the_scale_one_at_a_time_and_within_eight_bars(made):
    _, key, _, pattern = made
    assert pattern.bars == PHRASE_BARS and len(pattern.notes) >= 4
    assert {n.midi % 12 for n in pattern.notes} <= set(key.pitch_classes)
    for a, b in pairwise(pattern.notes):
        assert a.tick < b.tick
        assert a.tick + min(a.ticks, STEP) <= b.tick
    assert pattern.notes[-1].tick + pattern.notes[-1].ticks <= PHRASE_BARS * BAR
    assert all(0 < n.velocity <= 1 for n in pattern.notes)


@given(hooks(tuple(k for k in ALL if k != "acid")))
def test_hooks_lie_within_an_octave_and_a_third(made):
    _, _, _, pattern = made
    midi = [n.midi for n in pattern.notes]
    assert max(midi) - min(midi) <= 16
    assert min(midi) >= LOW and max(midi) <= LOW + 19


@given(hooks(tuple(k for k in ALL if k not in ("acid", "siren"))))
def test_strong_beats_stand_on_tones_of_the_chord(made):
    _, key, degrees, pattern = made
    strong = [n for n in pattern.notes if n.tick % (4 * STEP) == 0]
    inside = [n.midi % 12 in chord(key, degrees, n.tick) for n in strong]
    assert not strong or sum(inside) / len(inside) >= 0.75


@example(("anthem", Key("G", "major"), (0, 0, 0, 0), hook("anthem", Key("G", "major"), (0, 0, 0, 0), LOW, random.Random(142))))
@given(hooks(tuple(k for k in TUNES if k != "bell")))
def test_tunes_go_by_steps_more_than_by_leaps(made):
    """Bells ring the chord: of their few notes most stand on a beat."""
    moves = intervals(made[3])
    leaps = sum(abs(i) >= 5 for i in moves)
    assert sum(1 <= abs(i) <= 2 for i in moves) > leaps or not leaps


@given(hooks(TUNES))
def test_no_tune_leaps_over_a_fifth_unless_it_steps_back(made):
    moves = intervals(made[3])
    assert all(abs(a) <= 7 or a * b < 0 for a, b in pairwise(moves)) and abs(moves[-1]) <= 7


@given(hooks(TUNES))
def test_a_tune_is_stated_repeated_answered_and_closed(made):
    _, key, degrees, pattern = made
    cells = [[n for n in pattern.notes if n.tick // (2 * BAR) == k] for k in range(4)]
    rhythm = [[n.tick % (2 * BAR) for n in cell] for cell in cells]
    assert rhythm[0] == rhythm[1]
    assert rhythm[2] != rhythm[0]
    assert rhythm[3][: len(rhythm[3]) - 1] == rhythm[0][: len(rhythm[3]) - 1]
    # It closes on the root of the last chord.
    root = key.degree_midi(degrees[(PHRASE_BARS - 1) % len(degrees)], LOW) % 12
    last = cells[3][-1]
    assert last.tick // BAR < PHRASE_BARS - 1 or last.midi % 12 == root


def test_a_tune_closes_on_the_root_wherever_its_contour_would_lead():
    """One bell in a thousand went elsewhere."""
    key, degrees = Key("C", "major"), (0, 5, 3, 4)
    last = [hook("bell", key, degrees, LOW, random.Random(seed)).notes[-1] for seed in range(1000)]
    assert {n.midi % 12 for n in last if n.tick // BAR == PHRASE_BARS - 1} == {7}


@given(hooks(TUNES))
def test_there_is_one_climax_and_room_to_breathe(made):
    _, _, _, pattern = made
    top = max(n.midi for n in pattern.notes)
    assert {n.tick // (2 * BAR) for n in pattern.notes if n.midi == top} == {2}
    assert sum(n.ticks for n in pattern.notes) < 0.9 * PHRASE_BARS * BAR


@given(hooks(("arpeggio",)))
def test_an_arpeggio_plays_the_chord_and_holds_a_tone(made):
    _, key, degrees, pattern = made
    for n in pattern.notes:
        assert n.midi % 12 in chord(key, degrees, n.tick)
    for bar in range(PHRASE_BARS):
        midi = [n.midi for n in pattern.notes if n.tick // BAR == bar]
        assert max(midi.count(m) for m in midi) >= 0.3 * len(midi)


@given(hooks(("stab", "off-beat stab")))
def test_stabs_play_two_notes_a_chord(made):
    _, key, degrees, pattern = made
    for bar in range(PHRASE_BARS):
        midi = {n.midi for n in pattern.notes if n.tick // BAR == bar}
        assert len(midi) == 2 and {m % 12 for m in midi} <= chord(key, degrees, bar * BAR)


@given(hooks(("acid",)))
def test_acid_slides_reach_the_next_note(made):
    _, _, _, pattern = made
    slid = [(a, b) for a, b in pairwise(pattern.notes) if a.bend]
    assert slid
    for a, b in slid:
        assert a.tick + a.ticks == b.tick and a.bend[-1] == (float(a.ticks), float(b.midi - a.midi))
    assert {n.velocity for n in pattern.notes} == {0.72, 1.0}


@given(st.sampled_from(ALL), KEYS, SEEDS)
def test_the_same_seed_gives_the_same_hook(kind, key, seed):
    first, second = (hook(kind, key, (0, 5, 3, 4), LOW, random.Random(seed)) for _ in range(2))
    assert first == second


@given(st.sampled_from(ALL), KEYS, SEEDS)
def test_the_second_phrase_is_the_first_where_its_chords_are(kind, key, seed):
    """Sixteen bars: what stands over the same chords is the same, but for the cell in which one has changed."""
    degrees = (0, 5, 3, 4, 0, 5, 3, 4, 0, 5, 3, 4, 0, 5, 3, 6)
    pattern = phrases(kind, key, degrees, LOW, random.Random(seed))
    assert pattern.bars == WRITTEN_BARS
    half = PHRASE_BARS * BAR
    first = [n for n in pattern.notes if n.tick < half]
    second = [replace(n, tick=n.tick - half) for n in pattern.notes if n.tick >= half]
    assert [n.tick for n in first] == [n.tick for n in second]
    assert [n for n in first if n.tick < half - 2 * BAR] == [n for n in second if n.tick < half - 2 * BAR]


@given(hooks(TUNES))
def test_halved_a_hook_keeps_its_own_notes_and_holds_them(made):
    _, _, _, pattern = made
    sung = halved(pattern)
    own = {(n.tick, n.midi) for n in pattern.notes}
    assert {(n.tick, n.midi) for n in sung.notes} <= own
    assert len(sung.notes) < len(pattern.notes) and len(sung.notes) <= 2 * pattern.bars
    assert all(a.tick + a.ticks <= b.tick for a, b in pairwise(sung.notes))
    assert sum(n.ticks for n in sung.notes) > sum(n.ticks for n in pattern.notes)
    # A beat goes before what lies between.
    for n in sung.notes:
        half = n.tick // (BAR // 2)
        if n.tick % (4 * STEP):
            assert not any(m.tick // (BAR // 2) == half and m.tick % (4 * STEP) == 0 for m in pattern.notes)


@pytest.mark.parametrize("kind", [k for k in ALL if k != "siren"])
def test_energy_chooses_among_the_busier_and_the_calmer_rhythms(kind):
    def onsets(energy):
        made = (hook(kind, Key("A", "minor"), (0, 5, 3, 4), LOW, random.Random(seed), energy) for seed in range(30))
        return sum(len(p.notes) for p in made)

    assert onsets(-1) < onsets(0) < onsets(1) or onsets(-1) < onsets(1) == onsets(0)


@pytest.mark.parametrize("kind", TUNES)
def test_no_two_seeds_sing_the_same(kind):
    made = {hook(kind, Key("A", "minor"), (0, 5, 3, 4), LOW, random.Random(seed)).notes for seed in range(40)}
    assert len(made) >= 36


def test_every_style_has_kinds_and_sounds_may_ask_for_their_own():
    rng = random.Random(1)
    for style in STYLES:
        assert {kind_of(style.lead, (), rng) for _ in range(40)} == set(KINDS[style.lead])
    for word, kind in BY_SOUND.items():
        assert kind_of("hook", ("mono", word), rng) == kind and kind in ALL

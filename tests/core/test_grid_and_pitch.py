"""One time base and the names of notes."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.grid import TICKS_PER_BEAT, BarGrid
from ersatz.core.pitch import TONICS, Key, degree_name, degree_semitones, hz_midi, midi_hz, note_name, parse_tonic

grids = st.builds(BarGrid, st.floats(60, 200), st.floats(0, 3))


@given(grids, st.integers(0, 4_000_000))
def test_ticks_survive_the_way_through_seconds(grid, ticks):
    assert grid.ticks_at(grid.seconds_of_ticks(ticks)) == ticks


@given(grids, st.integers(1, 400))
def test_bars_ticks_and_samples_agree(grid, bar):
    assert grid.seconds_of_bar(bar) == pytest.approx(grid.seconds_of_ticks(grid.ticks_of_bar(bar)))
    assert grid.sample_of_bar(bar, 44_100) == grid.sample_of_ticks(grid.ticks_of_bar(bar), 44_100)
    assert grid.bar_at(grid.seconds_of_bar(bar)) == pytest.approx(bar)


def test_a_bar_at_120_is_two_seconds():
    grid = BarGrid(120, 0.5)
    assert grid.seconds_of_bar(2) == 2.5
    assert grid.ticks_of_bar(2) == 4 * TICKS_PER_BEAT
    assert grid.bars_in(4.55) == 2


@given(st.integers(0, 127))
def test_midi_and_hz_are_inverse(midi):
    assert hz_midi(midi_hz(midi)) == pytest.approx(midi)


def test_names():
    assert midi_hz(69) == 440
    assert note_name(69) == "A4"
    assert note_name(34) == "B♭1"
    assert [parse_tonic(n) for n in ("A#", "db", "E♯", "Cb")] == ["Bb", "C#", "F", "B"]
    with pytest.raises(ValueError, match="no such note"):
        parse_tonic("H")
    with pytest.raises(ValueError, match="no such key"):
        Key("A#", "minor")


@given(st.sampled_from(TONICS), st.sampled_from(["major", "minor"]), st.integers(-7, 14), st.integers(24, 72))
def test_scale_degrees_lie_in_the_key_and_octaves_repeat(tonic, mode, degree, low):
    key = Key(tonic, mode)
    midi = key.degree_midi(degree, low)
    assert midi % 12 in key.pitch_classes
    assert key.degree_midi(degree + 7, low) == midi + 12
    assert low <= key.degree_midi(0, low) < low + 12


def test_degree_names_count_against_the_major_scale():
    key = Key("Bb", "minor")
    assert [degree_name(46 + s, key) for s in (0, 3, 7, 10)] == ["1", "♭3", "5", "♭7"]
    assert all(degree_semitones(degree_name(46 + s, key)) == s for s in range(12))

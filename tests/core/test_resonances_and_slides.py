"""Narrow peaks and sliding bass notes, on signals that have them or only look as if."""

import numpy as np
import pytest
from scipy import signal

from ersatz.core.audio import Audio
from ersatz.core.grid import BarGrid
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import BassNote
from ersatz.core.survey.resonances import find_resonances
from ersatz.core.survey.shared import LOW_HZ, prepare
from ersatz.core.survey.slides import find_slides
from tests.signals import RATE, both


def peaked(x, hz, q, gain_db):
    b, a = signal.iirpeak(hz, q, fs=RATE)
    return x + (10 ** (gain_db / 20) - 1) * signal.lfilter(b, a, x)


def saw(hz, seconds):
    t = np.arange(int(seconds * RATE)) / RATE
    return sum(np.sin(2 * np.pi * hz * k * t + k) / k for k in range(1, int(9000 / hz)))


def melody(notes, each_s=0.4):
    return np.concatenate([saw(440 * 2 ** ((n - 69) / 12), each_s) for n in notes])


def found(x):
    return find_resonances(prepare(Audio((0.1 * both(x)).astype(np.float32), RATE)))


@pytest.mark.parametrize("hz", [1000, 1700, 2500, 4000, 6500])
def test_a_peak_in_noise_is_found_where_it_is(hz):
    noise = np.random.default_rng(2).standard_normal(20 * RATE)
    (peak,) = found(peaked(noise, hz, 14, 14))
    assert peak.hz == pytest.approx(hz, rel=0.04)
    assert 7 < peak.over_db < 15


def test_a_peak_rings_through_all_notes_of_a_line():
    line = melody([57, 60, 64, 67, 62, 65, 69, 72] * 6)
    assert found(line) == ()
    (peak,) = found(peaked(line, 2500, 12, 16))
    assert peak.hz == pytest.approx(2500, rel=0.09)


def test_a_held_tone_is_no_resonance():
    noise = np.random.default_rng(3).standard_normal(20 * RATE)
    t = np.arange(20 * RATE) / RATE
    assert found(noise + 3 * np.sin(2 * np.pi * 2500 * t)) == ()
    assert found(noise) == ()


def test_what_is_shorter_than_a_frame_has_no_resonances():
    assert found(np.ones(1000)) == ()


BEAT_S = 0.5


def bass(pitch_of_beat, beats):
    """A bass with four partials at LOW_HZ whose note is a function of the beat."""
    t = np.arange(int(beats * BEAT_S * LOW_HZ)) / LOW_HZ
    hz = 440 * 2 ** ((pitch_of_beat(t / BEAT_S) - 69) / 12)
    phase = 2 * np.pi * np.cumsum(hz) / LOW_HZ
    return sum(np.sin(k * phase) / k for k in (1, 2, 3, 4))


def slides(low, notes):
    bars = BarTable(BarGrid(60 / BEAT_S, 0.0, 4), 4, np.arange(5) * 4 * BEAT_S)
    return [n.slide_semitones for n in find_slides(low, bars, 0.0, notes)]


def line(*midi):
    return tuple(BassNote(2.0 * i, 2.0, m, 0.9) for i, m in enumerate(midi))


@pytest.mark.parametrize(("first", "last"), [(33, 45), (45, 33), (33, 40), (43, 36)])
@pytest.mark.parametrize("long_beats", [0.25, 0.45])
def test_a_note_that_is_slid_to_says_from_where(first, last, long_beats):
    low = bass(lambda b: np.interp(b, [4, 4 + long_beats], [first, last]), 8)
    assert slides(low, line(first, first, last, last)) == [0, 0, first - last, 0]


@pytest.mark.parametrize(("first", "last"), [(33, 45), (45, 33), (33, 40), (40, 36), (38, 40)])
@pytest.mark.parametrize("late_beats", [0.0, 0.25])
def test_a_note_that_is_struck_is_not_slid_to(first, last, late_beats):
    low = bass(lambda b: np.where(b < 4 + late_beats, first, last), 8)
    assert slides(low, line(first, first, last, last)) == [0, 0, 0, 0]


def test_notes_that_do_not_touch_are_not_slid_between():
    low = bass(lambda b: np.interp(b, [4, 4.4], [33, 45]), 8)
    notes = (BassNote(0.0, 3.0, 33, 0.9), BassNote(4.0, 2.0, 45, 0.9))
    assert slides(low, notes) == [0, 0]
    assert slides(low, ()) == []

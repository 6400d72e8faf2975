"""BS.1770 and the generated test signals of EBU Tech 3341 and 3342."""

import numpy as np
import pytest

from ersatz.core.loudness import measure_loudness, true_peak_dbtp
from tests.signals import both, sine

RATE = 48_000


def steps(*pairs, rate=RATE):
    """1 kHz stereo sine at a sequence of (dBFS, seconds)."""
    return both(np.concatenate([sine(1000, s, db, rate) for db, s in pairs]))


@pytest.mark.parametrize(
    ("signal", "lufs"),
    [
        pytest.param([(-23, 20)], -23.0, id="3341-1"),
        pytest.param([(-33, 20)], -33.0, id="3341-2"),
        pytest.param([(-36, 10), (-23, 60), (-36, 10)], -23.0, id="3341-3"),
        pytest.param([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0, id="3341-4"),
        pytest.param([(-26, 20), (-20, 20.1), (-26, 20)], -23.0, id="3341-5"),
    ],
)
@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_integrated_loudness_cases_of_tech_3341(signal, lufs, rate):
    assert measure_loudness(steps(*signal, rate=rate), rate).integrated_lufs == pytest.approx(lufs, abs=0.1)


def test_a_997_hz_sine_at_minus_23_dbfs_in_both_channels_reads_minus_23():
    assert measure_loudness(both(sine(997, 20, -23, RATE)), RATE).integrated_lufs == pytest.approx(-23.0, abs=0.05)


def test_one_channel_counts_half_of_two():
    mono = measure_loudness(sine(997, 20, -23, RATE)[None], RATE)
    assert mono.integrated_lufs == pytest.approx(-26.0, abs=0.05)


@pytest.mark.parametrize(
    ("signal", "lu"),
    [
        pytest.param([(-20, 20), (-30, 20)], 10, id="3342-1"),
        pytest.param([(-20, 20), (-15, 20)], 5, id="3342-2"),
        pytest.param([(-40, 20), (-20, 20)], 20, id="3342-3"),
        pytest.param([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15, id="3342-4"),
    ],
)
def test_loudness_range_cases_of_tech_3342(signal, lu):
    assert measure_loudness(steps(*signal), RATE).range_lu == pytest.approx(lu, abs=1.0 if lu == 15 else 0.2)


@pytest.mark.parametrize(
    ("divisor", "phase", "dbfs", "dbtp"),
    [(4, 0, -6.02, -6.0), (4, 45, -6.02, -6.0), (6, 60, -6.02, -6.0), (8, 67.5, -6.02, -6.0), (4, 45, 2.98, 3.0)],
    ids=["3341-15", "3341-16", "3341-17", "3341-18", "3341-19"],
)
def test_true_peak_cases_of_tech_3341(divisor, phase, dbfs, dbtp):
    tone = sine(RATE / divisor, 1.0, dbfs, RATE, phase)
    fade = np.minimum(1, np.minimum(np.arange(len(tone)), np.arange(len(tone))[::-1]) / 4800)
    measured = true_peak_dbtp((tone * fade)[None].astype(np.float32), RATE)
    assert -0.4 <= measured - dbtp <= 0.2


def test_gain_moves_every_level_by_itself(club_audio):
    loud = measure_loudness(club_audio.samples, club_audio.rate_hz)
    soft = measure_loudness(club_audio.samples * np.float32(0.5), club_audio.rate_hz)
    assert soft.integrated_lufs - loud.integrated_lufs == pytest.approx(-6.02, abs=0.02)
    assert soft.true_peak_dbtp - loud.true_peak_dbtp == pytest.approx(-6.02, abs=0.02)
    assert soft.range_lu == pytest.approx(loud.range_lu, abs=0.05)


def test_silence_has_a_floor_and_no_error():
    silent = measure_loudness(np.zeros((2, RATE * 4), np.float32), RATE)
    assert silent.integrated_lufs <= -70
    assert silent.range_lu == 0.0

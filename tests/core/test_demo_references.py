"""The demo references' own studio: what it says is the truth must be it."""

import numpy as np
import pytest
from scipy import signal

from demo import cold_harbour_relay, ferry_at_four, synth


@pytest.mark.parametrize("module", [ferry_at_four, cold_harbour_relay])
def test_the_demos_ducking_curves_fall_at_once_and_come_back(module):
    assert module.CURVE[0] == 0
    assert module.CURVE[1] == 1
    assert (np.diff(module.CURVE[1:]) <= 1e-9).all()
    assert module.CURVE[-1] == pytest.approx(0, abs=1e-6)
    assert (np.diff(module.CURVE_S) > 0).all()
    assert module.CURVE_S[-1] <= 60 / module.BPM


def test_the_demos_ducker_pulls_down_by_what_the_truth_says():
    triggers = [(1000, 9.0), (30_000, 3.0)]
    gain = synth.duck_gain(60_000, triggers, ferry_at_four.CURVE_S, ferry_at_four.CURVE)
    assert 20 * np.log10(gain[:29_000].min()) == pytest.approx(-9, abs=0.05)
    assert 20 * np.log10(gain[30_000:].min()) == pytest.approx(-3, abs=0.05)
    assert gain[:1000].min() == 1


def test_the_demos_meter_and_ours_agree():
    from ersatz.core.loudness import integrated_lufs, step_energy

    noise = np.random.default_rng(1).standard_normal((2, synth.RATE_HZ * 12)) * 0.1
    ours = integrated_lufs(step_energy(noise.astype(np.float32), synth.RATE_HZ))
    assert synth.loudness_lufs(noise) == pytest.approx(ours, abs=0.05)


def test_the_demos_master_reaches_its_loudness():
    rng = np.random.default_rng(2)
    music = rng.standard_normal((2, synth.RATE_HZ * 15)) * np.repeat(rng.random(150), synth.RATE_HZ // 10) * 0.1
    assert synth.loudness_lufs(synth.master(music, -9.0)) == pytest.approx(-9.0, abs=0.1)


def test_the_demos_kick_has_the_fundamental_that_the_truth_names():
    hit = synth.kick(51.9, 0.34, 210, np.random.default_rng(3))
    tail = hit[int(0.08 * synth.RATE_HZ) : int(0.3 * synth.RATE_HZ)]
    spectrum = np.abs(np.fft.rfft(tail * signal.windows.hann(len(tail)), 1 << 18))
    assert np.argmax(spectrum) * synth.RATE_HZ / (1 << 18) == pytest.approx(51.9, rel=0.02)


@pytest.mark.parametrize("module", [ferry_at_four, cold_harbour_relay])
def test_section_truths_follow_each_other(module):
    rows = ferry_at_four._section_truth(module.SECTIONS, module.BPM, 0.4)
    assert rows[0]["start_s"] == 0.4
    for a, b in zip(rows, rows[1:]):  # noqa: RUF007
        assert b["start_bar"] == a["start_bar"] + a["bars"]
        assert b["start_s"] == pytest.approx(a["end_s"], abs=1e-3)

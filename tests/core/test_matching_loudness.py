"""The master's gain for a loudness, by a curve of what clipper and limiter take."""

import numpy as np
import pytest

from ersatz.core.balance.gain import LossCurve, Pass, fitted, peaks_db, predicted_gain, solved_gain
from ersatz.core.effects import limiter
from ersatz.core.loudness import integrated_lufs, step_energy

RATE = 44_100


@pytest.fixture(scope="module")
def mix():
    """Half a minute of beats over a chord that gets louder: steps of many levels."""
    rng = np.random.default_rng(1)
    t = np.arange(30 * RATE) / RATE
    chord = sum(np.sin(2 * np.pi * hz * t) for hz in (110, 220.5, 331)) * np.linspace(0.01, 0.08, len(t))
    beat = np.exp(-((t % 0.5) * 18)) * np.sin(2 * np.pi * 55 * t) * 0.6
    hats = rng.standard_normal((2, len(t))) * np.exp(-(((t + 0.25) % 0.5) * 60)) * 0.1
    return (chord + beat + hats).astype(np.float32)


def through(mix, passes):
    def run(gain_db):
        passes.append(gain_db)
        louder = np.pad(mix * 10 ** (gain_db / 20), ((0, 0), (limiter.CONTEXT, limiter.CONTEXT)))
        return step_energy(limiter.limit(limiter.soft_clip(louder), -1.0)[:, limiter.CONTEXT : -limiter.CONTEXT], RATE)

    return run


@pytest.mark.parametrize("target", [-24.0, -14.0, -10.0, -8.0])
def test_the_loudness_is_met_in_few_passes(mix, target):
    passes = []
    run = through(mix, passes)
    gain = solved_gain(step_energy(mix, RATE), peaks_db(mix, RATE), target, 0.0, run)
    assert len(passes) <= 4
    assert integrated_lufs(run(gain)) == pytest.approx(target, abs=0.1)


def test_a_loudness_that_can_not_be_reached_gives_the_nearest_tried(mix):
    passes = []
    gain = solved_gain(step_energy(mix, RATE), peaks_db(mix, RATE), 20.0, 0.0, through(mix, passes))
    assert gain in passes


@pytest.mark.parametrize("target", [-14.0, -10.0, -8.0])
def test_the_gain_is_foreseen_for_phrases_that_move(mix, target):
    energies, peaks = step_energy(mix, RATE), peaks_db(mix, RATE)
    moves = np.repeat([0.0, 3.0, -3.0], len(energies) // 3)
    behind = through(mix, [])(6.0)
    passed = Pass(energies, peaks, 6.0, behind)
    gain = predicted_gain(passed, energies * 10 ** (moves / 10), peaks + moves, target)
    moved = mix * np.repeat(10 ** (moves / 20), mix.shape[1] // len(moves))
    assert integrated_lufs(through(moved, [])(gain)) == pytest.approx(target, abs=0.5)
    # All of it louder is the same as the fader up.
    louder = predicted_gain(passed, energies * 10 ** ((moves + 2) / 10), peaks + moves + 2, target)
    assert louder == pytest.approx(gain - 2, abs=0.01)


def test_a_mix_that_was_passed_already_needs_no_pass_more(mix):
    """What the curve misses of it is known."""
    energies, peaks = step_energy(mix, RATE), peaks_db(mix, RATE)
    behind = through(mix, [])(9.0)
    found = predicted_gain(Pass(energies, peaks, 9.0, behind), energies, peaks, integrated_lufs(behind))
    assert found == pytest.approx(9.0, abs=0.01)


def test_silence_keeps_its_gain():
    silent = np.zeros((2, RATE), np.float32)
    energies, peaks = step_energy(silent, RATE), peaks_db(silent, RATE)
    assert predicted_gain(Pass(energies, peaks, 3.0, energies), energies, peaks, -8.0) == 3.0
    assert solved_gain(energies, peaks, -8.0, 3.0, through(silent, [])) == 3.0


def test_the_curve_falls_and_goes_on_falling_beyond_what_was_seen():
    rng = np.random.default_rng(2)
    peak = rng.uniform(-30, 6, 4000)
    curve = fitted(peak, -np.maximum(peak, 0.0) + rng.normal(0, 0.05, 4000))
    np.testing.assert_allclose(curve.at(np.array([-20.0, -3.0, 3.0])), [0, 0, -3], atol=0.35)
    assert (np.diff(curve.at(np.linspace(-40, 20, 200))) <= 1e-12).all()
    assert LossCurve(np.array([0.0, 1.0]), np.array([0.0, -1.0])).at(np.array([11.0]))[0] == pytest.approx(-1 - 0.6 * 10)


def test_peaks_are_of_either_side_and_of_whole_steps():
    x = np.zeros((2, 10_000), np.float32)
    x[1, 5000], x[0, 9000] = -0.5, 1.0
    np.testing.assert_allclose(peaks_db(x, RATE), [-180.0, 20 * np.log10(0.5)], atol=1e-4)

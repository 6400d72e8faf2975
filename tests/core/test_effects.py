"""Every effect against its definition, and the chain against what it promises."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import signal

from ersatz.core.dsp import filters
from ersatz.core.effects import EFFECTS, dynamics, echo, eq, limiter, space
from ersatz.core.effects.chain import apply_effect, period_beats, reach, run_chain, settings_of
from ersatz.core.effects.spec import Where
from ersatz.core.errors import UnusableDocument
from ersatz.core.loudness import interpolator, true_peak_dbtp
from ersatz.core.song.document import EqBand
from ersatz.core.song.strips import Effect

RATE = 44_100
HERE = Where(RATE, 120.0)


def stereo(x):
    return np.stack([x, x])


def tone(hz, n=RATE, level=1.0):
    return stereo(level * np.sin(2 * np.pi * hz * np.arange(n) / RATE))


def square(level_db, n=RATE):
    """Steady in magnitude, so that peak and mean power are its level."""
    return stereo(10 ** (level_db / 20) * np.where(np.arange(n) // 20 % 2, 1.0, -1.0))


def noise(n=RATE, seed=1):
    return np.random.default_rng(seed).standard_normal((2, n)) * 0.1


def impulse(n=RATE, at=0):
    x = np.zeros((2, n))
    x[:, at] = 1.0
    return x


def response_db(effect, hz, n=1 << 16):
    out = apply_effect(impulse(n, n // 2), effect, HERE)
    spectrum = np.abs(np.fft.rfft(out[0]))
    return 20 * np.log10(np.interp(hz, np.fft.rfftfreq(n, 1 / RATE), spectrum) + 1e-9)


def db(x):
    return 20 * np.log10(np.sqrt(np.mean(np.square(x))) + 1e-12)


# Equaliser ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["bell", "low shelf", "high shelf"])
@pytest.mark.parametrize("gain_db", [-9.0, 6.0])
def test_a_band_has_its_prototypes_response(kind, gain_db):
    """The cookbook's analogue prototypes, at the frequencies that the bilinear transform puts them."""
    hz, centre, q = np.array([60.0, 300.0, 700.0, 1000.0, 1500.0, 4000.0, 12_000.0]), 1000.0, 1.2
    s = 1j * np.tan(np.pi * hz / RATE) / np.tan(np.pi * centre / RATE)
    a = 10 ** (gain_db / 40)
    if kind == "bell":
        h = (s * s + s * a / q + 1) / (s * s + s / (a * q) + 1)
    elif kind == "low shelf":
        h = a * (s * s + np.sqrt(a) / q * s + a) / (a * s * s + np.sqrt(a) / q * s + 1)
    else:
        h = a * (a * s * s + np.sqrt(a) / q * s + 1) / (s * s + np.sqrt(a) / q * s + a)
    effect = Effect("eq", {"band1_hz": centre, "band1_db": gain_db, "band1_q": q}, {"band1_kind": kind})
    np.testing.assert_allclose(response_db(effect, hz), 20 * np.log10(np.abs(h)), atol=0.1)


@pytest.mark.parametrize("slope", [12, 24, 48])
def test_a_cut_falls_by_its_slope(slope):
    effect = Effect("eq", {"band2_hz": 1000.0}, {"band2_kind": f"low cut {slope}"})
    at, octave, two = response_db(effect, np.array([1000.0, 500.0, 250.0]))
    assert at == pytest.approx(-3.01, abs=0.1)
    assert octave - two == pytest.approx(slope, abs=0.5)


@pytest.mark.parametrize("kind", [k for k in eq.KINDS if k != "off"])
def test_a_band_that_may_move_has_the_response_of_one_at_rest(kind):
    effect = Effect("eq", {"band1_hz": 800.0, "band1_db": 5.0, "band1_q": 1.5}, {"band1_kind": kind})
    x = impulse(8192)
    still = apply_effect(x, effect, HERE)
    moving = apply_effect(x, effect, HERE, {"band1_hz": np.full(8192, 800.0)})
    np.testing.assert_allclose(moving, still, atol=1e-6)


def test_an_equaliser_on_the_mid_leaves_the_side_alone():
    x = np.stack([np.random.default_rng(k).standard_normal(4000) for k in (1, 2)])
    y = apply_effect(x, Effect("eq", {"band1_db": 12.0}, {"band1_kind": "bell", "channels": "mid"}), HERE)
    np.testing.assert_allclose(y[0] - y[1], x[0] - x[1], atol=1e-9)
    assert np.abs(y[0] + y[1] - x[0] - x[1]).max() > 0.01


# Dynamics -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("detector", ["peak", "RMS"])
@pytest.mark.parametrize("level,out", [(-40.0, -40.0), (-20.0, -20.0), (-12.0, -18.0), (0.0, -15.0)])
def test_a_compressor_has_its_static_curve(detector, level, out):
    effect = Effect("compressor", {"threshold_db": -20.0, "ratio": 4.0, "knee_db": 0.0}, {"detector": detector})
    assert db(apply_effect(square(level), effect, HERE)[:, RATE // 2 :]) == pytest.approx(out, abs=0.1)


def test_in_the_middle_of_the_knee_an_eighth_of_it_is_taken():
    """Equation 4 at the threshold itself: (1 / R - 1) W / 8."""
    assert dynamics.gain_db(np.array([-20.0]), -20.0, 4.0, 12.0)[0] == pytest.approx(-0.75 * 12 / 8)


@pytest.mark.parametrize("knee_db", [0.0, 6.0, 24.0])
def test_the_static_curve_is_a_line_a_parabola_and_a_line(knee_db):
    """Equation 4 piece by piece; threshold and ratio may move."""
    level = np.linspace(-60, 0, 241)
    thresholds, ratios = np.linspace(-40, -10, 241), np.linspace(1, 20, 241)
    over, slope = level - thresholds, 1 / ratios - 1
    with np.errstate(divide="ignore", invalid="ignore"):
        knee = slope * (over + knee_db / 2) ** 2 / (2 * knee_db)
    wanted = np.where(2 * np.abs(over) < knee_db, knee, np.where(over > 0, slope * over, 0.0))
    np.testing.assert_allclose(dynamics.gain_db(level, thresholds, ratios, knee_db), wanted, atol=1e-12)
    for k in (30, 140, 230):
        alone = dynamics.gain_db(level[k : k + 1], thresholds[k], ratios[k], knee_db)
        assert alone[0] == pytest.approx(wanted[k], abs=1e-12)


@pytest.mark.parametrize("attack_ms,release_ms", [(10.0, 100.0), (40.0, 300.0)])
def test_attack_and_release_take_their_times(attack_ms, release_ms):
    params = {"threshold_db": -20.0, "ratio": 50.0, "knee_db": 0.0, "attack_ms": attack_ms, "release_ms": release_ms}
    loud, soft = square(0.0, RATE), square(-40.0, 2 * RATE)
    x = np.concatenate([soft, loud, soft], axis=1)
    gain = 20 * np.log10(np.abs(apply_effect(x, Effect("compressor", params), HERE)[0] / x[0]))
    full = gain[3 * RATE - 1]
    assert full == pytest.approx(-20 * (1 - 1 / 50), abs=0.1)
    at = np.flatnonzero(gain[2 * RATE : 3 * RATE] <= full * (1 - np.exp(-1)))[0]
    assert at / RATE * 1000 == pytest.approx(attack_ms, rel=0.02)
    back = np.flatnonzero(gain[3 * RATE :] >= full * np.exp(-1))[0]
    assert back / RATE * 1000 == pytest.approx(release_ms, rel=0.45 if attack_ms > 0.3 * release_ms else 0.15)


def test_look_ahead_turns_down_before_the_hit():
    x = np.concatenate([square(-40.0, RATE // 2), square(0.0, RATE // 2)], axis=1)
    params = {"threshold_db": -20.0, "ratio": 10.0, "attack_ms": 0.0, "look_ahead_ms": 5.0, "knee_db": 0.0}
    y = apply_effect(x, Effect("compressor", params), HERE)
    gain = 20 * np.log10(np.abs(y[0] / x[0]))
    first = np.flatnonzero(gain < -1)[0]
    assert first == pytest.approx(RATE // 2 - 0.005 * RATE, abs=2)


def test_another_part_steers_a_keyed_compressor():
    x, key = square(-10.0), np.concatenate([np.zeros((2, RATE // 2)), square(0.0, RATE // 2)], axis=1)
    effect = Effect("compressor", {"threshold_db": -20.0, "ratio": 50.0, "attack_ms": 1.0}, sidechain="kick")
    before, _ = reach((effect,), 120.0, RATE)
    x, key = (np.pad(signal, ((0, 0), (before, 0))) for signal in (x, key))
    y = run_chain(x, (effect,), Where(RATE, 120.0, -before), sidechain=lambda part: (key, np.zeros(0, np.int64)))
    assert y.shape[1] == RATE
    assert db(y[:, : RATE // 2 - 10]) == pytest.approx(-10, abs=0.05)
    assert db(y[:, -RATE // 4 :]) < -25


def test_auto_gain_gives_half_of_full_scales_loss_back():
    params = {"threshold_db": -20.0, "ratio": 4.0, "knee_db": 0.0}
    plain, lifted = (apply_effect(square(-30.0), Effect("compressor", params, {"auto_gain": g}), HERE) for g in ("off", "on"))
    assert db(lifted) - db(plain) == pytest.approx(7.5, abs=0.01)


def test_a_gate_shuts_by_its_range_and_waits_for_its_hold():
    x = np.concatenate([square(-10.0, RATE // 2), square(-60.0, RATE)], axis=1)
    params = {"threshold_db": -40.0, "range_db": 30.0, "hold_ms": 100.0, "release_ms": 5.0, "attack_ms": 0.0, "look_ahead_ms": 0.0}
    gain = 20 * np.log10(np.abs(apply_effect(x, Effect("gate", params), HERE)[0] / x[0]))
    assert gain[RATE // 2 - 1] == pytest.approx(0, abs=0.01)
    assert gain[RATE // 2 + int(0.095 * RATE)] == pytest.approx(0, abs=0.1)
    assert gain[-1] == pytest.approx(-30, abs=0.05)


def test_a_transient_shaper_lifts_the_attack_and_not_what_is_steady():
    x = np.concatenate([square(-50.0, RATE), square(-12.0, RATE)], axis=1)
    y = apply_effect(x, Effect("transients", {"attack": 0.5}), HERE)
    gain = 20 * np.log10(np.abs(y[0] / x[0]))
    assert gain[RATE + 100 : RATE + 400].max() > 5
    assert gain[-100:] == pytest.approx(0, abs=0.1)


def test_multiband_lifts_what_is_soft_and_lowers_what_is_loud_in_each_band():
    params = {"mid_down_db": -20.0, "down_ratio": 4.0, "mid_up_db": -40.0, "up_ratio": 2.0, "low_up_db": -70.0, "high_up_db": -70.0}
    for level, moved in ((-6.0, -10.5), (-30.0, 0.0), (-50.0, 5.0)):
        x = tone(600.0, 2 * RATE, 10 ** (level / 20) * np.sqrt(2))
        y = apply_effect(x, Effect("multiband", params), HERE)
        assert db(y[:, RATE:]) - db(x[:, RATE:]) == pytest.approx(moved, abs=0.4)


def test_multiband_without_amount_changes_nothing():
    x = noise()
    np.testing.assert_allclose(apply_effect(x, Effect("multiband", {"amount": 0.0}), HERE), x, atol=1e-9)


# Colour -------------------------------------------------------------------------------------------------------------


def test_hard_saturation_of_a_tone_is_its_clipped_series():
    """A sine of twice the ceiling: the third harmonic of a clipped sine by its Fourier integral."""
    y = apply_effect(tone(441.0, 2 * RATE, 1.0), Effect("saturation", {"drive_db": 6.0206}, {"kind": "hard"}), HERE)[0]
    t = np.linspace(0, 2 * np.pi, 200_000, endpoint=False)
    wave = np.clip(2 * np.sin(t), -1, 1) * 10 ** (-6.0206 / 40)
    spectrum = np.abs(np.fft.rfft(y[RATE // 2 : RATE // 2 + RATE])) / (RATE / 2)
    for k in (1, 3, 5):
        assert spectrum[441 * k] == pytest.approx(2 * abs(np.mean(wave * np.exp(-1j * k * t))), rel=0.02)


@pytest.mark.parametrize("bits", [4, 8])
def test_reduced_bits_leave_so_many_steps(bits):
    y = apply_effect(tone(100.0), Effect("reduction", {"bits": float(bits)}), HERE)
    assert len(np.unique(np.round(y[0] * 2 ** (bits - 1), 6))) == 2**bits + 1


def test_a_reduced_rate_holds_each_sample():
    y = apply_effect(noise(), Effect("reduction", {"rate_hz": 4410.0, "bits": 16.0}), HERE)[0]
    assert np.count_nonzero(np.diff(y)) == pytest.approx(4409, abs=2)


@pytest.mark.parametrize("seed", range(1, 9))
def test_a_limiter_holds_its_ceiling_at_eight_times_the_rate(seed):
    """White noise, right up to half the rate, as two interpolators see it."""
    x = noise(RATE, seed) * 15
    y = apply_effect(x, Effect("limiter", {"gain_db": 6.0, "ceiling_dbtp": -1.0}), HERE)
    # The cuts at the ends are steps of their own.
    y[:, :400] *= np.linspace(0, 1, 400)
    y[:, -400:] *= np.linspace(1, 0, 400)
    for finer in (signal.resample_poly(y, 8, 1, axis=1, window=("kaiser", 14.0)), signal.resample(y, 8 * RATE, axis=1)):
        assert 20 * np.log10(np.abs(finer).max()) <= -1.0 + 0.1
    assert true_peak_dbtp(y.astype(np.float32), RATE) <= -0.9


def test_a_limiter_asks_for_what_the_ceiling_leaves_of_peak_and_edge():
    """By its definition, worked out for every sample: where nothing comes near the ceiling, the limiter works nothing out."""
    rng = np.random.default_rng(5)
    x = rng.standard_normal((2, 3000)) * np.repeat(rng.uniform(0.0, 1.0, 30), 100)
    ceiling, reach = 0.8, limiter.EDGE_REACH
    edge = np.abs([np.convolve(side, limiter.EDGE_TAPS, "same") for side in x]).max(axis=0)
    around = np.lib.stride_tricks.sliding_window_view(np.pad(edge, reach // 2), reach + 1).max(axis=1)
    peaks = np.abs(x).max(axis=0)
    wanted = np.minimum(1.0, ceiling / (peaks + limiter.EDGE_SHARE * around))
    padded = np.pad(x, ((0, 0), (reach, reach))).astype(np.float32)
    found = limiter._needed(padded, peaks, limiter.EDGE_TAPS, ceiling)
    np.testing.assert_allclose(found, wanted, rtol=1e-5)
    assert 0.1 < np.mean(found == 1.0) < 0.9


def test_a_limiter_sees_the_peaks_between_samples_that_an_interpolator_finds():
    """By its definition, row by row; halves that rows share are half the work and the same peaks."""
    x = noise(1000, 3)
    taps = interpolator(limiter.PEAK_HALF_TAPS, limiter.PEAK_PHASES)
    half = limiter.PEAK_HALF_TAPS
    padded = np.pad(x, ((0, 0), (half, half))).astype(np.float32)
    heard = np.lib.stride_tricks.sliding_window_view(padded[:, 1:], 2 * half, axis=1)
    between = np.abs(heard @ taps.T).max(axis=(0, 2))[:-1]
    wanted = np.abs(padded[:, half:-half]).max(axis=0)
    wanted[:-1] = np.maximum(wanted[:-1], between)
    wanted[1:] = np.maximum(wanted[1:], between)
    found = limiter._peaks(padded, limiter.mirrored(taps).astype(np.float32), 0.0)
    np.testing.assert_allclose(found, wanted, rtol=1e-5)


def test_a_limiters_gain_is_the_mean_of_the_lowest_that_is_needed_ahead():
    """By its definition: what is needed climbs back by a slope, the lowest of what is ahead, the mean of what was."""
    ahead, release = 10, 40
    need = np.ones(300)
    need[[50, 53, 120, 299]] = 0.5, 0.7, 0.3, 0.9
    climb = need.copy()
    for i in range(1, len(need)):
        climb[i] = min(need[i], climb[i - 1] + 1 / release, 1.0)
    low = np.array([climb[i : i + ahead].min() for i in range(len(need))])
    wanted = np.array([low[max(0, i - ahead + 1) : i + 1].mean() for i in range(len(need))])
    found = limiter._gain(need, ahead, release)
    np.testing.assert_allclose(found, wanted, atol=1e-12)
    assert np.all(found <= need + 1e-12)


def test_a_clipper_bends_at_twice_the_rate():
    """By its definition: what is bent of samples and of the points halfway between goes back through the same half-band filter."""
    x = (noise(2000, 4) * np.repeat(np.linspace(0, 8.0, 20), 100)).astype(np.float32)
    taps = limiter._clip_taps()
    half = len(taps) // 2
    between = np.array([np.convolve(side, taps[::-1], "full")[half : half + len(side)] for side in x])
    near = np.maximum(np.abs(x), np.abs(np.pad(x[:, 1:], ((0, 0), (0, 1))))) > 0.8 * limiter.KNEE

    def bent(y):
        room = 1.2 - limiter.KNEE
        over = np.maximum(np.abs(y) - limiter.KNEE, 0.0)
        return np.sign(y) * (room * np.tanh(over / room) - over)

    changes = np.where(near, 0.5 * bent(between), 0.0)
    spread = np.array([np.convolve(side, taps, "full")[half - 1 :][: x.shape[1]] for side in changes])
    found = limiter.soft_clip(x)
    np.testing.assert_allclose(found, x + 0.5 * bent(x) + spread, atol=1e-5)
    quiet = np.abs(x).max(axis=0) < 0.4
    np.testing.assert_array_equal(found[:, :500][:, quiet[:500]], x[:, :500][:, quiet[:500]])


def test_a_limiter_takes_next_to_nothing_from_music_for_what_lies_at_the_edge():
    x = tone(440.0, RATE, 1.6)
    y = apply_effect(x, Effect("limiter", {"ceiling_dbtp": -1.0}), HERE)[:, 8000:-8000]
    assert 20 * np.log10(np.abs(y).max()) == pytest.approx(-1.0 - limiter.MARGIN_DB, abs=0.02)


# Movement and space -------------------------------------------------------------------------------------------------


def test_a_tremolo_falls_to_its_depth_at_its_rate():
    y = apply_effect(np.ones((2, 2 * RATE)), Effect("tremolo", {"depth": 0.5}, {"rate": "1/4"}), HERE)[0]
    assert y.min() == pytest.approx(0.5, abs=0.01)
    assert y[[RATE // 2, RATE]] == pytest.approx(1.0, abs=0.01)
    assert y[[RATE // 4, RATE * 3 // 4]] == pytest.approx(0.5, abs=0.01)


def test_auto_pan_moves_the_sides_against_each_other():
    y = apply_effect(np.ones((2, RATE)), Effect("tremolo", {"depth": 1.0}, {"rate": "1/4", "moves": "place"}), HERE)
    np.testing.assert_allclose(y[0] + y[1], 1.0, atol=0.02)


def test_a_drawn_gate_follows_its_steps():
    effect = Effect("tremolo", {"depth": 1.0}, {"rate": "1 bar", "shape": "drawn"}, shape=(1.0, 0.0, 0.0, 1.0))
    y = apply_effect(np.ones((2, 2 * RATE)), effect, HERE)[0]
    assert y[[RATE // 4, RATE * 3 // 4, RATE * 5 // 4, RATE * 7 // 4]] == pytest.approx([1, 0, 0, 1], abs=1e-6)


def test_a_flanger_at_rest_is_a_comb():
    effect = Effect("flanger", {"delay_ms": 1.0, "depth_ms": 0.0, "feedback": 0.0})
    passed, stopped = response_db(effect, np.array([1000.0, 500.0]))
    assert passed == pytest.approx(20 * np.log10(1.4), abs=0.1)
    assert stopped < -25


def test_a_phaser_has_a_notch_where_its_chain_turns_half_round():
    """Two first-order all-passes turn by half a cycle at their corner."""
    effect = Effect("phaser", {"centre_hz": 1000.0, "depth_octaves": 0.0, "notches": 1.0, "feedback": 0.0})
    notch, away = response_db(effect, np.array([1000.0, 60.0]))
    assert notch < -35
    assert away == pytest.approx(0, abs=0.1)


def test_a_chorus_keeps_its_copies_inside_delay_and_depth():
    y = apply_effect(impulse(RATE, 100), Effect("chorus", {"delay_ms": 10.0, "depth_ms": 4.0, "voices": 4.0}), HERE)
    late = np.flatnonzero(np.abs(y).max(axis=0) > 0.05)[1:] / RATE * 1000 - 100 / 44.1
    assert late.min() > 9.8
    assert late.max() < 14.2


def test_a_sweep_is_the_voices_filter():
    x = noise(8000)
    fixed = apply_effect(x, Effect("sweep", {"cutoff_hz": 500.0}, {"kind": "high-pass 12"}), HERE)
    moving = apply_effect(x, Effect("sweep", {}, {"kind": "high-pass 12"}), HERE, {"cutoff_hz": np.full(8000, 500.0)})
    np.testing.assert_array_equal(fixed, moving)
    assert response_db(Effect("sweep", {"cutoff_hz": 500.0}, {"kind": "high-pass 12"}), np.array([500.0]))[0] == pytest.approx(
        -3, abs=0.1
    )


@pytest.mark.parametrize("time,beats", [("1/8", 0.5), ("1/8 dotted", 0.75), ("1/4 triplet", 2 / 3)])
def test_echoes_fall_on_the_sample_and_by_the_feedback(time, beats):
    effect = Effect("delay", {"feedback": 0.5, "level": 1.0, "low_cut_hz": 20.0, "high_cut_hz": 20_000.0}, {"time": time})
    y = apply_effect(impulse(3 * RATE), effect, HERE)[0]
    step = round(beats * 0.5 * RATE)
    assert y[step] == pytest.approx(1.0)
    assert np.abs(y[1:step]).max() == 0
    echoes = [np.abs(y[k * step - 2 : k * step + 40]).sum() for k in (2, 3)]
    assert echoes[1] / echoes[0] == pytest.approx(0.5, abs=0.1)
    assert int(np.abs(y[2 * step - 20 : 2 * step + 20]).argmax()) - 20 == 0


def test_ping_pong_changes_sides():
    effect = Effect("delay", {"feedback": 0.6, "level": 1.0}, {"time": "1/8", "mode": "ping-pong"})
    y = apply_effect(impulse(2 * RATE), effect, HERE)
    step = echo.step_samples(settings_of(effect), 120.0, RATE)
    energy = [np.square(y[:, k * step - 5 : k * step + 300]).sum(axis=1) for k in (1, 2, 3)]
    assert [int(e.argmax()) for e in energy] == [0, 1, 0]
    assert all(e.min() < 1e-9 for e in energy)


def test_micro_widening_delays_each_side_by_its_time():
    effect = Effect("delay", {"left_ms": 1.0, "right_ms": 20.0}, {"mode": "micro-widening"})
    y = apply_effect(impulse(), effect, HERE)
    assert [int(side.argmax()) for side in y] == [44, 882]


#: A dome is for the very long ones.
@pytest.mark.parametrize(("kind", "decay_s"), [(k, s) for k in space.SPACES for s in ((4.0, 15.0) if k == "dome" else (0.6, 2.5))])
def test_every_reverb_decays_in_its_time(kind, decay_s):
    response = space.reverb_response(space.Reverb(kind, decay_s, 0.0, 20.0, 20_000.0), RATE)
    middle = filters.cascade(eq.low_cut(1200, RATE, 4), filters.cascade(eq.high_cut(3500, RATE, 4), response))[0]
    energy = np.cumsum(np.square(middle)[::-1])[::-1]
    level = 10 * np.log10(energy / energy[0])
    fall = np.flatnonzero(level < -35)[0] - np.flatnonzero(level < -5)[0]
    assert 2 * fall / RATE == pytest.approx(decay_s, rel=0.1)


def test_a_reverb_waits_for_its_pre_delay():
    effect = Effect("reverb", {"pre_delay_ms": 50.0, "level_db": 0.0}, {"kind": "plate"})
    wet = apply_effect(impulse(), effect, HERE)[0]
    assert np.abs(wet[1 : int(0.05 * RATE)]).max() < 1e-6
    assert np.abs(wet[int(0.05 * RATE) : int(0.06 * RATE)]).max() > 1e-4


def test_a_frozen_reverb_holds_what_it_had_at_the_bar_line():
    """At 120 BPM a bar is two seconds: a tone in the first bar is held through the second at its level and pitch."""
    x = np.zeros((2, 6 * RATE))
    x[:, : 2 * RATE] = tone(440.0, 2 * RATE)
    effect = Effect("reverb", {"decay_s": 0.5, "level_db": 0.0, "low_cut_hz": 20.0}, {"freeze": "bar"})
    held = (apply_effect(x, effect, HERE) - x)[:, 2 * RATE :]
    levels = [db(held[:, int(s * RATE) : int((s + 0.4) * RATE)]) for s in (0.2, 0.8, 1.4)]
    assert np.ptp(levels) < 2.5
    spectrum = np.abs(np.fft.rfft(held[0, RATE // 4 : RATE + RATE // 4] * np.hanning(RATE)))
    assert np.argmax(spectrum) == pytest.approx(440, abs=6)
    # Nothing was left in the reverb at the next bar line.
    assert db(held[:, int(2.2 * RATE) :]) < max(levels) - 50


def test_a_reverb_steps_back_while_something_plays():
    x = tone(300.0, 2 * RATE, 0.5)
    x[:, RATE:] = 0
    plain, ducked = (
        apply_effect(x, Effect("reverb", {"decay_s": 2.0, "level_db": 0.0, "duck_db": d}), HERE) - x for d in (0.0, 18.0)
    )
    during, after = slice(RATE // 2, RATE - 4000), slice(2 * RATE - 8000, 2 * RATE)
    assert db(ducked[:, during]) - db(plain[:, during]) == pytest.approx(-18, abs=0.3)
    assert db(ducked[:, after]) - db(plain[:, after]) == pytest.approx(0, abs=0.3)
    keyed = Effect("reverb", {"decay_s": 2.0, "level_db": 0.0, "duck_db": 18.0}, sidechain="kick")
    before, _ = reach((keyed,), 120.0, RATE)
    padded = np.pad(x, ((0, 0), (before, 0)))
    silent = run_chain(padded, (keyed,), Where(RATE, 120.0, -before), sidechain=lambda part: (0 * padded, np.zeros(0, np.int64)))
    assert db(silent - x - plain) < -60


def test_width_scales_the_side_and_takes_it_out_of_the_lows():
    x = noise()
    y = apply_effect(x, Effect("width", {"width": 0.5}), HERE)
    np.testing.assert_allclose(y[0] - y[1], 0.5 * (x[0] - x[1]), atol=1e-12)
    low = np.stack([tone(50.0)[0], -tone(50.0)[0]])
    assert db(apply_effect(low, Effect("width", {"mono_below_hz": 200.0}), HERE)[:, 9000:-9000]) < db(low) - 40


def test_a_ducker_is_down_by_its_depth_at_each_trigger():
    effect = Effect("ducker", {"depth_db": 12.0}, {"period": "1/4"}, shape=(1.0,) * 16 + (0.0,) * 48)
    y = apply_effect(np.ones((2, 2 * RATE)), effect, HERE)[0]
    assert 20 * np.log10(y[[2000, RATE // 2 + 2000]]) == pytest.approx(-12, abs=0.05)
    assert y[RATE // 2 - 100] == pytest.approx(1.0, abs=1e-9)


def test_a_ducker_follows_another_parts_hits():
    hits = np.array([20_000, 60_000])
    effect = Effect("ducker", {"depth_db": 6.0}, {"trigger": "a part's hits", "period": "1/8"}, sidechain="kick")
    before, _ = reach((effect,), HERE.bpm, RATE)
    y = run_chain(np.ones((2, 2 * RATE)), (effect,), HERE, sidechain=lambda part: (np.zeros((2, 2 * RATE)), hits))[0]
    down = np.flatnonzero(y < 0.8) + before
    assert 20_000 < down.min() < 20_300
    assert 60_000 < down[down > 40_000].min() < 60_300


# The chain ----------------------------------------------------------------------------------------------------------

SOME = {
    "eq": Effect("eq", {"band1_hz": 60.0, "band1_db": 6.0}, {"band1_kind": "bell"}),
    "flanger": Effect("flanger", {"feedback": 0.8}), "delay": Effect("delay", {"feedback": 0.3}, {"time": "1/16"}),
    "reverb": Effect("reverb", {"decay_s": 0.4, "duck_db": 12.0}, {"freeze": "beat"}),
}  # fmt: skip


@pytest.mark.parametrize("kind", EFFECTS)
def test_a_stretch_run_from_its_reach_on_equals_the_whole(kind):
    """What makes rendering by bars right."""
    effect = SOME.get(kind, Effect(kind))
    before, after = reach((effect,), 120.0, RATE)
    start, n = max(before, 20_000), 12_000
    x = noise(start + n + after + 6000, 5) * 3
    whole = apply_effect(x, effect, HERE)[:, start : start + n]
    piece = run_chain(x[:, start - before : start + n + after], (effect,), Where(RATE, 120.0, start - before))
    assert db(piece - whole) < db(whole) - 70


@pytest.mark.parametrize("kind", ["low-pass 12", "low-pass 24", "high-pass 24", "band-pass", "notch"])
@pytest.mark.parametrize("hz,resonance", [(30.0, 0.094), (60.0, 0.7), (3000.0, 1.0)])
def test_a_sweep_hears_as_far_back_as_its_lowest_and_sharpest_filter_rings(kind, hz, resonance):
    effect = Effect("sweep", choices={"kind": kind})
    extremes = {"cutoff_hz": np.array([hz, 8000.0]), "resonance": np.array([0.0, resonance])}
    before, _ = reach((effect,), 120.0, RATE, lambda _: extremes)
    x = noise(before + 40_000, 6)
    values = {"cutoff_hz": np.full(x.shape[1], hz), "resonance": np.full(x.shape[1], resonance)}
    whole = apply_effect(x, effect, HERE, values)[:, before + 20_000 :]
    late = apply_effect(x[:, 20_000:], effect, HERE, {name: value[20_000:] for name, value in values.items()})[:, before:]
    assert db(late - whole) < db(whole) - 95
    assert before < (RATE if resonance < 0.9 else 3 * RATE)


def test_a_chain_run_from_the_reach_of_all_its_effects_equals_the_whole():
    effects = (Effect("compressor"), Effect("saturation"), Effect("delay", {"feedback": 0.3}, {"time": "1/16"}), Effect("limiter"))
    before, after = reach(effects, 120.0, RATE)
    n = 12_000
    x = noise(before + n + after + 6000, 5) * 3
    whole = x
    for effect in effects:
        whole = apply_effect(whole, effect, HERE)
    piece = run_chain(x[:, : before + n + after], effects, HERE)
    assert db(piece - whole[:, before : before + n]) < db(piece) - 70


@pytest.mark.parametrize("kind", EFFECTS)
def test_without_blend_an_effect_is_not_there(kind):
    x = noise(9000)
    np.testing.assert_allclose(apply_effect(x, Effect(kind, blend=0.0), HERE), x, atol=1e-12)


def test_half_a_blend_is_the_mean_of_dry_and_wet():
    x = noise(9000)
    wet = apply_effect(x, Effect("saturation", {"drive_db": 20.0}), HERE)
    np.testing.assert_allclose(apply_effect(x, Effect("saturation", {"drive_db": 20.0}, blend=0.5), HERE), (x + wet) / 2)


def test_an_effect_above_a_frequency_leaves_what_is_below():
    low, high = tone(60.0, 2 * RATE), tone(6000.0, 2 * RATE)
    effect = Effect("width", {"width": 0.0}, above_hz=600.0)
    x = np.stack([low[0] + high[0], low[1] - high[1]])
    side = (lambda y: (y[0] - y[1])[20_000:-20_000])(apply_effect(x, effect, HERE))
    assert db(side) < -60
    only_low = np.stack([low[0], -low[1]])
    np.testing.assert_allclose(apply_effect(only_low, effect, HERE)[:, 20_000:-20_000], only_low[:, 20_000:-20_000], atol=1e-3)


def test_an_effect_on_the_middle_or_the_sides_leaves_the_other_alone():
    """A compressor far over everything is its gain."""
    x = noise(9000) * np.array([[1.0], [0.4]]) * 0.01
    effect = Effect("compressor", {"threshold_db": 0.0, "knee_db": 0.0, "gain_db": -12.0})
    mid, side = (x[0] + x[1]) / 2, (x[0] - x[1]) / 2
    for channel, by_mid, by_side in (("both", -12, -12), ("mid", -12, 0), ("side", 0, -12)):
        y = apply_effect(x, replace(effect, channel=channel), HERE)
        np.testing.assert_allclose((y[0] + y[1]) / 2, mid * 10 ** (by_mid / 20), atol=1e-9)
        np.testing.assert_allclose((y[0] - y[1]) / 2, side * 10 ** (by_side / 20), atol=1e-9)


def test_bypass_passes_at_the_measured_level():
    x = noise(1000)
    np.testing.assert_allclose(apply_effect(x, Effect("saturation", on=False, bypass_db=-6.0), HERE), x * 10 ** (-6 / 20))


def test_unknown_effects_and_options_are_refused():
    with pytest.raises(UnusableDocument, match="no effect"):
        apply_effect(noise(10), Effect("magic"), HERE)
    with pytest.raises(UnusableDocument, match="kind"):
        apply_effect(noise(10), Effect("saturation", choices={"kind": "magic"}), HERE)


def test_a_chain_repeats_when_all_its_lfos_have_come_round():
    effects = (Effect("tremolo", choices={"rate": "1/8 triplet"}), Effect("phaser", choices={"rate": "1 bar"}))
    assert period_beats(effects) == 4.0
    assert period_beats((Effect("chorus"),)) == np.inf
    assert period_beats((Effect("compressor"),)) == 0


@pytest.mark.parametrize("kind,name", [(k, p.name) for k, spec in EFFECTS.items() for p in spec.params if p.moves is not None])
def test_a_parameter_that_is_swept_makes_no_click(kind, name):
    """A low tone while the value goes through its whole range in a second: no step between samples that the tone itself hasn't."""
    spec = next(p for p in EFFECTS[kind].params if p.name == name)
    base = {"eq": Effect("eq", {"band1_db": 6.0}, {f"band{k}_kind": "bell" for k in range(1, 9)})}.get(kind, Effect(kind))
    n = RATE
    u = np.linspace(0, 1, n)
    if kind == "reduction":
        pytest.skip("its steps are its sound")
    if (kind, name) == ("saturation", "drive_db"):
        pytest.skip("its harmonics are its sound: see the next test")
    low, high = (
        (max(spec.low, 60.0), min(spec.high, 8000.0)) if spec.scale == "log" and spec.unit == "Hz" else (spec.low, spec.high)
    )
    curve = low * (high / low) ** u if spec.scale == "log" else low + (high - low) * u
    x = tone(110.0, n, 0.25)
    y = apply_effect(x, base, HERE, {name: curve})[:, 4000:-4000]
    scale = max(np.abs(y).max(), 0.25)
    assert np.abs(np.diff(y, n=2)).max() < 0.02 * scale


def test_a_swept_drive_makes_no_more_highs_than_the_most_drive():
    """A click would stand out above the harmonics that a low tone has."""
    x, n = tone(110.0, RATE, 0.25), RATE
    highs = eq.low_cut(9000.0, RATE, 4)
    steady = filters.cascade(highs, apply_effect(x, Effect("saturation", {"drive_db": 36.0}), HERE))
    swept = filters.cascade(highs, apply_effect(x, Effect("saturation"), HERE, {"drive_db": np.linspace(0, 36, n)}))
    assert np.abs(swept[:, 4000:-4000]).max() < 1.1 * np.abs(steady[:, 4000:-4000]).max()


def test_eq_sections_for_drawing_have_the_effects_response():
    effect = Effect("eq", {"band4_hz": 500.0, "band4_db": -7.0}, {"band4_kind": "bell"})
    hz = np.array([100.0, 500.0, 3000.0])
    drawn = eq.response_db(eq.sections_of(settings_of(effect), RATE), hz, RATE)
    np.testing.assert_allclose(drawn, response_db(effect, hz), atol=0.05)
    assert eq.response_db(eq.bell(EqBand(500.0, -7.0, 0.8), RATE)[None], hz, RATE)[1] == pytest.approx(-7, abs=0.01)

"""Filters, shapers and changes of rate against what they are defined as."""

import numpy as np
import pytest
from scipy import signal

from ersatz.core.dsp import filters, followers, rates, shapers
from ersatz.core.dsp.control import joined
from ersatz.core.dsp.convolution import PART, convolved, parts_of
from ersatz.core.dsp.levels import factor, panned
from ersatz.core.effects import eq
from ersatz.core.song.document import EqBand
from ersatz.core.voices import shapes

RATE = 44_100


def tone(hz, n=RATE, level=1.0):
    return level * np.sin(2 * np.pi * hz * np.arange(n) / RATE)


def level_db(x):
    return 10 * np.log10(np.mean(np.square(x)) / 0.5)


def analogue_db(kind, hz, cutoff, q=None):
    """The prototype's response at the frequency that the bilinear transform puts it."""
    s = 1j * np.tan(np.pi * np.asarray(hz) / RATE) / np.tan(np.pi * cutoff / RATE)
    den = s * s + s / q + 1
    top = {"low-pass 12": 1, "high-pass 12": s * s, "band-pass": s / q, "notch": s * s + 1}[kind]
    return 20 * np.log10(np.abs(top / den) + 1e-7)


@pytest.mark.parametrize("kind", ["low-pass 12", "high-pass 12", "band-pass", "notch"])
@pytest.mark.parametrize("resonance", [0.094, 0.5])
def test_a_second_order_filter_has_its_prototypes_response(kind, resonance):
    hz = np.array([120.0, 400.0, 900.0, 1500.0, 4000.0, 12_000.0])
    found = filters.response_db(kind, 1000.0, resonance, hz, RATE)
    wanted = analogue_db(kind, hz, 1000.0, float(filters.q_of(resonance)))
    np.testing.assert_allclose(np.maximum(found, -70), np.maximum(wanted, -70), atol=0.1)


@pytest.mark.parametrize("kind,octave_down", [("low-pass 24", 2000.0), ("high-pass 24", 125.0)])
def test_four_poles_fall_by_24_db_per_octave_and_are_3_db_down_at_the_cutoff(kind, octave_down):
    hz = np.array([500.0, octave_down, octave_down * (2 if octave_down > 500 else 0.5)])
    found = filters.response_db(kind, 500.0, 0.094, hz, RATE)
    assert found[0] == pytest.approx(-3.01, abs=0.1)
    assert found[1] - found[2] == pytest.approx(24, abs=1.5)


def test_a_comb_peaks_at_multiples_of_its_cutoff_and_dips_between():
    peaks = filters.response_db("comb", 441.0, 0.6, np.array([441.0, 882.0]), RATE)
    dips = filters.response_db("comb", 441.0, 0.6, np.array([661.5, 1102.5]), RATE)
    assert peaks == pytest.approx(0, abs=0.3)
    assert dips.max() < -10


def test_a_vowel_lets_its_formants_through():
    hz = np.array([270.0, 1000.0, 2290.0])
    i = filters.response_db("vowel", 1000.0, 0.5, hz, RATE, vowel=2.0)
    assert i[0] > i[1] + 8
    assert i[2] > i[1] + 3


@pytest.mark.parametrize("kind", filters.KINDS[1:])
def test_every_filter_stays_bounded_while_its_cutoff_jumps_at_every_sample(kind):
    rng = np.random.default_rng(3)
    n = 20_000
    cutoff = np.exp(rng.uniform(np.log(25), np.log(18_000), n))
    out = filters.filtered(kind, rng.uniform(-1, 1, n), cutoff, np.full(n, 0.7), RATE, rng.uniform(0, 4, n))
    assert np.isfinite(out).all()
    assert np.abs(out).max() < 60


def test_all_passes_pass_everything():
    impulse = np.zeros(1 << 14)
    impulse[0] = 1.0
    chain = filters.allpass_chain(impulse, np.full(len(impulse), 700.0), np.zeros(len(impulse)), 6, RATE)
    np.testing.assert_allclose(np.abs(np.fft.rfft(chain)), 1.0, atol=1e-3)


@pytest.mark.parametrize("factor", [2, 4])
@pytest.mark.parametrize("hz", [50.0, 997.0, 15_000.0, 19_000.0])
def test_up_and_down_again_is_the_same_within_a_tenth_of_a_db(factor, hz):
    x = tone(hz)
    back = rates.down(rates.up(x, factor), factor)
    middle = slice(500, -500)
    assert level_db(back[middle] - x[middle]) < -45


def test_what_lies_above_half_the_rate_is_stopped():
    fast = np.sin(2 * np.pi * 30_000 * np.arange(4 * RATE) / (4 * RATE))
    assert level_db(rates.down(fast, 4)[500:-500]) < -80


def test_other_factors_are_refused():
    with pytest.raises(ValueError, match="doubled"):
        rates.up(np.zeros(8), 3)


@pytest.mark.parametrize("kind", shapers.KINDS)
def test_on_slow_signals_a_shaper_is_its_curve(kind):
    x = tone(20.0, level=2.5)
    np.testing.assert_allclose(shapers.shape(x, kind)[1:], shapers.curve((x[1:] + x[:-1]) / 2, kind), atol=2e-3)


@pytest.mark.parametrize("kind", shapers.KINDS)
def test_small_signals_pass_a_curve_unchanged_upwards(kind):
    assert float(shapers.curve(np.array([1e-3]), kind)[0]) == pytest.approx(1e-3, rel=2e-3)


@pytest.mark.parametrize("kind", ["soft", "hard", "fold", "tube"])
def test_saturation_folds_less_than_a_thousandth_back(kind):
    """A tone whose harmonics all lie on multiples of 4410 Hz would fold onto them; 3150.7 Hz folds beside its own."""
    hz, n = 3150.7, 1 << 15
    x = shapers.saturate(tone(hz, n + 4000, 2.0), kind)[2000:-2000]
    level = np.abs(np.fft.rfft(x * np.kaiser(n, 20)))
    bins = np.fft.rfftfreq(n, 1 / RATE)
    harmonic = np.abs(bins / hz - np.round(bins / hz)) * hz < 40
    assert 20 * np.log10(level[~harmonic].max() / level.max()) < -60


def test_a_split_without_phase_adds_up_and_is_6_db_down_at_its_frequency():
    hz = 300.0
    x = tone(hz)
    low = followers.below(x, hz, RATE)
    middle = slice(8000, -8000)
    np.testing.assert_allclose(low[middle], 0.5 * x[middle], atol=2e-3)
    far = int(followers.below_context_s(hz) * RATE)
    impulse = np.zeros(4 * far)
    impulse[2 * far] = 1.0
    ringing = np.abs(followers.below(impulse, hz, RATE))
    assert ringing[:far].max() < 1e-4 * ringing.max()


@pytest.mark.parametrize("shape", [(5000,), (1, 5000), (2, 5000)])
def test_there_and_back_is_the_filter_twice(shape):
    x = np.random.default_rng(2).standard_normal(shape)
    section = filters.butterworth(2, 500.0, RATE)
    wanted = signal.sosfilt(section, signal.sosfilt(section, x)[..., ::-1])[..., ::-1]
    np.testing.assert_allclose(filters.there_and_back(section, x), wanted, atol=1e-12)


@pytest.mark.parametrize("channels", [1, 2])
def test_levels_are_of_the_louder_side_and_of_the_mean_power(channels):
    x = np.random.default_rng(3).standard_normal((channels, 400))
    x[:, 200:300] = 0.0
    np.testing.assert_allclose(followers.peak_db(x), 20 * np.log10(np.maximum(np.abs(x).max(axis=0), 1e-6)), atol=1e-9)
    padded = np.pad((x**2).mean(axis=0), (49, 0))
    means = np.lib.stride_tricks.sliding_window_view(padded, 50).mean(axis=1)
    np.testing.assert_allclose(followers.rms_db(x, 0.05, 1000), 10 * np.log10(np.maximum(means, 1e-12)), atol=1e-6)


def test_a_follower_falls_to_a_third_in_its_release_time():
    level = np.concatenate([np.zeros(100), np.full(RATE, -60.0)])
    out = followers.decoupled(level, 0.0, followers.coefficient(0.1, RATE))
    assert out[100 + int(0.1 * RATE)] == pytest.approx(-60 * (1 - np.exp(-1)), abs=0.1)


@pytest.mark.parametrize("bias", [0.0, shapers.TUBE_BIAS])
def test_the_soft_curve_is_the_hyperbolic_tangent_and_its_antiderivative_ln_cosh(bias):
    x = np.concatenate([np.linspace(-14, 14, 4001), np.geomspace(1e-12, 0.1, 200), [0.0]])
    area, curve = np.empty(len(x)), np.empty(len(x))
    shapers._soft(x, bias, area, curve)
    np.testing.assert_allclose(area, np.logaddexp(x + bias, -x - bias) - np.log(2), atol=3e-8)
    np.testing.assert_allclose(curve, np.tanh(x + bias), atol=3e-8)
    np.testing.assert_allclose(np.diff(area[:4001]) / np.diff(x[:4001]), np.tanh((x[1:4001] + x[:4000]) / 2 + bias), atol=1e-5)


@pytest.mark.parametrize("kind", shapers.KINDS)
def test_a_shaper_is_the_mean_of_its_curve_between_two_samples(kind):
    """Against a quadrature, for steps of all sizes: there is a near and a far way to compute it, which meet."""
    x = np.cumsum(np.geomspace(1e-9, 0.3, 300) * np.where(np.arange(300) % 7 == 3, -0.5, 1.0))
    between = x[:-1, None] + np.diff(x)[:, None] * (np.arange(200) + 0.5) / 200
    np.testing.assert_allclose(
        shapers.shape(x, kind)[1:], shapers.curve(between.ravel(), kind).reshape(-1, 200).mean(axis=1), atol=2e-6
    )
    assert not shapers.shape(np.zeros(300), kind).any()


@pytest.mark.parametrize("kind", shapers.KINDS)
def test_a_shaper_does_the_same_wherever_a_stretch_of_samples_begins(kind):
    x = np.random.default_rng(9).standard_normal(3000) * np.repeat([0.0, 1e-5, 1.0], 1000)
    np.testing.assert_array_equal(shapers.shape(x, kind)[701:], shapers.shape(x[700:], kind)[1:])


@pytest.mark.parametrize("kind", ["low-pass 12", "high-pass 24", "low-pass 24"])
def test_both_sides_in_step_are_each_side_alone(kind):
    rng = np.random.default_rng(8)
    x, cutoff = rng.standard_normal((2, 3000)), np.geomspace(100, 9000, 3000)
    both = filters.filtered(kind, x, cutoff, 0.4, RATE)
    for side, out in zip(x, both):
        np.testing.assert_allclose(out, filters.filtered(kind, side, cutoff, 0.4, RATE), atol=1e-12)


def test_a_value_that_stands_is_the_same_as_one_figure_per_sample():
    x = np.random.default_rng(9).standard_normal(2000)
    alone = filters.filtered("band-pass", x, 700.0, 0.3, RATE)
    np.testing.assert_array_equal(alone, filters.filtered("band-pass", x, np.full(2000, 700.0), np.full(2000, 0.3), RATE))


@pytest.mark.parametrize("n", [1, 64, 65, 300, 1000])
def test_values_every_so_often_are_joined_by_straight_lines(n):
    values = np.random.default_rng(n).standard_normal(6)
    wanted = np.interp(np.arange(n), np.arange(6) * 64, values)
    np.testing.assert_allclose(joined(values, 64, n), wanted, atol=1e-12)


def test_the_tangent_of_every_cutoff_is_the_tangent():
    hz = np.linspace(5.0, 0.45 * RATE, 4000)
    found = np.array([filters.tangent(f, RATE) for f in hz])
    np.testing.assert_allclose(found, np.tan(np.pi * hz / RATE), rtol=1e-8)
    assert filters.tangent(30_000.0, RATE) == filters.tangent(0.45 * RATE, RATE)


def test_on_silence_filters_come_to_rest_instead_of_shrinking_for_ever():
    """Figures under 1e-308 take a processor a hundred times as long."""
    x = np.zeros((2, 60_000))
    x[:, 0] = 1.0
    cut = filters.cascade(signal.butter(4, 8000, fs=RATE, output="sos"), x)
    swept = filters.filtered("low-pass 24", x, 8000.0, 0.5, RATE)
    for ringing in (cut, swept):
        assert np.abs(ringing[:, :50]).max() > 0.1
        assert not ringing[:, -10_000:].any()


def test_a_steep_filter_forgets_nothing_of_what_it_lets_through():
    """Between its sections next to nothing is left of the signal."""
    sections = eq.high_cut(34.0, RATE, 8)
    x = np.stack([tone(20.0), tone(25.0)])
    wanted = signal.sosfilt(sections, x, axis=1)
    assert np.abs(wanted).max() > 0.5
    np.testing.assert_allclose(filters.cascade(sections, x), wanted, atol=1e-9)


@pytest.mark.parametrize("length,n", [(300, 5000), (PART, 3 * PART), (40_000, 70_000)])
def test_a_convolution_in_parts_is_the_convolution(length, n):
    rng = np.random.default_rng(length)
    response, x = rng.standard_normal((2, length)), rng.standard_normal((2, n))
    wanted = signal.oaconvolve(x, response, axes=1)[:, :n]
    found = convolved(x, parts_of(response))
    assert found.shape == (2, n)
    np.testing.assert_allclose(found, wanted, atol=1e-5 * np.abs(wanted).max())


@pytest.mark.parametrize("lead", [1, PART, 2 * PART + 5000, 69_999])
def test_what_is_only_heard_in_front_changes_nothing_behind_it(lead):
    rng = np.random.default_rng(lead)
    response, x = rng.standard_normal((2, 20_000)), rng.standard_normal((2, 70_000))
    whole, late = convolved(x, parts_of(response)), convolved(x, parts_of(response), lead)
    np.testing.assert_allclose(late[:, lead:], whole[:, lead:], atol=1e-5 * np.abs(whole).max())


def bells(*hz, q=1.9, gain_db=4.0):
    return np.concatenate([eq.bell(EqBand(f, gain_db * (-1) ** k, q), RATE)[None] for k, f in enumerate(hz)])


@pytest.mark.parametrize(
    "sections",
    [
        np.concatenate([eq.low_cut(30.0, RATE), bells(36, 57, 91, 144, 229, 363, 576, 914, 1451, 2304, 3657, 5806, 9216, 14630)]),
        bells(30, 31, 32, 33, 34, 35, 36, 37, 38, q=16.0, gain_db=12.0),
        eq.high_cut(400.0, RATE, 18),
        np.concatenate([bells(*range(100, 1000, 100)), bells(1600, gain_db=0.0)]),
        bells(*np.geomspace(30, 15_000, 20)),
    ],
    ids=["a master", "narrow neighbours", "steep", "one that does nothing", "more than run at once"],
)
def test_sections_in_a_row_or_side_by_side_are_the_librarys(sections):
    x = np.random.default_rng(6).standard_normal((2, 6000))
    assert len(sections) >= filters.SIDE_BY_SIDE
    assert filters.in_parallel(sections) is not None
    for many in range(1, len(sections) + 1):
        wanted = signal.sosfilt(sections[:many], x, axis=1)
        np.testing.assert_allclose(filters.cascade(sections[:many], x), wanted, atol=1e-9 * np.abs(wanted).max())


@pytest.mark.parametrize(
    "sections", [np.repeat(bells(100), 9, axis=0), signal.butter(17, 3000, fs=RATE, output="sos")], ids=["alike", "first order"]
)
def test_sections_that_can_not_stand_side_by_side_run_in_a_row(sections):
    x = np.random.default_rng(7).standard_normal((2, 3000))
    assert filters.in_parallel(sections) is None
    np.testing.assert_allclose(filters.cascade(sections, x), signal.sosfilt(sections, x, axis=1), atol=1e-9)


@pytest.mark.parametrize("order", [1, 2, 3, 4, 8])
@pytest.mark.parametrize("hz", [20.0, 340.0, 9000.0, 0.45 * RATE])
@pytest.mark.parametrize("highpass", [False, True])
def test_a_butterworth_filter_is_the_librarys(order, hz, highpass):
    sections = filters.butterworth(order, hz, RATE, highpass)
    wanted = signal.butter(order, hz, "highpass" if highpass else "lowpass", fs=RATE, output="sos")
    assert sections.shape == wanted.shape
    at = np.geomspace(10, 22_000, 200)
    there = signal.freqz_sos(wanted, worN=at, fs=RATE)[1]
    np.testing.assert_allclose(filters.response(sections, at, RATE), there, rtol=1e-6, atol=1e-9)


def test_one_side_alone_is_filtered_as_either_of_both():
    x = np.random.default_rng(3).standard_normal(5000)
    sections = np.concatenate([filters.butterworth(4, 900.0, RATE), filters.butterworth(1, 90.0, RATE, highpass=True)])
    np.testing.assert_allclose(filters.cascade(sections, x), signal.sosfilt(sections, x), atol=1e-12)
    assert np.array_equal(filters.cascade(sections, x), filters.cascade(sections, np.stack([x, 2 * x]))[0])
    assert np.array_equal(filters.cascade(sections, x[None]), filters.cascade(sections, x)[None])
    with pytest.raises(ValueError, match="shape"):
        filters.cascade(sections, np.zeros((3, 100)))


@pytest.mark.parametrize(("pan", "db"), [(0.0, 0.0), (-1.0, -6.0), (0.3, 4.5), (1.0, 0.0), (1.7, -200.0), (0.0, -np.inf)])
def test_a_pan_that_stands_has_the_gains_of_one_that_moves(pan, db):
    stands, moves = panned(pan, db), panned(np.array([pan, pan]), np.array([db, db]))
    np.testing.assert_allclose(stands, moves[:, :1], rtol=1e-12, atol=1e-15)
    # Constant power, 1 on both sides in the middle.
    assert np.square(stands).sum() == pytest.approx(2 * 10 ** (db / 10))
    assert factor(db) == pytest.approx(factor(np.array([db]))[0])


def test_ends_are_faded_along_straight_lines_and_nothing_else_is():
    x = np.ones((2, 1000))
    faded = shapes.declick(x, 10_000, 0.01, 0.02)
    np.testing.assert_allclose(faded[0, :100], np.arange(100) / 100)
    np.testing.assert_allclose(faded[1, -200:], np.linspace(1, 0, 200))
    assert (faded[:, 100:-200] == 1).all() and (x == 1).all()
    # What is shorter than its fades begins and ends at zero all the same.
    short = shapes.declick(np.ones(50), 10_000, 0.01, 0.02)
    assert short.shape == (50,) and short[0] == short[-1] == 0 and (short < 1).all()

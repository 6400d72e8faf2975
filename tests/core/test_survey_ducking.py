"""Folded bars, the networks that read them, and what they and the votes of levels say together."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ersatz.core.survey import pump
from ersatz.core.survey.comparison import Difference
from ersatz.core.survey.ducking import FINE, Fit, Trigger
from ersatz.core.survey.envelopes import PER_BEAT, Levels, fast_powers, row_centers_hz
from ersatz.core.survey.folded import FEATURES, LAGS, REGIONS, STEP_DB, fold
from ersatz.core.survey.learned import RATES, Learned, _around, _nets, read_learned
from tests.signals import moving_levels

BARS, POINTS = 12, 4 * PER_BEAT
QUARTER = (0, 64, 128, 192)
#: Down at once and straight back over three quarters of a beat.
STRAIGHT = -np.clip(1 - np.arange(PER_BEAT) / (0.75 * PER_BEAT), 0, 1)


def levels_of(db: np.ndarray) -> Levels:
    """A mid's and a side's rows, shape (rows, bars, points)."""
    centers = row_centers_hz()
    return Levels(db, np.tile(centers, 2), np.repeat([False, True], len(centers)), np.tile(np.arange(len(centers)) > 41, 2))


def music(seed: int = 3, points: int = POINTS) -> np.ndarray:
    return moving_levels(2 * len(row_centers_hz()), BARS, seed, points).astype(np.float32)


def everything(bars: int = BARS) -> np.ndarray:
    return np.ones(bars, bool)


def by_region(folded: np.ndarray) -> np.ndarray:
    return folded.reshape(REGIONS, FEATURES, -1)


def test_levels_that_stand_still_move_by_nothing():
    folded = by_region(fold(levels_of(np.full_like(music(), -7.0)), everything()))
    assert not folded[:, :-1].any()
    assert (folded[:, -1] == 1).all()


def test_a_curve_that_all_levels_share_is_in_every_quantile_of_every_region():
    curve = np.tile(6 * STRAIGHT, 4)
    folded = 10 * by_region(fold(levels_of(np.tile(curve, (2 * len(row_centers_hz()), BARS, 1)).astype(np.float32)), everything()))
    for k, lag in enumerate(LAGS):
        move = np.roll(curve, -lag) - curve
        told = folded[:, 3 * k : 3 * k + 3]
        assert np.abs(told - move).max() <= STEP_DB


@settings(max_examples=10, deadline=None)
@given(st.integers(0, 2**32 - 1), st.integers(0, 1))
def test_bars_out_of_use_and_their_order_say_nothing(seed, first):
    db = music(seed)
    use = np.arange(BARS) % 2 == first
    other = np.where(use[None, :, None], db, 20 - db)
    np.testing.assert_array_equal(fold(levels_of(db), use), fold(levels_of(other), use))


def test_what_is_not_known_is_nothing_and_counted():
    db = music()
    db[:, :, :16] = np.nan
    db[levels_of(db).side] = np.nan
    folded = by_region(fold(levels_of(db), everything()))
    side = slice(7, None)
    assert not folded[side].any()
    assert not folded[:, :, :16].any() and (folded[:7, -1, 16:] == 1).all()


def test_a_convolution_goes_round_the_bar():
    net, x = _nets()[0], np.random.default_rng(2).standard_normal((len(_nets()[0]["b"]), 24)).astype(np.float32)
    weights, taps = net["b"], net["b"].shape[2]
    for dilation in (1, 2):
        direct = np.array([
            sum(weights[:, :, k] @ x[:, (i + (k - taps // 2) * dilation) % 24] for k in range(taps)) for i in range(24)
        ]).T + net["b_bias"][:, None]  # fmt: skip
        np.testing.assert_allclose(_around(net, "b", x, dilation), direct, atol=1e-4)


@pytest.mark.parametrize("turn", [1, 4, 10])
def test_a_bar_begun_elsewhere_reads_the_same_from_there(turn):
    folded = fold(levels_of(music() + np.tile(8 * STRAIGHT, 4).astype(np.float32)), everything())
    plain, turned = read_learned(folded), read_learned(np.roll(folded, 16 * turn, axis=1))
    assert turned.depth_db == pytest.approx(plain.depth_db, rel=1e-3)
    assert turned.certain == pytest.approx(plain.certain, abs=1e-3)
    np.testing.assert_allclose(turned.steps, np.roll(plain.steps, turn), atol=1e-3)
    np.testing.assert_allclose(turned.shape, plain.shape, atol=1e-3)


@pytest.mark.parametrize("beats", [3, 4])
@pytest.mark.parametrize("seed", range(4))
def test_an_answer_is_probabilities_and_a_curve_that_recovers(beats, seed):
    found = read_learned(fold(levels_of(music(seed, beats * PER_BEAT)), everything()))
    assert 0 <= found.certain <= 1 and found.depth_db > 0 and found.spread_db > 0
    assert found.rates.sum() == pytest.approx(1, abs=1e-5) and found.rate == RATES[int(found.rates.argmax())]
    assert len(found.steps) == 4 * beats and ((found.steps >= 0) & (found.steps <= 1)).all()
    assert found.shape.max() == 1 and found.shape.min() >= 0
    assert (np.diff(found.shape[int(found.shape.argmax()) :]) <= 0).all()


@pytest.mark.parametrize(("first", "rate", "triggers"), [
    (0, "1/4", (0, 64, 128, 192)), (2, "1/4", (32, 96, 160, 224)), (1, "1/8", (16, 48, 80, 112, 144, 176, 208, 240)),
    (3, "kick", (48, 208)),
])  # fmt: skip
def test_the_curve_begins_where_it_most_likely_does(first, rate, triggers):
    steps = np.full(16, 0.1)
    steps[first :: {"1/4": 4, "1/8": 2, "kick": 10}[rate]] = 0.9
    learned = Learned(1.0, 6.0, 1.0, np.array([1.0, 0, 0, 0]), np.ones(PER_BEAT), steps)
    assert learned.triggers(rate) == triggers
    assert replace(learned, steps=steps / 10).triggers("kick")


def witness(depth_db, rate="1/4", spread_db=0.5):
    rates = np.array([float(r == rate) for r in RATES])
    return Learned(0.9, depth_db, spread_db, rates, -STRAIGHT, np.tile([0.9, 0.1, 0.1, 0.1], 4))


def voted(depth_db, rate="1/4"):
    at = QUARTER if rate == "1/4" else tuple(range(0, POINTS, 32))
    trigger = Trigger(rate, at, 1.0 if rate == "1/4" else 0.5)
    fine = int(PER_BEAT * FINE * trigger.beats)
    return Fit(trigger, depth_db, -depth_db * np.linspace(1, 0, fine), 0.1, np.zeros(3))


def test_witnesses_that_agree_are_believed_and_surer_than_those_that_do_not():
    joined = pump._joined((voted(6.0),), voted(6.0), 0.9, witness(6.0), 0.9)
    assert (joined.depth_db, joined.trigger) == (pytest.approx(6.0), voted(6.0).trigger)
    assert joined.curve_db.min() == pytest.approx(-6.0) and len(joined.curve_db) == PER_BEAT * FINE
    sure = [pump.depth_probability(voted(6.0), witness(depth_db)) for depth_db in (6.0, 8.0, 16.0)]
    assert sure == sorted(sure, reverse=True) and sure[0] > sure[2] + 0.04
    assert pump.depth_probability(voted(6.0), witness(6.0, spread_db=3.0)) < sure[0]


def test_the_surer_witness_is_nearer_to_the_answer():
    fit = voted(4.0)
    doubtful, certain = (pump._joined((fit,), fit, weight, witness(9.0), 0.9).depth_db for weight in (0.2, 0.9))
    assert 4 < certain < 7 < doubtful < 9


def test_a_difference_of_bars_is_heard_as_far_as_it_is_sure():
    fit = voted(8.0)
    depths = [pump._joined((fit,), fit, 0.9, witness(8.0), 0.9, Difference(fit.trigger, 4.0, fit.curve_db, sure)).depth_db
              for sure in (0.0, 0.2, 0.45)]  # fmt: skip
    assert depths[0] == pytest.approx(8.0)
    assert 4 < depths[2] < depths[1] < 7.5


def test_ducking_is_likelier_in_club_music_unless_it_is_certain():
    assert (pump.in_club_music(0.0), pump.in_club_music(1.0)) == (0.0, 1.0)
    told = [pump.in_club_music(p) for p in (0.2, 0.5, 0.8)]
    assert told == sorted(told) and all(more > p for more, p in zip(told, (0.2, 0.5, 0.8)))


def test_at_8ths_the_depth_is_the_votes():
    eighths = voted(6.0, "1/8")
    assert pump._joined((eighths,), eighths, 0.5, witness(9.0, "1/8"), 0.9).depth_db == pytest.approx(6.0)


def test_a_rate_that_only_the_networks_see_begins_where_they_see_it():
    joined = pump._joined((voted(6.0),), voted(6.0), 0.1, witness(6.0, "1/8"), 0.9)
    assert joined.trigger == Trigger("1/8", tuple(range(0, POINTS, 32)), 0.5)
    assert len(joined.curve_db) == PER_BEAT * FINE // 2


def test_a_side_that_is_not_there_has_no_rows():
    tone = np.sin(2 * np.pi * 440 * np.arange(44_100) / 44_100).astype(np.float32)
    assert len(fast_powers(tone, 0 * tone, 44_100)) == 1
    assert len(fast_powers(tone, 0.1 * tone, 44_100)) == 2

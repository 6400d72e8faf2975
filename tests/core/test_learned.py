"""The pieces that the survey's networks learn from: what is written down of them is what was done to them."""

import numpy as np
import pytest

from bench.learned.pieces import DEEPEST_DB, EIGHTHS, FOUR, SNARE, STEPS, _curve, _gain_db, _pattern, _target, make_piece
from bench.material.ducked import Source
from bench.material.modules import RATE
from ersatz.core.survey.envelopes import PER_BEAT
from ersatz.core.survey.folded import FEATURES, REGIONS
from ersatz.core.survey.learned import RATES

BPM, BARS = 120.0, 12


def tone(hz):
    t = np.arange(int(BARS * 240 / BPM * RATE)) / RATE
    return np.stack([np.sin(2 * np.pi * hz * t), np.sin(2 * np.pi * hz * 1.003 * t)]).astype(np.float16)


@pytest.fixture(scope="module")
def stems():
    return [Source("tones", BPM, {"bass": tone(80), "chords": tone(880), "drums": 0.1 * tone(5000)})]


@pytest.fixture(scope="module")
def pieces(stems):
    return [make_piece(stems, stems, k) for k in range(8)]


def test_a_piece_is_drawn_from_its_number_alone(stems, pieces):
    again = make_piece(stems, stems, 3)
    np.testing.assert_array_equal(again.folded, pieces[3].folded)
    assert (again.depth_db, again.rate) == (pieces[3].depth_db, pieces[3].rate)
    assert len({p.folded.tobytes() for p in pieces}) == len(pieces)


def test_what_is_said_of_a_piece_agrees_with_itself(pieces):
    assert {p.depth_db > 0 for p in pieces} == {True, False}
    for p in pieces:
        assert p.folded.shape == (REGIONS * FEATURES, 4 * PER_BEAT) and np.isfinite(p.folded).all()
        assert p.triggers.any() == (p.depth_db > 0) == (p.curve_db.min() < 0)
        assert p.depth_db <= DEEPEST_DB and 0 < p.share <= 1.5
        assert -p.curve_db.min() == pytest.approx(p.depth_db, rel=0.15)


def test_a_pattern_is_what_its_rate_says():
    for seed in range(200):
        triggers, hits, rate = _pattern(np.random.default_rng(seed))
        assert {"1/4": triggers == FOUR, "1/8": triggers == EIGHTHS and hits == FOUR, "kick": triggers == hits,
                "kick and snare": set(triggers) == {*hits, *SNARE}}[rate]  # fmt: skip
        assert list(triggers) == sorted(set(triggers)) and triggers[-1] < STEPS and rate in RATES


def test_something_is_always_turned_down():
    for seed in range(50):
        chosen = _target(np.random.default_rng(seed), ["drums", "more bass"])
        assert chosen and set(chosen) <= {"drums", "more bass"}


@pytest.mark.parametrize("seed", range(6))
def test_the_gain_falls_at_each_trigger_and_is_back_before_the_next(seed):
    curve = _curve(np.random.default_rng(seed), 9.0, 0.5)
    gain = _gain_db(curve, np.array([0.5, 1.5]), 3 * RATE)
    assert not gain[: RATE // 2].any()
    for at_s in (0.5, 1.5):
        start = int(at_s * RATE)
        after = gain[start : start + int(0.6 * RATE)]
        assert after.min() == pytest.approx(-9.0, abs=0.1) and after.argmin() < 0.08 * RATE
        assert after[-1] == pytest.approx(0.0, abs=0.05)

"""Ducking read from the difference between bars with kick and the same music without it."""

from __future__ import annotations

import numpy as np
import pytest

from ersatz.core.survey.comparison import Pairs, clearest
from ersatz.core.survey.ducking import Trigger, draw_curves
from ersatz.core.survey.envelopes import PER_BEAT, QUICK_FRAME

BEAT_S = 0.48
BAR = 4 * PER_BEAT
QUARTER = Trigger("1/4", tuple(range(0, BAR, PER_BEAT)), 1.0)
EIGHTH = Trigger("1/8", tuple(range(0, BAR, PER_BEAT // 2)), 0.5)
TWO_STEP = Trigger("kick", (0, 160), 1.0)


def _music() -> np.ndarray:
    """Mid and side in four bands over a bar: rhythms that differ from band to band, up to 5 dB."""
    rng = np.random.default_rng(4)
    steps = rng.uniform(-5, 0, (2, 4, 16)) + rng.uniform(-6, 0, (2, 4, 1))
    return np.repeat(steps, BAR // 16, axis=2)


def _ducked(trigger: Trigger, depth_db: float, end: float = 0.6) -> np.ndarray:
    one = np.array([end]), np.array([0.01]), np.array([depth_db])
    return draw_curves(trigger, BEAT_S, BAR, (2,), *one, QUICK_FRAME).seen_db[0]


@pytest.mark.parametrize("trigger", [QUARTER, EIGHTH, TWO_STEP], ids=lambda t: t.rate)
@pytest.mark.parametrize("depth_db", [4.0, 9.0])
def test_the_curve_is_what_the_bars_differ_by(trigger: Trigger, depth_db: float) -> None:
    music = _music()
    found = clearest(Pairs([music + _ducked(trigger, depth_db)], [[music]], None, BEAT_S), [QUARTER, EIGHTH, TWO_STEP])
    assert found is not None
    assert found.trigger == trigger
    assert found.depth_db == pytest.approx(depth_db, abs=0.8)
    assert found.confidence > 0.7


def test_bars_that_do_not_differ_say_nothing() -> None:
    music = _music() + _ducked(QUARTER, 8.0)
    assert clearest(Pairs([music], [[music]], None, BEAT_S), [QUARTER, EIGHTH]) is None


def test_a_level_that_differs_throughout_is_no_ducking() -> None:
    music = _music()
    assert clearest(Pairs([music - 6.0], [[music]], None, BEAT_S), [QUARTER, EIGHTH]) is None


def test_other_music_in_the_bars_without_kick_is_less_sure_than_the_same() -> None:
    music, other = _music(), np.roll(_music(), 37, axis=2)
    ducked = music + _ducked(QUARTER, 8.0)
    same = clearest(Pairs([ducked], [[music]], None, BEAT_S), [QUARTER])
    unlike = clearest(Pairs([ducked], [[other]], None, BEAT_S), [QUARTER])
    assert same is not None
    assert unlike is None or unlike.confidence < same.confidence - 0.1


def test_the_surest_section_decides() -> None:
    music = _music()
    ducked = music + _ducked(QUARTER, 8.0)
    # One section runs on, one is without the ducker: only the second differs.
    found = clearest(Pairs([ducked], [[ducked], [music]], None, BEAT_S), [QUARTER])
    assert found is not None and found.depth_db == pytest.approx(8.0, abs=0.8)

"""The pieces that the survey is judged on: what is written down as their truth is what was done to them."""

from collections import Counter
from dataclasses import replace

import numpy as np
import pytest

from bench.material import ducked
from bench.material.arranged import BOUNDARY_DB, CLUB_FORM, arrange, arrange_club
from bench.material.ducked import RATE, Recipe, Source
from bench.material.factorial import LEVELS, PIECES, combinations, make_factorial
from bench.material.modules import Module, _role
from bench.pieces import judge_arranged, judge_ducked
from ersatz.core.survey.document import BandDepth, Change, Pump

PLAIN = Recipe(8.0, "straight", 0.8, 0.01, "1/4", "four", "chords", None, False, -60.0, 0.0)
BPM, BARS = 120.0, 8


def tone(hz: float, seconds: float) -> np.ndarray:
    return np.tile(0.2 * np.sin(2 * np.pi * hz * np.arange(int(seconds * RATE)) / RATE), (2, 1)).astype(np.float32)


@pytest.fixture(scope="module")
def source() -> Source:
    seconds = BARS * 240 / BPM
    return Source("two tones", BPM, {"bass": tone(80, seconds), "chords": tone(880, seconds)})


def level_db(x: np.ndarray, hz: float, frame: int = 441) -> np.ndarray:
    """Level of one tone over time, dB, by multiplying it down to 0 Hz and averaging over whole frames."""
    turned = x[0] * np.exp(-2j * np.pi * hz * np.arange(x.shape[1]) / RATE)
    return 20 * np.log10(np.abs(turned[: len(turned) // frame * frame].reshape(-1, frame).mean(axis=1)) + 1e-9)


@pytest.mark.parametrize("shape", list(ducked.SHAPES))
def test_every_shape_falls_to_its_depth_and_recovers_by_its_end(shape):
    t = np.arange(5000) / 10_000
    curve = ducked.curve_db(replace(PLAIN, shape=shape), 0.5, t)
    assert curve.min() == pytest.approx(-8.0, abs=0.1)
    assert curve[0] == 0 and np.abs(curve[t >= 0.4]).max() < 0.02
    after = curve[int(np.argmin(curve)) :]
    assert (np.diff(after) >= -1e-9).all()


@pytest.mark.parametrize(("rate", "pattern"), [("1/4", "four"), ("1/8", "four"), ("kick", "two-step"), ("kick and snare", "late")])
def test_the_ducked_stem_carries_the_curve_at_every_trigger_and_the_other_doesnt(source, rate, pattern):
    recipe = replace(PLAIN, rate=rate, pattern=pattern)
    audio, truth = ducked.make_piece(source, recipe, 1)
    chords, bass = level_db(audio, 880), level_db(audio, 80, 2205)
    frame_s = 441 / RATE
    step_s = 60 / BPM / 4
    expected = {"1/8": set(range(0, 16, 2)), "1/4": {0, 4, 8, 12}, "kick": {0, 10}, "kick and snare": {0, 4, 6, 10, 12}}[rate]
    lowest = [chords[int((16 + s) * step_s / frame_s) + 1] - chords.max() for s in expected]
    assert max(lowest) < -6.5
    assert truth["rate"] == rate and truth["told"]
    # Where nothing triggers nothing falls.
    rest = next(s for s in range(1, 16, 2) if s not in expected)
    assert chords[int((16 + rest) * step_s / frame_s) + 1] >= chords[int((16 + rest) * step_s / frame_s) - 1] - 0.5
    if rate != "kick and snare":
        assert np.ptp(bass[4:-4]) < 1.0


def test_ducking_goes_on_in_the_rests_only_where_the_recipe_says_so(source):
    step_s, frame_s = 60 / BPM / 4, 441 / RATE

    def dip(runs_on: bool) -> float:
        audio, _ = ducked.make_piece(source, replace(PLAIN, rests=(4, 6), runs_on=runs_on), 1)
        chords = level_db(audio, 880)
        return float(chords[int(4 * 16 * step_s / frame_s) + 1] - chords.max())

    assert dip(True) < -6.5 < -1.0 < dip(False)


def test_release_and_depth_of_the_truth(source):
    _, truth = ducked.make_piece(source, PLAIN, 1)
    # Straight: from 13 ms to 400 ms; 7 of 8 dB take seven eighths of that, and the hold counts.
    assert truth["release_ms"] == pytest.approx(10 + 0.875 * 387, abs=4)
    _, deep = ducked.make_piece(source, replace(PLAIN, depth_db=ducked.COMPLETE_DB), 1)
    assert deep["depth_db"] == ducked.DEEPEST_DB and min(deep["curve_db"]) == -ducked.DEEPEST_DB


def test_what_nothing_can_show_is_marked():
    seconds = BARS * 240 / BPM
    click = np.zeros((2, int(seconds * RATE)), np.float32)
    click[:, ::22_050] = 0.5
    _, truth = ducked.make_piece(Source("clicks", BPM, {"drums": click}), replace(PLAIN, target="all"), 1)
    assert not truth["told"]


def test_recipes_are_drawn_from_source_and_number_alone(source):
    assert [ducked.draw(source, k) for k in range(4)] == [ducked.draw(source, k) for k in range(4)]
    depths = [ducked.draw(source, k).depth_db for k in range(4)]
    assert depths[3] == 0 and 2 <= depths[0] <= 6 <= depths[1] <= 16


def test_instruments_get_their_role_by_how_they_sound():
    rng = np.random.default_rng(0)
    noise = rng.standard_normal((2, RATE * 4)).astype(np.float32) * 0.1
    assert _role(noise) == "drums"
    assert _role(tone(70, 4)) == "bass"
    assert _role(tone(70, 4) * 0.1 + tone(660, 4)) == "chords"


@pytest.fixture(scope="module")
def module() -> Module:
    instruments = [tone(hz, 20 * 240 / BPM) for hz in (60, 150, 500, 1500, 4000, 9000)]
    return Module("six tones", BPM, 20, {"chords": instruments[0]}, instruments)


@pytest.mark.parametrize("number", range(4))
def test_an_arrangement_changes_where_its_truth_says_and_nowhere_else(module, number):
    made = arrange(module, number)
    assert made is not None
    audio, truth = made
    bar = round(truth["bar_s"] * RATE)
    turns = np.exp(-2j * np.pi * np.outer([60, 150, 500, 1500, 4000, 9000], np.arange(bar)) / RATE)
    bars = np.abs(audio[0, : truth["bars"] * bar].reshape(-1, bar) @ turns.T / bar).T
    db = 20 * np.log10(bars + 1e-6)
    steps = np.abs(np.diff(np.maximum(db, db.max() - 30), axis=1)).max(axis=0)
    assert [int(b) + 1 for b in np.flatnonzero(steps > BOUNDARY_DB)] == truth["boundaries"]
    assert set(truth["boundaries"]) <= set(truth["changes"])


def test_too_few_instruments_make_no_arrangement(module):
    assert arrange(replace(module, instruments=module.instruments[:3]), 0) is None


def test_a_club_form_plays_what_its_labels_say(module):
    stems = {"drums": module.instruments[5], "bass": module.instruments[0], "chords": module.instruments[2]}
    made = arrange_club(replace(module, stems=stems), 0)
    assert made is not None
    audio, truth = made
    assert truth["labels"] == [label for label, _ in CLUB_FORM]
    bar = round(truth["bar_s"] * RATE)
    turns = np.exp(-2j * np.pi * np.outer([9000, 60, 500], np.arange(bar)) / RATE)
    for start, label in zip([0, *truth["boundaries"]], truth["labels"]):
        drums, bass, chords = np.abs(turns @ audio[0, start * bar : (start + 1) * bar]) / bar > 1e-3
        plays = {"intro": (True, False, False), "outro": (True, False, False), "drop": (True, True, True)}
        assert (drums, bass, chords) == plays.get(label, (False, False, True)), label
    assert arrange_club(module, 0) is None


def test_every_level_of_every_factor_comes_as_often_and_combinations_are_held_back_whole():
    drawn = list(combinations())
    for name, levels in LEVELS.items():
        counts = Counter(getattr(f, name) for f in drawn)
        assert set(counts) == set(levels) and max(counts.values()) - min(counts.values()) <= 1
    assert len(drawn) == PIECES and len({f.combination for f in drawn}) == len(LEVELS["ducked"]) * len(LEVELS["kick"])


def test_a_factorial_piece_is_turned_down_by_what_it_says():
    factors = next(f for f in combinations() if f.kick == "four" and f.ducked == ("chords", "lead") and f.form == "goes on")
    (none, nothing), (deep, truth) = (make_factorial(replace(factors, depth_db=d, drive=0.05), 3) for d in (0.0, 16.0))
    assert (nothing["depth_db"], truth["depth_db"], truth["rate"], min(truth["curve_db"])) == (0.0, 16.0, "1/4", -16.0)
    beat = truth["beat_s"] * RATE
    quieter = []
    for k in range(8, 24):
        low, back = int(k * beat + 0.02 * RATE), int((k + 0.97) * beat)
        a, b = (np.square(none[:, at : at + 600]).sum() - np.square(deep[:, at : at + 600]).sum() for at in (low, back))
        quieter.append(a > b)
    assert np.mean(quieter) > 0.8


def test_pieces_are_judged_by_what_was_found(club_survey, source):
    _, truth = ducked.make_piece(source, PLAIN, 1)
    bands = {"low": BandDepth(8), "mid": BandDepth(8), "high": BandDepth(8)}
    right = Pump(8.0, "1/4", truth["release_ms"], tuple(truth["curve_db"]), 0.9, bands, (0,), ())
    tempo = replace(club_survey.tempo, first_downbeat_s=0.0)
    figures, stated = judge_ducked(truth, replace(club_survey, pump=right, tempo=tempo))
    assert figures == {"depth": 0.0, "ducked": 1.0, "said": 0.0, "phase": 1.0, "rate": 1.0, "release": 0.0, "curve": 0.0}
    assert stated == [("pump", 0.9, True)]
    nothing = replace(right, depth_db=0.0, curve_db=(0.0,) * 64)
    figures, stated = judge_ducked(truth, replace(club_survey, pump=nothing, tempo=tempo))
    assert (figures["depth"], figures["ducked"], figures["rate"], stated[0][2]) == (8.0, 0.0, 0.0, False) and "curve" not in figures
    figures, stated = judge_ducked({**truth, "told": False}, replace(club_survey, pump=replace(right, confidence=0.3)))
    assert figures == {"kept": 1.0} and stated == []


def test_arrangements_are_judged_in_seconds(club_survey):
    starts = [s.start_bar - 1 for s in club_survey.sections[1:]]
    truth = {"bar_s": club_survey.tempo.grid.bar_s, "boundaries": starts, "changes": starts, "bars": club_survey.bars}
    found = replace(club_survey, changes=tuple(Change(b + 1, (), (), (), 1.0) for b in starts))
    assert judge_arranged(truth, found) == {"boundaries": 1.0, "changes": 1.0}
    labelled = {**truth, "labels": [s.label for s in club_survey.sections]}
    assert judge_arranged(labelled, found)["labels"] > 0.98
    late = {**truth, "boundaries": [b + 2 for b in starts], "changes": [b + 2 for b in starts]}
    assert judge_arranged(late, found)["boundaries"] < 0.5 and judge_arranged(late, found)["changes"] == 0.0

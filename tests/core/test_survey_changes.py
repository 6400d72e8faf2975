"""Bar lines at which something enters or leaves: on rows of levels with known steps, and on a track."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.survey.changes import BANDS_HZ, BarLevels, change_strength, find_changes, leading, steps_db
from ersatz.core.survey.document import ROLES, Presence
from ersatz.core.survey.sections import LONGEST_DROP_BARS, divided, without_fills

ROWS = 2 * len(BANDS_HZ)


def levels(*pieces, seed=0, noise_db=0.4):
    """(bars, level of the top band) after each other, everything else at -20 dB, a little uneven."""
    bars = sum(length for length, _ in pieces)
    db = np.full((ROWS, bars), -20.0) + np.random.default_rng(seed).normal(0, noise_db, (ROWS, bars))
    top = np.concatenate([np.full(length, level) for length, level in pieces])
    db[[len(BANDS_HZ) - 1, ROWS - 1]] = top + np.random.default_rng(seed + 1).normal(0, noise_db, (2, bars))
    return BarLevels(db)


def silent(bars, **roles):
    rows = {role: (0.0,) * bars for role in ROLES} | {role: tuple(values) for role, values in roles.items()}
    return Presence(bars=tuple(range(1, bars + 1)), **rows)


@given(st.integers(4, 20), st.integers(4, 20), st.sampled_from([-12.0, -6.0, 6.0, 12.0]), st.integers(0, 50))
def test_a_step_that_lasts_is_one_change_where_it_is(before, behind, step, seed):
    found = find_changes(levels((before, -30.0), (behind, -30.0 + step), seed=seed), silent(before + behind))
    assert [c.bar for c in found] == [before + 1]
    (change,) = found
    (band,) = change.bands
    assert (band.low_hz, band.high_hz) == BANDS_HZ[-1] and band.change_db == pytest.approx(step, abs=1.0)


def test_a_steady_or_uneven_track_has_no_changes():
    assert find_changes(levels((32, -30.0)), silent(32)) == ()
    rng = np.random.default_rng(3)
    uneven = BarLevels(rng.normal(-20, 3.0, (ROWS, 64)))
    # What varies by itself has to step further.
    assert np.count_nonzero(change_strength(uneven) >= 6.0) <= 6


def test_what_is_there_for_two_bars_is_no_change_of_four():
    flicker = levels((16, -30.0), (1, -18.0), (15, -30.0))
    assert find_changes(flicker, silent(32)) == ()


def test_a_hit_in_one_bar_of_four_that_enters_a_loop_is_a_change():
    db = np.full((ROWS, 32), -20.0)
    db[0, 16::4] += 12.0
    found = find_changes(BarLevels(db), silent(32))
    assert [c.bar for c in found] == [17]
    # Without the repeats the same bars prove nothing.
    uneven = db + np.random.default_rng(2).normal(0, 4.0, db.shape)
    assert 17 not in [c.bar for c in find_changes(BarLevels(uneven), silent(32))]


def test_roles_that_enter_and_leave_are_named():
    hats = [0.0] * 8 + [1.0] * 8
    found = find_changes(levels((8, -40.0), (8, -20.0)), silent(16, hats=hats, noise=[1.0] * 8 + [0.0] * 8))
    assert [(c.bar, c.enters, c.leaves) for c in found] == [(9, ("hats",), ("noise",))]


def test_the_club_track_changes_where_its_music_comes_in(club_survey):
    bars = [c.bar for c in club_survey.changes]
    assert 9 in bars
    change = club_survey.changes[bars.index(9)]
    assert "bass" in change.enters and not change.leaves and all(b.change_db > 0 for b in change.bands)


def test_of_lines_near_each_other_the_strongest_leads():
    strength = np.array([0, 0, 5, 9, 4, 0, 0, 0, 3, 0.0])
    assert np.flatnonzero(leading(strength)).tolist() == [3, 8]
    step, clear = steps_db(np.array([[0.0, 0, 0, 0, 6, 6, 6, 6]]))
    assert int(np.argmax(step[0])) == int(np.argmax(clear[0])) == 4


def test_a_track_that_goes_on_as_one_drop_is_divided_where_it_changes_and_a_clear_form_is_not():
    changed = np.zeros(64)
    changed[[16, 40]] = 12.0, 20.0
    assert divided([0], ["drop"], changed) == ([0, 16, 40], ["drop"] * 3)
    assert divided([0], ["drop"], np.zeros(64)) == ([0], ["drop"])
    form = [0, 8, 16, 24]
    labels = ["intro", "breakdown", "build", "drop"]
    inside = np.zeros(24 + LONGEST_DROP_BARS)
    inside[40] = 20.0
    assert divided(form, labels, inside) == (form, labels)
    longer = np.append(inside, np.zeros(8))
    assert divided(form, labels, longer) == ([*form, 40], [*labels, "drop"])


def test_a_form_of_odd_lengths_is_divided_where_it_changes_though_it_has_many_kinds():
    labels = ["intro", "breakdown", "build", "drop", "outro"]
    changed = np.zeros(100)
    changed[70] = 20.0
    regular, odd = [0, 8, 24, 32, 64], [0, 9, 22, 27, 58]
    assert divided(regular, labels, changed[:72]) == (regular, labels)
    assert 70 in divided(odd, labels, changed)[0]


def test_a_single_bar_inside_is_the_end_of_what_it_follows():
    starts, labels = [0, 1, 8, 23, 24, 28], ["intro", "build", "drop", "bridge", "breakdown", "outro"]
    assert without_fills(starts, labels) == ([0, 1, 8, 24, 28], ["intro", "build", "drop", "breakdown", "outro"])
    assert without_fills([0, 1], ["intro", "drop"]) == ([0, 1], ["intro", "drop"])
    assert without_fills([0, 8], ["drop", "outro"]) == ([0, 8], ["drop", "outro"])

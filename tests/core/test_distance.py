"""What the solver of a balance makes small: known distances, and derivatives that are those of the residuals."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.optimize._numdiff import approx_derivative

from ersatz.core.balance.distance import Audible, Distance

PARTS, SECTIONS, BANDS, BELLS = 4, 3, 7, 2
NONE = Audible(np.zeros(0, int), np.zeros(0, int), np.zeros(0), np.zeros((0, BANDS), bool), 3.0)


def distance(seed=1, **changes):
    rng = np.random.default_rng(seed)
    size = PARTS * (1 + BELLS + SECTIONS)
    made = Distance(
        10 ** rng.uniform(-6, 0, (PARTS, SECTIONS, BANDS)), 10 ** rng.uniform(-7, -3, (SECTIONS, BANDS)),
        rng.uniform(-40, 0, (SECTIONS, BANDS)), rng.choice([0.15, 1.0, 1.5], (SECTIONS, BANDS)), rng.uniform(0, 1, (BELLS, BANDS)),
        np.array([0.0, -3.0, -9.0]), 1.0, rng.uniform(-3, 3, SECTIONS), rng.uniform(0.5, 2, BANDS), 48.0,
        Audible(np.array([0, 0, 2]), np.array([0, 2, 1]), np.array([20.0, 20.0, -50.0]), rng.random((3, BANDS)) > 0.3, 3.0),
        0.25 * np.eye(size),
    )  # fmt: skip
    return replace(made, **changes)


@pytest.mark.parametrize("seed", range(6))
def test_derivatives_are_those_of_the_residuals(seed):
    d = distance(seed)
    x = np.random.default_rng(seed).uniform(-6, 6, d.size)
    assert d.jacobian(x).shape == (len(d.residuals(x)), d.size)
    assert np.allclose(d.jacobian(x), approx_derivative(d.residuals, x), atol=2e-4)


def test_a_mix_that_stands_as_its_targets_has_no_distance_at_any_level():
    d = distance(audible=NONE, weight=np.ones((SECTIONS, BANDS)), behind=np.zeros(SECTIONS), empty_db=200.0)
    power = d.parts.sum(axis=0) + d.rest
    total = 10 * np.log10((power * d.hearing).sum(axis=1))
    d = replace(d, targets=10 * np.log10(power) + 7.0, loud=total - total.max())
    assert np.abs(d.residuals(np.zeros(d.size))).max() < 1e-9
    # One band 3 dB off is 3 dB off against the others, and shifts none of the other sections.
    targets = d.targets.copy()
    targets[1, 2] -= 3.0
    off = replace(d, targets=targets).residuals(np.zeros(d.size))[: d.targets.size].reshape(SECTIONS, BANDS)
    assert off[1, 2] == pytest.approx(3 * (1 - 1 / BANDS)) and np.abs(off[[0, 2]]).max() < 1e-9


def test_a_fader_moves_all_sections_and_a_level_its_own():
    d = distance(rest=np.zeros((SECTIONS, BANDS)), audible=NONE)
    for place, moved in ((0, [0, 1, 2]), (PARTS * (1 + BELLS) + 1, [1])):
        x = np.zeros(d.size)
        x[place] = 6.0
        change = (d.residuals(x) - d.residuals(0 * x))[: d.targets.size].reshape(SECTIONS, BANDS)
        assert [n for n in range(SECTIONS) if np.abs(change[n]).max() > 1e-9] == moved


def test_who_comes_through_enough_costs_nothing_and_who_does_not_costs_each_db():
    d = distance()
    each, power = d.parts, d.parts.sum(axis=0) + d.rest
    p, n = d.audible.parts[0], d.audible.sections[0]
    over = 10 * np.log10(each[p, n] / (power[n] - each[p, n]))[d.audible.bands[0]].max()
    for short in (-1.0, 4.0):
        wanted = replace(d.audible, over_db=np.array([over + short, -50.0, -50.0]))
        found = replace(d, audible=wanted).residuals(np.zeros(d.size))[d.of_targets : d.of_targets + 3]
        assert found == pytest.approx([3.0 * max(short, 0.0), 0.0, 0.0])

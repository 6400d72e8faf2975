"""Where does something enter, leave, open or close for four bars or more?

Conventions: levels are dB per band and bar; `bar` in this module is 0-based and the line where the bar begins.

Method: two levels per band and bar, the median (what sounds on) and the 95th percentile (what hits) of pieces of about 50 ms. At
every bar line the bars before are held against those behind, up to AROUND of each, band by band; a step counts as far as it stands
out from how the levels vary on both sides, as in a two-sample test for a change of mean (Basseville & Nikiforov 1993, chapter 2).
A step that is spread over neighbouring lines belongs to the one where it is clearest. Roles come from presence in the same way.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import ROLES, BandChange, Change, Presence
from ersatz.core.survey.shared import Shared

#: Bands of the levels, Hz: sub, bass, low middle, middle, presence, air.
BANDS_HZ = ((20, 110), (110, 270), (270, 770), (770, 2200), (2200, 7700), (7700, 18_000))
PIECE_S = 0.05
AROUND = 4
#: Quieter than this under the loudest band's loudest bar is silence.
FLOOR_DB = 60.0
#: A step from which a band has changed, and what it must be over the variation beside it, dB.
STEP_DB, CLEAR = 3.0, 2.2
#: Variation that no bar is free of, dB.
LEAST_VARIATION_DB = 0.7
#: A step counts for no more than this, dB: what falls silent is as changed at 12 dB as at 40.
MOST_STEP_DB = 12.0
#: Presence from which a role plays, and how far it has to move.
ROLE_STEP = 0.45
#: How much of what a bar differs from the one four earlier decides between equal steps.
FIRST_HEARD = 0.02
#: Sum of counted steps of all bands at which a change is as sure as can be, dB.
SURE_DB = 18.0


@dataclass(frozen=True)
class BarLevels:
    """Median and 95th percentile of the level of each band per bar, dB, shape (2 * len(BANDS_HZ), bars)."""

    db: np.ndarray

    @cached_property
    def steps_db(self) -> tuple[np.ndarray, np.ndarray]:
        """As steps_db gives them."""
        return steps_db(self.db)

    @property
    def bars(self) -> int:
        """Number of bars."""
        return int(self.db.shape[1])


def bar_levels(shared: Shared, bars: BarTable) -> BarLevels:
    """Levels per band and bar from pieces of PIECE_S, not lower than FLOOR_DB under the highest."""
    size = max(1, round(PIECE_S / shared.hop_s))
    rows = []
    for low, high in BANDS_HZ:
        power = shared.power(low, high)
        pieces = power[: len(power) // size * size].reshape(-1, size).mean(axis=1)
        rows.append(10 * np.log10(pieces + 1e-12))
    edges = np.clip(np.round(bars.edges_s / (size * shared.hop_s)).astype(int), 0, len(rows[0]))
    out = np.full((2, len(BANDS_HZ), bars.count), -120.0)
    for bar, (a, b) in enumerate(pairwise(edges)):
        if b > a:
            inside = np.array([row[a:b] for row in rows])
            out[:, :, bar] = np.percentile(inside, (50, 95), axis=1)
    return BarLevels(np.maximum(out, out.max() - FLOOR_DB).reshape(2 * len(BANDS_HZ), bars.count))


def steps_db(levels: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(step, how far it stands out) of every row at every bar line, shape (rows, bars) each; 0 at the first line. `levels` has
    shape (rows, bars)."""
    rows, bars = levels.shape
    step, clear = np.zeros((rows, bars)), np.zeros((rows, bars))
    for bar in range(1, bars):
        before, behind = levels[:, max(0, bar - AROUND) : bar], levels[:, bar : bar + AROUND]
        if min(before.shape[1], behind.shape[1]) < 2:
            continue
        step[:, bar] = behind.mean(axis=1) - before.mean(axis=1)
        variation = np.sqrt((before.var(axis=1) + behind.var(axis=1)) / 2)
        if before.shape == behind.shape == (rows, AROUND):
            # What goes round in four bars varies as much and changes nothing: like with like, it varies less.
            variation = np.minimum(variation, (behind - before).std(axis=1))
            if AROUND * 2 <= bar <= bars - AROUND * 2:
                # An instrument may enter in one bar of the four only: then both sides still repeat themselves.
                earlier, later = levels[:, bar - 2 * AROUND : bar - AROUND], levels[:, bar + AROUND : bar + 2 * AROUND]
                again = np.sqrt((np.square(before - earlier) + np.square(later - behind)).mean(axis=1) / 2)
                variation = np.minimum(variation, again)
        clear[:, bar] = np.abs(step[:, bar]) / (variation + LEAST_VARIATION_DB)
    return step, clear


def change_strength(levels: BarLevels) -> np.ndarray:
    """How much changes at each bar line, dB summed over bands, shape (bars,): only at the lines where it is clearest."""
    step, clear = levels.steps_db
    like = np.zeros_like(step)
    like[:, AROUND:] = np.minimum(np.abs(levels.db[:, AROUND:] - levels.db[:, :-AROUND]), MOST_STEP_DB)
    # What enters in one bar of four steps alike at four lines: it enters where it is first heard.
    counted = np.where((np.abs(step) >= STEP_DB) & (clear >= CLEAR), np.abs(step) + FIRST_HEARD * like, 0.0)
    # Of a band's two levels the one that changes more: a hat that enters is one change.
    per_band = counted.reshape(2, -1, levels.bars).max(axis=0)
    # A band changes for four bars or more: of its lines nearer to each other only the clearest is one.
    sharp = np.array([leading(row) for row in per_band])
    return np.asarray(np.minimum(sharp, MOST_STEP_DB).sum(axis=0))


def leading(strength: np.ndarray, within: int = AROUND - 1) -> np.ndarray:
    """The strength at those lines that no line so few bars away surpasses, 0 elsewhere, shape (bars,)."""
    padded = np.pad(strength, within)
    highest = np.lib.stride_tricks.sliding_window_view(padded, 2 * within + 1).max(axis=1)
    return np.asarray(np.where(strength >= highest, strength, 0.0))


def find_changes(levels: BarLevels, presence: Presence) -> tuple[Change, ...]:
    """In order of time. Lines next to each other are one change, at the stronger."""
    strength = change_strength(levels)
    step, _ = levels.steps_db
    playing = np.array([presence.of(role) for role in ROLES])
    moved, sure = steps_db(playing * 10)
    out = []
    for bar in np.flatnonzero(strength > 0):
        if strength[bar] < strength[max(0, bar - 1) : bar + 2].max():
            continue
        if bar and strength[bar - 1] == strength[bar]:
            continue
        bands = []
        for k, (low, high) in enumerate(BANDS_HZ):
            both = step[[k, k + len(BANDS_HZ)], bar]
            larger = float(both[np.argmax(np.abs(both))])
            if abs(larger) >= STEP_DB:
                bands.append(BandChange(float(low), float(high), round(larger, 1)))
        rises = (moved[:, bar] / 10 >= ROLE_STEP) & (sure[:, bar] >= CLEAR)
        falls = (moved[:, bar] / 10 <= -ROLE_STEP) & (sure[:, bar] >= CLEAR)
        out.append(
            Change(
                int(bar) + 1,
                tuple(r for r, on in zip(ROLES, rises) if on),
                tuple(r for r, on in zip(ROLES, falls) if on),
                tuple(bands),
                round(float(np.clip(strength[bar] / SURE_DB, 0.2, 0.95)), 2),
            )
        )
    return tuple(out)

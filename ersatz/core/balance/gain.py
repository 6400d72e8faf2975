"""Which gain of the master brings a mix to a loudness: by few passes of the whole mix through clipper and limiter.

Method: what clipper and limiter take from 100 ms of music depends mostly on its highest peak (a static curve on short-term peaks,
after Giannoulis, Massberg & Reiss 2012). A pass at one gain gives pairs of peak and loss; a falling curve through their medians
says what would be lost at any other gain, and so the loudness. The gain found on the curve is tried by a pass, which gives the next
curve, until the loudness is met.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from ersatz.core.loudness import STEP_S, integrated_lufs

#: Close enough, LU; and passes at the most.
WITHIN_LU, MOST_PASSES = 0.08, 5
GAIN_LOW_DB, GAIN_HIGH_DB = -40.0, 60.0
#: Width of a bin of peaks, and what is lost of every further dB beyond the highest peak that was seen.
BIN_DB, BEYOND = 0.5, 0.6
#: A step of the gain is at least what is missing, and at most so many times that: the curve knows little of what lies far off.
MOST_STRETCH = 2.0
SILENT = 1e-9


@dataclass(frozen=True)
class LossCurve:
    """`loss_db` (0 or less) of a step by its highest peak in dB re full scale in front of the clipper, rising peaks."""

    peak_db: np.ndarray
    loss_db: np.ndarray

    def at(self, peak_db: np.ndarray) -> np.ndarray:
        """Loss in dB at peaks in dB; beyond the last one it goes on falling by BEYOND per dB."""
        beyond = np.maximum(peak_db - self.peak_db[-1], 0.0)
        return np.interp(peak_db, self.peak_db, self.loss_db) - BEYOND * beyond


def fitted(peak_db: np.ndarray, loss_db: np.ndarray) -> LossCurve:
    """A falling curve through the medians of bins of BIN_DB."""
    bins = np.floor(peak_db / BIN_DB).astype(int)
    places = np.unique(bins)
    medians = np.array([np.median(loss_db[bins == b]) for b in places])
    return LossCurve((places + 0.5) * BIN_DB, np.minimum.accumulate(np.minimum(medians, 0.0)))


def peaks_db(samples: np.ndarray, rate_hz: int) -> np.ndarray:
    """Highest magnitude of either side in each whole step of 100 ms, dB re full scale, shape (steps,), of (2, n)."""
    step = round(rate_hz * STEP_S)
    count = samples.shape[1] // step
    highest = np.abs(samples[:, : count * step]).reshape(samples.shape[0], count, step).max(axis=(0, 2))
    return np.asarray(20 * np.log10(np.maximum(highest, SILENT)))


def solved_gain(
    energies: np.ndarray, peak_db: np.ndarray, target_lufs: float, start_db: float, through: Callable[[float], np.ndarray],
    within_lu: float = WITHIN_LU,
) -> float:  # fmt: skip
    """Gain in dB at which a mix has the target's integrated loudness behind clipper and limiter. `energies` (step_energy) and
    `peak_db` of its steps in front of them; `through(gain_db)` gives the energies of the steps behind them at a gain."""
    sounds, linear_db = energies > SILENT**2, _in_db(energies)
    gain_db, best = start_db, (np.inf, start_db)
    for _ in range(MOST_PASSES):
        behind = through(gain_db)
        error = target_lufs - integrated_lufs(behind)
        best = min(best, (abs(error), gain_db))
        if abs(error) < within_lu or not sounds.any():
            break
        curve = _lost(linear_db, peak_db, behind, gain_db, sounds)
        # What the medians miss is the same a little louder or softer.
        missed = _modelled(linear_db, peak_db, gain_db, curve) - (target_lufs - error)
        wanted = _gain_at(linear_db, peak_db, curve, missed, target_lufs)
        if wanted is None:
            # Further than the limiter lets it: as near as one pass came.
            break
        gain_db = round(gain_db + float(np.clip((wanted - gain_db) / error, 1.0, MOST_STRETCH)) * error, 3)
    return best[1]


@dataclass(frozen=True)
class Pass:
    """One pass of a mix through clipper and limiter: `energies` and `peak_db` of its steps in front of them, as solved_gain takes
    them, and the energies `behind` them at `gain_db`."""

    energies: np.ndarray
    peak_db: np.ndarray
    gain_db: float
    behind: np.ndarray


def predicted_gain(passed: Pass, energies: np.ndarray, peak_db: np.ndarray, target_lufs: float) -> float:
    """Gain in dB at which a mix has the target's integrated loudness, foreseen from a pass of one that is much like it: phrases
    moved, bands lifted. `energies` and `peak_db` of its steps in front. Without a pass of its own, so only near: the limiter is
    told by its loss at each peak alone."""
    sounds, linear_db = passed.energies > SILENT**2, _in_db(passed.energies)
    if not sounds.any():
        return passed.gain_db
    curve = _lost(linear_db, passed.peak_db, passed.behind, passed.gain_db, sounds)
    missed = _modelled(linear_db, passed.peak_db, passed.gain_db, curve) - integrated_lufs(passed.behind)
    wanted = _gain_at(_in_db(energies), peak_db, curve, missed, target_lufs)
    return passed.gain_db if wanted is None else round(wanted, 3)


def _in_db(energies: np.ndarray) -> np.ndarray:
    return np.asarray(10 * np.log10(np.maximum(energies, SILENT**2)))


def _lost(linear_db: np.ndarray, peak_db: np.ndarray, behind: np.ndarray, gain_db: float, sounds: np.ndarray) -> LossCurve:
    """What one pass at a gain lost, by peak, of the steps that sound."""
    loss = _in_db(behind) - linear_db - gain_db
    return fitted(peak_db[sounds] + gain_db, loss[sounds])


def _gain_at(linear_db: np.ndarray, peak_db: np.ndarray, curve: LossCurve, missed: float, target_lufs: float) -> float | None:
    """Gain at which the model less what it `missed` has the target's loudness; None where no gain has."""

    def off(gain_db: float) -> float:
        return _modelled(linear_db, peak_db, gain_db, curve) - missed - target_lufs

    if off(GAIN_LOW_DB) > 0 or off(GAIN_HIGH_DB) < 0:
        return None
    return float(scipy.optimize.brentq(off, GAIN_LOW_DB, GAIN_HIGH_DB, xtol=1e-3))


def _modelled(linear_db: np.ndarray, peak_db: np.ndarray, gain_db: float, curve: LossCurve) -> float:
    """Integrated loudness at a gain, LUFS."""
    return integrated_lufs(10 ** ((linear_db + gain_db + curve.at(peak_db + gain_db)) / 10))

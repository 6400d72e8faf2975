"""Dynamics: compressor, gate, transient shaper, multiband compressor.

Gain computer and smoothing after Giannoulis, Massberg & Reiss 2012: feed-forward, in the log domain, soft knee, decoupled peak
follower. Levels are dB re full scale; both sides share one gain. Look-ahead moves the detector, not the music.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from ersatz.core.dsp import followers
from ersatz.core.dsp.control import figures
from ersatz.core.dsp.levels import factor
from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.params import Choice, Param

#: A time constant is how long a smoother takes to 63 %; after this many it has arrived.
SETTLED = 7.0
RMS_S = 0.010
#: Samples between two figures of the multiband's detector.
CONTROL = 16
GATE_RANGE_DB = 80.0


def gain_db(level_db: np.ndarray, threshold_db: np.ndarray | float, ratio: np.ndarray | float, knee_db: float) -> np.ndarray:
    """Static curve of a downward compressor: output level less input level, dB (equation 4)."""
    over = level_db - threshold_db
    slope = 1 / np.asarray(ratio, float) - 1
    hard = slope * np.maximum(over, 0.0)
    if knee_db <= 0:
        return np.asarray(hard)
    knee = slope * (over + knee_db / 2) ** 2 / (2 * knee_db)
    return np.where(np.abs(over) <= knee_db / 2, knee, hard)


def _ahead(x: np.ndarray, samples: int) -> np.ndarray:
    """What comes `samples` later, silence at the end."""
    return np.concatenate([x[:, samples:], np.zeros((x.shape[0], samples))], axis=1) if samples else x


def _detector(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """What steers the effect, as far ahead as is set."""
    return _ahead(where.steering(x), int(s.flat("look_ahead_ms") / 1000 * where.rate))


def _smoothing(s: Settings, rate: float) -> tuple[float, float]:
    """Coefficients of attack and release."""
    return followers.coefficient(s.flat("attack_ms") / 1000, rate), followers.coefficient(s.flat("release_ms") / 1000, rate)


def _compress(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    n = x.shape[1]
    detector = _detector(x, s, where)
    level = followers.rms_db(detector, RMS_S, where.rate) if s.choices["detector"] == "RMS" else followers.peak_db(detector)
    reduction = -gain_db(level, s.curve("threshold_db", n), s.curve("ratio", n), s.flat("knee_db"))
    attack, release = _smoothing(s, where.rate)
    gain = s.curve("gain_db", n) - followers.decoupled(reduction, attack, release)
    if s.choices["auto_gain"] == "on":
        gain = gain + auto_gain_db(s)
    return np.asarray(x * factor(gain))


def auto_gain_db(s: Settings) -> float:
    """Half of what the curve takes from full scale: what a full mix usually loses."""
    return float(-gain_db(np.zeros(1), s.flat("threshold_db"), s.flat("ratio"), s.flat("knee_db"))[0] / 2)


def _compress_before(s: Settings, bpm: float) -> float:
    return SETTLED * (s.flat("attack_ms") + s.flat("release_ms")) / 1000 + RMS_S


COMPRESSOR = EffectSpec(
    "compressor", "Compressor",
    (Param("threshold_db", "dB", -60, 0, -18, "Threshold", moves=""), Param("ratio", ":1", 1, 50, 3, "Ratio", "log", moves=""),
     Param("knee_db", "dB", 0, 24, 6, "Knee"), Param("attack_ms", "ms", 0, 200, 10, "Attack"),
     Param("release_ms", "ms", 5, 1000, 120, "Release", "log"), Param("look_ahead_ms", "ms", 0, 20, 0, "Look-ahead"),
     Param("gain_db", "dB", -24, 24, 0, "Gain", moves="")),
    _compress,
    (Choice("detector", ("peak", "RMS"), "peak", "Detector"), Choice("auto_gain", ("off", "on"), "off", "Auto gain")),
    _compress_before, lambda s, bpm: s.flat("look_ahead_ms") / 1000, has_sidechain=True,
)  # fmt: skip


@njit(cache=True, nogil=True)
def _gate_open(level_db: np.ndarray, threshold_db: np.ndarray, hysteresis_db: float, hold: int) -> np.ndarray:  # pragma: no cover
    """1 where the gate is open: from the threshold on, until the level has been under it by the hysteresis for `hold` samples."""
    out = np.zeros(len(level_db))
    left = 0
    for i in range(len(level_db)):
        if level_db[i] >= threshold_db[i] or (left > 0 and level_db[i] >= threshold_db[i] - hysteresis_db):
            left = hold + 1
        if left > 0:
            out[i] = 1.0
            left -= 1
    return out


def _gate(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    n = x.shape[1]
    level = followers.peak_db(_detector(x, s, where))
    hold = max(1, int(s.flat("hold_ms") / 1000 * where.rate))
    opened = _gate_open(level, s.curve("threshold_db", n), s.flat("hysteresis_db"), hold)
    attack, release = _smoothing(s, where.rate)
    return np.asarray(x * factor(s.flat("range_db") * (followers.decoupled(opened, attack, release) - 1)))


GATE = EffectSpec(
    "gate", "Gate",
    (Param("threshold_db", "dB", -80, 0, -40, "Threshold", moves=""), Param("hysteresis_db", "dB", 0, 24, 4, "Hysteresis"),
     Param("range_db", "dB", 0, GATE_RANGE_DB, 60, "Range"), Param("attack_ms", "ms", 0, 100, 0.5, "Attack"),
     Param("hold_ms", "ms", 0, 500, 20, "Hold"), Param("release_ms", "ms", 1, 1000, 60, "Release", "log"),
     Param("look_ahead_ms", "ms", 0, 20, 1, "Look-ahead")),
    _gate,
    before_s=lambda s, bpm: SETTLED * (s.flat("attack_ms") + s.flat("release_ms")) / 1000 + s.flat("hold_ms") / 1000,
    after_s=lambda s, bpm: s.flat("look_ahead_ms") / 1000, has_sidechain=True,
)  # fmt: skip

#: The transient shaper's followers, seconds: fast and slow in attack, fast and slow in release.
FAST_S, SLOW_ATTACK_S, FAST_RELEASE_S, SLOW_RELEASE_S = 0.001, 0.020, 0.040, 0.250
MOST_SHAPE_DB = 18.0


def _transients(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """Attack is where a fast follower is ahead of a slow one; sustain is where a slow release lies above a fast one."""
    level = np.maximum(followers.peak_db(x), -90.0)
    times = np.array([followers.coefficient(t, where.rate) for t in (FAST_S, SLOW_ATTACK_S, FAST_RELEASE_S, SLOW_RELEASE_S)])
    return np.asarray(x * factor(_shape_db(level, times, figures(s.values["attack"]), figures(s.values["sustain"]))))


@njit(cache=True, nogil=True)
def _shape_db(
    level_db: np.ndarray, times: np.ndarray, attack: np.ndarray, sustain: np.ndarray
) -> np.ndarray:  # pragma: no cover - compiled
    """Gain, dB, of a level: three `followers.decoupled` in step. `attack`, `sustain`: one figure, or one per sample."""
    fast, slow, release, longer = times[0], times[1], times[2], times[3]
    moves, lasts = len(attack) > 1, len(sustain) > 1
    out = np.empty(len(level_db))
    held = holds_on = quick = behind = rings = level_db[0]
    for i in range(len(level_db)):
        held = followers.released(held, level_db[i], release)
        holds_on = followers.released(holds_on, level_db[i], longer)
        quick = followers.smoothed(quick, held, fast)
        behind = followers.smoothed(behind, held, slow)
        rings = followers.smoothed(rings, holds_on, fast)
        sooner, later = min(max(quick - behind, 0.0), MOST_SHAPE_DB), min(max(rings - quick, 0.0), MOST_SHAPE_DB)
        out[i] = attack[i if moves else 0] * sooner + sustain[i if lasts else 0] * later
    return out


TRANSIENTS = EffectSpec(
    "transients", "Transient shaper",
    (Param("attack", "", -1, 1, 0, "Attack", moves=""), Param("sustain", "", -1, 1, 0, "Sustain", moves="")),
    _transients, before_s=lambda s, bpm: SETTLED * (SLOW_RELEASE_S + SLOW_ATTACK_S),
)  # fmt: skip

BANDS = ("low", "mid", "high")
UP_FLOOR_DB = -70.0


def up_gain_db(level_db: np.ndarray, threshold_db: float, ratio: float) -> np.ndarray:
    """Static curve of an upward compressor: what lies under the threshold is lifted towards it, but not what is silence."""
    under = np.clip(threshold_db - level_db, 0.0, threshold_db - UP_FLOOR_DB)
    fading = np.clip((level_db - UP_FLOOR_DB) / 12, 0.0, 1.0)
    return np.asarray((1 - 1 / ratio) * under * fading)


@njit(cache=True, nogil=True)
def _summed(low: np.ndarray, mid: np.ndarray, high: np.ndarray, gains: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """Three bands (2, n) added up, each at its gain every CONTROL samples, joined by straight lines; the last one stands."""
    out = np.empty(low.shape)
    last = gains.shape[1] - 1
    for c in range(2):
        for k in range(last + 1):
            g0, g1, g2 = gains[0, k], gains[1, k], gains[2, k]
            after = min(k + 1, last)
            s0, s1, s2 = (gains[0, after] - g0) / CONTROL, (gains[1, after] - g1) / CONTROL, (gains[2, after] - g2) / CONTROL
            start = k * CONTROL
            for j in range(min(CONTROL, low.shape[1] - start)):
                i = start + j
                out[c, i] = low[c, i] * (g0 + s0 * j) + mid[c, i] * (g1 + s1 * j) + high[c, i] * (g2 + s2 * j)
    return out


def _multiband(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    low = followers.below(x, s.flat("low_hz"), where.rate)
    high = x - followers.below(x, s.flat("high_hz"), where.rate)
    # A mean over 10 ms needs no figure per sample: one every CONTROL, from a start that is the same for every bar.
    attack, release = _smoothing(s, where.rate / CONTROL)
    n = x.shape[1]
    amount = s.curve("amount", n)[::CONTROL]
    gains = []
    bands = (low, x - low - high, high)
    for name, band in zip(BANDS, bands):
        level = followers.rms_db(band, RMS_S, where.rate, CONTROL)
        down = gain_db(level, s.flat(f"{name}_down_db"), s.flat("down_ratio"), 3.0)
        up = up_gain_db(level, s.flat(f"{name}_up_db"), s.flat("up_ratio"))
        gain = amount * -followers.decoupled(-(down + up), attack, release) + s.curve(f"{name}_gain_db", n)[::CONTROL]
        gains.append(factor(gain))
    return _summed(*bands, np.stack(gains))


def _multiband_reach(s: Settings, bpm: float) -> float:
    return followers.below_context_s(s.flat("low_hz"))


MULTIBAND = EffectSpec(
    "multiband", "Multiband compressor",
    (Param("amount", "", 0, 1, 1, "Amount", moves=""), Param("low_hz", "Hz", 60, 600, 140, "Low up to", "log"),
     Param("high_hz", "Hz", 1000, 8000, 2500, "High from", "log"),
     Param("down_ratio", ":1", 1, 20, 3, "Ratio down", "log"), Param("up_ratio", ":1", 1, 10, 2, "Ratio up", "log"),
     Param("attack_ms", "ms", 1, 100, 12, "Attack", "log"), Param("release_ms", "ms", 10, 500, 90, "Release", "log"),
     *(Param(f"{b}_down_db", "dB", -60, 0, -20, f"{b.title()}: down from") for b in BANDS),
     *(Param(f"{b}_up_db", "dB", -70, 0, -36, f"{b.title()}: up under") for b in BANDS),
     *(Param(f"{b}_gain_db", "dB", -18, 18, 0, f"{b.title()}: gain", moves="") for b in BANDS)),
    _multiband,
    before_s=lambda s, bpm: SETTLED * (s.flat("attack_ms") + s.flat("release_ms")) / 1000 + RMS_S + _multiband_reach(s, bpm),
    after_s=_multiband_reach,
)  # fmt: skip

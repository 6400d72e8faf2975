"""Dynamics: compressor, gate, transient shaper, multiband compressor.

Gain computer and smoothing after Giannoulis, Massberg & Reiss 2012: feed-forward, in the log domain, soft knee, decoupled peak
follower. Levels are dB re full scale; both sides share one gain. Look-ahead moves the detector, not the music.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.dsp import followers
from ersatz.core.dsp.control import figures
from ersatz.core.dsp.levels import factor, to_db
from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.params import Choice, Param

#: A time constant is how long a smoother takes to 63 %; after this many it has arrived.
SETTLED = 7.0
RMS_S = 0.010
#: Samples between two figures of the multiband's detector.
CONTROL = 16
GATE_RANGE_DB = 80.0


def gain_db(level_db: np.ndarray, threshold_db: np.ndarray | float, ratio: np.ndarray | float, knee_db: float) -> np.ndarray:
    """Static curve of a downward compressor: output level less input level, dB (equation 4), shape (n,). `threshold_db` and
    `ratio`: one figure, or one per level."""
    return np.asarray(_computed(level_db, figures(threshold_db), figures(ratio), knee_db))


@compiled
def _computed(level_db: np.ndarray, threshold_db: np.ndarray, ratio: np.ndarray, knee_db: float) -> np.ndarray:  # pragma: no cover
    """Without branches: the knee's parabola, which stands from its end on, and behind that the line."""
    out = np.empty(len(level_db))
    half, width = knee_db / 2, max(knee_db, 1e-9)
    threshold, slope = threshold_db[0], 1.0 / ratio[0] - 1.0
    moves = len(threshold_db) > 1 or len(ratio) > 1
    for i in range(len(level_db)):
        if moves:
            threshold = threshold_db[i if len(threshold_db) > 1 else 0]
            slope = 1.0 / ratio[i if len(ratio) > 1 else 0] - 1.0
        over = level_db[i] - threshold
        bent = min(max(over + half, 0.0), knee_db)
        out[i] = slope * (bent * bent / (2.0 * width) + max(over - half, 0.0))
    return out


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
    detector = _detector(x, s, where)
    level = followers.rms_db(detector, RMS_S, where.rate) if s.choices["detector"] == "RMS" else followers.peak_db(detector)
    reduction = gain_db(level, s.values["threshold_db"], s.values["ratio"], s.flat("knee_db"))
    added = s.values["gain_db"] + (auto_gain_db(s) if s.choices["auto_gain"] == "on" else 0.0)
    return np.asarray(x * factor(added - followers.decoupled(np.negative(reduction, reduction), *_smoothing(s, where.rate))))


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


@compiled
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


@compiled
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


@compiled
def _band_powers(x: np.ndarray, low: np.ndarray, low_and_mid: np.ndarray, width: int) -> np.ndarray:  # pragma: no cover - compiled
    """Mean power of each band over the last `width` samples, silence in front, at every CONTROL-th sample, shape (3, n / CONTROL,
    rounded up)."""
    n = x.shape[1]
    totals, out = np.zeros((3, n + width + 1)), np.empty((3, (n + CONTROL - 1) // CONTROL))
    lows, mids, highs = totals[0, width + 1 :], totals[1, width + 1 :], totals[2, width + 1 :]
    in_low, in_mid, in_high = 0.0, 0.0, 0.0
    for i in range(n):
        a, b, c, d = low[0, i], low[1, i], low_and_mid[0, i], low_and_mid[1, i]
        in_low += a * a + b * b
        in_mid += (c - a) ** 2 + (d - b) ** 2
        in_high += (x[0, i] - c) ** 2 + (x[1, i] - d) ** 2
        lows[i], mids[i], highs[i] = in_low, in_mid, in_high
    for band in range(3):
        for k in range(out.shape[1]):
            out[band, k] = (totals[band, width + k * CONTROL + 1] - totals[band, k * CONTROL + 1]) / (2 * width)
    return out


@compiled
def _summed(
    x: np.ndarray, low: np.ndarray, low_and_mid: np.ndarray, gains: np.ndarray
) -> np.ndarray:  # pragma: no cover - compiled
    """The three bands added up, each at its gain every CONTROL samples, joined by straight lines; the last one stands."""
    out = np.empty(x.shape)
    last = gains.shape[1] - 1
    for c in range(2):
        for k in range(last + 1):
            g0, g1, g2 = gains[0, k], gains[1, k], gains[2, k]
            after = min(k + 1, last)
            s0, s1, s2 = (gains[0, after] - g0) / CONTROL, (gains[1, after] - g1) / CONTROL, (gains[2, after] - g2) / CONTROL
            start, stop = k * CONTROL, min((k + 1) * CONTROL, x.shape[1])
            here, a, b, there = x[c, start:stop], low[c, start:stop], low_and_mid[c, start:stop], out[c, start:stop]
            for j in range(stop - start):
                there[j] = a[j] * (g0 + s0 * j) + (b[j] - a[j]) * (g1 + s1 * j) + (here[j] - b[j]) * (g2 + s2 * j)
    return out


def _multiband(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    lows = [followers.below(x, s.flat(split), where.rate) for split in ("low_hz", "high_hz")]
    # A mean over 10 ms needs no figure per sample: one every CONTROL, from a start that is the same for every bar.
    attack, release = _smoothing(s, where.rate / CONTROL)
    n = x.shape[1]
    amount = s.curve("amount", n)[::CONTROL]
    levels = to_db(_band_powers(x, *lows, int(RMS_S * where.rate)))
    gains = []
    for name, level in zip(BANDS, levels):
        down = gain_db(level, s.flat(f"{name}_down_db"), s.flat("down_ratio"), 3.0)
        up = up_gain_db(level, s.flat(f"{name}_up_db"), s.flat("up_ratio"))
        gain = amount * -followers.decoupled(-(down + up), attack, release) + s.curve(f"{name}_gain_db", n)[::CONTROL]
        gains.append(factor(gain))
    return np.asarray(_summed(x, *lows, np.stack(gains)))


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

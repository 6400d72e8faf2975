"""Equaliser: bells, shelves and cuts as second-order sections (Bristow-Johnson's cookbook; Butterworth cuts).

The effect has eight bands. At rest they run as biquads; a band that is automated runs as a state-variable filter with the same
response (Simper 2013, "Linear trapezoidal state variable filters"), which stays stable while it moves.
"""

from __future__ import annotations

import math

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.dsp import filters
from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.params import Choice, Param
from ersatz.core.song.document import EqBand

BANDS = 8
KINDS = (
    "off",
    "bell",
    "low shelf",
    "high shelf",
    "low cut 12",
    "low cut 24",
    "low cut 48",
    "high cut 12",
    "high cut 24",
    "high cut 48",
)
CHANNELS = ("both sides", "mid", "side")
BAND_HZ = (40.0, 90.0, 200.0, 450.0, 1000.0, 2400.0, 5500.0, 12_000.0)
#: Highest share of the sample rate that a band may stand at.
TOP = 0.45


def bell(band: EqBand, rate_hz: int) -> np.ndarray:
    """One peaking section, shape (6,)."""
    a = 10 ** (band.gain_db / 40)
    w, alpha = _angle(band.hz, band.q, rate_hz)
    a0 = 1 + alpha / a
    return np.array([(1 + alpha * a) / a0, -2 * math.cos(w) / a0, (1 - alpha * a) / a0,
                     1.0, -2 * math.cos(w) / a0, (1 - alpha / a) / a0])  # fmt: skip


def shelf(band: EqBand, rate_hz: int, high: bool) -> np.ndarray:
    """One shelving section, low or high, shape (6,); half its gain stands at its frequency."""
    a = 10 ** (band.gain_db / 40)
    w, alpha = _angle(band.hz, band.q, rate_hz)
    sign = -1 if high else 1
    c, root = sign * math.cos(w), 2 * math.sqrt(a) * alpha
    b = a * np.array([(a + 1) - (a - 1) * c + root, sign * 2 * ((a - 1) - (a + 1) * c), (a + 1) - (a - 1) * c - root])
    den = np.array([(a + 1) + (a - 1) * c + root, -sign * 2 * ((a - 1) + (a + 1) * c), (a + 1) + (a - 1) * c - root])
    return np.concatenate([b, den]) / den[0]


def _angle(hz: float, q: float, rate_hz: int) -> tuple[float, float]:
    w = 2 * math.pi * min(hz, TOP * rate_hz) / rate_hz
    return w, math.sin(w) / (2 * q)


def low_cut(hz: float, rate_hz: int, order: int = 2) -> np.ndarray:
    """Sections of a Butterworth high-pass, shape (sections, 6)."""
    return filters.butterworth(order, min(hz, TOP * rate_hz), rate_hz, highpass=True)


def high_cut(hz: float, rate_hz: int, order: int = 2) -> np.ndarray:
    """Sections of a Butterworth low-pass, shape (sections, 6)."""
    return filters.butterworth(order, min(hz, TOP * rate_hz), rate_hz)


def band_sections(kind: str, band: EqBand, rate_hz: int) -> np.ndarray:
    """Sections of a band of KINDS, shape (sections, 6); a cut's slope is 6 dB per octave and order, and has no gain or Q."""
    if kind == "bell":
        return bell(band, rate_hz)[None]
    if kind in ("low shelf", "high shelf"):
        return shelf(band, rate_hz, kind == "high shelf")[None]
    order = int(kind.split()[-1]) // 6
    return low_cut(band.hz, rate_hz, order) if kind.startswith("low cut") else high_cut(band.hz, rate_hz, order)


def response_db(sections: np.ndarray, hz: np.ndarray, rate_hz: int) -> np.ndarray:
    """Magnitude response at `hz`, dB."""
    return np.asarray(20 * np.log10(np.maximum(np.abs(filters.response(sections, hz, rate_hz)), 1e-12)))


@compiled
def _moving_band(
    x: np.ndarray, hz: np.ndarray, gain_db: np.ndarray, q: np.ndarray, rate: float, kind: int
) -> np.ndarray:  # pragma: no cover - compiled
    """A bell (0), low shelf (1), high shelf (2), low cut (3) or high cut (4) whose values move at every sample, on all channels of
    (channels, n) in step."""
    channels, n = x.shape
    out = np.empty((channels, n))
    ic1, ic2 = np.zeros(channels), np.zeros(channels)
    last_db, last_hz, a, root, tangent = np.nan, np.nan, 1.0, 1.0, 0.0
    for i in range(n):
        # Seldom do all values move at once.
        if gain_db[i] != last_db:
            last_db = gain_db[i]
            a = 10.0 ** (last_db / 40.0)
            root = np.sqrt(a)
        if hz[i] != last_hz:
            last_hz = hz[i]
            tangent = filters.tangent(last_hz, rate)
        g, k = tangent, 1.0 / q[i]
        if kind == 0:
            k = 1.0 / (q[i] * a)
            m0, m1, m2 = 1.0, k * (a * a - 1.0), 0.0
        elif kind == 1:
            g /= root
            m0, m1, m2 = 1.0, k * (a - 1.0), a * a - 1.0
        elif kind == 2:
            g *= root
            m0, m1, m2 = a * a, k * (1.0 - a) * a, 1.0 - a * a
        elif kind == 3:
            m0, m1, m2 = 1.0, -k, -1.0
        else:
            m0, m1, m2 = 0.0, 0.0, 1.0
        a1 = 1.0 / (1.0 + g * (g + k))
        for c in range(channels):
            v1, v2, ic1[c], ic2[c] = filters.trapezoidal(x[c, i], ic1[c], ic2[c], g, a1)
            out[c, i] = m0 * x[c, i] + m1 * v1 + m2 * v2
        if i % filters.FORGET_EVERY == 0:
            for c in range(channels):
                ic1[c], ic2[c] = filters.kept(ic1[c]), filters.kept(ic2[c])
    return out


def _cut_qs(kind: str) -> list[float]:
    """Qs of a Butterworth cut's sections."""
    return filters.butterworth_qs(int(kind.split()[-1]) // 6)


def _moved(x: np.ndarray, kind: str, s: Settings, k: int, rate: int) -> np.ndarray:
    n = x.shape[1]
    hz, gain, q = (s.curve(f"band{k}_{v}", n) for v in ("hz", "db", "q"))
    if "cut" in kind:
        mode = 3 if kind.startswith("low cut") else 4
        for stage in _cut_qs(kind):
            x = _moving_band(x, hz, gain, np.full(n, stage), rate, mode)
        return x
    mode = {"bell": 0, "low shelf": 1, "high shelf": 2}[kind]
    return np.asarray(_moving_band(x, hz, gain, q, rate, mode))


def process(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """All bands on (2, n): those at rest as one cascade, moving ones each by itself; on both sides, the mid or the side."""
    channels = s.choices["channels"]
    mid, side = (x[0] + x[1]) / 2, (x[0] - x[1]) / 2
    y = {"both sides": x, "mid": mid[None], "side": side[None]}[channels].astype(np.float64)
    still = []
    for k in range(1, BANDS + 1):
        kind = s.choices[f"band{k}_kind"]
        if kind == "off":
            continue
        if s.is_moving(f"band{k}_hz", f"band{k}_db", f"band{k}_q"):
            y = _moved(y, kind, s, k, where.rate)
        else:
            still.append(band_sections(kind, EqBand(*(s.flat(f"band{k}_{v}") for v in ("hz", "db", "q"))), where.rate))
    if still:
        y = filters.cascade(np.concatenate(still), y)
    if channels == "both sides":
        return y
    mid, side = (y[0], side) if channels == "mid" else (mid, y[0])
    return np.stack([mid + side, mid - side])


def sections_of(s: Settings, rate_hz: int) -> np.ndarray:
    """All bands at rest, for drawing the response, shape (sections, 6)."""
    parts = [band_sections(s.choices[f"band{k}_kind"], EqBand(*(s.flat(f"band{k}_{v}") for v in ("hz", "db", "q"))), rate_hz)
             for k in range(1, BANDS + 1) if s.choices[f"band{k}_kind"] != "off"]  # fmt: skip
    return np.concatenate(parts) if parts else np.array([[1.0, 0, 0, 1, 0, 0]])


def _before_s(s: Settings, bpm: float) -> float:
    """Ten time constants Q / (pi hz) of the slowest band."""
    slowest = 0.0
    for k in range(1, BANDS + 1):
        kind = s.choices[f"band{k}_kind"]
        if kind != "off":
            q = max(_cut_qs(kind)) if "cut" in kind else s.most(f"band{k}_q")
            slowest = max(slowest, max(q, 0.7) / (math.pi * s.least(f"band{k}_hz")))
    return 10 * slowest


SPEC = EffectSpec(
    "eq", "Equaliser",
    tuple(p for k in range(1, BANDS + 1) for p in (
        Param(f"band{k}_hz", "Hz", 20, 20_000, BAND_HZ[k - 1], "Frequency", "log", moves="octaves"),
        Param(f"band{k}_db", "dB", -24, 24, 0, "Gain", moves=""),
        Param(f"band{k}_q", "Q", 0.2, 16, 0.8, "Q", "log", moves=""))),
    process,
    (*(Choice(f"band{k}_kind", KINDS, "off", "Kind") for k in range(1, BANDS + 1)),
     Choice("channels", CHANNELS, "both sides", "Works on")),
    _before_s,
)  # fmt: skip

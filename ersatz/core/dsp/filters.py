"""Filters whose cutoff and resonance may move at every sample: one kind per name, all stable under any modulation.

Conventions: signals are (n,); cutoff in Hz and resonance in 0..1 per sample; nothing is remembered outside the call.

- Low-, high-, band-pass, notch: the trapezoidal state-variable filter (Zavalishin 2012, chapter 4), once or twice (24 dB). Its
  resonance r stands for Q = 0.5 * 40 ** r; at r = 0.094 it is a Butterworth filter, and so are two in a row.
- Comb: a feedback delay of one cutoff period, read between samples linearly (Smith, Physical Audio Signal Processing, 2010).
- Vowel: three band-passes at the formants of five sung vowels (figures as published by Peterson & Barney 1952, rounded).
- All-pass chain: six first-order all-passes with feedback, added to the dry signal (Smith 2010, "phasing").
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from ersatz.core.dsp.control import figures

#: The names a sound may use.
KINDS = (
    "off", "low-pass 12", "low-pass 24", "high-pass 12", "high-pass 24", "band-pass", "notch", "comb", "vowel", "all-pass chain",
)  # fmt: skip
LOW, BAND, HIGH, NOTCH = 0, 1, 2, 3
LEAST_Q, Q_RANGE = 0.5, 40.0
#: Stage Qs of a fourth-order Butterworth filter; the second one carries the resonance.
FOURTH_ORDER_Q = (0.5412, 1.3066)
BUTTERWORTH_Q = 0.7071
#: First three formants of a, e, i, o, u, Hz, and their gains.
FORMANTS_HZ = np.array(
    [[730.0, 1090.0, 2440.0], [530.0, 1840.0, 2480.0], [270.0, 2290.0, 3010.0], [570.0, 840.0, 2410.0], [300.0, 870.0, 2240.0]]
)
FORMANT_GAIN = (1.0, 0.6, 0.3)
#: The vowel filter's formants stand where they are sung at this cutoff, and move with it.
VOWEL_CUTOFF_HZ = 1000.0
COMB_FEEDBACK = 0.98
CHAIN_FEEDBACK = 0.85
CHAIN_STAGES = 6


def q_of(resonance: np.ndarray | float) -> np.ndarray:
    """Q of a resonance 0..1."""
    return np.asarray(LEAST_Q * Q_RANGE ** np.asarray(resonance, float))


#: What a filter remembers that is smaller than this is forgotten after every so many samples: on silence it would shrink to figures
#: that a processor takes a hundred times as long for (under 1e-308). A steep filter has 1e-22 of the signal between two sections.
FORGOTTEN, FORGET_EVERY = 1e-150, 256


@njit(cache=True, nogil=True, inline="always")
def kept(state: float) -> float:  # pragma: no cover - compiled
    """What a filter remembers, nothing where that is next to nothing."""
    return 0.0 if abs(state) < FORGOTTEN else state


@njit(cache=True, nogil=True, inline="always")
def tangent(hz: float, rate: float) -> float:  # pragma: no cover - compiled
    """tan(pi hz / rate), hz kept within 5 and 0.45 of the rate: the quotient of polynomials of degree 7 and 6 that the continued
    fraction of the tangent gives (Lambert 1768); to 1e-8 of itself there."""
    x = np.pi * min(max(hz, 5.0), 0.45 * rate) / rate
    s = x * x
    return x * (135135.0 - s * (17325.0 - s * (378.0 - s))) / (135135.0 - s * (62370.0 - s * (3150.0 - s * 28.0)))


@njit(cache=True, nogil=True, inline="always")
def trapezoidal(
    x: float, p: float, q: float, g: float, a: float
) -> tuple[float, float, float, float]:  # pragma: no cover - compiled
    """One sample through a state-variable filter that remembers p and q, a = 1 / (1 + g (g + 1 / Q)): what passes its band and its
    low, and what it remembers now."""
    band = a * (p + g * (x - q))
    low = q + g * band
    return band, low, 2.0 * band - p, 2.0 * low - q


@njit(cache=True, nogil=True, inline="always")
def biquad(
    x: float, p: float, q: float, b0: float, b1: float, b2: float, a1: float, a2: float
) -> tuple[float, float, float]:  # pragma: no cover - compiled
    """One sample through a second-order section that remembers p and q (transposed direct form II), and what it remembers now."""
    y = b0 * x + p
    return y, b1 * x - a1 * y + q, b2 * x - a2 * y


@njit(cache=True, nogil=True)
def svf(x: np.ndarray, cutoff_hz: np.ndarray, q: np.ndarray, rate: float, mode: int) -> np.ndarray:  # pragma: no cover
    """State-variable filter, second order. mode LOW, BAND (unit peak), HIGH or NOTCH. `cutoff_hz` and `q` as long as x, or one
    figure."""
    out = np.empty(len(x))
    ic1 = 0.0
    ic2 = 0.0
    last_hz = cutoff_hz[0]
    g, k = tangent(last_hz, rate), 1.0 / q[0]
    sweeps, moves = len(cutoff_hz) > 1, len(q) > 1
    for start in range(0, len(x), FORGET_EVERY):
        for i in range(start, min(start + FORGET_EVERY, len(x))):
            if sweeps and cutoff_hz[i] != last_hz:
                last_hz = cutoff_hz[i]
                g = tangent(last_hz, rate)
            if moves:
                k = 1.0 / q[i]
            a1 = 1.0 / (1.0 + g * (g + k))
            v1, v2, ic1, ic2 = trapezoidal(x[i], ic1, ic2, g, a1)
            if mode == 0:
                out[i] = v2
            elif mode == 1:
                out[i] = k * v1
            elif mode == 2:
                out[i] = x[i] - k * v1 - v2
            else:
                out[i] = x[i] - k * v1
        ic1, ic2 = kept(ic1), kept(ic2)
    return out


@njit(cache=True, nogil=True)
def _svf_pair(
    x: np.ndarray, cutoff_hz: np.ndarray, q: np.ndarray, rate: float, mode: int
) -> np.ndarray:  # pragma: no cover - compiled
    """`svf` of both sides of (2, n) in step: each waits for its own last sample, so that two take little longer than one."""
    out = np.empty(x.shape)
    left, right = x[0], x[1]
    n = x.shape[1]
    p1, p2, s1, s2 = 0.0, 0.0, 0.0, 0.0
    last_hz = cutoff_hz[0]
    g, k = tangent(last_hz, rate), 1.0 / q[0]
    sweeps, moves = len(cutoff_hz) > 1, len(q) > 1
    for start in range(0, n, FORGET_EVERY):
        for i in range(start, min(start + FORGET_EVERY, n)):
            if sweeps and cutoff_hz[i] != last_hz:
                last_hz = cutoff_hz[i]
                g = tangent(last_hz, rate)
            if moves:
                k = 1.0 / q[i]
            a1 = 1.0 / (1.0 + g * (g + k))
            u1, u2, p1, p2 = trapezoidal(left[i], p1, p2, g, a1)
            v1, v2, s1, s2 = trapezoidal(right[i], s1, s2, g, a1)
            if mode == 0:
                out[0, i], out[1, i] = u2, v2
            elif mode == 1:
                out[0, i], out[1, i] = k * u1, k * v1
            elif mode == 2:
                out[0, i], out[1, i] = left[i] - k * u1 - u2, right[i] - k * v1 - v2
            else:
                out[0, i], out[1, i] = left[i] - k * u1, right[i] - k * v1
        p1, p2, s1, s2 = kept(p1), kept(p2), kept(s1), kept(s2)
    return out


@njit(cache=True, nogil=True)
def _svf_pair_24(
    x: np.ndarray, cutoff_hz: np.ndarray, first_q: float, q: np.ndarray, rate: float, low: bool
) -> np.ndarray:  # pragma: no cover - compiled
    """Two of `_svf_pair` in a row, low- or high-pass, in one pass: the second works on a sample while the first goes on."""
    out = np.empty(x.shape)
    left, right = x[0], x[1]
    n = x.shape[1]
    p1, p2, s1, s2, t1, t2, w1, w2 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    last_hz = cutoff_hz[0]
    g, j, k = tangent(last_hz, rate), 1.0 / first_q, 1.0 / q[0]
    sweeps, moves = len(cutoff_hz) > 1, len(q) > 1
    for start in range(0, n, FORGET_EVERY):
        for i in range(start, min(start + FORGET_EVERY, n)):
            if sweeps and cutoff_hz[i] != last_hz:
                last_hz = cutoff_hz[i]
                g = tangent(last_hz, rate)
            if moves:
                k = 1.0 / q[i]
            a, b = 1.0 / (1.0 + g * (g + j)), 1.0 / (1.0 + g * (g + k))
            u1, u2, p1, p2 = trapezoidal(left[i], p1, p2, g, a)
            v1, v2, s1, s2 = trapezoidal(right[i], s1, s2, g, a)
            y0, y1 = (u2, v2) if low else (left[i] - j * u1 - u2, right[i] - j * v1 - v2)
            u1, u2, t1, t2 = trapezoidal(y0, t1, t2, g, b)
            v1, v2, w1, w2 = trapezoidal(y1, w1, w2, g, b)
            out[0, i], out[1, i] = (u2, v2) if low else (y0 - k * u1 - u2, y1 - k * v1 - v2)
        p1, p2, s1, s2 = kept(p1), kept(p2), kept(s1), kept(s2)
        t1, t2, w1, w2 = kept(t1), kept(t2), kept(w1), kept(w2)
    return out


def _state_variable(x: np.ndarray, cutoff_hz: np.ndarray, q: np.ndarray, rate: float, mode: int) -> np.ndarray:
    return np.asarray((svf if x.ndim == 1 else _svf_pair)(x, cutoff_hz, q, rate, mode))


@njit(cache=True, nogil=True)
def comb(x: np.ndarray, cutoff_hz: np.ndarray, feedback: np.ndarray, rate: float) -> np.ndarray:  # pragma: no cover
    """Feedback comb with unit gain at its peaks."""
    size = int(rate / 20.0) + 4
    line = np.zeros(size)
    out = np.empty(len(x))
    at = 0
    for i in range(len(x)):
        delay = rate / min(max(cutoff_hz[i], 21.0), 0.4 * rate)
        place = at - delay
        if place < 0:
            place += size
        j = int(place)
        part = place - j
        after = j + 1 if j + 1 < size else 0
        old = line[j % size] * (1.0 - part) + line[after] * part
        y = x[i] * (1.0 - feedback[i]) + feedback[i] * old
        y = kept(y)
        line[at] = y
        out[i] = y
        at = at + 1 if at + 1 < size else 0
    return out


@njit(cache=True, nogil=True)
def allpass_chain(
    x: np.ndarray, cutoff_hz: np.ndarray, feedback: np.ndarray, stages: int, rate: float
) -> np.ndarray:  # pragma: no cover
    """First-order all-passes in a row, fed back; the chain alone, without the dry signal."""
    states = np.zeros(stages)
    out = np.empty(len(x))
    last = 0.0
    last_hz = -1.0
    a = 0.0
    for i in range(len(x)):
        if cutoff_hz[i] != last_hz:
            last_hz = cutoff_hz[i]
            g = tangent(last_hz, rate)
            a = (g - 1.0) / (g + 1.0)
        y = x[i] + feedback[i] * last
        for s in range(stages):
            # y = a x + x' - a y', in transposed form
            z = a * y + states[s]
            states[s] = y - a * z
            y = z
        last = y
        out[i] = y
        if i % FORGET_EVERY == 0:
            last = kept(last)
            for s in range(stages):
                states[s] = kept(states[s])
    return out


def _per_sample(value: np.ndarray | float, n: int) -> np.ndarray:
    return np.full(n, float(value)) if np.ndim(value) == 0 else np.ascontiguousarray(value, np.float64)


def filtered(
    kind: str, x: np.ndarray, cutoff_hz: np.ndarray | float, resonance: np.ndarray | float, rate: float,
    vowel: np.ndarray | float = 0.0,
) -> np.ndarray:  # fmt: skip
    """A signal through a filter of KINDS, shape (n,), or both sides of one, shape (2, n). `vowel` 0..4 goes through a to u. What
    doesn't move may be a number."""
    if kind == "off":
        return x
    if kind in ("low-pass 12", "high-pass 12", "band-pass", "notch"):
        mode = {"low-pass 12": LOW, "high-pass 12": HIGH, "band-pass": BAND, "notch": NOTCH}[kind]
        return _state_variable(x, figures(cutoff_hz), figures(q_of(resonance)), rate, mode)
    if kind in ("low-pass 24", "high-pass 24"):
        hz, second = figures(cutoff_hz), figures(q_of(resonance) * FOURTH_ORDER_Q[1] / BUTTERWORTH_Q)
        low = kind.startswith("low")
        if x.ndim > 1:
            return np.asarray(_svf_pair_24(x, hz, FOURTH_ORDER_Q[0], second, rate, low))
        mode = LOW if low else HIGH
        first = svf(x, hz, np.array(FOURTH_ORDER_Q[:1]), rate, mode)
        return np.asarray(svf(first, hz, second, rate, mode))
    if kind == "vowel":
        return _vowel(x, cutoff_hz, resonance, vowel, rate)
    n = x.shape[-1]
    cutoff_hz = _per_sample(cutoff_hz, n)
    if x.ndim > 1:
        return np.stack([filtered(kind, side, cutoff_hz, resonance, rate, vowel) for side in x])
    if kind == "comb":
        return np.asarray(comb(x, cutoff_hz, _per_sample(COMB_FEEDBACK * np.sqrt(np.clip(resonance, 0, 1)), n), rate))
    if kind == "all-pass chain":
        wet = allpass_chain(x, cutoff_hz, _per_sample(CHAIN_FEEDBACK * np.clip(resonance, 0, 1), n), CHAIN_STAGES, rate)
        return np.asarray(0.5 * (x + wet))
    raise ValueError(f"there is no filter “{kind}”")


def _vowel(
    x: np.ndarray, cutoff_hz: np.ndarray | float, resonance: np.ndarray | float, vowel: np.ndarray | float, rate: float
) -> np.ndarray:  # fmt: skip
    place = np.clip(vowel, 0, len(FORMANTS_HZ) - 1)
    q = figures(5.0 * 4.0 ** np.clip(resonance, 0, 1))
    shift = np.clip(cutoff_hz / VOWEL_CUTOFF_HZ, 0.25, 4.0)
    out = np.zeros(x.shape)
    for formant, gain in enumerate(FORMANT_GAIN):
        hz = np.exp(np.interp(place, np.arange(len(FORMANTS_HZ)), np.log(FORMANTS_HZ[:, formant])))
        out += gain * _state_variable(x, figures(hz * shift), q, rate, BAND)
    return out


def response_db(kind: str, cutoff_hz: float, resonance: float, hz: np.ndarray, rate: float, vowel: float = 0.0) -> np.ndarray:
    """Magnitude response of a filter at rest, dB: the spectrum of what it makes of one impulse."""
    n = 1 << 15
    impulse = np.zeros(n)
    impulse[0] = 1.0
    ringing = filtered(kind, impulse, cutoff_hz, resonance, rate, vowel)
    spectrum = np.abs(np.fft.rfft(ringing))
    return np.asarray(20 * np.log10(np.maximum(np.interp(hz, np.fft.rfftfreq(n, 1 / rate), spectrum), 1e-7)))


def _fixed(x: np.ndarray, hz: float, q: float, rate: float, mode: int) -> np.ndarray:
    return np.asarray(svf(x, np.array([float(hz)]), np.array([float(q)]), rate, mode))


def lowpass(x: np.ndarray, hz: float, rate: float, q: float = BUTTERWORTH_Q) -> np.ndarray:
    """State-variable low-pass of 12 dB per octave at rest, shape (n,)."""
    return _fixed(x, hz, q, rate, LOW)


def highpass(x: np.ndarray, hz: float, rate: float, q: float = BUTTERWORTH_Q) -> np.ndarray:
    """State-variable high-pass of 12 dB per octave at rest, shape (n,)."""
    return _fixed(x, hz, q, rate, HIGH)


def bandpass(x: np.ndarray, hz: float, rate: float, q: float) -> np.ndarray:
    """State-variable band-pass of unit peak at rest, shape (n,)."""
    return _fixed(x, hz, q, rate, BAND)


@njit(cache=True, nogil=True)
def _cascade(sections: np.ndarray, x: np.ndarray) -> None:  # pragma: no cover - compiled
    """Transposed direct form II, in place, the two sides of (2, n) in step: twice as fast as one after the other. So are two
    sections in one pass: the second works on a sample while the first goes on."""
    left, right = x[0], x[1]
    count, n = sections.shape[0], x.shape[1]
    for s in range(0, count - 1, 2):
        b0, b1, b2, a1, a2 = sections[s, 0], sections[s, 1], sections[s, 2], sections[s, 4], sections[s, 5]
        d0, d1, d2, c1, c2 = sections[s + 1, 0], sections[s + 1, 1], sections[s + 1, 2], sections[s + 1, 4], sections[s + 1, 5]
        p0, q0, p1, q1, r0, t0, r1, t1 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for start in range(0, n, FORGET_EVERY):
            for i in range(start, min(start + FORGET_EVERY, n)):
                u, p0, q0 = biquad(left[i], p0, q0, b0, b1, b2, a1, a2)
                v, p1, q1 = biquad(right[i], p1, q1, b0, b1, b2, a1, a2)
                left[i], r0, t0 = biquad(u, r0, t0, d0, d1, d2, c1, c2)
                right[i], r1, t1 = biquad(v, r1, t1, d0, d1, d2, c1, c2)
            p0, q0, p1, q1 = kept(p0), kept(q0), kept(p1), kept(q1)
            r0, t0, r1, t1 = kept(r0), kept(t0), kept(r1), kept(t1)
    if count % 2:
        s = count - 1
        b0, b1, b2, a1, a2 = sections[s, 0], sections[s, 1], sections[s, 2], sections[s, 4], sections[s, 5]
        p0, q0, p1, q1 = 0.0, 0.0, 0.0, 0.0
        for start in range(0, n, FORGET_EVERY):
            for i in range(start, min(start + FORGET_EVERY, n)):
                left[i], p0, q0 = biquad(left[i], p0, q0, b0, b1, b2, a1, a2)
                right[i], p1, q1 = biquad(right[i], p1, q1, b0, b1, b2, a1, a2)
            p0, q0, p1, q1 = kept(p0), kept(q0), kept(p1), kept(q1)


#: Sections from which on they run side by side, figures that are worked on at once, and the largest gain of one by itself: poles
#: that lie on each other have no finite one.
SIDE_BY_SIDE, LANES, LARGEST_GAIN = 6, 16, 1e3


def in_parallel(sections: np.ndarray) -> tuple[float, np.ndarray] | None:
    """Sections in a row as a gain and sections side by side, whose outputs add up: rows of their r0, r1, a1, a2, shape (4, count),
    each (r0 + r1 / z) / (1 + a1 / z + a2 / z^2). None where they have no such form.

    Partial fractions at the known poles (Oppenheim & Schafer, Discrete-Time Signal Processing, section 6.3.3; Bank 2007 on second-
    order filters in parallel).
    """
    b, a = sections[:, :3], sections[:, 4:6]
    if np.any(a[:, 1] == 0):
        return None
    root = np.sqrt((a[:, 0] ** 2 - 4 * a[:, 1]).astype(complex))
    poles = np.stack([-a[:, 0] + root, -a[:, 0] - root]) / 2
    # In w = 1 / z, at each pole's own place; axes: which pole, section of the pole, section.
    w = 1 / poles[..., None]
    above = b[:, 0] + w * (b[:, 1] + w * b[:, 2])
    below = 1 + w * (a[:, 0] + w * a[:, 1])
    own = np.arange(len(sections))
    # Of its own section the other pole is left.
    below[:, own, own] = 1 - poles[::-1] / poles
    with np.errstate(divide="ignore", invalid="ignore"):
        first, second = np.prod(above / below, axis=2)
    rows = np.stack([(first + second).real, -(first * poles[1] + second * poles[0]).real, *a.T])
    if not np.all(np.abs(rows) < LARGEST_GAIN):
        return None
    return float(np.prod(b[:, 2] / a[:, 1])), rows


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def _side_by_side(x: np.ndarray, gain: float, rows: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """`in_parallel` on (2, n): sections don't wait for each other and run in vectors; `rows` as long as a multiple of LANES."""
    n, count = x.shape[1], rows.shape[1]
    out = np.empty(x.shape)
    r0, r1, a1, a2 = rows[0], rows[1], rows[2], rows[3]
    states = np.zeros((4, count))
    p, q, u, v = states[0], states[1], states[2], states[3]
    for start in range(0, n, FORGET_EVERY):
        for i in range(start, min(start + FORGET_EVERY, n)):
            left, right = x[0, i], x[1, i]
            sum_left, sum_right = 0.0, 0.0
            for k in range(count):
                y = r0[k] * left + p[k]
                p[k] = (r1[k] * left + q[k]) - a1[k] * y
                q[k] = -a2[k] * y
                sum_left += y
                z = r0[k] * right + u[k]
                u[k] = (r1[k] * right + v[k]) - a1[k] * z
                v[k] = -a2[k] * z
                sum_right += z
            out[0, i] = gain * left + sum_left
            out[1, i] = gain * right + sum_right
        for row in range(4):
            for k in range(count):
                states[row, k] = kept(states[row, k])
    return out


def butterworth_qs(order: int) -> list[float]:
    """Qs of a Butterworth filter's second-order sections, rising: the prototype's poles lie evenly on a half circle (Oppenheim &
    Schafer, Discrete-Time Signal Processing, section 7.2)."""
    return [1 / (2 * math.sin(math.pi * (2 * k + 1) / (2 * order))) for k in reversed(range(order // 2))]


def butterworth(order: int, hz: float, rate: float, highpass: bool = False) -> np.ndarray:
    """Sections of a Butterworth filter by the bilinear transform, its corner where it is asked for, shape (sections, 6). A library
    designs the same; importing that takes longer than all else that a command does before it begins."""
    k = np.tan(np.pi * hz / rate)
    zeros = -1.0 if highpass else 1.0
    rows = []
    for q in butterworth_qs(order):
        a0, gain = 1 + k / q + k * k, 1.0 if highpass else k * k
        rows.append(np.array([gain, 2 * zeros * gain, gain, a0, 2 * (k * k - 1), 1 - k / q + k * k]) / a0)
    if order % 2:
        gain = 1.0 if highpass else k
        rows.append(np.array([gain, zeros * gain, 0.0, 1 + k, k - 1, 0.0]) / (1 + k))
    return np.array(rows)


def response(sections: np.ndarray, hz: np.ndarray, rate: float) -> np.ndarray:
    """Complex response of sections in a row at `hz`, shape of `hz`."""
    w = np.exp(-2j * np.pi * np.asarray(hz) / rate)[..., None]
    b, a = sections[:, :3], sections[:, 3:]
    return np.asarray(np.prod((b[:, 0] + w * (b[:, 1] + w * b[:, 2])) / (a[:, 0] + w * (a[:, 1] + w * a[:, 2])), axis=-1))


def cascade(sections: np.ndarray, x: np.ndarray) -> np.ndarray:
    """Second-order sections (a0 = 1) on (2, n), (1, n) or (n,) from silence. Raises ValueError for another shape."""
    if x.size == x.shape[-1]:
        return cascade(sections, np.broadcast_to(x, (2, x.size)))[0].reshape(x.shape)
    if x.ndim != 2 or len(x) != 2:
        raise ValueError(f"filtered is one side or both, not an array of shape {x.shape}")
    sections = np.ascontiguousarray(np.atleast_2d(sections), np.float64)
    parallel = in_parallel(sections) if len(sections) >= SIDE_BY_SIDE else None
    if parallel is not None:
        gain, rows = parallel
        padded = np.pad(rows, ((0, 0), (0, -rows.shape[1] % LANES)))
        return np.asarray(_side_by_side(np.ascontiguousarray(x, np.float64), gain, padded))
    out = np.array(x, np.float64, order="C")
    _cascade(sections, out)
    return out

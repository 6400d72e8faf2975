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
from functools import lru_cache

import numpy as np

from ersatz.core.compiled import compiled, inlined, unordered
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
#: How much sharper the second of two in a row is than one alone.
SHARPER = FOURTH_ORDER_Q[1] / BUTTERWORTH_Q
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


@inlined
def kept(state: float) -> float:  # pragma: no cover - compiled
    """What a filter remembers, nothing where that is next to nothing."""
    return 0.0 if abs(state) < FORGOTTEN else state


@inlined
def tangent(hz: float, rate: float) -> float:  # pragma: no cover - compiled
    """tan(pi hz / rate), hz kept within 5 and 0.45 of the rate: the quotient of polynomials of degree 7 and 6 that the continued
    fraction of the tangent gives (Lambert 1768); to 1e-8 of itself there."""
    x = np.pi * min(max(hz, 5.0), 0.45 * rate) / rate
    s = x * x
    return x * (135135.0 - s * (17325.0 - s * (378.0 - s))) / (135135.0 - s * (62370.0 - s * (3150.0 - s * 28.0)))


@inlined
def trapezoidal(
    x: float, p: float, q: float, g: float, a: float
) -> tuple[float, float, float, float]:  # pragma: no cover - compiled
    """One sample through a state-variable filter that remembers p and q, a = 1 / (1 + g (g + 1 / Q)): what passes its band and its
    low, and what it remembers now."""
    band = a * (p + g * (x - q))
    low = q + g * band
    return band, low, 2.0 * band - p, 2.0 * low - q


@inlined
def biquad(
    x: float, p: float, q: float, b0: float, b1: float, b2: float, a1: float, a2: float
) -> tuple[float, float, float]:  # pragma: no cover - compiled
    """One sample through a second-order section that remembers p and q (transposed direct form II), and what it remembers now."""
    y = b0 * x + p
    return y, (b1 * x + q) - a1 * y, b2 * x - a2 * y


@compiled
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


@compiled
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


@compiled
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


@compiled
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


@compiled
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
        hz, second = figures(cutoff_hz), figures(q_of(resonance) * SHARPER)
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


@inlined
def _both(
    left: float, right: float, state: tuple[float, float, float, float], section: tuple[float, float, float, float, float]
) -> tuple[float, float, tuple[float, float, float, float]]:  # pragma: no cover - compiled
    """One sample of both sides through a section, and what it remembers now."""
    b0, b1, b2, a1, a2 = section
    y, p, q = biquad(left, state[0], state[1], b0, b1, b2, a1, a2)
    z, r, t = biquad(right, state[2], state[3], b0, b1, b2, a1, a2)
    return y, z, (p, q, r, t)


@inlined
def _section(sections: np.ndarray, k: int) -> tuple[float, float, float, float, float]:  # pragma: no cover - compiled
    """One of a cascade's; behind its end one that passes what comes in."""
    if k >= len(sections):
        return 1.0, 0.0, 0.0, 0.0, 0.0
    return sections[k, 0], sections[k, 1], sections[k, 2], sections[k, 4], sections[k, 5]


@inlined
def _all_kept(
    state: tuple[float, float, float, float],
) -> tuple[float, float, float, float]:  # pragma: no cover - compiled
    return kept(state[0]), kept(state[1]), kept(state[2]), kept(state[3])


@compiled
def _one(sections: np.ndarray, x: np.ndarray, backwards: bool) -> None:  # pragma: no cover - compiled
    """One section on (2, n), in place, from the start or from the end. Its two sides don't wait for each other: together they take
    half as long."""
    left, right, last = x[0], x[1], x.shape[1] - 1
    section, state = _section(sections, 0), (0.0, 0.0, 0.0, 0.0)
    for start in range(0, last + 1, FORGET_EVERY):
        for k in range(start, min(start + FORGET_EVERY, last + 1)):
            i = last - k if backwards else k
            left[i], right[i], state = _both(left[i], right[i], state, section)
        state = _all_kept(state)


@compiled
def _by_four(sections: np.ndarray, x: np.ndarray) -> None:  # pragma: no cover - compiled
    """Sections in a row on (2, n), in place, four in one pass: each works on a sample while the ones before go on, which takes
    little longer than one by itself."""
    left, right = x[0], x[1]
    for k in range(0, len(sections), 4):
        a, b, c, d = _section(sections, k), _section(sections, k + 1), _section(sections, k + 2), _section(sections, k + 3)
        p, q, r, t = (0.0, 0.0, 0.0, 0.0), (0.0, 0.0, 0.0, 0.0), (0.0, 0.0, 0.0, 0.0), (0.0, 0.0, 0.0, 0.0)
        for start in range(0, len(left), FORGET_EVERY):
            for i in range(start, min(start + FORGET_EVERY, len(left))):
                u, v, p = _both(left[i], right[i], p, a)
                u, v, q = _both(u, v, q, b)
                u, v, r = _both(u, v, r, c)
                left[i], right[i], t = _both(u, v, t, d)
            p, q, r, t = _all_kept(p), _all_kept(q), _all_kept(r), _all_kept(t)


#: Sections from which on they run side by side, how many do, and the largest gain of one by itself: poles that lie on each other
#: have no finite one.
SIDE_BY_SIDE, LANES, LARGEST_GAIN = 9, 16, 1e3


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


@unordered
def _side_by_side(x: np.ndarray, rows: np.ndarray, out: np.ndarray) -> None:  # pragma: no cover - compiled
    """What LANES sections of `in_parallel` make of x, shape (2, n), onto `out`. Sections don't wait for each other: the inner
    loops, of a length that is known before, are a few vectors."""
    r0, r1, a1, a2 = rows[0], rows[1], rows[2], rows[3]
    left, right, n = x[0], x[1], x.shape[1]
    p, q, r, t = np.zeros(LANES), np.zeros(LANES), np.zeros(LANES), np.zeros(LANES)
    for start in range(0, n, FORGET_EVERY):
        for i in range(start, min(start + FORGET_EVERY, n)):
            u, v, sum_left, sum_right = left[i], right[i], 0.0, 0.0
            for k in range(LANES):
                y = r0[k] * u + p[k]
                p[k], q[k] = (r1[k] * u + q[k]) - a1[k] * y, -a2[k] * y
                sum_left += y
            for k in range(LANES):
                z = r0[k] * v + r[k]
                r[k], t[k] = (r1[k] * v + t[k]) - a1[k] * z, -a2[k] * z
                sum_right += z
            out[0, i] += sum_left
            out[1, i] += sum_right
        for k in range(LANES):
            p[k], q[k], r[k], t[k] = kept(p[k]), kept(q[k]), kept(r[k]), kept(t[k])


def butterworth_qs(order: int) -> list[float]:
    """Qs of a Butterworth filter's second-order sections, rising: the prototype's poles lie evenly on a half circle (Oppenheim &
    Schafer, Discrete-Time Signal Processing, section 7.2)."""
    return [1 / (2 * math.sin(math.pi * (2 * k + 1) / (2 * order))) for k in reversed(range(order // 2))]


def butterworth(order: int, hz: float, rate: float, highpass: bool = False) -> np.ndarray:
    """Sections of a Butterworth filter by the bilinear transform, its corner where it is asked for, shape (sections, 6). A library
    designs the same; importing that takes longer than all else that a command does before it begins."""
    return _butterworth(order, float(hz), float(rate), highpass).copy()


@lru_cache(maxsize=256)
def _butterworth(order: int, hz: float, rate: float, highpass: bool) -> np.ndarray:
    k = math.tan(math.pi * hz / rate)
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
        x = np.ascontiguousarray(x, np.float64)
        rows, sums = np.pad(rows, ((0, 0), (0, -rows.shape[1] % LANES))), gain * x
        for first in range(0, rows.shape[1], LANES):
            _side_by_side(x, np.ascontiguousarray(rows[:, first : first + LANES]), sums)
        return sums
    out = np.array(x, np.float64, order="C")
    if len(sections) > 1:
        _by_four(sections, out)
    else:
        _one(sections, out, False)
    return out


def there_and_back(section: np.ndarray, x: np.ndarray) -> np.ndarray:
    """A second-order section (a0 = 1, shape (1, 6)) on (2, n), (1, n) or (n,) from silence, and again from the end: without phase,
    and twice as steep."""
    out = np.array(np.broadcast_to(x, (2, x.shape[-1])), np.float64, order="C")
    _one(section, out, False)
    _one(section, out, True)
    return out if x.ndim == 2 and len(x) == 2 else out[0].reshape(x.shape)

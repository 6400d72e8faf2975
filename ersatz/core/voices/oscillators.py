"""Oscillators without audible aliasing: single cycles in mip-mapped tables, read by cubic interpolation.

Conventions: phases in cycles, increments in cycles per sample, one value per sample; waves swing between -1 and 1. A table holds
one cycle at LEVELS bandwidths, a third of an octave apart; each sample is read from the widest one whose highest harmonic lies
under half the sample rate (wavetable synthesis after Moore 1990, section 3.2; the pulse as the difference of two saws is
band-limited because they are). Interpolation: Catmull-Rom (Niemitalo 2001, four-point third-order Hermite).
"""

from __future__ import annotations

from functools import cache, lru_cache

import numpy as np
from scipy import fft

from ersatz.core.compiled import compiled, inlined
from ersatz.core.dsp import rates
from ersatz.core.dsp.levels import add

#: Points per cycle: enough that interpolating the highest harmonic of the lowest level errs by less than -90 dB.
TABLE = 4096
LEVELS_PER_OCTAVE = 3
#: The widest level holds this many harmonics: a 27.5 Hz note's at 48 kHz.
MOST_HARMONICS = 870
LEVELS = int(np.ceil(np.log2(MOST_HARMONICS) * LEVELS_PER_OCTAVE)) + 1
MOST_VOICES = 16
GUARDS = 4
ROW = TABLE + GUARDS
#: Samples that a glide takes from one table to the next.
TABLE_FADE = 128
#: Samples that are worked on at once: with a table they fit into the processor's first memory.
TILE = 256


def mip_map(cycle: np.ndarray) -> np.ndarray:
    """Tables of one cycle of any length at every bandwidth, without its constant part, float32, shape (LEVELS, TABLE + GUARDS): the
    last point stands before the first and the first three after the last, so that interpolating never wraps.
    """
    spectrum = np.fft.rfft(cycle) / len(cycle)
    out = np.empty((LEVELS, TABLE + GUARDS), np.float32)
    for level in range(LEVELS):
        kept = min(harmonics_of(level), len(spectrum) - 1, TABLE // 2 - 1)
        wide = np.zeros(TABLE // 2 + 1, complex)
        wide[1 : kept + 1] = spectrum[1 : kept + 1]
        out[level] = _guarded(np.fft.irfft(wide * TABLE, TABLE))
    return out


def _guarded(cycle: np.ndarray) -> np.ndarray:
    return np.concatenate([cycle[-1:], cycle, cycle[: GUARDS - 1]])


def harmonics_of(level: int) -> int:
    """Harmonics that a level holds: MOST_HARMONICS in level 0, a third of an octave less in each further one, at least one."""
    return max(1, int(MOST_HARMONICS / 2 ** (level / LEVELS_PER_OCTAVE)))


@cache
def saw_tables() -> np.ndarray:
    """Falling from 1 to -1 is the shape of the series sum sin(k x) / k, times 2 / pi; rising is its negative."""
    return -_series(lambda k: 2 / np.pi / k)


@cache
def triangle_tables() -> np.ndarray:
    """A triangle’s period for each octave, without harmonics over half the rate; see _series."""
    return _series(lambda k: np.where(k % 2 == 1, 8 / np.pi**2 / k**2 * (-1.0) ** ((k - 1) // 2), 0.0))


def _series(amplitude) -> np.ndarray:  # type: ignore[no-untyped-def]
    """Tables of a sine series."""
    out = np.empty((LEVELS, TABLE + GUARDS), np.float32)
    for level in range(LEVELS):
        k = np.arange(1, min(harmonics_of(level), TABLE // 2 - 1) + 1)
        spectrum = np.zeros(TABLE // 2 + 1, complex)
        spectrum[1 : len(k) + 1] = -0.5j * amplitude(k)
        out[level] = _guarded(np.fft.irfft(spectrum * TABLE, TABLE))
    return out


@inlined
def _hermite(
    a: np.float32, b: np.float32, c: np.float32, d: np.float32, x: np.float32
) -> np.float32:  # pragma: no cover - compiled
    """Between the middle two of four points, float32."""
    two, three, four, five = np.float32(2), np.float32(3), np.float32(4), np.float32(5)
    return b + np.float32(0.5) * x * (c - a + x * (two * a - five * b + four * c - d + x * (three * (b - c) + d - a)))


@inlined
def _at(flat: np.ndarray, first: int, phase: float) -> float:  # pragma: no cover - compiled
    """One of several guarded tables laid end to end, the one that begins at `first`, at a phase from 0 to 1, both included:
    rounding may reach the end. Taking a row out of an array with two axes would cost twice as much as all the rest."""
    place = phase * TABLE
    j = int(place)
    i = np.uint64(first + j)
    a, b, c, d = flat[i], flat[i + np.uint64(1)], flat[i + np.uint64(2)], flat[i + np.uint64(3)]
    return _hermite(a, b, c, d, np.float32(place - j))


def oscillate(
    tables: np.ndarray, increments: np.ndarray, start: float = 0.0, phase_modulation: np.ndarray | None = None
) -> np.ndarray:
    """One oscillator, shape (n,). `phase_modulation` is added in cycles; the bandwidth follows the momentary frequency."""
    return _alone(tables, increments, start, phase_modulation=phase_modulation)


def pulse(increments: np.ndarray, width: np.ndarray | float, start: float = 0.0) -> np.ndarray:
    """Pulse that is up for `width` (0..1, may move) of each cycle, without its constant part, shape (n,)."""
    return _alone(saw_tables(), increments, start, width=np.broadcast_to(np.asarray(width, float), increments.shape))


def morph(frames: np.ndarray, increments: np.ndarray, position: np.ndarray | float, start: float = 0.0) -> np.ndarray:
    """A cycle that moves through several: `frames` (cycles, LEVELS, TABLE) as mip_map gives them, `position` 0..1 through them."""
    return _alone(frames, increments, start, np.broadcast_to(np.asarray(position, float), increments.shape))


def _alone(frames: np.ndarray, increments: np.ndarray, start: float, position: np.ndarray | None = None, **moved) -> np.ndarray:  # type: ignore[no-untyped-def]
    """A unison of one, shape (n,)."""
    one = np.zeros(1)
    return np.asarray(unison(frames, increments, one, one + start, one - 1, position, **moved)[0])


@inlined
def _level(width: float) -> int:  # pragma: no cover - compiled
    """The widest level that doesn't alias at so many cycles per sample: harmonics_of(level) * width < 1 / 2."""
    wanted = np.log2(max(abs(width), 1e-9) * 2 * MOST_HARMONICS) * LEVELS_PER_OCTAVE
    return min(max(int(np.ceil(wanted + 1e-9)), 0), LEVELS - 1)


def unison(
    frames: np.ndarray, increments: np.ndarray, cents: np.ndarray, starts: np.ndarray, pans: np.ndarray,
    position: np.ndarray | None = None, width: np.ndarray | None = None, phase_modulation: np.ndarray | None = None,
    detune: np.ndarray | None = None, bandwidth: np.ndarray | None = None, gain: float = 1.0,
) -> np.ndarray:  # fmt: skip
    """Up to MOST_VOICES detuned copies spread by equal-power panning (-1..1) at the power of one, shape (2, n).

    `frames`: one wave (LEVELS, TABLE + GUARDS) or several (cycles, LEVELS, ...) that `position` (0..1 per sample) goes through.
    `width`: the difference of two copies that far apart in phase, as of a pulse from two saws. `phase_modulation` in cycles.
    `detune`: factor on the cents per sample. `bandwidth`: frequency that the table is chosen by, cycles per sample, where it
    isn't the increments. `gain`: a factor on both sides. Raises ValueError for more voices than MOST_VOICES.
    """
    if not 1 <= len(cents) <= MOST_VOICES:
        raise ValueError(f"a unison has 1 to {MOST_VOICES} voices")
    n = len(increments)
    stack = frames[None] if frames.ndim == 2 else frames
    band = np.abs(increments) if bandwidth is None else np.abs(bandwidth)
    if phase_modulation is not None:
        band = np.maximum(band, np.abs(increments + np.gradient(phase_modulation)))
    angle = (np.asarray(pans, float) + 1) * np.pi / 4
    each = gain / np.sqrt(len(cents))
    none = np.zeros(1)
    return np.asarray(
        _unison(
            stack, np.ascontiguousarray(increments), np.ascontiguousarray(band), np.asarray(cents, float),
            none if detune is None else np.full(n, detune, float),
            np.asarray(starts, float), each * np.cos(angle), each * np.sin(angle),
            none if position is None else np.full(n, np.clip(position, 0, 1) * (len(stack) - 1), float),
            none if width is None else np.full(n, width, float),
            none if phase_modulation is None else np.ascontiguousarray(phase_modulation),
        )
    )  # fmt: skip


@inlined
def _bounds(level: int) -> tuple[float, float]:  # pragma: no cover - compiled
    """The widths, cycles per sample, over which and up to which a level is the right one."""
    high = 2.0 ** (level / LEVELS_PER_OCTAVE) / (2 * MOST_HARMONICS) if level < LEVELS - 1 else 1e9
    low = 2.0 ** ((level - 1) / LEVELS_PER_OCTAVE) / (2 * MOST_HARMONICS) if level > 0 else -1.0
    return low, high


@compiled
def _summed(steps: np.ndarray, sums: np.ndarray) -> float:  # pragma: no cover - compiled
    """Into `sums` what comes before each step; gives the sum of all."""
    total = 0.0
    for i in range(len(steps)):
        sums[i] = total
        total += steps[i]
    return total


@compiled
def _turn(
    sums: np.ndarray, bands: np.ndarray, ratio: float, turned: float, phases: np.ndarray, wide: np.ndarray
) -> None:  # pragma: no cover - compiled
    """A voice's phases and the widths that its table is chosen by."""
    for i in range(len(sums)):
        phases[i], wide[i] = turned + ratio * sums[i], ratio * bands[i]


@compiled
def _spread(
    steps: np.ndarray, bands: np.ndarray, detune: np.ndarray, cents: float, turned: float, phases: np.ndarray, wide: np.ndarray
) -> float:  # pragma: no cover - compiled
    """`_turn` of a voice whose cents move; gives its phase behind the tile."""
    last = detune[0]
    ratio = 2.0 ** (cents * last / 1200.0)
    for i in range(len(steps)):
        if detune[i] != last:
            last = detune[i]
            ratio = 2.0 ** (cents * last / 1200.0)
        phases[i], wide[i] = turned, ratio * bands[i]
        turned += ratio * steps[i]
    return turned


@compiled
def _stays(wide: np.ndarray, level: int) -> bool:  # pragma: no cover - compiled
    """Whether one level is the right one all through."""
    low, high = _bounds(level)
    outside = 0
    for i in range(len(wide)):
        outside += int(wide[i] <= low) + int(wide[i] > high)
    return outside == 0


@compiled
def _between_frames(
    position: np.ndarray, last: int, long: int, shift: np.ndarray, share: np.ndarray
) -> None:  # pragma: no cover - compiled
    """Where the cycle in front of each position begins, each `long` points, and how far that stands towards the next."""
    for i in range(len(position)):
        k = min(int(position[i]), last)
        shift[i], share[i] = k * long, position[i] - k


@compiled
def _read(
    flat: np.ndarray, first: int, shift: np.ndarray, phases: np.ndarray, out: np.ndarray,
    at: np.ndarray, part: np.ndarray, a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray,
) -> None:  # pragma: no cover - compiled  # fmt: skip
    """`_at` for a tile: of the tables that begin at `first`, the one that begins `shift` points further on. The rest is room."""
    for i in range(len(out)):
        place = (phases[i] - np.floor(phases[i])) * TABLE
        j = np.int32(place)
        at[i], part[i] = shift[i] + j, np.float32(place - j)
    for i in range(len(out)):
        k = np.uint64(first + at[i])
        a[i], b[i], c[i], d[i] = flat[k], flat[k + np.uint64(1)], flat[k + np.uint64(2)], flat[k + np.uint64(3)]
    for i in range(len(out)):
        out[i] = _hermite(a[i], b[i], c[i], d[i], part[i])


@compiled
def _blend(values: np.ndarray, others: np.ndarray, share: np.ndarray) -> None:  # pragma: no cover - compiled
    for i in range(len(values)):
        values[i] += share[i] * (others[i] - values[i])


@compiled
def _turn_over(values: np.ndarray, others: np.ndarray) -> None:  # pragma: no cover - compiled
    """The difference of two saws."""
    for i in range(len(values)):
        values[i] = others[i] - values[i]


@compiled
def _cross(
    flat: np.ndarray, long: int, phases: np.ndarray, back: np.ndarray, wide: np.ndarray, shift: np.ndarray, share: np.ndarray,
    morphing: bool, pulsed: bool, fade: int, tables: np.ndarray, out: np.ndarray,
) -> None:  # pragma: no cover - compiled  # fmt: skip
    """A voice over a tile in which its table changes. A glide passes from one to the next by `fade` samples, or each harmonic that
    goes would click; phase modulation can't wait that long."""
    level, before, fading = tables[0], tables[1], tables[2]
    low, high = _bounds(level)
    for i in range(len(out)):
        if wide[i] <= low or wide[i] > high:
            before, level = level, _level(wide[i])
            fading = fade if before != level else 0
            low, high = _bounds(level)
        place = phases[i] - np.floor(phases[i])
        first, old_first = shift[i] + level * ROW, shift[i] + before * ROW
        value = _at(flat, first, place)
        if morphing:
            value += share[i] * (_at(flat, first + long, place) - value)
        if pulsed:
            other = back[i] - np.floor(back[i])
            value = _at(flat, first, other) - value
        if fading > 0:
            old = _at(flat, old_first, place)
            if morphing:
                old += share[i] * (_at(flat, old_first + long, place) - old)
            if pulsed:
                old = _at(flat, old_first, other) - old
            value += (old - value) * fading / TABLE_FADE
            fading -= 1
        out[i] = value
    tables[0], tables[1], tables[2] = level, before, fading


@compiled
def _unison(
    frames: np.ndarray, increments: np.ndarray, band: np.ndarray, cents: np.ndarray, detune: np.ndarray, starts: np.ndarray,
    left: np.ndarray, right: np.ndarray, position: np.ndarray, width: np.ndarray, modulation: np.ndarray,
) -> np.ndarray:  # pragma: no cover - compiled  # fmt: skip
    """Tile by tile, in loops that are compiled to vectors; where a voice goes from one table to the next, sample by sample."""
    n = len(increments)
    moving, pulsed, modulated, spreading = len(position) == n, len(width) == n, len(modulation) == n, len(detune) == n
    morphing = moving and len(frames) > 1
    out = np.zeros((2, n))
    flat, long = frames.ravel(), frames.shape[1] * ROW
    turned, ratios = starts - np.floor(starts), 2.0 ** (cents * (detune[0] if spreading else 1.0) / 1200.0)
    # Of each voice: its table, the one before it, and how many samples of the fade between them are left.
    tables = np.zeros((len(cents), 3), np.int64)
    for v in range(len(cents)):
        tables[v, :2] = _level(band[0] * ratios[v])
    doubles, singles, whole = np.zeros((4, TILE)), np.zeros((8, TILE), np.float32), np.zeros((2, TILE), np.int32)
    for start in range(0, n, TILE):
        stop = min(start + TILE, n)
        m = stop - start
        steps, bands, to_left, to_right = increments[start:stop], band[start:stop], out[0, start:stop], out[1, start:stop]
        sums, phases, wide, back = doubles[0, :m], doubles[1, :m], doubles[2, :m], doubles[3, :m]
        shift, at, share, values, others = whole[0, :m], whole[1, :m], singles[0, :m], singles[1, :m], singles[2, :m]
        part, a, b, c, d = singles[3, :m], singles[4, :m], singles[5, :m], singles[6, :m], singles[7, :m]
        total = _summed(steps, sums)
        if morphing:
            _between_frames(position[start:stop], len(frames) - 2, long, shift, share)
        for v in range(len(cents)):
            if spreading:
                turned[v] = _spread(steps, bands, detune[start:stop], cents[v], turned[v], phases, wide)
            else:
                _turn(sums, bands, ratios[v], turned[v], phases, wide)
                turned[v] += ratios[v] * total
            if modulated:
                add(phases, 1.0, modulation[start:stop])
            if pulsed:
                back[:] = phases
                add(back, -1.0, width[start:stop])
            if tables[v, 2] == 0 and _stays(wide, tables[v, 0]):
                first = tables[v, 0] * ROW
                _read(flat, first, shift, phases, values, at, part, a, b, c, d)
                if morphing:
                    _read(flat, first + long, shift, phases, others, at, part, a, b, c, d)
                    _blend(values, others, share)
                if pulsed:
                    _read(flat, first, shift, back, others, at, part, a, b, c, d)
                    _turn_over(values, others)
            else:
                fade = 0 if modulated else TABLE_FADE
                _cross(flat, long, phases, back, wide, shift, share, morphing, pulsed, fade, tables[v], values)
            add(to_left, left[v], values)
            add(to_right, right[v], values)
    return out


@compiled
def _synced(
    table: np.ndarray, master: np.ndarray, slave: np.ndarray, band: np.ndarray, start: float
) -> np.ndarray:  # pragma: no cover - compiled
    """One oscillator restarted by another's cycles. The jump at each restart is rounded by a two-point polynomial step."""
    n = len(master)
    out = np.empty(n)
    flat = table.ravel()
    m, s = 0.0, start - np.floor(start)
    carry = 0.0
    for i in range(n):
        level = _level(band[i])
        out[i] = _at(flat, level * ROW, s) + carry
        carry = 0.0
        m += master[i]
        s += slave[i]
        s -= np.floor(s)
        if m >= 1.0:
            m -= np.floor(m)
            # How long ago, in samples, the restart fell before the next sample.
            ago = m / master[i]
            old = s - slave[i] * ago
            jump = _at(flat, level * ROW, start - np.floor(start)) - _at(flat, level * ROW, old - np.floor(old))
            s = start + slave[i] * ago
            s -= np.floor(s)
            # Residual of a unit step that falls `ago` before the coming sample (Valimaki & Huovilainen 2007).
            out[i] += jump * 0.5 * ago * ago
            carry = -jump * 0.5 * (1.0 - ago) * (1.0 - ago)
    return out


SYNC_OVERSAMPLING = 4


def synced(tables: np.ndarray, master: np.ndarray, slave: np.ndarray, start: float = 0.0) -> np.ndarray:
    """An oscillator that another one restarts, shape (n,): increments of both in cycles per sample.

    Run at SYNC_OVERSAMPLING times the rate with the tables of the base rate, so that only the restarts reach beyond half of it.
    """
    factor = SYNC_OVERSAMPLING
    fine_master = np.repeat(master, factor) / factor
    fine_slave = np.repeat(slave, factor) / factor
    return rates.down(_synced(tables, fine_master, fine_slave, np.repeat(np.abs(slave), factor), start), factor)


#: Slope of a colour's power density, dB per octave.
COLOURS = {"white": 0.0, "pink": -3.0103, "brown": -6.0206, "blue": 3.0103}


@lru_cache(maxsize=16)
def _colour(name: str, bins: int) -> np.ndarray:
    """Weight of each bin of a spectrum; not to be written to."""
    weights = np.maximum(np.arange(bins, dtype=np.float32), 1) ** np.float32(COLOURS[name] / 6.0206)
    weights.setflags(write=False)
    return weights


def noise(n: int, colour: str, rng: np.random.Generator) -> np.ndarray:
    """Noise of unit power whose density falls or rises by COLOURS, shape (n,): white noise weighted in the spectrum."""
    if colour == "white":
        weighted = rng.standard_normal(n)
    else:
        size = fft.next_fast_len(n, real=True)
        # Float32 errs at -130 dB.
        spectrum = fft.rfft(rng.standard_normal(size).astype(np.float32))
        spectrum *= _colour(colour, len(spectrum))
        weighted = fft.irfft(spectrum, size)[:n].astype(np.float64)
    return np.asarray(weighted / max(float(np.sqrt(np.mean(np.square(weighted)))), 1e-12))

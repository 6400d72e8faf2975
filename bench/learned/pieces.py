"""Ducked pieces by the thousand, folded: `python -m bench.learned.pieces --real DIR --truth FILE --out PIECES [--count N]`.

A piece is drawn from its number alone: some bars of real or generated music at another tempo, real stems laid beside it now and
then, parts that come and go, some of it turned down by a curve (or none), a kick over it, mastered, and laid on a grid as a survey
finds one: a little beside the beat, with some bars that aren't the kick's. Kept are the folded bars and what is true of them, in
files of BATCH pieces.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soxr
from scipy import signal

from bench.learned.stems import GENERATED, generated_source, real_sources
from bench.material.ducked import MUSIC_RMS, RATE, SNARE, Source, _kick, _snare, limited
from ersatz.core.grid import BarGrid
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.envelopes import PER_BEAT, cut_levels, fast_powers
from ersatz.core.survey.folded import fold
from ersatz.core.survey.learned import RATES

BATCH = 50
DEEPEST_DB, COMPLETE_DB = 24.0, 70.0
STEPS = 16
FOUR, EIGHTHS = (0, 4, 8, 12), tuple(range(0, STEPS, 2))
PATTERNS = (
    (0, 10), (0, 3, 10), (0, 6, 10), (0, 6), (0, 3, 6, 10), (0, 3, 6, 12), (0, 6, 12), (0, 2, 10), (0, 8), (0, 8, 14),
)  # fmt: skip
UNDER_SNARES = ((0, 10), (0, 3, 10), (0, 6, 10), (0, 6), (0, 7, 10))
Curve = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Piece:
    """`folded`: float16 (features, points). `rate`: place in RATES. `triggers`, `hits`: 16ths of the bar at which the curve begins
    and the kick is struck, 0 or 1. `curve_db`: over one period. `share`: amplitude of what is turned down against the whole.
    """

    folded: np.ndarray
    depth_db: float
    rate: int
    triggers: np.ndarray
    hits: np.ndarray
    curve_db: np.ndarray
    share: float


def make_piece(real: list[Source], generated: list[Source], number: int) -> Piece | None:
    """None where the bars that were drawn are silent."""
    rng = np.random.default_rng(number)
    parts, bpm = _music(real, generated, rng)
    beat_s = 60 / bpm
    length = next(iter(parts.values())).shape[1]
    bars = int(length / (4 * beat_s * RATE) + 1e-3)
    triggers, hits, rate = _pattern(rng)
    gaps = np.diff([*triggers, STEPS + triggers[0]])
    shortest = rate in ("1/4", "1/8") or rng.random() < 0.4
    room_s = min(beat_s, (min(gaps) if shortest else max(gaps)) * beat_s / 4)
    u = rng.random()
    depth_db = 0.0 if u < 0.3 else COMPLETE_DB if u < 0.36 else float(rng.uniform(2, 18))
    curve = _curve(rng, depth_db, room_s)
    target = _target(rng, list(parts))
    rests = _rests(rng, bars)
    places = np.array([[bar + s / STEPS for s in triggers] for bar in range(bars)]) * 4 * beat_s
    struck = np.array([[bar + s / STEPS for s in hits] for bar in range(bars)]) * 4 * beat_s
    if rng.random() < 0.2:
        late_s = rng.uniform(0, 0.16) * beat_s / 4
        places += late_s * (np.array(triggers) % 2)
        struck += late_s * (np.array(hits) % 2)
    runs_on = rng.random() < 0.5
    whole = sum(parts.values())
    rms = float(np.sqrt(np.square(whole).mean()))
    if rms < 1e-5:
        return None
    turned = sum(parts[k] for k in target)
    late_s = rng.uniform(-0.003, 0.006)
    factor = 10 ** (_gain_db(curve, (places if runs_on else places[~rests]).ravel() + late_s, length) / 20)
    music = (whole + turned * (factor - 1)) * (MUSIC_RMS / rms)
    silent = depth_db == 0 and rng.random() < 0.2
    kicks = np.zeros((2, length), np.float32)
    if not silent:
        _lay(kicks, _any_kick(rng), struck[~rests].ravel(), rng.uniform(0.6, 1) if rng.random() < 0.15 else 1.0, rng)
        if rate == "kick and snare":
            backbeats = np.array([[bar + s / STEPS for s in SNARE] for bar in np.flatnonzero(~rests)]) * 4 * beat_s
            _lay(kicks, _snare(rng), backbeats.ravel(), 1.0, rng)
    mix = _tilted(music, rng) + kicks * 0.6 * 10 ** (rng.uniform(-6, 7) / 20)
    mix = _mastered(mix, rng)
    if rng.random() < 0.06:
        mix[:] = mix.mean(axis=0)
    period_s = beat_s / 2 if rate == "1/8" else beat_s
    return Piece(
        folded=_folded(mix.astype(np.float32), bpm, bars, ~rests, rng),
        depth_db=min(depth_db, DEEPEST_DB),
        rate=RATES.index(rate),
        triggers=_marked(triggers if depth_db else ()),
        hits=_marked(() if silent else hits),
        curve_db=np.maximum(curve(np.arange(PER_BEAT) / PER_BEAT * period_s), -DEEPEST_DB).astype(np.float32),
        share=float(np.sqrt(np.square(turned).mean())) / rms,
    )


def _music(real: list[Source], generated: list[Source], rng: np.random.Generator) -> tuple[dict[str, np.ndarray], float]:
    """Some bars by role, and their tempo after they were played faster or slower."""
    group = generated if rng.random() < 0.5 else real
    source = group[int(rng.integers(len(group)))]
    speed = rng.uniform(0.85, 1.18)
    whole = int(next(iter(source.stems.values())).shape[1] / RATE / (240 / source.bpm))
    bars = min(int(rng.integers(8, 19)), whole)
    first = int(rng.integers(0, whole - bars + 1))
    a, b = (int(bar * 240 / source.bpm * RATE) for bar in (first, first + bars))
    parts = {role: _resampled(x[:, a:b], speed) for role, x in source.stems.items()}
    bpm = source.bpm * speed
    if rng.random() < 0.3:
        others = [s for s in real if "all" not in s.stems]
        parts |= _beside(others[int(rng.integers(len(others)))], bpm, parts, rng)
    length = min(x.shape[1] for x in parts.values())
    parts = {role: x[:, :length] for role, x in parts.items()}
    for x in parts.values():
        if len(parts) > 1 and rng.random() < 0.25:
            out = int(rng.integers(1, bars // 2 + 1))
            a = int(rng.integers(0, bars - out + 1))
            x[:, int(a * 240 / bpm * RATE) : int((a + out) * 240 / bpm * RATE)] = 0
    return parts, bpm


def _beside(other: Source, bpm: float, parts: dict[str, np.ndarray], rng: np.random.Generator) -> dict[str, np.ndarray]:
    """Stems of another piece at the same tempo or half or twice of it."""
    speed = bpm / other.bpm
    speed *= 0.5 if speed > 1.45 else 2.0 if speed < 0.7 else 1.0
    first = next(iter(parts.values()))
    loud = float(np.sqrt(np.square(sum(parts.values())).mean()))
    out = {}
    for role, x in other.stems.items():
        if rng.random() < 0.5:
            continue
        y = _resampled(np.tile(x, (1, int(first.shape[1] * speed / x.shape[1]) + 1)), speed)[:, : first.shape[1]]
        quiet = float(np.sqrt(np.square(y).mean())) + 1e-9
        out[f"more {role}"] = y * np.float32(loud / quiet * 10 ** (rng.uniform(-12, 0) / 20))
    return out


def _resampled(x: np.ndarray, speed: float) -> np.ndarray:
    return np.ascontiguousarray(soxr.resample(x.astype(np.float32).T, RATE * speed, RATE, quality="LQ").T)


def _pattern(rng: np.random.Generator) -> tuple[tuple[int, ...], tuple[int, ...], str]:
    """16ths that trigger, 16ths with a kick, and what the rate is called."""
    u = rng.random()
    if u < 0.42:
        return FOUR, FOUR, "1/4"
    if u < 0.54:
        return EIGHTHS, FOUR, "1/8"
    if u < 0.86:
        hits = PATTERNS[int(rng.integers(len(PATTERNS)))]
        if rng.random() < 0.6:
            drawn = sorted({0, *(int(s) for s in rng.choice(np.arange(2, 15), rng.integers(1, 4), replace=False))})
            hits = tuple(s for k, s in enumerate(drawn) if k == 0 or s - drawn[k - 1] >= 2)
        return hits, hits, "kick"
    hits = UNDER_SNARES[int(rng.integers(len(UNDER_SNARES)))]
    return tuple(sorted({*hits, *SNARE})), hits, "kick and snare"


def _target(rng: np.random.Generator, roles: list[str]) -> list[str]:
    kinds = {role: role.removeprefix("more ") for role in roles}
    u = rng.random()
    if u < 0.25:
        return roles
    wanted = ("bass", "chords", "all") if u < 0.5 else ("chords", "all") if u < 0.68 else ("bass", "all") if u < 0.87 else None
    some = [r for r in roles if (rng.random() < 0.6 if wanted is None else kinds[r] in wanted)]
    return some or roles


def _rests(rng: np.random.Generator, bars: int) -> np.ndarray:
    """Bars without a kick, bool."""
    out = np.zeros(bars, bool)
    if rng.random() < 0.5 and bars >= 12:
        first = int(rng.integers(bars))
        out[first : first + int(rng.choice([2, 4, 8]))] = True
    return out


def _curve(rng: np.random.Generator, depth_db: float, room_s: float) -> Curve:
    """Gain in dB by seconds from the trigger on."""
    fall_s = rng.uniform(0.001, 0.008) if rng.random() < 0.8 else rng.uniform(0.008, 0.02)
    hold_s = rng.choice([0, 0, 0.01, 0.03]) * rng.uniform(0.5, 1.3)
    end_s = max(rng.uniform(0.25, 1.0) * room_s, fall_s + hold_s + 0.045)
    steep, power, kind = rng.uniform(2, 7), rng.uniform(1, 3), int(rng.integers(6))
    low = 10 ** (-max(depth_db, 1e-6) / 20)
    shape = (
        lambda x: (np.exp(-steep * x) - np.exp(-steep)) / (1 - np.exp(-steep)),
        lambda x: 1 - x**power,
        lambda x: 0.5 + 0.5 * np.cos(np.pi * x),
        lambda x: np.log(low * (1 - x) + x) / np.log(low),
        lambda x: 1 - x,
        lambda x: (1 - x) ** power,
    )[kind]

    def gain_db(t_s: np.ndarray) -> np.ndarray:
        x = np.clip((t_s - fall_s - hold_s) / (end_s - fall_s - hold_s), 0, 1)
        return -depth_db * np.where(t_s < fall_s, np.clip(t_s / fall_s, 0, 1), shape(x))

    return gain_db


def _gain_db(curve: Curve, at_s: np.ndarray, length: int) -> np.ndarray:
    """The curve begun anew at each trigger, float32 (samples,): it falls from wherever it stands."""
    gain = np.zeros(length, np.float32)
    starts = np.clip((at_s * RATE).astype(int), 0, length)
    for start, stop in zip(starts, [*starts[1:], length]):
        if stop <= start:
            continue
        fresh = curve(np.arange(min(stop - start, 2 * RATE)) / RATE)
        bottom = int(np.argmin(fresh))
        stands = gain[start - 1] if start else 0.0
        fresh[:bottom] = np.minimum(fresh[:bottom], stands)
        gain[start : start + len(fresh)] = fresh
    return gain


def _any_kick(rng: np.random.Generator) -> np.ndarray:
    kick = _kick(rng)
    if rng.random() < 0.3:
        sos = signal.butter(1, rng.uniform(60, 4000), "low", fs=RATE, output="sos")
        kick = signal.sosfilt(sos, np.tanh(kick / np.abs(kick).max() * rng.uniform(1, 6)), axis=-1)
    return np.asarray(kick / np.abs(kick).max(), np.float32)


def _lay(onto: np.ndarray, hit: np.ndarray, at_s: np.ndarray, least: float, rng: np.random.Generator) -> None:
    for start in (at_s * RATE).astype(int):
        stop = min(onto.shape[1], start + hit.shape[-1])
        if stop > start:
            onto[:, start:stop] += hit[..., : stop - start] * np.float32(rng.uniform(least, 1.0))


def _tilted(music: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Darker or brighter."""
    tilt = rng.uniform(-0.5, 0.5)
    low = signal.sosfilt(signal.butter(1, 700, "low", fs=RATE, output="sos"), music, axis=1)
    return np.asarray(low * (1 + tilt) + (music - low) * (1 - tilt))


def _mastered(mix: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Saturated or not, driven into a limiter or not."""
    if rng.random() < 0.6:
        # From hardly at all to flat tops.
        mix = np.tanh(mix * rng.choice([0.5, 0.8, 1.2, 1.8, 2.6]) / max(1e-9, float(np.percentile(np.abs(mix[:, ::7]), 99.5))))
    if rng.random() < 0.3:
        mix = mix * 10 ** (rng.uniform(1, 5) / 20)
    return limited(mix, rng.uniform(0.03, 0.15))


def _folded(mix: np.ndarray, bpm: float, bars: int, playing: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """As a survey would fold it that finds the grid and the bars with kick about right."""
    beside_s = rng.normal(0, 0.002) if rng.random() < 0.8 else rng.uniform(-0.012, 0.012)
    wrong = rng.random(bars) < (0 if rng.random() < 0.6 else 0.15)
    use = playing ^ wrong
    if use.sum() < 4:
        use[:] = True
    grid = BarGrid(bpm, first_downbeat_s=beside_s)
    table = BarTable(grid, bars, beside_s + np.arange(bars + 1) * grid.bar_s)
    powers = fast_powers((mix[0] + mix[1]) / 2, (mix[0] - mix[1]) / 2, RATE)
    return fold(cut_levels(table, powers), use).astype(np.float16)


def _marked(steps: tuple[int, ...]) -> np.ndarray:
    out = np.zeros(STEPS, np.float32)
    out[list(steps)] = 1
    return out


_SOURCES: tuple[list[Source], list[Source]] = ([], [])


def _start(real: Path, truth: Path) -> None:
    _SOURCES[0].extend(real_sources(real, truth))
    _SOURCES[1].extend(generated_source(k) for k in range(GENERATED))


def _write(path: Path, first: int) -> None:
    pieces = [p for k in range(first, first + BATCH) if (p := make_piece(*_SOURCES, k)) is not None]
    np.savez(path, **{name: np.array([getattr(p, name) for p in pieces]) for name in Piece.__dataclass_fields__})


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m bench.learned.pieces")
    parser.add_argument("--real", type=Path, required=True)
    parser.add_argument("--truth", type=Path, required=True)
    parser.add_argument("--out", type=Path, required=True)
    parser.add_argument("--count", type=int, default=6850)
    arguments = parser.parse_args()
    arguments.out.mkdir(parents=True, exist_ok=True)
    starts = [k for k in range(0, arguments.count, BATCH) if not (arguments.out / f"{k:05d}.npz").exists()]
    with ProcessPoolExecutor(2, initializer=_start, initargs=(arguments.real, arguments.truth)) as pool:
        list(pool.map(_write, [arguments.out / f"{k:05d}.npz" for k in starts], starts))


if __name__ == "__main__":
    main()

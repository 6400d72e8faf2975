"""What meters show while a song plays: levels of every strip, loudness and correlation of the mix, what dynamics take away.

PER_BAR readings to a bar. Peak is the highest sample and RMS the root of the mean square of both channels, dB re full scale;
momentary and short-term loudness are LUFS of the 0.4 s and 3 s up to the reading (EBU Tech 3341); the correlation of left and right
is -1..1. A reduction is by how much an effect lowers the RMS of a reading, its make-up gain left out.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ersatz.core.loudness import step_energy
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song, with_strip
from ersatz.core.song.strips import MASTER, Effect, Strip

PER_BAR = 16
#: Percent of the limiter's readings that lie under what counts.
MOST_READINGS = 75
FLOOR_DB = -90.0
#: Effects that turn down, and what in them is make-up gain.
DYNAMICS: dict[str, tuple[str, ...]] = {
    "compressor": ("gain_db",), "multiband": ("low_gain_db", "mid_gain_db", "high_gain_db"), "gate": (), "limiter": ("gain_db",),
    "clipper": ("gain_db",),
}  # fmt: skip
SHORT_TERM_S, MOMENTARY_STEPS, SHORT_TERM_STEPS = 3.0, 4, 30


@dataclass(frozen=True)
class Levels:
    peak_db: list[float]
    rms_db: list[float]


@dataclass(frozen=True)
class Meters:
    """`strips`: levels by id. `limited_db`: what the master's clipping and limiting take from the peaks."""

    strips: dict[str, Levels]
    momentary_lufs: list[float]
    short_term_lufs: list[float]
    correlation: list[float]
    limited_db: list[float]


def measure_meters(mixdown: Mixdown, song: Song, first: int, last: int) -> Meters:
    """Of `song`, which `mixdown` renders, in 1-based bars first..last."""
    edges = _edges(mixdown, first, last)
    strips = {}
    for strip in song.strips():
        if strip.id != MASTER:
            strips[strip.id] = _levels(mixdown.strip_samples(strip.id, first, last), edges)
    mix = mixdown.strip_samples(MASTER, first, last)
    strips[MASTER] = _levels(mix, edges)
    momentary, short_term = _loudness(mixdown, first, last, edges)
    return Meters(strips, momentary, short_term, _correlation(mix, edges), limiter_reduction_db(mixdown, first, last))


def measure_reductions(mixdown: Mixdown, song: Song, strip: Strip, first: int, last: int) -> dict[str, list[float]]:
    """What each dynamics effect of a strip's chain takes away, dB per reading, by the effect's id."""
    edges = _edges(mixdown, first, last)
    return {
        effect.id: _reduction(mixdown, song, strip, effect, first, last, edges)
        for effect in strip.chain
        if effect.on and effect.kind in DYNAMICS
    }


def most_limited_db(mixdown: Mixdown, first: int, last: int) -> float:
    """What the limiter takes from most peaks of 1-based bars first..last, dB."""
    return float(np.percentile(limiter_reduction_db(mixdown, first, last), MOST_READINGS))


def limiter_reduction_db(mixdown: Mixdown, first: int, last: int) -> list[float]:
    """By how many dB the master's clipping and limiting lower the peaks of each reading."""
    edges = _edges(mixdown, first, last)
    return _lowered(mixdown.before_limiting(first, last), mixdown.strip_samples(MASTER, first, last), edges, peaks=True)


def _edges(mixdown: Mixdown, first: int, last: int) -> np.ndarray:
    """Sample edges of the readings, from the first bar line on, shape (bars * PER_BAR + 1,)."""
    start = mixdown.bar_range(first, first)[0]
    lines = [mixdown.bar_range(bar, bar) for bar in range(first, last + 1)]
    inside = [np.linspace(a, b, PER_BAR, endpoint=False) for a, b in lines]
    return np.concatenate([*inside, [lines[-1][1]]]).astype(int) - start


def _db(power: np.ndarray) -> list[float]:
    return [round(float(v), 1) for v in np.maximum(10 * np.log10(np.maximum(power, 1e-12)), FLOOR_DB)]


def _rms(x: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """Mean square per reading, both channels."""
    return np.add.reduceat(np.square(x, dtype=np.float64).mean(axis=0), edges[:-1]) / np.diff(edges)


def _peaks(x: np.ndarray, edges: np.ndarray) -> np.ndarray:
    return np.maximum.reduceat(np.abs(x).max(axis=0), edges[:-1])


def _levels(x: np.ndarray, edges: np.ndarray) -> Levels:
    return Levels(_db(np.square(_peaks(x, edges))), _db(_rms(x, edges)))


def _lowered(before: np.ndarray, after: np.ndarray, edges: np.ndarray, peaks: bool = False) -> list[float]:
    """By how many dB a process lowers each reading; 0 where nothing sounds."""
    measure = (lambda x: np.square(_peaks(x, edges))) if peaks else (lambda x: _rms(x, edges))
    was, is_now = np.array(_db(measure(before))), np.array(_db(measure(after)))
    return [float(v) for v in np.round(np.where(was > -60, was - is_now, 0.0), 1)]


def _reduction(mixdown: Mixdown, song: Song, strip: Strip, effect: Effect, first: int, last: int, edges: np.ndarray) -> list[float]:
    place = strip.chain.index(effect)
    choices = {**effect.choices, "auto_gain": "off"} if "auto_gain" in effect.choices else effect.choices
    plain = replace(effect, params={**effect.params, **dict.fromkeys(DYNAMICS[effect.kind], 0.0)}, choices=choices)
    before, after = (
        mixdown.varied(with_strip(song, replace(strip, chain=chain))).behind_chain(strip.id, first, last)
        for chain in (strip.chain[:place], (*strip.chain[:place], plain))
    )
    driven = 10 ** (effect.params.get("gain_db", 0.0) / 20) if effect.kind in ("limiter", "clipper") else 1.0
    if driven != 1.0:
        # Their gain lies in front: it drives what is taken away.
        after = mixdown.varied(with_strip(song, replace(strip, chain=(*strip.chain[:place], effect)))).behind_chain(
            strip.id, first, last
        )
    return _lowered(before * driven, after, edges)


def _loudness(mixdown: Mixdown, first: int, last: int, edges: np.ndarray) -> tuple[list[float], list[float]]:
    """Momentary and short-term loudness up to the end of each reading."""
    start, stop = mixdown.bar_range(first, last)
    begin = max(0, start - round(SHORT_TERM_S * RATE_HZ))
    energy = step_energy(mixdown.samples(begin, stop), RATE_HZ)
    total = np.concatenate([[0.0], np.cumsum(energy)])
    ends = np.clip(np.round((edges[1:] + start - begin) / RATE_HZ * 10).astype(int), 1, len(energy))

    def over(steps: int) -> list[float]:
        begins = np.maximum(ends - steps, 0)
        mean = (total[ends] - total[begins]) / np.maximum(ends - begins, 1)
        return [float(v) for v in np.round(np.maximum(-0.691 + 10 * np.log10(np.maximum(mean, 1e-12)), FLOOR_DB), 1)]

    return over(MOMENTARY_STEPS), over(SHORT_TERM_STEPS)


def _correlation(x: np.ndarray, edges: np.ndarray) -> list[float]:
    def summed(y: np.ndarray) -> np.ndarray:
        return np.add.reduceat(y.astype(np.float64), edges[:-1])

    both = np.sqrt(summed(x[0] ** 2) * summed(x[1] ** 2))
    found = np.where(both > 1e-9, summed(x[0] * x[1]) / np.maximum(both, 1e-9), 1.0)
    return [float(v) for v in np.round(found, 2)]

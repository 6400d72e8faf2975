"""Single cycles to morph through, all computed here: each name is a row of cycles from dull or pure to bright or strange."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache, lru_cache

import numpy as np

from ersatz.core.samples import Sample
from ersatz.core.voices.oscillators import mip_map

POINTS = 2048
U = np.arange(POINTS) / POINTS


def _sines(amplitudes: np.ndarray, phases: np.ndarray | None = None) -> np.ndarray:
    k = np.arange(1, len(amplitudes) + 1)
    turns = np.zeros(len(k)) if phases is None else phases
    return np.asarray((amplitudes[:, None] * np.sin(2 * np.pi * (k[:, None] * U + turns[:, None]))).sum(axis=0))


def _unfolding() -> list[np.ndarray]:
    """A sine folded over itself further and further."""
    return [np.sin(np.pi / 2 * drive * np.sin(2 * np.pi * U)) for drive in (1.0, 1.8, 2.8, 4.0, 5.4)]


def _drawbars() -> list[np.ndarray]:
    """Octaves and fifths that join the fundamental one after the other."""
    steps = [(1,), (1, 2), (1, 2, 3), (1, 2, 3, 4, 6), (1, 2, 3, 4, 6, 8, 12, 16)]
    out = []
    for chosen in steps:
        amplitudes = np.zeros(16)
        amplitudes[np.array(chosen) - 1] = 1.0
        out.append(_sines(amplitudes))
    return out


def _throat() -> list[np.ndarray]:
    """A pulse train with a resonance that climbs over the harmonics."""
    k = np.arange(1, 65)
    return [_sines(0.3 / k + np.exp(-0.5 * ((k - peak) / (0.8 + 0.12 * peak)) ** 2)) for peak in (1, 3, 6, 11, 18)]


def _glass() -> list[np.ndarray]:
    """Few high partials with gaps between them."""
    out = []
    for lift in range(5):
        amplitudes = np.zeros(48)
        for i, k in enumerate((1, 4 + lift, 7 + 2 * lift, 13 + 3 * lift, 22 + 5 * lift)):
            amplitudes[k - 1] = 0.75**i
        out.append(_sines(amplitudes, np.linspace(0, 0.8, 48)))
    return out


def _hollow() -> list[np.ndarray]:
    """Odd harmonics only, to all of them."""
    k = np.arange(1, 49)
    return [_sines(np.where(k % 2 == 1, 1.0 / k, share / k)) for share in (0.0, 0.2, 0.45, 0.7, 1.0)]


def _torn() -> list[np.ndarray]:
    """A cycle that runs ahead of itself: phase bent by a growing amount."""
    return [np.sin(2 * np.pi * (U + bend * np.sin(2 * np.pi * U) / (2 * np.pi))) for bend in (0.0, 0.9, 1.8, 3.0, 4.6)]


TABLES: dict[str, Callable[[], list[np.ndarray]]] = {
    "unfolding": _unfolding, "drawbars": _drawbars, "throat": _throat, "glass": _glass, "hollow": _hollow, "torn": _torn,
}  # fmt: skip


@cache
def frames_of(name: str) -> np.ndarray:
    """Mip-maps of a named row, each cycle at full swing, shape (cycles, LEVELS, points)."""
    return np.stack([mip_map(cycle / np.abs(cycle - cycle.mean()).max()) for cycle in TABLES[name]()])


#: A file up to twice this long is one cycle; a longer one is a row of cycles of this length.
FILE_CYCLE = 2048
#: Of more cycles so many are taken, evenly spread.
MOST_CYCLES = 32


@lru_cache(maxsize=8)
def frames_from(own: Sample) -> np.ndarray:
    """Mip-maps of a producer's own file, its samples read as they stand, shape (cycles, LEVELS, points)."""
    mono = own.audio.samples.mean(axis=0, dtype=np.float64)
    count = len(mono) // FILE_CYCLE
    cycles = [mono] if count < 2 else [mono[k * FILE_CYCLE : (k + 1) * FILE_CYCLE] for k in range(count)]
    taken = cycles if count <= MOST_CYCLES else [cycles[k] for k in np.linspace(0, count - 1, MOST_CYCLES).round().astype(int)]
    return np.stack([mip_map(c / max(float(np.abs(c - c.mean()).max()), 1e-9)) for c in taken])

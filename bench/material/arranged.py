"""Tracker modules arranged by plans of ours: instruments brought in and out at known bar lines, on sounds that people made."""

from __future__ import annotations

import zlib
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
from scipy import signal

from bench.material.files import is_held_back, keep
from bench.material.modules import RATE, Module
from bench.plain import EDGES_HZ

#: Bars of music that are played round and round: arrangements of their own inside a module would be unknown changes.
LOOP_BARS = 4
LENGTHS_BARS = (4, 8, 8, 12, 16)
TRACK_BARS = 72
LEAST_INSTRUMENTS = 4
#: What is faded or filtered out is heard for no more than a bar line.
FADE_S = 0.01
CLOSED_HZ = 400.0
#: An instrument that plays is at least so loud.
LEAST_RMS = 0.004
#: The form of a club's track, with the lengths that each section may have, and how many tracks of it there are per module.
CLUB_FORM = (
    ("intro", (8, 16)), ("breakdown", (8, 16)), ("build", (4, 8)), ("drop", (16, 32)), ("breakdown", (8, 16)), ("build", (8,)),
    ("drop", (16,)), ("outro", (8, 16)),
)  # fmt: skip
CLUB_TRACKS = 2
#: A step of a band's level from which a section begins, and from which something has changed at all, dB.
BOUNDARY_DB, CHANGE_DB = 6.0, 3.0


def arrange(module: Module, number: int) -> tuple[np.ndarray, dict[str, Any]] | None:
    """A track of TRACK_BARS bars from a module's loudest steady bars and its truth; None where it has too few instruments."""
    bar = int(module.bar_s * RATE)
    loop = _fullest(module, bar)
    playing = [x[:, loop * bar : (loop + LOOP_BARS) * bar] for x in module.instruments]
    loud = [x for x in playing if _sounds(x)]
    if len(loud) < LEAST_INSTRUMENTS:
        return None
    rng = np.random.default_rng(zlib.crc32(f"{module.name} {number}".encode()))
    loud = loud[:8]
    sections, on, at = [], np.zeros(len(loud), bool), 0
    on[rng.choice(len(loud), 2, replace=False)] = True
    while at < TRACK_BARS:
        bars = min(int(rng.choice(LENGTHS_BARS)), TRACK_BARS - at)
        sections.append((at, bars, on.copy(), bool(rng.random() < 0.15)))
        at += bars
        for _ in range(int(rng.choice([1, 1, 2, 3]))):
            k = int(rng.integers(len(loud)))
            on[k] = not on[k]
        if on.sum() == 0:
            on[int(rng.integers(len(loud)))] = True
    mix = np.zeros((2, TRACK_BARS * bar), np.float32)
    for start, bars, plays, closed in sections:
        piece = np.zeros((2, bars * bar), np.float32)
        for x, sounds in zip(loud, plays):
            if sounds:
                piece += _looped(x, bars, bar)
        if closed:
            piece = _closed(piece)
        edge = int(FADE_S * RATE)
        piece[:, :edge] *= np.linspace(0, 1, edge)
        piece[:, -edge:] *= np.linspace(1, 0, edge)
        mix[:, start * bar : (start + bars) * bar] = piece
    mix *= 0.8 / max(float(np.abs(mix).max()), 1e-9)
    steps = [(b[0], _step_db(loud, a, b)) for a, b in pairwise(sections)]
    truth = {
        "bpm": module.bpm,
        "bar_s": bar / RATE,
        "boundaries": [bar for bar, step in steps if step >= BOUNDARY_DB],
        "changes": [bar for bar, step in steps if step >= CHANGE_DB],
        "bars": TRACK_BARS,
        "held_back": is_held_back(module.name),
    }
    return mix, truth


def arrange_club(module: Module, number: int) -> tuple[np.ndarray, dict[str, Any]] | None:
    """A track of a club's form from the same bars, its sections' labels known; None where drums, bass or chords are missing."""
    bar = int(module.bar_s * RATE)
    loop = _fullest(module, bar)
    stems = {role: x[:, loop * bar : (loop + LOOP_BARS) * bar] for role, x in module.stems.items()}
    if any(role not in stems or not _sounds(stems[role]) for role in ("drums", "bass", "chords")):
        return None
    rng = np.random.default_rng(zlib.crc32(f"{module.name} club {number}".encode()))
    pieces: list[np.ndarray] = []
    sections: list[tuple[int, str]] = []
    at = 0
    for label, lengths in CLUB_FORM:
        bars = int(rng.choice(lengths))
        sections.append((at, label))
        pieces.append(_club_section(stems, label, bars, bar, rng))
        at += bars
    mix = np.concatenate(pieces, axis=1)
    mix *= 0.8 / max(float(np.abs(mix).max()), 1e-9)
    starts = [start for start, _ in sections[1:]]
    truth = {
        "bpm": module.bpm,
        "bar_s": bar / RATE,
        "boundaries": starts,
        "changes": starts,
        "labels": [label for _, label in sections],
        "bars": at,
        "held_back": is_held_back(module.name),
    }
    return mix.astype(np.float32), truth


def _club_section(stems: dict[str, np.ndarray], label: str, bars: int, bar: int, rng: np.random.Generator) -> np.ndarray:
    """Drums alone in intro and outro, chords in the breakdown, under a rising noise in the build, all in the drop."""
    roles = {"intro": ("drums",), "outro": ("drums",), "breakdown": ("chords",), "build": ("chords",)}.get(label, tuple(stems))
    piece = _looped(np.sum([stems[r] for r in roles], axis=0), bars, bar)
    if label != "build":
        return piece
    level = float(np.sqrt(np.square(np.sum(list(stems.values()), axis=0)).mean()))
    noise = signal.sosfilt(signal.butter(2, 2000, "highpass", fs=RATE, output="sos"), rng.standard_normal(piece.shape), axis=1)
    rising = np.linspace(0, 1, piece.shape[1]) ** 2
    # The last beat before the drop is free.
    free = np.arange(piece.shape[1]) < piece.shape[1] - bar // 4
    return np.asarray((piece * (0.4 + 0.6 * rising) + 0.7 * level * rising * noise) * free)


def _looped(loop: np.ndarray, bars: int, bar: int) -> np.ndarray:
    """LOOP_BARS bars of music played round for `bars` bars."""
    return np.tile(loop, (1, -(-bars // LOOP_BARS)))[:, : bars * bar]


def write_arranged(modules: list[Module], folder: Path, per_module: int = 4) -> None:
    """FLAC and JSON per track; what is there stays."""
    folder.mkdir(parents=True, exist_ok=True)
    for module in modules:
        for number in range(per_module):
            keep(folder / f"{module.name} {number + 1}.flac", partial(arrange, module, number))
        for number in range(CLUB_TRACKS):
            keep(folder / f"{module.name} club {number + 1}.flac", partial(arrange_club, module, number))


def _fullest(module: Module, bar: int) -> int:
    """First of the LOOP_BARS bars in which most instruments play."""
    counts = []
    for start in range(0, max(1, module.bars - LOOP_BARS), LOOP_BARS):
        inside = [x[:, start * bar : (start + LOOP_BARS) * bar] for x in module.instruments]
        counts.append(sum(map(_sounds, inside)))
    return int(np.argmax(counts)) * LOOP_BARS


def _sounds(x: np.ndarray) -> bool:
    return bool(x.size) and float(np.sqrt(np.square(x).mean())) > LEAST_RMS


def _closed(x: np.ndarray) -> np.ndarray:
    """Low-passed as a filter that is nearly shut."""
    return np.asarray(signal.sosfilt(signal.butter(4, CLOSED_HZ, fs=RATE, output="sos"), x, axis=1), np.float32)


def _step_db(instruments: list[np.ndarray], before: tuple, after: tuple) -> float:
    """Largest step of a band's level from one section to the next, dB."""

    def levels(section: tuple) -> np.ndarray:
        total = np.sum([x for x, on in zip(instruments, section[2]) if on], axis=0)
        if section[3]:
            total = _closed(total)
        hz, power = signal.welch(total, RATE, nperseg=4096, axis=1)
        edges = np.searchsorted(hz, EDGES_HZ)
        bands = np.add.reduceat(power.sum(axis=0), edges)[:-1]
        return np.asarray(10 * np.log10(bands + 1e-12))

    a, b = levels(before), levels(after)
    floor = max(a.max(), b.max()) - 45
    return float(np.abs(np.maximum(a, floor) - np.maximum(b, floor)).max())

"""Pieces of real music turned down by a known curve on their known grid, with a kick of our own over it, mastered.

What a piece holds is drawn from its number alone. A third of the *tracks* is held back while tuning, so that no sound of theirs has
been seen.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable
from dataclasses import asdict, dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from numba import njit
from scipy import signal
from scipy.ndimage import maximum_filter1d

from bench.material.files import is_held_back, keep
from bench.material.modules import RATE, Module

BARS = 24
POINTS = 64
FALL_S = 0.003
#: What is deeper counts as this: under it nothing is heard.
DEEPEST_DB = 24.0
COMPLETE_DB = 70.0
MUSIC_RMS = 0.16
#: Steps (16ths of a bar) of the kick and, for "kick and snare", of what else triggers.
PATTERNS = {"four": (0, 4, 8, 12), "two-step": (0, 10), "broken": (0, 3, 10), "late": (0, 6, 10)}
SNARE = (4, 12)
SHAPES: dict[str, Callable[[np.ndarray, float], np.ndarray]] = {
    # Each from 1 (lowest) to 0 (recovered) over x = 0..1; the second argument is the depth in dB.
    "exponential": lambda x, depth: (np.exp(-3.5 * x) - np.exp(-3.5)) / (1 - np.exp(-3.5)),
    "straight": lambda x, depth: 1 - x,
    "s": lambda x, depth: 0.5 + 0.5 * np.cos(np.pi * x),
    "straight in gain": lambda x, depth: -20 * np.log10(10 ** (-depth / 20) * (1 - x) + x) / depth,
    "late": lambda x, depth: 1 - x**2.5,
}


@dataclass(frozen=True)
class Source:
    """Real music to duck: stems by what they are ("all" where they can't be told apart), on a grid that starts at 0."""

    name: str
    bpm: float
    stems: dict[str, np.ndarray]

    @property
    def held_back(self) -> bool:
        return is_held_back(self.name)


@dataclass(frozen=True)
class Recipe:
    """What is done to a source. `target`: "all", "all but drums", "bass" or "chords"."""

    depth_db: float
    shape: str
    #: Share of the room between two triggers after which the curve has recovered.
    end: float
    hold_s: float
    rate: str
    pattern: str
    target: str
    #: Bars without kick, and whether the ducking goes on there.
    rests: tuple[int, int] | None
    runs_on: bool
    kick_db: float
    drive_db: float


def source_of_file(path: Path, truth: dict[str, Any]) -> Source:
    """24 bars from the middle of a track of the real set, cut at a beat (at a bar line where it is known)."""
    beat_s = 60 / truth["bpm"]
    first = truth["downbeat_time_s"] if truth["downbeat_time_s"] is not None else truth["beat_time_s"]
    need_s = BARS * 4 * beat_s
    bars = int((truth["duration_s"] - first) / (4 * beat_s))
    start_s = first + max(0, (bars - BARS) // 2) * 4 * beat_s
    info = soundfile.info(str(path))
    x, rate = soundfile.read(
        str(path), int(need_s * info.samplerate), int(start_s * info.samplerate), dtype="float32", always_2d=True
    )
    y = x.T if x.shape[1] == 2 else np.repeat(x.T, 2, axis=0)
    if rate != RATE:
        y = signal.resample_poly(y, RATE, rate, axis=1).astype(np.float32)
    return Source(path.stem, truth["bpm"], {"all": y})


def source_of_module(module: Module) -> Source:
    length = int(min(module.bars, BARS) * module.bar_s * RATE)
    return Source(f"{module.name} stems", module.bpm, {role: x[:, :length] for role, x in module.stems.items()})


def draw(source: Source, number: int) -> Recipe:
    """The recipe of a source's piece with this number."""
    rng = np.random.default_rng(zlib.crc32(f"{source.name} {number}".encode()))
    rate = str(rng.choice(["1/4", "1/4", "1/4", "1/8", "kick", "kick", "kick and snare"]))
    pattern = "four" if rate in ("1/4", "1/8") else str(rng.choice(["two-step", "broken", "late"]))
    # The fourth of every four pieces doesn't duck at all; one of the others is ducked completely now and then.
    kinds = [
        float(rng.uniform(2, 6)),
        float(rng.uniform(6, 16)),
        COMPLETE_DB if rng.random() < 0.4 else float(rng.uniform(4, 12)),
        0.0,
    ]
    targets = ["all"] if "all" in source.stems else ["all", "all but drums", "bass", "chords"]
    target = str(rng.choice([t for t in targets if _stems_of(source, t)]))
    first = int(rng.choice([8, 12, 16]))
    return Recipe(
        depth_db=kinds[number % 4],
        shape=str(rng.choice(list(SHAPES))),
        end=float(rng.uniform(0.3, 0.95)),
        hold_s=float(rng.choice([0.0, 0.01, 0.03])),
        rate=rate,
        pattern=pattern,
        target=target,
        rests=(first, first + int(rng.choice([4, 8]))) if rng.random() < 0.6 else None,
        runs_on=bool(rng.random() < 0.5),
        kick_db=float(rng.uniform(-4, 2)),
        drive_db=float(rng.choice([0, 0, 3, 6])),
    )  # fmt: skip


def _stems_of(source: Source, target: str) -> list[str]:
    wanted = {"all": list(source.stems), "all but drums": ["bass", "chords"]}.get(target, [target])
    return [s for s in wanted if s in source.stems]


def curve_db(recipe: Recipe, room_s: float, t_s: np.ndarray) -> np.ndarray:
    """Gain in dB at times after a trigger that has `room_s` until the next, 0 when recovered."""
    end = max(recipe.end * room_s, FALL_S + recipe.hold_s + 0.045)
    x = np.clip((t_s - FALL_S - recipe.hold_s) / (end - FALL_S - recipe.hold_s), 0, 1)
    left = np.where(t_s < FALL_S, np.clip(t_s / FALL_S, 0, 1), SHAPES[recipe.shape](x, max(recipe.depth_db, 1e-6)))
    return np.asarray(-recipe.depth_db * left)


def trigger_steps(recipe: Recipe) -> tuple[int, ...]:
    if recipe.rate == "1/8":
        return tuple(range(0, 16, 2))
    return tuple(sorted({*PATTERNS[recipe.pattern], *(SNARE if recipe.rate == "kick and snare" else ())}))


def make_piece(source: Source, recipe: Recipe, seed: int) -> tuple[np.ndarray, dict[str, Any]]:
    """The finished audio, float32 (2, samples), and its truth."""
    rng = np.random.default_rng(seed)
    length = next(iter(source.stems.values())).shape[1]
    beat_s = 60 / source.bpm
    step = beat_s / 4 * RATE
    bars = int(length / (16 * step))
    steps = trigger_steps(recipe)
    # Between triggers of a pattern the shortest room decides: one curve for all of them, as a keyed ducker's.
    room_s = (
        min(np.diff([*steps, 16])) * beat_s / 4
        if recipe.rate in ("1/4", "1/8")
        else min(beat_s, max(np.diff([*steps, 16])) * beat_s / 4)
    )
    gain = np.zeros(length, np.float32)
    kicks = np.zeros(length, np.float32)
    kick = _kick(rng)
    snare = _snare(rng)
    for bar in range(bars):
        rests = recipe.rests is not None and recipe.rests[0] <= bar < recipe.rests[1]
        if not rests or recipe.runs_on:
            for k, s in enumerate(steps):
                start = int((bar * 16 + s) * step)
                stop = min(length, int((bar * 16 + (*steps, 16)[k + 1]) * step))
                # A trigger sets the curve off anew from wherever it stands.
                stands = gain[start - 1] if start else 0.0
                fresh = curve_db(recipe, room_s, np.arange(stop - start) / RATE)
                falling = np.arange(stop - start) < FALL_S * RATE
                gain[start:stop] = np.where(falling, np.minimum(fresh, stands), fresh)
        if not rests:
            for s in PATTERNS[recipe.pattern]:
                _lay(kicks, kick, int((bar * 16 + s) * step))
            if recipe.rate == "kick and snare":
                for s in SNARE:
                    _lay(kicks, snare, int((bar * 16 + s) * step))
    ducked = _stems_of(source, recipe.target)
    factor = 10 ** (gain / 20)
    music: np.ndarray = sum(x * (factor if role in ducked else 1.0) for role, x in source.stems.items())
    music = music * (MUSIC_RMS / max(1e-6, float(np.sqrt(np.square(sum(source.stems.values())).mean()))))
    mix = music + kicks * 0.6 * 10 ** (recipe.kick_db / 20)
    mix = _master(mix, recipe.drive_db)
    period_s = beat_s / 2 if recipe.rate == "1/8" else beat_s
    t = np.arange(POINTS) / POINTS * period_s
    truth = {
        "bpm": source.bpm,
        "beat_s": beat_s,
        "depth_db": min(recipe.depth_db, DEEPEST_DB),
        "rate": recipe.rate if recipe.pattern != "four" or recipe.rate == "1/8" else "1/4",
        "release_ms": _release_ms(recipe, room_s),
        "curve_db": np.round(np.maximum(curve_db(recipe, room_s, t), -DEEPEST_DB), 3).tolist(),
        "held_back": source.held_back,
        "source": source.name,
        "recipe": asdict(recipe),
        # Nothing but drums that may not even be ducked: there is nothing to read it from.
        "told": _sounding(source, ducked),
    }  # fmt: skip
    return mix.astype(np.float32), truth


def write_pieces(sources: list[Source], folder: Path, per_source: int = 4) -> None:
    """FLAC and JSON per piece; what is there stays."""
    folder.mkdir(parents=True, exist_ok=True)
    for source in sources:
        for number in range(per_source):
            path = folder / f"{source.name} {number + 1}.flac"
            keep(path, partial(make_piece, source, draw(source, number), zlib.crc32(path.name.encode())))


def _master(mix: np.ndarray, drive_db: float) -> np.ndarray:
    """Saturation as far as `drive_db` asks, then a limiter of 2 ms and 60 ms at -1 dBFS."""
    if drive_db:
        mix = np.tanh(mix * 10 ** (drive_db / 20))
    return limited(mix, 0.06)


def limited(mix: np.ndarray, release_s: float) -> np.ndarray:
    """A limiter at -1 dBFS that looks 2 ms ahead: it falls at once and recovers by `release_s`."""
    ceiling = 10 ** (-1 / 20)
    held = maximum_filter1d(np.abs(mix).max(axis=0), 2 * int(0.002 * RATE) + 1)
    gain = _released(np.minimum(1.0, ceiling / np.maximum(held, 1e-9)), np.exp(-1 / (release_s * RATE)))
    return np.asarray(np.clip(mix * gain, -ceiling, ceiling))


@njit(cache=True)
def _released(wanted: np.ndarray, keep: float) -> np.ndarray:
    out = np.empty_like(wanted)
    state = 1.0
    for i in range(len(wanted)):
        state = min(wanted[i], wanted[i] + (state - wanted[i]) * keep)
        out[i] = state
    return out


def _sounding(source: Source, ducked: list[str]) -> bool:
    """Does anything that is ducked sound long enough to show it?"""
    x = sum(source.stems[s] for s in ducked)
    envelope = np.abs(np.asarray(x)).max(axis=0)
    envelope = envelope[: len(envelope) // 441 * 441].reshape(-1, 441).max(axis=1)
    return bool((envelope > 0.1 * np.percentile(envelope, 99)).mean() > 0.25)


def _release_ms(recipe: Recipe, room_s: float) -> float:
    t = np.arange(int(room_s * 10_000)) / 10_000
    curve = curve_db(recipe, room_s, t)
    bottom = int(np.flatnonzero(curve <= curve.min() + 0.05)[0])
    back = np.flatnonzero(curve[bottom:] >= -1.0)
    return float(back[0] if len(back) else len(t) - bottom) / 10


def _lay(onto: np.ndarray, hit: np.ndarray, at: int) -> None:
    stop = min(len(onto), at + len(hit))
    onto[at:stop] += hit[: stop - at]


def _kick(rng: np.random.Generator) -> np.ndarray:
    """A sine that falls in pitch, a click, some drive: drawn anew for every piece."""
    t = np.arange(int(rng.uniform(0.18, 0.4) * RATE)) / RATE
    end, top, fall = rng.uniform(43, 60), rng.uniform(120, 400), rng.uniform(0.012, 0.04)
    phase = 2 * np.pi * (end * t + (top - end) * fall * (1 - np.exp(-t / fall)))
    body = np.sin(phase) * np.exp(-t / rng.uniform(0.08, 0.2)) * np.minimum(1, (t[-1] - t) / 0.01)
    click = signal.lfilter([1, -0.9], [1], rng.standard_normal(len(t))) * np.exp(-t / rng.uniform(0.001, 0.006))
    hit = np.tanh((body + rng.uniform(0.05, 0.3) * click) * rng.uniform(1, 3))
    return np.asarray(hit / np.abs(hit).max(), np.float32)


def _snare(rng: np.random.Generator) -> np.ndarray:
    t = np.arange(int(0.25 * RATE)) / RATE
    noise = signal.lfilter(*signal.butter(2, [600, 9000], "bandpass", fs=RATE), rng.standard_normal(len(t)))
    hit = 0.6 * np.sin(2 * np.pi * 190 * t) * np.exp(-t / 0.05) + noise * np.exp(-t / rng.uniform(0.04, 0.1))
    return np.asarray(0.7 * hit / np.abs(hit).max(), np.float32)

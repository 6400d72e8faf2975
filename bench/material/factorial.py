"""Short generated pieces in which everything that can fool the pump is varied against everything else.

The sounds and the sequence are those of bench/testset; what is ducked, by how much, under which drums, bass and chords, at which
tempo and swing, in which form and through which master is drawn for each piece. A third of the *combinations* of what ducks and
what triggers it is held back, not of the seeds.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict, dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from scipy import signal

from bench.material.ducked import DEEPEST_DB, POINTS
from bench.material.files import is_held_back, keep
from bench.material.modules import RATE
from bench.testset.recipes import STYLES, Recipe
from bench.testset.track import DUCKED, Draw, Truth, draw_track, play
from demo.synth import RATE_HZ, Desk, duck_gain

PIECES = 216
FORMS: dict[str, list[tuple[str, int]]] = {
    "club": [("intro", 4), ("breakdown", 4), ("drop", 8), ("breakdown", 4), ("drop", 8)],
    "goes on": [("drop", 24)],
    "no breakdown": [("intro", 8), ("drop", 16)],
}
DRUMS = ("kick", "clap", "hats", "perc", "roll")


@dataclass(frozen=True)
class Factors:
    """`ducked`: roles that are turned down; `kick`: a pattern of bench/testset; `chords` and `bass` by how they sound on."""

    ducked: tuple[str, ...]
    kick: str
    depth_db: float
    chords: str
    bass: str
    drums_db: float
    drive: float
    swing: float
    bpm: float
    form: str

    @property
    def combination(self) -> str:
        return f"{'+'.join(self.ducked)} under {self.kick}"


LEVELS: dict[str, tuple[Any, ...]] = {
    "ducked": (DUCKED, ("bass",), ("chords",), ("chords", "lead")),
    "kick": ("four", "two-step", "broken", "dembow"),
    "depth_db": (0.0, 3.5, 6.0, 10.0, 16.0),
    "chords": ("pad", "stab", "stack"),
    "bass": ("off-beat", "rolling", "long", "riff"),
    "drums_db": (-4.0, 0.0, 4.0),
    "drive": (0.7, 1.15, 2.5),
    "swing": (50.0, 58.0),
    "bpm": (82.0, 104.0, 124.0, 132.5, 150.0, 174.0),
    "form": tuple(FORMS),
}


def combinations() -> Iterator[Factors]:
    """Every factor runs through all its levels equally often, in an order of its own."""
    rows = {}
    for name, levels in LEVELS.items():
        order = np.resize(np.arange(len(levels)), PIECES)
        np.random.default_rng(zlib.crc32(name.encode())).shuffle(order)
        rows[name] = [levels[k] for k in order]
    for i in range(PIECES):
        yield Factors(**{name: row[i] for name, row in rows.items()})


def make_factorial(factors: Factors, number: int) -> tuple[np.ndarray, dict[str, Any]]:
    """The finished audio, float32 (2, samples), and its truth, in the names of bench/material/ducked."""
    like = STYLES["tech house" if factors.kick == "four" else "drum and bass"]
    style = replace(
        like, bpm=(factors.bpm,) * 2, kick=factors.kick, swing=(factors.swing,) * 2, duck_db=(max(factors.depth_db, 0.1),) * 2,
        duck_rate="1/4" if factors.kick in ("four", "dembow") else "kick", chords=(factors.chords,), bass_rhythm=(factors.bass,),
    )  # fmt: skip
    recipe = Recipe(f"factorial {number}", "tech house", 9000 + number)
    draw = replace(draw_track(recipe, style), bpm=factors.bpm, sections=FORMS[factors.form])
    desk = Desk(int((sum(b for _, b in draw.sections) * draw.bar_s + 1.5) * RATE_HZ))
    triggers = play(recipe, style, draw, desk, Truth())
    gain = duck_gain(desk.frames, [(t, factors.depth_db) for t in triggers], draw.curve_s, draw.curve)
    mix = np.zeros((2, desk.frames), np.float32)
    for name, track in desk.tracks.items():
        ducked = name in factors.ducked and factors.depth_db > 0
        mix += track * (gain if ducked else 1.0) * (10 ** (factors.drums_db / 20) if name in DRUMS else 1.0)
    mix = np.tanh(factors.drive * mix / max(1e-9, float(np.percentile(np.abs(mix), 99.5))))
    mix = signal.resample_poly(mix * 0.9, RATE // 300, RATE_HZ // 300, axis=1)
    return mix.astype(np.float32), _truth(factors, draw, style.duck_rate, set(desk.tracks))


def _truth(factors: Factors, draw: Draw, rate: str, played: set[str]) -> dict[str, Any]:
    beat_s = 60 / factors.bpm
    curve = -factors.depth_db * np.interp(np.arange(POINTS) / POINTS * beat_s, draw.curve_s, draw.curve, right=0.0)
    back = draw.curve_s[2:][factors.depth_db * draw.curve[2:] <= 1.0]
    return {
        "bpm": factors.bpm,
        "beat_s": beat_s,
        "depth_db": factors.depth_db,
        "rate": rate,
        "release_ms": round(float(back[0] - draw.curve_s[1]) * 1000, 1),
        "curve_db": np.round(np.maximum(curve, -DEEPEST_DB), 3).tolist(),
        "held_back": is_held_back(factors.combination),
        "source": factors.combination,
        "recipe": asdict(factors),
        "told": bool(played & set(factors.ducked)),
    }


def write_factorial(folder: Path) -> None:
    """FLAC and JSON per piece; what is there stays."""
    folder.mkdir(parents=True, exist_ok=True)
    with ProcessPoolExecutor() as pool:
        list(pool.map(_write, [folder] * PIECES, combinations(), range(PIECES)))


def _write(folder: Path, factors: Factors, number: int) -> None:
    keep(folder / f"{number:03d} {factors.combination}.flac", partial(make_factorial, factors, number))

"""Music to duck: whole tracks of the real set, stems of tracker modules and of bench/testset. As float16, to save room."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile
import soxr

from bench.material.ducked import Source
from bench.material.files import is_held_back
from bench.material.modules import RATE, fetch_modules, render_module
from bench.testset.recipes import KICKS, STYLES, Recipe
from bench.testset.track import Truth, draw_track, play
from demo.synth import RATE_HZ, Desk

MODULE_SECONDS, FILE_SECONDS = 90.0, 200.0
GENERATED, GENERATED_BARS = 70, 16
TEMPOS_BPM = (84.0, 172.0)
#: Roles of the generator's tracks; what isn't named are drums, and the kick is another one in every piece.
ROLES = {"bass": "bass", "chords": "chords", "lead": "chords"}


def real_sources(real: Path, truth: Path) -> Iterator[Source]:
    """What bench/material doesn't hold back of the real set, under any of its names."""
    for t in json.loads(truth.read_text()):
        path = real / t["file"]
        if not path.exists() or is_held_back(path.stem):
            continue
        x, rate = soundfile.read(str(path), dtype="float32", always_2d=True)
        first_s = t["downbeat_time_s"] if t["downbeat_time_s"] is not None else t["beat_time_s"]
        x = x[int(first_s * rate) : int((first_s + FILE_SECONDS) * rate)]
        x = np.repeat(x, 2, axis=1) if x.shape[1] == 1 else x
        yield Source(path.stem, t["bpm"], {"all": soxr.resample(x, rate, RATE).T.astype(np.float16)})
    for path in fetch_modules(real):
        module = render_module(path, MODULE_SECONDS)
        if module is not None and not is_held_back(module.name) and not is_held_back(f"{module.name} stems"):
            yield Source(f"{module.name} stems", module.bpm, {k: x.astype(np.float16) for k, x in module.stems.items()})


def generated_source(number: int) -> Source:
    """A drop in a style and at a tempo drawn from the number, without its kick."""
    rng = np.random.default_rng(77_000 + number)
    name, bpm = str(rng.choice(list(STYLES))), float(rng.uniform(*TEMPOS_BPM))
    style = replace(
        STYLES[name], bpm=(bpm, bpm), kick=str(rng.choice(list(KICKS))), chords=(str(rng.choice(["pad", "stab", "stack"])),),
        bass_rhythm=(str(rng.choice(["off-beat", "rolling", "long", "riff", "16ths"])),),
    )  # fmt: skip
    recipe = Recipe(f"learned {number}", name, 50_000 + number)
    draw = replace(draw_track(recipe, style), bpm=bpm, sections=[("drop", GENERATED_BARS)])
    desk = Desk(int((GENERATED_BARS * draw.bar_s + 1.5) * RATE_HZ))
    play(recipe, style, draw, desk, Truth())
    mixed: dict[str, np.ndarray] = {}
    for track, x in desk.tracks.items():
        if track != "kick":
            role = ROLES.get(track, "drums")
            mixed[role] = mixed.get(role, 0.0) + x * rng.uniform(0.5, 1.6)
    n = int(GENERATED_BARS * draw.bar_s * RATE)
    audio = {role: soxr.resample(x.T, RATE_HZ, RATE, quality="LQ").T[:, :n].astype(np.float16) for role, x in mixed.items()}
    return Source(f"generated {number}", bpm, audio)

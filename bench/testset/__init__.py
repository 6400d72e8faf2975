"""Tracks made for measuring the survey, with their truth: `python -m bench.testset DIR`.

Their sounds, sequences and mixes share no code with what Ersatz makes; only the demo references' desk is used again.
"""

from __future__ import annotations

import hashlib
import json
import os
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import soundfile

from bench.testset.recipes import Recipe, recipes
from bench.testset.track import make, treat


def write_testset(folder: Path, wanted: list[Recipe] | None = None) -> list[Path]:
    """Audio files in the set's order, each with `<name>.truth.json` beside it. What this version of the code made stays."""
    folder = folder / _version()
    folder.mkdir(parents=True, exist_ok=True)
    wanted = recipes() if wanted is None else wanted
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        return list(pool.map(_write, [folder] * len(wanted), wanted))


def _version() -> str:
    """Digest of the code that makes the tracks."""
    sources = (Path(__file__).with_name(f"{name}.py").read_bytes() for name in ("recipes", "track", "voices"))
    return hashlib.sha256(b"".join(sources)).hexdigest()[:12]


def _write(folder: Path, recipe: Recipe) -> Path:
    note = folder / f"{recipe.name}.truth.json"
    if note.exists():
        return folder / json.loads(note.read_text())["file"]
    samples, truth = make(recipe)
    samples, rate, ending = treat(recipe, samples, truth)
    path = folder / f"{recipe.name}.{ending}"
    with soundfile.SoundFile(path, "w", rate, len(samples), "PCM_16" if ending == "wav" else None) as out:
        # The compressing encoders of libsndfile overflow their stack when given a whole track at once.
        for start in range(0, samples.shape[1], 65_536):
            out.write(samples[:, start : start + 65_536].T)
    truth["file"] = path.name
    note.write_text(json.dumps(truth))
    return path

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
    here = Path(__file__).parent
    sources = sorted(here.glob("*.py"))
    return hashlib.sha256(b"".join(p.read_bytes() for p in sources)).hexdigest()[:12]


def _write(folder: Path, recipe: Recipe) -> Path:
    note = folder / f"{recipe.name}.truth.json"
    if note.exists():
        return folder / json.loads(note.read_text())["file"]
    samples, truth = make(recipe)
    samples, rate, ending = treat(recipe, samples, truth)
    path = folder / f"{recipe.name}.{ending}"
    soundfile.write(str(path), samples.T, rate, **({"subtype": "PCM_16"} if ending == "wav" else {}))
    truth["file"] = path.name
    note.write_text(json.dumps(truth))
    return path

"""Writes the demo references and their truth: `python -m demo.references DIR`."""

from __future__ import annotations

import json
import os
import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import soundfile

from demo import cold_harbour_relay, ferry_at_four
from demo.synth import RATE_HZ

REFERENCES = {"Ferry at Four": ferry_at_four.make, "Cold Harbour Relay": cold_harbour_relay.make}


def write_references(folder: Path) -> list[Path]:
    """WAV files named after their titles, each with `<title>.truth.json` beside it; what is there stays."""
    folder.mkdir(parents=True, exist_ok=True)
    missing = [t for t in REFERENCES if not (_wav(folder, t).exists() and _truth(folder, t).exists())]
    if missing:
        with ProcessPoolExecutor(2) as pool:
            list(pool.map(_write, [folder] * len(missing), missing))
    return [_wav(folder, title) for title in REFERENCES]


def write_reference(folder: Path, title: str) -> Path:
    """One of them, unless it is there."""
    folder.mkdir(parents=True, exist_ok=True)
    if not (_wav(folder, title).exists() and _truth(folder, title).exists()):
        _write(folder, title)
    return _wav(folder, title)


def _wav(folder: Path, title: str) -> Path:
    return folder / f"{title}.wav"


def _truth(folder: Path, title: str) -> Path:
    return folder / f"{title}.truth.json"


def _write(folder: Path, title: str) -> None:
    mix, truth = REFERENCES[title]()
    part = folder / f"{title}.part.wav"
    soundfile.write(str(part), mix.T, RATE_HZ, subtype="PCM_16")
    os.replace(part, _wav(folder, title))
    _truth(folder, title).write_text(json.dumps(truth, indent=1))


if __name__ == "__main__":
    for written in write_references(Path(sys.argv[1])):
        print(written)

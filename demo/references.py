"""Writes the demo references and their truth: `python -m demo.references DIR`."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import soundfile

from demo import cold_harbour_relay, ferry_at_four
from demo.synth import RATE_HZ

REFERENCES = {"Ferry at Four": ferry_at_four.make, "Cold Harbour Relay": cold_harbour_relay.make}


def write_references(folder: Path) -> list[Path]:
    """WAV files named after their titles, each with `<title>.truth.json` beside it; what is there stays."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = []
    for title, make in REFERENCES.items():
        path = folder / f"{title}.wav"
        truth_path = folder / f"{title}.truth.json"
        if not (path.exists() and truth_path.exists()):
            mix, truth = make()
            soundfile.write(str(path), mix.T, RATE_HZ, subtype="PCM_16")
            truth_path.write_text(json.dumps(truth, indent=1))
        paths.append(path)
    return paths


if __name__ == "__main__":
    for written in write_references(Path(sys.argv[1])):
        print(written)

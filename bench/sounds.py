"""The shipped sounds measured: `./run sounds` prints level, brightness, peak and tuning of each, `./run sounds --write` keeps the
levels that bring each to its role's loudness in ersatz/core/voices/levels.json.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np

import ersatz.core.voices
from ersatz.core.voices import library

LEVELS = Path(ersatz.core.voices.__file__).parent / "levels.json"


def main() -> None:
    write = "--write" in sys.argv[1:]
    measured = {}
    for entry in library.unlevelled() if write else library.library().values():
        note = library.sample_note(entry)
        lufs, centroid = library.loudness_lufs(note), library.centroid_hz(note)
        measured[entry.name] = {"level_db": round(library.ROLE_LUFS[entry.role] - lufs, 2), "centroid_hz": round(centroid)}

        print(
            f"{entry.role:7} {entry.kind:11} {entry.name:18} {lufs:7.2f} LUFS  {centroid:6.0f} Hz  "
            f"peak {np.abs(note).max():5.2f}  {note.shape[1] / library.RATE_HZ:5.2f} s"
        )
    if write:
        LEVELS.write_text(json.dumps(measured, indent=0, sort_keys=True) + "\n")


if __name__ == "__main__":
    main()

"""How pieces are kept, and which of them are held back while tuning."""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from bench.material.modules import RATE

Made = tuple[np.ndarray, dict[str, Any]]


def is_held_back(name: str) -> bool:
    """A third of the tracks, by their name alone."""
    return zlib.crc32(name.encode()) % 3 == 0


def keep(path: Path, make: Callable[[], Made | None]) -> None:
    """Audio as FLAC at `path` and its truth as JSON beside it; what is there stays, and None is nothing to keep."""
    note = path.with_suffix(".json")
    if note.exists():
        return
    made = make()
    if made is not None:
        audio, truth = made
        soundfile.write(str(path), audio.T, RATE, subtype="PCM_16")
        note.write_text(json.dumps(truth, indent=1))

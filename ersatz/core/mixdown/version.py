"""What made the sound that is kept: a hash of the code, so that nothing stale is read and no number is raised by hand.

It is part of every key of the mixdown. Any change of these files, also of a comment, makes all renders anew.
"""

from __future__ import annotations

import hashlib
import importlib.metadata
from functools import cache
from pathlib import Path

CORE = Path(__file__).parent.parent
#: Packages and modules of the core that a sample passes through, from the song to the master.
MAKES_SOUND = (
    "audio.py", "compiled.py", "dsp", "effects", "grid.py", "loudness.py", "mixdown", "params.py", "pitch.py", "samples.py",
    "serial.py", "song", "targets.py", "transitions", "voices",
)  # fmt: skip
LIBRARIES = ("numpy", "numba", "scipy", "soxr")


@cache
def engine() -> str:
    """Hash of the code, of what it reads (tables beside it) and of the libraries that compute with it."""
    state = hashlib.blake2b(digest_size=8)
    for path in sound_files():
        state.update(path.relative_to(CORE).as_posix().encode())
        state.update(path.read_bytes())
    for name in LIBRARIES:
        state.update(f"{name} {importlib.metadata.version(name)}".encode())
    return state.hexdigest()


def sound_files() -> list[Path]:
    """Files whose contents can change how a song sounds, in order."""
    found = []
    for name in MAKES_SOUND:
        path = CORE / name
        found += [path] if path.is_file() else [p for p in path.rglob("*") if p.suffix in (".py", ".json")]
    return sorted(found)

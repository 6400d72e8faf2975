"""The track that was surveyed last, kept by the worker: corrections come one after another and transform nothing anew."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ersatz.core.survey import read_track
from ersatz.core.survey.track import Track

_kept: dict[tuple[Path, int, int], Track] = {}


def kept_track(path: Path, progress: Callable[[str, float], None], name: str) -> Track:
    """The file at `path`, transformed; another one takes the place of the one before. Raises UnusableAudio."""
    stat = path.stat()
    key = (path, stat.st_mtime_ns, stat.st_size)
    if key not in _kept:
        # Two tracks at once would take twice the memory.
        _kept.clear()
        _kept[key] = read_track(path, progress, name)
    return _kept[key]

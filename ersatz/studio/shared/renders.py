"""What a process keeps of its renders: the cache that all songs share (its disk part by web server and worker too), songs ready to
be rendered, and audio as it goes out, encoded once."""

from __future__ import annotations

import io
from collections.abc import Callable
from functools import cache
from typing import BinaryIO

import numpy as np
import soundfile
from django.conf import settings
from django.http import FileResponse, HttpResponse, HttpResponseBase

from ersatz.core.grid import BarGrid
from ersatz.core.mixdown.cache import MEMORY_BYTES, RenderCache
from ersatz.core.mixdown.files import Files
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.mixdown.version import engine
from ersatz.core.samples import Samples
from ersatz.core.song.document import Song, digest
from ersatz.studio.models import OwnSample, Reference, Remake
from ersatz.studio.shared.kept import Kept

#: For addresses that name what they hold.
IMMUTABLE = "private, max-age=31536000, immutable"
#: For what lacks a sample, and will sound otherwise when it is back.
UNTIL_FOUND = "private, no-store"
#: Songs that are kept ready.
MOST_READY = 24
CHUNK_BYTES = 1024 * 1024 * 1024

_mixdowns: Kept[Mixdown] = Kept(MOST_READY)


def mixdown_of(remake: Remake, song: Song, heard: frozenset[str] | None = None) -> Mixdown:
    """A song of a remake, with its owner's samples; `heard` as in Mixdown."""
    return Mixdown(song, render_cache(), OwnSample.objects.finder(remake.owner), heard)


def song_of(remake: Remake, sha: str) -> Song | None:
    """A song of the remake's revisions or milestones; None where it has no such song."""
    row = remake.revisions.filter(sha=sha).first() or remake.milestones.filter(sha=sha).first()
    return None if row is None else row.song


def ready(remake: Remake, sha: str, song: Song, heard: frozenset[str] | None = None) -> tuple[str, Mixdown]:
    """A song that is played, ready to be rendered, and the key of how it sounds here and now. `sha` stands for everything of the
    song that sounds."""
    used = {s for part in song.parts for sound in _sounds(part) for s in sound.samples.values()}
    samples: Samples = OwnSample.objects.finder(remake.owner) if used else _none
    found = tuple(sorted(s for s in used if samples(s) is not None))
    key = digest([engine(), sha, found, sorted(heard) if heard is not None else None])
    return key, _mixdowns.get(key, lambda: Mixdown(song, render_cache(), samples, heard))


def _sounds(part):
    return (part.sound, *(c.sound for c in part.cells if c.sound))


def _none(sha: str) -> None:
    return None


@cache
def render_cache() -> RenderCache:
    """This process's, on the disk that all of them share."""
    return RenderCache(settings.RENDER_CACHE, settings.RENDER_MEMORY_BYTES or MEMORY_BYTES)


@cache
def _chunks() -> Files:
    return Files(settings.RENDER_CACHE / "chunks", ".flac", CHUNK_BYTES)


def chunk_response(key: str, caching: str, samples: Callable[[], np.ndarray]) -> HttpResponseBase:
    """Audio by a key that says all of it: encoded once, then served as the file that it was written to."""
    path = _chunks().find(key)
    if path is None:
        made = samples()
        path = _chunks().write(key, lambda file: _encode(made, file))
        if path is None:
            return flac_response(made, caching)
    response = FileResponse(path.open("rb"), content_type="audio/flac")
    response["Cache-Control"] = caching
    return response


def _encode(samples: np.ndarray, file: BinaryIO) -> None:
    soundfile.write(file, samples.T, RATE_HZ, format="FLAC", subtype="PCM_16", compression_level=0.2)


def flac_response(samples: np.ndarray, caching: str = IMMUTABLE) -> HttpResponse:
    """Samples of shape (2, n) as 16-bit FLAC."""
    buffer = io.BytesIO()
    _encode(samples, buffer)
    response = HttpResponse(buffer.getvalue(), content_type="audio/flac")
    response["Cache-Control"] = caching
    return response


def reference_samples(reference: Reference, grid: BarGrid, first: int, last: int) -> np.ndarray:
    """1-based bars of a reference's listening copy, cut by a grid, shape (2, n); where the track has ended silence makes them
    whole."""
    start, stop = grid.sample_of_bar(first, RATE_HZ), grid.sample_of_bar(last + 1, RATE_HZ)
    with soundfile.SoundFile(str(reference.listening_path)) as file:
        file.seek(min(max(start, 0), file.frames))
        x = file.read(max(0, min(stop, file.frames) - max(start, 0)), dtype="float32", always_2d=True).T
    return np.pad(x, ((0, 0), (0, stop - start - x.shape[1])))

"""The process's render cache, shared by all songs (its disk part by web server and worker too), and audio as an answer."""

import io
from functools import cache

import numpy as np
import soundfile
from django.conf import settings
from django.http import HttpResponse

from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song
from ersatz.studio.models import OwnSample, Remake

#: For addresses that name what they hold.
IMMUTABLE = "private, max-age=31536000, immutable"
#: For what lacks a sample, and will sound otherwise when it is back.
UNTIL_FOUND = "private, no-store"


def mixdown_of(remake: Remake, song: Song, heard: frozenset[str] | None = None) -> Mixdown:
    """A song of a remake, with its owner's samples; `heard` as in Mixdown."""
    return Mixdown(song, render_cache(), OwnSample.objects.finder(remake.owner), heard)


@cache
def render_cache() -> RenderCache:
    return RenderCache(settings.RENDER_CACHE)


def flac_response(samples: np.ndarray, caching: str = IMMUTABLE) -> HttpResponse:
    """Samples of shape (2, n) as 16-bit FLAC."""
    buffer = io.BytesIO()
    soundfile.write(buffer, samples.T, RATE_HZ, format="FLAC", subtype="PCM_16", compression_level=0.2)
    response = HttpResponse(buffer.getvalue(), content_type="audio/flac")
    response["Cache-Control"] = caching
    return response

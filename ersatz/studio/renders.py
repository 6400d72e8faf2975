"""The process's render cache, shared by all songs; its disk part is shared by web server and worker."""

from functools import cache

from django.conf import settings

from ersatz.core.mixdown.cache import RenderCache


@cache
def render_cache() -> RenderCache:
    return RenderCache(settings.RENDER_CACHE)

"""Audio by bars: immutable addresses, FLAC, sample-exact so that chunks join without a seam."""

import numpy as np
from django.contrib.auth.decorators import login_required
from django.http import Http404, HttpRequest, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_safe

from ersatz.core.errors import ErsatzError
from ersatz.core.mixdown.audition import SILENT_LUFS, sounding_as
from ersatz.core.song.document import Song, digest
from ersatz.core.voices import library
from ersatz.studio.models import OwnSample, Reference, Remake
from ersatz.studio.shared.parts import middle_of
from ersatz.studio.shared.renders import IMMUTABLE, UNTIL_FOUND, chunk_response, ready, reference_samples, song_of
from ersatz.studio.shared.variants import variant_of

MAX_BARS = 64


@login_required
@require_safe
def reference_bars(request: HttpRequest, pk: int, key: str, first: int, last: int) -> HttpResponseBase:
    """Bars of a reference as FLAC, under an address that never means anything else."""
    reference = get_object_or_404(Reference.objects.of(request.user), pk=pk)
    _check(first, last)
    survey = reference.survey
    grid = reference.grid_of_key(survey, key) if survey else None
    if grid is None or not reference.listening_path.exists():
        raise Http404

    def samples() -> np.ndarray:
        return reference_samples(reference, grid, first, last)

    return chunk_response(digest(["reference", pk, key, first, last]), IMMUTABLE, samples)


@login_required
@require_safe
def remake_bars(request: HttpRequest, pk: int, sha: str, first: int, last: int) -> HttpResponseBase:
    """Bars of a song of a remake as FLAC, under an address that never means anything else."""
    remake, song = _song(request, pk, sha)
    return _bars(remake, sha, song, first, last)


@login_required
@require_safe
def variant_bars(request: HttpRequest, pk: int, sha: str, code: str, first: int, last: int) -> HttpResponseBase:
    """A remake with an edit tried on it, or some of its parts alone."""
    remake, song = _song(request, pk, sha)
    try:
        variant = variant_of(code, song, remake.reference.survey)
    except ErsatzError as error:
        raise Http404(str(error)) from error
    # Of what is asked for the reference decides too: the song says all of it.
    return _bars(remake, variant.song.sha(), variant.song, first, last, variant.heard)


@login_required
@require_safe
def peaks(request: HttpRequest, pk: int, sha: str, owner: str, first: int, last: int) -> JsonResponse:
    """Levels of a part, a bus, a return or the master, PEAKS_PER_BAR to a bar."""
    remake, song = _song(request, pk, sha)
    _check(first, last)
    _, mixdown = ready(remake, sha, song)
    levels = mixdown.peaks(owner, first, min(last, song.bars))
    return JsonResponse({"peaks": levels}, headers={"Cache-Control": IMMUTABLE if mixdown.is_complete else UNTIL_FOUND})


@login_required
@require_safe
def louder(request: HttpRequest, pk: int, sha: str, than: str, first: int, last: int) -> JsonResponse:
    """By how many dB some bars of one song of a remake are louder than those of another: what a comparison by ear takes back."""
    _check(first, last)
    levels = []
    for one in (sha, than):
        remake, song = _song(request, pk, one)
        _, mixdown = ready(remake, one, song)
        start, stop = mixdown.bar_range(first, last)
        levels.append(library.loudness_lufs(mixdown.samples(min(start, mixdown.frames - 1), min(stop, mixdown.frames))))
    # Silence has no loudness to meet.
    db = levels[0] - levels[1] if min(levels) > SILENT_LUFS else 0.0
    return JsonResponse({"db": round(db, 2)})


def _song(request: HttpRequest, pk: int, sha: str) -> tuple[Remake, Song]:
    """A song of a remake's revisions or milestones."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference", "owner"), pk=pk)
    song = song_of(remake, sha)
    if song is None:
        raise Http404
    return remake, song


@login_required
@require_safe
def as_it_was(request: HttpRequest, pk: int, sha: str, part: str, was: str, first: int, last: int) -> HttpResponseBase:
    """A remake with one part's sound as it was in another revision, equally loud."""
    remake, song = _song(request, pk, sha)
    _, earlier = _song(request, pk, was)
    old = earlier.part(part)
    if old is None or song.part(part) is None:
        raise Http404
    samples = OwnSample.objects.finder(request.user)
    return _bars(remake, digest([sha, part, was]), sounding_as(song, part, old, middle_of(old), samples), first, last)


def _bars(remake: Remake, what: str, song: Song, first: int, last: int, heard: frozenset[str] | None = None) -> HttpResponseBase:
    """Bars of a song; `what` stands for all of it that sounds."""
    _check(first, last)
    if first > song.bars:
        raise Http404
    key, mixdown = ready(remake, what, song, heard)

    def samples() -> np.ndarray:
        start, stop = mixdown.bar_range(first, last)
        x = mixdown.samples(start, min(stop, mixdown.frames))
        return np.pad(x, ((0, 0), (0, stop - start - x.shape[1])))

    return chunk_response(digest([key, first, last]), IMMUTABLE if mixdown.is_complete else UNTIL_FOUND, samples)


def _check(first: int, last: int) -> None:
    if not 1 <= first <= last < first + MAX_BARS:
        raise Http404

"""Does every part have its own place? The whole mix on the frequency axis, strip by strip, against the reference."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from django.contrib.auth.decorators import login_required
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from ersatz.core.balance.bypass import bypass_db
from ersatz.core.balance.clashes import Clash
from ersatz.core.balance.ducking import fitted_to_kick, fitted_to_reference
from ersatz.core.balance.lanes import Fine, Lanes, fine_beside, measure_fine, measure_lanes, measured_bars, reference_db
from ersatz.core.balance.meters import measure_meters, measure_reductions
from ersatz.core.balance.section import clashes_in
from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.edits import Edit, parse_edit
from ersatz.core.edits.ducking import curve_of
from ersatz.core.errors import ErsatzError, InvalidEdit
from ersatz.core.gap.plans import counterparts
from ersatz.core.loudness import mean_lufs
from ersatz.core.mixdown.audition import SILENT_LUFS
from ersatz.core.mixdown.render import HEADROOM_DB, RATE_HZ, Mixdown
from ersatz.core.serial import read_json, to_json
from ersatz.core.song.document import Song, digest, with_each
from ersatz.core.song.strips import MASTER, SENDS, AnyStrip, Send, Strip
from ersatz.studio.balance.forms import FitForm, SolveForm
from ersatz.studio.balance.state import balance_fixed, balance_state, strip_state
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Remake, Revision
from ersatz.studio.shared.chains import chains_for, save_chain
from ersatz.studio.shared.edit import answer_made, state_for
from ersatz.studio.shared.forms import BAD_NAME, NameForm
from ersatz.studio.shared.frame import frame
from ersatz.studio.shared.kept import Kept
from ersatz.studio.shared.pages import page_json
from ersatz.studio.shared.renders import IMMUTABLE, UNTIL_FOUND, chunk_response, mixdown_of, ready, reference_samples, song_of
from ersatz.studio.shared.users import user_of
from ersatz.studio.shared.variants import variant_of

#: What the analyser asks for the reference by; no strip's id.
REFERENCE = "reference"
MOST_BARS = 64
#: Sections that were measured last.
_lanes: Kept[Lanes] = Kept(24)
_clashes: Kept[list[Clash]] = Kept(48)


def _current(request: HttpRequest, pk: int) -> tuple[Remake, Revision]:
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference", "owner"), pk=pk)
    if remake.revision is None:
        raise Http404
    return remake, remake.revision


def _strip_of(song: Song, strip: str) -> Strip:
    """Raises Http404 for one that isn’t there."""
    found = song.strip(strip)
    if found is None:
        raise Http404
    return found


@login_required
@require_safe
def balance(request: HttpRequest, pk: int) -> HttpResponse:
    """The page; without a song yet, Plan."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    revision = remake.revision
    if revision is None:
        return redirect("plan", pk=pk)
    context = frame("balance", remake=remake)
    context["drawing"] = page_json(balance_state(remake, revision)) | page_json(balance_fixed(remake))
    return render(request, "studio/balance.html", context)


@login_required
@require_POST
def preview(request: HttpRequest, pk: int) -> JsonResponse:
    """What an edit would draw of its strip, without making it. Body: {"edit": ...}."""
    remake, revision = _current(request, pk)
    try:
        body = read_json(request.body)["edit"]
        edited = parse_edit(body).apply(revision.song)
        strip = edited.strip(str(body.get("strip", "")))
    except (ErsatzError, ValueError, KeyError, TypeError) as error:
        return JsonResponse({"error": str(error)}, status=400)
    if strip is None:
        return JsonResponse({"error": "This strip isn’t there any more."}, status=400)
    return JsonResponse(page_json(strip_state(remake, edited, strip)))


@login_required
@require_safe
def bypass_level(request: HttpRequest, pk: int, strip: str, place: int) -> JsonResponse:
    """By how much the effect at a place of a strip changes its loudness, dB."""
    remake, revision = _current(request, pk)
    found = _strip_of(revision.song, strip)
    if place >= len(found.chain):
        raise Http404
    mixdown = mixdown_of(remake, revision.song)
    return JsonResponse({"db": bypass_db(mixdown, revision.song, found, place)})


@login_required
@require_safe
def chain_level(request: HttpRequest, pk: int, strip: str) -> JsonResponse:
    """By how much all effects of a strip together change its loudness, dB."""
    remake, revision = _current(request, pk)
    found = _strip_of(revision.song, strip)
    return JsonResponse({"db": bypass_db(mixdown_of(remake, revision.song), revision.song, found)})


@login_required
@require_POST
def keep_chain(request: HttpRequest, pk: int, strip: str) -> JsonResponse:
    """Saves a strip's effects under a name. Form: name. Answers all saved chains."""
    _, revision = _current(request, pk)
    found, form = _strip_of(revision.song, strip), NameForm(request.POST)
    if not form.is_valid():
        return JsonResponse({"error": BAD_NAME}, status=400)
    if not found.chain:
        return JsonResponse({"error": f"{found.name} has no effects to save."}, status=400)
    save_chain(user_of(request), form.cleaned_data["name"], found.chain, revision.song)
    return JsonResponse({"chains": page_json(chains_for(request.user, revision.song))})


# Heard and seen at an immutable address --------------------------------------------------------------------------------


def _ready(request: HttpRequest, pk: int, sha: str, first: int, last: int) -> tuple[Remake, Song, str, Mixdown, int]:
    """A song of a remake ready to be rendered, its key, and the last bar asked for that it has."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference", "owner"), pk=pk)
    song = song_of(remake, sha)
    if song is None or not 1 <= first <= last < first + MOST_BARS or first > song.bars:
        raise Http404
    key, mixdown = ready(remake, sha, song)
    return remake, song, key, mixdown, min(last, song.bars)


def _caching(mixdown: Mixdown) -> str:
    return IMMUTABLE if mixdown.is_complete else UNTIL_FOUND


@login_required
@require_safe
def strip_bars(request: HttpRequest, pk: int, sha: str, strip: str, first: int, last: int) -> HttpResponseBase:
    """What one strip adds to the mix, HEADROOM_DB quieter: the page adds and takes it away while a fader moves."""
    _, song, key, mixdown, end = _ready(request, pk, sha, first, last)
    _strip_of(song, strip)

    def samples() -> np.ndarray:
        return _padded(mixdown, mixdown.contribution(strip, first, end), first, last)

    return chunk_response(digest(["strip", key, strip, first, last]), _caching(mixdown), samples)


@login_required
@require_safe
def send_bars(request: HttpRequest, pk: int, sha: str, strip: str, to: str, first: int, last: int) -> HttpResponseBase:
    """What a strip alone, sent at 0 dB, would add through a return."""
    _, song, key, mixdown, end = _ready(request, pk, sha, first, last)
    for name in (strip, to):
        _strip_of(song, name)
    quiet = with_each(song, lambda s: _sending_only(s, to, s.id == strip))
    alone = mixdown.varied(quiet)

    def samples() -> np.ndarray:
        return _padded(alone, alone.contribution(to, first, end), first, last)

    return chunk_response(digest(["send", key, strip, to, first, last]), _caching(mixdown), samples)


def _sending_only(strip: AnyStrip, to: str, is_it: bool) -> AnyStrip:
    """A strip that doesn't send to a return, or sends at 0 dB."""
    others = {name: send for name, send in strip.sends.items() if name != to}
    before = strip.sends[to].before_fader if to in strip.sends else False
    curves = tuple(a for a in strip.automation if (a.device, a.param) != (SENDS, to))
    return replace(strip, sends={**others, to: Send(0.0, before)} if is_it else others, automation=curves)


def _padded(mixdown: Mixdown, x: np.ndarray, first: int, last: int) -> np.ndarray:
    start, stop = mixdown.bar_range(first, last)
    quieter = x * np.float32(10 ** (-HEADROOM_DB / 20))
    return np.pad(quieter, ((0, 0), (0, stop - start - x.shape[1])))


@login_required
@require_safe
def lanes(request: HttpRequest, pk: int, sha: str, first: int, last: int) -> JsonResponse:
    """Third-octave levels of every strip, of the mix, and of the reference's section there at the mix's loudness."""
    remake, song, key, mixdown, end = _ready(request, pk, sha, first, last)
    found = lanes_of(key, mixdown, first, end)
    rounded, peaks = (
        {name: [round(float(v), 1) for v in row(lane)] for name, lane in found.lanes.items()}
        for row in (lambda lane: lane.level_db, lambda lane: lane.peak_db)
    )
    theirs = _reference(remake, song, first, end, found)
    body = {"hz": NOMINAL_HZ, "strips": rounded, "peaks": peaks, "reference": theirs, "from": first, "to": end}
    return JsonResponse(body, headers={"Cache-Control": _caching(mixdown)})


@login_required
@require_safe
def fine(request: HttpRequest, pk: int, sha: str, strip: str, first: int, last: int) -> JsonResponse:
    """A strip's spectrum in twelfths of an octave, with held peaks; or that of the reference's section, at the mix's loudness."""
    remake, song, key, mixdown, end = _ready(request, pk, sha, first, last)
    if strip == REFERENCE:
        found = _fine_reference(remake, song, first, end, lanes_of(key, mixdown, first, end))
        # A correction of the reference makes it another, at the same address.
        return JsonResponse(to_json(found), headers={"Cache-Control": UNTIL_FOUND})
    _strip_of(song, strip)
    found = measure_fine(mixdown.strip_samples(strip, first, end))
    return JsonResponse(to_json(found), headers={"Cache-Control": _caching(mixdown)})


def lanes_of(key: str, mixdown: Mixdown, first: int, last: int) -> Lanes:
    """Of bars of the mixdown with this key; the last ones are remembered."""
    return _lanes.get((key, first, last), lambda: measure_lanes(mixdown, first, last))


def _fine_reference(remake: Remake, song: Song, first: int, last: int, found: Lanes) -> Fine:
    """Of the last bars of the reference's section, as many as are looked at of ours. Raises Http404 where there is none to hear."""
    reference, place = remake.reference.listened, _their_section(remake, song, first, last)
    survey = reference.survey if reference is not None else None
    if reference is None or survey is None or place is None or remake.reference.is_target or not reference.listening_path.exists():
        raise Http404
    section = survey.sections[place]
    begin = max(section.start_bar, section.end_bar - (last - first + 1))
    return fine_beside(
        reference_samples(reference, reference.listening_grid(survey), begin, section.end_bar - 1), found.mix.level_db
    )


def _their_section(remake: Remake, song: Song, first: int, last: int) -> int | None:
    """The reference's section that answers to the one that bars first..last lie in."""
    survey = remake.reference.survey
    section = next((s for bar, s in song.placed() if bar <= first and last < bar + s.bars), None)
    return counterparts(song, survey).get(section.id) if section is not None and survey is not None else None


def _reference(remake: Remake, song: Song, first: int, last: int, found: Lanes) -> list[float] | None:
    """The reference's levels in the section that bars first..last lie in, if it has that section."""
    survey, place = remake.reference.survey, _their_section(remake, song, first, last)
    if survey is None or place is None:
        return None
    return [round(float(v), 1) for v in reference_db(survey, place, found.mix.level_db)]


@login_required
@require_safe
def meters(request: HttpRequest, pk: int, sha: str, first: int, last: int) -> JsonResponse:
    """Levels of every strip over some bars, as JSON."""
    _, song, _, mixdown, end = _ready(request, pk, sha, first, last)
    return JsonResponse(to_json(measure_meters(mixdown, song, first, end)), headers={"Cache-Control": _caching(mixdown)})


@login_required
@require_safe
def reductions(request: HttpRequest, pk: int, sha: str, strip: str, first: int, last: int) -> JsonResponse:
    """What each dynamics effect of a strip takes away, by the effect's id."""
    _, song, _, mixdown, end = _ready(request, pk, sha, first, last)
    found = _strip_of(song, strip)
    taken = measure_reductions(mixdown, song, found, first, end)
    return JsonResponse({"taken": taken}, headers={"Cache-Control": _caching(mixdown)})


@login_required
@require_POST
def fit(request: HttpRequest, pk: int) -> JsonResponse:
    """A ducking curve fitted to the reference or to the kick. Form: revision, curve, to."""
    remake, _ = _current(request, pk)
    form = FitForm(request.POST)
    if not form.is_valid():
        return JsonResponse({"error": "That can’t be fitted."}, status=400)
    wanted = form.cleaned_data

    def made(song: Song) -> Edit:
        curve = curve_of(song, wanted["curve"])
        if wanted["to"] == "kick":
            return fitted_to_kick(curve, song, mixdown_of(remake, song))
        survey = remake.reference.survey
        if survey is None:
            raise InvalidEdit("The reference isn’t surveyed.")
        return fitted_to_reference(curve, survey)

    return answer_made(remake, wanted["revision"], made, state_for("balance"))


@login_required
@require_safe
def clashes(request: HttpRequest, pk: int, sha: str, section: int) -> JsonResponse:
    """Where strips get into each other's way in a section (by its place), the worst first, each with the edit that cures it."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference", "owner"), pk=pk)
    song = song_of(remake, sha)
    if song is None or section >= len(song.sections):
        raise Http404
    key, mixdown = ready(remake, sha, song)
    first, last = measured_bars(song, section)
    survey = remake.reference.survey
    found = _clashes.get(
        (key, section, remake.reference_id),
        lambda: clashes_in(song, mixdown, section, survey, lanes_of(key, mixdown, first, last)),
    )
    rows = [{**to_json(c), "edit": {"kind": "several", "said": c.cure, "edits": list(c.edits)} if c.edits else None} for c in found]
    # The reference's survey may be corrected: not immutable.
    return JsonResponse({"clashes": rows}, headers={"Cache-Control": UNTIL_FOUND})


@login_required
@require_safe
def louder_variant(request: HttpRequest, pk: int, sha: str, code: str, first: int, last: int) -> JsonResponse:
    """By how many dB some bars are louder with an edit tried on the song than without: a comparison by ear takes it back."""
    remake, song, _, mixdown, end = _ready(request, pk, sha, first, last)
    try:
        tried = variant_of(code, song, remake.reference.survey)
    except ErsatzError as error:
        raise Http404(str(error)) from error
    levels = [
        mean_lufs(m.strip_samples(MASTER, first, end), RATE_HZ) for m in (mixdown_of(remake, tried.song, tried.heard), mixdown)
    ]
    db = levels[0] - levels[1] if min(levels) > SILENT_LUFS else 0.0
    return JsonResponse({"db": round(db, 2)})


@login_required
@require_POST
def solve(request: HttpRequest, pk: int) -> JsonResponse:
    """Balance for me: a job for all sections, or for one. Form: section (its place, "" for all), locked (ids by commas)."""
    remake, revision = _current(request, pk)
    form = SolveForm(request.POST)
    if not form.is_valid():
        return JsonResponse({"error": "That can’t be balanced."}, status=400)
    section, locked = form.cleaned_data["section"], form.cleaned_data["locked"]
    if section is not None and section >= len(revision.song.sections):
        return JsonResponse({"error": "There is no such section."}, status=400)
    known = {s.id for s in revision.song.strips()}
    job = start_job(
        request.user, Job.Kind.BALANCE, remake=remake,
        sections=None if section is None else [section], locked=sorted(set(locked) & known),
    )  # fmt: skip
    return JsonResponse({"job": job.as_json()}, status=202)


@login_required
@require_safe
def now(request: HttpRequest, pk: int) -> JsonResponse:
    """The mix as it stands."""
    remake, revision = _current(request, pk)
    return JsonResponse(page_json(balance_state(remake, revision)))

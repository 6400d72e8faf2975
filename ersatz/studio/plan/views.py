"""What plays when? Sections of both, parts by section, edits with undo."""

from __future__ import annotations

from django.contrib.auth.decorators import login_required
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from ersatz.core.draft.variation import standstills
from ersatz.core.edits.automation import automatable, described
from ersatz.core.errors import ErsatzError
from ersatz.core.exchange.midi import arrangement_of
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song
from ersatz.studio.errors import last_readable
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Remake
from ersatz.studio.plan.state import plan_fixed, plan_state
from ersatz.studio.shared.edit import answer_midi, state_for
from ersatz.studio.shared.forms import DraftForm
from ersatz.studio.shared.frame import frame, unfinished_job
from ersatz.studio.shared.pages import page_json


@login_required
@require_safe
def plan(request: HttpRequest, pk: int) -> HttpResponse:
    """The page; while the draft is made, how far it is."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    revision = remake.revision
    job = unfinished_job(remake=remake, kind=Job.Kind.DRAFT)
    last = _last_matching(remake)
    failed = last if last is not None and last.state in (Job.State.FAILED, Job.State.CANCELLED) else None
    context = {**frame("plan", remake=remake), "job": job, "failed": failed}
    if revision is None:
        return render(request, "studio/drafting.html", context)
    survey = remake.reference.survey
    fixed = plan_fixed(survey, remake.reference.target if survey else None)
    context["drawing"] = page_json(plan_state(remake, revision)) | page_json(fixed)
    context["again"] = DraftForm(initial={"style": remake.style, "energy": remake.energy})
    return render(request, "studio/plan.html", context)


@login_required
@require_safe
def now(request: HttpRequest, pk: int) -> JsonResponse:
    """Where the song stands: for windows that may have been overtaken."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    revision = remake.revision
    if revision is None:
        raise Http404
    return JsonResponse({"revision": revision.number, "sha": revision.sha, "sentence": revision.sentence})


@login_required
@require_safe
def targets(request: HttpRequest, pk: int, owner: str) -> JsonResponse:
    """What of a strip can be automated and moves smoothly: ["DEVICE.VALUE", what it is called, unit, lowest, highest, where it
    stands where nothing is drawn]."""
    song = _current(request, pk)
    try:
        rows = automatable(song, owner)
    except ErsatzError as error:
        raise Http404(str(error)) from error
    found = [
        [f"{t.device}.{t.param}", described(song, t), v.param.unit, v.param.low, v.param.high, v.stands]
        for t, v in rows.items()
        if v.param.moves is not None
    ]
    return JsonResponse({"targets": found})


@login_required
@require_safe
def standing_still(request: HttpRequest, pk: int) -> JsonResponse:
    """Where the song brings nothing new, and what could change there."""
    found = standstills(_current(request, pk))
    return JsonResponse({"found": [{**to_json(s), "offers": [o.said for o in s.offers]} for s in found]})


@login_required
@require_POST
def bring_midi(request: HttpRequest, pk: int) -> JsonResponse:
    """A MIDI file as a whole arrangement: its tracks become parts."""
    return answer_midi(request, pk, lambda read, song, name: arrangement_of(read, name, song.grid.ticks_per_bar), state_for("plan"))


def _last_matching(remake: Remake) -> Job | None:
    return Job.objects.filter(remake=remake, kind=Job.Kind.DRAFT).first()


def _current(request: HttpRequest, pk: int) -> Song:
    revision = get_object_or_404(Remake.objects.of(request.user), pk=pk).revision
    if revision is None:
        raise Http404
    return revision.song


@login_required
@require_POST
def recover(request: HttpRequest, pk: int) -> HttpResponse:
    """Back to the newest version that can be read, from one that can't."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    if remake.revision is not None:
        readable = last_readable(remake.revision)
        if readable is not None:
            remake.go_to(readable.number)
    return redirect("plan", pk=pk)


@login_required
@require_POST
def redraft(request: HttpRequest, pk: int) -> HttpResponse:
    """Try again after a draft, or its matching, that failed or was cancelled."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    if unfinished_job(remake=remake, kind=Job.Kind.DRAFT) is None:
        last = _last_matching(remake)
        start_job(request.user, Job.Kind.DRAFT, remake=remake, **(last.options if last is not None else {}))
    return redirect("plan", pk=pk)

"""What do several references have in common? Targets are made, shown and set here."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.decorators import login_required
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from ersatz.core.errors import ErsatzError
from ersatz.core.pitch import TONICS
from ersatz.core.serial import to_json
from ersatz.core.styles import BY_NAME
from ersatz.core.survey import corrections
from ersatz.core.survey.document import Corrections, Survey
from ersatz.core.target import Target as TargetDocument
from ersatz.studio.models import Reference, Target
from ersatz.studio.shared.forms import DraftForm
from ersatz.studio.shared.frame import frame
from ersatz.studio.shared.pages import page_json
from ersatz.studio.shared.spans import spans
from ersatz.studio.shared.targets import make_target
from ersatz.studio.target.forms import ChoiceForm, TargetForm
from ersatz.studio.target.state import target_drawing

#: Steps of the tempo's field.
TEMPO_STEP_BPM = 0.001


@login_required
@require_http_methods(["GET", "HEAD", "POST"])
def new(request: HttpRequest) -> HttpResponse:
    """The page on which a target is made, and its making."""
    form = TargetForm(request.user, request.POST if request.method == "POST" else None)
    if request.method == "POST" and form.is_valid():
        try:
            made = make_target(request.user, **form.cleaned_data)
            return redirect("target", pk=made.pk)
        except ErsatzError as error:
            form.add_error(None, str(error))
    chosen = set(request.POST.getlist("members") or request.GET.getlist("members"))
    tracks = [{"reference": r, "survey": r.survey, "chosen": str(r.pk) in chosen} for r in form.offered]
    context = {**frame("target-new"), "form": form, "tracks": tracks, "styles": BY_NAME.values()}
    return render(request, "studio/target_new.html", context, status=400 if form.errors else 200)


@login_required
@require_safe
def target(request: HttpRequest, pk: int) -> HttpResponse:
    """The page of a target."""
    row = _target(request, pk)
    found, reference = row.document, row.reference
    survey = reference.survey
    context = {
        **frame("survey", reference),
        "target": found,
        "survey": survey,
        "style": BY_NAME.get(found.style or ""),
        "spans": spans(found),
        "chosen": reference.corrections,
        "tonics": TONICS,
        "members": _members(row, found),
        "others": Reference.objects.of(request.user).tracks().surveyed().order_by("title"),
        "draft_form": DraftForm(initial={"style": found.style or ""}),
        "drawing": page_json(target_drawing(found, survey)),
    }
    return render(request, "studio/target.html", context)


def _target(request: HttpRequest, pk: int) -> Target:
    return get_object_or_404(Reference.objects.of(request.user).targets(), pk=pk).as_target


def _members(row: Target, found: TargetDocument) -> list[dict[str, Any]]:
    """The references it was made from; those that are gone keep their figures but have no page."""
    alive = {r.survey.source.sha256: r for r in Reference.objects.filter(member_of=row, deleted_at=None).surveyed()}
    found_rows = [(m, alive.get(m.sha256)) for m in found.members]
    return [{"member": m, "reference": r, "is_heard": r is not None and r.pk == row.heard_id} for m, r in found_rows]


@login_required
@require_POST
def choose(request: HttpRequest, pk: int) -> HttpResponse:
    """Set tempo and key of what is drafted, and the track that is heard."""
    row = _target(request, pk)
    form = ChoiceForm(request.user, request.POST)
    if not form.is_valid():
        return JsonResponse({"error": next(iter(form.errors.values()))[0]}, status=400)
    chosen = form.cleaned_data
    row.reference.corrections_json = to_json(_choice(row.document.typical, chosen["bpm"], chosen["tonic"], chosen["mode"]))
    row.heard = chosen["heard"]
    row.hold(row.document)
    return redirect("target", pk=pk)


def _choice(typical: Survey, bpm: float, tonic: str, mode: str) -> Corrections:
    """Only what differs from the typical track."""
    chosen = Corrections()
    if abs(bpm - typical.tempo.bpm) > TEMPO_STEP_BPM / 2:
        chosen = corrections.with_tempo(chosen, bpm)
    if (tonic, mode) != (typical.key.tonic, typical.key.mode):
        chosen = corrections.with_key(chosen, tonic, mode)
    return chosen


@login_required
@require_safe
def download(request: HttpRequest, pk: int) -> HttpResponse:
    """The target as a file."""
    row = _target(request, pk)
    response = JsonResponse(row.document_json, json_dumps_params={"indent": 1, "ensure_ascii": False})
    response["Content-Disposition"] = f'attachment; filename="target-{pk}.json"'
    return response

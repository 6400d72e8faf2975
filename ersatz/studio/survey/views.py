"""How does the reference work? The survey's page, and the producer's corrections."""

from __future__ import annotations

from dataclasses import replace

from django.contrib.auth.decorators import login_required
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from ersatz.core.pitch import TONICS, degree_name, note_name
from ersatz.core.serial import to_json
from ersatz.core.survey.document import Corrections, Survey
from ersatz.studio.frame import frame, unfinished_job
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Reference
from ersatz.studio.shelf.forms import DraftForm
from ersatz.studio.survey.forms import KeyForm, ShiftForm, TempoForm


@login_required
@require_GET
def survey(request: HttpRequest, pk: int) -> HttpResponse:
    reference = get_object_or_404(Reference.objects.of(request.user), pk=pk)
    found = reference.survey
    if found is None:
        return redirect("shelf")
    context = {
        **frame("survey", reference),
        "survey": found,
        "key_name": str(found.key.pitch_key),
        "key_alternatives": [
            (k, k.tonic.replace("b", "♭").replace("#", "♯"), round(k.confidence * 100))
            for k in found.key.alternatives[:3]
            if k.confidence >= 0.03
        ],
        "half": round(found.tempo.bpm / 2, 3),
        "double": round(found.tempo.bpm * 2, 3),
        "corrections": reference.corrections,
        "job": unfinished_job(reference=reference, kind=Job.Kind.SURVEY),
        "ask_tempo": request.GET.get("ask") == "tempo",
        "tonics": TONICS,
        "draft_form": DraftForm(),
        "drawing": drawing(found),
    }
    return render(request, "studio/survey.html", context)


def drawing(survey: Survey) -> dict:
    """What the page draws: the document's own curves, and the bass as scale degrees."""
    document = survey.to_json()
    key = survey.key.pitch_key
    keep = ("tempo", "key", "sections", "presence", "energy", "drums", "pump", "spectrum", "stereo", "events")
    out = {name: document[name] for name in keep}
    out["bass"] = [[n.start_beat, n.beats, n.midi, degree_name(n.midi, key), note_name(n.midi)] for n in survey.bass.notes]
    out["main"] = survey.main_section()
    out["bars"] = survey.bars
    return out


@login_required
@require_GET
def download(request: HttpRequest, pk: int) -> HttpResponse:
    reference = get_object_or_404(Reference.objects.of(request.user).exclude(survey_json=None), pk=pk)
    response = JsonResponse(reference.survey_json, json_dumps_params={"indent": 1, "ensure_ascii": False})
    response["Content-Disposition"] = f'attachment; filename="reference-{pk}.survey.json"'
    return response


@login_required
@require_POST
def correct(request: HttpRequest, pk: int) -> HttpResponse:
    """Lay one correction over the measurement and survey again; `what` names it, "measured" takes all of them back."""
    reference = get_object_or_404(Reference.objects.of(request.user).exclude(survey_json=None), pk=pk)
    found = reference.survey
    assert found is not None
    what = request.POST.get("what")
    try:
        corrections = _corrected(what, request, reference.corrections, found)
    except ValueError as error:
        return JsonResponse({"error": str(error)}, status=400)
    reference.corrections_json = to_json(corrections)
    reference.save(update_fields=["corrections_json"])
    job = start_job(request.user, Job.Kind.SURVEY, reference=reference)
    return JsonResponse({"job": job.as_json(), "next": reverse("survey", args=[pk])}, status=202)


def _corrected(what: str | None, request: HttpRequest, old: Corrections, found: Survey) -> Corrections:
    """Raises ValueError with a sentence for input that doesn't fit."""
    if what == "measured":
        return Corrections()
    if what == "tempo":
        form = TempoForm(request.POST)
        if not form.is_valid():
            raise ValueError(form.errors["bpm"][0])
        # Another tempo is another grid: an older place of bar 1 no longer means anything.
        return replace(old, bpm=form.cleaned_data["bpm"], first_downbeat_s=None, sections=None)
    if what == "shift":
        shift = ShiftForm(request.POST)
        if not shift.is_valid():
            raise ValueError("Bar 1 moves by whole beats or by milliseconds.")
        seconds = (shift.cleaned_data["beats"] or 0) * found.tempo.grid.beat_s + (shift.cleaned_data["ms"] or 0) / 1000
        moved = (found.tempo.first_downbeat_s + seconds) % found.tempo.grid.bar_s
        return replace(old, bpm=found.tempo.bpm, first_downbeat_s=round(moved, 5), sections=None)
    if what == "key":
        key = KeyForm(request.POST)
        if not key.is_valid():
            raise ValueError("That is not a key.")
        return replace(old, tonic=key.cleaned_data["tonic"], mode=key.cleaned_data["mode"])
    raise ValueError("There is no such correction.")

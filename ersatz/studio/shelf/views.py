"""Which references and remakes do I have? Files come in here and drafts start here."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

from django.contrib.auth.decorators import login_required
from django.db import transaction
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from ersatz.core.draft import empty_song
from ersatz.studio.frame import frame, latest_measurement, unfinished_job
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Reference, Remake
from ersatz.studio.shelf.forms import DraftForm, TitleForm, UploadForm
from ersatz.studio.target.views import spans

SORTS = {"newest": "-created_at", "title": "title"}


@login_required
@require_GET
def shelf(request: HttpRequest) -> HttpResponse:
    query = request.GET.get("q", "").strip()[:80]
    sort = request.GET.get("sort", "newest")
    references = Reference.objects.of(request.user).prefetch_related("remakes")
    if query:
        references = references.filter(title__icontains=query)
    rows = [_row(r) for r in references.order_by(SORTS.get(sort, "-created_at"))]
    if sort in ("tempo", "key", "loudness"):
        rows.sort(key=lambda row: (row["survey"] is None, _sort_value(row["survey"], sort)))
    gone = Reference.objects.deleted_of(request.user).order_by("-deleted_at").first()
    gone_remake = Remake.objects.deleted_of(request.user).filter(reference__deleted_at=None).order_by("-deleted_at").first()
    last = max((g for g in (gone, gone_remake) if g), key=lambda g: g.deleted_at, default=None)
    context = {
        **frame("shelf"),
        "rows": rows,
        "query": query,
        "sort": sort,
        "gone": last,
        "gone_url": last and reverse("reference-restore" if isinstance(last, Reference) else "remake-restore", args=[last.pk]),
        "form": UploadForm(),
    }
    return render(request, "studio/shelf.html", context)


def _sort_value(survey, sort: str):
    if survey is None:
        return 0
    return {
        "tempo": survey.tempo.bpm,
        "key": (survey.key.mode, survey.key.pitch_key.pitch_class),
        "loudness": -survey.loudness.integrated_lufs,
    }[sort]


def _row(reference: Reference) -> dict:
    survey = reference.survey
    remakes = [r for r in reference.remakes.all() if r.deleted_at is None]
    return {
        "reference": reference,
        "url": survey and reverse("target" if reference.is_target else "survey", args=[reference.pk]),
        "survey": survey,
        "target": reference.target,
        "spans": reference.target and spans(reference.target),
        "key": survey and str(survey.key.pitch_key),
        "portrait": survey and portrait(survey),
        "job": unfinished_job(reference=reference, kind=Job.Kind.SURVEY),
        "remakes": [_remake_row(r) for r in sorted(remakes, key=lambda r: r.created_at)],
    }


def _remake_row(remake: Remake) -> dict:
    measured = latest_measurement(remake)
    return {
        "remake": remake,
        "job": unfinished_job(remake=remake, kind=Job.Kind.DRAFT),
        "failed": Job.objects.filter(remake=remake, kind=Job.Kind.DRAFT, state=Job.State.FAILED).first()
        if not remake.head
        else None,
        "lufs": measured and measured.survey_json["loudness"]["integrated_lufs"],
        "style": remake.revision and remake.revision.song_json["style"].replace("-", " "),
    }


def portrait(survey) -> dict:
    """The small picture: level per bar, 0..1 over 36 dB, and the sections."""
    return {
        "levels": [round(max(0.0, 1 + v / 36), 3) for v in survey.energy.full_db],
        "sections": [[s.label, s.start_bar, s.bars] for s in survey.sections],
    }


@login_required
@require_GET
def row(request: HttpRequest, pk: int) -> HttpResponse:
    """One reference of the shelf, for putting in its place when its job ends."""
    reference = get_object_or_404(Reference.objects.of(request.user), pk=pk)
    return render(request, "studio/shelf_row.html", {"row": _row(reference)})


@login_required
@require_POST
def upload(request: HttpRequest) -> HttpResponse:
    """Take a file in: 201 with the row's address, or 400 with one sentence. A confirmed upload is on disk and in the database."""
    form = UploadForm(request.POST, request.FILES)
    if not form.is_valid():
        return JsonResponse({"error": form.errors["file"][0]}, status=400)
    file = form.cleaned_data["file"]
    name = Path(file.name).name
    title = re.sub(r"[_\s]+", " ", Path(name).stem).strip()[:120] or "Untitled"
    reference = Reference(owner=request.user, title=title, file_name=name[:255], stored_name="original" + Path(name).suffix.lower())
    try:
        with transaction.atomic():
            reference.save()
            reference.folder.mkdir(parents=True, exist_ok=True)
            with reference.audio_path.open("wb") as target:
                for block in file.chunks():
                    target.write(block)
            job = start_job(request.user, Job.Kind.SURVEY, reference=reference)
    except OSError as error:
        shutil.rmtree(reference.folder, ignore_errors=True)
        full = error.errno == 28
        sentence = "The disk is full: free some space and drop the file again." if full else "The file could not be stored."
        return JsonResponse({"error": sentence}, status=507 if full else 500)
    return JsonResponse(
        {"id": reference.pk, "row": reverse("reference-row", args=[reference.pk]), "job": job.as_json()}, status=201
    )


@login_required
@require_POST
def rename(request: HttpRequest, pk: int) -> HttpResponse:
    reference = get_object_or_404(Reference.objects.of(request.user), pk=pk)
    form = TitleForm(request.POST)
    if not form.is_valid():
        return JsonResponse({"error": form.errors["title"][0]}, status=400)
    reference.title = form.cleaned_data["title"]
    reference.save(update_fields=["title"])
    return JsonResponse({"title": reference.title})


@login_required
@require_POST
def delete(request: HttpRequest, model: type[Reference] | type[Remake], pk: int) -> HttpResponse:
    """Put a reference or a remake out of sight; the shelf offers to bring it back."""
    get_object_or_404(model.objects.of(request.user), pk=pk).delete_softly()
    return redirect("shelf")


@login_required
@require_POST
def restore(request: HttpRequest, model: type[Reference] | type[Remake], pk: int) -> HttpResponse:
    get_object_or_404(model.objects.deleted_of(request.user), pk=pk).bring_back()
    return redirect("shelf")


@login_required
@require_POST
def draft(request: HttpRequest, pk: int) -> HttpResponse:
    """Start a remake; its page shows the job's progress. A reference without a steady beat asks for its tempo first."""
    reference = get_object_or_404(Reference.objects.of(request.user), pk=pk)
    survey = reference.survey
    if survey is None or not survey.tempo.is_steady:
        return redirect(reverse("survey", args=[pk]) + "?ask=tempo")
    if not survey.tempo.counts_four:
        # Its page says so.
        return redirect("survey", pk=pk)
    form = DraftForm(request.POST)
    chosen = form.cleaned_data if form.is_valid() else {}
    remake = Remake.objects.create(
        owner=request.user,
        reference=reference,
        title=_next_title(reference),
        seed=chosen.get("seed") or reference.remakes.count() + 1,
        style=chosen.get("style") or (reference.target and reference.target.style) or "",
    )
    start_job(request.user, Job.Kind.DRAFT, remake=remake)
    return redirect("plan", pk=remake.pk)


@login_required
@require_POST
def start_empty(request: HttpRequest, pk: int) -> HttpResponse:
    """A remake to be made by hand, in the reference's tempo and key."""
    reference = get_object_or_404(Reference.objects.of(request.user).surveyed(), pk=pk)
    if not reference.survey.tempo.counts_four:
        return redirect("survey", pk=pk)
    remake = Remake.objects.create(owner=request.user, reference=reference, title=_next_title(reference))
    remake.start(empty_song(reference.survey, remake.title), "Started empty")
    return redirect("plan", pk=remake.pk)


def _next_title(reference: Reference) -> str:
    count = reference.remakes.count()
    return f"Remake of {reference.title}"[:110] + (f" {count + 1}" if count else "")

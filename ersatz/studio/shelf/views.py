"""Which references and remakes do I have? Files come in here and drafts start here."""

from __future__ import annotations

import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote

from django.conf import settings
from django.contrib.auth.decorators import login_required
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from ersatz.core.draft import empty_song
from ersatz.core.errors import ErsatzError
from ersatz.core.survey.document import Survey
from ersatz.studio.errors import is_disk_full
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Reference, Remake
from ersatz.studio.models.documents import UnreadableRow
from ersatz.studio.models.references import INCOMING
from ersatz.studio.shared.drafts import begin_draft
from ersatz.studio.shared.forms import DraftForm
from ersatz.studio.shared.frame import frame, unfinished_job
from ersatz.studio.shared.pages import page_json
from ersatz.studio.shared.spans import spans
from ersatz.studio.shared.users import user_of
from ersatz.studio.shelf.forms import TitleForm, UploadForm

SORTS = {"newest": "-created_at", "title": "title"}


@login_required
@require_safe
def shelf(request: HttpRequest) -> HttpResponse:
    """The page: references with their remakes, found and sorted as asked."""
    query = request.GET.get("q", "").strip()[:80]
    sort = request.GET.get("sort", "newest")
    references = Reference.objects.of(request.user).select_related("as_target").prefetch_related("remakes")
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
        "demo_job": unfinished_job(owner=request.user, kind=Job.Kind.DEMO),
        "query": query,
        "sort": sort,
        "gone": last,
        "gone_remakes": last.remakes.filter(deleted_at=None).count() if isinstance(last, Reference) else 0,
        "gone_url": last and reverse("reference-restore" if isinstance(last, Reference) else "remake-restore", args=[last.pk]),
        "form": UploadForm(),
        "limit_mb": settings.MAX_UPLOAD_BYTES // (1024 * 1024),
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
    try:
        survey, problem = reference.survey, reference.problem
    except UnreadableRow:
        survey, problem = None, "The survey can’t be read any more."
    remakes = [r for r in reference.remakes.all() if r.deleted_at is None]
    job = unfinished_job(reference=reference, kind=Job.Kind.SURVEY)
    return {
        "reference": reference,
        "url": survey and reverse("target" if reference.is_target else "survey", args=[reference.pk]),
        "survey": survey,
        "target": reference.target if survey else None,
        "spans": survey and reference.target and spans(reference.target),
        "key": survey and str(survey.key.pitch_key),
        "portrait": survey and page_json(portrait(survey)),
        "job": job,
        "problem": problem,
        "can_resurvey": survey is None and job is None and reference.has_audio,
        "remakes": [_remake_row(r) for r in sorted(remakes, key=lambda r: r.created_at)],
    }


def _remake_row(remake: Remake) -> dict:
    current = remake.revisions.filter(number=remake.head).values_list("sha", "song_json__style").first()
    # Of these documents one figure is shown: the rest stays in the database.
    exact = remake.measurements.filter(sha=current[0]) if current else remake.measurements.none()
    lufs = "survey_json__loudness__integrated_lufs"
    measured = exact.values_list(lufs).first() or remake.measurements.order_by("-created_at").values_list(lufs).first()
    failed = Job.objects.filter(remake=remake, kind=Job.Kind.DRAFT, state=Job.State.FAILED)
    return {
        "remake": remake,
        "job": unfinished_job(remake=remake, kind=Job.Kind.DRAFT),
        "failed": failed.first() if not remake.head else None,
        "lufs": measured and measured[0],
        "style": current and str(current[1] or "").replace("-", " "),
    }


@dataclass(frozen=True)
class Portrait:
    """The small picture of a track: level per bar, 0..1 over 36 dB, and the sections as [label, first bar, bars]."""

    levels: list[float]
    sections: list[tuple[str, int, int]]


def portrait(survey: Survey) -> Portrait:
    """A track as a small picture: level by bar, 0..1, and sections."""
    levels = [round(max(0.0, 1 + v / 36), 3) for v in survey.energy.full_db]
    return Portrait(levels, [(s.label, s.start_bar, s.bars) for s in survey.sections])


@login_required
@require_safe
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
    title = re.sub(r"[_\s]+", " ", Path(unquote(name)).stem).strip()[:120] or "Untitled"
    reference = Reference(
        owner=user_of(request), title=title, file_name=name[:255], stored_name="original" + Path(name).suffix.lower()
    )
    try:
        # Large files are written before the row is: whoever writes to the database meanwhile needn't wait.
        with incoming(file) as written, transaction.atomic():
            reference.save()
            reference.folder.mkdir(parents=True, exist_ok=True)
            os.replace(written, reference.audio_path)
            job = start_job(request.user, Job.Kind.SURVEY, reference=reference)
    except BaseException as error:
        if reference.pk:
            shutil.rmtree(reference.folder, ignore_errors=True)
        if is_disk_full(error):
            return JsonResponse({"error": "The disk is full: free some space and drop the file again."}, status=507)
        if isinstance(error, OSError):
            return JsonResponse({"error": "The file could not be stored."}, status=500)
        raise
    return JsonResponse(
        {"id": reference.pk, "row": reverse("reference-row", args=[reference.pk]), "job": job.as_json()}, status=201
    )


@contextmanager
def incoming(file: UploadedFile) -> Iterator[Path]:
    """An upload as a file beside its place, gone afterwards unless it was moved there."""
    folder = Path(settings.MEDIA_ROOT) / INCOMING
    folder.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=folder)
    try:
        with os.fdopen(handle, "wb") as target:
            for block in file.chunks():
                target.write(block)
        yield Path(name)
    finally:
        Path(name).unlink(missing_ok=True)


@login_required
@require_POST
def resurvey(request: HttpRequest, pk: int) -> HttpResponse:
    """Once more after a survey that was cancelled, given up or can't be read."""
    reference = get_object_or_404(Reference.objects.of(request.user).tracks(), pk=pk)
    if reference.has_audio and unfinished_job(reference=reference, kind=Job.Kind.SURVEY) is None:
        # As nothing was measured: what can't be read is no measurement.
        Reference.objects.filter(pk=pk).update(measured_json=None, survey_json=None, problem="")
        start_job(request.user, Job.Kind.SURVEY, reference=reference)
    return redirect("shelf")


@login_required
@require_POST
def rename(request: HttpRequest, pk: int) -> HttpResponse:
    """Gives a reference another title; answers with it."""
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
    """Brings back what was deleted."""
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
        owner=user_of(request),
        reference=reference,
        title=_next_title(reference),
        seed=chosen.get("seed") or reference.remakes.count() + 1,
        style=chosen.get("style") or (reference.target and reference.target.style) or "",
        energy=chosen.get("energy") or 0,
    )
    # A draft that can't be made is told by its job.
    with suppress(ErsatzError):
        begin_draft(remake)
    start_job(request.user, Job.Kind.DRAFT, remake=remake)
    return redirect("plan", pk=remake.pk)


@login_required
@require_POST
def start_empty(request: HttpRequest, pk: int) -> HttpResponse:
    """A remake to be made by hand, in the reference's tempo and key."""
    reference = get_object_or_404(Reference.objects.of(request.user).surveyed(), pk=pk)
    if not reference.survey.tempo.counts_four:
        return redirect("survey", pk=pk)
    remake = Remake.objects.create(owner=user_of(request), reference=reference, title=_next_title(reference))
    remake.start(empty_song(reference.survey, remake.title), "Started empty")
    return redirect("plan", pk=remake.pk)


def _next_title(reference: Reference) -> str:
    count = reference.remakes.count()
    return f"Remake of {reference.title}"[:110] + (f" {count + 1}" if count else "")

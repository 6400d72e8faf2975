"""What plays when? Sections of both, parts by section, edits with undo."""

from __future__ import annotations

from django.contrib.auth.decorators import login_required
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from ersatz.core.edits import section_name
from ersatz.core.survey.document import ROLES, Survey
from ersatz.core.target import Target
from ersatz.studio.edit import answer_edit, answer_return, answer_step, steps
from ersatz.studio.frame import frame, unfinished_job
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Remake, Revision


@login_required
@require_GET
def plan(request: HttpRequest, pk: int) -> HttpResponse:
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    revision = remake.revision
    job = unfinished_job(remake=remake, kind=Job.Kind.DRAFT)
    context = {**frame("plan", remake=remake), "job": job}
    if revision is None:
        context["failed"] = Job.objects.filter(remake=remake, kind=Job.Kind.DRAFT).first()
        return render(request, "studio/drafting.html", context)
    survey = remake.reference.survey
    context["drawing"] = {
        **state(remake, revision),
        "reference": reference_plan(survey, remake.reference.target) if survey else None,
    }
    return render(request, "studio/plan.html", context)


def state(remake: Remake, revision: Revision) -> dict:
    """The song as the Plan shows it, with what can be undone and redone."""
    song = revision.song
    return {
        **steps(remake, revision),
        "bars": song.bars,
        "style": song.style.replace("-", " "),
        "sections": [
            {"id": s.id, "name": section_name(song, s.id), "label": s.label, "start": bar, "bars": s.bars, "gapBeats": s.gap_beats}
            for bar, s in song.placed()
        ],
        "parts": [
            {
                "id": p.id, "name": p.name, "role": p.role, "bus": p.bus, "gainDb": p.gain_db, "duckDb": p.duck_db,
                "cells": {
                    c.section: {"on": c.on, "pattern": c.pattern, "entry": c.entry_bars, "exit": c.exit_bars,
                                "level": c.level_db} for c in p.cells
                },
                "patterns": sorted(p.patterns),
            }
            for p in song.parts
        ],
    }  # fmt: skip


def reference_plan(survey: Survey, target: Target | None) -> dict:
    """`usual` says how long a target's sections are elsewhere."""
    lengths = target.spread.section_bars if target else ()
    return {
        "bars": survey.bars,
        "sections": [{"label": s.label, "start": s.start_bar, "bars": s.bars} for s in survey.sections],
        "usual": [[span.low, span.high] for span in lengths],
        "presence": {role: list(survey.presence.of(role)) for role in ROLES},
    }


@login_required
@require_POST
def edit(request: HttpRequest, pk: int) -> JsonResponse:
    return answer_edit(request, pk, state)


@login_required
@require_POST
def undo(request: HttpRequest, pk: int) -> JsonResponse:
    return answer_step(request, pk, -1, state)


@login_required
@require_POST
def redo(request: HttpRequest, pk: int) -> JsonResponse:
    return answer_step(request, pk, +1, state)


@login_required
@require_POST
def return_to(request: HttpRequest, pk: int, number: int) -> JsonResponse:
    return answer_return(request, pk, number, state)


@login_required
@require_POST
def redraft(request: HttpRequest, pk: int) -> HttpResponse:
    """Try again after a draft that failed or was cancelled."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    if remake.revision is None and unfinished_job(remake=remake, kind=Job.Kind.DRAFT) is None:
        start_job(request.user, Job.Kind.DRAFT, remake=remake)
    return redirect("plan", pk=pk)

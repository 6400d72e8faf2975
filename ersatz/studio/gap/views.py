"""How far is mine from the reference? Both inks on the same axes, figures with their verdicts."""

from __future__ import annotations

from django.contrib.auth.decorators import login_required
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from ersatz.core.balance.remeasure import has_plan_of
from ersatz.core.edits import section_name
from ersatz.core.gap import Figure, Gap, compare
from ersatz.core.gap.details import Group
from ersatz.core.gap.sections import numbered
from ersatz.core.survey.document import Survey
from ersatz.studio.gap.forms import MovesForm
from ersatz.studio.gap.state import gap_drawing, gap_fixed, gap_progress, gap_state, own_place
from ersatz.studio.gap.words import DECIMALS, figure_text
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Measurement, Remake, Revision
from ersatz.studio.shared.courses import against
from ersatz.studio.shared.frame import frame, latest_measurement, unfinished_job
from ersatz.studio.shared.own import compared_with, own_job
from ersatz.studio.shared.pages import page_json
from ersatz.studio.shared.spans import span_text

#: Where each figure is changed: a page, by its URL's name.
CHANGED_ON = {
    "Tempo": "plan", "Key": "plan", "Section starts": "plan", "Changes met": "plan", "Swing": "plan", "Loudness": "balance",
    "Loudness here": "balance", "Loudness range": "plan", "True peak": "balance", "Balance, mean": "balance",
    "Balance, worst band": "balance", "Balance, worst section": "balance", "Pump depth": "balance", "Pump release": "balance",
    "Width above 270 Hz": "balance", "Mono below": "balance",
}  # fmt: skip
#: What a figure of the map is told in, where that is another than its own unit.
MAP_UNITS = {"Loudness": "LU", "Roles": "on one side"}
MARKS = {"matched": "✓", "close": "△", "off": "▲", "unknown": "·"}


@login_required
@require_safe
def gap(request: HttpRequest, pk: int) -> HttpResponse:
    """The page; without a song or a survey, Plan. Starts a measurement where the song has none."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    revision, reference = remake.revision, remake.reference.survey
    if revision is None or reference is None:
        return redirect("plan", pk=pk)
    measured = latest_measurement(remake)
    section = _section(request, reference)
    place = own_place(revision, reference, section)
    job, part = _measuring(request, remake, revision, measured, place)
    context = {**frame("gap", remake=remake), "job": job, "measured_part": part}
    if measured is not None:
        mine = measured.survey
        target, name = remake.reference.target, numbered(reference, section)
        found = compare(reference, mine, section, target and target.spread)
        context |= {
            "section": section,
            "section_name": name,
            "rows": [_row(f, reverse(CHANGED_ON[f.name], args=[pk]), name) for f in _largest_first(found.figures)],
            "map": _map(found, reference),
            "groups": [_group(g) for g in sorted(found.groups, key=lambda g: g.matched - len(g.figures))],
            "matched": sum(f.verdict == "matched" for f in found.figures),
            "drawing": page_json(gap_drawing(reference, mine, found, target))
            | page_json(gap_state(remake, revision))
            | page_json(gap_fixed(revision, place))
            | page_json(gap_progress(remake, revision)),
            "is_target": target is not None,
            "has_recording": compared_with(remake) is not None,
        }
    return render(request, "studio/gap.html", context)


@login_required
@require_POST
def moves(request: HttpRequest, pk: int) -> JsonResponse:
    """The next moves for a section: what was found for the song as it stands, or a job that finds it. Form: section."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    revision, form = remake.revision, MovesForm(request.POST)
    if revision is None or not form.is_valid() or form.cleaned_data["section"] >= len(revision.song.sections):
        return JsonResponse({"error": "There is no such section."}, status=400)
    section = form.cleaned_data["section"]
    same = Job.objects.filter(remake=remake, kind=Job.Kind.MOVES, options__section=section)
    known = same.filter(state=Job.State.DONE, options__sha=revision.sha).first() or same.filter(state__in=Job.UNFINISHED).first()
    job = known or start_job(request.user, Job.Kind.MOVES, remake=remake, section=section)
    return JsonResponse({"job": job.as_json()}, status=202)


@login_required
@require_POST
def own(request: HttpRequest, pk: int) -> JsonResponse:
    """What the song as it stands takes over of the reference: known, or a job that measures it."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    revision = remake.revision
    if revision is None or compared_with(remake) is None:
        return JsonResponse({"error": "There is no recording to compare with."}, status=400)
    job = own_job(remake, revision.sha) or start_job(request.user, Job.Kind.OWN, remake=remake)
    return JsonResponse({"job": job.as_json()}, status=202)


def _measuring(
    request: HttpRequest, remake: Remake, revision: Revision, measured: Measurement | None, place: int | None
) -> tuple[Job | None, str]:
    """Whoever opens this page wants the figures of the song as it is now: of the section at `place` at once, then of the whole. The
    job that measures, and which section alone is measured so far, "" for none."""
    is_exact = measured is not None and measured.sha == revision.sha
    if measured is not None and is_exact:
        if measured.section is None:
            _measure_kept(request, remake)
            return None, ""
        part = section_name(revision.song, revision.song.sections[measured.section].id)
        return start_job(request.user, Job.Kind.MEASURE, remake=remake), part
    if measured is not None and place is not None and has_plan_of(revision.song, measured.survey):
        return start_job(request.user, Job.Kind.SECTION, remake=remake, section=place), ""
    return start_job(request.user, Job.Kind.MEASURE, remake=remake), ""


def _measure_kept(request: HttpRequest, remake: Remake) -> None:
    """Kept versions belong into the course of the figures too: those that never were measured are, one after the other."""
    measured = remake.measurements.filter(section=None)
    kept = remake.milestones.exclude(sha__in=measured.values("sha")).order_by("-created_at").first()
    is_stale = measured.exclude(against=against(remake)).exists()
    if (kept is not None or is_stale) and unfinished_job(remake=remake, kind=Job.Kind.MEASURE) is None:
        start_job(request.user, Job.Kind.MEASURE, remake=remake, milestone=kept.pk if kept is not None else None)


def _largest_first(figures: tuple[Figure, ...]) -> list[Figure]:
    """What is off before what is close before what is matched; the plan's own order among equals."""
    order = {"off": 0, "close": 1, "unknown": 2, "matched": 3}
    return sorted(figures, key=lambda f: order[f.verdict])


def _section(request: HttpRequest, reference: Survey) -> int:
    try:
        wanted = int(request.GET["section"])
    except (KeyError, ValueError):
        return reference.main_section()
    return wanted if 0 <= wanted < len(reference.sections) else reference.main_section()


def _map(found: Gap, reference: Survey) -> dict:
    """Sections by figures: the names of the sections, and for each figure a cell per section, None where the remake lacks it."""
    first = next((s.figures for s in found.sections if s.figures), ())
    rows = []
    for k, figure in enumerate(first):
        cells = [_cell(s.figures[k]) if s.figures else None for s in found.sections]
        rows.append({"name": figure.name, "unit": MAP_UNITS.get(figure.name, figure.unit), "cells": cells})
    return {"sections": [numbered(reference, i) for i in range(len(found.sections))], "rows": rows}


def _group(group: Group) -> dict:
    """The group that is off most stands first; within it the figures keep their order, which is that of the bands."""
    rows = [_row(f, "") for f in group.figures]
    return {"name": group.name, "of": group.of, "matched": group.matched, "rows": rows}


def _cell(figure: Figure) -> dict:
    if figure.name == "Roles":
        sides = (("only in the reference", figure.reference), ("only in the remake", figure.remake))
        tip = "; ".join(f"{said}: {names}" for said, names in sides if names)
        shown = f"{figure.difference:.0f}" if figure.difference else ""
    else:
        tip = f"at {figure.remake}" if isinstance(figure.remake, str) else ""
        shown = figure_text(figure.difference, figure.unit, sign=figure.name != "Balance, mean")
    return {"shown": shown, "mark": MARKS[figure.verdict], "verdict": figure.verdict, "tip": tip}


def _row(figure: Figure, changed_at: str, section: str = "") -> dict:
    """`section`: the name of the one that the figures are of."""
    usual = figure.span and span_text(figure.span, DECIMALS[figure.unit])
    return {
        "usual": usual,
        "name": figure.name,
        "title": f"Loudness in {section}" if figure.name == "Loudness here" else figure.name,
        "unit": figure.unit,
        "reference": figure_text(figure.reference, figure.unit),
        "remake": figure_text(figure.remake, figure.unit),
        "difference": figure_text(figure.difference, figure.unit, sign=figure.reference is not None),
        "tolerance": ""
        if figure.tolerance is None
        else f"within {figure_text(figure.tolerance, figure.unit)} {figure.unit}".strip(),
        "verdict": figure.verdict,
        "mark": MARKS[figure.verdict],
        "changed_at": changed_at if figure.verdict in ("close", "off") else "",
    }

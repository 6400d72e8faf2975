"""What plays when? Sections of both, parts by section, edits with undo."""

from __future__ import annotations

from functools import cache

from django.contrib.auth.decorators import login_required
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from ersatz.core.draft.variation import standstills
from ersatz.core.edits import section_name
from ersatz.core.edits.automation import automatable, described
from ersatz.core.errors import ErsatzError
from ersatz.core.exchange.midi import arrangement_of
from ersatz.core.gap.plans import plan_differences
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Alternative, Cell, Pattern
from ersatz.core.survey.document import ROLES, Survey
from ersatz.core.target import Target
from ersatz.core.voices import library
from ersatz.studio.errors import last_readable
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Remake, Revision
from ersatz.studio.shared.edit import answer_midi, shown_on, state_for, steps
from ersatz.studio.shared.frame import frame, unfinished_job

#: Length of the window of short-term loudness, EBU Tech 3341.
SHORT_TERM_S = 3.0


@login_required
@require_safe
def plan(request: HttpRequest, pk: int) -> HttpResponse:
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    revision = remake.revision
    job = unfinished_job(remake=remake, kind=Job.Kind.DRAFT)
    last = Job.objects.filter(remake=remake, kind=Job.Kind.DRAFT).first()
    failed = last if last is not None and last.state in (Job.State.FAILED, Job.State.CANCELLED) else None
    context = {**frame("plan", remake=remake), "job": job, "failed": failed}
    if revision is None:
        return render(request, "studio/drafting.html", context)
    survey = remake.reference.survey
    context["drawing"] = {
        **state(remake, revision),
        "reference": reference_plan(survey, remake.reference.target) if survey else None,
        "sounds": sounds_by_role(),
    }
    return render(request, "studio/plan.html", context)


@shown_on("plan")
def state(remake: Remake, revision: Revision, part: str = "") -> dict:
    """The song as the Plan shows it, with what can be undone and redone."""
    song = revision.song
    return {
        **steps(remake, revision),
        "bars": song.bars,
        "style": song.style.replace("-", " "),
        "sections": [
            {"id": s.id, "name": section_name(song, s.id), "label": s.label, "start": bar, "bars": s.bars}
            for bar, s in song.placed()
        ],
        "bpm": song.bpm,
        "swing": song.swing_percent,
        "key": [song.tonic, song.mode],
        "transitions": to_json(song.transitions),
        "automation": automation_state(song),
        "strips": [[s.id, s.name, kind] for kind, row in (("bus", song.buses), ("return", song.returns)) for s in row],
        "differences": to_json(plan_differences(song, survey)) if (survey := remake.reference.survey) else [],
        "parts": [
            {
                "id": p.id, "name": p.name, "role": p.role, "out": p.out, "gainDb": p.gain_db, "duckDb": p.duck_db,
                "cells": {c.section: cell_state(c) for c in p.cells},
                "patterns": {name: pattern_state(p.patterns[name]) for name in sorted(p.patterns)},
            }
            for p in song.parts
        ],
    }  # fmt: skip


def cell_state(cell: Cell) -> dict:
    return {
        "on": cell.on, "pattern": cell.pattern, "entry": cell.entry_bars, "exit": cell.exit_bars, "level": cell.level_db,
        "fill": cell.fill, "fillBars": cell.fill_bars, "sound": cell.sound.name or "own sound" if cell.sound else "",
        "part": cell.part, "other": alternative_state(cell.other) if cell.other else None,
    }  # fmt: skip


def alternative_state(other: Alternative) -> dict:
    sound = other.sound.name or "own sound" if other.sound else ""
    return {"pattern": other.pattern, "level": other.level_db, "sound": sound, "part": other.part}


def pattern_state(pattern: Pattern) -> dict:
    """Notes as [tick, length, MIDI]: enough to draw them small."""
    return {"bars": pattern.bars, "loop": pattern.loop_ticks, "notes": [[n.tick, n.ticks, n.midi] for n in pattern.notes]}


def automation_state(song: Song) -> dict:
    """Curves as [tick, value, curve] by strip and by what a target is called there, "DEVICE.VALUE"."""
    return {
        strip.id: {f"{a.device}.{a.param}": [[p.tick, p.value, p.curve] for p in a.points] for a in strip.automation}
        for strip in song.strips()
        if strip.automation
    }


@cache
def sounds_by_role() -> dict[str, list[dict[str, str]]]:
    """The shipped sounds with what each is."""
    out: dict[str, list[dict[str, str]]] = {}
    for sound in library.library().values():
        out.setdefault(sound.role, []).append(
            {"name": sound.name, "kind": sound.kind, "character": " ".join(sound.character), "brightness": sound.brightness}
        )
    return out


def reference_plan(survey: Survey, target: Target | None) -> dict:
    """`usual` says how long a target's sections are elsewhere."""
    grid = survey.tempo.grid
    lengths = target.spread.section_bars if target else ()
    return {
        "bars": survey.bars,
        "sections": [{"label": s.label, "start": s.start_bar, "bars": s.bars} for s in survey.sections],
        "usual": [[span.low, span.high] for span in lengths],
        "presence": {role: list(survey.presence.of(role)) for role in ROLES},
        "changes": to_json(survey.changes),
        "level": [round(v, 1) for v in survey.energy.full_db],
        "curves": {
            "loudness": [[grid.bar_at(s.t_s - SHORT_TERM_S / 2) - 1, s.lufs] for s in survey.loudness.short_term],
            "brightness": [
                [k + 0.5, round(h - f, 2)] for k, (h, f) in enumerate(zip(survey.energy.high_db, survey.energy.full_db))
            ],
        },
    }


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
        start_job(request.user, Job.Kind.DRAFT, remake=remake)
    return redirect("plan", pk=pk)

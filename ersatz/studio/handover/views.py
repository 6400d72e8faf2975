"""How do I get it out? Pre-flight figures, then the mix and the notes as files."""

from __future__ import annotations

import re

from django.contrib.auth.decorators import login_required
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from ersatz.core.edits import section_name
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.own import Own
from ersatz.core.survey.document import Survey
from ersatz.core.words import minus
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Remake
from ersatz.studio.shared.exports import FORMATS, export_path
from ersatz.studio.shared.frame import frame, latest_measurement
from ersatz.studio.shared.own import compared_with, own_job, own_of

#: What may not leave as the reference's own, and from which share on it is.
TUNES, MOST_TAKEN = ("Hook", "Bass line", "Chords"), 0.5


@login_required
@require_safe
def handover(request: HttpRequest, pk: int) -> HttpResponse:
    """The page; without a song, Plan. Starts what has to be measured for it."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    revision = remake.revision
    if revision is None:
        return redirect("plan", pk=pk)
    measured = latest_measurement(remake)
    is_current = measured is not None and measured.sha == revision.sha
    job = None if is_current else start_job(request.user, Job.Kind.MEASURE, remake=remake)
    song = revision.song
    own = own_job(remake, revision.sha)
    if own is None and compared_with(remake) is not None:
        own = start_job(request.user, Job.Kind.OWN, remake=remake)
    context = {
        **frame("handover", remake=remake),
        "job": job,
        "is_current": is_current,
        "checks": [*_preflight(measured.survey, song.master.ceiling_dbtp), *_own(own_of(own))] if measured else [],
        "song": song,
        "duration": _clock(song.grid.seconds_of_bar(song.bars + 1)),
        "markers": [
            {"name": section_name(song, s.id), "bar": bar, "bars": s.bars, "at": _clock(song.grid.seconds_of_bar(bar))}
            for bar, s in song.placed()
        ],
        "parts": [
            {"name": p.name, "gain_db": p.gain_db, "duck_db": p.duck_db, "notes": sum(1 for _ in sounding_notes(song, p))}
            for p in song.parts
        ],
        "formats": [
            {"kind": kind, "title": title, "url": reverse("download", args=[pk, revision.sha, kind]),
             "ready": export_path(remake, revision.sha, kind).exists()}
            for kind, (_, _, title) in FORMATS.items()
        ],
    }  # fmt: skip
    return render(request, "studio/handover.html", context)


def _clock(seconds: float) -> str:
    return f"{int(seconds) // 60}:{int(seconds) % 60:02d}"


def _preflight(mine: Survey, ceiling_dbtp: float) -> list[dict]:
    """What a mastering engineer would ask first, as measured in the mix."""
    mono_loss = [b for b in mine.stereo.bands if b.correlation < 0]
    silence = [e for e in mine.energy.full_db if e < -60]
    return [
        {"name": "True peak", "value": minus(f"{mine.loudness.true_peak_dbtp:.1f} dBTP"),
         "ok": mine.loudness.true_peak_dbtp <= ceiling_dbtp + 0.1,
         "says": minus(f"at or under {ceiling_dbtp:.1f} dBTP")},
        {"name": "Loudness", "value": minus(f"{mine.loudness.integrated_lufs:.1f} LUFS"), "ok": True,
         "says": f"range {mine.loudness.range_lu:.1f} LU"},
        {"name": "Mono", "value": "no band lost" if not mono_loss else f"{len(mono_loss)} bands lose level",
         "ok": not mono_loss, "says": "left and right agree in every band"},
        {"name": "Silence", "value": "none" if not silence else f"{len(silence)} silent bars", "ok": not silence,
         "says": "no bar is under −60 dB"},
    ]  # fmt: skip


def _own(own: Own | None) -> list[dict]:
    """Whether a tune of the reference's goes out; nothing where it wasn't measured."""
    if own is None:
        return []
    taken = [f for f in own.facets if f.name in TUNES and (f.share or 0.0) >= MOST_TAKEN]
    said = ", ".join(f"{f.name.lower()} {f.share:.2f}" for f in taken)
    cuts = f"{len(own.cuts)} sample{'s' if len(own.cuts) > 1 else ''}" if own.cuts else ""
    found = ", ".join(filter(None, (said, cuts)))
    return [{"name": "Your own", "value": f"{found} of the reference" if found else "nothing taken over", "ok": not found,
             "says": "no hook, bass line, chords or sample of the reference"}]  # fmt: skip


@login_required
@require_POST
def export(request: HttpRequest, pk: int) -> JsonResponse:
    """Starts an export; answers with its job and where the file will be."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    revision = remake.revision
    kind = request.POST.get("format")
    if kind not in FORMATS or revision is None:
        return JsonResponse({"error": "There is nothing to export in that format."}, status=400)
    job = start_job(request.user, Job.Kind.EXPORT, remake=remake, format=kind)
    return JsonResponse({"job": job.as_json(), "url": reverse("download", args=[pk, revision.sha, kind])}, status=202)


@login_required
@require_safe
def download(request: HttpRequest, pk: int, sha: str, kind: str) -> FileResponse:
    """A file that was exported. Raises Http404 for one that wasn't."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    if kind not in FORMATS or not remake.revisions.filter(sha=sha).exists():
        raise Http404
    path = export_path(remake, sha, kind)
    if not path.exists():
        raise Http404
    suffix, content_type, _ = FORMATS[kind]
    name = re.sub(r"[^\w\- ]", "", remake.title).strip() or "remake"
    return FileResponse(path.open("rb"), as_attachment=True, filename=name + suffix, content_type=content_type)

"""How does the reference work? The survey's page, and the producer's corrections."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.decorators import login_required
from django.forms import Form
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, JsonResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from ersatz.core.audio import read_audio, write_audio
from ersatz.core.pitch import TONICS, hz_midi, note_name, written
from ersatz.core.serial import from_json
from ersatz.core.survey import corrections
from ersatz.core.survey.document import LABELS, Corrections
from ersatz.core.survey.kick import kick_sound
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, Reference
from ersatz.studio.shared.forms import DraftForm, KeyForm, TempoForm
from ersatz.studio.shared.frame import frame, reference_track, unfinished_job
from ersatz.studio.shared.pages import page_json
from ersatz.studio.survey.forms import BarOneForm, MetreForm, PumpForm, SectionsForm, ShiftForm
from ersatz.studio.survey.sheet import RATE_WORDS, beside_rows, sheet_of
from ersatz.studio.survey.state import TwoSurveys, survey_corrected, survey_drawing


@login_required
@require_safe
def survey(request: HttpRequest, pk: int) -> HttpResponse:
    """The page; a target has its own, and without a survey there is the shelf."""
    reference = get_object_or_404(Reference.objects.of(request.user), pk=pk)
    if reference.is_target:
        return redirect("target", pk=pk)
    found = reference.survey
    if found is None:
        return redirect("shelf")
    context = {
        **frame("survey", reference),
        "survey": found,
        "key_name": str(found.key.pitch_key),
        "key_alternatives": [
            (k, written(k.tonic), round(k.confidence * 100)) for k in found.key.alternatives[:3] if k.confidence >= 0.03
        ],
        "half": round(found.tempo.bpm / 2, 3),
        "double": round(found.tempo.bpm * 2, 3),
        "pump_rate": RATE_WORDS[found.pump.rate],
        "pump_rates": RATE_WORDS.items(),
        "corrections": reference.corrections,
        "measured": reference.measured,
        "last_correction": _last_correction(reference),
        "labels": LABELS,
        "others": Reference.objects.of(request.user).tracks().surveyed().exclude(pk=pk).only("pk", "title"),
        "job": unfinished_job(reference=reference, kind=Job.Kind.SURVEY),
        "ask_tempo": request.GET.get("ask") == "tempo",
        "tonics": TONICS,
        "draft_form": DraftForm(),
        "kick_note": found.drums.kick and note_name(round(hz_midi(found.drums.kick.fundamental_hz)), found.key.pitch_key),
        "drawing": page_json(survey_drawing(found)) | page_json(survey_corrected(reference)),
    }
    return render(request, "studio/survey.html", context)


def _last_correction(reference: Reference) -> str | None:
    """What the button that steps back would take back."""
    if not reference.corrections_past:
        return None
    return corrections.sentence(from_json(Corrections, reference.corrections_past[-1]), reference.corrections)


@login_required
@require_safe
def download(request: HttpRequest, pk: int) -> HttpResponse:
    """The survey, corrected, as a file."""
    reference = get_object_or_404(Reference.objects.of(request.user).tracks().surveyed(), pk=pk)
    response = JsonResponse(reference.survey_json, json_dumps_params={"indent": 1, "ensure_ascii": False})
    response["Content-Disposition"] = f'attachment; filename="reference-{pk}.survey.json"'
    return response


@login_required
@require_POST
def correct(request: HttpRequest, pk: int) -> HttpResponse:
    """Lay one correction over the measurement and survey again; `what` names it."""
    reference = get_object_or_404(Reference.objects.of(request.user).tracks().surveyed(), pk=pk)
    what = request.POST.get("what", "")
    try:
        if what == "back":
            if not reference.step_back():
                raise ValueError("There is no correction to take back.")
        else:
            reference.correct(_corrected(what, request.POST, reference))
    except ValueError as error:
        return JsonResponse({"error": str(error)}, status=400)
    # What is being measured for the correction before this one is of no use any more.
    Job.objects.filter(reference=reference, kind=Job.Kind.SURVEY, state=Job.State.RUNNING).update(cancel=True)
    job = start_job(request.user, Job.Kind.SURVEY, reference=reference)
    found = reference.survey
    assert found is not None
    # The grid and what is heard on it follow at once; the rest is measured behind.
    return JsonResponse({"job": job.as_json(), "reference": page_json(reference_track(reference, found))}, status=202)


def _corrected(what: str, fields: QueryDict, reference: Reference) -> Corrections:
    """Raises ValueError with a sentence for input that doesn't fit."""
    old, found = reference.corrections, reference.survey
    assert found is not None
    if what == "measured":
        return Corrections()
    if what == "tempo":
        return corrections.with_tempo(old, _checked(TempoForm(fields))["bpm"])
    if what == "tapped":
        measured = reference.measured or found
        return corrections.with_tapped_tempo(old, _checked(TempoForm(fields))["bpm"], measured.tempo)
    if what == "shift":
        moved = _checked(ShiftForm(fields), "Bar 1 moves by whole beats or by milliseconds.")
        return corrections.with_bar_one_moved(old, found, moved["beats"] or 0, moved["ms"] or 0.0)
    if what == "bar-one":
        return corrections.with_bar_one_at(old, found, _checked(BarOneForm(fields), "That is no time in the track.")["seconds"])
    if what == "metre":
        return corrections.with_metre(old, found, _checked(MetreForm(fields), "A bar has 2 to 7 beats.")["beats"])
    if what == "key":
        key = _checked(KeyForm(fields), "That is not a key.")
        return corrections.with_key(old, key["tonic"], key["mode"])
    if what == "pump":
        pump = _checked(PumpForm(fields), "A depth from 0 to 60 dB, what it follows, and a release from 10 to 4000 ms.")
        return corrections.with_pump(old, pump["depth_db"], pump["rate"], pump["release_ms"])
    if what == "sections":
        return corrections.with_sections(old, _checked(SectionsForm(fields))["sections"], found.bars)
    raise ValueError("There is no such correction.")


def _checked(form: Form, sentence: str | None = None) -> dict[str, Any]:
    """What a valid form holds; else ValueError with `sentence` or the form's own first one."""
    if form.is_valid():
        return form.cleaned_data
    raise ValueError(sentence or next(iter(form.errors.values()))[0])


@login_required
@require_safe
def kick(request: HttpRequest, pk: int) -> FileResponse:
    """The kick's portrait as a WAV file, made when first asked for."""
    reference = get_object_or_404(Reference.objects.of(request.user).tracks().surveyed(), pk=pk)
    found = reference.survey
    if found is None or found.drums.kick is None:
        raise Http404
    if not reference.kick_path.exists():
        sound = kick_sound(read_audio(reference.listening_path), found.kick_times_s())
        if sound is None:
            raise Http404
        write_audio(reference.kick_path, sound)
    return FileResponse(reference.kick_path.open("rb"), content_type="audio/wav")


@login_required
@require_safe
def sheet(request: HttpRequest, pk: int) -> HttpResponse:
    """The survey on paper."""
    reference = get_object_or_404(Reference.objects.of(request.user).tracks(), pk=pk)
    if reference.survey is None:
        return redirect("shelf")
    return render(request, "studio/sheet.html", {"reference": reference, **sheet_of(reference.survey)})


@login_required
@require_safe
def beside(request: HttpRequest, pk: int, other: int) -> HttpResponse:
    """Two references on one page."""
    of_mine = Reference.objects.of(request.user).tracks().surveyed()
    first, second = (get_object_or_404(of_mine, pk=k) for k in (pk, other))
    context = {
        **frame("survey", first),
        "other": second,
        "rows": beside_rows(first.survey, second.survey),
        "drawing": page_json(TwoSurveys(survey_drawing(first.survey), survey_drawing(second.survey))),
    }
    return render(request, "studio/beside.html", context)

"""What every page shares: the rail of steps and what the player needs to know."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.http import HttpRequest
from django.urls import reverse

from ersatz.core.edits import section_name
from ersatz.core.pitch import midi_hz
from ersatz.core.survey.document import Survey
from ersatz.studio.models import Job, Measurement, Reference, Remake, Revision
from ersatz.studio.shared.vocabulary import vocabulary

#: The drone's lowest C: over the bass, under the voices.
DRONE_MIDI = 48


@dataclass(frozen=True)
class Step:
    name: str
    url: str
    is_here: bool
    is_done: bool
    #: What must be there first, where it isn't; the link then leads to where that is made.
    needs: str = ""


def accounts(request: HttpRequest) -> dict[str, bool]:
    return {"accounts": settings.ACCOUNTS}


def frame(page: str, reference: Reference | None = None, remake: Remake | None = None) -> dict[str, Any]:
    """Template context of a page: rail, reference, remake and the player's tracks."""
    if remake is not None:
        reference = remake.reference
    survey = reference.survey if reference else None
    revision = remake.revision if remake else None
    measured = latest_measurement(remake) if remake else None
    return {
        "page": page,
        "rail": _rail(page, reference, remake, survey, revision, measured),
        "reference": reference,
        "remake": remake,
        "player": _player(reference, survey, remake, revision, measured),
        "vocabulary": vocabulary(),
    }


def latest_measurement(remake: Remake) -> Measurement | None:
    """The survey of the current song, or else of the song measured last."""
    revision = remake.revision
    exact = remake.measurements.filter(sha=revision.sha).first() if revision else None
    return exact or remake.measurements.order_by("-created_at").first()


def unfinished_job(**which: Any) -> Job | None:
    return Job.objects.filter(state__in=Job.UNFINISHED, **which).first()


def _rail(
    page: str, reference: Reference | None, remake: Remake | None, survey: Survey | None, revision: Revision | None,
    measured: Measurement | None,
) -> list[Step]:  # fmt: skip
    """The steps that exist so far, in order; a step that has nothing to show yet leads to where it starts."""
    shelf = reverse("shelf")
    survey_url = reverse("target" if reference.is_target else "survey", args=[reference.pk]) if reference and survey else shelf
    if remake is None and reference is not None:
        remake = reference.remakes.filter(deleted_at=None).order_by("-created_at").first()
        revision = remake.revision if remake else None
        measured = latest_measurement(remake) if remake else None

    def of_remake(name: str) -> str:
        return reverse(name, args=[remake.pk]) if remake else survey_url

    first = "" if remake else "draft first"
    return [
        Step("Shelf", shelf, page == "shelf", True),
        Step("Survey", survey_url, page == "survey", survey is not None, "" if survey else "pick a track"),
        Step("Plan", of_remake("plan"), page == "plan", revision is not None, first),
        Step("Parts", of_remake("parts"), page == "parts", revision is not None, first),
        Step("Balance", of_remake("balance"), page == "balance", revision is not None, first),
        Step("Gap", of_remake("gap"), page == "gap", measured is not None and revision is not None, first),
        Step("Handover", of_remake("handover"), page == "handover", False, first),
    ]


def _player(
    reference: Reference | None, survey: Survey | None, remake: Remake | None, revision: Revision | None,
    measured: Measurement | None,
) -> dict[str, Any] | None:  # fmt: skip
    heard = reference.listened if reference else None
    heard_survey: Survey | None = survey if heard is reference or heard is None else heard.survey
    tracks: dict[str, Any] = {"id": reference and reference.pk, "reference": None, "remake": None}
    if heard is not None and heard_survey is not None:
        tracks["reference"] = reference_track(heard, heard_survey)
    if remake is not None and revision is not None:
        song = revision.song
        tracks["remake"] = {
            "title": remake.title,
            "url": f"/listen/remake/{remake.pk}/{revision.sha}/",
            "bars": song.bars,
            "bpm": song.bpm,
            "sections": [[section_name(song, s.id), bar, s.bars] for bar, s in song.placed()],
            **(loudness_of(measured.survey) if measured else {"lufs": None, "shortTerm": []}),
        }
    return tracks if tracks["reference"] or tracks["remake"] else None


def reference_track(reference: Reference, survey: Survey) -> dict[str, Any]:
    """What the player needs to know of a reference."""
    grid = reference.listening_grid(survey)
    return {
        "title": reference.title,
        "url": f"/listen/reference/{reference.pk}/{reference.listening_key(survey)}/",
        "bars": grid.bars_in(survey.source.duration_s),
        "bpm": grid.bpm,
        "beats": grid.beats_per_bar,
        "firstS": grid.first_downbeat_s,
        "tonicHz": round(midi_hz(DRONE_MIDI + survey.key.pitch_key.pitch_class, survey.key.tuning_cents), 3),
        "sections": [[s.label, s.start_bar, s.bars] for s in survey.sections],
        **loudness_of(survey),
    }


def loudness_of(survey: Survey) -> dict[str, Any]:
    """Integrated loudness and its course, on the track's own grid: [bar, LUFS]."""
    grid = survey.tempo.grid
    return {
        "lufs": survey.loudness.integrated_lufs,
        # The window ends at t: its middle says where the loudness is.
        "shortTerm": [[round(grid.bar_at(s.t_s - 1.5), 2), s.lufs] for s in survey.loudness.short_term],
    }

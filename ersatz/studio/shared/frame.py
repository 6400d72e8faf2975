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
from ersatz.studio.shared.addresses import song_address
from ersatz.studio.shared.pages import page_json
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


@dataclass(frozen=True, kw_only=True)
class Track:
    """A track as the player knows it. `url`: where its bars are; `sections` as [name, first bar, bars]; `lufs`: integrated, None
    where it isn't measured; `short_term`: its course as [bar, LUFS]."""

    title: str
    url: str
    bars: int
    bpm: float
    sections: list[tuple[str, int, int]]
    lufs: float | None
    short_term: list[tuple[float, float]]


@dataclass(frozen=True, kw_only=True)
class ReferenceTrack(Track):
    """With its grid: beats of a bar, the time of bar 1 in seconds; and the pitch of its tonic."""

    beats: int
    first_s: float
    tonic_hz: float


@dataclass(frozen=True)
class Tracks:
    """What the player plays; `id` of the reference."""

    id: int | None
    reference: ReferenceTrack | None
    remake: Track | None


def accounts(request: HttpRequest) -> dict[str, bool]:
    """For every template: whether people sign in."""
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
        "player": page_json(_player(reference, survey, remake, revision, measured)),
        "vocabulary": page_json(vocabulary()),
    }


def latest_measurement(remake: Remake) -> Measurement | None:
    """The survey of the current song, or else of the song measured last."""
    revision = remake.revision
    exact = remake.measurements.filter(sha=revision.sha).first() if revision else None
    return exact or remake.measurements.order_by("-created_at").first()


def unfinished_job(**which: Any) -> Job | None:
    """One that waits or runs and has these values; None where there is none."""
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
) -> Tracks | None:  # fmt: skip
    heard = reference.listened if reference else None
    heard_survey: Survey | None = survey if heard is reference or heard is None else heard.survey
    theirs = reference_track(heard, heard_survey) if heard is not None and heard_survey is not None else None
    ours = _remake_track(remake, revision, measured) if remake is not None and revision is not None else None
    return Tracks(reference.pk if reference else None, theirs, ours) if theirs or ours else None


def _remake_track(remake: Remake, revision: Revision, measured: Measurement | None) -> Track:
    song = revision.song
    return Track(
        title=remake.title,
        url=song_address(remake.pk, revision.sha),
        bars=song.bars,
        bpm=song.bpm,
        sections=[(section_name(song, s.id), bar, s.bars) for bar, s in song.placed()],
        lufs=measured.survey.loudness.integrated_lufs if measured else None,
        short_term=loudness_course(measured.survey) if measured else [],
    )


def reference_track(reference: Reference, survey: Survey) -> ReferenceTrack:
    """What the player needs to know of a reference."""
    grid = reference.listening_grid(survey)
    return ReferenceTrack(
        title=reference.title,
        url=reverse("listen-reference", args=[reference.pk, reference.listening_key(survey), 1, 1]).removesuffix("1-1.flac"),
        bars=grid.bars_in(survey.source.duration_s),
        bpm=grid.bpm,
        beats=grid.beats_per_bar,
        first_s=grid.first_downbeat_s,
        tonic_hz=round(midi_hz(DRONE_MIDI + survey.key.pitch_key.pitch_class, survey.key.tuning_cents), 3),
        sections=[(s.label, s.start_bar, s.bars) for s in survey.sections],
        lufs=survey.loudness.integrated_lufs,
        short_term=loudness_course(survey),
    )


def loudness_course(survey: Survey) -> list[tuple[float, float]]:
    """[bar on the track's own grid, LUFS], as pages draw it."""
    return [(round(bar, 2), lufs) for bar, lufs in survey.loudness_course()]

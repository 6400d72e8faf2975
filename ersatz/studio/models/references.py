"""A reference: what a remake is held against, an audio file with its survey or a target (targets.py) in its place."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from django.conf import settings
from django.db import models

from ersatz.core.grid import BarGrid
from ersatz.core.serial import from_json, to_json
from ersatz.core.song.document import digest
from ersatz.core.survey.corrections import grid_of
from ersatz.core.survey.document import Corrections, Survey
from ersatz.core.target import Target as TargetDocument
from ersatz.studio.models.documents import Document
from ersatz.studio.models.owned import Owned, OwnedQuerySet

if TYPE_CHECKING:
    from ersatz.studio.models.targets import Target

#: So many corrections can be taken back one by one.
MOST_STEPS_BACK = 100
#: Where uploads are written before they have a row.
INCOMING = "incoming"


class ReferenceQuerySet(OwnedQuerySet):
    def surveyed(self) -> ReferenceQuerySet:
        """Those that have a survey."""
        return self.filter(survey_json__isnull=False)

    def tracks(self) -> ReferenceQuerySet:
        """Those that are audio files."""
        return self.filter(as_target=None)

    def targets(self) -> ReferenceQuerySet:
        """Those that are targets, with them."""
        return self.exclude(as_target=None).select_related("as_target")


class ReferenceManager(models.Manager.from_queryset(ReferenceQuerySet)):  # type: ignore[misc]
    """Leaves the measurement in the database until it is asked for: only the survey's page needs it beside the survey."""

    def get_queryset(self):
        """Without the survey as measured, which is large and seldom asked for."""
        return super().get_queryset().defer("measured_json")


class Reference(Owned):
    """`measured_json` is the survey as measured, `corrections_json` what the producer said over it, `survey_json` both together.

    `corrections_past` holds the earlier corrections, the last one last: taking a step back goes there.

    One that stands for a target has no file; its `survey_json` is the target's typical track in the chosen tempo and key.
    """

    as_target: Target

    objects = ReferenceManager()  # type: ignore[misc]

    title = models.CharField(max_length=120)
    file_name = models.CharField(max_length=255)
    stored_name = models.CharField(max_length=80)
    survey_json = models.JSONField(null=True, blank=True)
    measured_json = models.JSONField(null=True, blank=True)
    corrections_json = models.JSONField(default=dict, blank=True)
    corrections_past = models.JSONField(default=list, blank=True)
    #: The survey as the core's document, or None.
    survey = Document("survey_json", Survey.from_json)
    #: The same without the producer's corrections.
    measured = Document("measured_json", Survey.from_json)
    #: Why the last survey gave nothing, for the shelf.
    problem = models.CharField(max_length=400, blank=True)

    def __str__(self) -> str:
        return self.title

    @property
    def folder(self) -> Path:
        """Where its files lie."""
        return Path(settings.MEDIA_ROOT) / "references" / str(self.pk)

    @property
    def audio_path(self) -> Path:
        """The file as it was uploaded."""
        return self.folder / self.stored_name

    @property
    def has_audio(self) -> bool:
        """Whether there is a track, and it is still there."""
        return not self.is_target and self.audio_path.is_file()

    @property
    def listening_path(self) -> Path:
        """Stereo copy at the mixdown's rate that any range can be cut from."""
        return self.folder / "listening.flac"

    @property
    def kick_path(self) -> Path:
        """The kick's portrait as sound."""
        return self.folder / "kick.wav"

    @property
    def is_target(self) -> bool:
        """Whether it is made of several tracks or of a style."""
        return hasattr(self, "as_target")

    @property
    def target(self) -> TargetDocument | None:
        """What the target's tracks have in common, or None for a track."""
        return self.as_target.document if self.is_target else None

    @property
    def listened(self) -> Reference | None:
        """The track whose audio is heard: itself, or the one chosen for a target."""
        return self.as_target.heard if self.is_target else self

    @property
    def corrections(self) -> Corrections:
        """What the producer has corrected."""
        return from_json(Corrections, self.corrections_json)

    def correct(self, corrections: Corrections) -> None:
        """Lay new corrections over the measurement; the old ones can be taken back to."""
        self.corrections_past = [*self.corrections_past, self.corrections_json][-MOST_STEPS_BACK:]
        self.corrections_json = to_json(corrections)
        self.save(update_fields=["corrections_past", "corrections_json"])

    def step_back(self) -> bool:
        """Take the last correction back; False if there is none."""
        if not self.corrections_past:
            return False
        *self.corrections_past, self.corrections_json = self.corrections_past
        self.save(update_fields=["corrections_past", "corrections_json"])
        return True

    def listening_grid(self, survey: Survey) -> BarGrid:
        """The grid that bars are cut by: the corrected one at once, while the rest is measured on it."""
        corrections = self.corrections
        return grid_of(survey, corrections) if corrections.moves_grid and not self.is_target else survey.tempo.grid

    def listening_key(self, survey: Survey, grid: BarGrid | None = None) -> str:
        """Changes with the file and its grid, the one of now unless another is named: what a bar range means."""
        grid = grid or self.listening_grid(survey)
        return digest([survey.source.sha256, grid.bpm, grid.first_downbeat_s, grid.beats_per_bar])

    def grid_of_key(self, survey: Survey, key: str) -> BarGrid | None:
        """The grid that a key was made with: the one of now or, as a page hears of a correction a moment after the server, one that
        was there before; else None."""
        return next((grid for grid in self._grids(survey) if self.listening_key(survey, grid) == key), None)

    def _grids(self, survey: Survey) -> Iterator[BarGrid]:
        yield self.listening_grid(survey)
        for found in (survey, self.measured or survey):
            yield found.tempo.grid
            for past in reversed(self.corrections_past):
                yield grid_of(found, from_json(Corrections, past))

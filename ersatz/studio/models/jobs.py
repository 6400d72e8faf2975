"""Long work as rows: phase, fraction, message, cancel, heartbeat."""

from __future__ import annotations

from typing import TypedDict

from django.conf import settings
from django.db import models
from django.urls import reverse
from django.utils import timezone

from ersatz.core.moves import Move
from ersatz.core.own import Own, Varied
from ersatz.studio.models.references import Reference
from ersatz.studio.models.remakes import Remake


class StripChange(TypedDict):
    """What a balance changed of a strip (core/balance/changes.py), as JSON."""

    strip: str
    name: str
    what: str
    why: str


class JobState(TypedDict):
    """`url` is where it is looked at; `changes` of a balance, `moves` of a search, `own` of what is taken over, None before it is
    measured, and `varied` for what could be played in its place; `fraction` 0..1."""

    id: int
    url: str
    kind: str
    state: str
    phase: str
    fraction: float
    message: str
    changes: list[StripChange]
    moves: list[Move]
    own: Own | None
    varied: list[Varied]


class Job(models.Model):
    class Kind(models.TextChoices):
        SURVEY = "survey", "Survey"
        DRAFT = "draft", "Draft"
        MEASURE = "measure", "Measure the remake"
        EXPORT = "export", "Export"
        DEMO = "demo", "Prepare the demo"
        BALANCE = "balance", "Balance"
        MOVES = "moves", "Find the next moves"
        SECTION = "section", "Measure a section"
        OWN = "own", "Measure what is taken over"

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    UNFINISHED = (State.QUEUED, State.RUNNING)

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    kind = models.CharField(max_length=20, choices=Kind.choices)
    state = models.CharField(max_length=20, choices=State.choices, default=State.QUEUED, db_index=True)
    reference = models.ForeignKey(Reference, null=True, blank=True, on_delete=models.CASCADE, related_name="jobs")
    remake = models.ForeignKey(Remake, null=True, blank=True, on_delete=models.CASCADE, related_name="jobs")
    options = models.JSONField(default=dict, blank=True)
    phase = models.CharField(max_length=80, blank=True)
    fraction = models.FloatField(default=0.0)
    message = models.CharField(max_length=400, blank=True)
    cancel = models.BooleanField(default=False)
    attempts = models.PositiveSmallIntegerField(default=0)
    heartbeat = models.DateTimeField(null=True, blank=True)
    created_at = models.DateTimeField(default=timezone.now)

    class Meta:
        ordering = ["-created_at"]

    def __str__(self) -> str:
        return f"{self.kind} ({self.state})"

    @property
    def is_finished(self) -> bool:
        """Done, failed or cancelled."""
        return self.state not in self.UNFINISHED

    @property
    def percent(self) -> int:
        """0 to 100."""
        return round(100 * self.fraction)

    def as_json(self) -> JobState:
        """As the page that waits for it reads it."""
        return {
            "id": self.pk,
            "url": reverse("job", args=[self.pk]),
            "kind": self.kind,
            "state": self.state,
            "phase": self.phase,
            "fraction": round(self.fraction, 3),
            "message": self.message,
            "changes": self.options.get("changes", []),
            "moves": self.options.get("moves", []),
            "own": self.options.get("own"),
            "varied": self.options.get("varied", []),
        }

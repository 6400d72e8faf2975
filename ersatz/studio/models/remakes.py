"""A remake: a chain of song revisions with a place in it; undo and redo move the place."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db import models, transaction
from django.utils import timezone

from ersatz.core.edits import Change
from ersatz.core.errors import InvalidEdit
from ersatz.core.gap.progress import FigureState
from ersatz.core.serial import from_json
from ersatz.core.song.document import Song, sha_of
from ersatz.core.survey.document import Survey
from ersatz.studio.models.documents import Document
from ersatz.studio.models.owned import Owned
from ersatz.studio.models.references import Reference
from ersatz.studio.shared.kept import Kept

#: Songs that a process keeps parsed.
MOST_PARSED = 64
_songs: Kept[Song] = Kept(MOST_PARSED)


def _columns(song: Song) -> dict[str, Any]:
    """A song as a row keeps it."""
    document = song.to_json()
    return {"song_json": document, "sha": sha_of(document)}


class StaleRevision(Exception):
    """An edit was made on a revision that is no longer the current one."""

    def __init__(self, current: Revision):
        super().__init__(f"This remake has changed meanwhile: {current.sentence}.")
        self.current = current


class Remake(Owned):
    reference = models.ForeignKey(Reference, on_delete=models.PROTECT, related_name="remakes")
    title = models.CharField(max_length=120)
    #: Number of the current revision; 0 before the draft stands.
    head = models.PositiveIntegerField(default=0)
    seed = models.PositiveIntegerField(default=1)
    style = models.CharField(max_length=40, blank=True)
    #: 1 busier, -1 calmer than the style usually is.
    energy = models.SmallIntegerField(default=0)

    def __str__(self) -> str:
        return self.title

    @property
    def revision(self) -> Revision | None:
        """The one that the pages show; None before the draft is there."""
        return self.revisions.filter(number=self.head).first()

    def start(self, song: Song, sentence: str) -> Revision:
        """The first revision; a draft that is made again takes its place."""
        with transaction.atomic():
            self.revisions.all().delete()
            self.head = 1
            self.save(update_fields=["head"])
            return self.revisions.create(number=1, sentence=sentence, **_columns(song))

    def apply(self, edit: Change, made_on: int) -> Revision:
        """A new revision from an edit made on revision `made_on`. Raises StaleRevision, InvalidEdit."""
        with transaction.atomic():
            remake = Remake.objects.select_for_update().get(pk=self.pk)
            current = remake.revision
            if current is None or current.number != made_on:
                raise StaleRevision(current or Revision(number=0, sentence="it has no draft yet"))
            old = current.song
            sentence = edit.sentence(old)
            song = edit.apply(old)
            remake.revisions.filter(number__gt=made_on).delete()
            revision = remake.revisions.create(number=made_on + 1, sentence=sentence, **_columns(song))
            remake.head = revision.number
            remake.title = song.title
            remake.save(update_fields=["head", "title"])
        self.head, self.title = remake.head, remake.title
        return revision

    def keep(self, name: str) -> Milestone:
        """The song as it stands, under a name: kept whatever becomes of the history."""
        revision = self.revision
        if revision is None:
            raise InvalidEdit("There is nothing to keep yet.")
        kept = {"sentence": revision.sentence, "song_json": revision.song_json, "sha": revision.sha, "created_at": timezone.now()}
        return self.milestones.update_or_create(name=name, defaults=kept)[0]

    def take_up(self, milestone: Milestone) -> Revision:
        """A kept song as the next revision."""
        with transaction.atomic():
            remake = Remake.objects.select_for_update().get(pk=self.pk)
            remake.revisions.filter(number__gt=remake.head).delete()
            remake.head += 1
            remake.title = milestone.song.title
            made = {"song_json": milestone.song_json, "sha": milestone.sha}
            revision = remake.revisions.create(number=remake.head, sentence=f"Back to “{milestone.name}”", **made)
            remake.save(update_fields=["head", "title"])
        self.head, self.title = remake.head, remake.title
        return revision

    def step(self, by: int) -> Revision | None:
        """Undo (-1) or redo (+1); None where there is nothing to go to."""
        return self._go(lambda head: head + by)

    def go_to(self, number: int) -> Revision | None:
        """The song as it was in a revision; what came after it is kept until the next edit. None where there is none."""
        return self._go(lambda head: number)

    def _go(self, where: Callable[[int], int]) -> Revision | None:
        with transaction.atomic():
            remake = Remake.objects.select_for_update().get(pk=self.pk)
            target = remake.revisions.filter(number=where(remake.head)).first()
            if target is None:
                return None
            remake.head = target.number
            remake.title = target.song.title
            remake.save(update_fields=["head", "title"])
        self.head, self.title = remake.head, remake.title
        return target


class KeptSongManager(models.Manager):
    """Leaves songs in the database until they are asked for: a process has read most of them already."""

    def get_queryset(self):
        """Without the song, which is large and seldom asked for."""
        return super().get_queryset().defer("song_json")


class KeptSong(models.Model):
    """A song as it was once, and the sentence that led to it."""

    objects = KeptSongManager()

    sentence = models.CharField(max_length=200)
    song_json = models.JSONField()
    parsed = Document("song_json", Song.from_json)
    sha = models.CharField(max_length=40, db_index=True)
    created_at = models.DateTimeField(default=timezone.now)

    class Meta:
        abstract = True

    @property
    def song(self) -> Song:
        """Raises UnreadableRow."""
        if self.pk is None:
            return self.parsed
        # Rows are written once; a milestone that takes another song gets another time.
        return _songs.get((type(self).__name__, self.pk, self.created_at, self.sha), lambda: self.parsed)


class Revision(KeptSong):
    remake = models.ForeignKey(Remake, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["remake", "number"], name="one_revision_per_number")]

    def __str__(self) -> str:
        return f"{self.number}: {self.sentence}"


class Milestone(KeptSong):
    """A song of a remake kept under a name, to come back to and to compare by ear."""

    remake = models.ForeignKey(Remake, on_delete=models.CASCADE, related_name="milestones")
    name = models.CharField(max_length=60)

    class Meta:
        ordering = ["-created_at"]
        constraints = [models.UniqueConstraint(fields=["remake", "name"], name="one_milestone_per_name")]

    def __str__(self) -> str:
        return self.name


class OtherDraft(models.Model):
    """A draft that is kept beside a remake's song, to be compared with it and taken; what it is follows from these."""

    remake = models.ForeignKey(Remake, on_delete=models.CASCADE, related_name="others")
    seed = models.PositiveIntegerField()
    style = models.CharField(max_length=40, blank=True)
    energy = models.SmallIntegerField(default=0)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return f"seed {self.seed}"


class Measurement(models.Model):
    """The survey of a mixdown, by the song that it came from."""

    remake = models.ForeignKey(Remake, on_delete=models.CASCADE, related_name="measurements")
    sha = models.CharField(max_length=40)
    survey_json = models.JSONField()
    survey = Document("survey_json", Survey.from_json)
    #: The place in the plan of the only section that is this song's, the rest being of an earlier state; None where all of it is.
    section = models.PositiveIntegerField(null=True)
    #: Figures of the gap in the reference's main section, and the digest of the survey that they are measured against.
    figures_json = models.JSONField(null=True)
    figures = Document("figures_json", lambda rows: [from_json(FigureState, row) for row in rows])
    against = models.CharField(max_length=40, blank=True)
    created_at = models.DateTimeField(default=timezone.now)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["remake", "sha"], name="one_measurement_per_song")]

    def __str__(self) -> str:
        return f"survey of {self.sha}"

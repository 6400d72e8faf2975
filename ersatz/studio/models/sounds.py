"""What a producer keeps for other remakes: sounds and chains of effects, by name."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from django.conf import settings
from django.db import models

from ersatz.core.audio import Audio
from ersatz.core.samples import SampleFolder, Samples
from ersatz.core.serial import from_json
from ersatz.core.song.parts import Sound
from ersatz.core.song.strips import Effect
from ersatz.studio.models.documents import Document
from ersatz.studio.models.owned import Owned, OwnedQuerySet

#: One folder object per place, which remembers what was read.
_folder_at = cache(SampleFolder)


def sample_folder() -> SampleFolder:
    """Where all own samples lie, by content."""
    return _folder_at(Path(settings.MEDIA_ROOT) / "samples")


def _effects(data: list) -> tuple[Effect, ...]:
    return tuple(from_json(Effect, item) for item in data)


class SavedSound(Owned):
    name = models.CharField(max_length=60)
    role = models.CharField(max_length=12)
    sound_json = models.JSONField()
    sound = Document("sound_json", lambda data: from_json(Sound, data))

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class OwnSampleQuerySet(OwnedQuerySet):
    def finder(self, user: object) -> Samples:
        """Finds the audio of the user's samples by hash, and of nobody else's."""
        own = set(self.of(user).values_list("sha", flat=True))
        folder = sample_folder()
        return lambda sha: folder(sha) if sha in own else None


class OwnSample(Owned):
    """A sample that the producer brought. The audio lies in a folder by its hash and stays there: songs may play it."""

    objects = OwnSampleQuerySet.as_manager()  # type: ignore[misc]

    name = models.CharField(max_length=60)
    sha = models.CharField(max_length=64)
    seconds = models.FloatField()

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

    @classmethod
    def keep(cls, user: object, name: str, audio: Audio) -> OwnSample:
        """Raises OSError where the disk refuses. The same audio again brings a forgotten one back."""
        sha = sample_folder().keep(audio)
        kept = {"name": name, "seconds": round(audio.duration_s, 3), "deleted_at": None}
        return cls.objects.update_or_create(owner=user, sha=sha, defaults=kept)[0]


class SavedChain(Owned):
    name = models.CharField(max_length=60)
    effects_json = models.JSONField()
    effects = Document("effects_json", _effects)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

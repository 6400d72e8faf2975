"""What a producer keeps for other remakes: sounds and chains of effects, by name."""

from __future__ import annotations

from django.db import models

from ersatz.core.serial import from_json
from ersatz.core.song.document import Effect, Sound
from ersatz.studio.models.documents import Document
from ersatz.studio.models.owned import Owned


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


class SavedChain(Owned):
    name = models.CharField(max_length=60)
    effects_json = models.JSONField()
    effects = Document("effects_json", _effects)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name

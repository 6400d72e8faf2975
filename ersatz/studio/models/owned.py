"""Every row has an owner; what is deleted can be brought back for a while."""

from __future__ import annotations

from django.conf import settings
from django.db import models
from django.utils import timezone


class OwnedQuerySet(models.QuerySet):
    def of(self, user) -> OwnedQuerySet:
        """The user's rows that aren't deleted."""
        return self.filter(owner=user, deleted_at=None)

    def deleted_of(self, user) -> OwnedQuerySet:
        """What a user has deleted and can bring back."""
        return self.filter(owner=user).exclude(deleted_at=None)


class Owned(models.Model):
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    created_at = models.DateTimeField(default=timezone.now)
    deleted_at = models.DateTimeField(null=True, blank=True)

    objects = OwnedQuerySet.as_manager()

    class Meta:
        abstract = True

    def delete_softly(self) -> None:
        """Out of every list, until it is brought back or swept away."""
        self.deleted_at = timezone.now()
        self.save(update_fields=["deleted_at"])

    def bring_back(self) -> None:
        """Undoes `delete_softly`."""
        self.deleted_at = None
        self.save(update_fields=["deleted_at"])

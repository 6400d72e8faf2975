"""A target: what several references, or a style, have in common."""

from __future__ import annotations

from django.db import models, transaction

from ersatz.core.target import Target as TargetDocument
from ersatz.studio.models.documents import Document
from ersatz.studio.models.references import Reference


class Target(models.Model):
    """`reference` is the row that stands for it wherever a track could stand; `members` are the references that it was made from,
    none for a style's, and `heard` the one that is listened to in its place."""

    reference = models.OneToOneField(Reference, primary_key=True, on_delete=models.CASCADE, related_name="as_target")
    document_json = models.JSONField()
    members = models.ManyToManyField(Reference, related_name="member_of", blank=True)
    heard = models.ForeignKey(Reference, null=True, blank=True, on_delete=models.SET_NULL, related_name="heard_for")
    document = Document("document_json", TargetDocument.from_json)

    def __str__(self) -> str:
        return self.reference.title

    def hold(self, document: TargetDocument) -> None:
        """Keep a document, and its typical track in the chosen tempo and key."""
        self.document_json = document.to_json()
        self.reference.survey_json = document.chosen(self.reference.corrections).to_json()
        # The two rows are one thing: neither is kept without the other.
        with transaction.atomic():
            self.save()
            self.reference.save()

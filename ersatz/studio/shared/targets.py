"""Targets are made from references or a style, and anew when one of their references is surveyed again."""

from __future__ import annotations

from collections.abc import Iterable

from django.db import transaction

from ersatz.core.errors import ErsatzError
from ersatz.core.target import Target as TargetDocument
from ersatz.core.target import target_of_style, target_of_surveys
from ersatz.studio.models import Reference, Target


@transaction.atomic
def make_target(owner, title: str, members: Iterable[Reference], style: str = "") -> Target:
    """With the reference that stands for it. Raises ErsatzError with a sentence where the references make no target."""
    references = list(members)
    if style:
        made = target_of_style(style)
    else:
        made = _target_of(references, title or " + ".join(r.title for r in references)[:110])
    stands = Reference.objects.create(owner=owner, title=(title or made.title)[:120], file_name="", stored_name="")
    row = Target(reference=stands, heard=next(iter(references), None))
    row.hold(made)
    row.members.set(references)
    return row


def _target_of(references: list[Reference], title: str) -> TargetDocument:
    return target_of_surveys([r.survey for r in references], [r.title for r in references], title)


def follow_corrections(reference: Reference) -> None:
    """Bring the targets that `reference` belongs to up to its present survey; one that can't be made keeps its figures."""
    for row in Target.objects.filter(members=reference).select_related("reference"):
        try:
            made = _target_of(list(row.members.surveyed().order_by("title")), row.reference.title)
        except ErsatzError:
            continue
        row.hold(made)

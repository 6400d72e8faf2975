"""Starting jobs: one unfinished job of a kind per object is enough."""

from __future__ import annotations

from django.db import transaction

from ersatz.studio.models import Job, Reference, Remake


def start_job(owner, kind: str, reference: Reference | None = None, remake: Remake | None = None, **options) -> Job:
    """The unfinished job of this kind for the object, or a new one, enqueued once the row is saved."""
    from ersatz.studio.tasks import run_job

    with transaction.atomic():
        waiting = Job.objects.filter(
            owner=owner, kind=kind, reference=reference, remake=remake, options=options, state=Job.State.QUEUED
        ).first()
        if waiting is not None:
            return waiting
        job = Job.objects.create(owner=owner, kind=kind, reference=reference, remake=remake, options=options)
        run_job(job.pk)
    return job


def queue_again(job: Job) -> None:
    """A job that has given way waits once more."""
    from ersatz.studio.tasks import run_job

    with transaction.atomic():
        Job.objects.filter(pk=job.pk).update(state=Job.State.QUEUED, phase="", fraction=0.0)
        run_job(job.pk)

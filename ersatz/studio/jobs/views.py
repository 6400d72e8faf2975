"""How far a job is, and stopping it."""

from django.contrib.auth.decorators import login_required
from django.http import HttpRequest, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST, require_safe

from ersatz.studio.models import Job


@login_required
@require_safe
def status(request: HttpRequest, pk: int) -> JsonResponse:
    """How far a job is."""
    return JsonResponse(get_object_or_404(Job, pk=pk, owner=request.user).as_json())


@login_required
@require_POST
def cancel(request: HttpRequest, pk: int) -> JsonResponse:
    """Ends a job: at once where it waits, at its next report where it runs."""
    job = get_object_or_404(Job, pk=pk, owner=request.user)
    Job.objects.filter(pk=job.pk, state=Job.State.QUEUED).update(state=Job.State.CANCELLED, message="Cancelled.")
    Job.objects.filter(pk=job.pk).update(cancel=True)
    job.refresh_from_db()
    return JsonResponse(job.as_json())

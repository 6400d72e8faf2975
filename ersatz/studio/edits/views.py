"""A song edited, from whichever page: the query says which page shows the answer, and of which part."""

from __future__ import annotations

from django.contrib.auth.decorators import login_required
from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from ersatz.studio.shared.edit import State, answer_edit, answer_milestone, answer_return, answer_step, state_for


def _shown(request: HttpRequest) -> State:
    return state_for(request.GET.get("show", "plan"), request.GET.get("part", ""))


@login_required
@require_POST
def edit(request: HttpRequest, pk: int) -> JsonResponse:
    """Applies an edit; answers with what the asking page shows now."""
    return answer_edit(request, pk, _shown(request))


@login_required
@require_POST
def step(request: HttpRequest, pk: int, by: int) -> JsonResponse:
    """Undo or redo."""
    return answer_step(request, pk, by, _shown(request))


@login_required
@require_POST
def return_to(request: HttpRequest, pk: int, number: int) -> JsonResponse:
    """Goes to another revision; answers with what the asking page shows now."""
    return answer_return(request, pk, number, _shown(request))


@login_required
@require_POST
def milestone(request: HttpRequest, pk: int, what: str) -> JsonResponse:
    """Keeps the song under a name, takes a kept one up, or forgets it; answers with what the asking page shows now."""
    return answer_milestone(request, pk, what, _shown(request))

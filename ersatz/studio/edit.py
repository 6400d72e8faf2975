"""One edit of a remake over the wire: what every page that edits a song answers."""

from __future__ import annotations

import json
from collections.abc import Callable

from django.http import HttpRequest, JsonResponse
from django.shortcuts import get_object_or_404

from ersatz.core.edits import parse_edit
from ersatz.core.errors import ErsatzError
from ersatz.studio.models import Remake, Revision, StaleRevision

#: Revisions that the history shows, and how many of those that were undone.
MOST_LISTED, MOST_AHEAD = 60, 20

State = Callable[[Remake, Revision], dict]


def steps(remake: Remake, revision: Revision) -> dict:
    """What can be undone and redone."""
    # Newest first, what was undone too: all of it can be gone to.
    near = remake.revisions.filter(number__lte=revision.number + MOST_AHEAD).order_by("-number").only("number", "sentence")
    listed = list(near[: MOST_LISTED + MOST_AHEAD])
    after = next((r for r in listed if r.number == revision.number + 1), None)
    return {
        "title": remake.title,
        "revision": revision.number,
        "sha": revision.sha,
        "listen": f"/listen/remake/{remake.pk}/{revision.sha}/",
        "undo": revision.sentence if revision.number > 1 else None,
        "redo": after.sentence if after else None,
        "history": [[r.number, r.sentence] for r in listed],
    }


def answer_edit(request: HttpRequest, pk: int, state: State) -> JsonResponse:
    """Body: {"revision": number, "edit": {"kind": ...}}. 409 with the current state if the song has moved on meanwhile."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    try:
        body = json.loads(request.body)
        wanted = parse_edit(body["edit"])
        revision = remake.apply(wanted, int(body["revision"]))
    except StaleRevision as stale:
        current = remake.__class__.objects.get(pk=remake.pk)
        answer = {"error": str(stale)}
        if current.revision is not None:
            answer.update(state=state(current, current.revision))
        return JsonResponse(answer, status=409)
    except ErsatzError as error:
        return JsonResponse({"error": str(error)}, status=400)
    except (ValueError, KeyError, TypeError):
        return JsonResponse({"error": "That edit can't be read."}, status=400)
    return JsonResponse(state(remake, revision))


def answer_step(request: HttpRequest, pk: int, by: int, state: State) -> JsonResponse:
    """Undo (-1) or redo (+1)."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    return _answer(remake, remake.step(by), state)


def answer_return(request: HttpRequest, pk: int, number: int, state: State) -> JsonResponse:
    """Back, or forward, to a revision of the history."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    return _answer(remake, remake.go_to(number), state)


def _answer(remake: Remake, reached: Revision | None, state: State) -> JsonResponse:
    """Where the song stands now; where it was to go to nothing, it stands where it stood."""
    revision = reached or remake.revision
    if revision is None:
        return JsonResponse({"error": "There is no draft yet."}, status=400)
    return JsonResponse(state(remake, revision))

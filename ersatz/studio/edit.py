"""One edit of a remake over the wire: what every page that edits a song answers."""

from __future__ import annotations

import json
from collections.abc import Callable

from django.http import HttpRequest, JsonResponse
from django.shortcuts import get_object_or_404

from ersatz.core.edits import parse_edit
from ersatz.core.errors import ErsatzError
from ersatz.studio.models import Remake, Revision, StaleRevision

State = Callable[[Remake, Revision], dict]


def steps(remake: Remake, revision: Revision) -> dict:
    """What can be undone and redone."""
    before = remake.revisions.filter(number__lte=revision.number).order_by("-number")[:30]
    after = remake.revisions.filter(number=revision.number + 1).first()
    return {
        "title": remake.title,
        "revision": revision.number,
        "sha": revision.sha,
        "listen": f"/listen/remake/{remake.pk}/{revision.sha}/",
        "undo": revision.sentence if revision.number > 1 else None,
        "redo": after.sentence if after else None,
        "history": [[r.number, r.sentence] for r in before],
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
    revision = remake.step(by) or remake.revision
    if revision is None:
        return JsonResponse({"error": "There is no draft yet."}, status=400)
    return JsonResponse(state(remake, revision))

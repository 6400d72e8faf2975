"""What is answered where something went wrong: one sentence and a way back, as a page or, to a script, as JSON."""

from __future__ import annotations

import sys
from errno import ENOSPC

from django.core.exceptions import RequestDataTooBig
from django.db import OperationalError
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render

from ersatz.studio.models import Reference, Revision
from ersatz.studio.models.documents import UnreadableRow

DISK_FULL = "The disk is full: free some space and try again. Nothing that was saved before is lost."
#: Earlier versions that are tried for a song that can't be read.
MOST_TRIED = 50


def is_disk_full(error: BaseException | None) -> bool:
    """Whether the system, or the database, had no room to write."""
    while error is not None:
        if isinstance(error, OSError) and error.errno == ENOSPC:
            return True
        if isinstance(error, OperationalError) and "full" in str(error):
            return True
        error = error.__cause__ or error.__context__
    return False


def said(request: HttpRequest, status: int, title: str, sentence: str, **more: object) -> HttpResponse:
    """A page for people, JSON for scripts."""
    if "text/html" not in request.headers.get("Accept", "") and not more:
        return JsonResponse({"error": sentence}, status=status)
    return render(request, "studio/wrong.html", {"title": title, "sentence": sentence, **more}, status=status)


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    """400, or 413 for more than a page may send."""
    if isinstance(exception, RequestDataTooBig):
        return said(request, 413, "Too much at once", "That is more than this page may send.")
    return said(request, 400, "Not understood", "That request can’t be read.")


def forbidden(request: HttpRequest, exception: Exception) -> HttpResponse:
    """403."""
    return said(request, 403, "Not allowed", "That isn’t allowed here.")


def locked_out(request: HttpRequest, *args: object, **kwargs: object) -> HttpResponse:
    """429, after too many wrong passwords."""
    return said(request, 429, "Too many tries", "That name was tried with wrong passwords too often: wait a quarter of an hour.")


def csrf_failure(request: HttpRequest, reason: str = "") -> HttpResponse:
    """403 for a page that is older than the session."""
    return said(request, 403, "Reload the page", "This page is older than your session: reload it and try again.")


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """404."""
    return said(request, 404, "Not here", "There is nothing at this address; it may have been deleted.")


def server_error(request: HttpRequest) -> HttpResponse:
    """500, or 507 where the disk is full."""
    if is_disk_full(sys.exc_info()[1]):
        return said(request, 507, "The disk is full", DISK_FULL)
    return said(request, 500, "Something went wrong", "Something went wrong here that should not have; the details are in the log.")


def unreadable(request: HttpRequest, error: UnreadableRow) -> HttpResponse:
    """A document that can't be read, with what can be done instead: the version before, or another survey."""
    row = error.row
    if isinstance(row, Revision):
        found = last_readable(row)
        sentence = f"Version {row.number} of “{row.remake.title}” can’t be read."
        return said(request, 409, "This version is damaged", sentence, reason=str(error), remake_pk=row.remake_id, before=found)
    if isinstance(row, Reference):
        sentence = f"The survey of “{row.title}” can’t be read."
        return said(request, 409, "This survey is damaged", sentence, reason=str(error), resurvey=row.pk)
    return said(request, 409, "Damaged", str(error))


def last_readable(revision: Revision) -> Revision | None:
    """The newest revision before this one whose song can be read."""
    for earlier in revision.remake.revisions.filter(number__lt=revision.number).order_by("-number")[:MOST_TRIED]:
        try:
            _ = earlier.song
        except UnreadableRow:
            continue
        return earlier
    return None

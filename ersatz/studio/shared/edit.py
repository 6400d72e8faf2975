"""One edit of a remake over the wire: what every page that edits a song answers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

from django.db import transaction
from django.http import Http404, HttpRequest, JsonResponse
from django.shortcuts import get_object_or_404

from ersatz.core.edits import Change, Edit
from ersatz.core.errors import ErsatzError, UnusableDocument
from ersatz.core.exchange.midi import MidiSong, read_midi
from ersatz.core.serial import read_json
from ersatz.core.song.document import Song
from ersatz.studio.models import Milestone, Remake, Revision, StaleRevision
from ersatz.studio.shared.addresses import song_address
from ersatz.studio.shared.forms import BAD_NAME, ChosenForm, MidiForm, NameForm
from ersatz.studio.shared.pages import page_json
from ersatz.studio.shared.variants import edit_in

#: Revisions that the history shows, and how many of those that were undone.
MOST_LISTED, MOST_AHEAD = 60, 20
UNREADABLE = "That edit can't be read."


@dataclass(frozen=True)
class Version:
    """A song that was saved under a name; `listen` is where its audio lies."""

    id: int
    name: str
    listen: str


@dataclass(frozen=True, kw_only=True)
class Steps:
    """Where a song stands, on every page that changes it. `undo` and `redo`: what would be, in a sentence, None for nothing;
    `history` with the numbers of the revisions, newest first."""

    title: str
    revision: int
    sha: str
    listen: str
    undo: str | None
    redo: str | None
    history: list[tuple[int, str]]
    milestones: list[Version]


State = Callable[[Remake, Revision], Steps]
#: A song as a page shows it; the third is the id of the part that is open there, "" for none.
Shows = Callable[[Remake, Revision, str], Steps]
AnyShows = TypeVar("AnyShows", bound=Shows)
#: By page; each page enters its own.
_SHOWS: dict[str, Shows] = {}


def shown_on(page: str) -> Callable[[AnyShows], AnyShows]:
    """Enters what a page shows of a song: edits that name the page are answered with it."""

    def enter(shows: AnyShows) -> AnyShows:
        _SHOWS[page] = shows
        return shows

    return enter


def state_for(page: str, part: str = "") -> State:
    """Raises Http404 for a page that shows no song."""
    if page not in _SHOWS:
        raise Http404
    return lambda remake, revision: _SHOWS[page](remake, revision, part)


def steps(remake: Remake, revision: Revision) -> Steps:
    """Title, history and addresses of a revision: what every page with edits shows."""
    # Newest first, what was undone too: all of it can be gone to.
    near = remake.revisions.filter(number__lte=revision.number + MOST_AHEAD).order_by("-number").only("number", "sentence")
    listed = list(near[: MOST_LISTED + MOST_AHEAD])
    after = next((r for r in listed if r.number == revision.number + 1), None)
    return Steps(
        title=remake.title,
        revision=revision.number,
        sha=revision.sha,
        listen=song_address(remake.pk, revision.sha),
        undo=revision.sentence if revision.number > 1 else None,
        redo=after.sentence if after else None,
        history=[(r.number, r.sentence) for r in listed],
        milestones=[Version(m.pk, m.name, song_address(remake.pk, m.sha)) for m in remake.milestones.defer("song_json")],
    )


def answer_edit(request: HttpRequest, pk: int, state: State) -> JsonResponse:
    """Body: {"revision": number, "edit": {"kind": ...}}, or "ask" for an edit that the reference is needed for. 409 with the
    current state if the song has moved on meanwhile."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    try:
        body = read_json(request.body)
        made_on = int(body["revision"])
    except UnusableDocument as error:
        return JsonResponse({"error": str(error)}, status=400)
    except (ValueError, KeyError, TypeError):
        return JsonResponse({"error": UNREADABLE}, status=400)
    return answer_made(remake, made_on, lambda song: edit_in(body, song, remake.reference.survey), state)


def answer_made(remake: Remake, made_on: int, make: Callable[[Song], Change], state: State) -> JsonResponse:
    """The song after the edit that `make` gives for it: what is asked for depends on the song that it is asked of."""
    try:
        current = remake.revision
        if current is None or current.number != made_on:
            raise StaleRevision(current or Revision(number=0, sentence="it has no draft yet"))
        # What can't be shown isn't kept.
        with transaction.atomic():
            answer = page_json(state(remake, remake.apply(make(current.song), made_on)))
    except StaleRevision as stale:
        fresh = Remake.objects.get(pk=remake.pk)
        answer = {"error": str(stale)}
        if fresh.revision is not None:
            answer.update(state=page_json(state(fresh, fresh.revision)))
        return JsonResponse(answer, status=409)
    except ErsatzError as error:
        return JsonResponse({"error": str(error)}, status=400)
    except (ValueError, KeyError, TypeError):
        return JsonResponse({"error": UNREADABLE}, status=400)
    return JsonResponse(answer)


def answer_midi(request: HttpRequest, pk: int, edit_of: Callable[[MidiSong, Song, str], Edit], state: State) -> JsonResponse:
    """The song after a MIDI file: `edit_of` makes an edit of what was read, the song and the file's name."""
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    form = MidiForm(request.POST, request.FILES)
    if not form.is_valid():
        return JsonResponse({"error": next(iter(form.errors.values()))[0]}, status=400)
    file = form.cleaned_data["file"]

    def make(song: Song) -> Edit:
        return edit_of(read_midi(file.read()), song, Path(file.name).name)

    return answer_made(remake, form.cleaned_data["revision"], make, state)


def answer_step(request: HttpRequest, pk: int, by: int, state: State) -> JsonResponse:
    """Undo (-1) or redo (+1)."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    return _answer(remake, remake.step(by), state)


def answer_return(request: HttpRequest, pk: int, number: int, state: State) -> JsonResponse:
    """Back, or forward, to a revision of the history."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    return _answer(remake, remake.go_to(number), state)


def answer_milestone(request: HttpRequest, pk: int, what: str, state: State) -> JsonResponse:
    """Keeps the song under a name, takes a kept one up, or forgets it. Form: name, or milestone."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    if what == "keep":
        form = NameForm(request.POST)
        if not form.is_valid():
            return JsonResponse({"error": BAD_NAME}, status=400)
        try:
            remake.keep(form.cleaned_data["name"])
        except ErsatzError as error:
            return JsonResponse({"error": str(error)}, status=400)
        return _answer(remake, remake.revision, state)
    chosen = ChosenForm(request.POST)
    milestone = get_object_or_404(Milestone, remake=remake, pk=chosen.cleaned_data["milestone"] if chosen.is_valid() else 0)
    if what == "take":
        return _answer(remake, remake.take_up(milestone), state)
    milestone.delete()
    return _answer(remake, remake.revision, state)


def _answer(remake: Remake, reached: Revision | None, state: State) -> JsonResponse:
    """Where the song stands now; where it was to go to nothing, it stands where it stood."""
    revision = reached or remake.revision
    if revision is None:
        return JsonResponse({"error": "There is no draft yet."}, status=400)
    return JsonResponse(page_json(state(remake, revision)))

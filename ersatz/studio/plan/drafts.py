"""Other drafts of a remake: up to three from other seeds, kept beside its song, told apart, heard, and taken in its place."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import count
from typing import Any

from django.contrib.auth.decorators import login_required
from django.http import Http404, HttpRequest, JsonResponse
from django.shortcuts import get_object_or_404
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from ersatz.core.draft.asks import MOST_SEED, AnotherDraft
from ersatz.core.draft.describe import facts_of
from ersatz.core.errors import ErsatzError
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Note
from ersatz.core.styles import ENERGIES
from ersatz.core.survey.document import Survey
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, OtherDraft, Remake
from ersatz.studio.shared.edit import UNREADABLE, answer_made, state_for
from ersatz.studio.shared.forms import DraftForm, RevisionForm
from ersatz.studio.shared.pages import page_json

MOST_KEPT = 3
#: What is heard of a draft, bars of its main section.
HEARD_BARS = 8
CALLED = {by: name for name, by in ENERGIES.items() if by}


@dataclass(frozen=True)
class DraftRow:
    """`said`: what tells it from others; `hook` and `bass` of its first eight bars as [tick, length, MIDI]; `ask` makes it; `bars`,
    first and last, are those to compare by; `url` is where it is taken (POST) and no longer kept (DELETE)."""

    id: int
    seed: int
    said: str
    chords: str
    hook: list[tuple[int, int, int]]
    bass: list[tuple[int, int, int]]
    ask: dict[str, Any]
    bars: tuple[int, int]
    url: str


@dataclass(frozen=True)
class DraftRows:
    """`most`: so many are kept at once."""

    drafts: list[DraftRow]
    most: int


@login_required
@require_safe
def others(request: HttpRequest, pk: int) -> JsonResponse:
    """Other drafts of the same reference, to choose from."""
    return _rows(*_drafting(request, pk))


@login_required
@require_POST
def add_other(request: HttpRequest, pk: int) -> JsonResponse:
    """A draft from a seed that none of the others has, in the style and energy of the form."""
    remake, survey = _drafting(request, pk)
    form = DraftForm(request.POST)
    if not form.is_valid():
        return JsonResponse({"error": "There is no such style."}, status=400)
    if remake.others.count() >= MOST_KEPT:
        return JsonResponse({"error": f"{MOST_KEPT} drafts are kept already: remove one."}, status=400)
    chosen = form.cleaned_data
    taken = {remake.seed, _song(remake).seed, *remake.others.values_list("seed", flat=True)}
    seed = chosen["seed"] or next(s for s in count(max(taken) % MOST_SEED + 1) if s not in taken)
    draft = OtherDraft(remake=remake, seed=seed, style=chosen["style"], energy=chosen["energy"] or 0)
    try:
        _ask(draft).edit(_song(remake), survey)
    except ErsatzError as error:
        return JsonResponse({"error": str(error)}, status=400)
    draft.save()
    return _rows(remake, survey)


@login_required
def other(request: HttpRequest, pk: int, draft: int) -> JsonResponse:
    """POST: it takes the place of the song of a revision, and is matched; DELETE: it is no longer kept."""
    remake, survey = _drafting(request, pk)
    kept = get_object_or_404(remake.others.all(), pk=draft)
    if request.method == "DELETE":
        kept.delete()
        return _rows(remake, survey)
    if request.method != "POST":
        return JsonResponse({"error": "A draft is taken or removed."}, status=405)
    form = RevisionForm(request.POST)
    if not form.is_valid():
        return JsonResponse({"error": UNREADABLE}, status=400)
    answer = answer_made(remake, form.cleaned_data["revision"], lambda song: _ask(kept).edit(song, survey), state_for("plan"))
    if answer.status_code == 200:
        start_job(remake.owner, Job.Kind.DRAFT, remake=remake, revision=remake.head)
    return answer


def _drafting(request: HttpRequest, pk: int) -> tuple[Remake, Survey]:
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    survey = remake.reference.survey
    if survey is None or remake.revision is None:
        raise Http404
    return remake, survey


def _song(remake: Remake) -> Song:
    revision = remake.revision
    assert revision is not None
    return revision.song


def _ask(draft: OtherDraft) -> AnotherDraft:
    return AnotherDraft(draft.seed, draft.style, draft.energy)


def _rows(remake: Remake, survey: Survey) -> JsonResponse:
    song = _song(remake)
    rows = [_row(draft, song, survey) for draft in remake.others.all()]
    return JsonResponse(page_json(DraftRows(rows, MOST_KEPT)))


def _row(kept: OtherDraft, song: Song, survey: Survey) -> DraftRow:
    ask = _ask(kept)
    facts = facts_of(ask.edit(song, survey).apply(song))
    sounds = [f"{what.lower()} “{name}”" for what, name in facts.sounds]
    main = survey.sections[survey.main_section()]
    last = main.start_bar + min(main.bars, HEARD_BARS) - 1
    return DraftRow(
        id=kept.pk,
        seed=kept.seed,
        said=" · ".join(filter(None, [facts.style, CALLED.get(kept.energy, ""), ", ".join(sounds)])),
        chords=" ".join(facts.chords),
        hook=_drawn(facts.hook),
        bass=_drawn(facts.bass),
        ask={"kind": ask.kind, **to_json(ask)},
        bars=(main.start_bar, last),
        url=reverse("other-draft", args=[kept.remake_id, kept.pk]),
    )


def _drawn(notes: tuple[Note, ...]) -> list[tuple[int, int, int]]:
    return [(n.tick, n.ticks, n.midi) for n in notes]

"""Which sound plays a part? Its voice as a signal path, its effects in order, notes to try it by."""

from __future__ import annotations

from errno import ENOSPC
from typing import Any

from django.contrib.auth.decorators import login_required
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_POST, require_safe

from ersatz.core.draft.loops import fitted
from ersatz.core.edits import edit_json, parse_edit
from ersatz.core.errors import ErsatzError
from ersatz.core.exchange.midi import pattern_edit, pattern_midi
from ersatz.core.mixdown.audition import audition, bypass_db
from ersatz.core.serial import read_json, to_json
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Part, Sound
from ersatz.core.survey.loops import measure_loop
from ersatz.core.voices import gone, library
from ersatz.studio.models import OwnSample, Remake, Revision, SavedChain, SavedSound
from ersatz.studio.parts.forms import BrowserForm, SampleForm, SaveForm
from ersatz.studio.parts.notes import NotesState, notes_fixed, notes_state
from ersatz.studio.parts.state import PartState, browser_state, part_state, sound_state
from ersatz.studio.shared.chains import save_chain
from ersatz.studio.shared.edit import answer_midi, shown_on, state_for
from ersatz.studio.shared.effects import effect_state
from ersatz.studio.shared.forms import BAD_NAME
from ersatz.studio.shared.frame import frame
from ersatz.studio.shared.pages import page_json
from ersatz.studio.shared.parts import middle_of
from ersatz.studio.shared.renders import IMMUTABLE, UNTIL_FOUND, flac_response, render_cache
from ersatz.studio.shared.users import user_of

#: A sample is heard this long when it is chosen from the list.
HEARD_S = 8.0


def _part_of(song: Song, part_id: str) -> Part:
    part = song.part(part_id)
    if part is None:
        raise Http404
    return part


def _current(request: HttpRequest, pk: int) -> tuple[Remake, Revision]:
    remake = get_object_or_404(Remake.objects.of(request.user).select_related("reference"), pk=pk)
    if remake.revision is None:
        raise Http404
    return remake, remake.revision


@shown_on("sound")
def _sound(remake: Remake, revision: Revision, part: str) -> PartState:
    return part_state(remake, revision, _part_of(revision.song, part))


@login_required
@require_safe
def first_part(request: HttpRequest, pk: int) -> HttpResponse:
    """The lead, or else the first part; without a draft the Plan says what is missing."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    revision = remake.revision
    if revision is None or not revision.song.parts:
        return redirect("plan", pk=pk)
    parts = revision.song.parts
    return redirect("part", pk=pk, part=next((p.id for p in parts if p.role == "lead"), parts[0].id))


@login_required
@require_safe
def part(request: HttpRequest, pk: int, part: str) -> HttpResponse:
    """The page of one part: pattern, sound, chain."""
    remake, revision = _current(request, pk)
    opened = _part_of(revision.song, part)
    context = {**frame("parts", remake=remake), "part": opened}
    browser = browser_state(request.user, opened.role, revision.song)
    context["drawing"] = page_json(part_state(remake, revision, opened)) | {"browser": page_json(browser)}
    return render(request, "studio/part.html", context)


@shown_on("notes")
def _notes(remake: Remake, revision: Revision, part: str) -> NotesState:
    return notes_state(remake, revision, _part_of(revision.song, part))


@login_required
@require_safe
def notes(request: HttpRequest, pk: int, part: str) -> HttpResponse:
    """What a part plays: its notes, or with the other drums its hits."""
    remake, revision = _current(request, pk)
    opened = _part_of(revision.song, part)
    context = {**frame("parts", remake=remake), "part": opened}
    context["drawing"] = page_json(notes_state(remake, revision, opened)) | page_json(notes_fixed(remake.reference.survey))
    return render(request, "studio/notes.html", context)


@login_required
@require_safe
def pattern_file(request: HttpRequest, pk: int, part: str, pattern: str) -> HttpResponse:
    """A pattern as a MIDI file."""
    remake, revision = _current(request, pk)
    opened = _part_of(revision.song, part)
    if pattern not in opened.patterns:
        raise Http404
    response = HttpResponse(pattern_midi(revision.song, opened, pattern), content_type="audio/midi")
    response["Content-Disposition"] = f'attachment; filename="{slugify(f"{remake.title} {opened.name} {pattern}")}.mid"'
    return response


@login_required
@require_POST
def bring_pattern(request: HttpRequest, pk: int, part: str, pattern: str) -> JsonResponse:
    """The notes of a MIDI file's fullest track into a pattern, which becomes as long as they are."""
    return answer_midi(
        request, pk, lambda read, song, name: pattern_edit(read, song, part, pattern, name), state_for("notes", part)
    )


@login_required
@require_POST
def preview(request: HttpRequest, pk: int, part: str) -> JsonResponse:
    """What an edit would draw, without making it: for curves that are being dragged. Body: {"edit": ...}."""
    remake, revision = _current(request, pk)
    try:
        edited = _part_of(parse_edit(read_json(request.body)["edit"]).apply(revision.song), part)
    except (ErsatzError, ValueError, KeyError, TypeError) as error:
        return JsonResponse({"error": str(error)}, status=400)
    samples = OwnSample.objects.finder(remake.owner)
    effects = [effect_state(e) for e in edited.chain]
    return JsonResponse(page_json({"sound": sound_state(edited.sound, samples), "effects": effects}))


@login_required
@require_safe
def bypass_level(request: HttpRequest, pk: int, part: str, place: int) -> JsonResponse:
    """By how much the effect at a place changes the part's loudness, dB."""
    remake, revision = _current(request, pk)
    opened = _part_of(revision.song, part)
    if place >= len(opened.chain):
        raise Http404
    samples = OwnSample.objects.finder(remake.owner)
    return JsonResponse({"db": bypass_db(revision.song, part, place, middle_of(opened), render_cache(), samples)})


@login_required
@require_POST
def save(request: HttpRequest, pk: int, part: str) -> JsonResponse:
    """Keeps the part's sound or chain under a name; a name that is there already is replaced."""
    _, revision = _current(request, pk)
    opened = _part_of(revision.song, part)
    form = SaveForm(request.POST)
    if not form.is_valid():
        return JsonResponse({"error": BAD_NAME}, status=400)
    name = form.cleaned_data["name"]
    if form.cleaned_data["what"] == "sound":
        kept = {"role": opened.role, "sound_json": {**to_json(opened.sound), "name": name}}
        SavedSound.objects.update_or_create(owner=user_of(request), name=name, deleted_at=None, defaults=kept)
    elif not opened.chain:
        return JsonResponse({"error": "There are no effects to keep yet."}, status=400)
    else:
        save_chain(user_of(request), name, opened.chain, revision.song)
    return JsonResponse(page_json(browser_state(request.user, opened.role, revision.song)))


def _browser(request: HttpRequest) -> dict[str, Any]:
    """What can be taken, for the role and the remake that a form names."""
    form = BrowserForm(request.POST)
    asked = form.cleaned_data if form.is_valid() else {}
    remake = Remake.objects.of(request.user).filter(pk=asked.get("remake") or 0).first()
    song = remake.revision.song if remake and remake.revision else None
    return page_json(browser_state(request.user, asked.get("role", ""), song))


@login_required
@require_POST
def forget(request: HttpRequest, what: str, pk: int) -> JsonResponse:
    """Deletes an own sound, chain or sample; answers with what the browser lists now."""
    model = {"sound": SavedSound, "chain": SavedChain, "sample": OwnSample}.get(what)
    if model is None:
        raise Http404
    get_object_or_404(model.objects.of(request.user), pk=pk).delete_softly()
    return JsonResponse(_browser(request))


@login_required
@require_safe
def note(request: HttpRequest, pk: int, sha: str, part: str, midi: int) -> HttpResponse:
    """One note of a part as it was in a revision, through its effects, at the loudness of all notes."""
    remake = get_object_or_404(Remake.objects.of(request.user), pk=pk)
    revision = remake.revisions.filter(sha=sha).first()
    if revision is None or midi > 127:
        raise Http404
    opened = _part_of(revision.song, part)
    samples = OwnSample.objects.finder(remake.owner)
    caching = UNTIL_FOUND if gone(opened.sound, samples) else IMMUTABLE
    return flac_response(audition(opened.sound, opened.chain, midi, bpm=revision.song.bpm, samples=samples), caching)


@login_required
@require_safe
def shipped(request: HttpRequest, name: str) -> HttpResponse:
    """A shipped sound, to hear before it is taken, as FLAC."""
    entry = library.library().get(name)
    if entry is None:
        raise Http404
    midi, held_s = library.note_of(entry.role)
    # The shipped sounds may change with the next version.
    return flac_response(audition(entry.sound, (), midi, held_s), "private, max-age=3600")


@login_required
@require_safe
def saved(request: HttpRequest, pk: int) -> HttpResponse:
    """An own sound, to hear before it is taken, as FLAC."""
    own = get_object_or_404(SavedSound.objects.of(request.user), pk=pk)
    midi, held_s = library.note_of(own.role)
    return flac_response(audition(own.sound, (), midi, held_s, samples=OwnSample.objects.finder(request.user)), "private, no-cache")


@login_required
@require_POST
def bring_sample(request: HttpRequest) -> JsonResponse:
    """Takes a sample in: 201 with everything to choose from, or 400 with one sentence."""
    form = SampleForm(request.POST, request.FILES)
    if not form.is_valid():
        return JsonResponse({"error": form.errors["file"][0]}, status=400)
    try:
        OwnSample.keep(request.user, form.name, form.cleaned_data["file"])
    except OSError as error:
        full = error.errno == ENOSPC
        sentence = "The disk is full: free some space and add it again." if full else "The sample could not be stored."
        return JsonResponse({"error": sentence}, status=507)
    return JsonResponse(_browser(request), status=201)


@login_required
@require_safe
def loop_reading(request: HttpRequest, pk: int, part: str, sample: int) -> JsonResponse:
    """A sample's own tempo and key, and the edits that fit it to the song without and with its key."""
    _, revision = _current(request, pk)
    opened = _part_of(revision.song, part)
    own = get_object_or_404(OwnSample.objects.of(request.user), pk=sample)
    found = OwnSample.objects.finder(request.user)(own.sha)
    if found is None:
        raise Http404
    try:
        reading = measure_loop(found.audio)
        edits = [edit_json(fitted(revision.song, opened.id, reading, transposes)) for transposes in (False, True)]
    except ErsatzError as error:
        return JsonResponse({"error": str(error)}, status=400)
    said = f"{reading.bpm:.1f} BPM, {reading.beats} beats, {reading.key} ({reading.key_confidence:.0%} sure)"
    return JsonResponse({"said": said, "fits": edits[0], "fitsKey": edits[1], "key": str(revision.song.key)})


@login_required
@require_safe
def own_sample(request: HttpRequest, pk: int) -> HttpResponse:
    """The first seconds of a sample as it is, at the loudness of all notes."""
    own = get_object_or_404(OwnSample.objects.of(request.user), pk=pk)
    sound = Sound("sample", choices={"sample_plays": "while held"}, samples={"sample": own.sha})
    held_s = min(own.seconds, HEARD_S)
    return flac_response(audition(sound, (), 60, held_s, samples=OwnSample.objects.finder(request.user)), "private, no-cache")

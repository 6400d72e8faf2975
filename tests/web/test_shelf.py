"""Files come in, are refused with a sentence, go and come back."""

from dataclasses import replace

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from ersatz.core.edits.strips import SetStrip
from ersatz.studio.jobs import work
from ersatz.studio.models import Job, Reference, Remake


def upload(web, name, content):
    return web.post(reverse("upload"), {"file": SimpleUploadedFile(name, content)})


@pytest.mark.django_db(transaction=True)
def test_an_upload_is_stored_queued_and_surveyed(web, user, club_file, queued):
    answer = upload(web, "night_ferry.flac", club_file.read_bytes())
    assert answer.status_code == 201
    reference = Reference.objects.get(owner=user)
    assert reference.title == "night ferry"
    assert reference.audio_path.read_bytes() == club_file.read_bytes()
    assert queued == [answer.json()["job"]["id"]]
    assert b"waiting" in web.get(reverse("reference-row", args=[reference.pk])).content
    work.run(queued[0])
    reference.refresh_from_db()
    assert reference.survey.tempo.bpm == pytest.approx(126, abs=0.02)
    assert reference.listening_path.exists()
    row = web.get(reverse("reference-row", args=[reference.pk])).content.decode()
    assert "126" in row
    assert "Draft a remake" in row


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("empty.wav", b"", "empty"),
        ("letter.docx", b"dear producer", "doesn't look like audio"),
    ],
)
def test_what_is_no_audio_is_refused_before_it_is_stored(web, name, content, says):
    answer = upload(web, name, content)
    assert answer.status_code == 400
    assert says in answer.json()["error"]
    assert not Reference.objects.exists()


def test_a_file_over_the_limit_is_refused(web, settings):
    settings.MAX_UPLOAD_BYTES = 1000
    answer = upload(web, "long.wav", b"x" * 2000)
    assert answer.status_code == 400
    assert "larger than" in answer.json()["error"]


@pytest.mark.django_db(transaction=True)
def test_a_file_that_cant_be_read_leaves_a_sentence_and_no_file(web, queued):
    assert upload(web, "broken.wav", b"RIFF" + b"\x00" * 2000).status_code == 201
    work.run(queued[0])
    reference = Reference.objects.get()
    assert "“broken.wav” can't be read" in reference.problem
    assert not reference.folder.exists()
    page = web.get(reverse("shelf")).content.decode()
    assert "can&#x27;t be read" in page
    assert Job.objects.get().state == Job.State.FAILED


def test_delete_and_bring_back(web, reference):
    web.post(reverse("reference-delete", args=[reference.pk]))
    page = web.get(reverse("shelf")).content.decode()
    assert "was deleted" in page
    assert f'href="{reverse("survey", args=[reference.pk])}"' not in page
    assert web.get(reverse("survey", args=[reference.pk])).status_code == 404
    web.post(reverse("reference-restore", args=[reference.pk]))
    assert web.get(reverse("survey", args=[reference.pk])).status_code == 200


def test_a_deleted_remake_comes_back(web, remake):
    web.post(reverse("remake-delete", args=[remake.pk]))
    assert web.get(reverse("plan", args=[remake.pk])).status_code == 404
    web.post(reverse("remake-restore", args=[remake.pk]))
    assert web.get(reverse("plan", args=[remake.pk])).status_code == 200


def test_rename(web, reference):
    assert web.post(reverse("reference-rename", args=[reference.pk]), {"title": " Foghorn "}).json() == {"title": "Foghorn"}
    assert web.post(reverse("reference-rename", args=[reference.pk]), {"title": "  "}).status_code == 400


def test_search_and_sort(web, reference):
    assert b"Cold Pier" in web.get(reverse("shelf"), {"q": "pier"}).content
    assert b"Cold Pier" not in web.get(reverse("shelf"), {"q": "lighthouse"}).content
    for sort in ("newest", "title", "tempo", "key", "loudness", "nonsense"):
        assert web.get(reverse("shelf"), {"sort": sort}).status_code == 200


@pytest.mark.django_db(transaction=True)
def test_drafting_starts_a_remake_and_its_job(web, reference, queued):
    answer = web.post(reverse("draft", args=[reference.pk]), {"style": "grime"})
    remake = Remake.objects.get()
    assert answer.url == reverse("plan", args=[remake.pk])
    assert remake.style == "grime"
    assert Job.objects.get(pk=queued[0]).kind == Job.Kind.DRAFT
    # The draft stands at once and says that it is being matched.
    assert (remake.head, remake.revision.sentence) == (1, "Drafted from the reference")
    assert b"Being matched" in web.get(answer.url).content


@pytest.mark.django_db(transaction=True)
def test_another_draft_is_another_remake_in_the_style_that_is_chosen(web, remake, queued):
    page = web.get(reverse("plan", args=[remake.pk])).content.decode()
    assert f'action="{reverse("draft", args=[remake.reference_id])}"' in page and 'name="style"' in page
    web.post(reverse("draft", args=[remake.reference_id]), {"style": "grime"})
    web.post(reverse("draft", args=[remake.reference_id]))
    first, second, third = Remake.objects.order_by("pk")
    assert first.revision.sha == remake.revision.sha
    assert second.revision.song.style == "grime" and len({first.seed, second.seed, third.seed}) == 3

    def hook(one):
        return next(p for p in one.revision.song.parts if p.role == "lead").patterns["A"].notes

    assert hook(second) != hook(third)


@pytest.mark.django_db(transaction=True)
def test_what_is_changed_while_a_draft_is_matched_stays(web, reference, queued, monkeypatch):
    def quieter(draft, survey, cache, report):
        return replace(draft, parts=tuple(replace(p, gain_db=p.gain_db - 3) for p in draft.parts))

    monkeypatch.setattr(work, "match_song", quieter)
    web.post(reverse("draft", args=[reference.pk]))
    remake = Remake.objects.get()
    before = remake.revision.song
    remake.apply(SetStrip("bass", "gain_db", -20.0), 1)
    work.run(queued[0])
    remake.refresh_from_db()
    after = remake.revision
    assert (after.number, after.sentence) == (3, "Matched to the reference")
    assert after.song.part("bass").gain_db == -20.0
    assert after.song.part("kick").gain_db == before.part("kick").gain_db - 3
    # Taken back like any edit; matched again it changes nothing more.
    Job.objects.filter(pk=queued[0]).update(state=Job.State.QUEUED)
    work.run(queued[0])
    remake.refresh_from_db()
    assert remake.head == 3
    assert remake.step(-1).song.part("kick").gain_db == before.part("kick").gain_db


@pytest.mark.django_db(transaction=True)
def test_a_matching_that_was_cancelled_can_be_asked_for_again(web, reference, queued):
    plan = web.post(reverse("draft", args=[reference.pk])).url
    Job.objects.filter(pk=queued[0]).update(cancel=True)
    work.run(queued[0])
    assert b"Not matched." in web.get(plan).content
    assert web.post(reverse("redraft", args=[Remake.objects.get().pk])).url == plan
    assert len(queued) == 2
    assert b"Being matched" in web.get(plan).content


def test_without_a_steady_beat_drafting_asks_for_the_tempo(web, reference):
    data = reference.survey_json
    data["tempo"]["confidence"] = 0.1
    reference.survey_json = data
    reference.save()
    answer = web.post(reverse("draft", args=[reference.pk]), follow=True)
    assert b"A draft needs a tempo" in answer.content
    assert not Remake.objects.exists()


def test_titles_are_escaped(web, reference):
    reference.title = "<script>alert(1)</script>"
    reference.save()
    assert b"<script>alert" not in web.get(reverse("shelf")).content


def test_the_largest_file_is_what_the_settings_say(web, settings):
    settings.MAX_UPLOAD_BYTES = 7 * 1024 * 1024
    shelf = web.get(reverse("shelf")).content.decode()
    assert 'data-limit-mb="7"' in shelf and "up to 7 MB" in shelf
    assert "larger than 7 MB" in upload(web, "x.wav", bytes(settings.MAX_UPLOAD_BYTES + 1)).json()["error"]

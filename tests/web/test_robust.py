"""What is damaged, full, killed or not meant for us: said in a sentence, and nothing is lost."""

import os
import time
from datetime import timedelta
from errno import ENOSPC
from pathlib import Path

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import OperationalError
from django.test import Client
from django.urls import reverse
from django.utils import timezone

from bench.fuzz import run_case
from bench.fuzzing.cases import World
from ersatz.core.errors import Cancelled
from ersatz.studio import sweep
from ersatz.studio.jobs import work
from ersatz.studio.models import Job, OwnSample, Reference, Remake
from ersatz.studio.shared import edit as shared_edit
from ersatz.studio.shared import renders

pytestmark = pytest.mark.django_db(transaction=True)
PAGE = {"accept": "text/html,application/xhtml+xml"}


def edit(web, remake, revision=1, **fields):
    body = {"revision": revision, "edit": {"kind": "set_strip", "strip": "kick", "name": "gain_db", "value": -4.0, **fields}}
    return web.post(reverse("edit", args=[remake.pk]), body, content_type="application/json")


# Documents ------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("value", ["NaN", "-Infinity", "1e999", "9" * 6000, "9007199254740993", "[" * 100_000])
def test_numbers_that_no_document_may_hold_are_refused_and_nothing_is_kept(web, remake, value):
    for url in ("edit", "part-preview"):
        arguments = [remake.pk] if url == "edit" else [remake.pk, "lead"]
        moves = f'[{{"source": "lfo 1", "target": "pan", "amount": {value}}}]'
        body = f'{{"revision": 1, "edit": {{"kind": "set_modulations", "part": "lead", "modulations": {moves}}}}}'
        answer = web.post(reverse(url, args=arguments), body, content_type="application/json")
        assert answer.status_code == 400 and answer.json()["error"].endswith(".")
    assert remake.revisions.count() == 1
    assert web.get(reverse("plan", args=[remake.pk])).status_code == 200


def test_bounds_hold_at_every_door(web, remake):
    note = {"tick": 0, "ticks": 240, "midi": 60, "velocity": 0.9, "repeats": 2**40}
    answer = edit(web, remake, kind="write_notes", part="kick", pattern="A", bars=1, notes=[note])
    assert answer.status_code == 400 and "repeats" in answer.json()["error"]
    tracks = [{"name": "x", "role": "lead", "notes": [note]}]
    assert edit(web, remake, kind="import_arrangement", name="x", tracks=tracks).status_code == 400
    assert edit(web, remake, kind="several", said="x", edits=[{"kind": "several", "said": "x", "edits": []}]).status_code == 400


def test_an_edit_whose_song_cant_be_shown_is_not_kept(web, remake, monkeypatch):
    def broken(remake, revision, part):
        raise ValueError("can't be drawn")

    # What pages enter is entered by now.
    assert web.get(reverse("plan", args=[remake.pk])).status_code == 200
    monkeypatch.setitem(shared_edit._SHOWS, "plan", broken)
    assert edit(web, remake).status_code == 400
    remake.refresh_from_db()
    assert remake.head == 1 and remake.revisions.count() == 1


def test_a_version_that_cant_be_read_offers_the_one_before(web, remake, other):
    assert edit(web, remake).status_code == 200
    remake.revisions.filter(number=2).update(song_json={"schema": "ersatz.song/3", "bpm": None}, sha="damaged")
    for name in ("plan", "gap", "handover"):
        page = web.get(reverse(name, args=[remake.pk]), headers=PAGE)
        text = page.content.decode()
        assert page.status_code == 409 and "Version 2" in text and "Go back to version 1" in text
    assert web.get(reverse("shelf")).status_code == 200
    assert edit(web, remake, revision=2).status_code == 400
    assert web.post(reverse("recover", args=[remake.pk])).url == reverse("plan", args=[remake.pk])
    assert web.get(reverse("plan", args=[remake.pk])).status_code == 200
    stranger = Client()
    stranger.force_login(other)
    assert stranger.post(reverse("recover", args=[remake.pk])).status_code == 404


def test_a_survey_that_cant_be_read_can_be_made_again(web, reference, queued):
    Reference.objects.filter(pk=reference.pk).update(survey_json={"schema": "ersatz.survey/1"})
    assert "The survey can’t be read" in web.get(reverse("shelf")).content.decode()
    page = web.get(reverse("survey", args=[reference.pk]), headers=PAGE)
    assert page.status_code == 409 and "Survey again" in page.content.decode()
    web.post(reverse("resurvey", args=[reference.pk]))
    work.run(queued[-1])
    reference.refresh_from_db()
    assert reference.survey.tempo.bpm == pytest.approx(126, abs=0.05)


@pytest.mark.parametrize("seed", range(3))
def test_cases_that_nobody_meant(web, remake, reference, song, tmp_path, seed):
    world = World(song, web, remake.pk, reference.pk, tmp_path)
    problems = [problem for number in range(70) if (problem := run_case(world, number, 100 + seed)[2])]
    assert problems == []


# Addresses ------------------------------------------------------------------------------------------------------------


def test_an_unknown_address_gets_a_page_with_a_way_back_and_a_script_a_sentence(web):
    page = web.get("/nowhere/", headers=PAGE)
    assert page.status_code == 404 and "Back to the Shelf" in page.content.decode()
    assert web.get("/nowhere/", headers={"accept": "*/*"}).json()["error"].endswith(".")


@pytest.mark.parametrize(
    "address",
    ["/targets/new/?members=²", "/targets/new/?members=1", "/?q=%00",
    "/listen/remake/1/abc/" + "9" * 300 + "-" + "9" * 300 + ".flac",
     "/remakes/" + "9" * 6000 + "/", "/jobs/" + "9" * 30 + "/"],
)  # fmt: skip
def test_odd_addresses_are_no_fault_of_ours(web, remake, address):
    assert web.get(address).status_code < 500


def test_head_is_answered_like_get(web, remake, song):
    for address in (
        reverse("shelf"),
        reverse("plan", args=[remake.pk]),
        reverse("listen-remake", args=[remake.pk, song.sha(), 1, 1]),
    ):
        answer = web.head(address)
        assert answer.status_code == 200 and not b"".join(answer)


# Who comes in ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "meta",
    [{"REMOTE_ADDR": "192.168.1.7"}, {"REMOTE_ADDR": ""}, {"HTTP_X_FORWARDED_FOR": "127.0.0.1"},
    {"HTTP_FORWARDED": "for=1.2.3.4"},
     {"HTTP_VIA": "1.1 proxy"}, {"HTTP_X_REAL_IP": "127.0.0.1"}],
)  # fmt: skip
def test_without_accounts_only_this_machine_itself_gets_in_even_with_a_session(client, web, meta):
    assert web.get("/").status_code == 200
    assert web.get("/", **meta).status_code == 403
    assert Client().get("/", **meta).status_code == 403


def test_wrong_passwords_are_counted(client, user, settings):
    settings.ACCOUNTS = settings.AXES_ENABLED = True
    # Slow on purpose, and not what is counted.
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    user.set_password("rope-and-anchor-9")
    user.save()
    wrong = {"username": "local", "password": "wrong"}
    for _ in range(settings.AXES_FAILURE_LIMIT - 1):
        assert client.post(reverse("login"), wrong).status_code == 200
    assert client.post(reverse("login"), wrong, headers=PAGE).status_code == 429
    right = {**wrong, "password": "rope-and-anchor-9"}
    answer = client.post(reverse("login"), right, headers=PAGE)
    assert answer.status_code == 429 and "quarter of an hour" in answer.content.decode()


# A full disk ----------------------------------------------------------------------------------------------------------


def full(*args, **kwargs):
    raise OSError(ENOSPC, "No space left on device")


def database_full(*args, **kwargs):
    raise OperationalError("database or disk is full")


def test_an_upload_on_a_full_disk_is_refused_and_leaves_nothing(web, settings, monkeypatch, club_file):
    file = SimpleUploadedFile("club.flac", club_file.read_bytes())
    monkeypatch.setattr("ersatz.studio.shelf.views.os.replace", full)
    answer = web.post(reverse("upload"), {"file": file})
    assert answer.status_code == 507 and "disk is full" in answer.json()["error"]
    assert not Reference.objects.exists()
    assert [p for p in Path(settings.MEDIA_ROOT).rglob("*") if p.is_file()] == []


def test_a_row_that_isnt_kept_takes_its_file_with_it(web, settings, monkeypatch, club_file):
    monkeypatch.setattr("ersatz.studio.shelf.views.start_job", database_full)
    answer = web.post(reverse("upload"), {"file": SimpleUploadedFile("club.flac", club_file.read_bytes())})
    assert answer.status_code == 507
    assert not Reference.objects.exists() and not list((Path(settings.MEDIA_ROOT) / "references").glob("*"))


def test_an_edit_on_a_full_disk_gets_a_sentence(web, remake, monkeypatch):
    web.raise_request_exception = False
    monkeypatch.setattr(Remake, "apply", database_full)
    answer = edit(web, remake)
    assert answer.status_code == 507 and "disk is full" in answer.json()["error"]


def test_a_job_on_a_full_disk_ends_in_the_room_that_is_kept_for_it(reference, job_for, settings, tmp_path, monkeypatch):
    settings.HOME = tmp_path
    sweep.keep_reserve()
    reserve = tmp_path / "reserve"
    assert reserve.stat().st_size == sweep.RESERVE_BYTES
    job = job_for(Job.Kind.SURVEY, reference=reference)
    monkeypatch.setitem(work.WORK, Job.Kind.SURVEY, full)
    written = work._end

    def end(*arguments):
        # There is no room until the reserve is given up.
        if reserve.exists():
            database_full()
        written(*arguments)

    monkeypatch.setattr(work, "_end", end)
    work.run(job.pk)
    job.refresh_from_db()
    assert job.state == Job.State.FAILED and "disk is full" in job.message
    assert not reserve.exists()


# Jobs -----------------------------------------------------------------------------------------------------------------


def unsurveyed(reference):
    Reference.objects.filter(pk=reference.pk).update(survey_json=None, measured_json=None)
    reference.refresh_from_db()
    return reference


def cancelled(*args, **kwargs):
    raise Cancelled


def bug(*args, **kwargs):
    raise KeyError("a bug of ours")


@pytest.mark.parametrize(
    ("fault", "said"), [(cancelled, "The survey was cancelled."), (bug, "should not have"), (full, "disk is full")]
)
def test_a_survey_that_gave_nothing_keeps_the_file_and_can_be_made_again(web, reference, job_for, monkeypatch, queued, fault, said):
    job = job_for(Job.Kind.SURVEY, reference=unsurveyed(reference))
    with monkeypatch.context() as patched:
        patched.setattr(work, "survey_track", fault)
        work.run(job.pk)
    shelf = web.get(reverse("shelf")).content.decode()
    assert said in shelf and "Survey again" in shelf
    assert reference.has_audio
    web.post(reverse("resurvey", args=[reference.pk]))
    work.run(queued[-1])
    reference.refresh_from_db()
    assert reference.survey is not None and not reference.problem


def test_only_unusable_audio_is_thrown_away(web, reference, job_for):
    unsurveyed(reference).audio_path.write_bytes(b"no audio")
    work.run(job_for(Job.Kind.SURVEY, reference=reference).pk)
    shelf = web.get(reverse("shelf")).content.decode()
    assert "can&#x27;t be read as audio" in shelf and "Survey again" not in shelf
    assert not reference.folder.exists()


def test_a_survey_that_is_given_up_says_so_on_the_shelf(web, reference, job_for):
    job = job_for(Job.Kind.SURVEY, reference=unsurveyed(reference), state=Job.State.RUNNING, attempts=work.MAX_ATTEMPTS)
    work.take_up_orphans(all_running=True)
    job.refresh_from_db()
    assert job.state == Job.State.FAILED
    assert "given up" in web.get(reverse("shelf")).content.decode()


# Tidying --------------------------------------------------------------------------------------------------------------


def test_what_crashes_left_is_swept_and_what_is_under_way_isnt(reference, remake, settings, tmp_path):
    settings.FILE_UPLOAD_TEMP_DIR, settings.RENDER_CACHE = tmp_path / "uploads", tmp_path / "renders"
    media = Path(settings.MEDIA_ROOT)
    left = [tmp_path / "uploads" / "a.upload", media / "incoming" / "tmpx", media / "references" / "987654" / "original.wav",
            media / "exports" / "987654" / "x.wav", media / "exports" / str(remake.pk) / "part-1.wav",
            media / "samples" / "ab" / "tmpy.wav",
            tmp_path / "renders" / "ab" / "x.part", tmp_path / "renders" / "chunks" / "ab" / "y.part"]  # fmt: skip
    kept = [
        media / "exports" / str(remake.pk) / "whole.wav",
        media / "samples" / "ab" / "abc.wav",
        tmp_path / "renders" / "ab" / "x.npy",
    ]
    for path in (*left, *kept):
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"x")
    assert sweep.sweep() == 0
    assert all(p.exists() for p in (*left, *kept))
    sweep.sweep(time.time() + 1)
    assert not any(p.exists() for p in left)
    assert all(p.exists() for p in kept) and reference.has_audio


def test_what_was_deleted_long_ago_is_gone_with_its_files(user, reference, remake, settings, club_audio):
    sample = OwnSample.keep(user, "Gull", club_audio)
    stored = Path(settings.MEDIA_ROOT) / "samples" / sample.sha[:2] / f"{sample.sha}.wav"
    young, old = timezone.now() - sweep.KEPT + timedelta(hours=1), timezone.now() - sweep.KEPT - timedelta(hours=1)
    for row in (reference, sample):
        type(row).objects.filter(pk=row.pk).update(deleted_at=young)
    assert sweep.purge() == 0 and reference.folder.exists() and stored.exists()
    for row in (reference, sample):
        type(row).objects.filter(pk=row.pk).update(deleted_at=old)
    assert sweep.purge() == 3
    assert not reference.folder.exists() and not stored.exists() and not Remake.objects.exists()


# Listening ------------------------------------------------------------------------------------------------------------


def test_a_chunk_is_rendered_and_encoded_once(web, remake, song, monkeypatch):
    address = reverse("listen-remake", args=[remake.pk, song.sha(), 13, 14])
    first = web.get(address).getvalue()
    renders._chunks.cache_clear()
    monkeypatch.setattr(renders, "_encode", bug)
    assert web.get(address).getvalue() == first


def test_songs_of_others_stay_out_of_reach_however_warm(client, other, web, remake, song):
    address = reverse("listen-remake", args=[remake.pk, song.sha(), 1, 1])
    assert web.get(address).status_code == 200
    client.force_login(other)
    assert client.get(address).status_code == 404


def test_files_of_a_process_are_its_owners_alone(tmp_path):
    from ersatz.site.private import keep_private

    before = os.umask(0o022)
    try:
        (tmp_path / "ersatz.sqlite3").write_text("")
        keep_private(tmp_path)
        (tmp_path / "new").write_text("")
        assert {p.stat().st_mode & 0o077 for p in (tmp_path, *tmp_path.iterdir())} == {0}
    finally:
        os.umask(before)

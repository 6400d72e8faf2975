"""Edits with revisions, undo and redo, two writers; audio by bars; jobs that are cancelled, fail or lose their worker."""

import base64
import io
import json
import zlib
from datetime import timedelta
from types import SimpleNamespace

import numpy as np
import pytest
import soundfile
from django.urls import reverse
from django.utils import timezone

from ersatz.core.audio import file_sha256
from ersatz.core.edits import parse_edit
from ersatz.core.edits.strips import SetStrip
from ersatz.core.errors import ErsatzError
from ersatz.core.mixdown.render import Mixdown
from ersatz.studio.jobs import work
from ersatz.studio.models import Job, Measurement, Remake
from ersatz.studio.shared.variants import MOST_CODE, variant_of
from tests.web.addresses import edits


def edit(web, remake, revision, **fields):
    return web.post(
        reverse("edit", args=[remake.pk]), json.dumps({"revision": revision, "edit": fields}), content_type="application/json"
    )


def switch(on):
    return {"kind": "switch_part", "part": "kick", "section": "s1", "on": on}


def test_an_edit_answers_with_what_the_page_that_asks_shows(web, remake):
    body = {"revision": 1, "edit": switch(False)}
    for show, part, has in (
        ("plan", "", "transitions"),
        ("balance", "", "curves"),
        ("sound", "pad", "sound"),
        ("notes", "bass", "rows"),
    ):
        answer = web.post(edits("edit", remake, show, part), json.dumps(body), content_type="application/json").json()
        assert has in answer and answer["revision"] == 2
        assert has in web.post(edits("undo", remake, show, part)).json()
    for show, part in (("nothing", ""), ("sound", "nobody")):
        assert web.post(edits("edit", remake, show, part), json.dumps(body), content_type="application/json").status_code == 404
    remake.refresh_from_db()
    assert remake.revision.number == 1


def test_an_edit_makes_a_revision_that_can_be_undone_and_redone(web, remake):
    first = remake.revision.sha
    state = edit(web, remake, 1, **switch(False)).json()
    assert state["revision"] == 2
    assert state["sha"] != first
    assert state["undo"].startswith("Kick off in")
    undone = web.post(reverse("undo", args=[remake.pk])).json()
    assert undone["sha"] == first
    assert undone["redo"] == state["undo"]
    assert web.post(reverse("redo", args=[remake.pk])).json()["sha"] == state["sha"]


def test_the_plan_is_changed_section_by_section_and_adopted_as_a_whole(web, remake):
    planned = [{"label": s.label, "bars": s.bars} for s in remake.revision.song.sections]
    state = edit(web, remake, 1, kind="resize_section", section="s1", bars=12).json()
    assert (state["sections"][0]["bars"], state["sections"][1]["start"]) == (12, 13)
    assert state["bars"] == sum(s["bars"] for s in state["sections"])
    state = edit(web, remake, 2, kind="move_section", section="s1", place=1).json()
    assert state["sections"][1]["id"] == "s1"
    state = edit(web, remake, 3, kind="adopt_plan", plan=planned).json()
    assert [{"label": s["label"], "bars": s["bars"]} for s in state["sections"]] == planned
    refused = edit(web, remake, 4, kind="resize_section", section="s1", bars=0)
    assert refused.status_code == 400
    assert "1 to 128 bars" in refused.json()["error"]


def test_the_history_can_be_gone_back_to_and_forward_again(web, remake, client, other):
    first = remake.revision.sha
    edit(web, remake, 1, **switch(False))
    latest = edit(web, remake, 2, kind="set_strip", strip="bass", name="gain_db", value=-3.0).json()
    back = web.post(reverse("return-to", args=[remake.pk, 1])).json()
    assert (back["revision"], back["sha"]) == (1, first)
    # What came after is still there, newest first.
    assert [number for number, _ in back["history"]] == [3, 2, 1]
    assert back["redo"].startswith("Kick off in")
    assert web.post(reverse("return-to", args=[remake.pk, 3])).json()["sha"] == latest["sha"]
    assert web.post(reverse("return-to", args=[remake.pk, 99])).json()["revision"] == 3
    client.force_login(other)
    assert client.post(reverse("return-to", args=[remake.pk, 1])).status_code == 404


def test_undo_stops_at_the_draft(web, remake):
    for _ in range(3):
        state = web.post(reverse("undo", args=[remake.pk])).json()
    assert state["revision"] == 1
    assert state["undo"] is None


def test_an_edit_after_undo_drops_what_was_undone(web, remake):
    edit(web, remake, 1, **switch(False))
    web.post(reverse("undo", args=[remake.pk]))
    state = edit(web, remake, 1, kind="set_strip", strip="bass", name="gain_db", value=-3.0).json()
    assert state["revision"] == 2
    assert state["redo"] is None
    assert [r.number for r in remake.revisions.all()] == [1, 2]


def test_two_windows_never_overwrite_each_other_silently(web, remake):
    edit(web, remake, 1, **switch(False))
    late = edit(web, remake, 1, kind="set_strip", strip="bass", name="gain_db", value=-3.0)
    assert late.status_code == 409
    assert "Kick off in" in late.json()["error"]
    assert late.json()["state"]["revision"] == 2
    assert Remake.objects.get(pk=remake.pk).head == 2


@pytest.mark.parametrize(
    "body",
    ["", "[]", '{"revision": 1}', '{"revision": "x", "edit": {}}', '{"revision": 1, "edit": {"kind": "explode"}}',
     '{"revision": 1, "edit": {"kind": "set_strip", "strip": "kick", "name": "gain_db", "value": 500}}'],
)  # fmt: skip
def test_edits_that_cant_be_read_get_a_sentence(web, remake, body):
    answer = web.post(reverse("edit", args=[remake.pk]), body, content_type="application/json")
    assert answer.status_code == 400
    assert answer.json()["error"].endswith(".")
    assert remake.revisions.count() == 1


def flac(answer):
    assert answer.status_code == 200
    assert "immutable" in answer["Cache-Control"]
    return soundfile.read(io.BytesIO(answer.getvalue()), dtype="float32", always_2d=True)[0].T


def test_bars_of_the_remake_are_the_mixdowns_samples(web, remake, song):
    got = flac(web.get(reverse("listen-remake", args=[remake.pk, song.sha(), 9, 10])))
    mixdown = Mixdown(song)
    start, stop = mixdown.bar_range(9, 10)
    np.testing.assert_allclose(got, mixdown.samples(start, stop), atol=2 / 32768)


def test_chunks_of_the_reference_join_without_a_seam(web, reference, club_audio):
    key = reference.listening_key(reference.survey)
    parts = [flac(web.get(reverse("listen-reference", args=[reference.pk, key, a, a + 3]))) for a in (1, 5)]
    joined = np.concatenate(parts, axis=1)
    start = reference.survey.tempo.grid.sample_of_bar(1, 44_100)
    np.testing.assert_allclose(joined, club_audio.samples[:, start : start + joined.shape[1]], atol=2 / 32768)


def test_bars_on_the_grid_before_a_correction_are_still_to_be_had(web, reference, queued):
    """A page hears of the grid's new address a moment after the server: what it asks for meanwhile plays on."""

    def bars(key):
        return flac(web.get(reverse("listen-reference", args=[reference.pk, key, 9, 10])))

    reference.survey_json["source"]["sha256"] = file_sha256(reference.audio_path)
    reference.measured_json = reference.survey_json
    reference.save()
    keys = [reference.listening_key(reference.survey)]
    before = bars(keys[0])
    for _ in range(2):
        web.post(reverse("correct", args=[reference.pk]), {"what": "shift", "ms": "5"})
        reference.refresh_from_db()
        keys.append(reference.listening_key(reference.survey))
    assert len(set(keys)) == 3
    later = round(0.005 * 44_100)
    for measured in (False, True):
        if measured:
            work.run(queued[-1])
        np.testing.assert_array_equal(bars(keys[0]), before)
        np.testing.assert_allclose(bars(keys[1])[:, :-later], before[:, later:], atol=2 / 32768)


def test_audio_has_no_address_outside_its_song(web, remake, reference, song):
    for first, last in ((0, 4), (5, 4), (1, 400)):
        assert web.get(f"/listen/remake/{remake.pk}/{song.sha()}/{first}-{last}.flac").status_code == 404
    assert web.get(reverse("listen-remake", args=[remake.pk, "0" * 24, 1, 4])).status_code == 404
    assert web.get(reverse("listen-reference", args=[reference.pk, "0" * 24, 1, 4])).status_code == 404


def test_a_measurement_follows_the_song(web, remake, job_for):
    revision = remake.apply(SetStrip("bass", "gain_db", -20.0), 1)
    job = job_for(Job.Kind.MEASURE, remake=remake)
    work.run(job.pk)
    job.refresh_from_db()
    assert (job.state, job.message) == (Job.State.DONE, "")
    assert Measurement.objects.filter(remake=remake, sha=revision.sha).count() == 1


@pytest.mark.parametrize(
    ("kind", "head"), [("midi", b"MThd"), ("flac", b"fLaC"), ("wav", b"RIFF"), ("ogg", b"OggS"), ("stems", b"PK")]
)
def test_exports_are_made_and_downloaded(web, remake, job_for, kind, head):
    url = reverse("download", args=[remake.pk, remake.revision.sha, kind])
    assert web.get(url).status_code == 404
    work.run(job_for(Job.Kind.EXPORT, remake=remake, options={"format": kind}).pk)
    answer = web.get(url)
    assert b"".join(answer.streaming_content).startswith(head)
    assert "Lighthouse Shift" in answer["Content-Disposition"]


def test_an_mp3_is_the_song(web, remake, job_for):
    work.run(job_for(Job.Kind.EXPORT, remake=remake, options={"format": "mp3"}).pk)
    answer = web.get(reverse("download", args=[remake.pk, remake.revision.sha, "mp3"]))
    audio, rate = soundfile.read(io.BytesIO(b"".join(answer.streaming_content)))
    song = remake.revision.song
    assert rate == 44_100 and len(audio) / rate >= song.grid.seconds_of_bar(song.bars + 1) - 0.1


def test_exports_in_unknown_formats_are_refused(web, remake):
    assert web.post(reverse("export", args=[remake.pk]), {"format": "tape"}).status_code == 400


def test_a_cancelled_job_stops_where_it_is(web, remake, job_for):
    job = job_for(Job.Kind.EXPORT, remake=remake, options={"format": "wav"}, state=Job.State.QUEUED)
    Job.objects.filter(pk=job.pk).update(cancel=True)
    work.run(job.pk)
    job.refresh_from_db()
    assert job.state == Job.State.CANCELLED


def test_cancelling_a_waiting_job_keeps_it_from_running(web, reference, job_for):
    job = job_for(Job.Kind.SURVEY, reference=reference)
    assert web.post(reverse("job-cancel", args=[job.pk])).json()["state"] == "cancelled"
    work.run(job.pk)
    job.refresh_from_db()
    assert job.attempts == 0


def test_a_job_runs_once_however_often_it_is_sent(reference, job_for):
    job = job_for(Job.Kind.SURVEY, reference=reference)
    work.run(job.pk)
    work.run(job.pk)
    job.refresh_from_db()
    assert job.state == Job.State.DONE


def test_what_was_asked_for_goes_before_what_pages_start_by_themselves(reference, remake, job_for, monkeypatch):
    done = []
    for kind in (Job.Kind.SURVEY, Job.Kind.MOVES, Job.Kind.EXPORT):
        monkeypatch.setitem(work.WORK, kind, lambda job, report: done.append(job.kind))
    for kind, about in (
        (Job.Kind.MOVES, {"remake": remake}),
        (Job.Kind.EXPORT, {"remake": remake}),
        (Job.Kind.SURVEY, {"reference": reference}),
    ):
        job_for(kind, **about)
    for _ in range(4):
        work.run_waiting()
    assert done == [Job.Kind.EXPORT, Job.Kind.SURVEY, Job.Kind.MOVES]


@pytest.mark.django_db(transaction=True)
def test_moves_that_are_tried_give_way_to_an_export(remake, job_for, queued, monkeypatch):
    done = []

    def tried(job, report):
        report("trying moves", 0.1)
        # Somebody leaves the page and asks for a file.
        if not done:
            job_for(Job.Kind.EXPORT, remake=remake)
        monkeypatch.setattr(work, "WRITE_EVERY_S", 0)
        report("trying moves", 0.2)
        done.append(job.kind)

    monkeypatch.setitem(work.WORK, Job.Kind.MOVES, tried)
    monkeypatch.setitem(work.WORK, Job.Kind.EXPORT, lambda job, report: (report("mixdown", 0.5), done.append(job.kind)))
    moves = job_for(Job.Kind.MOVES, remake=remake)
    work.run_waiting()
    moves.refresh_from_db()
    assert (moves.state, moves.attempts, queued) == (Job.State.QUEUED, 0, [moves.pk])
    work.run_waiting()
    work.run_waiting()
    moves.refresh_from_db()
    assert done == [Job.Kind.EXPORT, Job.Kind.MOVES] and moves.state == Job.State.DONE


def test_only_a_crash_of_its_worker_counts_against_a_job(reference, job_for):
    job = job_for(Job.Kind.SURVEY, reference=reference, state=Job.State.RUNNING)
    for crashed, attempts in ((False, 0), (True, 1), (False, 1), (True, 2), (False, 2)):
        Job.objects.filter(pk=job.pk).update(state=Job.State.RUNNING)
        assert work.take_up_orphans(all_running=True, crashed=crashed) == [job.pk]
        job.refresh_from_db()
        assert job.attempts == attempts
    Job.objects.filter(pk=job.pk).update(state=Job.State.RUNNING)
    assert work.take_up_orphans(all_running=True, crashed=True) == []


def test_a_job_whose_worker_died_is_taken_up_again(reference, job_for):
    running = {"reference": reference, "state": Job.State.RUNNING}
    stale = job_for(Job.Kind.SURVEY, heartbeat=timezone.now() - timedelta(minutes=5), **running)
    alive = job_for(Job.Kind.SURVEY, heartbeat=timezone.now(), **running)
    assert work.take_up_orphans(all_running=False) == [stale.pk]
    assert set(work.take_up_orphans(all_running=True)) == {stale.pk, alive.pk}
    work.run(stale.pk)
    stale.refresh_from_db()
    assert stale.state == Job.State.DONE


def test_a_job_that_a_stop_cuts_off_has_not_failed(monkeypatch, reference, job_for):
    def cut_off(*_):
        raise RuntimeError("cannot schedule new futures after interpreter shutdown")

    monkeypatch.setitem(work.WORK, Job.Kind.SURVEY, cut_off)
    ended, cut = job_for(Job.Kind.SURVEY, reference=reference), job_for(Job.Kind.SURVEY, reference=reference)
    work.run(ended.pk)
    monkeypatch.setattr(work.threading, "main_thread", lambda: SimpleNamespace(is_alive=lambda: False))
    work.run(cut.pk)
    ended.refresh_from_db()
    assert ended.state == Job.State.FAILED
    assert work.take_up_orphans(all_running=True) == [cut.pk]


def test_a_job_that_kills_its_worker_is_given_up(reference, job_for):
    job = job_for(Job.Kind.SURVEY, reference=reference, state=Job.State.RUNNING, attempts=work.MAX_ATTEMPTS)
    assert work.take_up_orphans(all_running=True) == []
    job.refresh_from_db()
    assert job.state == Job.State.FAILED
    assert job.message


def test_a_full_disk_is_said(monkeypatch, reference, job_for):
    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setitem(work.WORK, Job.Kind.SURVEY, full)
    job = job_for(Job.Kind.SURVEY, reference=reference)
    work.run(job.pk)
    job.refresh_from_db()
    assert "disk is full" in job.message
    reference.refresh_from_db()
    assert reference.survey_json


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize(
    ("fields", "status"),
    [({"what": "tempo", "bpm": "63"}, 202), ({"what": "tempo", "bpm": "fast"}, 400), ({"what": "tempo", "bpm": "9999"}, 400),
     ({"what": "shift", "beats": "1"}, 202), ({"what": "key", "tonic": "D", "mode": "minor"}, 202),
     ({"what": "key", "tonic": "H", "mode": "minor"}, 400), ({"what": "everything"}, 400)],
)  # fmt: skip
def test_corrections_are_kept_apart_and_surveyed(web, reference, queued, fields, status):
    answer = web.post(reverse("correct", args=[reference.pk]), fields)
    assert answer.status_code == status
    reference.refresh_from_db()
    assert bool(reference.corrections) == (status == 202)
    assert len(queued) == (1 if status == 202 else 0)


@pytest.mark.django_db(transaction=True)
def test_a_corrected_tempo_reaches_the_survey_and_can_be_taken_back(web, reference, queued):
    web.post(reverse("correct", args=[reference.pk]), {"what": "tempo", "bpm": "63"})
    work.run(queued[-1])
    reference.refresh_from_db()
    assert reference.survey.tempo.bpm == 63
    web.post(reverse("correct", args=[reference.pk]), {"what": "measured"})
    work.run(queued[-1])
    reference.refresh_from_db()
    assert reference.survey.tempo.bpm == pytest.approx(126, abs=0.02)


def deflated(body) -> str:
    packer = zlib.compressobj(wbits=-zlib.MAX_WBITS)
    packed = packer.compress(json.dumps(body).encode()) + packer.flush()
    return "z-" + base64.urlsafe_b64encode(packed).decode().rstrip("=")


def test_a_long_edit_is_heard_from_a_deflated_code(song):
    target = {"strip": "bass", "device": "fader", "param": "gain_db"}
    points = [{"tick": 960 * k, "value": -6.0 - k % 3, "curve": 0.0} for k in range(300)]
    edit = {"kind": "set_automation", "target": target, "points": points}
    code = deflated({"edit": edit})
    assert len(code) < MOST_CODE < len(json.dumps(edit))
    assert variant_of(code, song, None).song == parse_edit(edit).apply(song)


@pytest.mark.parametrize(
    "code", ["z-", "z-AAAA", "z-" + "A" * 4000, deflated({"edit": {"kind": "rename", "title": "x" * 200_000}})]
)
def test_a_deflated_code_that_cant_be_read_or_is_a_flood_is_refused(song, code):
    with pytest.raises(ErsatzError):
        variant_of(code, song, None)

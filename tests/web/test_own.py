"""Your own on the Gap page: what is taken over is measured once for a song, and a take of it is an edit like any other."""

from __future__ import annotations

import json
from dataclasses import replace

import pytest
from django.urls import reverse

from ersatz.cli import main as ersatz
from ersatz.core.audio import Audio, write_audio
from ersatz.core.mixdown.render import RATE_HZ
from ersatz.core.own import hear
from ersatz.studio.jobs import work
from ersatz.studio.models import Job, Measurement, Reference, Remake
from ersatz.studio.shared.own import heard_of
from tests.tunes import TUNE, playing, recording, survey_of_recording
from tests.web.addresses import edits


@pytest.fixture
def tune(user, club_survey) -> Reference:
    """A reference with a tune."""
    survey, audio = survey_of_recording(club_survey).to_json(), recording(TUNE)
    made = Reference.objects.create(
        owner=user, title="A tune", file_name="tune.wav", stored_name="original.wav", survey_json=survey
    )
    made.folder.mkdir(parents=True)
    write_audio(made.audio_path, audio)
    write_audio(made.listening_path, Audio(audio.samples, RATE_HZ))
    return made


@pytest.fixture
def copy(user, tune, song, club_survey) -> Remake:
    """A remake whose lead is the reference's, three semitones higher."""
    made = Remake.objects.create(owner=user, reference=tune, title="The same again")
    copied = playing(song, "lead", [(step, midi + 3) for step, midi in TUNE])
    made.start(copied, "Drafted from the reference")
    Measurement.objects.create(remake=made, sha=copied.sha(), survey_json=club_survey.to_json())
    return made


def measured(web, remake):
    job = web.post(reverse("gap-own", args=[remake.pk])).json()["job"]
    work.run(job["id"])
    return web.get(job["url"]).json()


def facet(job, name):
    return next(f for f in job["own"]["facets"] if f["name"] == name)


def test_a_copy_is_told_from_a_draft_and_a_take_of_it_is_applied(web, remake, copy):
    draft = measured(web, remake)
    assert draft["state"] == "done" and [f["name"] for f in draft["own"]["facets"]][:3] == ["Hook", "Bass line", "Chords"]
    assert facet(draft, "Hook")["share"] < 0.1 and facet(draft, "Chords")["share"] < 0.1
    found = measured(web, copy)
    assert facet(found, "Hook")["share"] == 1
    assert {p["semitones"] for p in facet(found, "Hook")["passages"]} == {-3}
    takes = next(v for v in found["varied"] if v["facet"] == "Hook")["takes"]
    assert len(takes) == 3 and takes[-1]["share"] < 0.5
    body = {"revision": copy.revision.number, "edit": takes[-1]["edit"]}
    assert web.post(edits("edit", copy, "gap"), body, "application/json").json()["undo"].endswith("written anew")
    copy.refresh_from_db()
    assert facet(measured(web, copy), "Hook")["share"] == takes[-1]["share"]


def test_it_is_measured_once_for_a_song_and_the_notes_heard_once_for_a_recording(web, remake, reference, club_survey, club_audio):
    first = web.post(reverse("gap-own", args=[remake.pk])).json()["job"]
    assert web.post(reverse("gap-own", args=[remake.pk])).json()["job"]["id"] == first["id"]
    work.run(first["id"])
    known = web.post(reverse("gap-own", args=[remake.pk])).json()["job"]
    assert (known["id"], known["state"]) == (first["id"], "done") and known["own"]
    kept = list(reference.folder.glob("notes-*.npz"))
    assert len(kept) == 1
    again, fresh = heard_of(reference, club_survey), hear(club_audio, club_survey.tempo.grid, club_survey.tempo.swing_percent)
    assert abs(again.begins - fresh.begins).max() < 1e-3 and abs(again.sounds - fresh.sounds).max() < 1e-3
    # Another grid cuts other 16ths.
    other = replace(club_survey, tempo=replace(club_survey.tempo, bpm=club_survey.tempo.bpm / 2))
    heard_of(reference, other)
    assert len(list(reference.folder.glob("notes-*.npz"))) == 2


def test_handover_names_what_is_the_references(web, remake, copy):
    for one, said in ((remake, "nothing taken over"), (copy, "hook 1.00 of the reference")):
        address = reverse("handover", args=[one.pk])
        first = web.get(address)
        assert all(check["name"] != "Your own" for check in first.context["checks"])
        job = Job.objects.get(remake=one, kind=Job.Kind.OWN)
        web.get(address)
        assert Job.objects.filter(remake=one, kind=Job.Kind.OWN).count() == 1
        work.run(job.pk)
        check = next(c for c in web.get(address).context["checks"] if c["name"] == "Your own")
        assert (check["value"], check["ok"]) == (said, one is remake)


def test_without_a_recording_it_is_not_offered(web, remake, reference):
    reference.audio_path.unlink()
    answer = web.post(reverse("gap-own", args=[remake.pk]))
    assert answer.status_code == 400 and "no recording" in answer.json()["error"]
    assert 'id="own"' not in web.get(reverse("gap", args=[remake.pk])).content.decode()
    assert not Job.objects.filter(kind=Job.Kind.OWN).exists()


def test_nobody_measures_the_song_of_another(web, remake, other):
    Remake.objects.filter(pk=remake.pk).update(owner=other)
    assert web.post(reverse("gap-own", args=[remake.pk])).status_code == 404


def test_the_command_says_the_same(web, copy, tune, tmp_path, capsys):
    song, survey, out = tmp_path / "song.json", tmp_path / "survey.json", tmp_path / "own.json"
    song.write_text(json.dumps(copy.revision.song.to_json()))
    survey.write_text(json.dumps(tune.survey_json))
    assert ersatz(["own", str(tune.audio_path), str(song), "--survey", str(survey), "--json", str(out)]) == 0
    told = json.loads(out.read_text())
    assert told["schema"] == "ersatz.own/1" and told["facets"] == measured(web, copy)["own"]["facets"]
    assert "Hook" in capsys.readouterr().err

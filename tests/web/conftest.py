"""A signed-in client on a database of its own, with a surveyed reference and a drafted remake made without waiting for jobs."""

from __future__ import annotations

import json
import shutil

import pytest
from django.contrib.auth import get_user_model

from ersatz.core.audio import Audio, write_audio
from ersatz.core.mixdown.render import RATE_HZ
from ersatz.studio.models import Job, Measurement, Reference, Remake


@pytest.fixture(autouse=True)
def media(settings, tmp_path):
    settings.MEDIA_ROOT = tmp_path / "media"


@pytest.fixture(autouse=True)
def queued(monkeypatch):
    """Jobs are written down instead of being sent to a worker; tests run them by hand."""
    sent: list[int] = []
    monkeypatch.setattr("ersatz.studio.tasks.run_job", sent.append)
    return sent


@pytest.fixture
def user(db):
    return get_user_model().objects.create_user("local")


@pytest.fixture
def other(db):
    return get_user_model().objects.create_user("stowaway")


@pytest.fixture
def web(client, user):
    client.force_login(user)
    return client


@pytest.fixture
def reference(user, club_file, club_audio, club_survey) -> Reference:
    made = Reference.objects.create(
        owner=user, title="Cold Pier", file_name="club.flac", stored_name="original.flac", survey_json=club_survey.to_json()
    )
    made.folder.mkdir(parents=True)
    shutil.copyfile(club_file, made.audio_path)
    write_audio(made.listening_path, Audio(club_audio.samples, RATE_HZ))
    return made


@pytest.fixture
def remake(user, reference, song, club_survey) -> Remake:
    made = Remake.objects.create(owner=user, reference=reference, title=song.title)
    made.start(song, "Drafted from the reference")
    Measurement.objects.create(remake=made, sha=song.sha(), survey_json=club_survey.to_json())
    return made


def drawing(answer) -> dict:
    """What a page draws."""
    text = answer.content.decode()
    return json.loads(text.split('<script id="drawing" type="application/json">')[1].split("</script>")[0])


@pytest.fixture
def job_for(user):
    def make(kind: str, **which) -> Job:
        return Job.objects.create(owner=user, kind=kind, **which)

    return make

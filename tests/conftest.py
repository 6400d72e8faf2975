"""Shared fixtures. Everything the application writes goes to a temporary home."""

from __future__ import annotations

import os
import tempfile

os.environ["ERSATZ_HOME"] = tempfile.mkdtemp(prefix="ersatz-test-")

import pytest
from hypothesis import settings

from ersatz.core.audio import Audio, write_audio
from ersatz.core.draft import draft_song
from ersatz.core.survey import survey_audio
from ersatz.core.survey.document import Source
from tests.signals import RATE, club_track

# No test judges speed: a first run compiles, and machines differ.
settings.register_profile("ersatz", deadline=None)
settings.load_profile("ersatz")


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items):
    """What the tests of a file share is made once: a file is one process's. So are all that drive the browser: they share one
    application."""
    for item in items:
        group = "browser" if item.get_closest_marker("browser") else item.nodeid.split("::")[0]
        item.add_marker(pytest.mark.xdist_group(group))


@pytest.fixture(scope="session")
def club_audio() -> Audio:
    return Audio(club_track(), RATE)


@pytest.fixture(scope="session")
def club_survey(club_audio):
    return survey_audio(club_audio, Source("club.wav", club_audio.duration_s, RATE, 2, "0" * 64))


@pytest.fixture(scope="session")
def club_file(club_audio, tmp_path_factory):
    path = tmp_path_factory.mktemp("audio") / "club.flac"
    write_audio(path, club_audio)
    return path


@pytest.fixture(scope="session")
def song(club_survey):
    """An unmatched draft, quick to make, of as few parts as drafts have."""
    return draft_song(club_survey, seed=3, title="Lighthouse Shift", energy=-1)

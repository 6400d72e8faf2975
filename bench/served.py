"""A song in an application of its own, and a browser in front of it: for what is measured on pages."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any

from demo.references import write_reference
from ersatz.core.song.document import Song
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Survey

FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync",
         "--no-first-run", "--autoplay-policy=no-user-gesture-required"]  # fmt: skip
PORT = 8764
#: Bars of a piece of audio as the player fetches it (track.js).
CHUNK_BARS = 2


@cache
def reference_survey() -> Survey:
    """Of the demo reference that songs are held against here."""
    with tempfile.TemporaryDirectory() as folder:
        return survey_file(write_reference(Path(folder), "Cold Harbour Relay"))


@contextmanager
def opened(song: Song) -> Iterator[tuple[Any, str]]:
    """A page of a browser, and the address of the remake that holds the song."""
    from playwright.sync_api import sync_playwright

    with tempfile.TemporaryDirectory() as home:
        os.environ["ERSATZ_HOME"] = home
        pk = _prepared(song)
        server = subprocess.Popen(
            [sys.executable, "-m", "ersatz.site.serve", "--port", str(PORT)], stdout=subprocess.PIPE, text=True,
            env={**os.environ, "PYTHONUNBUFFERED": "1"},
        )  # fmt: skip
        assert server.stdout is not None
        try:
            next(line for line in server.stdout if "is running" in line)
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
                context = browser.new_context(viewport={"width": 1280, "height": 800}, bypass_csp=True)
                yield context.new_page(), f"http://127.0.0.1:{PORT}/remakes/{pk}/"
                browser.close()
        finally:
            server.terminate()
            server.wait(20)


def _prepared(song: Song) -> int:
    """The song in a database of its own, as a remake of a demo reference."""
    os.environ["DJANGO_SETTINGS_MODULE"] = "ersatz.site.settings"
    import django

    django.setup()
    from django.contrib.auth import get_user_model
    from django.core.management import call_command

    from ersatz.studio.middleware import LOCAL_USER
    from ersatz.studio.models import Reference, Remake

    call_command("migrate", verbosity=0)
    user, _ = get_user_model().objects.get_or_create(username=LOCAL_USER)
    survey = reference_survey()
    reference = Reference.objects.create(
        owner=user, title="Bench", file_name="b.wav", stored_name="b.wav", survey_json=survey.to_json()
    )
    remake = Remake.objects.create(owner=user, reference=reference, title="Bench")
    remake.start(song, "Made for measuring")
    return remake.pk

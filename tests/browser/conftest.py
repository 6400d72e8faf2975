"""The application as people run it, web server and worker together, and a browser in front of it."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import urllib.request
from pathlib import Path

import pytest
from playwright.sync_api import sync_playwright

from ersatz.core.audio import Audio, write_audio
from tests.signals import RATE, club_track

FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync",
         "--no-first-run", "--autoplay-policy=no-user-gesture-required"]  # fmt: skip
#: Freely licensed game music in Debian's archive: a real track that nobody here made.
PACKAGE, INSIDE = "gunroar-data", "usr/share/games/gunroar/sounds/musics/gr1.ogg"


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


class Server:
    """`python -m ersatz.site.serve` on a home of its own; may be killed and started again on the same data."""

    def __init__(self, home: Path):
        self.home, self.port = home, _free_port()
        self.address = f"http://127.0.0.1:{self.port}"
        self.process: subprocess.Popen | None = None

    def start(self) -> None:
        environment = {**os.environ, "ERSATZ_HOME": str(self.home), "PYTHONUNBUFFERED": "1"}
        environment.pop("DJANGO_SETTINGS_MODULE", None)
        self.process = subprocess.Popen(
            [sys.executable, "-m", "ersatz.site.serve", "--port", str(self.port)],
            env=environment, stdout=subprocess.PIPE, text=True, start_new_session=True,
        )  # fmt: skip
        assert self.process.stdout is not None
        for line in self.process.stdout:
            if "is running" in line:
                return
        raise AssertionError("the server did not start")

    def stop(self) -> None:
        if self.process and self.process.poll() is None:
            self.process.send_signal(signal.SIGINT)
            self.process.wait(15)

    def worker_pids(self) -> list[int]:
        found = subprocess.run(
            ["pgrep", "-P", str(self.process.pid), "-f", "run_huey"], capture_output=True, text=True, check=False
        )
        return [int(pid) for pid in found.stdout.split()]

    def answers(self) -> bool:
        try:
            return urllib.request.urlopen(self.address, timeout=2).status == 200
        except OSError:
            return False


@pytest.fixture
def server(tmp_path):
    running = Server(tmp_path / "home")
    running.start()
    yield running
    running.stop()


@pytest.fixture(scope="session")
def chromium():
    path = shutil.which("chromium")
    assert path, "Debian's chromium is needed: ./run test installs it"
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=path, args=FLAGS)
        yield browser
        browser.close()


@pytest.fixture
def page(chromium, server):
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True, base_url=server.address)
    opened = context.new_page()
    problems: list[str] = []
    opened.on("pageerror", lambda error: problems.append(str(error)))
    opened.on("console", lambda message: problems.append(message.text) if message.type == "error" else None)
    opened.problems = problems
    yield opened
    context.close()


@pytest.fixture(scope="session")
def real_track(tmp_path_factory) -> Path:
    """A track from Debian's archive; where the archive can't be reached, one made from formulas."""
    folder = tmp_path_factory.mktemp("real")
    done = subprocess.run(
        f"apt-get download -qq {PACKAGE} && dpkg-deb -x {PACKAGE}_*.deb .", shell=True, cwd=folder, capture_output=True, check=False
    )
    found = folder / INSIDE
    if done.returncode == 0 and found.exists():
        return found
    matches = sorted(folder.rglob("gr1.ogg"))
    if matches:
        return matches[0]
    made = folder / "made.flac"
    write_audio(made, Audio(club_track(128, bars=24), RATE))
    return made

"""The application as people run it, web server and worker together, and a browser in front of it."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import urllib.request
from pathlib import Path

import pytest
from playwright.sync_api import sync_playwright

from bench.served import FLAGS
from ersatz.core.audio import Audio, write_audio
from ersatz.core.mixdown.render import Mixdown
from tests.signals import RATE, club_track

#: However slow the machine: only what never comes ends a wait.
WAIT_MS = int(os.environ.get("ERSATZ_WAIT_MS", 180_000))
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
            self.process.wait(WAIT_MS / 1000)

    def worker_pids(self) -> list[int]:
        found = subprocess.run(
            ["pgrep", "-P", str(self.process.pid), "-f", "run_huey"], capture_output=True, text=True, check=False
        )
        return [int(pid) for pid in found.stdout.split()]

    def answers(self) -> bool:
        try:
            return urllib.request.urlopen(self.address, timeout=WAIT_MS / 1000).status == 200
        except OSError:
            return False


@pytest.fixture(scope="session")
def ready_home(tmp_path_factory) -> Path:
    """A home as the first start leaves it, to be copied."""
    home = tmp_path_factory.mktemp("ready") / "home"
    home.mkdir()
    script = (
        "import sys; from pathlib import Path; from ersatz.site.serve import prepare; sys.exit(prepare(Path(sys.argv[1])) or 0)"
    )
    environment = {**os.environ, "ERSATZ_HOME": str(home), "DJANGO_SETTINGS_MODULE": "ersatz.site.settings"}
    subprocess.run([sys.executable, "-c", script, str(home)], env=environment, check=True)
    return home


@pytest.fixture
def server(tmp_path, ready_home):
    """An application that nobody has used yet."""
    running = Server(shutil.copytree(ready_home, tmp_path / "home"))
    running.start()
    yield running
    running.stop()


class House(Server):
    """An application in use, shared by the tests: references and drafts are there, each test takes its own."""

    def __init__(self, home: Path):
        super().__init__(home)
        references, drafts = seed_count("REFERENCES"), seed_count("DRAFTS")
        self._references, self._drafts = iter(range(2, references + 1)), iter(range(1, drafts + 1))
        #: The target, and the remake that is measured and that no test changes.
        self.target, self.remake = f"/targets/{references + 2}/", f"/remakes/{drafts + 1}/"
        #: The remake whose tune is its reference's.
        self.copy = f"/remakes/{drafts + 2}/"

    #: The reference that no test changes.
    reference = "/references/1/"

    def own_reference(self) -> str:
        """Address of a survey that nobody else corrects."""
        return f"/references/{next(self._references)}/"

    def own_draft(self) -> str:
        """Address of the plan of a draft that nobody else edits."""
        return f"/remakes/{next(self._drafts)}/"


def seed_count(name: str) -> int:
    """Read from the seed's own text: importing it would start Django on another home."""
    found = re.search(r"^REFERENCES, DRAFTS = (\d+), (\d+)$", (Path(__file__).parent / "seed.py").read_text(), re.MULTILINE)
    assert found
    return int(found[1 if name == "REFERENCES" else 2])


@pytest.fixture(scope="package")
def house(tmp_path_factory, ready_home, club_file, club_survey, song):
    folder = tmp_path_factory.mktemp("house")
    shutil.copyfile(club_file, folder / "club.flac")
    (folder / "survey.json").write_text(json.dumps(club_survey.to_json()))
    (folder / "song.json").write_text(json.dumps(song.to_json()))
    # What is compiled on first use is compiled here, before anybody waits for it in a browser.
    mixdown = Mixdown(song)
    mixdown.samples(*mixdown.bar_range(9, 9))
    home = shutil.copytree(ready_home, folder / "home")
    environment = {**os.environ, "ERSATZ_HOME": str(home), "DJANGO_SETTINGS_MODULE": "ersatz.site.settings"}
    subprocess.run([sys.executable, "-m", "tests.browser.seed", str(folder)], env=environment, check=True)
    running = House(home)
    running.start()
    yield running
    running.stop()


@pytest.fixture(scope="package")
def chromium():
    # Ended with the last browser test: Playwright keeps a loop running in this process, beside which Django answers nothing.
    path = shutil.which("chromium")
    assert path, "Debian's chromium is needed: ./run test installs it"
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=path, args=FLAGS)
        yield browser
        browser.close()


def opened(chromium, address, **options):
    size = {"width": 1280, "height": 800}
    context = chromium.new_context(viewport=size, accept_downloads=True, base_url=address, **options)
    context.set_default_timeout(WAIT_MS)
    page = context.new_page()
    problems: list[str] = []
    page.on("pageerror", lambda error: problems.append(str(error)))
    page.on("console", lambda message: problems.append(message.text) if message.type == "error" else None)
    page.problems = problems
    return page


@pytest.fixture
def page(chromium, house):
    """A window on the application in use."""
    page = opened(chromium, house.address)
    yield page
    page.context.close()


@pytest.fixture
def first_page(chromium, server):
    """A window on an application that nobody has used yet."""
    page = opened(chromium, server.address)
    yield page
    page.context.close()


def choose(page, menu, item):
    """A row of a menu that opens under its button."""
    page.locator(f"[data-name={menu}]").click()
    page.locator(f"[data-name={menu}] + .dropdown-menu").get_by_text(item).first.click()


def start_empty(page):
    page.goto("/")
    page.get_by_role("button", name="Start empty").last.click()
    page.locator("[data-own]").first.wait_for()


@pytest.fixture
def empty(page, house):
    """The plan of an empty remake."""
    start_empty(page)
    return page


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

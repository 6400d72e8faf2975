"""How many people can listen and edit at once: `./run load [--listeners N] [--editors N] [--seconds S]`.

Starts the application on a home of its own, on loopback, with one long song and copies of it to edit, and lets people into it:
listeners play on from different places, each asking for the next two bars when the ones before begin; editors change a level every
few seconds, hear the eight bars that they loop, and open a page now and then. Says how many chunks came too late to be played and
how long pages, edits and audio took. Its clients share the machine with the server.
"""

from __future__ import annotations

import argparse
import http.client
import json
import os
import random
import re
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path

from bench.served import CHUNK_BARS
from bench.song import BPM, bench_song

CHUNK_S = CHUNK_BARS * 4 * 60 / BPM
#: Seconds between two edits of one editor, from and to; the bars that it loops.
EDIT_EVERY_S, LOOP_BARS = (4.0, 7.0), 8
#: Every so many edits an editor opens a page.
PAGE_EVERY = 2
TARGETS = {"pages": 0.3, "edits": 1.0}
MOST_LISTENERS, MOST_EDITORS, MOST_SECONDS = 200, 50, 600


@dataclass
class Figures:
    """Seconds by what was asked for, and chunks that came too late."""

    seconds: dict[str, list[float]] = field(default_factory=lambda: {"chunks": [], "pages": [], "edits": [], "loops": []})
    late: int = 0
    failed: list[str] = field(default_factory=list)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def add(self, what: str, seconds: float, late: bool = False) -> None:
        with self.lock:
            self.seconds[what].append(seconds)
            self.late += late

    def fail(self, sentence: str) -> None:
        with self.lock:
            self.failed.append(sentence)


class Visitor:
    """A connection that is kept, with its cookies."""

    def __init__(self, port: int):
        self._connection = http.client.HTTPConnection("127.0.0.1", port, timeout=120)
        self._cookies: dict[str, str] = {}

    def ask(self, method: str, path: str, body: str | None = None) -> tuple[int, bytes, float]:
        """(status, answer, seconds) of a page, or of JSON that is sent."""
        return self._asked(method, path, body, {} if body is None else {"Content-Type": "application/json", "Accept": "*/*"})

    def send(self, path: str, name: str, file: bytes) -> tuple[int, bytes, float]:
        """The same of a file that is uploaded."""
        head = f'--edge\r\nContent-Disposition: form-data; name="file"; filename="{name}"\r\n\r\n'
        body = head.encode() + file + b"\r\n--edge--\r\n"
        return self._asked("POST", path, body, {"Content-Type": "multipart/form-data; boundary=edge", "Accept": "*/*"})

    def _asked(self, method: str, path: str, body: str | bytes | None, more: dict[str, str]) -> tuple[int, bytes, float]:
        headers = {"Cookie": "; ".join(f"{k}={v}" for k, v in self._cookies.items()), "Accept": "text/html"} | more
        if body is not None:
            headers["X-CSRFToken"] = self._cookies.get("csrftoken", "")
        begun = time.perf_counter()
        try:
            answer = self._sent(method, path, body, headers)
        except (http.client.HTTPException, ConnectionError):
            # The server closes what it has kept for long; what is only read is asked for once more.
            self._connection.close()
            if method != "GET":
                raise
            answer = self._sent(method, path, body, headers)
        data = answer.read()
        for cookie in answer.headers.get_all("Set-Cookie") or ():
            name, _, value = cookie.partition(";")[0].partition("=")
            self._cookies[name] = value
        return answer.status, data, time.perf_counter() - begun

    def _sent(self, method: str, path: str, body: str | bytes | None, headers: dict[str, str]) -> http.client.HTTPResponse:
        self._connection.request(method, path, body, headers)
        return self._connection.getresponse()


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def prepare(home: Path, editors: int) -> tuple[int, str, list[int]]:
    """The database with a song to listen to and one for each editor: (remake, sha, remakes to edit)."""
    os.environ |= {"ERSATZ_HOME": str(home), "DJANGO_SETTINGS_MODULE": "ersatz.site.settings"}
    subprocess.run([sys.executable, "-m", "ersatz.site.manage", "migrate", "--verbosity", "0"], check=True)
    import django

    django.setup()
    from django.contrib.auth import get_user_model

    from ersatz.studio.middleware import LOCAL_USER
    from ersatz.studio.models import Remake
    from ersatz.studio.shared.targets import make_target

    user = get_user_model().objects.create_user(LOCAL_USER)
    reference = make_target(user, "Pier Nine by load", (), "tech-house")
    song = bench_song()
    remakes = []
    for k in range(editors + 1):
        remake = Remake.objects.create(owner=user, reference=reference, title=f"Song {k}")
        remakes.append((remake.pk, remake.start(song, "For the load").sha))
    return remakes[0][0], remakes[0][1], [pk for pk, _ in remakes[1:]]


def listen(port: int, remake: int, sha: str, bars: int, stop: float, figures: Figures, chance: random.Random) -> None:
    visitor = Visitor(port)
    time.sleep(chance.uniform(0, CHUNK_S))
    chunk, chunks = chance.randrange(bars // CHUNK_BARS), bars // CHUNK_BARS
    due = time.perf_counter() + CHUNK_S
    while time.perf_counter() < stop:
        first = chunk % chunks * CHUNK_BARS + 1
        status, _, took = visitor.ask("GET", f"/listen/remake/{remake}/{sha}/{first}-{first + CHUNK_BARS - 1}.flac")
        figures.add("chunks", took, time.perf_counter() > due)
        if status != 200:
            figures.fail(f"chunk: {status}")
        # The one behind is asked for when this one begins.
        time.sleep(max(0.0, due - time.perf_counter()))
        due += CHUNK_S
        chunk += 1


def edit(port: int, remake: int, stop: float, figures: Figures, chance: random.Random) -> None:
    visitor = Visitor(port)
    time.sleep(chance.uniform(0, EDIT_EVERY_S[1]))
    _, page, _ = visitor.ask("GET", f"/remakes/{remake}/")
    state = json.loads(re.search(rb'<script id="drawing" type="application/json">(.*?)</script>', page, re.DOTALL)[1])  # type: ignore[index]
    first = chance.randrange(0, state["bars"] - LOOP_BARS, LOOP_BARS) + 1
    count = 0
    while time.perf_counter() < stop:
        part = chance.choice(state["parts"])
        change = {
            "kind": "set_strip",
            "strip": part["id"],
            "name": "gain_db",
            "value": round(part["gainDb"] + chance.choice((-1, 1)), 2),
        }
        body = json.dumps({"revision": state["revision"], "edit": change})
        status, answer, took = visitor.ask("POST", f"/remakes/{remake}/edit/", body)
        figures.add("edits", took)
        if status != 200:
            figures.fail(f"edit: {status} {answer[:200]!r}")
            return
        state = json.loads(answer)
        for start in range(first, first + LOOP_BARS, CHUNK_BARS):
            status, _, took = visitor.ask("GET", f"{state['listen']}{start}-{start + CHUNK_BARS - 1}.flac")
            figures.add("loops", took)
            if status != 200:
                figures.fail(f"loop: {status}")
        count += 1
        if count % PAGE_EVERY == 0:
            page_path = chance.choice((f"/remakes/{remake}/", f"/remakes/{remake}/parts/{part['id']}/", "/"))
            status, _, took = visitor.ask("GET", page_path)
            figures.add("pages", took)
            if status != 200:
                figures.fail(f"page {page_path}: {status}")
        time.sleep(chance.uniform(*EDIT_EVERY_S))


def warm(port: int, remake: int, sha: str, bars: int, edited: list[int]) -> float:
    """The song heard once, as its producer has, and each editor's loop of pages; seconds."""
    begun = time.perf_counter()
    visitor = Visitor(port)
    for first in range(1, bars + 1, CHUNK_BARS):
        visitor.ask("GET", f"/listen/remake/{remake}/{sha}/{first}-{min(first + CHUNK_BARS - 1, bars)}.flac")
    # Pages are drawn by either process.
    for pk in edited * 2:
        for page in (f"/remakes/{pk}/", f"/remakes/{pk}/parts/p0/", "/"):
            visitor.ask("GET", page)
    return time.perf_counter() - begun


def percentile(values: list[float], share: float) -> float:
    ordered = sorted(values)
    return ordered[min(len(ordered) - 1, int(share * len(ordered)))] if ordered else float("nan")


def report(figures: Figures, seconds: float) -> bool:
    """Prints the figures; whether the targets are met."""
    met = not figures.late and not figures.failed
    print(f"{figures.late} of {len(figures.seconds['chunks'])} chunks late (target 0)")
    for what, values in figures.seconds.items():
        if not values:
            continue
        high = percentile(values, 0.95)
        wanted = TARGETS.get(what)
        verdict = "" if wanted is None else f" (target {wanted * 1000:.0f}: {'met' if high <= wanted else 'MISSED'})"
        met = met and (wanted is None or high <= wanted)
        print(f"{what:7} {len(values):5}  median {statistics.median(values) * 1000:6.0f} ms, 95 % {high * 1000:6.0f} ms{verdict}, "
              f"{len(values) / seconds:.1f} a second")  # fmt: skip
    for sentence, count in sorted({s: figures.failed.count(s) for s in figures.failed}.items()):
        print(f"FAILED {count} times: {sentence}")
    return met


def main() -> int:
    parser = argparse.ArgumentParser(prog="./run load", description=__doc__.split("\n\n")[0])
    parser.add_argument("--listeners", type=int, default=50)
    parser.add_argument("--editors", type=int, default=10)
    parser.add_argument("--seconds", type=float, default=60.0)
    arguments = parser.parse_args()
    listeners, editors = min(arguments.listeners, MOST_LISTENERS), min(arguments.editors, MOST_EDITORS)
    seconds = min(arguments.seconds, MOST_SECONDS)
    with tempfile.TemporaryDirectory(prefix="ersatz-load-") as folder:
        home = Path(folder) / "home"
        home.mkdir()
        remake, sha, edited = prepare(home, editors)
        port = free_port()
        server = subprocess.Popen(
            [sys.executable, "-m", "ersatz.site.serve", "--port", str(port)], stdout=subprocess.PIPE, text=True
        )
        try:
            assert server.stdout is not None
            if not any("is running" in line for line in server.stdout):
                return 1
            bars = bench_song().bars // CHUNK_BARS * CHUNK_BARS
            print(f"{os.cpu_count()} cores; heard once from nothing in {warm(port, remake, sha, bars, edited):.1f} s", flush=True)
            figures, stop = Figures(), time.perf_counter() + seconds
            people = [
                threading.Thread(target=listen, args=(port, remake, sha, bars, stop, figures, random.Random(k)))
                for k in range(listeners)
            ]
            people += [
                threading.Thread(target=edit, args=(port, pk, stop, figures, random.Random(1000 + k)))
                for k, pk in enumerate(edited)
            ]
            for person in people:
                person.start()
            for person in people:
                person.join()
            print(f"{listeners} listeners, {editors} editors, {seconds:.0f} s")
            return 0 if report(figures, seconds) else 1
        finally:
            server.terminate()
            server.wait(20)


if __name__ == "__main__":
    sys.exit(main())

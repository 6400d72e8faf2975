"""The application killed again and again while people work: `./run crash [--kills N] [--seed S]`.

Starts it on a home of its own and, all along, uploads tracks and edits a remake. At odd moments one of its processes is killed: the
worker, a web process, the one that serves them, or the starter of them all, which must take the others with it and is started
again.
In the end everything that was confirmed has to be there, every job finished, and nothing left behind.
"""

from __future__ import annotations

import argparse
import contextlib
import hashlib
import io
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from http.client import HTTPException
from pathlib import Path

import numpy as np
import soundfile

from bench.load import Visitor, free_port, prepare

RATE_HZ = 22_050
MOST_KILLS = 1000
#: Seconds within which the application answers again, its processes are gone, and all jobs have ended.
BACK_S, GONE_S, DONE_S = 60.0, 15.0, 240.0


def short_track(seed: int) -> bytes:
    """Twelve seconds with a kick, a hat and a bass: quick to survey."""
    rng = np.random.default_rng(seed)
    n, beat = 12 * RATE_HZ, int(60 / (118 + seed % 12) * RATE_HZ)
    x, t = np.zeros(n), np.arange(beat) / RATE_HZ
    hit = np.sin(2 * np.pi * 55 * t) * np.exp(-t / 0.1) + 0.1 * rng.standard_normal(beat) * np.exp(-t / 0.02)
    for start in range(0, n - beat, beat):
        x[start : start + beat] += 0.7 * hit + 0.1 * np.sign(np.sin(2 * np.pi * 55 * (1 + start // beat % 4 // 3) * t))
    file = io.BytesIO()
    soundfile.write(file, x, RATE_HZ, format="WAV", subtype="PCM_16")
    return file.getvalue()


class Application:
    """The starter as people start it."""

    def __init__(self, home: Path):
        self.port, self.home = free_port(), home
        self.start()

    def start(self) -> None:
        command = [sys.executable, "-m", "ersatz.site.serve", "--port", str(self.port)]
        environment = {**os.environ, "ERSATZ_HOME": str(self.home), "PYTHONUNBUFFERED": "1"}
        self.starter = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment)
        self.wait_until_up()

    def answers(self) -> bool:
        with contextlib.suppress(OSError):
            return urllib.request.urlopen(f"http://127.0.0.1:{self.port}/alive/", timeout=2).status == 200
        return False

    def wait_until_up(self) -> None:
        deadline = time.monotonic() + BACK_S
        while not self.answers():
            if time.monotonic() > deadline:
                raise AssertionError(f"it didn't answer again within {BACK_S:.0f} s")
            time.sleep(0.1)

    def processes(self) -> dict[str, list[int]]:
        """Process ids by what they are."""
        serving = _children(self.starter.pid)
        found: dict[str, list[int]] = {"starter": [self.starter.pid], "worker": [], "server": [], "web": []}
        for pid in serving:
            command = Path(f"/proc/{pid}/cmdline").read_bytes() if Path(f"/proc/{pid}").exists() else b""
            if b"run_huey" in command:
                found["worker"].append(pid)
            elif b"gunicorn" in command:
                found["server"].append(pid)
                found["web"] += _children(pid)
        return found

    def kill(self, what: str, chance: random.Random) -> str:
        """Kills one process; of the starter, waits until the others are gone and starts it again. Gives what was killed."""
        everything = self.processes()
        if not everything[what]:
            what = "starter"
        pid = chance.choice(everything[what])
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
        if what == "starter":
            self.starter.wait()
            others = [p for kind, pids in everything.items() if kind != "starter" for p in pids]
            deadline = time.monotonic() + GONE_S
            while any(_runs(p) for p in others):
                if time.monotonic() > deadline:
                    raise AssertionError("processes outlived their starter")
                time.sleep(0.1)
            self.start()
        return what


def _children(pid: int) -> list[int]:
    out = subprocess.run(["pgrep", "-P", str(pid)], capture_output=True, text=True, check=False).stdout
    return [int(p) for p in out.split()]


def _runs(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


class Work:
    """What people do, and what was confirmed to them."""

    def __init__(self, application: Application, remake: int):
        self.application, self.remake = application, remake
        self.uploads: dict[int, str] = {}
        self.revision, self.gain = 1, 0.0
        self.count = {"edits": 0, "uploads": 0, "broken off": 0}
        self.ends = False

    def edit(self) -> None:
        """One edit after the other on what stands."""
        chance, visitor = random.Random(1), Visitor(self.application.port)
        while not self.ends:
            gain = round(chance.uniform(-20, 0), 2)
            change = {"kind": "set_strip", "strip": "p0", "name": "gain_db", "value": gain}
            try:
                visitor.ask("GET", f"/remakes/{self.remake}/")
                body = json.dumps({"revision": self.revision, "edit": change})
                status, answer, _ = visitor.ask("POST", f"/remakes/{self.remake}/edit/", body)
            except (OSError, HTTPException, ValueError):
                self.count["broken off"] += 1
                time.sleep(0.2)
                continue
            data = json.loads(answer) if answer[:1] == b"{" else {}
            if status == 200:
                self.revision, self.gain = data["revision"], gain
                self.count["edits"] += 1
            elif status == 409 and "state" in data:
                # The answer to the edit before was lost, not the edit.
                self.revision = data["state"]["revision"]
            time.sleep(chance.uniform(0.02, 0.3))

    def upload(self) -> None:
        chance, seed = random.Random(2), 0
        visitor = Visitor(self.application.port)
        while not self.ends:
            seed += 1
            audio = short_track(seed)
            try:
                visitor.ask("GET", "/")
                status, answer, _ = visitor.send("/references/upload/", f"track {seed}.wav", audio)
            except (OSError, HTTPException, ValueError):
                self.count["broken off"] += 1
                time.sleep(0.2)
                continue
            if status == 201:
                self.uploads[json.loads(answer)["id"]] = hashlib.sha256(audio).hexdigest()
                self.count["uploads"] += 1
            time.sleep(chance.uniform(1.0, 4.0))


def settled(home: Path) -> bool:
    """Whether all jobs have ended."""
    from ersatz.studio.models import Job

    deadline = time.monotonic() + DONE_S
    while Job.objects.filter(state__in=Job.UNFINISHED).exists():
        if time.monotonic() > deadline:
            return False
        time.sleep(0.5)
    return True


def lost_and_left(work: Work, home: Path) -> list[str]:
    """Everything that was confirmed and isn't there, and everything that is there and belongs to nothing."""
    from django.conf import settings

    from ersatz.studio.models import Job, Reference, Remake

    out = []
    remake = Remake.objects.get(pk=work.remake)
    if remake.head < work.revision or remake.revision is None:
        out.append(f"edits lost: revision {remake.head} of {work.revision}")
    elif remake.head == work.revision and remake.revision.song.parts[0].gain_db != work.gain:
        out.append("the last edit isn't what it was")
    for pk, sha in work.uploads.items():
        reference = Reference.objects.filter(pk=pk).first()
        if reference is None or not reference.has_audio:
            out.append(f"upload {pk} lost")
        elif hashlib.sha256(reference.audio_path.read_bytes()).hexdigest() != sha:
            out.append(f"upload {pk} damaged")
        elif reference.survey_json is None:
            out.append(f"upload {pk} not surveyed: {reference.problem}")
    out += [f"job {job.pk} {job.state}: {job.message}" for job in Job.objects.exclude(state=Job.State.DONE)]
    media, rows = Path(settings.MEDIA_ROOT), {str(pk) for pk in Reference.objects.values_list("pk", flat=True)}
    left = [*(home / "uploads").glob("*"), *(media / "incoming").glob("*"), *home.glob("renders/**/*.part"), *media.glob("**/tmp*"),
            *home.glob("secret_key.*"), *(p for p in (media / "references").glob("*") if p.name not in rows)]  # fmt: skip
    return out + [f"left behind: {path.relative_to(home)}" for path in left]


def main() -> int:
    parser = argparse.ArgumentParser(prog="./run crash", description=__doc__.split("\n\n")[0])
    parser.add_argument("--kills", type=int, default=50)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    chance = random.Random(arguments.seed)
    with tempfile.TemporaryDirectory(prefix="ersatz-crash-") as folder:
        home = Path(folder) / "home"
        home.mkdir()
        _, _, (remake,) = prepare(home, 1)
        application = Application(home)
        work = Work(application, remake)
        people = [threading.Thread(target=act) for act in (work.edit, work.upload)]
        killed: dict[str, int] = {}
        try:
            for person in people:
                person.start()
            for _ in range(min(arguments.kills, MOST_KILLS)):
                time.sleep(chance.uniform(0.3, 3.0))
                what = application.kill(chance.choice(("worker", "worker", "web", "server", "starter")), chance)
                killed[what] = killed.get(what, 0) + 1
                application.wait_until_up()
            work.ends = True
            for person in people:
                person.join()
            # Once more from the start, which tidies up.
            application.kill("starter", chance)
            in_time = settled(home)
            problems = ([] if in_time else ["jobs went on for ever"]) + lost_and_left(work, home)
        finally:
            work.ends = True
            application.starter.terminate()
            application.starter.wait(20)
    print(f"{sum(killed.values())} kills: {', '.join(f'{n} of the {what}' for what, n in sorted(killed.items()))}")
    print(", ".join(f"{n} {what}" for what, n in work.count.items()))
    for problem in problems:
        print(f"FAILED {problem}")
    print("nothing lost, nothing left behind" if not problems else f"{len(problems)} problems")
    return 1 if problems else 0


if __name__ == "__main__":
    sys.exit(main())

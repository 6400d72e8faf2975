"""Prepares the data and starts web server and worker: `python -m ersatz.site.serve [--demo] [--port N] [--fresh]`."""

from __future__ import annotations

import argparse
import contextlib
import importlib.metadata
import os
import shutil
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path

from ersatz.site.private import keep_private
from ersatz.site.together import run_together

LEAST_FREE_MB = 700
START_WITHIN_S = 60
#: Address that says only that the server runs.
ALIVE = "/alive/"
MANAGE = [sys.executable, "-m", "ersatz.site.manage"]


def main() -> int:
    """Starts web server and worker and stays until they are ended; gives the exit code."""
    parser = argparse.ArgumentParser(prog="./run demo")
    parser.add_argument("--port", type=int, default=int(os.environ.get("ERSATZ_PORT", "8437")))
    parser.add_argument("--demo", action="store_true", help=argparse.SUPPRESS)
    parser.add_argument("--fresh", action="store_true", help="start over: the data is thrown away first")
    arguments = parser.parse_args()
    home = Path(os.environ.get("ERSATZ_HOME", "var")).resolve()
    os.environ["ERSATZ_HOME"] = str(home)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ersatz.site.settings")
    if not 1 <= arguments.port <= 65535:
        return _fail(f"{arguments.port} is not a port; choose one from 1 to 65535.")
    if _is_busy(arguments.port):
        return _fail(f"port {arguments.port} is taken; choose another with --port.")
    if arguments.fresh and not arguments.demo:
        return _fail("--fresh throws data away and is for the demo only.")
    if arguments.fresh:
        shutil.rmtree(home, ignore_errors=True)
    if os.environ.get("ERSATZ_HOSTS") and os.environ.get("ERSATZ_ACCOUNTS") != "1":
        return _fail("ERSATZ_HOSTS lets other machines in, so people have to sign in: set ERSATZ_ACCOUNTS=1 as well.")
    home.mkdir(parents=True, exist_ok=True)
    keep_private(home)
    free_mb = shutil.disk_usage(home).free // (1024 * 1024)
    if free_mb < LEAST_FREE_MB:
        return _fail(f"the disk is nearly full: {LEAST_FREE_MB} MB are needed and {free_mb} MB are free.")
    if failed := prepare(home, arguments.demo):
        return _fail(failed)
    configured = ["--config", "python:ersatz.site.gunicorn_conf"]
    web = [sys.executable, "-m", "gunicorn", *configured, "--bind", f"127.0.0.1:{arguments.port}"]
    if run_together([web, [*MANAGE, "run_huey", "--quiet"]], _say_when_up(arguments.port)):
        print("\nStopping", file=sys.stderr)
        return 0
    return _fail("the web server or the worker ended again and again; see above.")


def prepare(home: Path, demo: bool = False) -> str:
    """Brings the data in a home, which ERSATZ_HOME names, to what this version needs; gives a sentence where that fails."""
    prepared, wanted = home / "prepared", _migrations() + (" demo" if demo else "")
    if prepared.exists() and prepared.read_text() == wanted:
        return ""
    if subprocess.call([*MANAGE, "migrate", "--verbosity", "0"]):
        return "the database could not be prepared; see above."
    if demo and subprocess.call([*MANAGE, "seed_demo"]):
        return "the demo could not be started; see above."
    prepared.write_text(wanted)
    return ""


def _migrations() -> str:
    """Names of our migrations and versions of what brings others: while they stay, the database of an earlier start is ready."""
    folder = Path(__file__).parent.parent / "studio" / "migrations"
    versions = " ".join(importlib.metadata.version(name) for name in ("django", "django-axes"))
    return f"{versions} {' '.join(sorted(p.stem for p in folder.glob('0*.py')))}"


def _say_when_up(port: int) -> Callable[[Callable[[], bool]], None]:
    """Says where it runs once it answers."""

    def say(runs: Callable[[], bool]) -> None:
        deadline = time.monotonic() + START_WITHIN_S
        while time.monotonic() < deadline and runs():
            with contextlib.suppress(OSError):
                urllib.request.urlopen(f"http://127.0.0.1:{port}{ALIVE}", timeout=2).close()
                print(f"\nErsatz is running at http://127.0.0.1:{port}/  (Ctrl-C stops it)", flush=True)
                return
            time.sleep(0.1)

    return say


def _is_busy(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return True
    return False


def _fail(sentence: str) -> int:
    print(f"ersatz: {sentence}", file=sys.stderr)
    return 1


if __name__ == "__main__":
    sys.exit(main())

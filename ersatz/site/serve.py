"""Web server and worker together: `python -m ersatz.site.serve [--demo] [--port N] [--fresh]`. One Ctrl-C stops both."""

from __future__ import annotations

import argparse
import contextlib
import importlib.metadata
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

LEAST_FREE_MB = 700
START_WITHIN_S = 60


def main() -> int:
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
    home.mkdir(parents=True, exist_ok=True)
    free_mb = shutil.disk_usage(home).free // (1024 * 1024)
    if free_mb < LEAST_FREE_MB:
        return _fail(f"the disk is nearly full: {LEAST_FREE_MB} MB are needed and {free_mb} MB are free.")
    manage = [sys.executable, "-m", "ersatz.site.manage"]
    prepared = home / "prepared"
    wanted = _migrations() + (" demo" if arguments.demo else "")
    if not prepared.exists() or prepared.read_text() != wanted:
        if subprocess.call([*manage, "migrate", "--verbosity", "0"]):
            return _fail("the database could not be prepared; see above.")
        if arguments.demo and subprocess.call([*manage, "seed_demo"]):
            return _fail("the demo data could not be made; see above.")
        prepared.write_text(wanted)
    return _run_together(manage, arguments.port)


def _migrations() -> str:
    """Names of our migrations and Django's version: as long as they stay, the database of an earlier start is ready."""
    folder = Path(__file__).parent.parent / "studio" / "migrations"
    return f"{importlib.metadata.version('django')} {' '.join(sorted(p.stem for p in folder.glob('0*.py')))}"


def _run_together(manage: list[str], port: int) -> int:
    """Start both, say where, and wait until one of them ends or Ctrl-C comes."""
    serve = [sys.executable, "-m", "gunicorn", "ersatz.site.wsgi:application", "--bind", f"127.0.0.1:{port}", "--workers", "1",
             "--threads", "8", "--timeout", "300", "--graceful-timeout", "3", "--log-level", "warning"]  # fmt: skip
    # Each in a group of its own, so that Ctrl-C reaches them through us, in order.
    processes = [subprocess.Popen(c, start_new_session=True) for c in (serve, [*manage, "run_huey", "--quiet"])]

    def stop(*_: object) -> None:
        raise KeyboardInterrupt

    # Set for both: a shell that starts us in the background has SIGINT ignored.
    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    code = 0
    try:
        address = f"http://127.0.0.1:{port}/"
        if _answers(address, processes):
            print(f"\nErsatz is running at {address}  (Ctrl-C stops it)", flush=True)
        while all(p.poll() is None for p in processes):
            time.sleep(0.3)
        code = _fail("the web server or the worker has ended; see above.")
    except KeyboardInterrupt:
        print("\nStopping", file=sys.stderr)
    finally:
        for process in processes:
            with contextlib.suppress(ProcessLookupError):
                process.terminate()
        deadline = time.monotonic() + 5
        for process in processes:
            try:
                process.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                # An unfinished job is taken up again at the next start.
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(process.pid, signal.SIGKILL)
    return code


def _answers(address: str, processes: list[subprocess.Popen]) -> bool:
    deadline = time.monotonic() + START_WITHIN_S
    while time.monotonic() < deadline and all(p.poll() is None for p in processes):
        with contextlib.suppress(OSError):
            urllib.request.urlopen(address, timeout=2).close()
            return True
        time.sleep(0.1)
    return False


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

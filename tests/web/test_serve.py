"""Starting: what can't work is said in one clear sentence."""

import os
import socket
import subprocess
import sys

import pytest


def serve(tmp_path, *arguments):
    environment = {**os.environ, "ERSATZ_HOME": str(tmp_path / "home")}
    return subprocess.run(
        [sys.executable, "-m", "ersatz.site.serve", *arguments],
        env=environment,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )


def test_a_busy_port_is_said(tmp_path):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        done = serve(tmp_path, "--port", str(taken.getsockname()[1]))
    assert done.returncode == 1
    assert "is taken; choose another with --port" in done.stderr
    assert done.stderr.count("\n") == 1


@pytest.mark.parametrize("arguments", [["--port", "99999"], ["--fresh"]])
def test_what_makes_no_sense_is_said(tmp_path, arguments):
    done = serve(tmp_path, *arguments)
    assert done.returncode == 1
    assert done.stderr.startswith("ersatz: ")
    assert done.stderr.count("\n") == 1


def test_the_secret_key_is_made_once_and_kept_to_its_owner(tmp_path):
    environment = {**os.environ, "ERSATZ_HOME": str(tmp_path), "DJANGO_SETTINGS_MODULE": "ersatz.site.settings"}
    show = [sys.executable, "-c", "from django.conf import settings; print(settings.SECRET_KEY)"]
    first, second = (subprocess.run(show, env=environment, capture_output=True, text=True, check=True).stdout for _ in range(2))
    assert first == second
    assert len(first.strip()) > 40
    assert (tmp_path / "secret_key").stat().st_mode & 0o077 == 0

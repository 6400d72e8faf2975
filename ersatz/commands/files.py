"""Reading and writing what the commands are given, and their progress."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ersatz.core import serial
from ersatz.core.errors import UnusableDocument


def read_json(path: Path) -> Any:
    """JSON from a file. Raises UnusableDocument, which names it."""
    if not path.is_file():
        raise UnusableDocument(f"“{path}” is not a file." if path.exists() else f"There is no file “{path}”.")
    try:
        return serial.read_json(path.read_bytes())
    except UnusableDocument as error:
        raise UnusableDocument(f"“{path.name}”: {error}") from error


def write_json(data: Any, path: Path | None) -> None:
    """To a file, or to standard output."""
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":")) if path else json.dumps(data, ensure_ascii=False)
    if path is not None and path.exists() and not path.is_file():
        raise UnusableDocument(f"“{path}” is not a file.")
    if path is None:
        print(text)
    else:
        path.write_text(text, encoding="utf-8")


def progress(what: str) -> Callable[[str, float], None]:
    """A line on standard error that grows; quiet when nobody watches."""
    if not sys.stderr.isatty():
        return lambda phase, fraction: None

    def show(phase: str, fraction: float) -> None:
        end = "\n" if fraction >= 1 else ""
        print(f"\r{what}: {fraction:4.0%} {phase:<40}", end=end, file=sys.stderr, flush=True)

    return show

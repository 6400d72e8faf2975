"""A folder of results by key, with a size limit: written whole or not at all, the ones not used for longest go first."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

#: After this share of the limit has been written the folder is looked through.
LOOKED_THROUGH = 1 / 20
#: Used within so many seconds, a file isn't marked as used again: marking costs as much as reading.
MARKED_S = 3600.0


class Files:
    """`suffix` is that of its files, `limit` the bytes that they may take together, a little more for a while."""

    def __init__(self, folder: Path, suffix: str, limit: int):
        self._folder, self._suffix, self._limit = folder, suffix, limit
        self._written = 0
        # Found to lie there. Another process may have let go of one meanwhile: who asks for it computes it then.
        self._known: set[str] = set()
        folder.mkdir(parents=True, exist_ok=True)

    def path(self, key: str) -> Path:
        """Where a key’s file lies, whether it exists or not."""
        return Path(self._place(key))

    def has(self, key: str) -> bool:
        """Whether there is a file of a key, or was when it was found last. Asked for each node of a song, and therefore without a
        `Path`, and of the system only once."""
        if key not in self._known:
            if not os.path.exists(self._place(key)):
                return False
            self._known.add(key)
        return True

    def _place(self, key: str) -> str:
        return f"{self._folder}/{key[:2]}/{key}{self._suffix}"

    def find(self, key: str) -> Path | None:
        """The file of a key, marked as used, or None."""
        place = self._place(key)
        try:
            if os.stat(place).st_mtime < time.time() - MARKED_S:
                os.utime(place)
        except OSError:
            self._known.discard(key)
            return None
        return Path(place)

    def write(self, key: str, write: Callable[[BinaryIO], None]) -> Path | None:
        """Keeps what `write` writes. A full disk must not stop the music: then there is no file, and None."""
        place = self._place(key)
        # Nobody else writes there.
        unfinished = f"{place}.{os.getpid()}-{threading.get_ident()}.part"
        with contextlib.suppress(OSError):
            os.makedirs(os.path.dirname(place), exist_ok=True)
            try:
                with open(unfinished, "wb") as file:
                    write(file)
                    size = file.tell()
                os.replace(unfinished, place)
            except BaseException:
                os.unlink(unfinished)
                raise
            self._written += size
            if self._written > LOOKED_THROUGH * self._limit:
                self._written = 0
                self._evict()
            self._known.add(key)
            return Path(place)
        return None

    def _evict(self) -> None:
        self._known.clear()
        files = []
        for path in self._folder.glob(f"*/*{self._suffix}"):
            with contextlib.suppress(OSError):
                stat = path.stat()
                files.append((stat.st_mtime, stat.st_size, path))
        total = sum(size for _, size, _ in files)
        for _, size, path in sorted(files):
            if total <= self._limit:
                break
            with contextlib.suppress(OSError):
                path.unlink()
            total -= size

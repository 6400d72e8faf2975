"""Rendered arrays by key: memory first, then disk, both with a size limit and least-recently-used eviction."""

from __future__ import annotations

import contextlib
import os
import tempfile
import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path

import numpy as np

MEMORY_BYTES = 640 * 1024 * 1024
#: Share of the memory for what is quick to do again: enough for a running loop, so that a whole song doesn't push out the rest.
PASSING_SHARE = 0.2
DISK_BYTES = 2 * 1024 * 1024 * 1024


class _Memory:
    """Arrays by key up to a limit in bytes; the least recently used go first."""

    def __init__(self, limit: int):
        self._arrays: OrderedDict[str, np.ndarray] = OrderedDict()
        self._limit = limit
        self.bytes = 0

    def get(self, key: str) -> np.ndarray | None:
        if key not in self._arrays:
            return None
        self._arrays.move_to_end(key)
        return self._arrays[key]

    def put(self, key: str, value: np.ndarray) -> None:
        if key not in self._arrays:
            self._arrays[key] = value
            self.bytes += value.nbytes
        while self.bytes > self._limit and len(self._arrays) > 1:
            _, old = self._arrays.popitem(last=False)
            self.bytes -= old.nbytes


class RenderCache:
    """Arrays are frozen on the way in: who takes one out must not write to it. Safe for several threads."""

    def __init__(self, folder: Path | None = None, memory_bytes: int = MEMORY_BYTES, disk_bytes: int = DISK_BYTES):
        passing = int(PASSING_SHARE * memory_bytes)
        self._kept, self._passing = _Memory(memory_bytes - passing), _Memory(passing)
        self._disk_limit = disk_bytes
        self._folder = folder
        self._lock = threading.Lock()
        self._under_way: dict[str, threading.Event] = {}
        self._written = 0
        self.computed = 0
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)

    @property
    def bytes(self) -> int:
        return self._kept.bytes + self._passing.bytes

    def get(self, key: str, compute: Callable[[], np.ndarray], on_disk: bool = False, passing: bool = False) -> np.ndarray:
        """The array of a key; `passing` is one that is quick to compute again from others.

        What another thread is computing already is waited for: where music repeats, both would do the same work.
        """
        memory = self._passing if passing else self._kept
        while True:
            with self._lock:
                found = memory.get(key)
                if found is not None:
                    return found
                under_way = self._under_way.get(key)
                if under_way is None:
                    mine = self._under_way[key] = threading.Event()
                    break
            under_way.wait()
        try:
            value = self._read(key) if on_disk else None
            if value is None:
                value = compute()
                self.computed += 1
                if on_disk:
                    self._write(key, value)
            value.setflags(write=False)
            with self._lock:
                memory.put(key, value)
        finally:
            with self._lock:
                del self._under_way[key]
            mine.set()
        return value

    def _path(self, key: str) -> Path | None:
        return None if self._folder is None else self._folder / key[:2] / f"{key}.npy"

    def _read(self, key: str) -> np.ndarray | None:
        path = self._path(key)
        if path is None or not path.exists():
            return None
        try:
            value = np.load(path)
            os.utime(path)
            return np.asarray(value)
        except (OSError, ValueError):
            # Half written by a process that died: computed again.
            return None

    def _write(self, key: str, value: np.ndarray) -> None:
        path = self._path(key)
        if path is None:
            return
        # A full disk must not stop the music: the cache just stays behind.
        with contextlib.suppress(OSError):
            path.parent.mkdir(exist_ok=True)
            with tempfile.NamedTemporaryFile(dir=path.parent, suffix=".part", delete=False) as file:
                np.save(file, value)
            os.replace(file.name, path)
            self._written += value.nbytes
            if self._written > self._disk_limit // 20:
                self._written = 0
                self._evict()

    def _evict(self) -> None:
        assert self._folder is not None
        files = []
        for path in self._folder.glob("*/*.npy"):
            with contextlib.suppress(OSError):
                stat = path.stat()
                files.append((stat.st_mtime, stat.st_size, path))
        total = sum(size for _, size, _ in files)
        for _, size, path in sorted(files):
            if total <= self._disk_limit:
                break
            with contextlib.suppress(OSError):
                path.unlink()
            total -= size

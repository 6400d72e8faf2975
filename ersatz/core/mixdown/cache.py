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

MEMORY_BYTES = 500 * 1024 * 1024
DISK_BYTES = 2 * 1024 * 1024 * 1024


class RenderCache:
    """Arrays are frozen on the way in: who takes one out must not write to it. Safe for several threads."""

    def __init__(self, folder: Path | None = None, memory_bytes: int = MEMORY_BYTES, disk_bytes: int = DISK_BYTES):
        self._memory: OrderedDict[str, np.ndarray] = OrderedDict()
        self._bytes = 0
        self._limit = memory_bytes
        self._disk_limit = disk_bytes
        self._folder = folder
        self._lock = threading.Lock()
        self._written = 0
        self.computed = 0
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)

    def get(self, key: str, compute: Callable[[], np.ndarray], on_disk: bool = False) -> np.ndarray:
        with self._lock:
            if key in self._memory:
                self._memory.move_to_end(key)
                return self._memory[key]
        value = self._read(key) if on_disk else None
        if value is None:
            value = compute()
            self.computed += 1
            if on_disk:
                self._write(key, value)
        value.setflags(write=False)
        with self._lock:
            if key not in self._memory:
                self._memory[key] = value
                self._bytes += value.nbytes
            while self._bytes > self._limit and len(self._memory) > 1:
                _, old = self._memory.popitem(last=False)
                self._bytes -= old.nbytes
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

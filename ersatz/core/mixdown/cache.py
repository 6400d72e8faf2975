"""Rendered arrays by key: memory first, then disk, both with a size limit."""

from __future__ import annotations

import heapq
import shutil
import tempfile
import threading
import time
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable
from functools import partial
from pathlib import Path
from typing import BinaryIO, TypeVar, cast

import numpy as np

from ersatz.core.mixdown.files import Files

#: With the files behind it: what is let go is read again, which takes a tenth of making it.
MEMORY_BYTES = 400 * 1024 * 1024
#: Share of the memory for what is quick to do again: enough for a running loop, so that a whole song doesn't push out the rest.
PASSING_SHARE = 0.25
REMEMBERED = 200
DISK_BYTES = 2 * 1024 * 1024 * 1024

T = TypeVar("T")


class Memory:
    """Arrays by key up to a limit in bytes. What took least time per byte and wasn't asked for lately goes first: GreedyDual-Size
    (Cao & Irani 1997), worth = the cache's age at the last use + seconds / bytes."""

    def __init__(self, limit: int):
        self._arrays: dict[str, np.ndarray] = {}
        self._density: dict[str, float] = {}
        self._worth: dict[str, float] = {}
        self._queue: list[tuple[float, str]] = []
        self._age = 0.0
        self._limit = limit
        self.bytes = 0

    def __contains__(self, key: str) -> bool:
        return key in self._arrays

    def get(self, key: str) -> np.ndarray | None:
        """None where it isn't kept."""
        if key not in self._arrays:
            return None
        self._worth[key] = self._age + self._density[key]
        return self._arrays[key]

    def put(self, key: str, value: np.ndarray, seconds: float) -> dict[str, np.ndarray]:
        """Keeps an array that took so many seconds to make, and gives the others that it lets go for it."""
        gone: dict[str, np.ndarray] = {}
        if key in self._arrays:
            return gone
        while self._queue and self.bytes + value.nbytes > self._limit:
            queued, old = heapq.heappop(self._queue)
            if queued < self._worth[old]:
                # Used since it was queued.
                heapq.heappush(self._queue, (self._worth[old], old))
                continue
            self._age = queued
            gone[old] = self._arrays.pop(old)
            self.bytes -= gone[old].nbytes
            del self._worth[old], self._density[old]
        self._arrays[key] = value
        self._density[key] = seconds / max(value.nbytes, 1)
        self._worth[key] = self._age + self._density[key]
        heapq.heappush(self._queue, (self._worth[key], key))
        self.bytes += value.nbytes
        return gone


class _Hashed:
    """A key that is deep and costs time to hash: it is hashed once."""

    __slots__ = ("_hash", "_key")

    def __init__(self, key: Hashable):
        self._key, self._hash = key, hash(key)

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Hashed) and self._key == other._key


#: Stands for what isn't remembered: None may be.
MISSING = object()


def _save(value: np.ndarray, file: BinaryIO) -> None:
    np.save(file, value)


class RenderCache:
    """Arrays are frozen on the way in: who takes one out must not write to it. Safe for several threads. `shared`: other processes
    find what lies in the folder; else it is written only when the memory lets go of it."""

    def __init__(
        self, folder: Path | None = None, memory_bytes: int = MEMORY_BYTES, disk_bytes: int = DISK_BYTES, shared: bool = True
    ):  # fmt: skip
        passing = int(PASSING_SHARE * memory_bytes)
        self._shared = shared
        self._unwritten: set[str] = set()
        self._kept, self._passing = Memory(memory_bytes - passing), Memory(passing)
        self._files = Files(folder, ".npy", disk_bytes) if folder is not None else None
        self._lock = threading.Lock()
        self._plain: OrderedDict[_Hashed, object] = OrderedDict()
        self._under_way: dict[str, tuple[int, threading.Event]] = {}
        self.computed = 0

    @classmethod
    def temporary(cls) -> RenderCache:
        """One with files that are gone when it is let go, or at the latest when the process ends."""
        folder = Path(tempfile.mkdtemp(prefix="ersatz-renders-"))
        made = cls(folder, shared=False)
        weakref.finalize(made, shutil.rmtree, folder, ignore_errors=True)
        return made

    @property
    def bytes(self) -> int:
        """What is held in memory."""
        return self._kept.bytes + self._passing.bytes

    def holds(self, key: str, on_disk: bool = False) -> bool:
        """Whether the array is kept, or, where such are, lies on disk. It may be gone when asked for: then it is computed."""
        with self._lock:
            if key in self._kept or key in self._passing:
                return True
        return on_disk and self._files is not None and self._files.has(key)

    def get(self, key: str, compute: Callable[[], np.ndarray], on_disk: bool = False, passing: bool = False) -> np.ndarray:
        """The array of a key; `passing` is one that is quick to compute again from others.

        What another thread is computing already is waited for: where music repeats, both would do the same work. Raises
        RuntimeError for an array that is made of itself.
        """
        me = threading.get_ident()
        memory = self._passing if passing else self._kept
        while True:
            with self._lock:
                found = memory.get(key)
                if found is not None:
                    return found
                if key not in self._under_way:
                    mine = threading.Event()
                    self._under_way[key] = (me, mine)
                    break
                thread, under_way = self._under_way[key]
            if thread == me:
                raise RuntimeError(f"the node {key} is made of itself")
            under_way.wait()
        try:
            begun = time.perf_counter()
            value = self._read(key) if on_disk else None
            to_write = value is None and on_disk
            if value is None:
                value = compute()
                self.computed += 1
            if to_write and self._shared:
                self._write(key, value)
            value.setflags(write=False)
            with self._lock:
                if to_write and not self._shared:
                    self._unwritten.add(key)
                gone = memory.put(key, value, time.perf_counter() - begun)
                unwritten = self._unwritten & gone.keys()
                self._unwritten -= unwritten
        finally:
            with self._lock:
                del self._under_way[key]
            mine.set()
        for left in unwritten:
            self._write(left, gone[left])
        return value

    def remembered(self, made_of: Hashable, make: Callable[[], T]) -> T:
        """A small result of plain Python, by everything that it is made of; the last REMEMBERED are kept."""
        key = _Hashed(made_of)
        with self._lock:
            made = self._plain.pop(key, MISSING)
            if made is not MISSING:
                self._plain[key] = made
                return cast(T, made)
        result = make()
        with self._lock:
            self._plain[key] = result
            if len(self._plain) > REMEMBERED:
                self._plain.popitem(last=False)
        return result

    def _write(self, key: str, value: np.ndarray) -> None:
        if self._files is not None:
            self._files.write(key, partial(_save, value))

    def _read(self, key: str) -> np.ndarray | None:
        path = self._files.find(key) if self._files else None
        if path is None:
            return None
        try:
            return np.asarray(np.load(path))
        except (OSError, ValueError):
            # Damaged: computed again.
            return None

"""The last few things that a process made, by what they were made of."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Generic, TypeVar

T = TypeVar("T")


class Kept(Generic[T]):
    """At most so many, the ones not asked for longest go first. Safe for several threads."""

    def __init__(self, most: int):
        self._most, self._lock = most, Lock()
        self._rows: OrderedDict[Hashable, T] = OrderedDict()

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        """What was made for a key, or what `make` makes now; two threads may make it twice."""
        with self._lock:
            if key in self._rows:
                self._rows.move_to_end(key)
                return self._rows[key]
        made = make()
        with self._lock:
            self._rows[key] = made
            while len(self._rows) > self._most:
                self._rows.popitem(last=False)
        return made

"""The render graph: what a node is, and the engine that derives from this one description its key, what has to be computed before
it, and its samples.

A node is a piece of sound, float32 of shape (2, samples): a note, a ducking gain, or a bar of a strip at one of its stages. Its key
is a hash of everything that it is made of: the code, its own settings and the keys of its inputs. An input that a node computes
with is therefore in its key; there is no second place to say it.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import FIRST_EXCEPTION, Executor, wait
from typing import Any, Literal

import numpy as np

from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.version import engine

#: Where a node is kept: on disk as well, in memory, or in the small share of it for what is quick to compute again from its inputs.
Kept = Literal["disk", "memory", "quick"]
#: Samples by input, None where the input is silent.
Inputs = list[Any]
Compute = Callable[[Inputs], np.ndarray]
#: Seconds between two reports of progress.
PROGRESS_S = 0.2


class Node:
    """`stage` begins the key and says to a reader what it is. `settings`: everything beside the inputs that shapes the samples, of
    plain values and arrays. `inputs`: called when they are needed. `group`: nodes of one are computed one after the other; they
    share what is soon forgotten. `key`: where it is known already."""

    __slots__ = ("_inputs", "_key", "_settings", "compute", "group", "kept", "stage")

    def __init__(
        self, stage: str, settings: Any, inputs: Callable[[], Sequence[Node | None]], compute: Compute, kept: Kept = "memory",
        group: str = "", key: str | None = None,
    ):  # fmt: skip
        self.stage, self.compute, self.kept, self.group = stage, compute, kept, group
        self._settings, self._inputs, self._key = settings, inputs, key

    @property
    def inputs(self) -> Sequence[Node | None]:
        return self._inputs()

    @property
    def key(self) -> str:
        if self._key is None:
            made_of = (node and node.key for node in self.inputs)
            self._key = f"{self.stage}-{hashed(engine(), self._settings, tuple(made_of))}"
        return self._key


#: A node by 0-based bar; None where it is silent.
Source = Callable[[int], Node | None]


def hashed(*values: Any) -> str:
    """Short stable hash of plain values, tuples of them and arrays."""
    state = hashlib.blake2b(digest_size=12)
    _feed(state, values)
    return state.hexdigest()


def _feed(state: Any, value: Any) -> None:
    if isinstance(value, (tuple, list)):
        state.update(b"(")
        for one in value:
            _feed(state, one)
        state.update(b")")
    elif isinstance(value, np.ndarray):
        state.update(f"{value.dtype}{value.shape}".encode())
        state.update(np.ascontiguousarray(value).data)
    else:
        state.update(repr(value).encode() + b",")


class Graph:
    """Nodes computed through a cache."""

    def __init__(self, cache: RenderCache):
        self.cache = cache

    def samples(self, node: Node) -> np.ndarray:
        """Of a node, and of what it is made of where that isn't kept."""

        def compute() -> np.ndarray:
            return node.compute([None if i is None else self.samples(i) for i in node.inputs])

        return self.cache.get(node.key, compute, on_disk=node.kept == "disk", passing=node.kept == "quick")

    def prepare(self, nodes: Iterable[Node | None], pool: Executor, progress: Callable[[float], None]) -> None:
        """Computes all that the nodes are made of and the cache doesn't hold, in levels that threads share: nothing in a level
        needs anything else of it. Two threads that each went through nodes of their own would wait for each other most of the time.
        What `progress` raises ends it at the next node; so does what a node raises."""
        levels = Levels(self.cache)
        for node in nodes:
            levels.want(node)
        count, done = max(1, sum(map(len, levels.nodes()))), 0
        for level in levels.nodes():
            pending = {pool.submit(self.samples, node) for node in level}
            try:
                while pending:
                    finished, pending = wait(pending, PROGRESS_S, FIRST_EXCEPTION)
                    done += len(finished)
                    for future in finished:
                        future.result()
                    progress(done / count)
            finally:
                for future in pending:
                    future.cancel()


class Levels:
    """Nodes that have to be computed, each in the level behind the last one that it needs."""

    def __init__(self, cache: RenderCache):
        self._cache = cache
        self._level_of: dict[str, int] = {}
        self._levels: list[dict[str, list[Node]]] = []

    def want(self, node: Node | None) -> int:
        """The first level at which it is there. A quick node is computed where it is needed, and has no level of its own."""
        if node is None:
            return 0
        known = self._level_of.get(node.key)
        if known is not None:
            return known
        level = 0
        if not self._cache.holds(node.key):
            level = max((self.want(i) for i in node.inputs), default=0)
            if node.kept != "quick":
                if level == len(self._levels):
                    self._levels.append({})
                self._levels[level].setdefault(node.group, []).append(node)
                level += 1
        self._level_of[node.key] = level
        return level

    def nodes(self) -> list[list[Node]]:
        return [[node for nodes in groups.values() for node in nodes] for groups in self._levels]

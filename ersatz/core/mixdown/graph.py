"""The render graph: what a node is, and the engine that derives from this one description its key, what has to be computed before
it, and its samples.

A node is a piece of sound, float32 of shape (2, samples): a note, a ducking gain, or a bar of a strip at one of its stages. Its key
is a hash of everything that it is made of: the code, its own settings and the keys of its inputs. An input that a node computes
with is therefore in its key; there is no second place to say it.
"""

from __future__ import annotations

import hashlib
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import suppress
from heapq import heappop, heappush
from queue import Empty, SimpleQueue
from typing import Any, Literal

import numpy as np

from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.version import engine

#: Where a node is kept: on disk as well, in memory, or in the small share of it for what is quick to compute again from its inputs.
Kept = Literal["disk", "memory", "quick"]
#: Samples by input, None where the input is silent.
Inputs = list[Any]
Compute = Callable[[Inputs], np.ndarray]
#: Threads that compute.
WORKERS = 2
#: Seconds between two reports of progress.
PROGRESS_S = 0.2


class Node:
    """`stage` begins the key and says to a reader what it is. `settings`: everything beside the inputs that shapes the samples, in
    plain values. `inputs`: called when they are needed. `key`: where it is known already."""

    __slots__ = ("_inputs", "_key", "_settings", "compute", "kept", "stage")

    def __init__(
        self, stage: str, settings: Any, inputs: Callable[[], Sequence[Node | None]], compute: Compute, kept: Kept = "memory",
        key: str | None = None,
    ):  # fmt: skip
        self.stage, self.compute, self.kept = stage, compute, kept
        self._settings, self._inputs, self._key = settings, inputs, key

    @property
    def inputs(self) -> Sequence[Node | None]:
        """Nodes that are needed first, None for silence."""
        return self._inputs()

    @property
    def key(self) -> str:
        """Hash of the engine’s code, the settings and the keys of all inputs: the same key, the same samples."""
        if self._key is None:
            made_of = [node and node.key for node in self.inputs]
            self._key = f"{self.stage}-{hashed(engine(), self._settings, made_of)}"
        return self._key


#: A node by 0-based bar; None where it is silent.
Source = Callable[[int], Node | None]


def hashed(*values: Any) -> str:
    """Short stable hash of plain values and tuples of them; arrays go in by their `fingerprint`."""
    return hashlib.blake2b(repr(values).encode(), digest_size=12).hexdigest()


def fingerprint(value: Any) -> Any:
    """An array as a short text that stands for it; what is none, as it is."""
    if not isinstance(value, np.ndarray):
        return value
    content = hashlib.blake2b(np.ascontiguousarray(value).data, digest_size=12).hexdigest()
    return f"{value.dtype}{value.shape}{content}"


class Graph:
    """Nodes computed through a cache."""

    def __init__(self, cache: RenderCache):
        self.cache = cache

    def samples(self, node: Node) -> np.ndarray:
        """Of a node, and of what it is made of where that isn't kept."""

        def compute() -> np.ndarray:
            return node.compute([None if i is None else self.samples(i) for i in node.inputs])

        return self.cache.get(node.key, compute, on_disk=node.kept == "disk", passing=node.kept == "quick")

    def computed(
        self, make: Sequence[Callable[[], Node | None]], ahead: int, forget: Callable[[], None], progress: Callable[[float], None]
    ) -> Iterator[Node | None]:
        """The nodes that `make` makes, None for silence, in order, each as soon as it is there; computed by WORKERS threads.

        Threads share the work, each node as soon as what it needs is there; going through nodes of their own they would wait for
        each other most of the time. Meanwhile the next ones are made, up to `ahead` of them: keys take a while. After as many,
        `forget` is called: what was made before is made again where it is needed. What `progress` (0..1) raises ends the work at
        the next node; so does what a node raises, and who takes no more of them.
        """
        plan, told, made = Plan(self.cache), time.monotonic(), 0
        coming: deque[Node | None] = deque()
        with ThreadPoolExecutor(WORKERS) as pool:
            work = _Work(pool, self.samples)
            try:
                for given in range(len(make)):
                    while not coming or plan.waits_for(coming[0]):
                        enough = made == len(make) or len(coming) == ahead
                        if not enough:
                            coming.append(make[made]())
                            plan.want(coming[-1], asked=True)
                            made += 1
                            if made % ahead == 0:
                                plan.forget()
                                forget()
                        work.begin(plan.ready())
                        for key in work.finished(wait=enough):
                            plan.done(key)
                        if time.monotonic() - told > PROGRESS_S:
                            told = time.monotonic()
                            progress(given / len(make))
                    yield coming.popleft()
                    if (given + 1) % ahead == 0:
                        progress((given + 1) / len(make))
            finally:
                work.cancel()
        progress(1.0)


class _Work:
    """Nodes under way in threads: what was asked for first goes first, also where it became ready late."""

    def __init__(self, pool: Executor, compute: Callable[[Node], object]):
        self._pool, self._compute = pool, compute
        self._waiting: list[tuple[int, int, str, Node]] = []
        self._under_way: set[Future[str]] = set()
        self._finished: SimpleQueue[Future[str]] = SimpleQueue()
        self._begun = 0

    def begin(self, ready: Sequence[tuple[int, str, Node]]) -> None:
        """Nodes with their place and key."""
        for place, key, node in ready:
            self._begun += 1
            heappush(self._waiting, (place, self._begun, key, node))
            future = self._pool.submit(self._next)
            self._under_way.add(future)
            future.add_done_callback(self._finished.put)

    def _next(self) -> str:
        _, _, key, node = heappop(self._waiting)
        self._compute(node)
        return key

    def finished(self, wait: bool) -> Iterator[str]:
        """Keys of what is computed; `wait`: for one at least, if any is under way, PROGRESS_S at the most. Raises what a node
        raises."""
        with suppress(Empty):
            while self._under_way:
                future = self._finished.get(wait, PROGRESS_S)
                wait = False
                self._under_way.remove(future)
                yield future.result()

    def cancel(self) -> None:
        """What hasn't begun."""
        for future in self._under_way:
            future.cancel()


class Plan:
    """Nodes that have to be computed, by key, and what each of them waits for. Quick nodes are computed where they are needed and
    are none of these, unless they are asked for: what they are made of is waited for instead."""

    def __init__(self, cache: RenderCache):
        self._cache = cache
        #: With how many had been asked for when it was found.
        self.nodes: dict[str, tuple[int, Node]] = {}
        self._waits_for: dict[str, set[str]] = {}
        self._known: dict[str, frozenset[str]] = {}
        self._behind: dict[str, list[str]] = {}
        self._ready: list[tuple[int, str, Node]] = []
        self._asked = 0

    def want(self, node: Node | None, asked: bool = False) -> frozenset[str]:
        """Keys of the nodes that have to be there before this one is; some may be done. `asked`: it is to be computed here, however
        quick."""
        if node is None:
            return frozenset()
        self._asked += asked
        if node.key not in self._known or (asked and node.kept == "quick"):
            self._known[node.key] = self._missing(node, asked)
        return self._known[node.key]

    def _missing(self, node: Node, asked: bool) -> frozenset[str]:
        if node.key in self.nodes:
            return frozenset((node.key,))
        if self._cache.holds(node.key, on_disk=node.kept == "disk"):
            return frozenset()
        waits_for = {key for i in node.inputs for key in self.want(i) if key in self.nodes}
        if node.kept == "quick" and not asked:
            return frozenset(waits_for)
        self.nodes[node.key] = (self._asked, node)
        if waits_for:
            self._waits_for[node.key] = waits_for
        else:
            self._ready.append((self._asked, node.key, node))
        for key in waits_for:
            self._behind.setdefault(key, []).append(node.key)
        return frozenset((node.key,))

    def waits_for(self, node: Node | None) -> bool:
        """Whether a node that was asked for isn't there yet."""
        return node is not None and node.key in self.nodes

    def ready(self) -> list[tuple[int, str, Node]]:
        """What waits for nothing, each once: how many were asked for when it was found, its key and itself."""
        ready, self._ready = self._ready, []
        return ready

    def done(self, key: str) -> None:
        """A node is computed: what has waited for nothing else is ready."""
        del self.nodes[key]
        for following in self._behind.pop(key, ()):
            waits_for = self._waits_for[following]
            waits_for.discard(key)
            if not waits_for:
                del self._waits_for[following]
                place, node = self.nodes[following]
                self._ready.append((place, following, node))

    def forget(self) -> None:
        """Looks anew for what the cache holds: it may have let go of something meanwhile."""
        self._known.clear()

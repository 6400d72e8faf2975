"""The render graph: what a node is, and the engine that derives from this one description its key, what has to be computed before
it, and its samples.

A node is a piece of sound, float32 of shape (2, samples): a note, a ducking gain, or a bar of a strip at one of its stages. Its key
is a hash of everything that it is made of: the code, its own settings and the keys of its inputs. An input that a node computes
with is therefore in its key; there is no second place to say it.
"""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Executor, Future, ThreadPoolExecutor
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
    plain values. `inputs`: called when they are needed. `group`: nodes of one are computed one after the other; they
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
#: Makes nodes that are worked on together, None for silence.
Span = Callable[[], Iterable[Node | None]]


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

    def plan(self, nodes: Iterable[Node | None]) -> Plan:
        """Of all that the nodes are made of and the cache doesn't hold, and of the nodes themselves."""
        plan = Plan(self.cache)
        for node in nodes:
            plan.want(node, asked=True)
        return plan

    def computed(self, spans: Sequence[Span], progress: Callable[[float], None]) -> Iterator[list[Node | None]]:
        """The nodes of one span after the other, computed by WORKERS threads. What `progress` raises stops it."""

        def planned(span: Span) -> tuple[list[Node | None], Plan]:
            nodes = list(span())
            return nodes, self.plan(nodes)

        # Keys take a while to make: a span's are made while the span before is computed.
        with ThreadPoolExecutor(WORKERS) as pool, ThreadPoolExecutor(1) as planner:
            coming = planner.submit(planned, spans[0])
            for k in range(len(spans)):
                nodes, plan = coming.result()
                if k + 1 < len(spans):
                    coming = planner.submit(planned, spans[k + 1])
                self.carry_out(plan, pool, lambda done, k=k: progress((k + done) / len(spans)))  # type: ignore[misc]
                yield nodes
                progress((k + 1) / len(spans))

    def carry_out(self, plan: Plan, pool: Executor, progress: Callable[[float], None]) -> None:
        """Computes what was planned. Threads share the work, each node as soon as what it needs is there; going through nodes of
        their own they would wait for each other most of the time. What `progress` raises ends it at the next node; so does what a
        node raises."""
        count, done, told = max(1, len(plan.nodes)), 0, time.monotonic()
        pending: dict[Future[np.ndarray], str] = {}
        finished: SimpleQueue[Future[np.ndarray]] = SimpleQueue()

        def begin(nodes: Iterable[tuple[str, Node]]) -> None:
            for key, node in nodes:
                future = pool.submit(self.samples, node)
                pending[future] = key
                future.add_done_callback(finished.put)

        begin(plan.ready())
        try:
            while pending:
                try:
                    future = finished.get(timeout=PROGRESS_S)
                except Empty:
                    pass
                else:
                    future.result()
                    begin(plan.computed(pending.pop(future)))
                    done += 1
                if time.monotonic() - told > PROGRESS_S:
                    told = time.monotonic()
                    progress(done / count)
        finally:
            for future in pending:
                future.cancel()


class Plan:
    """Nodes that have to be computed, by key, and what each of them waits for. Quick nodes are computed where they are needed and
    are none of these, unless they are asked for: what they are made of is waited for instead."""

    def __init__(self, cache: RenderCache):
        self._cache = cache
        self.nodes: dict[str, Node] = {}
        self._waits_for: dict[str, set[str]] = {}
        self._known: dict[str, frozenset[str]] = {}
        self._behind: dict[str, list[str]] = {}

    def want(self, node: Node | None, asked: bool = False) -> frozenset[str]:
        """Keys of the nodes that have to be there before this one is. `asked`: it is to be computed here, however quick."""
        if node is None:
            return frozenset()
        if node.key not in self._known or (asked and node.key not in self.nodes):
            self._known[node.key] = self._missing(node, asked)
        return self._known[node.key]

    def _missing(self, node: Node, asked: bool) -> frozenset[str]:
        if self._cache.holds(node.key, on_disk=node.kept == "disk"):
            return frozenset()
        waits_for = frozenset().union(*(self.want(i) for i in node.inputs))
        if node.kept == "quick" and not asked:
            return waits_for
        self.nodes[node.key] = node
        self._waits_for[node.key] = set(waits_for)
        for key in waits_for:
            self._behind.setdefault(key, []).append(node.key)
        return frozenset((node.key,))

    def ready(self) -> list[tuple[str, Node]]:
        """What needs nothing else of these, in order of strips."""
        free = [(key, node) for key, node in self.nodes.items() if not self._waits_for[key]]
        return sorted(free, key=lambda pair: pair[1].group)

    def computed(self, key: str) -> list[tuple[str, Node]]:
        """What has waited for nothing but this."""
        free = []
        for following in self._behind.get(key, ()):
            self._waits_for[following].discard(key)
            if not self._waits_for[following]:
                free.append((following, self.nodes[following]))
        return free

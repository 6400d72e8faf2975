"""What has to be computed for some bars, in stages that threads can share: nothing in a stage needs anything else of it.

Bars side by side need the same bars around them; two threads that each went through bars of their own waited for each other
most of the time.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import FIRST_EXCEPTION, Executor, wait

from ersatz.core.mixdown.cache import RenderCache

#: From the notes to the finished mix, each made of the ones before.
STAGES = ("note", "part", "bus", "mix", "tone", "mastering", "master")
#: Seconds between two reports of progress.
PROGRESS_S = 0.2

Compute = Callable[[], object]


class Work:
    """Nodes by stage that the cache doesn't hold yet, each once."""

    def __init__(self, cache: RenderCache):
        self._cache = cache
        self._seen: set[str] = set()
        self._stages: dict[str, dict[str, list[Compute]]] = {stage: {} for stage in STAGES}

    def want(self, stage: str, key: str | None, compute: Compute, group: str = "") -> bool:
        """Whether the node is new here and has to be computed: then what it is made of is wanted too. Nodes of a group are done one
        after the other: they share what is quick to compute and soon forgotten."""
        if key is None or key in self._seen:
            return False
        self._seen.add(key)
        if self._cache.holds(key):
            return False
        self._stages[stage].setdefault(group, []).append(compute)
        return True

    def run(self, pool: Executor, progress: Callable[[float], None]) -> None:
        """Computes everything, stage by stage. What `progress` raises ends it at the next node; so does what a node raises."""
        stages = [[node for nodes in groups.values() for node in nodes] for groups in self._stages.values()]
        count, done = sum(len(nodes) for nodes in stages), 0
        for nodes in stages:
            pending = {pool.submit(node) for node in nodes}
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

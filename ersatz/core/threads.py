"""Linear algebra on one thread.

Threads and processes of ours share the cores already. The threads that a linear algebra library starts under them wait for each
other by spinning: where anything else runs, a small decomposition takes a hundred times as long.
"""

from __future__ import annotations

from contextlib import ContextDecorator
from threading import Lock
from types import TracebackType

from threadpoolctl import threadpool_limits


class _OneThread(ContextDecorator):
    """A limit that holds until the last of those who asked for it, in whichever thread, has gone."""

    def __init__(self) -> None:
        self._lock, self._inside = Lock(), 0
        self._limits: threadpool_limits | None = None

    def __enter__(self) -> None:
        with self._lock:
            if self._inside == 0:
                self._limits = threadpool_limits(limits=1, user_api="blas")
            self._inside += 1

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        with self._lock:
            self._inside -= 1
            if self._inside == 0 and self._limits is not None:
                self._limits.restore_original_limits()


#: `with one_thread_of_algebra:` or a decorator; for what is called by a job or a page and lasts.
one_thread_of_algebra = _OneThread()

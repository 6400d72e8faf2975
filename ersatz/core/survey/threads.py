"""Independent pieces of a measurement on two cores: compiled code and array operations let other threads run meanwhile."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

THREADS = 2
Piece = TypeVar("Piece")
Answer = TypeVar("Answer")


def in_threads(work: Callable[[Piece], Answer], pieces: Iterable[Piece]) -> list[Answer]:
    """`work` of every piece, in their order."""
    with ThreadPoolExecutor(THREADS) as pool:
        return list(pool.map(work, pieces))

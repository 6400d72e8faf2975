"""Linear algebra keeps to one thread while anyone asks for it, and gets its threads back behind the last."""

from __future__ import annotations

import numpy as np
import pytest
from threadpoolctl import threadpool_info, threadpool_limits

from ersatz.core.threads import one_thread_of_algebra


def _threads() -> set[int]:
    # What isn't loaded has no threads to count.
    np.linalg.svd(np.eye(3))
    return {library["num_threads"] for library in threadpool_info() if library["user_api"] == "blas"}


@pytest.fixture(autouse=True)
def two_threads():
    with threadpool_limits(limits=2, user_api="blas"):
        yield


def test_the_limit_holds_until_the_last_has_gone():
    assert _threads() == {2}
    with one_thread_of_algebra:
        with one_thread_of_algebra:
            assert _threads() == {1}
        assert _threads() == {1}
    assert _threads() == {2}


def test_it_is_lifted_behind_an_error_too():
    @one_thread_of_algebra
    def fails() -> None:
        assert _threads() == {1}
        raise ValueError("no")

    with pytest.raises(ValueError, match="no"):
        fails()
    assert _threads() == {2}

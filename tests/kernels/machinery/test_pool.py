"""Work that the pool distributes through the interpreter: results in order, errors to callers."""

import threading

import pytest

from vinestep.kernels.machinery import pool


@pytest.fixture
def two_threads(monkeypatch):
    monkeypatch.setattr(pool, "_allowed", 2)


def test_results_come_in_the_order_of_the_tasks(two_threads):
    assert pool.run_all([lambda i=i: i**2 for i in range(50)]) == [i**2 for i in range(50)]


def test_an_error_in_another_thread_reaches_the_caller(two_threads):
    """The caller's own task waits until the other has failed, so that it cannot be the caller's."""
    caller, failed = threading.get_ident(), threading.Event()

    def task():
        if threading.get_ident() == caller:
            failed.wait(5)
            return None
        failed.set()
        raise ValueError("sour")

    with pytest.raises(ValueError, match="sour"):
        pool.run_all([task, task])
    assert pool.run_all([lambda: 1, lambda: 2]) == [1, 2]

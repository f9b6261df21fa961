"""The matrix library's threads, which would compete with those of the pool: for as long as a run
lasts it keeps to one.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from . import pool

__all__ = ["keeps_to_one_thread", "one_blas_thread"]


class _Hold:
    """Who wants the matrix library to keep to one thread, and how many it had before the first of
    them.
    """

    def __init__(self) -> None:
        self.lock = threading.RLock()
        self.holders = 0
        self.before: list[tuple[Any, int]] = []

    def begin(self) -> None:
        with self.lock:
            self.holders += 1
            if self.holders > 1:
                return
            self.before = [(library, library.num_threads) for library in _matrix_libraries()]
            for library, _ in self.before:
                _set_threads(library, 1)
            pool.allow(min((count for _, count in self.before), default=pool.THREADS))

    def end(self) -> None:
        with self.lock:
            self.holders -= 1
            if self.holders == 0:
                self.put_back()

    def put_back(self) -> None:
        for library, count in self.before:
            if library.num_threads == 1:  # else somebody has changed it since
                _set_threads(library, count)
        self.before = []
        pool.allow(pool.THREADS)


_hold = _Hold()


def _matrix_libraries() -> list[Any]:
    """Those that are loaded now."""
    from threadpoolctl import ThreadpoolController

    return [
        library for library in ThreadpoolController().lib_controllers if library.user_api == "blas"
    ]


def _set_threads(library: Any, count: int) -> None:
    """Whatever thread asks. By its usual way threadpoolctl lets only the first thread that ever
    asked change anything, silently.
    """
    set_threads = getattr(library, "_real_set_num_threads", library.set_num_threads)
    set_threads(count)


@contextmanager
def one_blas_thread() -> Iterator[None]:
    """The matrix library keeps to one thread; afterwards it has as many as before, also after an
    error.

    A limit that somebody has set before (`threadpoolctl.threadpool_limits`) holds for the pool's
    threads as well. Several may ask for this at once, in any thread: what was before the first is
    put back after the last.

    Examples
    --------
    >>> with one_blas_thread():
    ...     x = np.ones((600, 600)) @ np.ones((600, 600))
    """
    hold = _hold
    hold.begin()
    try:
        yield
    finally:
        if hold is _hold:  # else this is a forked process, where it has been put back
            hold.end()


def keeps_to_one_thread() -> bool:
    """Whether somebody holds the matrix library to one thread now."""
    return _hold.holders > 0


def _put_back_in_child() -> None:
    global _hold
    held, _hold = _hold, _Hold()
    held.put_back()


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_put_back_in_child)

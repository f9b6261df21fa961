"""Ranges split over a few threads. The loops are compiled without the interpreter lock, so that they run side by side."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from contextlib import contextmanager
from itertools import pairwise
from time import perf_counter
from typing import Any, TypeVar

import numpy as np

__all__ = ["LONG", "WORTH", "blas_is_spinning", "blas_used", "in_parts", "n_threads", "over_rows", "rows_together", "spans"]

T = TypeVar("T")

MOST_THREADS = 8
GRAIN = 1 << 15  # elements in a part, at least
WORTH = 1 << 17  # elements below which handing parts to other threads costs more than it saves
SHARES = 4  # parts a thread, so that one that is held up is not waited for
LONG = 64  # elements from which a loop along a row is as fast as a long one


def n_threads() -> int:
    """How many threads share the work: ``VINESTEP_THREADS``, or ``OMP_NUM_THREADS``, or as many as there are processors, up to 8."""
    for name in ("VINESTEP_THREADS", "OMP_NUM_THREADS"):
        asked = os.environ.get(name, "")
        if asked.isdigit() and int(asked) > 0:
            return int(asked)
    usable = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return min(usable, MOST_THREADS)


SPINNING = 0.12  # seconds


class _Mine(threading.local):
    """What each thread knows of itself."""

    busy = False


THREADS = n_threads()
_blas_at = -SPINNING
_mine = _Mine()
_pool: ThreadPoolExecutor | None = None


def _forget() -> None:
    """In a forked process the threads do not exist."""
    global _pool
    _pool = None


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forget)


def spans(n: int, *, each: int = 1, multiple: int = 1, shares: int = SHARES) -> list[tuple[int, int]]:
    """``range(n)`` in parts for the threads to take, or in one if the work is small.

    `each` says how many elements one of the n stands for; the parts begin at multiples of `multiple`, and there are `shares` of them a
    thread. The parts depend on the work and the number of threads only, so that sums over them come out the same each time.
    """
    parts = 1
    if THREADS > 1 and n * each >= WORTH and not _mine.busy:
        parts = max(1, min(shares * THREADS, n * each // GRAIN, n // multiple))
    bounds = [n * k // parts // multiple * multiple for k in range(parts)] + [n]
    return list(pairwise(bounds))


def rows_together(n: int, width: int) -> int:
    """How many of n narrow rows to treat as one long row; a power of two that divides n."""
    together = 1
    while together * width < LONG and n % (2 * together) == 0 and n:
        together *= 2
    return together


def blas_used() -> None:
    """Said of a matrix product large enough for several threads of BLAS: these go on spinning for a while, in the way of ours."""
    global _blas_at
    _blas_at = perf_counter()


def blas_is_spinning() -> bool:
    """Whether threads of BLAS are still waiting for more."""
    return perf_counter() - _blas_at < SPINNING


@contextmanager
def _being_busy() -> Iterator[None]:
    """Work handed out by work on one of several parts is not split again."""
    before, _mine.busy = _mine.busy, True
    try:
        yield
    finally:
        _mine.busy = before


def in_parts(work: Callable[[int, int], T], parts: list[tuple[int, int]]) -> list[T]:
    """``work(start, stop)`` for each part, side by side; the results in order."""
    if len(parts) == 1:
        return [work(*parts[0])]
    if THREADS == 1 or _mine.busy or blas_is_spinning():
        with _being_busy():
            return [work(*part) for part in parts]
    global _pool
    pool = _pool
    if pool is None:
        pool = _pool = ThreadPoolExecutor(THREADS - 1, thread_name_prefix="vinestep")
    found: list[Any] = [None] * len(parts)
    left, held = iter(range(len(parts))), [work]

    def take() -> None:
        with _being_busy():
            for number in left:
                found[number] = held[0](*parts[number])

    helpers = [pool.submit(take) for _ in range(THREADS - 1)]
    try:
        take()
    finally:
        begun = [helper for helper in helpers if not helper.cancel()]
        wait(begun)
    for helper in begun:
        helper.result()
    held.clear()  # a helper may live a moment longer, but not the arrays that the work holds
    return found


def over_rows(loop: Callable[..., T], arrays: Sequence[np.ndarray]) -> list[T]:
    """``loop(*arrays)`` for arrays of one length: whole if the work is small, otherwise part by part; the results in order."""
    if arrays[0].size < WORTH:
        return [loop(*arrays)]
    n = len(arrays[0])
    return in_parts(lambda start, stop: loop(*(array[start:stop] for array in arrays)), spans(n, each=arrays[0].size // n))

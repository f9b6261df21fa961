"""Loops divided among the threads of the pool. Kernels release the interpreter lock, so that they
run in parallel.

A kernel that is given a board distributes its parts itself (`helpers`); other work is distributed
through the interpreter by `run_all`, which pays for large work only.
"""

from __future__ import annotations

import atexit
import os
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from queue import SimpleQueue
from typing import Any, TypeVar

import numpy as np

from .counters import CALLED, board
from .grain_sizes import WORTH_SHARING, span
from .lazy_loading import Kernels

__all__ = [
    "THREADS",
    "WORTH",
    "allow",
    "helpers",
    "in_parts",
    "n_threads",
    "over_rows",
    "run_all",
    "spans",
]

T = TypeVar("T")

job_distribution = Kernels("vinestep.kernels.machinery.job_distribution")

MOST_THREADS = 8
RANKS_HERE = ("MPI_LOCALNRANKS", "OMPI_COMM_WORLD_LOCAL_SIZE")  # as MPI launchers tell
WORTH_WAKING = (
    1 << 17
)  # elements from which threads are woken, to help with this or with what comes after

# of work distributed through the interpreter; for kernels that distribute their own parts see
# `grain_sizes`
GRAIN = 1 << 15  # elements in a part, at least
WORTH = 1 << 19  # elements below which distributing parts costs more than it saves
SHARES = 4  # parts per thread, so that a delayed thread does not hold up the others


def n_threads() -> int:
    """How many threads share the work: ``VINESTEP_THREADS``, or ``OMP_NUM_THREADS``, or as many as
    there are processors, up to 8; of several ranks on a machine each has its share.
    """
    for name in ("VINESTEP_THREADS", "OMP_NUM_THREADS"):
        asked = os.environ.get(name, "")
        if asked.isdigit() and int(asked) > 0:
            return int(asked)
    usable = (
        len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    )
    ranks = [os.environ.get(name, "") for name in RANKS_HERE]
    here = max(int(text) for text in (*ranks, "1") if text.isdigit())
    if usable == os.cpu_count():  # else the launcher has bound each to processors of its own
        usable = max(1, usable // here)
    return min(usable, MOST_THREADS)


# polls of a board before a thread sleeps; some milliseconds, longer than most of what happens
# between two steps
PATIENCE = 240_000


class _Mine(threading.local):
    """What each thread knows of itself."""

    busy = False


THREADS = n_threads()
_allowed = THREADS
_mine = _Mine()


class _Seat:
    """A place at a piece of work for one helper, who may come or not."""

    def __init__(self, take: Callable[[], None]) -> None:
        self._take = take
        self._free = threading.Lock()
        self._left = np.zeros(1, np.int64)
        self._outcome: SimpleQueue[BaseException | None] = SimpleQueue()

    def fill(self) -> None:
        """What the helper does."""
        if not self._free.acquire(blocking=False):
            return
        outcome = None
        try:
            self._take()
        except BaseException as error:  # raised again in the waiting thread
            outcome = error
        del self._take  # a helper may live a moment longer, but not the arrays that the work holds
        self._outcome.put(outcome)
        self._left[0] = 1

    def outcome(self) -> BaseException | None:
        """Wait for the pool thread if it has begun, and take no more."""
        if self._free.acquire(blocking=False):
            del self._take
            return None
        job_distribution.until_changed(self._left, 0, PATIENCE)
        return self._outcome.get()


class _Helper:
    """A thread of the pool: it polls the board for a moment after its last work, then sleeps until
    its queue holds something.
    """

    def __init__(self, number: int, board: np.ndarray) -> None:
        self.seats: SimpleQueue[_Seat | None] = SimpleQueue()
        self.asleep = False
        self._board = board
        self._leaving = False
        self.thread = threading.Thread(target=self._serve, name=f"vinestep {number}", daemon=True)
        self.thread.start()

    def wake(self) -> None:
        if self.asleep:
            self.asleep = False
            self.seats.put(None)

    def leave(self) -> None:
        self._leaving = True
        self.seats.put(None)

    def _serve(self) -> None:
        while not self._leaving:
            seen = self._board[CALLED]
            if self.seats.empty():
                job_distribution.serve(self._board, seen, PATIENCE)
                self.asleep = self.seats.empty()
            seat = self.seats.get()
            self.asleep = False
            if seat is not None:
                seat.fill()


class _Crew:
    """The thread pool of one board. Waking a thread takes as long as a small product."""

    def __init__(self, n: int) -> None:
        self.board = board()
        self._helpers = [_Helper(number, self.board) for number in range(n)]

    def seats(self, take: Callable[[], None]) -> list[_Seat]:
        """Calls all helpers."""
        seats = [_Seat(take) for _ in self._helpers]
        for helper, seat in zip(self._helpers, seats, strict=True):
            helper.seats.put(seat)
        self._call()
        return seats

    def wake(self) -> None:
        """Wake the sleeping threads, without waiting for them."""
        for helper in self._helpers:
            helper.wake()

    def dismiss(self) -> None:
        """Ends the threads."""
        for helper in self._helpers:
            helper.leave()
        self._call()
        for helper in self._helpers:
            helper.thread.join()

    def _call(self) -> None:
        self.board[CALLED] += 1


NOBODY = board(taken=True)
_crew: _Crew | None = None
_hiring = threading.Lock()


def _hired() -> _Crew:
    global _crew
    with _hiring:
        if _crew is None:
            _crew = _Crew(_allowed - 1)
    return _crew


def allow(n: int) -> None:
    """From now on at most so many threads work; work is split into the same parts whatever their
    number.
    """
    global _allowed, _crew
    n = min(n, THREADS)
    with _hiring:
        if n == _allowed:
            return
        _allowed, left, _crew = n, _crew, None
    if left is not None:
        left.dismiss()


@atexit.register
def _dismiss() -> None:
    if _crew is not None:
        _crew.dismiss()


def _forget() -> None:
    """In a forked process the threads do not exist."""
    global _crew, _hiring
    _crew, _hiring = None, threading.Lock()


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forget)


def spans(
    n: int, *, each: int = 1, multiple: int = 1, shares: int = SHARES
) -> list[tuple[int, int]]:
    """``range(n)`` in parts for the threads to take, or in one if the work is small.

    `each` says how many elements one of the n stands for; the parts begin at multiples of
    `multiple`, and there are `shares` of them a thread. The parts depend on the work and the number
    of threads only, so that sums over them come out the same each time.
    """
    parts = 1
    if THREADS > 1 and n * each >= WORTH and not _mine.busy:
        parts = max(1, min(shares * THREADS, n * each // GRAIN, n // multiple))
    return [span(n, parts, multiple, part) for part in range(parts)]


def helpers(cost: int) -> tuple[np.ndarray, int]:
    """Board and number of threads for a kernel that distributes so many elements itself."""
    if THREADS == 1 or cost < WORTH_SHARING or _mine.busy:
        return NOBODY, 1
    if _allowed == 1:
        return NOBODY, THREADS
    crew = _crew or _hired()  # the lock of the latter takes longer than distributing a job
    if cost >= WORTH_WAKING:
        crew.wake()
    return crew.board, THREADS


@contextmanager
def _being_busy() -> Iterator[None]:
    """Nested parallel work runs single-threaded."""
    before, _mine.busy = _mine.busy, True
    try:
        yield
    finally:
        _mine.busy = before


def run_all(tasks: Sequence[Callable[[], T]]) -> list[T]:
    """The results of all tasks in order; the tasks run in parallel."""
    if len(tasks) == 1:
        return [tasks[0]()]
    if _allowed == 1 or _mine.busy:
        with _being_busy():
            return [task() for task in tasks]
    result: list[Any] = [None] * len(tasks)
    left = iter(range(len(tasks)))

    def take() -> None:
        with _being_busy():
            for number in left:
                result[number] = tasks[number]()

    seats = _hired().seats(take)
    try:
        take()
    finally:
        outcomes = [seat.outcome() for seat in seats]
    for error in outcomes:
        if error is not None:
            raise error
    return result


def in_parts(work: Callable[[int, int], T], parts: Sequence[tuple[int, int]]) -> list[T]:
    """``work(start, stop)`` for each part, side by side; the results in order."""
    return run_all([partial(work, *part) for part in parts])


def over_rows(loop: Callable[..., T], arrays: Sequence[np.ndarray]) -> list[T]:
    """``loop(*arrays)`` for arrays of one length: whole if the work is small, otherwise part by
    part; the results in order.
    """
    if arrays[0].size < WORTH:
        return [loop(*arrays)]
    n = len(arrays[0])
    return in_parts(
        lambda start, stop: loop(*(array[start:stop] for array in arrays)),
        spans(n, each=arrays[0].size // n),
    )

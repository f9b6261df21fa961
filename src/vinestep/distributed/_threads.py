"""Ranks that are threads of one process: for tests of what ranks do, and for notebooks."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ..errors import PeerError, SettingError
from ._communicator import TIMEOUT, Communicator, Done, Pending, Span
from ._current import using

__all__ = ["ThreadCommunicator", "run_in_threads"]


LISTEN = 0.05  # seconds from one look for failures to the next


class _Shared:
    def __init__(self, size: int) -> None:
        self.size = size
        self.barrier = threading.Barrier(size)
        self.values: list[Any] = [None] * size
        self.failure = ""
        self.posted: dict[tuple[int, int], queue.SimpleQueue[Any]] = {
            (here, there): queue.SimpleQueue() for here in range(size) for there in range(size)
        }


class ThreadCommunicator(Communicator):
    """A rank that is a thread; see `run_in_threads`."""

    def __init__(self, shared: _Shared, rank: int, timeout: float) -> None:
        super().__init__(timeout)
        self.shared, self.rank, self.size = shared, rank, shared.size

    def _meet(self, timeout: float) -> None:
        shared = self.shared
        try:
            shared.barrier.wait(timeout)
        except threading.BrokenBarrierError:
            told = shared.failure or (
                f"a rank did not come within {timeout:g} seconds; rank {self.rank} waited."
            )
            raise PeerError(f"The run ended on all ranks: {told}") from None

    def _gather(self, value: Any, timeout: float) -> list[Any]:
        shared = self.shared
        shared.values[self.rank] = value
        self._meet(timeout)
        found = list(shared.values)
        self._meet(timeout)
        return found

    def _start_sum(self, array: np.ndarray) -> Pending:
        parts = self._gather(array, self.timeout)
        self._raise_failures(parts)
        total = parts[0].copy()
        for part in parts[1:]:
            total += part
        self._meet(self.timeout)
        array[...] = total
        return Done()

    def _start_all_to_all(self, sent: np.ndarray, received: np.ndarray) -> Pending:
        for rank, rows in enumerate(self._gather(sent, self.timeout)):
            received[rank] = rows[self.rank]
        self._meet(self.timeout)
        return Done()

    def _start_all_gather(self, sent: np.ndarray, received: np.ndarray) -> Pending:
        for rank, row in enumerate(self._gather(sent, self.timeout)):
            received[rank] = row
        self._meet(self.timeout)
        return Done()

    def _gather_into(self, array: np.ndarray, spans: Sequence[Span], root: int | None) -> None:
        every = self._gather(array, self.timeout)
        if root in (None, self.rank):
            for rank, (start, stop) in enumerate(spans):
                if rank != self.rank:
                    there = every[rank]
                    array[start:stop] = there[start:stop] if root is None else there
        self._meet(self.timeout)

    def _send(self, value: Any, rank: int) -> None:
        self.shared.posted[self.rank, rank].put(value)

    def _receive(self, rank: int) -> Any:
        until = time.monotonic() + self.timeout
        while not self.shared.failure:
            try:
                return self.shared.posted[rank, self.rank].get(timeout=LISTEN)
            except queue.Empty:
                if time.monotonic() > until:
                    told = f"rank {rank} did not come within {self.timeout:g} seconds"
                    self._tell_failure(told)
        raise PeerError(f"The run ended on all ranks: {self.shared.failure}")

    def _tell_failure(self, text: str) -> None:
        self.shared.failure = self.shared.failure or text
        self.shared.barrier.abort()


def run_in_threads(
    size: int, function: Callable[[], Any], *, timeout: float = TIMEOUT
) -> list[Any]:
    """Call a function once on each of so many ranks, which are threads; what each returned.

    Parameters
    ----------
    size : int
    function : callable
        Takes nothing; `vinestep.distributed.communicator` tells it which rank it is.
    timeout : float
        Seconds after which a rank that does not come ends all.

    Raises
    ------
    PeerError, or what was raised first
        If a rank fails, all do.

    Examples
    --------
    >>> run_in_threads(3, lambda: vs.distributed.communicator().rank)
    [0, 1, 2]
    """
    if isinstance(size, bool) or not isinstance(size, int) or size < 1:
        raise SettingError(
            f"run_in_threads: size must be a whole number of at least 1, got {size!r}."
        )
    shared = _Shared(size)
    results: list[Any] = [None] * size
    errors: list[BaseException | None] = [None] * size

    def act(rank: int) -> None:
        own = ThreadCommunicator(shared, rank, timeout)
        try:
            with using(own), own.guarded():
                results[rank] = function()
        except BaseException as error:
            errors[rank] = error

    threads = [threading.Thread(target=act, args=(rank,), daemon=True) for rank in range(size)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    raised = [error for error in errors if error is not None]
    if raised:
        first = [error for error in raised if not isinstance(error, PeerError)]
        error = (first or raised)[0]
        raise error
    return results

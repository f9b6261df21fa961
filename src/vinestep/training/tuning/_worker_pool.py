"""Work that is done by several processes, here or on a Dask cluster, and done again where a process
was killed.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from queue import Empty, SimpleQueue
from types import TracebackType
from typing import Any, Self

from ...errors import RunError, SettingError

__all__ = ["WorkerPool", "worker_pool"]

TRIES = 4  # of one task, whose process was killed each time
WATCH_SECONDS, GRACE_SECONDS = 0.5, 5.0  # of processes whose parent is gone
ANSWER_SECONDS = 10  # of a scheduler
LOOK_SECONDS, WITHOUT_WORKERS = 2.0, 120.0
INHERITED = ("VINESTEP_LEDGER",)
"""Variables of this process that hold for the work as well."""

Function = Callable[..., Any]


class WorkerPool(ABC):
    """Workers, each with one task at a time."""

    size: int

    @abstractmethod
    def _submit(self, function: Function, arguments: Sequence[Any]) -> Any:
        """Begin a task on a worker that has none."""

    @abstractmethod
    def _first(self, futures: Sequence[Any]) -> list[Any]:
        """Those that are done, as soon as one is."""

    @abstractmethod
    def _result(self, future: Any) -> Any:
        """Of one that is done; raises `_WorkerKilledError` if its process is gone."""

    @abstractmethod
    def close(self, *, at_once: bool = False) -> None:
        """Let the workers go."""

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close(at_once=kind is not None)

    def completed(
        self, function: Function, tasks: Mapping[str, Sequence[Any]]
    ) -> Iterator[tuple[str, Any]]:
        """Key and result of each task, as they come.

        Raises
        ------
        RunError
            If the process of a task was killed `TRIES` times.
        """
        waiting, tries = list(tasks), dict.fromkeys(tasks, 0)
        under_way: dict[Any, str] = {}
        try:
            while waiting or under_way:
                while waiting and len(under_way) < self.size:
                    key = waiting.pop(0)
                    tries[key] += 1
                    under_way[self._submit(function, tasks[key])] = key
                for future in self._first(list(under_way)):
                    key = under_way.pop(future)
                    try:
                        result = self._result(future)
                    except _WorkerKilledError as error:
                        if tries[key] >= TRIES:
                            raise RunError(
                                f"The process that worked on {key} was killed {TRIES} times. Is "
                                "there too little memory? What is done is kept: the same call "
                                "goes on."
                            ) from error
                        waiting.insert(0, key)
                        continue
                    yield key, result
        finally:
            for future in under_way:
                future.cancel()


class _WorkerKilledError(RunError):
    """Handled within this file."""


class _Processes(WorkerPool):
    """Processes of this machine, each by itself: where one is killed, the others go on."""

    def __init__(self, size: int) -> None:
        self.size = size
        self._context = multiprocessing.get_context("spawn")
        self._free = [self._new() for _ in range(size)]
        self._workers: dict[Future[Any], ProcessPoolExecutor] = {}

    def _new(self) -> ProcessPoolExecutor:
        return ProcessPoolExecutor(
            1, mp_context=self._context, initializer=_exit_with, initargs=(os.getpid(),)
        )

    def _submit(self, function: Function, arguments: Sequence[Any]) -> Future[Any]:
        worker = self._free.pop()
        future = worker.submit(function, *arguments)
        self._workers[future] = worker
        return future

    def _first(self, futures: Sequence[Future[Any]]) -> list[Future[Any]]:
        return list(wait(futures, return_when=FIRST_COMPLETED).done)

    def _result(self, future: Future[Any]) -> Any:
        worker = self._workers.pop(future)
        try:
            result = future.result()
        except BrokenProcessPool as error:
            worker.shutdown(wait=False)
            self._free.append(self._new())
            raise _WorkerKilledError("Its process was killed.") from error
        except BaseException:
            self._free.append(worker)
            raise
        self._free.append(worker)
        return result

    def close(self, *, at_once: bool = False) -> None:
        for worker in (*self._free, *self._workers.values()):
            worker.shutdown(wait=True, cancel_futures=at_once)


class _Cluster(WorkerPool):
    """Workers of a Dask cluster, wherever they are; they need the same files and packages."""

    def __init__(self, address: str) -> None:
        try:
            import distributed
        except ImportError as error:
            raise SettingError(
                f"cluster={address!r}: Dask's package for clusters is not installed. Install it: "
                "pip install 'vinestep[dask]'."
            ) from error
        self._distributed: Any = distributed
        self._done: SimpleQueue[Any] = SimpleQueue()
        try:
            self._client: Any = self._distributed.Client(
                address, timeout=ANSWER_SECONDS, set_as_default=False
            )
        except (OSError, TimeoutError, ValueError) as error:
            raise RunError(
                f"cluster={address!r}: no scheduler of Dask answers there ({error}). Start one "
                "with its command dask scheduler, and workers with dask worker."
            ) from error

    @property
    def size(self) -> int:  # type: ignore[override]
        """Workers may come and go."""
        return max(1, int(sum(self._client.nthreads().values())))

    def _submit(self, function: Function, arguments: Sequence[Any]) -> Any:
        own = {name: os.environ[name] for name in INHERITED if name in os.environ}
        future = self._client.submit(_on_worker, own, function, *arguments, pure=False)
        future.add_done_callback(self._done.put)
        return future

    def _first(self, futures: Sequence[Any]) -> list[Any]:
        found = {self._next().key}
        with suppress(Empty):
            while True:
                found.add(self._done.get_nowait().key)
        return [future for future in futures if future.key in found]

    def _next(self) -> Any:
        """The next that is done.

        Raises
        ------
        RunError
            If the cluster has no workers for a while.
        """
        seen = time.monotonic()
        while True:
            try:
                return self._done.get(timeout=LOOK_SECONDS)
            except Empty:
                now = time.monotonic()
                if self._client.nthreads():
                    seen = now
                elif now - seen > WITHOUT_WORKERS:
                    raise RunError(
                        f"The cluster has had no workers for {WITHOUT_WORKERS:g} seconds. Start "
                        "some: dask worker. What is done is kept: the same call goes on."
                    ) from None

    def _result(self, future: Any) -> Any:
        gone = (self._distributed.KilledWorker, self._distributed.CancelledError)
        try:
            return future.result()
        except gone as error:
            raise _WorkerKilledError("Its process was killed.") from error

    def close(self, *, at_once: bool = False) -> None:
        self._client.close()


def worker_pool(processes: int, cluster: str = "") -> WorkerPool:
    """Processes of this machine, or the workers of a Dask cluster at this address."""
    return _Cluster(cluster) if cluster else _Processes(processes)


def _on_worker(environment: Mapping[str, str], function: Function, *arguments: Any) -> Any:
    os.environ |= environment
    return function(*arguments)


def _exit_with(parent: int) -> None:
    """Let this process end when the one that started it is gone: the run is stopped as by Ctrl-C,
    so that its state is saved, and then the process leaves.
    """

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(WATCH_SECONDS)
        os.kill(os.getpid(), signal.SIGINT)
        time.sleep(GRACE_SECONDS)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()

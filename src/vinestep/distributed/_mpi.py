"""Ranks that are processes, on one machine or many, by MPI (the Message Passing Interface).

Nothing waits in a call of the library, since such a call cannot be left: every exchange is begun,
and asked again and again whether it is done. In between, a rank sees whether another one told of a
failure, and how long it has waited.
"""

from __future__ import annotations

import atexit
import os
import pickle
import sys
import threading
import time
from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np
from mpi4py import MPI

from ..errors import PeerError
from ._communicator import GRACE, TIMEOUT, Communicator, Pending, Span
from ._launch import end_with_launcher

__all__ = ["MPICommunicator"]

SMALL = 1024  # bytes of a value that is gathered in one exchange
HEAD = 8  # of them say how long the value is
FAILURE, ROLL_CALL, NEVER, POST, FAREWELL = 71, 72, 73, 74, 75  # tags
BUSY_SECONDS = 0.02  # of asking without a pause
PAUSE = 1e-4
PROBES = 16
LONG = 1 << 20  # bytes of a sum that is not over by the time it is waited for


class MPICommunicator(Communicator):
    """The processes that an MPI launcher started."""

    def __init__(self, comm: Any = None) -> None:
        super().__init__(float(os.environ.get("VINESTEP_RANK_TIMEOUT", TIMEOUT)))
        self._comm = (MPI.COMM_WORLD if comm is None else comm).Dup()
        self._sums = self._comm.Dup()  # what meets a gather by mistake must not be taken for one
        self.rank, self.size = self._comm.Get_rank(), self._comm.Get_size()
        self._sends: list[Any] = []
        self._posted: list[Any] = []
        self._under_way: set[_Request] = set()
        self._progress = _Progress(self._comm, self._under_way)
        atexit.register(self._leave)
        end_with_launcher()

    def _gather(self, value: Any, timeout: float) -> list[Any]:
        data = pickle.dumps(value, protocol=5)
        own = np.zeros(SMALL, np.uint8)
        own[:HEAD] = np.frombuffer(len(data).to_bytes(HEAD, "little"), np.uint8)
        own[HEAD : HEAD + len(data)] = np.frombuffer(data[: SMALL - HEAD], np.uint8)
        every = np.empty((self.size, SMALL), np.uint8)
        self._finish(self._comm.Iallgather(own, every), timeout)
        lengths = [int.from_bytes(row[:HEAD].tobytes(), "little") for row in every]
        if max(lengths) <= SMALL - HEAD:
            rows = [row[HEAD : HEAD + n] for row, n in zip(every, lengths, strict=True)]
        else:
            whole = np.empty(sum(lengths), np.uint8)
            places = np.concatenate([[0], np.cumsum(lengths)])
            self._finish(
                self._comm.Iallgatherv(
                    np.frombuffer(data, np.uint8), [whole, lengths, places[:-1].tolist(), MPI.BYTE]
                ),
                timeout,
            )
            rows = [whole[a:b] for a, b in pairwise(places)]
        return [pickle.loads(row.tobytes()) for row in rows]

    def _start_sum(self, array: np.ndarray) -> Pending:
        if array.nbytes >= LONG:
            self._progress.wake()
        return self._pending(self._sums.Iallreduce(MPI.IN_PLACE, array, op=MPI.SUM))

    def _start_all_to_all(self, sent: np.ndarray, received: np.ndarray) -> Pending:
        return self._pending(self._sums.Ialltoall(sent, received))

    def _start_all_gather(self, sent: np.ndarray, received: np.ndarray) -> Pending:
        return self._pending(self._sums.Iallgather(sent, received))

    def _gather_into(self, array: np.ndarray, spans: Sequence[Span], root: int | None) -> None:
        counts = [stop - start for start, stop in spans]
        starts = [start for start, _ in spans]
        placed = [array, counts, starts, MPI.Datatype.fromcode(array.dtype.char)]
        if root is None:
            request = self._sums.Iallgatherv(MPI.IN_PLACE, placed)
        elif self.rank == root:
            request = self._sums.Igatherv(MPI.IN_PLACE, placed, root)
        else:
            request = self._sums.Igatherv(array, None, root)
        self._pending(request).wait()

    def _send(self, value: Any, rank: int) -> None:
        self._posted = [request for request in self._posted if not request.Test()]
        self._posted.append(self._sums.isend(value, dest=rank, tag=POST))

    def _receive(self, rank: int) -> Any:
        found: list[Any] = []

        class Arrival:
            """Asked as a request is."""

            @staticmethod
            def Test() -> bool:  # noqa: N802
                message = self._sums.improbe(rank, POST)
                found.append(message)
                return message is not None

        self._finish(Arrival, self.timeout)
        return found[-1].recv()

    def _pending(self, request: Any) -> Pending:
        return _Request(self, request, self._under_way)

    def _finish(self, request: Any, timeout: float) -> None:
        begun = time.monotonic()
        while not request.Test():
            waited = time.monotonic() - begun
            if waited < BUSY_SECONDS:
                os.sched_yield()
                continue
            self._hear()
            if waited > timeout:
                self._give_up(waited, timeout < self.timeout)
            time.sleep(PAUSE)

    def _hear(self) -> None:
        """Raise what another rank told of."""
        status = MPI.Status()
        if self._comm.Iprobe(MPI.ANY_SOURCE, FAILURE, status):
            text = self._comm.recv(source=status.source, tag=FAILURE)
            self.failed = True
            raise PeerError(f"The run ended on all ranks: {text}")

    def _give_up(self, waited: float, failing: bool) -> None:
        """Say which ranks do not answer."""
        if failing:
            raise PeerError("The others wait for something else.")
        self._send_all("", ROLL_CALL)
        here, until = {self.rank}, time.monotonic() + GRACE
        status = MPI.Status()
        while time.monotonic() < until and len(here) < self.size:
            self._hear()
            if self._comm.Iprobe(MPI.ANY_SOURCE, ROLL_CALL, status):
                self._comm.recv(source=status.source, tag=ROLL_CALL)
                here.add(status.source)
            time.sleep(PAUSE)
        late = [str(rank) for rank in range(self.size) if rank not in here]
        said = f"rank {', '.join(late)}" if late else "a rank"
        self.failed = True
        raise PeerError(
            f"The run ended on all ranks: {said} of {self.size} did not come within "
            f"{waited:.0f} seconds. See what it does there: reading, saving, an observer. More "
            "time: VINESTEP_RANK_TIMEOUT."
        )

    def _tell_failure(self, text: str) -> None:
        self._send_all(text, FAILURE)

    def _send_all(self, text: str, tag: int) -> None:
        self._sends += [
            self._comm.isend(text, dest=rank, tag=tag)
            for rank in range(self.size)
            if rank != self.rank
        ]

    def _leave(self) -> None:
        """After a failure, MPI would wait for exchanges that nobody ends.

        A launcher ends all when one is gone, so that nobody goes before all have said their words.
        """
        self._progress.end()
        if not self.failed:
            return
        sys.stdout.flush()
        sys.stderr.flush()
        self._send_all("", FAREWELL)
        there, until = self.size - 1, time.monotonic() + GRACE
        while time.monotonic() < until and (there or not MPI.Request.Testall(self._sends)):
            if there and self._comm.Iprobe(MPI.ANY_SOURCE, FAREWELL):
                self._comm.recv(source=MPI.ANY_SOURCE, tag=FAREWELL)
                there -= 1
            else:
                time.sleep(PAUSE)
        if self.rank == 0 and there:
            time.sleep(GRACE)  # those that come late find rank 0 still there
        os._exit(1)


class _Progress:
    """MPI moves what is under way only while one of its functions is called. While the gradients of
    other layers are computed, a thread of its own calls one.
    """

    def __init__(self, comm: Any, under_way: set[_Request]) -> None:
        self.comm, self.under_way = comm, under_way
        self.wanted = threading.Event()
        self.ended = False
        self.thread: threading.Thread | None = None

    def wake(self) -> None:
        if self.thread is None and MPI.Query_thread() == MPI.THREAD_MULTIPLE:
            self.thread = threading.Thread(target=self._go_on, daemon=True)
            self.thread.start()
        self.wanted.set()

    def _go_on(self) -> None:
        while not self.ended:
            self.wanted.wait()
            self.wanted.clear()
            while self.under_way and not self.ended:
                for _ in range(PROBES):
                    self.comm.Iprobe(MPI.ANY_SOURCE, NEVER)
                time.sleep(PAUSE)

    def end(self) -> None:
        """Before MPI ends, after which none of its functions may be called."""
        self.ended = True
        self.wanted.set()
        if self.thread is not None:
            self.thread.join()


class _Request(Pending):
    """An exchange that MPI makes, step by step as it is asked for it.

    As long as it is under way it is held, and with it its array: where a rank fails, those of the
    others are never finished, and MPI may still write there.
    """

    def __init__(self, owner: MPICommunicator, request: Any, under_way: set[_Request]) -> None:
        self.owner, self.request, self.under_way = owner, request, under_way
        under_way.add(self)

    def progress(self) -> None:
        if self in self.under_way and self.request.Test():
            self.under_way.remove(self)

    def wait(self) -> None:
        if self in self.under_way:
            self.owner._finish(self.request, self.owner.timeout)
            self.under_way.remove(self)

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
import time
from itertools import pairwise
from typing import Any

import numpy as np
from mpi4py import MPI

from ..errors import PeerError
from ._communicator import GRACE, TIMEOUT, Communicator, Pending
from ._launch import end_with_launcher

__all__ = ["MPICommunicator"]

SMALL = 1024  # bytes of a value that is gathered in one exchange
HEAD = 8  # of them say how long the value is
FAILURE, ROLL_CALL = 71, 72  # tags
BUSY_SECONDS = 0.02  # of asking without a pause
PAUSE = 1e-4


class MPICommunicator(Communicator):
    """The processes that an MPI launcher started."""

    def __init__(self, comm: Any = None) -> None:
        super().__init__(float(os.environ.get("VINESTEP_RANK_TIMEOUT", TIMEOUT)))
        self._comm = (MPI.COMM_WORLD if comm is None else comm).Dup()
        self._sums = self._comm.Dup()  # what meets a gather by mistake must not be taken for one
        self.rank, self.size = self._comm.Get_rank(), self._comm.Get_size()
        self._sends: list[Any] = []
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
        return _Sum(self, self._sums.Iallreduce(MPI.IN_PLACE, array, op=MPI.SUM))

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
        """After a failure, MPI would wait for exchanges that nobody ends."""
        if not self.failed:
            return
        until = time.monotonic() + GRACE
        while time.monotonic() < until and not MPI.Request.Testall(self._sends):
            time.sleep(PAUSE)
        sys.stdout.flush()
        sys.stderr.flush()
        if self.rank == 0:
            time.sleep(GRACE)  # a launcher ends all when one is gone
        os._exit(1)


class _Sum(Pending):
    def __init__(self, owner: MPICommunicator, request: Any) -> None:
        self.owner, self.request = owner, request

    def wait(self) -> None:
        self.owner._finish(self.request, self.owner.timeout)

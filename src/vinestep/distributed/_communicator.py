"""What processes that train together need of one another, whatever carries it."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any, NamedTuple, NoReturn

import numpy as np

from ..errors import PeerError

__all__ = ["GRACE", "TIMEOUT", "Alone", "Communicator", "Pending", "Span"]

TIMEOUT = 600.0  # seconds
GRACE = 3.0  # that others have to hear of a failure

Span = tuple[int, int]
"""Start and stop of one rank's stretch of a flat array."""


class _Failure(NamedTuple):
    """What a rank gives in place of its value."""

    text: str
    kind: type[Exception] | None = None
    """Of an error that all raise; None where a rank just cannot go on."""


def _known_to_all(error: BaseException) -> None:
    """Every rank raises it, so that nobody has to be told of it."""
    error.of_all_ranks = True  # type: ignore[attr-defined]


def _raised_elsewhere(error: PeerError) -> PeerError:
    """A rank raised it outside of what the others were doing."""
    error.elsewhere = True  # type: ignore[attr-defined]
    return error


class Pending(ABC):
    """A sum under way."""

    @abstractmethod
    def wait(self) -> None:
        """Until the array holds the sum."""

    def progress(self) -> None:  # noqa: B027  # most go on by themselves
        """Let it go on, without waiting for it."""

    def advance(self) -> None:  # noqa: B027
        """Begin all that it needs of other ranks, of which every one does so."""


class Communicator(ABC):
    """The ranks of a run: processes, or threads, that do the same at the same time, each with its
    part of every batch.

    What is said here is asked of every rank, in the same order. Results are the same on each, to
    the last bit, and for the same number of ranks the same each time.

    Attributes
    ----------
    rank, size : int
        Which of how many this is.
    timeout : float
        Seconds after which a rank that does not come ends the run on all.
    seconds : dict
        Spent in ``"waiting"`` for other ranks, and in ``"exchanging"`` arrays.

    Examples
    --------
    >>> comm = vs.distributed.Alone()
    >>> comm.rank, comm.size, comm.all_gather("here")
    (0, 1, ['here'])
    """

    rank: int
    size: int

    def __init__(self, timeout: float = TIMEOUT) -> None:
        self.timeout = timeout
        self.seconds = {"waiting": 0.0, "exchanging": 0.0}
        self.first_failed = False
        """Whether the first rank failed when this one did."""
        self.failed = False
        """Whether an error was told to the others, or came from them."""

    @abstractmethod
    def _gather(self, value: Any, timeout: float) -> list[Any]: ...

    @abstractmethod
    def _start_sum(self, array: np.ndarray) -> Pending: ...

    @abstractmethod
    def _start_all_to_all(self, sent: np.ndarray, received: np.ndarray) -> Pending:
        """Row i of bytes goes to rank i, which finds it in the row of this rank."""

    @abstractmethod
    def _start_all_gather(self, sent: np.ndarray, received: np.ndarray) -> Pending:
        """The bytes of each rank become a row of what all receive."""

    @abstractmethod
    def _gather_into(self, array: np.ndarray, spans: Sequence[Span], root: int | None) -> None: ...

    @abstractmethod
    def _send(self, value: Any, rank: int) -> None: ...

    @abstractmethod
    def _receive(self, rank: int) -> Any: ...

    @abstractmethod
    def _tell_failure(self, text: str) -> None: ...

    def all_gather(self, value: Any, *, error: Exception | None = None) -> list[Any]:
        """A small value of every rank, in their order.

        Parameters
        ----------
        value : object
        error : Exception, optional
            What this rank raises in place of giving a value. All raise it then: this one as it is,
            the others one of the same class that says where it occurred.

        Raises
        ------
        PeerError
            If another rank failed, or did not come within `timeout` seconds.
        """
        if error is not None:
            value = _Failure(str(error), type(error))
        with self._timed("waiting"):
            found = self._gather(value, self.timeout)
        self._raise_failures(found, error)
        return found

    def _raise_failures(self, values: Sequence[Any], own: Exception | None = None) -> None:
        for rank, value in enumerate(values):
            if isinstance(value, _Failure):
                self.raise_on_all(self._as_error(rank, value) if own is None else own)

    def _as_error(self, rank: int, failure: _Failure) -> Exception:
        if failure.kind is None:
            return _raised_elsewhere(PeerError(f"The run ended on all ranks: {failure.text}"))
        said = f"On rank {rank} of {self.size}: {failure.text}"
        try:
            return failure.kind(said)
        except TypeError:  # a class that is made otherwise
            return PeerError(f"{said} ({failure.kind.__name__})")

    def gather_and_wait(
        self, value: Any, pending: Sequence[Pending], *, error: Exception | None = None
    ) -> list[Any]:
        """`all_gather`, after which sums that every rank began are waited for, also where an error
        is told.
        """
        try:
            found = self.all_gather(value, error=error)
        except BaseException as raised:
            if isinstance(raised, PeerError) and (
                self.failed or getattr(raised, "elsewhere", False)
            ):
                self.failed = self.failed or bool(pending)  # sums that nobody will finish
            else:
                _wait_for(pending)
            raise
        _wait_for(pending)
        return found

    @staticmethod
    def raise_on_all(error: Exception) -> NoReturn:
        """Raise an error that every rank has, so that nobody has to be told of it."""
        _known_to_all(error)
        raise error

    def broadcast(self, value: Any, root: int = 0) -> Any:
        """What one rank gives, the first by default; the values of the others do not count."""
        return self.all_gather(value if self.rank == root else None)[root]

    def send(self, value: Any, rank: int) -> None:
        """Send a value to one rank, which takes it by `receive`; this one goes on meanwhile.

        What is sent is not to be changed any more.
        """
        with self._timed("exchanging"):
            self._send(value, rank)

    def receive(self, rank: int) -> Any:
        """The value that a rank sent to this one next.

        Raises
        ------
        PeerError
            If a rank failed, or nothing came within `timeout` seconds.
        """
        with self._timed("waiting"):
            return self._receive(rank)

    def gather(self, value: Any) -> list[Any] | None:
        """A value of every rank, in their order, on the first one; None on the others."""
        if self.rank:
            self.send(value, 0)
            return None
        return [value, *(self.receive(rank) for rank in range(1, self.size))]

    def all_reduce(self, array: np.ndarray) -> None:
        """Put the sum over all ranks into an array of floats.

        Raises
        ------
        PeerError
            See `all_gather`.
        """
        self.start_all_reduce(array).wait()

    def start_all_reduce(self, array: np.ndarray) -> Pending:
        """Begin a sum; the array is not to be touched until it is waited for."""
        with self._timed("exchanging"):
            return _Timed(self._start_sum(array), self)

    def all_gather_into(self, array: np.ndarray, spans: Sequence[Span]) -> None:
        """Let a flat array be on all ranks what each has in its own span of it.

        Parameters
        ----------
        array : ndarray, one axis
        spans : sequence of (start, stop)
            Of each rank, one after another.

        Raises
        ------
        PeerError
            See `all_gather`.
        """
        with self._timed("exchanging"):
            self._gather_into(array, spans, None)

    def gather_into_first(self, own: np.ndarray, spans: Sequence[Span]) -> np.ndarray | None:
        """The spans of all ranks as one flat array, which only the first rank gets."""
        start, stop = spans[self.rank]
        array = np.empty(spans[-1][1] if self.rank == 0 else own.size, own.dtype)
        array[slice(start, stop) if self.rank == 0 else slice(None)] = own
        with self._timed("exchanging"):
            self._gather_into(array, spans, 0)
        return array if self.rank == 0 else None

    def fail(self, error: BaseException) -> None:
        """Tell the others that this rank cannot go on; they raise `PeerError` where they wait next.

        A failure is told like any value, so that all can go on together afterwards, as where the
        loss of all became NaN. Where others wait for something else, or do not come, they are told
        by another way, and nothing more is exchanged.
        """
        if self.failed:
            return
        text = f"rank {self.rank}: {type(error).__name__}: {error}"
        try:
            self.first_failed = isinstance(self._gather(_Failure(text), GRACE)[0], _Failure)
        except PeerError:
            self.failed = True
            self._tell_failure(text)

    @contextmanager
    def guarded(self) -> Iterator[None]:
        """An error in here is told to the others, unless all have it."""
        try:
            yield
        except BaseException as error:
            if not getattr(error, "of_all_ranks", False):
                self.fail(error)
                _known_to_all(error)
            raise

    @contextmanager
    def _timed(self, what: str) -> Iterator[None]:
        begun = time.perf_counter()
        try:
            yield
        finally:
            self.seconds[what] += time.perf_counter() - begun


def _wait_for(pending: Sequence[Pending]) -> None:
    for one in pending:
        one.advance()
    for one in pending:
        one.wait()


class _Timed(Pending):
    def __init__(self, pending: Pending, owner: Communicator) -> None:
        self.pending, self.owner = pending, owner
        self.progress = pending.progress  # type: ignore[method-assign]

    def wait(self) -> None:
        with self.owner._timed("exchanging"):
            self.pending.wait()


class Done(Pending):
    """A sum that is there."""

    def wait(self) -> None:
        pass


class Alone(Communicator):
    """One process by itself."""

    rank, size = 0, 1

    def _gather(self, value: Any, timeout: float) -> list[Any]:
        return [value]

    def _start_sum(self, array: np.ndarray) -> Pending:
        return Done()

    def _start_all_to_all(self, sent: np.ndarray, received: np.ndarray) -> Pending:
        received[...] = sent
        return Done()

    def _start_all_gather(self, sent: np.ndarray, received: np.ndarray) -> Pending:
        received[0] = sent
        return Done()

    def _gather_into(self, array: np.ndarray, spans: Sequence[Span], root: int | None) -> None:
        pass

    def _send(self, value: Any, rank: int) -> None:
        raise NotImplementedError("There is no other rank.")

    def _receive(self, rank: int) -> Any:
        raise NotImplementedError("There is no other rank.")

    def _tell_failure(self, text: str) -> None:
        pass

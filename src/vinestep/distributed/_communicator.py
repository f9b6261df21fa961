"""What processes that train together need of one another, whatever carries it."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple, NoReturn

import numpy as np

from ..errors import PeerError

__all__ = ["GRACE", "TIMEOUT", "Alone", "Communicator", "Pending"]

TIMEOUT = 600.0  # seconds
GRACE = 3.0  # that others have to hear of a failure


class _Failure(NamedTuple):
    """What a rank gives in place of its value."""

    text: str
    kind: type[Exception] | None = None
    """Of an error that all raise; None where a rank just cannot go on."""


def _known_to_all(error: BaseException) -> None:
    """Every rank raises it, so that nobody has to be told of it."""
    error.of_all_ranks = True  # type: ignore[attr-defined]


class Pending(ABC):
    """A sum under way."""

    @abstractmethod
    def wait(self) -> None:
        """Until the array holds the sum."""


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
        for rank, one in enumerate(found):
            if isinstance(one, _Failure):
                self.raise_on_all(self._as_error(rank, one) if error is None else error)
        return found

    def _as_error(self, rank: int, failure: _Failure) -> Exception:
        if failure.kind is None:
            return PeerError(f"The run ended on all ranks: {failure.text}")
        said = f"On rank {rank} of {self.size}: {failure.text}"
        try:
            return failure.kind(said)
        except TypeError:  # a class that is made otherwise
            return PeerError(f"{said} ({failure.kind.__name__})")

    @staticmethod
    def raise_on_all(error: Exception) -> NoReturn:
        """Raise an error that every rank has, so that nobody has to be told of it."""
        _known_to_all(error)
        raise error

    def broadcast(self, value: Any) -> Any:
        """What the first rank gives; the values of the others do not count."""
        return self.all_gather(value if self.rank == 0 else None)[0]

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
        return _Timed(self._start_sum(array), self)

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


class _Timed(Pending):
    def __init__(self, pending: Pending, owner: Communicator) -> None:
        self.pending, self.owner = pending, owner

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

    def _tell_failure(self, text: str) -> None:
        pass

"""Sums over ranks whose terms travel as float16."""

from __future__ import annotations

import numpy as np

from ._communicator import Communicator, Pending

__all__ = ["CompressedSum"]

HEAD = 8  # bytes of the scale before each row
TOP = 15  # the largest number of a row is scaled to below 2**15


class CompressedSum(Pending):
    """A sum over ranks, put into an array of float32 or float64, of which each rank adds up one row
    and sends it to all: both ways as float16 with a scale for each row.

    Parameters
    ----------
    comm : Communicator
    array : ndarray of float, shape (n,)
        This rank's term; the sum, after `wait`.
    error : ndarray, shape (n,)
        What rounding left away of former sums: it is added to the term. It is not changed before
        `commit`, which puts there what this sum left away.
    """

    def __init__(self, comm: Communicator, array: np.ndarray, error: np.ndarray) -> None:
        self.comm, self.array, self.error = comm, array, error
        rows = -(-array.size // comm.size)
        self.term = np.zeros((comm.size, rows), array.dtype)
        flat = self.term.reshape(-1)[: array.size]
        np.add(array, error, out=flat)
        sent = encoded(self.term)
        self.term -= decoded(sent, array.dtype)  # now what is left away
        self.received = np.empty_like(sent)
        with comm._timed("exchanging"):
            self.first: Pending | None = comm._start_all_to_all(sent, self.received)
        self.second: Pending | None = None

    def progress(self) -> None:
        for pending in (self.first, self.second):
            if pending is not None:
                pending.progress()

    def _send_row(self) -> Pending:
        """Add up this rank's row, and send it to all."""
        assert self.first is not None
        self.first.wait()
        self.first = None
        row = decoded(self.received, self.array.dtype).sum(axis=0, keepdims=True)
        sent = encoded(row)
        self.term[self.comm.rank] += row[0] - decoded(sent, row.dtype)[0]
        return self.comm._start_all_gather(sent[0], self.received)

    def advance(self) -> None:
        if self.second is None:
            with self.comm._timed("exchanging"):
                self.second = self._send_row()

    def wait(self) -> None:
        self.advance()
        assert self.second is not None
        with self.comm._timed("exchanging"):
            self.second.wait()
        whole = decoded(self.received, self.array.dtype).reshape(-1)
        self.array[...] = whole[: self.array.size]

    def commit(self) -> None:
        self.error[...] = self.term.reshape(-1)[: self.error.size]


def encoded(rows: np.ndarray) -> np.ndarray:
    """Bytes of each row: its scale, a power of two, and its numbers by that as float16. A row that
    is not finite becomes NaN.

    Examples
    --------
    >>> tiny = 2.0**-300
    >>> decoded(encoded(np.array([[1.0, -3.0]]) * tiny), np.dtype(float)) / tiny
    array([[ 1., -3.]])
    """
    largest = np.abs(rows).max(axis=1, initial=0.0)
    power = np.where(np.isfinite(largest), TOP - np.frexp(largest)[1], 0)
    power = np.clip(power, -1022, 1022)
    scale = np.where(np.isfinite(largest), np.ldexp(1.0, -power), np.nan)
    result = np.empty((len(rows), HEAD + 2 * rows.shape[1]), np.uint8)
    result[:, :HEAD] = scale.view(np.uint8).reshape(len(rows), HEAD)
    with np.errstate(over="ignore", invalid="ignore"):
        scaled = np.ldexp(rows, power[:, np.newaxis]).astype(np.float16)
    result[:, HEAD:] = scaled.view(np.uint8)
    return result


def decoded(rows: np.ndarray, dtype: np.dtype) -> np.ndarray:
    """The numbers that `encoded` was given, rounded."""
    scale = np.ascontiguousarray(rows[:, :HEAD]).view(np.float64)
    numbers = np.ascontiguousarray(rows[:, HEAD:]).view(np.float16).astype(np.float64)
    with np.errstate(over="ignore", invalid="ignore"):
        return (numbers * scale).astype(dtype)

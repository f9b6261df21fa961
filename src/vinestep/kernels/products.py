"""Products of a matrix whose elements are looked up where they lie, split over threads."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache, partial
from math import prod
from typing import Any, NamedTuple

import numpy as np

from . import gathered
from .parallel import blas_used, run_all, spans

__all__ = [
    "BLOCKS",
    "RATE",
    "TILE",
    "Piece",
    "complete",
    "gathered_product",
    "index_kind",
    "is_ours",
    "places",
    "product",
    "product_of_turned",
    "product_piece",
    "product_with_turned",
    "sum_with_turned",
    "turned_product",
]

# multiply-adds of a product
BLAS_THREADED = 1 << 18  # up to which OpenBLAS keeps to one thread
SMALL = 1 << 21  # up to which one thread of ours is as fast as two of BLAS
LARGE, HUGE = 1 << 23, 1 << 28  # from which threads of ours wake in time, and up to which they keep up with those of BLAS

NARROW = 8
TILE = 8  # rows and columns that the loops need at least
WIDE = 384  # columns from which the work may be split between them
LONG = 16  # times as deep as it has rows: a product to be split along its depth
BLOCKS = 48, 32  # columns that go together: in float32 three vectors, or two
RATE = 32  # multiply-adds in the time of one element of a simple loop
SHARES = 2  # parts a thread


class Piece(NamedTuple):
    """Work to be done beside other work: what may run at the same time, and what makes the result of what that gives."""

    tasks: list[Callable[[], Any]]
    finish: Callable[[list[Any]], np.ndarray]

    @classmethod
    def done(cls, result: np.ndarray) -> Piece:
        """Nothing is left to do."""
        return cls([], lambda found: result)

    def result(self) -> np.ndarray:
        """That of this piece alone."""
        return complete(self)[0]


def complete(*pieces: Piece) -> list[np.ndarray]:
    """The results of several pieces of work, shared out to the threads in one go."""
    tasks = [task for piece in pieces for task in piece.tasks]
    shared = any(len(piece.tasks) > 1 for piece in pieces)
    found = iter(run_all(tasks) if shared else [task() for task in tasks])
    return [piece.finish([next(found) for _ in piece.tasks]) for piece in pieces]


def gathered_product(
    x: np.ndarray,
    rows: np.ndarray,
    columns: np.ndarray,
    b: np.ndarray,
    bias: np.ndarray | None = None,
    *,
    floor: float = -np.inf,
    out: np.ndarray | None = None,
) -> Piece:
    """``max(a @ b + bias, floor)`` with ``a[i, k] = x[rows[i] + columns[k]]``.

    Parameters
    ----------
    x : ndarray, flat
    rows : ndarray of int, shape (n,)
    columns : ndarray of int, shape (depth,)
    b : ndarray, shape (depth, width)
        Of the dtype of x; contiguous.
    bias : ndarray, shape (width,), optional
    floor : float
    out : ndarray, shape (n, width), optional
        Contiguous; written to and returned.

    Returns
    -------
    c : Piece
        Of an array of shape (n, width). Sums over many places, as in the gradients of weights, are added up from as many parts as the
        number of threads asks for.
    """
    n, (depth, width) = rows.size, b.shape
    c = np.empty((n, width), b.dtype) if out is None else out
    bias = np.zeros(width, b.dtype) if bias is None else bias
    if not depth or not c.size:
        c[...] = np.maximum(bias, floor)
        return Piece.done(c)
    if n < TILE or width < TILE:
        rows = np.pad(rows, (0, max(TILE - n, 0)), mode="edge")
        more = max(TILE - width, 0)
        b, bias = np.pad(b, ((0, 0), (0, more))), np.pad(bias, (0, more))
        larger = gathered_product(x, rows, columns, b, bias, floor=floor)

        def cut(found: list[Any]) -> np.ndarray:
            c[...] = larger.finish(found)[:n, :width]
            return c

        return Piece(larger.tasks, cut)
    least = b.dtype.type(floor)
    flat_b, flat_c = b.reshape(-1), c.reshape(-1)

    def rows_of(start: int, stop: int) -> None:
        gathered.multiply(x, rows, columns, flat_b, width, bias, flat_c, width, width, start, stop, least)

    def columns_of(start: int, stop: int) -> None:
        gathered.multiply(x, rows, columns, flat_b[start:], width, bias[start:], flat_c[start:], width, stop - start, 0, n, least)

    def depth_of(start: int, stop: int) -> np.ndarray:
        own, begin = np.empty(n * width, b.dtype), bias if start == 0 else np.zeros_like(bias)
        gathered.multiply(x, rows, columns[start:stop], flat_b[start * width :], width, begin, own, width, width, 0, n, least)
        return own

    def add_up(found: list[np.ndarray]) -> np.ndarray:
        np.add.reduce(found, axis=0, out=flat_c)
        return c

    cost = depth * n * width // RATE
    if depth >= LONG * n and floor == -np.inf:
        return Piece([partial(depth_of, *part) for part in spans(depth, each=1 + cost // depth, shares=1)], add_up)
    if width >= max(n, WIDE):
        work, parts = columns_of, spans(width, each=1 + cost // width, multiple=max(BLOCKS), shares=SHARES)
    else:
        work, parts = rows_of, spans(n, each=1 + cost // n, multiple=TILE, shares=SHARES)
    return Piece([partial(work, *part) for part in parts], lambda found: c)


def product(
    a: np.ndarray, b: np.ndarray, bias: np.ndarray | None = None, *, floor: float = -np.inf, out: np.ndarray | None = None
) -> Piece:
    """``max(a @ b + bias, floor)`` of contiguous matrices by our own loops, which leaves the threads of BLAS asleep."""
    return gathered_product(a.reshape(-1), *places(*a.shape), b, bias, floor=floor, out=out)


def turned_product(a: np.ndarray, b: np.ndarray, *, out: np.ndarray | None = None) -> Piece:
    """``a.T @ b`` of contiguous matrices; see `product`."""
    rows, columns = places(*a.shape)
    return gathered_product(a.reshape(-1), columns, rows, b, out=out)


def is_ours(a: np.ndarray, b: np.ndarray, *sizes: int) -> bool:
    """Whether our loops are about as fast for a product of these sizes as two threads of BLAS, which go on spinning in our way."""
    multiply_adds = prod(sizes)
    if multiply_adds <= BLAS_THREADED:
        return False
    fast = min(sizes) <= NARROW or multiply_adds <= SMALL or LARGE <= multiply_adds <= HUGE
    ours = fast and a.dtype == b.dtype and a.flags.c_contiguous and b.flags.c_contiguous
    if not ours:
        blas_used()
    return ours


def product_piece(a: np.ndarray, b: np.ndarray, bias: np.ndarray, out: np.ndarray) -> Piece:
    """``a @ b + bias`` of matrices, by BLAS or by our loops."""
    if not is_ours(a, b, *a.shape, b.shape[1]):
        np.matmul(a, b, out=out)
        return Piece.done(np.add(out, bias, out=out))
    return product(a, b, bias, out=out)


def product_with_turned(a: np.ndarray, b: np.ndarray) -> Piece:
    """``a @ b.T`` of matrices, by BLAS or by our loops."""
    if not is_ours(a, b, *a.shape, b.shape[0]):
        return Piece.done(np.matmul(a, b.T))
    return product(a, np.ascontiguousarray(b.T))


def sum_with_turned(parts: np.ndarray, matrices: Sequence[np.ndarray]) -> Piece:
    """The sum of ``a @ b.T`` over parts (k, n, depth) and as many matrices, by BLAS or by our loops."""
    k, n, depth = parts.shape
    if not is_ours(parts, matrices[0], n, k * depth, len(matrices[0])):
        found = np.matmul(parts[0], matrices[0].T)
        for part, matrix in zip(parts[1:], matrices[1:], strict=True):
            found += np.matmul(part, matrix.T)
        return Piece.done(found)
    rows, columns = places(n, depth)
    across = np.add.outer(np.arange(k) * (n * depth), columns).ravel().astype(index_kind(parts.size))
    return gathered_product(parts.reshape(-1), rows.astype(across.dtype), across, np.concatenate([matrix.T for matrix in matrices]))


def product_of_turned(a: np.ndarray, b: np.ndarray, out: np.ndarray) -> Piece:
    """``a.T @ b`` of matrices, by BLAS or by our loops."""
    if not is_ours(a, b, *a.shape, b.shape[1]):
        return Piece.done(np.matmul(a.T, b, out=out))
    return turned_product(a, b, out=out)


@lru_cache(maxsize=32)
def places(n: int, width: int) -> tuple[np.ndarray, np.ndarray]:
    """Where the rows of a matrix begin, and its columns in a row."""
    kind = index_kind(n * width)
    return np.arange(0, n * width, max(width, 1), dtype=kind)[:n], np.arange(width, dtype=kind)


def index_kind(size: int) -> type[np.signedinteger[Any]]:
    """Of the places in an array of so many elements; the same everywhere, as the loops are compiled for each kind that is used."""
    return np.int32 if size < 2**31 else np.int64

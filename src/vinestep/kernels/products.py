"""Products of a matrix whose elements are looked up where they lie, split over threads."""

from __future__ import annotations

from functools import lru_cache
from math import prod

import numpy as np

from . import gathered
from .parallel import blas_used, in_parts, spans

__all__ = [
    "BLOCK",
    "RATE",
    "TILE",
    "gathered_product",
    "matrix_product",
    "product",
    "product_of_turned",
    "product_with_turned",
    "turned_product",
]

SMALL = 1 << 21  # multiply-adds
NARROW = 8
BLAS_THREADED = 1 << 18  # multiply-adds of a product up to which OpenBLAS keeps to one thread
TILE = 8  # rows and columns that the loops need at least
WIDE = 128  # columns from which the work may be split between them
LONG = 16  # times as deep as it has rows: a product to be split along its depth
BLOCK = 32  # columns that go together
RATE = 32  # multiply-adds in the time of one element of a simple loop


def gathered_product(
    x: np.ndarray,
    rows: np.ndarray,
    columns: np.ndarray,
    b: np.ndarray,
    bias: np.ndarray | None = None,
    *,
    floor: float = -np.inf,
    out: np.ndarray | None = None,
) -> np.ndarray:
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
    c : ndarray, shape (n, width)
        Sums over many places, as in the gradients of weights, are added up from as many parts as the number of threads asks for.
    """
    n, (depth, width) = rows.size, b.shape
    c = np.empty((n, width), b.dtype) if out is None else out
    bias = np.zeros(width, b.dtype) if bias is None else bias
    if not depth or not c.size:
        c[...] = np.maximum(bias, floor)
        return c
    if n < TILE or width < TILE:
        rows = np.pad(rows, (0, max(TILE - n, 0)), mode="edge")
        more = max(TILE - width, 0)
        b, bias = np.pad(b, ((0, 0), (0, more))), np.pad(bias, (0, more))
        c[...] = gathered_product(x, rows, columns, b, bias, floor=floor)[:n, :width]
        return c
    least = b.dtype.type(floor)
    flat_b, flat_c = b.reshape(-1), c.reshape(-1)

    def rows_of(start: int, stop: int) -> None:
        gathered.multiply(x, rows, columns, flat_b, width, bias, flat_c, width, width, start, stop, least)

    def columns_of(start: int, stop: int) -> None:
        gathered.multiply(x, rows, columns, flat_b[start:], width, bias[start:], flat_c[start:], width, stop - start, 0, n, least)

    cost = depth * n * width // RATE
    if depth >= LONG * n and floor == -np.inf:

        def depth_of(start: int, stop: int) -> np.ndarray:
            own, begin = np.empty(n * width, b.dtype), bias if start == 0 else np.zeros_like(bias)
            gathered.multiply(x, rows, columns[start:stop], flat_b[start * width :], width, begin, own, width, width, 0, n, least)
            return own

        sums = in_parts(depth_of, spans(depth, each=1 + cost // depth))
        np.add.reduce(sums, axis=0, out=flat_c)
    elif width >= max(n, WIDE):
        in_parts(columns_of, spans(width, each=1 + cost // width, multiple=BLOCK))
    else:
        in_parts(rows_of, spans(n, each=1 + cost // n, multiple=TILE))
    return c


def product(a: np.ndarray, b: np.ndarray, bias: np.ndarray | None = None, *, out: np.ndarray | None = None) -> np.ndarray:
    """``a @ b + bias`` of contiguous matrices by our own loops, which leaves the threads of BLAS asleep."""
    rows, columns = _steps(*a.shape)
    return gathered_product(a.reshape(-1), rows, columns, b, bias, out=out)


def turned_product(a: np.ndarray, b: np.ndarray, *, out: np.ndarray | None = None) -> np.ndarray:
    """``a.T @ b`` of contiguous matrices; see `product`."""
    rows, columns = _steps(*a.shape)
    return gathered_product(a.reshape(-1), columns, rows, b, out=out)


def _is_ours(a: np.ndarray, b: np.ndarray, *sizes: int) -> bool:
    """Whether a product of these sizes is so small or narrow that our loops are as fast as two threads of BLAS.

    Those go on spinning in the way of ours.
    """
    multiply_adds = prod(sizes)
    if multiply_adds <= BLAS_THREADED:
        return False
    if multiply_adds > SMALL and min(sizes) > NARROW:
        blas_used()
        return False
    return a.dtype == b.dtype and a.flags.c_contiguous and b.flags.c_contiguous


def matrix_product(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """``a @ b`` of matrices, by BLAS or by our loops."""
    return product(a, b) if _is_ours(a, b, *a.shape, b.shape[1]) else np.matmul(a, b)


def product_with_turned(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """``a @ b.T`` of matrices, by BLAS or by our loops."""
    return product(a, np.ascontiguousarray(b.T)) if _is_ours(a, b, *a.shape, b.shape[0]) else np.matmul(a, b.T)


def product_of_turned(a: np.ndarray, b: np.ndarray, out: np.ndarray) -> np.ndarray:
    """``a.T @ b`` of matrices, by BLAS or by our loops."""
    return turned_product(a, b, out=out) if _is_ours(a, b, *a.shape, b.shape[1]) else np.matmul(a.T, b, out=out)


@lru_cache(maxsize=32)
def _steps(n: int, width: int) -> tuple[np.ndarray, np.ndarray]:
    """Where the rows of a matrix begin, and its columns in a row."""
    kind = np.int32 if n * width < 2**31 else np.int64
    return np.arange(0, n * width, max(width, 1), dtype=kind)[:n], np.arange(width, dtype=kind)

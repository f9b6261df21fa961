"""Matrix products with a gathered left operand, divided among threads."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np

from . import implicit_gemm
from .machinery.availability import Unsound, give_up, usable
from .machinery.blas_threads import keeps_to_one_thread
from .machinery.grain_sizes import RATE, TILE
from .machinery.pool import helpers

__all__ = [
    "gathered_product",
    "index_kind",
    "matmul",
    "places",
    "product",
    "product_with_transposed",
    "sum_with_transposed",
    "transposed_product",
]

SMALL = (
    1 << 17
)  # multiply-adds up to which the matrix library needs one thread only, and is left alone


def gathered_product(
    x: np.ndarray,
    rows: np.ndarray,
    columns: np.ndarray,
    b: np.ndarray,
    bias: np.ndarray | None = None,
    *,
    floor: float = -np.inf,
    transposed: bool = False,
    out: np.ndarray | None = None,
) -> np.ndarray:
    """``max(a @ b + bias, floor)`` with ``a[i, k] = x[rows[i] + columns[k]]``.

    Parameters
    ----------
    x : ndarray, flat
    rows : ndarray of int, shape (n,)
    columns : ndarray of int, shape (depth,)
    b : ndarray, shape (depth, width)
        Of the dtype of x; contiguous. If it lies `transposed`, its transpose is.
    bias : ndarray, shape (width,), optional
    floor : float
    out : ndarray, shape (n, width), optional
        Contiguous; written to and returned.

    Returns
    -------
    c : ndarray, shape (n, width)
        Sums over many places, as in the gradients of weights, are added up from as many parts as
        the number of threads asks for.
    """
    n, (depth, width) = rows.size, b.shape[::-1] if transposed else b.shape
    c = np.empty((n, width), b.dtype) if out is None else out
    bias = np.zeros(width, b.dtype) if bias is None else bias
    cost = (
        depth * n * width // RATE if n >= TILE else depth * width // 4
    )  # of few rows it is reading b that takes time
    working = helpers(cost)
    implicit_gemm.product(
        *working,
        x,
        rows,
        columns,
        b.reshape(-1),
        b.shape[1],
        transposed,
        bias,
        c.reshape(-1),
        width,
        b.dtype.type(floor),
    )
    return c


def product(
    a: np.ndarray,
    b: np.ndarray,
    bias: np.ndarray | None = None,
    *,
    floor: float = -np.inf,
    out: np.ndarray | None = None,
) -> np.ndarray:
    """``max(a @ b + bias, floor)`` of contiguous matrices by our own loops, which leaves the
    threads of BLAS asleep.

    One row is left to BLAS while it keeps to one thread: what it does then is read `b` once, and
    nothing is faster at that.
    """
    if len(a) == 1 and keeps_to_one_thread():
        c = np.matmul(a, b, out=out)
        if bias is not None:
            c += bias
        return c if floor == -np.inf else np.maximum(c, b.dtype.type(floor), out=c)
    return gathered_product(a.reshape(-1), *places(*a.shape), b, bias, floor=floor, out=out)


def transposed_product(
    a: np.ndarray, b: np.ndarray, *, out: np.ndarray | None = None
) -> np.ndarray:
    """``a.T @ b`` of contiguous matrices; see `product`."""
    rows, columns = places(*a.shape)
    return gathered_product(a.reshape(-1), columns, rows, b, out=out)


def matmul(a: np.ndarray, b: np.ndarray, out: np.ndarray | None = None) -> Any:
    """``np.matmul(a, b, out)``, by our own loops where it is large: threads of the matrix library
    would compete with ours afterwards.

    `out` is contiguous, and of the shape and dtype of the product.

    Examples
    --------
    >>> matmul(np.ones((2, 3)), np.ones((3, 4))).shape
    (2, 4)
    """
    if (
        a.ndim < 2
        or b.ndim < 2
        or a.size * b.shape[-1] <= SMALL
        or a.shape[-1] != b.shape[-2]
        or not usable()
    ):
        return np.matmul(a, b, out=out)
    if (
        a.dtype != b.dtype
        or a.dtype not in (np.float32, np.float64)
        or type(a) is not np.ndarray
        or type(b) is not np.ndarray
    ):
        return np.matmul(a, b, out=out)
    try:
        if b.ndim == 2:
            rows = a if a.ndim == 2 else a.reshape(-1, a.shape[-1])
            return _matrix_product(rows, b, out=out).reshape(*a.shape[:-1], b.shape[-1])
        if a.shape[:-2] != b.shape[:-2] or a.shape[-1] * a.shape[-2] * b.shape[-1] <= SMALL:
            return np.matmul(a, b, out=out)
        if out is None:
            out = np.empty((*a.shape[:-1], b.shape[-1]), a.dtype)
        for place in np.ndindex(*a.shape[:-2]):
            _matrix_product(a[place], b[place], out=out[place])
    except Unsound as error:
        give_up(error)
        return np.matmul(a, b, out=out)
    return out


def _matrix_product(a: np.ndarray, b: np.ndarray, out: np.ndarray | None = None) -> np.ndarray:
    """Of matrices that lie contiguously, or transposed; others are copied."""
    if a.T.flags.c_contiguous and not a.flags.c_contiguous:
        columns, rows = places(*a.T.shape)
        flat = a.T.reshape(-1)
    else:
        rows, columns = places(*a.shape)
        flat = np.ascontiguousarray(a).reshape(-1)
    if b.T.flags.c_contiguous and not b.flags.c_contiguous:
        return gathered_product(flat, rows, columns, b.T, transposed=True, out=out)
    return gathered_product(flat, rows, columns, np.ascontiguousarray(b), out=out)


def product_with_transposed(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """``a @ b.T`` of contiguous matrices; see `product`."""
    return gathered_product(a.reshape(-1), *places(*a.shape), b, transposed=True)


def sum_with_transposed(parts: np.ndarray, matrices: Sequence[np.ndarray]) -> np.ndarray:
    """The sum of ``a @ b.T`` over parts (k, n, depth) and as many matrices."""
    k, n, depth = parts.shape
    rows, columns = places(n, depth)
    across = (
        np.add.outer(np.arange(k) * (n * depth), columns).ravel().astype(index_kind(parts.size))
    )
    return gathered_product(
        parts.reshape(-1),
        rows.astype(across.dtype),
        across,
        np.concatenate(matrices, axis=1),
        transposed=True,
    )


@lru_cache(maxsize=32)
def places(n: int, width: int) -> tuple[np.ndarray, np.ndarray]:
    """Where the rows of a matrix begin, and its columns in a row."""
    kind = index_kind(n * width)
    return np.arange(0, n * width, max(width, 1), dtype=kind)[:n], np.arange(width, dtype=kind)


def index_kind(size: int) -> type[np.signedinteger[Any]]:
    """Of the places in an array of so many elements; the same everywhere, as the loops are compiled
    for each kind that is used.
    """
    return np.int32 if size < 2**31 else np.int64

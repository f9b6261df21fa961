"""Matrix products with a gathered left operand, divided among threads."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from math import prod
from typing import Any

import numpy as np

from . import gathered
from .parallel import blas_used, helpers
from .sizes import RATE

__all__ = [
    "HUGE",
    "gathered_product",
    "index_kind",
    "is_ours",
    "places",
    "product",
    "product_of_transposed",
    "product_with_transposed",
    "sum_with_transposed",
    "transposed_product",
]

# multiply-adds of a product
BLAS_THREADED = 1 << 18  # up to which OpenBLAS keeps to one thread
HUGE = 1 << 30  # up to which our loops keep up with two threads of BLAS


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
        Sums over many places, as in the gradients of weights, are added up from as many parts as the number of threads asks for.
    """
    n, (depth, width) = rows.size, b.shape[::-1] if transposed else b.shape
    c = np.empty((n, width), b.dtype) if out is None else out
    bias = np.zeros(width, b.dtype) if bias is None else bias
    working = helpers(depth * n * width // RATE)
    gathered.product(*working, x, rows, columns, b.reshape(-1), b.shape[1], transposed, bias, c.reshape(-1), width, b.dtype.type(floor))
    return c


def product(
    a: np.ndarray, b: np.ndarray, bias: np.ndarray | None = None, *, floor: float = -np.inf, out: np.ndarray | None = None
) -> np.ndarray:
    """``max(a @ b + bias, floor)`` of contiguous matrices by our own loops, which leaves the threads of BLAS asleep."""
    return gathered_product(a.reshape(-1), *places(*a.shape), b, bias, floor=floor, out=out)


def transposed_product(a: np.ndarray, b: np.ndarray, *, out: np.ndarray | None = None) -> np.ndarray:
    """``a.T @ b`` of contiguous matrices; see `product`."""
    rows, columns = places(*a.shape)
    return gathered_product(a.reshape(-1), columns, rows, b, out=out)


def is_ours(a: np.ndarray, b: np.ndarray, *sizes: int) -> bool:
    """Whether our loops are about as fast as BLAS for a product of these sizes; BLAS's spinning threads would compete with ours."""
    multiply_adds = prod(sizes)
    ours = multiply_adds <= HUGE and a.dtype == b.dtype and a.flags.c_contiguous and b.flags.c_contiguous
    if not ours and multiply_adds > BLAS_THREADED:
        blas_used()
    return ours


def product_with_transposed(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """``a @ b.T`` of matrices, by BLAS or by our loops."""
    if is_ours(a, b, *a.shape, b.shape[0]):
        return gathered_product(a.reshape(-1), *places(*a.shape), b, transposed=True)
    found: np.ndarray = np.matmul(a, b.T)
    return found


def sum_with_transposed(parts: np.ndarray, matrices: Sequence[np.ndarray]) -> np.ndarray:
    """The sum of ``a @ b.T`` over parts (k, n, depth) and as many matrices, by BLAS or by our loops."""
    k, n, depth = parts.shape
    if is_ours(parts, matrices[0], n, k * depth, len(matrices[0])):
        rows, columns = places(n, depth)
        across = np.add.outer(np.arange(k) * (n * depth), columns).ravel().astype(index_kind(parts.size))
        return gathered_product(parts.reshape(-1), rows.astype(across.dtype), across, np.concatenate(matrices, axis=1), transposed=True)
    found: np.ndarray = np.matmul(parts[0], matrices[0].T)
    for part, matrix in zip(parts[1:], matrices[1:], strict=True):
        found += np.matmul(part, matrix.T)
    return found


def product_of_transposed(a: np.ndarray, b: np.ndarray, out: np.ndarray) -> np.ndarray:
    """``a.T @ b`` of matrices, by BLAS or by our loops."""
    if is_ours(a, b, *a.shape, b.shape[1]):
        return transposed_product(a, b, out=out)
    np.matmul(a.T, b, out=out)
    return out


@lru_cache(maxsize=32)
def places(n: int, width: int) -> tuple[np.ndarray, np.ndarray]:
    """Where the rows of a matrix begin, and its columns in a row."""
    kind = index_kind(n * width)
    return np.arange(0, n * width, max(width, 1), dtype=kind)[:n], np.arange(width, dtype=kind)


def index_kind(size: int) -> type[np.signedinteger[Any]]:
    """Of the places in an array of so many elements; the same everywhere, as the loops are compiled for each kind that is used."""
    return np.int32 if size < 2**31 else np.int64

"""Products of a matrix whose elements are looked up where they lie, split over threads."""

from __future__ import annotations

import numpy as np

from . import gathered
from .parallel import in_parts, spans

__all__ = ["gathered_product"]

TILE = 8  # rows and columns that the loops need at least
WIDE = 64  # columns of b from which its laying out has to pay for as many rows
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
        Each row is computed by itself, so that the number of threads makes no difference.
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
    least, lowest = b.dtype.type(floor), b.dtype.type(-np.inf)

    def compute(start: int, stop: int) -> None:
        gathered.product(x, rows, columns, b, bias, c, start, stop, least, lowest)

    in_parts(compute, spans(n, each=1 + depth * width // RATE, multiple=TILE if width < WIDE else WIDE))
    return c

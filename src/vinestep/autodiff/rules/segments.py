"""Sums over segments of an axis, adding at places, and products with sparse matrices."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...errors import DataError, DifferentiationError, ShapeError
from ..registry import UFUNC_METHODS, Rule, implements_method
from ..tensor import Leaf, Tensor, apply, held, owned
from .indexing import scatter

__all__ = ["segment_mean", "segment_sum", "sparse_matmul"]


def _ends(indices: np.ndarray, n: int) -> np.ndarray:
    """How many elements each segment of `reduceat` has."""
    following = np.append(indices[1:], n)
    return np.where(following > indices, following - indices, 1)


def _reduceat_adjoint(g: Any, y: Any, x: Any, indices: np.ndarray, axis: int) -> Any:
    counts = _ends(indices, x.shape[axis])
    segments = np.repeat(np.arange(len(indices)), counts)
    starts = np.repeat(indices - np.concatenate([[0], np.cumsum(counts)[:-1]]), counts)
    places = starts + np.arange(len(segments))
    spread = np.take(g, segments, axis=axis)
    return scatter(spread, index=(*(slice(None),) * axis, places), shape=x.shape)


_reduceat = Rule(
    "add.reduceat",
    lambda x, indices, axis: np.add.reduceat(x, indices, axis=axis),
    (_reduceat_adjoint,),
)


def _add_reduceat(array: Any, indices: Any, axis: int = 0, dtype: Any = None) -> Any:
    if dtype is not None or not isinstance(array, Tensor):
        raise DifferentiationError(
            "np.add.reduceat: of a Tensor, without dtype=; the indices are constant."
        )
    given = np.asarray(held(indices))
    np.add.reduceat(np.zeros((array.shape[axis], 0)), given)  # refused as NumPy does
    return apply(_reduceat, (array,), {"indices": owned(given), "axis": axis % array.ndim})


def _add_at(array: Any, index: Any, values: Any) -> None:
    """As ``array[index] += values`` that counts what is picked several times; `array` goes on as
    the sum.
    """
    if not isinstance(array, Tensor):
        raise DifferentiationError(
            "np.add.at: a plain array cannot take a Tensor in place, since the record would be "
            "lost. Use vinestep.segment_sum(values, index, count), or begin with a Tensor."
        )
    if type(array.origin) is Leaf:
        raise DifferentiationError(
            "np.add.at: a parameter or input cannot be changed in place. Begin with a copy, "
            "x = x + 0."
        )
    shape = np.shape(np.empty(array.shape)[held(index)])
    whole = np.broadcast_to(values, shape)
    added = array + scatter(whole, index=index, shape=array.shape)
    array._array, array.origin = added._array, added.origin


UFUNC_METHODS[np.add, "reduceat"] = _add_reduceat
UFUNC_METHODS[np.add, "at"] = _add_at


def segment_sum(values: Any, segments: Any, count: int) -> Any:
    """Rows added up by the number of their segment.

    Parameters
    ----------
    values : array or Tensor, shape (n, ...)
    segments : array_like of int, shape (n,)
        From 0 to ``count - 1``, in any order.
    count : int
        How many segments there are; those without rows are 0.

    Returns
    -------
    sums : array or Tensor, shape (count, ...)

    Raises
    ------
    ShapeError
        If there is not one segment for each row.
    DataError
        If a segment is out of range.

    Examples
    --------
    >>> segment_sum(np.array([1.0, 2.0, 4.0]), [0, 2, 0], 3).tolist()
    [5.0, 0.0, 2.0]
    """
    numbers = np.asarray(held(segments))
    if numbers.shape != np.shape(values)[:1] or numbers.dtype.kind not in "iu":
        raise ShapeError(
            f"segment_sum: {np.shape(values)[:1]} rows, and segments of shape {numbers.shape} and "
            f"dtype {numbers.dtype}. Give a whole number for each row."
        )
    if numbers.size and not 0 <= numbers.min() <= numbers.max() < count:
        bad = numbers[(numbers < 0) | (numbers >= count)][0]
        raise DataError(f"segment_sum: segment {bad} is none of 0 to {count - 1}.")
    given = values if isinstance(values, Tensor) else np.asarray(values)
    return scatter(given, index=numbers, shape=(count, *np.shape(values)[1:]))


def segment_mean(values: Any, segments: Any, count: int) -> Any:
    """The mean row of each segment; see `segment_sum`. Those without rows are 0.

    Examples
    --------
    >>> segment_mean(np.array([1.0, 2.0, 4.0]), [0, 1, 0], 2).tolist()
    [2.5, 2.0]
    """
    sums = segment_sum(values, segments, count)
    sizes = np.bincount(np.asarray(held(segments)), minlength=count)
    shape = (count, *(1,) * (np.ndim(sums) - 1))
    factors = (1 / np.maximum(sizes, 1)).reshape(shape)
    return sums * factors.astype(held(sums).dtype)


def _product(x: Any, matrix: Any) -> Any:
    return matrix @ x


def _product_adjoint(g: Any, y: Any, x: Any, matrix: Any) -> Any:
    found = sparse_matmul(matrix.T, g)
    return found if found.dtype == x.dtype else found.astype(x.dtype)


_sparse_product = Rule("sparse_matmul", _product, (_product_adjoint,))


def sparse_matmul(matrix: Any, x: Any) -> Any:
    """The product of a sparse matrix of SciPy, a constant, and an array or Tensor.

    SciPy turns what stands right of ``matrix @`` into an array, which would lose the record; left
    of it, ``x @ matrix`` works as it stands.

    Parameters
    ----------
    matrix : scipy.sparse array or matrix, shape (m, n)
    x : array or Tensor, shape (n,) or (n, k)

    Returns
    -------
    product : array or Tensor, shape (m,) or (m, k)

    Raises
    ------
    ShapeError
        If the shapes do not fit.

    Examples
    --------
    >>> from scipy import sparse
    >>> matrix = sparse.csr_array(np.array([[0.0, 2.0], [1.0, 0.0]]))
    >>> gradient_of(lambda w: np.sum(sparse_matmul(matrix, w)))(np.ones(2)).tolist()
    [1.0, 2.0]
    """
    if not hasattr(matrix, "tocsr"):
        raise DifferentiationError(
            f"sparse_matmul: the matrix is a {type(matrix).__name__}, none of scipy.sparse. Use @."
        )
    shape = np.shape(x)
    if len(matrix.shape) != 2 or len(shape) not in (1, 2) or matrix.shape[1] != shape[0]:
        raise ShapeError(
            f"sparse_matmul: a matrix of shape {matrix.shape} and an array of shape {shape} do not "
            "fit."
        )
    if not isinstance(x, Tensor):
        return np.asarray(matrix @ np.asarray(x))
    return apply(_sparse_product, (x,), {"matrix": matrix})


@implements_method("matmul_sparse")
def matmul_sparse(x: Any, matrix: Any) -> Any:
    """``x @ matrix`` for a sparse matrix."""
    transposed = np.swapaxes(x, -1, -2) if np.ndim(x) == 2 else x
    found = sparse_matmul(matrix.T, transposed)
    return np.swapaxes(found, -1, -2) if np.ndim(x) == 2 else found

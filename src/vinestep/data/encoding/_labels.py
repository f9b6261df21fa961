"""Class numbers one-hot, and back."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...errors import DataError

__all__ = ["class_numbers_of", "one_hot"]


def one_hot(labels: Any, classes: int, *, on: float = 1.0, off: float = 0.0) -> np.ndarray:
    """Class numbers as vectors with one place for each class.

    Parameters
    ----------
    labels : array_like of int, any shape
    classes : int
    on, off : float
        What stands in the place of the class, and in the others.

    Returns
    -------
    vectors : ndarray, float32, shape ``(*labels.shape, classes)``

    Raises
    ------
    DataError
        If a label is no class number: which, and where.

    Examples
    --------
    >>> one_hot([2, 0], 3).tolist()
    [[0.0, 0.0, 1.0], [1.0, 0.0, 0.0]]
    """
    array = np.asarray(labels)
    if classes < 1:
        raise DataError(f"one_hot: classes must be at least 1, got {classes}.")
    if array.size and array.dtype.kind not in "iu":
        raise DataError(f"one_hot: labels are class numbers, got {array.dtype}.")
    wrong = (array < 0) | (array >= classes)
    if wrong.any():
        place = tuple(int(i) for i in np.argwhere(wrong)[0])
        raise DataError(f"one_hot: label {array[place]} at {place} is none of 0 to {classes - 1}.")
    result = np.full((*array.shape, classes), off, np.float32)
    np.put_along_axis(result, array[..., None].astype(np.int64), on, axis=-1)
    return result


def class_numbers_of(vectors: Any) -> np.ndarray:
    """The class of which each vector has the greatest value: one-hot targets, or outputs, as class
    numbers.

    Parameters
    ----------
    vectors : array_like, shape (..., classes)

    Raises
    ------
    DataError
        If a vector has no greatest value: it holds NaN.

    Examples
    --------
    >>> class_numbers_of(one_hot([2, 0], 3)).tolist()
    [2, 0]
    """
    array = np.asarray(vectors)
    if array.ndim == 0 or not array.shape[-1]:
        raise DataError(
            f"class_numbers_of: the last axis is that of the classes, got shape {array.shape}."
        )
    unknown = np.isnan(array).any(axis=-1)
    if unknown.any():
        raise DataError(
            f"class_numbers_of: the vector at {tuple(int(i) for i in np.argwhere(unknown)[0])} "
            "holds NaN."
        )
    return np.asarray(np.argmax(array, axis=-1))

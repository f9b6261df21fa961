"""Undoing a broadcast: cotangents summed back to the shape an input had."""

from __future__ import annotations

from typing import Any

import numpy as np

__all__ = ["expand_reduced", "normal_axes", "unbroadcast"]

MANY = 1 << 20  # float32 numbers, of which a sum row by row loses what it has room for


def unbroadcast(g: Any, shape: tuple[int, ...]) -> Any:
    """Sum `g` over the axes along which an array of `shape` was repeated to reach ``g.shape``."""
    if g.shape == shape:
        return g
    extra = g.ndim - len(shape)
    axes = tuple(range(extra)) + tuple(
        i + extra for i, n in enumerate(shape) if n == 1 and g.shape[i + extra] != 1
    )
    if axes:
        if type(g) is np.ndarray and g.dtype.itemsize < 8 and g.size > MANY:
            g = np.add.reduce(g, axis=axes, keepdims=True, dtype=np.float64).astype(g.dtype)
        else:
            g = np.sum(g, axis=axes, keepdims=True)
    return g if g.shape == shape else np.reshape(g, shape)


def normal_axes(axis: int | tuple[int, ...] | None, ndim: int) -> tuple[int, ...]:
    """The axes of a reduction as a tuple of non-negative numbers, in rising order."""
    if axis is None:
        return tuple(range(ndim))
    if type(axis) is int and -ndim <= axis < ndim:
        return (axis % ndim,)
    return tuple(sorted(np.lib.array_utils.normalize_axis_tuple(axis, ndim)))


def expand_reduced(value: Any, axes: tuple[int, ...], keepdims: bool) -> Any:
    """The reduced axes put back with length 1, so that a reduction's result broadcasts against its
    input.
    """
    if keepdims or not axes:
        return value
    shape = list(value.shape)
    for axis in axes:
        shape.insert(axis, 1)
    return np.reshape(value, shape)

"""Rules of indexing, of picking by index and of order statistics.

Elements picked more than once collect the sum of their cotangents. Sorting passes the derivative to
the element that ended in each place; equal elements keep the order of NumPy's stable sort.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ...errors import DifferentiationError, ShapeError
from ..broadcasting import normal_axes
from ..registry import Rule, implements, implements_method
from ..scattered import Scattered, scattered_zeros
from ..tensor import (
    Tensor,
    apply,
    held,
    owned,
)
from ..tracking import STATE
from .elementwise import as_floats

__all__ = ["getitem", "scatter"]


def _getitem_adjoint(g: Any, y: Any, x: Any, index: Any) -> Any:
    if STATE.now.recording:
        return scatter(g, index=index, shape=x.shape)
    return Scattered(g, index, x.shape)


_getitem = Rule("getitem", lambda x, index: x[index], (_getitem_adjoint,))
_scatter_rule = Rule("scatter", scattered_zeros, (lambda g, y, x, index, shape: g[index],))


@implements_method("getitem")
def getitem(x: Any, *, index: Any) -> Any:
    return apply(_getitem, (x,), {"index": owned(index)})


def scatter(g: Any, *, index: Any, shape: tuple[int, ...]) -> Any:
    return apply(_scatter_rule, (g,), {"index": owned(index), "shape": shape})


def _wrapped(indices: Any, n: int, mode: str) -> Any:
    indices = np.asarray(held(indices))
    if mode == "wrap":
        return indices % n
    if mode == "clip":
        return np.clip(indices, 0, n - 1)
    return indices


@implements(np.take)
def take(a: Any, indices: Any, axis: Any = None, out: None = None, mode: str = "raise") -> Any:
    if axis is None:
        return np.ravel(a)[_wrapped(indices, np.size(a), mode)]
    axis = normal_axes(axis, np.ndim(a))[0]
    return a[(slice(None),) * axis + (_wrapped(indices, np.shape(a)[axis], mode),)]


@implements(np.take_along_axis)
def take_along_axis(arr: Any, indices: Any, axis: Any = -1) -> Any:
    if axis is None:
        return np.ravel(arr)[np.asarray(held(indices))]
    axis = normal_axes(axis, np.ndim(arr))[0]
    indices = np.asarray(held(indices))
    shape = list(np.shape(arr))
    grid = [
        indices
        if i == axis
        else np.arange(n).reshape([-1 if j == i else 1 for j in range(len(shape))])
        for i, n in enumerate(shape)
    ]
    return arr[tuple(grid)]


@implements(np.compress)
def compress(condition: Any, a: Any, axis: Any = None, out: None = None) -> Any:
    return np.take(a, np.flatnonzero(held(condition)), axis=axis)


@implements(np.extract)
def extract(condition: Any, arr: Any) -> Any:
    return np.ravel(arr)[np.flatnonzero(held(condition))]


@implements(np.choose)
def choose(a: Any, choices: Any, out: None = None, mode: str = "raise") -> Any:
    index = _wrapped(a, len(choices), mode)
    shape = np.broadcast_shapes(index.shape, *(np.shape(c) for c in choices))
    table = np.stack([np.broadcast_to(c, shape) for c in choices])
    return np.take_along_axis(table, np.broadcast_to(index, shape)[None], axis=0)[0]


@implements(np.sort)
def sort(
    a: Any, axis: Any = -1, kind: Any = None, order: None = None, *, stable: Any = None
) -> Any:
    if axis is None:
        a, axis = np.ravel(a), 0
    return np.take_along_axis(a, np.argsort(held(a), axis=axis, kind="stable"), axis=axis)


@implements(np.partition)
def partition(
    a: Any, kth: Any, axis: Any = -1, kind: Any = "introselect", order: None = None
) -> Any:
    if axis is None:
        a, axis = np.ravel(a), 0
    return np.take_along_axis(a, np.argpartition(held(a), kth, axis=axis), axis=axis)


@implements(np.interp)
def interp(
    x: Any, xp: Any, fp: Any, left: Any = None, right: Any = None, period: Any = None
) -> Any:
    """Piecewise linear: differentiable by the place, the nodes and the values. On a node, the piece
    to its right.
    """
    if period is not None:
        raise DifferentiationError(
            "np.interp with period= has no derivative rule. Reduce x with np.remainder first."
        )
    x, xp, fp = as_floats(x), as_floats(xp), as_floats(fp)
    place, nodes = np.asarray(held(x)), np.asarray(held(xp))
    if nodes.ndim != 1 or not nodes.size or fp.shape != nodes.shape:
        raise ShapeError(
            "np.interp: expected nodes and values of one length, in one axis, got shapes "
            f"{nodes.shape} and {fp.shape}."
        )
    if nodes.size == 1:
        xp, fp = np.concatenate([xp, xp + 1]), np.concatenate([fp, fp])
    last = len(nodes) - 1
    piece = np.clip(np.searchsorted(nodes, place, side="right") - 1, 0, max(last - 1, 0))
    lower, upper = xp[piece], xp[piece + 1]
    start, stop = fp[piece], fp[piece + 1]
    inside = start + (stop - start) * ((x - lower) / (upper - lower))
    below, above = place < nodes[0], place > nodes[last]
    return np.where(
        below,
        fp[0] if left is None else left,
        np.where(above, fp[last] if right is None else right, inside),
    )


@implements(np.unique)
def unique(
    ar: Any,
    return_index: bool = False,
    return_inverse: bool = False,
    return_counts: bool = False,
    axis: Any = None,
    *,
    equal_nan: bool = True,
    sorted: bool = True,
) -> Any:
    """The derivative of a value that stands several times belongs to the first of them."""
    if axis is not None:
        raise DifferentiationError(
            "np.unique with axis= has no derivative rule. Use vinestep.held(x) to find the rows, "
            "then x[index]."
        )
    _, first, inverse, counts = np.unique(
        held(ar), return_index=True, return_inverse=True, return_counts=True, equal_nan=equal_nan
    )
    values = np.ravel(ar)[first]
    more = [
        part
        for part, wanted in (
            (first, return_index),
            (inverse, return_inverse),
            (counts, return_counts),
        )
        if wanted
    ]
    return (values, *more) if more else values


@implements(np.bincount)
def bincount(x: Any, /, weights: Any = None, minlength: int = 0) -> Any:
    """Differentiable by the weights."""
    index = np.asarray(held(x))
    counts = np.bincount(index, minlength=minlength)
    if not isinstance(weights, Tensor):
        return counts if weights is None else np.bincount(index, weights, minlength)
    if weights.shape != index.shape:
        raise ShapeError(f"np.bincount: {index.shape} places for weights of shape {weights.shape}.")
    return scatter(weights.astype(np.float64), index=index, shape=counts.shape)


def _moving_edges(a: Any, n: int) -> Any:
    low, high = np.min(a), np.max(a)
    steps = np.linspace(0.0, 1.0, n + 1)
    return low + (high - low) * steps if held(low) != held(high) else low + (steps - 0.5)


@implements(np.histogram)
def histogram(
    a: Any, bins: Any = 10, range: Any = None, density: bool | None = None, weights: Any = None
) -> Any:
    """Differentiable by the weights. Counts are flat between jumps; edges move with the extremes of
    the values, unless they are given.
    """
    values, places = np.ravel(np.asarray(held(a))), held(bins)
    if isinstance(bins, Tensor) or isinstance(range, Tensor):
        raise DifferentiationError(
            "np.histogram has no derivative by its edges. Give vinestep.held(bins)."
        )
    if not isinstance(weights, Tensor):
        counts, edges = np.histogram(values, places, range, density, weights)
        return counts, edges if range is not None or np.ndim(
            places
        ) or not values.size else _moving_edges(a, len(edges) - 1)
    edges = np.histogram_bin_edges(values, places, range)
    index = np.searchsorted(edges, values, side="right") - 1
    index[values == edges[-1]] = len(edges) - 2
    inside = np.flatnonzero((index >= 0) & (index < len(edges) - 1))
    total = scatter(np.ravel(weights)[inside], index=index[inside], shape=(len(edges) - 1,))
    return (total / (np.sum(total) * np.diff(edges)) if density else total), edges

"""Rules of the functions that rearrange, join, split, repeat or pad elements.

Those that only rearrange or repeat are done on an array of positions, and the elements gathered by
it.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ...errors import DifferentiationError, DTypeError
from ..broadcasting import unbroadcast
from ..registry import Rule, implements, implements_method
from ..tensor import (
    Tensor,
    apply,
    check_real_float,
    held,
)

__all__ = ["astype"]

_MISSING = np._NoValue  # type: ignore[attr-defined]

_astype = Rule("astype", lambda x, dtype: x.astype(dtype), (lambda g, y, x, dtype: g,))


@implements_method("astype")
def astype(x: Any, *, dtype: np.dtype[Any]) -> Any:
    """Floats to other floats; the cotangent goes back in the input's own precision."""
    if dtype.kind in "iub":
        raise DTypeError(
            f"A Tensor turned to {dtype} would lose its derivative. For indices and labels use "
            f"vinestep.held(x).astype({dtype})."
        )
    check_real_float(dtype)
    return apply(_astype, (x,), {"dtype": dtype})


@implements(np.astype)
def _astype_function(x: Any, dtype: Any, /, *, copy: bool = True, device: Any = None) -> Any:
    return astype(x, dtype=np.dtype(dtype))


_reshape = Rule(
    "reshape",
    lambda x, shape, order: np.reshape(x, shape, order=order),
    (lambda g, y, x, shape, order: np.reshape(g, x.shape, order=order),),
)


@implements(np.reshape)
def reshape(
    a: Any, /, shape: Any = None, order: Any = "C", *, newshape: Any = None, copy: Any = None
) -> Any:
    if order not in ("C", "F"):
        raise DifferentiationError(
            f"np.reshape with order={order!r} depends on memory layout. Use 'C' or 'F'."
        )
    return apply(
        _reshape, (a,), {"shape": shape if shape is not None else newshape, "order": order}
    )


@implements(np.ravel)
def ravel(a: Any, order: Any = "C") -> Any:
    if np.ndim(a) < 2 and order in ("K", "A"):
        order = "C"
    return np.reshape(a, -1, order=order)


_transpose = Rule(
    "transpose",
    lambda x, axes: np.transpose(x, axes),
    (
        lambda g, y, x, axes: np.transpose(
            g, None if axes is None else np.argsort([a % x.ndim for a in axes])
        ),
    ),
)


@implements(np.transpose, np.permute_dims)
def transpose(a: Any, axes: Any = None) -> Any:
    return apply(_transpose, (a,), {"axes": None if axes is None else tuple(int(i) for i in axes)})


def _moved(order: list[int], source: Any, destination: Any, ndim: int) -> list[int]:
    sources = np.lib.array_utils.normalize_axis_tuple(source, ndim, "source")
    destinations = np.lib.array_utils.normalize_axis_tuple(destination, ndim, "destination")
    rest = [axis for axis in order if axis not in sources]
    for target, axis in sorted(zip(destinations, sources, strict=True)):
        rest.insert(target, axis)
    return rest


@implements(np.moveaxis)
def moveaxis(a: Any, source: Any, destination: Any) -> Any:
    return np.transpose(a, _moved(list(range(np.ndim(a))), source, destination, np.ndim(a)))


@implements(np.rollaxis)
def rollaxis(a: Any, axis: int, start: int = 0) -> Any:
    axis %= np.ndim(a)
    return np.moveaxis(a, axis, start - 1 if start > axis else start)


@implements(np.swapaxes)
def swapaxes(a: Any, axis1: int, axis2: int) -> Any:
    order = list(range(np.ndim(a)))
    order[axis1], order[axis2] = order[axis2], order[axis1]
    return np.transpose(a, order)


@implements(np.matrix_transpose, np.linalg.matrix_transpose)
def matrix_transpose(x: Any, /) -> Any:
    return np.swapaxes(x, -1, -2)


@implements(np.expand_dims)
def expand_dims(a: Any, axis: Any) -> Any:
    axes = axis if isinstance(axis, Sequence) else (axis,)
    ndim = np.ndim(a) + len(axes)
    new = set(np.lib.array_utils.normalize_axis_tuple(axes, ndim))
    rest = iter(np.shape(a))
    return np.reshape(a, [1 if i in new else next(rest) for i in range(ndim)])


@implements(np.squeeze)
def squeeze(a: Any, axis: Any = None) -> Any:
    return np.reshape(a, np.squeeze(held(a), axis=axis).shape)


@implements(np.atleast_1d)
def atleast_1d(*arrays: Any) -> Any:
    return _each(arrays, lambda x: np.reshape(x, (1,)) if np.ndim(x) == 0 else x)


@implements(np.atleast_2d)
def atleast_2d(*arrays: Any) -> Any:
    return _each(arrays, lambda x: np.reshape(x, (1, -1)) if np.ndim(x) < 2 else x)


@implements(np.atleast_3d)
def atleast_3d(*arrays: Any) -> Any:
    return _each(arrays, lambda x: np.reshape(x, np.atleast_3d(held(x)).shape))


def _each(arrays: Sequence[Any], change: Any) -> Any:
    changed = tuple(change(x) for x in arrays)
    return changed[0] if len(changed) == 1 else changed


_broadcast_to = Rule(
    "broadcast_to",
    lambda x, shape: np.broadcast_to(x, shape),
    (lambda g, y, x, shape: unbroadcast(g, x.shape),),
)


@implements(np.broadcast_to)
def broadcast_to(array: Any, shape: Any, subok: bool = False) -> Any:
    return apply(
        _broadcast_to,
        (array,),
        {"shape": tuple(np.atleast_1d(shape).tolist()) if shape != () else ()},
    )


@implements(np.broadcast_arrays)
def broadcast_arrays(*args: Any, subok: bool = False) -> Any:
    shape = np.broadcast_shapes(*(np.shape(x) for x in args))
    return tuple(np.broadcast_to(x, shape) for x in args)


class _Concatenate(Rule):
    """One rule for any number of inputs; it needs no more of them than where each one starts."""

    __slots__ = ()

    def pull(
        self, g: Any, y: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool]
    ) -> list[Any]:
        head = (slice(None),) * options["axis"]
        bounds = options["bounds"]
        return [
            g[(*head, slice(start, stop))] if want else None
            for start, stop, want in zip(bounds, bounds[1:], wanted, strict=False)
        ]


_concatenate = _Concatenate(
    "concatenate", lambda *arrays, axis, bounds: np.concatenate(arrays, axis=axis), ()
)


@implements(np.concatenate, np.concat)
def concatenate(
    arrays: Any,
    /,
    axis: Any = 0,
    out: None = None,
    *,
    dtype: Any = None,
    casting: Any = "same_kind",
) -> Any:
    parts = [x if isinstance(x, Tensor) else np.asarray(x) for x in arrays]
    if axis is None:
        parts, axis = [np.ravel(x) for x in parts], 0
    if dtype is not None:
        parts = [x.astype(dtype) for x in parts]
    axis = int(np.lib.array_utils.normalize_axis_index(axis, parts[0].ndim))
    bounds = (0, *np.cumsum([x.shape[axis] for x in parts]).tolist())
    return apply(_concatenate, tuple(parts), {"axis": axis, "bounds": bounds})


@implements(np.stack)
def stack(
    arrays: Any, axis: int = 0, out: None = None, *, dtype: Any = None, casting: Any = "same_kind"
) -> Any:
    return np.concatenate([np.expand_dims(x, axis) for x in arrays], axis=axis, dtype=dtype)


@implements(np.hstack)
def hstack(tup: Any, *, dtype: Any = None, casting: Any = "same_kind") -> Any:
    parts = [np.atleast_1d(x) for x in tup]
    return np.concatenate(parts, axis=0 if parts[0].ndim == 1 else 1, dtype=dtype)


@implements(np.vstack)
def vstack(tup: Any, *, dtype: Any = None, casting: Any = "same_kind") -> Any:
    return np.concatenate([np.atleast_2d(x) for x in tup], axis=0, dtype=dtype)


@implements(np.dstack)
def dstack(tup: Any) -> Any:
    return np.concatenate([np.atleast_3d(x) for x in tup], axis=2)


@implements(np.column_stack)
def column_stack(tup: Any) -> Any:
    return np.concatenate([np.reshape(x, (-1, 1)) if np.ndim(x) < 2 else x for x in tup], axis=1)


@implements(np.block)
def block(arrays: Any) -> Any:
    depth = _depth(arrays)
    ndim = max(depth, *(np.ndim(x) for x in _leaves(arrays)))

    def joined(part: Any, level: int) -> Any:
        if level == depth:
            return np.reshape(part, (1,) * (ndim - np.ndim(part)) + np.shape(part))
        return np.concatenate([joined(inner, level + 1) for inner in part], axis=level - depth)

    return joined(arrays, 0)


def _depth(arrays: Any) -> int:
    if not isinstance(arrays, list):
        return 0
    depths = {_depth(part) for part in arrays}
    if len(depths) != 1:
        raise DifferentiationError(
            "np.block: all lists have to be nested to one depth, and hold something."
        )
    return 1 + depths.pop()


def _leaves(arrays: Any) -> list[Any]:
    return (
        [leaf for part in arrays for leaf in _leaves(part)]
        if isinstance(arrays, list)
        else [arrays]
    )


@implements(np.insert)
def insert(arr: Any, obj: Any, values: Any, axis: Any = None) -> Any:
    if axis is None:
        arr, axis = np.ravel(arr), 0
    axis = int(np.lib.array_utils.normalize_axis_index(axis, np.ndim(arr)))
    arr = arr if isinstance(arr, Tensor) else np.asarray(arr)
    shape = np.insert(held(arr), obj, held(values), axis=axis).shape
    n, extra = arr.shape[axis], shape[axis] - arr.shape[axis]
    new = values if isinstance(values, Tensor) else np.asarray(values)
    new = np.reshape(new, (1,) * (arr.ndim - np.ndim(new)) + np.shape(new))
    if np.ndim(obj) == 0 and not isinstance(obj, slice):
        new = np.moveaxis(new, 0, axis)
    new = np.broadcast_to(new, (*shape[:axis], extra, *shape[axis + 1 :]))
    order = np.insert(np.arange(n), obj, n + np.arange(extra))
    return np.take(np.concatenate([arr, new], axis=axis, dtype=arr.dtype), order, axis=axis)


@implements(np.append)
def append(arr: Any, values: Any, axis: Any = None) -> Any:
    return np.concatenate([arr, values], axis=axis)


@implements(np.array_split)
def array_split(ary: Any, indices_or_sections: Any, axis: int = 0) -> Any:
    head = (slice(None),) * (axis % np.ndim(ary))
    pieces = np.array_split(np.arange(np.shape(ary)[axis]), indices_or_sections)
    return [
        ary[(*head, slice(int(p[0]), int(p[-1]) + 1) if p.size else slice(0, 0))] for p in pieces
    ]


@implements(np.split)
def split(ary: Any, indices_or_sections: Any, axis: int = 0) -> Any:
    np.split(np.empty(np.shape(ary)[axis]), indices_or_sections)
    return np.array_split(ary, indices_or_sections, axis)


@implements(np.hsplit)
def hsplit(ary: Any, indices_or_sections: Any) -> Any:
    return np.split(ary, indices_or_sections, axis=0 if np.ndim(ary) == 1 else 1)


@implements(np.vsplit)
def vsplit(ary: Any, indices_or_sections: Any) -> Any:
    return np.split(ary, indices_or_sections, axis=0)


@implements(np.dsplit)
def dsplit(ary: Any, indices_or_sections: Any) -> Any:
    return np.split(ary, indices_or_sections, axis=2)


@implements(np.unstack)
def unstack(x: Any, /, *, axis: int = 0) -> Any:
    return tuple(np.moveaxis(x, axis, 0))


def _gathered(a: Any, rearrange: Any) -> Any:
    """The elements of `a` where `rearrange` puts their positions."""
    positions = rearrange(np.arange(np.size(a)).reshape(np.shape(a)))
    return np.ravel(a)[positions]


@implements(np.tile)
def tile(A: Any, reps: Any) -> Any:
    return _gathered(A, lambda p: np.tile(p, reps))


@implements(np.repeat)
def repeat(a: Any, repeats: Any, axis: Any = None) -> Any:
    return _gathered(a, lambda p: np.repeat(p, repeats, axis=axis))


@implements(np.roll)
def roll(a: Any, shift: Any, axis: Any = None) -> Any:
    return _gathered(a, lambda p: np.roll(p, shift, axis=axis))


@implements(np.flip)
def flip(m: Any, axis: Any = None) -> Any:
    axes = (
        range(np.ndim(m))
        if axis is None
        else np.lib.array_utils.normalize_axis_tuple(axis, np.ndim(m))
    )
    return m[tuple(slice(None, None, -1) if i in axes else slice(None) for i in range(np.ndim(m)))]


@implements(np.fliplr)
def fliplr(m: Any) -> Any:
    return np.flip(m, 1)


@implements(np.flipud)
def flipud(m: Any) -> Any:
    return np.flip(m, 0)


@implements(np.rot90)
def rot90(m: Any, k: int = 1, axes: Any = (0, 1)) -> Any:
    return _gathered(m, lambda p: np.rot90(p, k, axes))


@implements(np.delete)
def delete(arr: Any, obj: Any, axis: Any = None) -> Any:
    return _gathered(arr, lambda p: np.delete(p, obj, axis=axis))


def _triangle(m: Any, k: int) -> Any:
    rows, columns = np.shape(m)[-2:]
    return np.tri(rows, columns, k=k, dtype=bool)


@implements(np.tril)
def tril(m: Any, k: int = 0) -> Any:
    return np.where(_triangle(m, k), m, 0.0)


@implements(np.triu)
def triu(m: Any, k: int = 0) -> Any:
    return np.where(_triangle(m, k - 1), 0.0, m)


@implements(np.diagonal)
def diagonal(a: Any, offset: int = 0, axis1: int = 0, axis2: int = 1) -> Any:
    return _gathered(a, lambda p: np.diagonal(p, offset, axis1, axis2))


@implements(np.linalg.diagonal)
def linalg_diagonal(x: Any, /, *, offset: int = 0) -> Any:
    return np.diagonal(x, offset, -2, -1)


@implements(np.diag)
def diag(v: Any, k: int = 0) -> Any:
    if np.ndim(v) != 1:
        return np.diagonal(v, k)
    n = np.size(v) + abs(k)
    start = max(-k, 0)
    rows = np.pad(v, (start, n - start - np.size(v)))
    return np.where(np.eye(n, k=k, dtype=bool), np.expand_dims(rows, 1), 0.0)


@implements(np.trace)
def trace(
    a: Any, offset: int = 0, axis1: int = 0, axis2: int = 1, dtype: Any = None, out: None = None
) -> Any:
    return np.sum(np.diagonal(a, offset, axis1, axis2), axis=-1, dtype=dtype)


@implements(np.linalg.trace)
def linalg_trace(x: Any, /, *, offset: int = 0, dtype: Any = None) -> Any:
    return np.trace(x, offset, -2, -1, dtype)


@implements(np.meshgrid)
def meshgrid(*xi: Any, copy: bool = True, sparse: bool = False, indexing: str = "xy") -> Any:
    lines = [np.ravel(x) for x in xi]
    n = len(lines)
    grids = [
        np.reshape(x, [-1 if i == axis else 1 for i in range(n)]) for axis, x in enumerate(lines)
    ]
    if not sparse:
        shape = tuple(x.shape[0] for x in lines)
        grids = [np.broadcast_to(grid, shape) for grid in grids]
    return tuple(np.swapaxes(grid, 0, 1) if indexing == "xy" and n > 1 else grid for grid in grids)


_pad_zeros = Rule(
    "pad",
    lambda x, widths: np.pad(x, widths),
    (
        lambda g, y, x, widths: g[
            tuple(slice(before, before + n) for (before, _), n in zip(widths, x.shape, strict=True))
        ],
    ),
)
_POSITION_MODES = ("edge", "reflect", "symmetric", "wrap")
_STATISTICS: dict[str, Any] = {
    "maximum": np.max,
    "minimum": np.min,
    "mean": np.mean,
    "median": np.median,
}


@implements(np.pad)
def pad(array: Any, pad_width: Any, mode: Any = "constant", **options: Any) -> Any:
    """All modes but "empty", whose values are undefined, a function, and odd reflection, which
    extrapolates.
    """
    widths = _widths(pad_width, np.ndim(array))
    if mode == "constant":
        padded = apply(_pad_zeros, (array,), {"widths": widths})
        constants = options.get("constant_values", 0)
        if np.any(np.asarray(constants) != 0):
            padded = padded + np.pad(
                np.zeros(np.shape(array), padded.dtype), widths, constant_values=constants
            )
        return padded
    if mode in _POSITION_MODES and options.get("reflect_type", "even") == "even":
        return _gathered(array, lambda p: np.pad(p, widths, mode=mode))
    if mode == "linear_ramp":
        ends = _widths(options.get("end_values", 0), np.ndim(array), whole=False)
        return _pad_by_axis(
            array, widths, lambda a, axis, side, n: _ramp(a, axis, side, n, ends[axis][side])
        )
    if mode in _STATISTICS:
        length = options.get("stat_length")
        lengths = None if length is None else _widths(length, np.ndim(array))
        return _pad_by_axis(
            array, widths, lambda a, axis, side, n: _statistic(a, axis, side, n, mode, lengths)
        )
    raise DifferentiationError(
        f"np.pad with mode={mode!r} and {options or 'no options'} has no derivative rule. Modes "
        "that have one: constant, "
        "linear_ramp, maximum, mean, median, minimum, and edge, reflect, symmetric, wrap (even)."
    )


def _widths(pairs: Any, ndim: int, *, whole: bool = True) -> tuple[tuple[Any, Any], ...]:
    if isinstance(pairs, dict):
        pairs = [pairs.get(i, pairs.get(i - ndim, (0, 0))) for i in range(ndim)]
        pairs = [(p, p) if np.ndim(p) == 0 else p for p in pairs]
    table = np.broadcast_to(np.asarray(pairs, dtype=int if whole else float), (ndim, 2)).tolist()
    return tuple((before, after) for before, after in table)


def _pad_by_axis(a: Any, widths: tuple[tuple[int, int], ...], make: Any) -> Any:
    for axis, (before, after) in enumerate(widths):
        parts = (
            [make(a, axis, 0, before)] * bool(before)
            + [a]
            + [make(a, axis, 1, after)] * bool(after)
        )
        a = np.concatenate(parts, axis=axis) if len(parts) > 1 else a
    return a


def _edge(a: Any, axis: int, side: int) -> Any:
    return a[(slice(None),) * axis + (slice(0, 1) if side == 0 else slice(-1, None),)]


def _ramp(a: Any, axis: int, side: int, n: int, end: float) -> Any:
    steps = np.arange(n, dtype=a.dtype) / n
    steps = np.reshape(
        steps if side == 0 else steps[::-1], [-1 if i == axis else 1 for i in range(a.ndim)]
    )
    return end + (_edge(a, axis, side) - end) * steps


def _statistic(a: Any, axis: int, side: int, n: int, mode: str, lengths: Any) -> Any:
    size = a.shape[axis]
    length = size if lengths is None else min(lengths[axis][side], size)
    part = slice(0, length) if side == 0 else slice(size - length, size)
    value = _STATISTICS[mode](a[(slice(None),) * axis + (part,)], axis=axis, keepdims=True)
    shape = list(value.shape)
    shape[axis] = n
    return np.broadcast_to(value, tuple(shape))

"""Rules of the reductions and running reductions.

Conventions: equal largest (or smallest) elements share the derivative equally in `max`, `min`,
`ptp` and their ufunc forms; a running maximum gives it to the first of them. `std` and
`linalg.norm` have derivative 0 where they are 0. `median` belongs to the middle elements in sorting
order.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ...errors import DifferentiationError
from ..broadcasting import expand_reduced, normal_axes
from ..registry import (
    UFUNC_METHODS,
    Rule,
    implements,
    passive,
)
from ..tensor import Tensor, apply, held
from .elementwise import as_floats, scalar_without_axes
from .shaping import astype

__all__ = ["root"]

_MISSING = np._NoValue  # type: ignore[attr-defined]


def _given(value: Any, default: Any) -> Any:
    return default if value is _MISSING or value is None else value


def _spread(g: Any, shape: tuple[int, ...], axes: tuple[int, ...], keepdims: bool) -> Any:
    return np.broadcast_to(expand_reduced(g, axes, keepdims), shape)


def _converted(a: Any, dtype: Any) -> Any:
    return a if dtype is None else astype(a, dtype=np.dtype(dtype))


def _masked(a: Any, where: Any, fill: float) -> Any:
    return a if where is True else np.where(where, a, fill)


_sum = Rule(
    "sum",
    lambda x, axes, keepdims: np.add.reduce(x, axis=axes, keepdims=keepdims),
    (lambda g, y, x, axes, keepdims: _spread(g, x.shape, axes, keepdims),),
)


@implements(np.sum)
def sum(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    keepdims: Any = False,
    initial: Any = None,
    where: Any = True,
) -> Any:
    if dtype is None and keepdims is False and initial is None and where is True:
        return apply(_sum, (a,), {"axes": normal_axes(axis, a.ndim), "keepdims": False})
    where = _given(where, True)
    a = _masked(_converted(a, dtype), where, 0.0)
    total = apply(
        _sum,
        (a,),
        {"axes": normal_axes(axis, np.ndim(a)), "keepdims": bool(_given(keepdims, False))},
    )
    initial = _given(initial, None)
    return total if initial is None else total + initial


@implements(np.mean)
def mean(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    keepdims: Any = False,
    *,
    where: Any = True,
) -> Any:
    where = _given(where, True)
    kept = bool(_given(keepdims, False))
    if a.dtype == np.float16 and dtype is None:  # NumPy adds these up in float32, too
        wide = mean(astype(a, dtype=np.dtype(np.float32)), axis=axis, keepdims=kept, where=where)
        return astype(wide, dtype=np.dtype(np.float16))
    n = _count(a, axis, where)
    total = np.sum(a, axis=axis, dtype=dtype, keepdims=kept, where=where)
    with np.errstate(divide="ignore"):
        scale = np.divide(1.0, n)
    return total * _like(scale, total, axis, np.ndim(a))


def _like(value: Any, result: Any, axis: Any, ndim: int) -> Any:
    """Counts as plain numbers of the dtype of the result that they scale, shaped as it is."""
    if np.ndim(value) == 0:
        return float(value)
    value = np.asarray(value, dtype=result.dtype)
    return value if value.ndim == result.ndim else np.squeeze(value, normal_axes(axis, ndim))


def _count(a: Any, axis: Any, where: Any) -> Any:
    if where is True:
        axes = normal_axes(axis, np.ndim(a))
        return float(np.prod([a.shape[i] for i in axes], dtype=np.int64))
    mask = np.broadcast_to(held(where), a.shape)
    with np.errstate(divide="ignore"):
        return np.add.reduce(mask, axis=normal_axes(axis, mask.ndim), keepdims=True, dtype=float)


@implements(np.var)
def var(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    ddof: Any = 0,
    keepdims: Any = False,
    *,
    where: Any = True,
    mean: Any = None,
    correction: Any = None,
) -> Any:
    where, keepdims, ddof = (
        _given(where, True),
        bool(_given(keepdims, False)),
        _given(correction, _given(ddof, 0)),
    )
    a = _converted(a, dtype)
    middle = _given(mean, None)
    if middle is None:
        middle = np.mean(a, axis=axis, keepdims=True, where=where)
    n = _count(a, axis, where)
    squares = np.sum(np.square(a - middle), axis=axis, keepdims=keepdims, where=where)
    with np.errstate(divide="ignore"):
        scale = np.divide(1.0, np.maximum(n - ddof, 0))
    return squares * _like(scale, squares, axis, np.ndim(a))


root = Rule(
    "sqrt",
    np.sqrt,
    (lambda g, y, x: g * np.where(held(y) == 0, 0.0, 0.5 / np.where(held(y) == 0, 1.0, y)),),
    keeps="y",
)


@implements(np.std)
def std(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    ddof: Any = 0,
    keepdims: Any = False,
    **options: Any,
) -> Any:
    return apply(
        root, (np.var(a, axis=axis, dtype=dtype, ddof=ddof, keepdims=keepdims, **options),), {}
    )


def _extreme_adjoint(
    g: Any, y: Any, x: Any, axes: tuple[int, ...], keepdims: bool, reduce: Any
) -> Any:
    top = expand_reduced(held(y), axes, keepdims)
    chosen = np.asarray(held(x) == top).astype(g.dtype)
    with np.errstate(invalid="ignore"):
        chosen /= np.add.reduce(
            chosen, axis=axes, keepdims=True
        )  # NaN where the extreme is NaN, which equals nothing
    return np.where(chosen == 0, 0.0, expand_reduced(g, axes, keepdims) * chosen)


_extreme: dict[Any, Rule] = {
    np.maximum: Rule(
        "max",
        lambda x, axes, keepdims, reduce: reduce(x, axis=axes, keepdims=keepdims),
        (_extreme_adjoint,),
        keeps="xy",
    ),
    np.minimum: Rule(
        "min",
        lambda x, axes, keepdims, reduce: reduce(x, axis=axes, keepdims=keepdims),
        (_extreme_adjoint,),
        keeps="xy",
    ),
}


def _reduce_extreme(
    ufunc: np.ufunc, a: Any, axis: Any, keepdims: Any, initial: Any, where: Any
) -> Any:
    worst = -np.inf if ufunc is np.maximum else np.inf
    where, initial = _given(where, True), _given(initial, None)
    if where is not True and initial is None:
        raise DifferentiationError(
            "np.max and np.min with where= need initial=, as in NumPy itself."
        )
    a = _masked(a, where, worst)
    axes = normal_axes(axis, np.ndim(a))
    if initial is not None and not _all_nonempty(a, axes):
        return np.sum(a, axis=axis, keepdims=bool(_given(keepdims, False))) + initial
    options = {"axes": axes, "keepdims": bool(_given(keepdims, False)), "reduce": ufunc.reduce}
    result = apply(_extreme[ufunc], (a,), options)
    return result if initial is None else ufunc(result, initial)


def _all_nonempty(a: Any, axes: tuple[int, ...]) -> bool:
    return all(a.shape[i] for i in axes)


@implements(np.max, np.amax)
def max(
    a: Any,
    axis: Any = None,
    out: None = None,
    keepdims: Any = False,
    initial: Any = None,
    where: Any = True,
) -> Any:
    return _reduce_extreme(np.maximum, a, axis, keepdims, initial, where)


@implements(np.min, np.amin)
def min(
    a: Any,
    axis: Any = None,
    out: None = None,
    keepdims: Any = False,
    initial: Any = None,
    where: Any = True,
) -> Any:
    return _reduce_extreme(np.minimum, a, axis, keepdims, initial, where)


@implements(np.ptp)
def ptp(a: Any, axis: Any = None, out: None = None, keepdims: Any = False) -> Any:
    keepdims = bool(_given(keepdims, False))
    return np.max(a, axis=axis, keepdims=keepdims) - np.min(a, axis=axis, keepdims=keepdims)


@implements(np.median)
def median(
    a: Any,
    axis: Any = None,
    out: None = None,
    overwrite_input: bool = False,
    keepdims: bool = False,
) -> Any:
    lines, axes = _lines(a, axis)
    order = np.argsort(held(lines), axis=-1)
    n = order.shape[-1]
    middle = order[..., (n - 1) // 2 : n // 2 + 1]
    result = _unless_nan(np.mean(np.take_along_axis(lines, middle, axis=-1), axis=-1), lines)
    return expand_reduced(result, axes, False) if keepdims else result


def _unless_nan(result: Any, lines: Any) -> Any:
    """NaN where a line holds one: it has no order."""
    bad = np.isnan(held(lines)).any(axis=-1)
    return np.where(bad, np.nan, result) if np.any(bad) else result


def _lines(a: Any, axis: Any) -> tuple[Any, tuple[int, ...]]:
    """What is reduced along the last axis, and the axes that it was."""
    axes = normal_axes(axis, np.ndim(a))
    kept = tuple(i for i in range(np.ndim(a)) if i not in axes)
    length = math.prod(a.shape[i] for i in axes)
    return np.reshape(np.transpose(a, kept + axes), (*(a.shape[i] for i in kept), length)), axes


@implements(np.quantile)
def quantile(
    a: Any,
    q: Any,
    axis: Any = None,
    out: None = None,
    overwrite_input: bool = False,
    method: str = "linear",
    keepdims: bool = False,
    *,
    weights: Any = None,
) -> Any:
    """Between the two elements that stand next to the place in sorting order; differentiable by the
    elements.
    """
    return _quantile("quantile", a, q, axis, method, keepdims, weights)


@implements(np.percentile)
def percentile(
    a: Any,
    q: Any,
    axis: Any = None,
    out: None = None,
    overwrite_input: bool = False,
    method: str = "linear",
    keepdims: bool = False,
    *,
    weights: Any = None,
) -> Any:
    return _quantile(
        "percentile",
        a,
        q if isinstance(q, Tensor) else np.asarray(q) / 100,
        axis,
        method,
        keepdims,
        weights,
    )


def _quantile(
    name: str,
    a: Any,
    q: Any,
    axis: Any,
    method: str,
    keepdims: bool,
    weights: Any,
    *,
    skip_nan: bool = False,
) -> Any:
    if weights is not None or isinstance(q, Tensor):
        raise DifferentiationError(
            f"np.{name} has a derivative rule by its first argument only, and not with weights=."
        )
    lines, axes = _lines(a, axis)
    ordered = np.sort(lines, axis=-1)
    n = lines.shape[-1]
    if n == 0 and skip_nan:
        result = np.broadcast_to(np.sum(lines, axis=-1) * np.nan, np.shape(q) + lines.shape[:-1])
        return expand_reduced(result, axes, keepdims=not keepdims)
    if skip_nan:
        lengths = n - np.isnan(held(lines)).sum(axis=-1)
        counted = [np.arange(m or 1, dtype=float) for m in range(n + 1)]
        table = np.array([np.quantile(m, q, method=method) for m in counted])  # type: ignore[call-overload]
        places = np.moveaxis(
            table[lengths], np.arange(lengths.ndim), np.arange(lengths.ndim) + np.ndim(q)
        )
        bad = lengths == 0
    else:
        spread = np.quantile(np.arange(n, dtype=float), q, method=method)  # type: ignore[call-overload]
        places = np.broadcast_to(
            np.reshape(spread, np.shape(q) + (1,) * (lines.ndim - 1)),
            np.shape(q) + lines.shape[:-1],
        )
        bad = np.isnan(held(lines)).any(axis=-1)
    lower = np.floor(places).astype(int)
    part = (places - lower).astype(lines.dtype)
    wide = np.broadcast_to(ordered, np.shape(q) + lines.shape)
    low, high = (
        np.take_along_axis(wide, index[..., None], axis=-1)[..., 0]
        for index in (lower, np.minimum(lower + 1, n - 1))
    )
    result = np.where(part == 0, low, low + (high - low) * part)
    if np.any(bad):
        result = np.where(bad, np.nan, result)
    if not keepdims:
        return scalar_without_axes(result)
    return np.reshape(
        result, np.shape(q) + tuple(1 if i in axes else size for i, size in enumerate(np.shape(a)))
    )


def _without_nan(a: Any, fill: float) -> Any:
    return np.where(np.isnan(held(a)), fill, a)


def _not_nan(a: Any, where: Any) -> Any:
    present = ~np.isnan(held(a))
    return present if _given(where, True) is True else present & np.asarray(held(where))


@implements(np.nansum)
def nansum(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    keepdims: Any = False,
    initial: Any = 0,
    where: Any = True,
) -> Any:
    return np.sum(
        _without_nan(a, 0.0),
        axis=axis,
        dtype=dtype,
        keepdims=bool(_given(keepdims, False)),
        initial=_given(initial, 0),
        where=where,
    )


@implements(np.nanprod)
def nanprod(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    keepdims: Any = False,
    initial: Any = 1,
    where: Any = True,
) -> Any:
    return np.prod(
        _without_nan(a, 1.0),
        axis=axis,
        dtype=dtype,
        keepdims=bool(_given(keepdims, False)),
        initial=_given(initial, 1),
        where=where,
    )


@implements(np.nanmean)
def nanmean(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    keepdims: Any = False,
    *,
    where: Any = True,
) -> Any:
    return np.mean(
        _without_nan(a, 0.0),
        axis=axis,
        dtype=dtype,
        keepdims=bool(_given(keepdims, False)),
        where=_not_nan(a, where),
    )


@implements(np.nanvar)
def nanvar(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    ddof: Any = 0,
    keepdims: Any = False,
    *,
    where: Any = True,
    **options: Any,
) -> Any:
    present = _not_nan(a, where)
    result = np.var(
        _without_nan(a, 0.0),
        axis=axis,
        dtype=dtype,
        ddof=ddof,
        keepdims=keepdims,
        where=present,
        **options,
    )
    axes, kept = normal_axes(axis, np.ndim(a)), bool(_given(keepdims, False))
    empty = np.add.reduce(present, axis=axes, keepdims=kept) == 0  # type: ignore[call-overload]
    return np.where(empty, np.nan, result) if np.any(empty) else result


@implements(np.nanstd)
def nanstd(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    ddof: Any = 0,
    keepdims: Any = False,
    **options: Any,
) -> Any:
    return apply(
        root, (np.nanvar(a, axis=axis, dtype=dtype, ddof=ddof, keepdims=keepdims, **options),), {}
    )


def _nan_extreme(function: Any, worst: float) -> Any:
    def extreme(
        a: Any,
        axis: Any = None,
        out: None = None,
        keepdims: Any = False,
        initial: Any = None,
        where: Any = True,
    ) -> Any:
        keepdims = bool(_given(keepdims, False))
        result = function(
            _without_nan(a, worst), axis=axis, keepdims=keepdims, initial=initial, where=where
        )
        if _given(initial, None) is not None:
            return result
        empty = np.isnan(held(a)).all(axis=axis, keepdims=keepdims)
        return np.where(empty, np.nan, result) if np.any(empty) else result

    return extreme


implements(np.nanmax)(_nan_extreme(np.max, -np.inf))
implements(np.nanmin)(_nan_extreme(np.min, np.inf))


@implements(np.nanmedian)
def nanmedian(
    a: Any, axis: Any = None, out: None = None, overwrite_input: bool = False, keepdims: Any = False
) -> Any:
    return _quantile(
        "nanmedian", a, 0.5, axis, "linear", bool(_given(keepdims, False)), None, skip_nan=True
    )


def _nan_quantile(name: str, scale: float) -> Any:
    def find(
        a: Any,
        q: Any,
        axis: Any = None,
        out: None = None,
        overwrite_input: bool = False,
        method: str = "linear",
        keepdims: Any = False,
        *,
        weights: Any = None,
    ) -> Any:
        place = q if isinstance(q, Tensor) else np.asarray(q) * scale
        return _quantile(
            name, a, place, axis, method, bool(_given(keepdims, False)), weights, skip_nan=True
        )

    return find


implements(np.nanquantile)(_nan_quantile("nanquantile", 1.0))
implements(np.nanpercentile)(_nan_quantile("nanpercentile", 0.01))


@implements(np.nancumsum)
def nancumsum(a: Any, axis: Any = None, dtype: Any = None, out: None = None) -> Any:
    return np.cumsum(_without_nan(a, 0.0), axis=axis, dtype=dtype)


@implements(np.nancumprod)
def nancumprod(a: Any, axis: Any = None, dtype: Any = None, out: None = None) -> Any:
    return np.cumprod(_without_nan(a, 1.0), axis=axis, dtype=dtype)


@implements(np.cov)
def cov(
    m: Any,
    y: Any = None,
    rowvar: bool = True,
    bias: bool = False,
    ddof: int | None = None,
    fweights: Any = None,
    aweights: Any = None,
    *,
    dtype: Any = None,
) -> Any:
    if fweights is not None or aweights is not None:
        raise DifferentiationError(
            "np.cov with weights has no derivative rule. Write it with np.average and products."
        )
    rows = _observations(m, rowvar)
    if y is not None:
        rows = np.concatenate([rows, _observations(y, rowvar)], axis=0)
    rows = _converted(rows, dtype)
    centred = rows - np.mean(rows, axis=1, keepdims=True)
    n = rows.shape[1] - (ddof if ddof is not None else 0 if bias else 1)
    products = np.squeeze(np.matmul(centred, centred.T) * (1 / n if n > 0 else np.inf))
    return products if rows.shape[1] else products * np.nan


def _observations(x: Any, rowvar: bool) -> Any:
    rows = np.atleast_2d(x if isinstance(x, Tensor) else as_floats(x))
    return rows if rowvar or rows.shape[0] == 1 else rows.T


@implements(np.corrcoef)
def corrcoef(x: Any, y: Any = None, rowvar: bool = True, *, dtype: Any = None) -> Any:
    c = np.cov(x, y, rowvar, dtype=dtype)
    if c.ndim == 0:
        return c / c
    spread = np.sqrt(np.diagonal(c))
    return c / np.expand_dims(spread, 1) / np.expand_dims(spread, 0)


@implements(np.average)
def average(
    a: Any, axis: Any = None, weights: Any = None, returned: bool = False, *, keepdims: Any = False
) -> Any:
    keepdims = bool(_given(keepdims, False))
    if weights is None:
        result = np.mean(a, axis=axis, keepdims=keepdims)
        total: Any = np.full(result.shape, _count(a, axis, True))
    else:
        if np.shape(weights) != np.shape(a):
            if not isinstance(axis, int | np.integer) or np.ndim(weights) != 1:
                raise DifferentiationError(
                    f"np.average: weights of shape {np.shape(weights)} for values of shape "
                    f"{np.shape(a)} need one axis= "
                    "and one dimension. Reshape the weights to the values' shape."
                )
            weights = np.reshape(
                weights, [-1 if i == axis % np.ndim(a) else 1 for i in range(np.ndim(a))]
            )
            weights = np.broadcast_to(weights, np.shape(a))
        total = np.sum(weights, axis=axis, keepdims=keepdims)
        result = np.sum(a * weights, axis=axis, keepdims=keepdims) / total
    return (result, total) if returned else result


_cumsum = Rule(
    "cumsum",
    lambda x, axis: np.add.accumulate(x, axis=axis),
    (lambda g, y, x, axis: np.flip(np.cumsum(np.flip(g, axis), axis), axis),),
)


def _line(a: Any, axis: int | None) -> tuple[Any, int]:
    """The array and the axis of a running reduction, which flattens when no axis is given."""
    return (np.ravel(a), 0) if axis is None else (a, normal_axes(axis, np.ndim(a))[0])


@implements(np.cumsum)
def cumsum(a: Any, axis: Any = None, dtype: Any = None, out: None = None) -> Any:
    a, axis = _line(_converted(a, dtype), axis)
    return apply(_cumsum, (a,), {"axis": axis})


@implements(np.cumulative_sum)
def cumulative_sum(
    x: Any,
    /,
    *,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    include_initial: bool = False,
) -> Any:
    return _with_initial(np.cumsum(x, axis=axis, dtype=dtype), axis, 0.0, include_initial)


@implements(np.cumulative_prod)
def cumulative_prod(
    x: Any,
    /,
    *,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    include_initial: bool = False,
) -> Any:
    return _with_initial(np.cumprod(x, axis=axis, dtype=dtype), axis, 1.0, include_initial)


def _with_initial(y: Any, axis: Any, value: float, wanted: bool) -> Any:
    if not wanted:
        return y
    axis = 0 if axis is None else axis
    first = list(y.shape)
    first[axis] = 1
    return np.concatenate([np.full(first, value, dtype=y.dtype), y], axis=axis)


def _cumprod_adjoint(g: Any, y: Any, x: Any, axis: int) -> Any:
    """With P the product before an element and S the sum of what follows it, the cotangent is ``P *
    S``.

    ``S[i] = g[i] + x[i + 1] * S[i + 1]``, so no division is needed and zeros are no special case.
    """
    n = x.shape[axis]
    if n == 0:
        return g
    x, g, y = (np.moveaxis(v, axis, 0) for v in (x, g, y))
    products = np.abs(held(y))
    if np.all((products > np.finfo(x.dtype).tiny) & np.isfinite(products)):
        result = np.flip(np.cumsum(np.flip(g * y, 0), 0), 0) / x
    else:
        after = [g[n - 1]]
        for i in range(n - 2, -1, -1):
            after.append(g[i] + x[i + 1] * after[-1])
        before = np.concatenate([np.ones_like(held(y)[:1]), y[: n - 1]], axis=0)
        result = before * np.stack(after[::-1])
    return np.moveaxis(result, 0, axis)


_cumprod = Rule(
    "cumprod", lambda x, axis: np.multiply.accumulate(x, axis=axis), (_cumprod_adjoint,), keeps="xy"
)


@implements(np.cumprod)
def cumprod(a: Any, axis: Any = None, dtype: Any = None, out: None = None) -> Any:
    a, axis = _line(_converted(a, dtype), axis)
    return apply(_cumprod, (a,), {"axis": axis})


def _prod_adjoint(g: Any, y: Any, x: Any, axes: tuple[int, ...], keepdims: bool) -> Any:
    g = expand_reduced(g, axes, keepdims)
    product = np.abs(held(y))
    if np.all((product > np.finfo(x.dtype).tiny) & np.isfinite(product)):
        return g * expand_reduced(y, axes, keepdims) / x
    if x.dtype.itemsize < 8:  # products of a few may be out of a small range where all are not
        wide = np.dtype(np.float64)
        others = _product_of_others(astype(x, dtype=wide), axes)
        return astype(astype(g, dtype=wide) * others, dtype=x.dtype)
    return g * _product_of_others(x, axes)


def _product_of_others(x: Any, axes: tuple[int, ...]) -> Any:
    """For each element the product of all others on its line, by running products from both
    ends.
    """
    kept = tuple(i for i in range(x.ndim) if i not in axes)
    front = np.transpose(x, axes + kept)
    lines = np.reshape(front, (math.prod(front.shape[: len(axes)]), *front.shape[len(axes) :]))
    one = np.ones((1, *lines.shape[1:]), dtype=x.dtype)
    before = np.cumprod(np.concatenate([one, lines[:-1]], axis=0), axis=0)
    after = np.flip(np.cumprod(np.concatenate([one, np.flip(lines[1:], 0)], axis=0), axis=0), 0)
    return np.transpose(np.reshape(before * after, front.shape), np.argsort(axes + kept))


_prod = Rule(
    "prod",
    lambda x, axes, keepdims: np.multiply.reduce(x, axis=axes, keepdims=keepdims),
    (_prod_adjoint,),
    keeps="xy",
)


@implements(np.prod)
def prod(
    a: Any,
    axis: Any = None,
    dtype: Any = None,
    out: None = None,
    keepdims: Any = False,
    initial: Any = None,
    where: Any = True,
) -> Any:
    a = _masked(_converted(a, dtype), _given(where, True), 1.0)
    result = apply(
        _prod,
        (a,),
        {"axes": normal_axes(axis, np.ndim(a)), "keepdims": bool(_given(keepdims, False))},
    )
    initial = _given(initial, None)
    return result if initial is None else result * initial


def _accumulate_extreme(ufunc: np.ufunc, a: Any, axis: int = 0) -> Any:
    plain = held(a)
    running = ufunc.accumulate(plain, axis=axis)
    before = np.roll(running, 1, axis=axis)
    is_new = plain != before
    is_new &= plain == running
    first = [slice(None)] * plain.ndim
    first[axis] = slice(0, 1)
    is_new[tuple(first)] = True
    shape = [1] * plain.ndim
    shape[axis] = -1
    index = np.where(is_new, np.arange(plain.shape[axis]).reshape(shape), 0)
    return np.take_along_axis(a, np.maximum.accumulate(index, axis=axis), axis=axis)


def _reduce(function: Any) -> Any:
    def reduce(
        a: Any,
        axis: Any = 0,
        dtype: Any = None,
        keepdims: Any = False,
        initial: Any = None,
        where: Any = True,
    ) -> Any:
        return function(
            _converted(a, dtype), axis=axis, keepdims=keepdims, initial=initial, where=where
        )

    return reduce


UFUNC_METHODS.update(
    {
        (np.add, "reduce"): _reduce(sum),
        (np.multiply, "reduce"): _reduce(prod),
        (np.maximum, "reduce"): _reduce(max),
        (np.minimum, "reduce"): _reduce(min),
        (np.add, "accumulate"): lambda a, axis=0, dtype=None: cumsum(a, axis, dtype),
        (np.multiply, "accumulate"): lambda a, axis=0, dtype=None: cumprod(a, axis, dtype),
        (np.maximum, "accumulate"): lambda a, axis=0: _accumulate_extreme(np.maximum, a, axis),
        (np.minimum, "accumulate"): lambda a, axis=0: _accumulate_extreme(np.minimum, a, axis),
        (np.add, "outer"): lambda a, b: _outer(np.add, a, b),
        (np.subtract, "outer"): lambda a, b: _outer(np.subtract, a, b),
        (np.multiply, "outer"): lambda a, b: _outer(np.multiply, a, b),
    }
)


def _outer(ufunc: np.ufunc, a: Any, b: Any) -> Any:
    return ufunc(np.reshape(a, np.shape(a) + (1,) * np.ndim(b)), b)


@implements(np.diff)
def diff(
    a: Any, n: int = 1, axis: int = -1, prepend: Any = _MISSING, append: Any = _MISSING
) -> Any:
    if n == 0:
        return a
    if n < 0:
        raise DifferentiationError(f"np.diff: the order must not be negative, got {n}.")
    axis = normal_axes(axis, np.ndim(a))[0]
    single = (*a.shape[:axis], 1, *a.shape[axis + 1 :])
    before, after = (
        [] if part is _MISSING else [np.broadcast_to(part, single) if np.ndim(part) == 0 else part]
        for part in (prepend, append)
    )
    if before or after:
        a = np.concatenate([*before, a, *after], axis=axis)
    head = (slice(None),) * axis
    for _ in range(n):
        a = a[(*head, slice(1, None))] - a[(*head, slice(None, -1))]
    return a


@implements(np.trapezoid)
def trapezoid(y: Any, x: Any = None, dx: Any = 1.0, axis: int = -1) -> Any:
    line, x = np.moveaxis(as_floats(y), axis, -1), x if x is None else as_floats(x)
    step = dx if x is None else np.diff(x if np.ndim(x) == 1 else np.moveaxis(x, axis, -1), axis=-1)
    return np.sum(step * (line[..., 1:] + line[..., :-1]) * 0.5, axis=-1)


@implements(np.linalg.norm)
def norm(x: Any, ord: Any = None, axis: Any = None, keepdims: bool = False) -> Any:
    """Convention: derivative 0 where the norm is 0."""
    ndim = np.ndim(x)
    if axis is None and (ord is None or (ord in ("fro", 2, "f") and ndim == 1)):
        total = np.sum(np.square(x), keepdims=keepdims)
        return apply(root, (total,), {})
    axes = (
        tuple(range(ndim))
        if axis is None
        else tuple(np.lib.array_utils.normalize_axis_tuple(axis, ndim))
    )
    if len(axes) == 1:
        return _vector_norm(x, 2 if ord is None else ord, axes[0], keepdims)
    if len(axes) == 2:
        return _matrix_norm(x, "fro" if ord is None else ord, axes, keepdims)
    raise DifferentiationError(
        f"np.linalg.norm of {len(axes)} axes at once is not defined. Name one or two axes."
    )


@implements(np.linalg.vector_norm)
def vector_norm(x: Any, /, *, axis: Any = None, keepdims: bool = False, ord: Any = 2) -> Any:
    line, axes = _lines(x, axis)
    result = _vector_norm(line, ord, line.ndim - 1, False)
    return expand_reduced(result, axes, False) if keepdims else result


@implements(np.linalg.matrix_norm)
def matrix_norm(x: Any, /, *, keepdims: bool = False, ord: Any = "fro") -> Any:
    return _matrix_norm(x, ord, (np.ndim(x) - 2, np.ndim(x) - 1), keepdims)


def _vector_norm(x: Any, ord: Any, axis: int, keepdims: bool) -> Any:
    size = np.absolute(x)
    if ord == np.inf:
        return np.max(size, axis=axis, keepdims=keepdims)
    if ord == -np.inf:
        return np.min(size, axis=axis, keepdims=keepdims)
    if ord == 0:
        return np.sum(np.sign(size), axis=axis, keepdims=keepdims)
    if ord == 1:
        return np.sum(size, axis=axis, keepdims=keepdims)
    if ord == 2:
        return apply(root, (np.sum(np.square(x), axis=axis, keepdims=keepdims),), {})
    largest = held(np.max(held(size), axis=axis, keepdims=True))
    scale = np.where(largest == 0, 1.0, largest)
    total = np.sum((size / scale) ** ord, axis=axis, keepdims=True)
    empty = held(total) == 0
    result = np.where(empty, 0.0, scale * np.where(empty, 1.0, total) ** (1.0 / ord))
    return result if keepdims else np.squeeze(result, axis=axis)


_VALUES: dict[Any, Any] = {"nuc": np.sum, 2: np.max, -2: np.min}


def _matrix_norm(x: Any, ord: Any, axes: tuple[int, ...], keepdims: bool) -> Any:
    if ord in ("fro", "f"):
        return apply(root, (np.sum(np.square(x), axis=axes, keepdims=keepdims),), {})
    matrices = np.moveaxis(x, axes, (-2, -1))
    if ord in ("nuc", 2, -2):
        values = np.linalg.svd(matrices, compute_uv=False)
        result = _VALUES[ord](values, axis=-1)
    elif ord in (1, -1, np.inf, -np.inf):
        sums = np.sum(np.absolute(matrices), axis=-2 if abs(ord) == 1 else -1)
        result = (np.max if ord > 0 else np.min)(sums, axis=-1)
    else:
        raise DifferentiationError(f"np.linalg.norm: a matrix has no norm of order {ord!r}.")
    return expand_reduced(result, tuple(sorted(axes)), False) if keepdims else result


passive(
    np.argmax,
    np.argmin,
    np.argsort,
    np.argpartition,
    np.nanargmax,
    np.nanargmin,
    np.any,
    np.all,
    np.count_nonzero,
)
passive(np.lexsort, np.nonzero, np.flatnonzero, np.argwhere, np.searchsorted, np.digitize)
passive(np.isin, np.unravel_index, np.ravel_multi_index, np.linalg.matrix_rank)

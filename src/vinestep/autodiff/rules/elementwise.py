"""Rules of the element-wise ufuncs, `where` and `clip`.

Conventions where a function has a kink: `absolute` and `sign` have derivative 0 at 0; `maximum`,
`minimum`, `fmax`, `fmin` and `clip` share it equally between equal arguments; functions that are
flat between jumps (`floor`, `ceil`, `rint`, `trunc`, `sign`, `heaviside`) have derivative 0
everywhere.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ..identity import copied
from ..registry import (
    Rule,
    implements,
    passive,
    ufunc_rule,
)
from ..tensor import (
    Tensor,
    apply,
    held,
    owned,
    plain,
)

__all__ = ["LN2", "LN10", "as_floats", "scalar_without_axes", "where"]

LN2 = float(np.log(2.0))
LN10 = float(np.log(10.0))
FLAT = 0.99  # of a tanh: nearer to 1 its square rounds away what is left


def as_floats(x: Any) -> Any:
    """Tensors as they are; anything else as an array of floats, since differences of whole numbers
    wrap around.
    """
    if isinstance(x, Tensor):
        return x
    array = np.asarray(plain(x))
    return array.astype(np.float64) if array.dtype.kind in "iub" else array


def _zero(g: Any, y: Any, *inputs: Any) -> Any:
    return g * 0.0


def _share(g: Any, chosen: Any, tied: Any) -> Any:
    """`g` where chosen, half of it where tied."""
    share: Any = np.asarray(chosen)
    if np.any(tied):
        share = np.where(tied, np.asarray(0.5, g.dtype), share.astype(g.dtype))
    return g * share


def _power_by_base(g: Any, y: Any, x: Any, p: Any) -> Any:
    exponent = held(p)
    if np.ndim(exponent) == 0:
        return _times(g, p * x ** (p - 1)) if exponent != 0 else g * 0.0
    flat = np.asarray(exponent) == 0
    return g * np.where(flat, 0.0, p * x ** np.where(flat, 1.0, p - 1))


def _power_by_exponent(g: Any, y: Any, x: Any, p: Any) -> Any:
    base = held(x)
    zero = np.asarray(base) == 0
    return g * np.where(zero, 0.0, y * np.log(np.where(zero, 1.0, x)))


def _hypot(g: Any, y: Any, x: Any) -> Any:
    """Convention: 0 at the origin."""
    zero = np.asarray(held(y)) == 0
    return g * (x / np.where(zero, 1.0, y))


def _times(g: Any, factor: Any) -> Any:
    """``g * factor`` for a factor made a moment ago, whose memory is used again where that is
    possible.
    """
    if (
        type(factor) is np.ndarray
        and factor.shape == g.shape
        and factor.dtype == g.dtype
        and type(g) is np.ndarray
    ):
        return np.multiply(g, factor, out=factor)
    return g * factor


def _over(g: Any, divisor: Any) -> Any:
    """``g / divisor`` for a divisor made a moment ago."""
    if (
        type(divisor) is np.ndarray
        and divisor.shape == g.shape
        and divisor.dtype == g.dtype
        and type(g) is np.ndarray
    ):
        return np.divide(g, divisor, out=divisor)
    return g / divisor


def _one_minus_square(x: Any) -> Any:
    """In factors, which lose nothing near 1."""
    return (1 - x) * (1 + x)


def _times_quotient(g: Any, y: Any, b: Any) -> Any:
    """``g * y / b``, by whichever order stays within the range of the dtype."""
    with np.errstate(over="ignore", under="ignore", invalid="ignore", divide="ignore"):
        result = g * y / b
        plain_result = held(result)
        odd = ~np.isfinite(plain_result) | (plain_result == 0)
        return np.where(odd, g / b * y, result) if np.any(odd) else result


def _over_square(g: Any, root: Any, factor: Any = 1) -> Any:
    """``g * factor / root**2``, of which the square may be out of range."""
    return g * (factor / root) / root


def _quotient(y: Any, a: Any, b: Any) -> Any:
    """How many whole `b` a remainder has left out; by the remainder, which knows how the quotient
    was rounded.
    """
    return np.rint((held(a) - held(y)) / held(b))


def _tanh(g: Any, y: Any, x: Any) -> Any:
    """``1 - y**2``, and where that rounds away ``1 / cosh(x)**2``."""
    flat = np.abs(held(y)) > FLAT
    slope = _one_minus_square(y)
    if np.any(flat):
        with np.errstate(over="ignore"):
            slope = np.where(flat, np.square(1 / np.cosh(np.where(flat, x, 0.0))), slope)
    return _times(g, slope)


IN = "x"
OUT = "y"

# arithmetic
ufunc_rule(np.add, lambda g, y, a, b: g, lambda g, y, a, b: g)
ufunc_rule(np.subtract, lambda g, y, a, b: g, lambda g, y, a, b: -g)
ufunc_rule(np.multiply, lambda g, y, a, b: g * b, lambda g, y, a, b: g * a, keeps=IN)
ufunc_rule(
    np.divide,
    lambda g, y, a, b: g / b,
    lambda g, y, a, b: -_times_quotient(g, y, b),
    keeps=IN + OUT,
)
ufunc_rule(np.negative, lambda g, y, x: -g)
ufunc_rule(np.positive, lambda g, y, x: g)
ufunc_rule(np.conjugate, lambda g, y, x: g)
ufunc_rule(np.reciprocal, lambda g, y, x: _times(-y, g * y), keeps=OUT)
ufunc_rule(np.square, lambda g, y, x: _times(g, x * 2), keeps=IN)
ufunc_rule(np.power, _power_by_base, _power_by_exponent, keeps=IN + OUT)
ufunc_rule(np.float_power, _power_by_base, _power_by_exponent, keeps=IN + OUT)
ufunc_rule(
    np.fmod, lambda g, y, a, b: g, lambda g, y, a, b: -g * _quotient(y, a, b), keeps=IN + OUT
)
ufunc_rule(
    np.remainder,
    lambda g, y, a, b: g,
    lambda g, y, a, b: -g * _quotient(y, a, b),
    keeps=IN + OUT,
)
ufunc_rule(np.floor_divide, _zero, _zero)
ufunc_rule(np.ldexp, lambda g, y, a, n: np.ldexp(g, n), None, keeps=IN)

# roots, exponentials, logarithms
ufunc_rule(np.sqrt, lambda g, y, x: _over(g, y * 2), keeps=OUT)
ufunc_rule(np.cbrt, lambda g, y, x: _over(g, 3 * (y * y)), keeps=OUT)
ufunc_rule(np.exp, lambda g, y, x: g * y, keeps=OUT)
ufunc_rule(np.exp2, lambda g, y, x: _times(g, y * LN2), keeps=OUT)
ufunc_rule(np.expm1, lambda g, y, x: _times(g, y + 1), keeps=OUT)
ufunc_rule(np.log, lambda g, y, x: g / x, keeps=IN)
ufunc_rule(np.log2, lambda g, y, x: g / x * (1 / LN2), keeps=IN)
ufunc_rule(np.log10, lambda g, y, x: g / x * (1 / LN10), keeps=IN)
ufunc_rule(np.log1p, lambda g, y, x: _over(g, x + 1), keeps=IN)
ufunc_rule(
    np.logaddexp,
    lambda g, y, a, b: _times(g, np.exp(a - y)),
    lambda g, y, a, b: _times(g, np.exp(b - y)),
    keeps=IN + OUT,
)
ufunc_rule(
    np.logaddexp2,
    lambda g, y, a, b: g * np.exp2(a - y),
    lambda g, y, a, b: g * np.exp2(b - y),
    keeps=IN + OUT,
)

# trigonometric and hyperbolic
ufunc_rule(np.sin, lambda g, y, x: _times(g, np.cos(x)), keeps=IN)
ufunc_rule(np.cos, lambda g, y, x: _times(-g, np.sin(x)), keeps=IN)
ufunc_rule(np.tan, lambda g, y, x: _times(g, y * y + 1), keeps=OUT)
ufunc_rule(np.arcsin, lambda g, y, x: _over(g, np.sqrt(_one_minus_square(x))), keeps=IN)
ufunc_rule(np.arccos, lambda g, y, x: _over(-g, np.sqrt(_one_minus_square(x))), keeps=IN)
ufunc_rule(np.arctan, lambda g, y, x: _over_square(g, np.hypot(x, 1)), keeps=IN)
ufunc_rule(np.sinh, lambda g, y, x: _times(g, np.cosh(x)), keeps=IN)
ufunc_rule(np.cosh, lambda g, y, x: _times(g, np.sinh(x)), keeps=IN)
ufunc_rule(np.tanh, _tanh, keeps=IN + OUT)
ufunc_rule(np.arcsinh, lambda g, y, x: g / np.hypot(x, 1), keeps=IN)
ufunc_rule(np.arccosh, lambda g, y, x: g / (np.sqrt(x - 1) * np.sqrt(x + 1)), keeps=IN)
ufunc_rule(np.arctanh, lambda g, y, x: _over(g, _one_minus_square(x)), keeps=IN)
ufunc_rule(
    np.hypot, lambda g, y, a, b: _hypot(g, y, a), lambda g, y, a, b: _hypot(g, y, b), keeps=IN + OUT
)
ufunc_rule(
    np.arctan2,
    lambda g, y, a, b: _over_square(g, np.hypot(a, b), b),
    lambda g, y, a, b: _over_square(-g, np.hypot(a, b), a),
    keeps=IN,
)
for _degrees in (np.degrees, np.rad2deg):
    ufunc_rule(_degrees, lambda g, y, x: g * (180.0 / np.pi))
for _radians in (np.radians, np.deg2rad):
    ufunc_rule(_radians, lambda g, y, x: g * (np.pi / 180.0))

# sign, choice, steps
for _absolute in (np.absolute, np.fabs):
    ufunc_rule(_absolute, lambda g, y, x: _times(g, np.sign(held(x))), keeps=IN)
ufunc_rule(
    np.copysign,
    lambda g, y, a, b: g * (np.copysign(1.0, held(a)) * np.copysign(1.0, held(b))).astype(g.dtype),
    _zero,
    keeps=IN,
)
for _step in (np.sign, np.floor, np.ceil, np.rint, np.trunc):
    ufunc_rule(_step, _zero)
ufunc_rule(np.heaviside, _zero, lambda g, y, a, b: g * (np.asarray(held(a)) == 0), keeps=IN)
ufunc_rule(
    np.maximum,
    lambda g, y, a, b: _share(g, a > b, held(a) == held(b)),
    lambda g, y, a, b: _share(g, b > a, held(a) == held(b)),
    keeps=IN,
)
ufunc_rule(
    np.minimum,
    lambda g, y, a, b: _share(g, a < b, held(a) == held(b)),
    lambda g, y, a, b: _share(g, b < a, held(a) == held(b)),
    keeps=IN,
)
ufunc_rule(
    np.fmax,
    lambda g, y, a, b: _share(g, (a > b) | np.isnan(b), held(a) == held(b)),
    lambda g, y, a, b: _share(g, (b > a) | np.isnan(a), held(a) == held(b)),
    keeps=IN,
)
ufunc_rule(
    np.fmin,
    lambda g, y, a, b: _share(g, (a < b) | np.isnan(b), held(a) == held(b)),
    lambda g, y, a, b: _share(g, (b < a) | np.isnan(a), held(a) == held(b)),
    keeps=IN,
)

passive(
    *(np.less, np.less_equal, np.greater, np.greater_equal, np.equal, np.not_equal),
    *(np.isfinite, np.isinf, np.isnan, np.signbit, np.spacing),
    *(np.logical_and, np.logical_or, np.logical_not, np.logical_xor),
    *(np.isclose, np.allclose, np.array_equal, np.array_equiv, np.shape, np.ndim, np.size),
    *(np.zeros_like, np.ones_like, np.empty_like, np.result_type, np.can_cast, np.min_scalar_type),
    *(
        np.iscomplexobj,
        np.isrealobj,
        np.iscomplex,
        np.isreal,
        np.isneginf,
        np.isposinf,
        np.shares_memory,
    ),
    *(np.array2string, np.array_repr, np.array_str, np.may_share_memory, np.common_type),
)

_where = Rule(
    "where",
    lambda a, b, mask: np.where(mask, a, b),
    (
        lambda g, y, a, b, mask: np.where(mask, g, 0.0),
        lambda g, y, a, b, mask: np.where(mask, 0.0, g),
    ),
    broadcasts=True,
)


@implements(np.where)
def where(condition: Any, *branches: Any) -> Any:
    mask = held(condition)
    if not isinstance(mask, np.ndarray):
        mask = np.array(mask)
    if not branches:
        return np.nonzero(mask)
    return apply(_where, branches, {"mask": owned(mask)})


_clip_low_high = (np._core.umath.clip,)  # type: ignore[attr-defined]  # what np.clip and x.clip call in the end


@implements(np.clip, *_clip_low_high)
def clip(
    a: Any,
    a_min: Any = None,
    a_max: Any = None,
    out: None = None,
    *,
    min: Any = None,
    max: Any = None,
) -> Any:
    """Convention: half the derivative exactly on a bound."""
    low = a_min if a_min is not None else min
    high = a_max if a_max is not None else max
    if low is not None:
        a = np.maximum(a, low)
    return np.minimum(a, high) if high is not None else np.positive(a) if low is None else a


_round = Rule("round", np.round, (lambda g, y, x, decimals: g * 0.0,))


@implements(np.round, np.around)
def round_(a: Any, decimals: int = 0, out: None = None) -> Any:
    """Derivative 0, as of all steps."""
    return apply(_round, (a,), {"decimals": decimals})


def scalar_without_axes(x: Any) -> Any:
    """A result without axes as a scalar, which nothing can change in place, where NumPy's function
    gives one.
    """
    return x if np.ndim(x) else x[()]


@implements(np.real)
def real(val: Any) -> Any:
    return np.positive(val)


@implements(np.copy)
def copy(a: Any, order: Any = "K", subok: bool = False) -> Any:
    return apply(copied, (a,), {})


@implements(np.nan_to_num)
def nan_to_num(
    x: Any,
    copy: bool = True,
    nan: float = 0.0,
    posinf: float | None = None,
    neginf: float | None = None,
) -> Any:
    """Derivative 0 where a value was replaced."""
    plain = held(x)
    return scalar_without_axes(
        np.where(np.isfinite(plain), x, np.nan_to_num(plain, nan=nan, posinf=posinf, neginf=neginf))
    )


@implements(np.select)
def select(condlist: Any, choicelist: Any, default: Any = 0.0) -> Any:
    result: Any = default
    for condition, choice in zip(reversed(condlist), reversed(choicelist), strict=True):
        result = np.where(condition, choice, result)
    return result


@implements(np.full_like)
def full_like(
    a: Any,
    fill_value: Any,
    dtype: Any = None,
    order: str = "K",
    subok: bool = True,
    shape: Any = None,
    *,
    device: Any = None,
) -> Any:
    kind = np.dtype(dtype) if dtype is not None else a.dtype
    size = np.shape(a) if shape is None else shape
    if not isinstance(fill_value, Tensor):
        return np.full(size, fill_value, kind)
    return np.positive(np.broadcast_to(fill_value.astype(kind), size))


SERIES = (
    0.05  # below this sinc is its power series, so that derivatives of any order are right at 0
)


@implements(np.sinc)
def sinc(x: Any) -> Any:
    near = np.abs(np.asarray(held(x))) < SERIES
    square = np.square(np.where(near, x, 0.0) * np.pi)
    series = 1 - square * (1 / 6) * (
        1
        - square
        * (1 / 20)
        * (1 - square * (1 / 42) * (1 - square * (1 / 72) * (1 - square * (1 / 110))))
    )
    angle = np.where(near, 1.0, x) * np.pi
    return scalar_without_axes(np.where(near, series, np.sin(angle) / angle))

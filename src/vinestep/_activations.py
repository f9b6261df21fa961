"""Activations. Each is a function of an array or Tensor and can stand as a layer; `np.tanh` serves
as it is.

`relu` and `leaky_relu` have at 0 the derivative of the negative side.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from . import kernels
from ._public_names import own_names
from .autodiff.fused import Fused
from .autodiff.registry import Rule
from .autodiff.rules.elementwise import as_floats
from .autodiff.signatures import Signature, misfit
from .autodiff.tensor import Tensor, apply, held
from .kernels.machinery.pool import helpers, over_rows
from .parts._registry import part, register

__all__ = [
    "celu",
    "elu",
    "gelu",
    "gelu_tanh",
    "hard_sigmoid",
    "hard_swish",
    "leaky_relu",
    "log_softmax",
    "logsumexp",
    "mish",
    "relu",
    "selu",
    "sigmoid",
    "silu",
    "softmax",
    "softplus",
    "softsign",
]

# solve for mean 0 and variance 1 as the fixed point; Klambauer et al., equation 14
SELU_ALPHA = 1.6732632423543772
SELU_SCALE = 1.0507009873554805
ROOT_TWO_OVER_PI = 0.7978845608028654
GELU_CUBIC = 0.044715


def _positive(x: Any) -> Any:
    return np.asarray(held(x)) > 0


_relu_by_numpy = Rule(
    "relu", lambda x: np.maximum(x, 0), (lambda g, y, x: np.where(_positive(y), g, 0.0),), keeps="y"
)


def _relu_forward(x: Any) -> tuple[Any, Any]:
    if x.ndim == 0 or not x.flags.c_contiguous:
        y = np.maximum(x, 0)
        return y, y
    y = np.empty(x.shape, x.dtype)
    over_rows(lambda part, out: np.maximum(part, 0, out=out), [x.reshape(-1), y.reshape(-1)])
    return y, y


def _relu_adjoint(
    g: Any,
    y: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    if np.ndim(y) == 0:
        return [np.where(y > 0, g, 0.0)]
    gx = np.empty(y.shape, y.dtype)
    over_rows(
        kernels.activations.where_positive,
        [np.ascontiguousarray(array).reshape(-1) for array in (g, y, gx)],
    )
    return [gx]


_relu = Fused(
    "relu",
    definition=lambda x: apply(_relu_by_numpy, (x,), {}),
    forward=_relu_forward,
    adjoint=_relu_adjoint,
    form=Signature(x="*n"),
)


@part("relu", "activation")
def relu(x: Any) -> Any:
    """The positive part, ``max(x, 0)``, with derivative 0 at 0.

    Examples
    --------
    >>> relu(np.array([-1.0, 2.0]))
    array([0., 2.])
    """
    return _relu(x if isinstance(x, Tensor) else np.asarray(x))


_leaky_relu = Rule(
    "leaky_relu",
    lambda x, slope: np.where(np.asarray(x) > 0, x, slope * x),
    (lambda g, y, x, slope: g * np.where(_positive(x), 1.0, slope).astype(g.dtype),),
    keeps="x",
)


@part("leaky_relu", "activation")
def leaky_relu(x: Any, slope: float = 0.01) -> Any:
    """`x` where positive, ``slope * x`` elsewhere.

    A. L. Maas, A. Y. Hannun and A. Y. Ng, "Rectifier Nonlinearities Improve Neural Network Acoustic
    Models", 2013, equation 2. As a layer with another slope: ``functools.partial(leaky_relu,
    slope=0.2)``.

    Examples
    --------
    >>> leaky_relu(np.array([-1.0, 2.0]))
    array([-0.01,  2.  ])
    """
    return apply(_leaky_relu, (x,), {"slope": slope})


def _sigmoid_array(x: Any) -> Any:
    """Without overflow: only exponentials of numbers that are not positive."""
    decayed = np.exp(-np.abs(x))
    return np.where(np.asarray(x) >= 0, 1 / (1 + decayed), decayed / (1 + decayed))


def _sigmoid_adjoint(g: Any, y: Any, x: Any) -> Any:
    """By the sigmoid of the other side, since 1 less a number near 1 rounds away."""
    return g * (y * sigmoid(-x))


_sigmoid = Rule("sigmoid", _sigmoid_array, (_sigmoid_adjoint,), keeps="xy")


@part("sigmoid", "activation")
def sigmoid(x: Any) -> Any:
    """The logistic function, ``1 / (1 + exp(-x))``.

    Examples
    --------
    >>> sigmoid(np.array([0.0, 1000.0]))
    array([0.5, 1. ])
    """
    return apply(_sigmoid, (x,), {})


def logsumexp(x: Any, axis: Any = None, keepdims: bool = False) -> Any:
    """``log(sum(exp(x)))`` without overflow. Where all is ``-inf``, the result is ``-inf``.

    Examples
    --------
    >>> logsumexp(np.array([1000.0, 1000.0])).round(6)
    np.float64(1000.693147)
    """
    x = as_floats(x)
    top = np.max(held(x), axis=axis, keepdims=True, initial=-np.inf)
    top = np.where(np.isfinite(top), top, 0.0).astype(top.dtype)
    with np.errstate(divide="ignore"):
        result = np.log(np.sum(np.exp(x - top), axis=axis, keepdims=True)) + top
    return (
        result
        if keepdims
        else np.squeeze(result, axis=axis if axis is not None else tuple(range(np.ndim(x))))
    )


def _log_softmax_array(x: Any, axis: Any) -> Any:
    shifted = x - np.max(x, axis=axis, keepdims=True)
    return shifted - np.log(np.sum(np.exp(shifted), axis=axis, keepdims=True))


_log_softmax = Rule(
    "log_softmax",
    _log_softmax_array,
    (lambda g, y, x, axis: g - np.exp(y) * np.sum(g, axis=axis, keepdims=True),),
    keeps="y",
)


@part("log_softmax", "activation")
def log_softmax(x: Any, axis: int = -1) -> Any:
    """Logarithm of `softmax`, accurate where probabilities vanish.

    Examples
    --------
    >>> log_softmax(np.array([0.0, 0.0])).round(6)
    array([-0.693147, -0.693147])
    """
    return apply(_log_softmax, (as_floats(x),), {"axis": axis})


def _softmax_definition(x: Any, *, axis: int) -> Any:
    x = as_floats(x)
    weights = np.exp(x - np.max(np.asarray(held(x)), axis=axis, keepdims=True, initial=-np.inf))
    return weights / np.sum(weights, axis=axis, keepdims=True)


def _softmax_forward(x: Any, *, axis: int) -> tuple[Any, Any]:
    if axis not in (-1, np.ndim(x) - 1) or not x.size:
        y = np.asarray(_softmax_definition(x, axis=axis))
        return y, y
    y, width = np.empty(x.shape, x.dtype), x.shape[-1]
    rows = [array.reshape(-1, width) for array in (np.ascontiguousarray(x), y)]
    over_rows(kernels.activations.softmax, rows)
    return y, y


def _softmax_adjoint(
    g: Any,
    y: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    axis = options["axis"]
    if axis not in (-1, y.ndim - 1) or not y.size:
        return [y * (g - np.sum(g * y, axis=axis, keepdims=True))]
    gx, width = np.empty(y.shape, y.dtype), y.shape[-1]
    over_rows(
        kernels.activations.softmax_adjoint,
        [np.ascontiguousarray(a).reshape(-1, width) for a in (g, y, gx)],
    )
    return [gx]


def _check_axis(
    sizes: Mapping[str, Any], arrays: Sequence[Any], options: Mapping[str, Any]
) -> None:
    if not -len(sizes["*n"]) <= options["axis"] < len(sizes["*n"]):
        raise misfit("softmax", f"there is no axis {options['axis']} in shape {sizes['*n']}.")


_softmax = Fused(
    "softmax",
    definition=_softmax_definition,
    forward=_softmax_forward,
    adjoint=_softmax_adjoint,
    form=Signature(also=_check_axis, x="*n"),
)


@part("softmax", "activation")
def softmax(x: Any, axis: int = -1) -> Any:
    """Exponentials divided by their sum: positive numbers that add up to 1 along `axis`.

    Examples
    --------
    >>> softmax(np.array([0.0, 0.0, 1000.0]))
    array([0., 0., 1.])
    """
    return _softmax(x if isinstance(x, Tensor) else np.asarray(x), axis=axis)


def _negative_part(x: Any) -> Any:
    """``min(x, 0)`` with derivative 0 where x is not negative, so that exponentials of it never
    overflow.
    """
    return np.where(_positive(x), 0.0, x)


@part("elu", "activation")
def elu(x: Any, alpha: float = 1.0) -> Any:
    """`x` where positive, ``alpha * (exp(x) - 1)`` elsewhere.

    D.-A. Clevert, T. Unterthiner and S. Hochreiter, ICLR 2016, equation 15.

    Examples
    --------
    >>> elu(np.array([-1.0, 2.0])).round(4)
    array([-0.6321,  2.    ])
    """
    return np.where(_positive(x), x, np.expm1(_negative_part(x)) * alpha)


@part("celu", "activation")
def celu(x: Any, alpha: float = 1.0) -> Any:
    """`x` where positive, ``alpha * (exp(x / alpha) - 1)`` elsewhere: smooth at 0 for every alpha.

    J. T. Barron, "Continuously Differentiable Exponential Linear Units", 2017, equation 2.

    Examples
    --------
    >>> celu(np.array([-1.0, 2.0]), alpha=0.5).round(4)
    array([-0.4323,  2.    ])
    """
    return np.where(_positive(x), x, np.expm1(_negative_part(x) / alpha) * alpha)


@part("selu", "activation")
def selu(x: Any) -> Any:
    """`elu` scaled so that layers keep mean 0 and variance 1.

    G. Klambauer, T. Unterthiner, A. Mayr and S. Hochreiter, NIPS 2017, equation 2.

    Examples
    --------
    >>> selu(np.array([-1.0, 2.0])).round(4)
    array([-1.1113,  2.1014])
    """
    return elu(x, SELU_ALPHA) * SELU_SCALE


def _normal_cdf(x: Any) -> Any:
    from scipy import special

    return special.ndtr(x)


@part("gelu", "activation")
def gelu(x: Any) -> Any:
    """`x` times the normal distribution function at `x`.

    D. Hendrycks and K. Gimpel, "Gaussian Error Linear Units", 2016, section 2.

    Examples
    --------
    >>> gelu(np.array([-1.0, 2.0])).round(4)
    array([-0.1587,  1.9545])
    """
    return x * _normal_cdf(x)


def _gelu_definition(x: Any) -> Any:
    return x * 0.5 * (np.tanh((x + x * x * x * GELU_CUBIC) * ROOT_TWO_OVER_PI) + 1)


def _elementwise(name: str, definition: Callable[[Any], Any], loop: str) -> Fused:
    """An operation of two compiled loops over all elements, of which the second is named
    ``loop_adjoint``.
    """

    def forward(x: Any) -> tuple[Any, Any]:
        flat = np.ascontiguousarray(x).reshape(-1)
        y = np.empty_like(flat)
        getattr(kernels.activations, loop)(*helpers(flat.size), flat, y)
        return y.reshape(x.shape), flat

    def adjoint(
        g: Any,
        flat: Any,
        inputs: Sequence[Any],
        options: dict[str, Any],
        wanted: Sequence[bool],
        places: Sequence[Any],
    ) -> list[Any]:
        gx = np.empty_like(flat)
        getattr(kernels.activations, f"{loop}_adjoint")(
            *helpers(flat.size), np.ascontiguousarray(g).reshape(-1), flat, gx
        )
        return [gx.reshape(g.shape)]

    return Fused(
        name, definition=definition, forward=forward, adjoint=adjoint, form=Signature(x="*n")
    )


_gelu_tanh = _elementwise("gelu_tanh", _gelu_definition, "gelu")
_silu = _elementwise("silu", lambda x: x * sigmoid(x), "silu")


@part("gelu_tanh", "activation")
def gelu_tanh(x: Any) -> Any:
    """`gelu` with the distribution function approximated by a hyperbolic tangent; Hendrycks and
    Gimpel 2016, section 2.

    Examples
    --------
    >>> gelu_tanh(np.array([-1.0, 2.0])).round(4)
    array([-0.1588,  1.9546])
    """
    return _gelu_tanh(as_floats(x))


@part("silu", "activation")
def silu(x: Any) -> Any:
    """``x * sigmoid(x)``; S. Elfwing, E. Uchibe and K. Doya, Neural Networks 107, 2018, equation 6.

    Examples
    --------
    >>> silu(np.array([-1.0, 2.0])).round(4)
    array([-0.2689,  1.7616])
    """
    return _silu(as_floats(x))


@part("softplus", "activation")
def softplus(x: Any) -> Any:
    """``log(1 + exp(x))`` without overflow.

    Examples
    --------
    >>> softplus(np.array([-1.0, 1000.0])).round(4)
    array([3.133e-01, 1.000e+03])
    """
    return np.logaddexp(x, np.zeros((), np.asarray(held(x)).dtype))


@part("mish", "activation")
def mish(x: Any) -> Any:
    """``x * tanh(softplus(x))``; D. Misra, BMVC 2020, equation 1.

    Examples
    --------
    >>> mish(np.array([-1.0, 2.0])).round(4)
    array([-0.3034,  1.944 ])
    """
    return x * np.tanh(softplus(x))


@part("softsign", "activation")
def softsign(x: Any) -> Any:
    """``x / (1 + |x|)``.

    Examples
    --------
    >>> softsign(np.array([-1.0, 3.0]))
    array([-0.5 ,  0.75])
    """
    return x / (np.abs(x) + 1)


@part("hard_sigmoid", "activation")
def hard_sigmoid(x: Any) -> Any:
    """``x / 6 + 1/2`` between 0 and 1, with derivative 0 from the bounds on.

    A. Howard et al., "Searching for MobileNetV3", ICCV 2019, section 5.2.

    Examples
    --------
    >>> hard_sigmoid(np.array([-4.0, 0.0, 1.5]))
    array([0.  , 0.5 , 0.75])
    """
    plain = np.asarray(held(x))
    return np.where(np.abs(plain) < 3, x * (1 / 6) + 0.5, (plain > 0).astype(plain.dtype))


@part("hard_swish", "activation")
def hard_swish(x: Any) -> Any:
    """``x * hard_sigmoid(x)``.

    Examples
    --------
    >>> hard_swish(np.array([-4.0, 1.5, 4.0]))
    array([-0.   ,  1.125,  4.   ])
    """
    return x * hard_sigmoid(x)


register("tanh", np.tanh, "activation")

__getattr__, __dir__ = own_names(__name__, __all__)

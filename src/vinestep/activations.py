"""Activations. Each is a function of an array or Tensor and can stand as a layer; `np.tanh` serves as it is.

`relu` and `leaky_relu` have at 0 the derivative of the negative side.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from .autodiff.registry import Rule
from .autodiff.tensor import apply, held

__all__ = ["LeakyRelu", "leaky_relu", "log_softmax", "logsumexp", "relu", "sigmoid", "softmax"]


def _positive(x: Any) -> Any:
    return np.asarray(held(x)) > 0


_relu = Rule("relu", lambda x: np.maximum(x, 0), (lambda g, y, x: g * _positive(y),), keeps="y")


def relu(x: Any) -> Any:
    """The positive part, ``max(x, 0)``, with derivative 0 at 0.

    Examples
    --------
    >>> relu(np.array([-1.0, 2.0]))
    array([0., 2.])
    """
    return apply(_relu, (x,), {})


_leaky_relu = Rule(
    "leaky_relu",
    lambda x, slope: np.where(np.asarray(x) > 0, x, slope * x),
    (lambda g, y, x, slope: g * np.where(_positive(x), 1.0, slope).astype(g.dtype),),
    keeps="x",
)


def leaky_relu(x: Any, slope: float = 0.01) -> Any:
    """`x` where positive, ``slope * x`` elsewhere.

    A. L. Maas, A. Y. Hannun and A. Y. Ng, "Rectifier Nonlinearities Improve Neural Network Acoustic Models", 2013,
    equation 2. As a layer with another slope: ``LeakyRelu(0.2)``.

    Examples
    --------
    >>> leaky_relu(np.array([-1.0, 2.0]))
    array([-0.01,  2.  ])
    """
    return apply(_leaky_relu, (x,), {"slope": slope})


class LeakyRelu:
    """`leaky_relu` with a slope of one's own, to stand as a layer.

    Examples
    --------
    >>> LeakyRelu(0.2)(np.array([-1.0, 2.0]))
    array([-0.2,  2. ])
    """

    def __init__(self, slope: float) -> None:
        self.slope = slope

    def __call__(self, x: Any) -> Any:
        return leaky_relu(x, self.slope)

    def __repr__(self) -> str:
        return f"LeakyRelu({self.slope})"


def _sigmoid_array(x: Any) -> Any:
    """Without overflow: only exponentials of numbers that are not positive."""
    decayed = np.exp(-np.abs(x))
    return np.where(np.asarray(x) >= 0, 1 / (1 + decayed), decayed / (1 + decayed))


_sigmoid = Rule("sigmoid", _sigmoid_array, (lambda g, y, x: g * (y * (1 - y)),), keeps="y")


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
    top = np.max(np.asarray(held(x)), axis=axis, keepdims=True)
    top = np.where(np.isfinite(top), top, 0.0).astype(top.dtype)
    with np.errstate(divide="ignore"):
        result = np.log(np.sum(np.exp(x - top), axis=axis, keepdims=True)) + top
    return result if keepdims else np.squeeze(result, axis=axis if axis is not None else tuple(range(np.ndim(x))))


def _log_softmax_array(x: Any, axis: Any) -> Any:
    shifted = x - np.max(x, axis=axis, keepdims=True)
    return shifted - np.log(np.sum(np.exp(shifted), axis=axis, keepdims=True))


_log_softmax = Rule(
    "log_softmax",
    _log_softmax_array,
    (lambda g, y, x, axis: g - np.exp(y) * np.sum(g, axis=axis, keepdims=True),),
    keeps="y",
)


def log_softmax(x: Any, axis: int = -1) -> Any:
    """Logarithm of `softmax`, accurate where probabilities vanish.

    Examples
    --------
    >>> log_softmax(np.array([0.0, 0.0])).round(6)
    array([-0.693147, -0.693147])
    """
    return apply(_log_softmax, (x,), {"axis": axis})


def _softmax_array(x: Any, axis: Any) -> Any:
    weights = np.exp(x - np.max(x, axis=axis, keepdims=True))
    return weights / np.sum(weights, axis=axis, keepdims=True)


_softmax = Rule(
    "softmax",
    _softmax_array,
    (lambda g, y, x, axis: y * (g - np.sum(g * y, axis=axis, keepdims=True)),),
    keeps="y",
)


def softmax(x: Any, axis: int = -1) -> Any:
    """Exponentials divided by their sum: positive numbers that add up to 1 along `axis`.

    Examples
    --------
    >>> softmax(np.array([0.0, 0.0, 1000.0]))
    array([0., 0., 1.])
    """
    return apply(_softmax, (x,), {"axis": axis})

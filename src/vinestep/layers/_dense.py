"""The dense layer."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import numpy as np

from .. import kernels
from .._activations import leaky_relu, relu, sigmoid
from ..autodiff.fused import Fused
from ..autodiff.signatures import Signature
from ..errors import LayerError, ShapeError
from ..initialisers import (
    Initialiser,
    glorot_uniform,
    he_normal,
    zeros,
)
from ..kernels.machinery.pool import helpers
from ..kernels.products import product, product_with_transposed, transposed_product
from ..parts._registry import part
from ._base import Layer

__all__ = [
    "DEFINITIONS",
    "FLOORS",
    "Dense",
    "SeparateDense",
    "activate",
    "affine",
    "dense",
    "fusable",
    "sum_of_rows",
    "through_activation",
]

SMALL = 4096  # multiply-adds below which one loop beats the calls around a matrix product

FLOORS = {"none": -np.inf, "relu": 0.0}  # of the activations that are a bound from below
NUMBERS = {"none": 0, "relu": 1, "tanh": 2, "sigmoid": 3, "leaky_relu": 4}
DEFINITIONS: dict[str, Callable[..., Any]] = {
    "none": lambda z, slope: z,
    "relu": lambda z, slope: relu(z),
    "tanh": lambda z, slope: np.tanh(z),
    "sigmoid": lambda z, slope: sigmoid(z),
    "leaky_relu": lambda z, slope: leaky_relu(z, slope),
}


def _leaky_slope(activation: Any) -> float | None:
    if activation is leaky_relu:
        return 0.01
    if (
        isinstance(activation, partial)
        and activation.func is leaky_relu
        and not activation.args
        and activation.keywords.keys() <= {"slope"}
    ):
        return float(activation.keywords.get("slope", 0.01))
    return None


def fusable(activation: Any) -> tuple[str, float] | None:
    """Name and slope of an activation that the dense layer can apply itself, None for any other
    callable.
    """
    if activation is relu:
        return "relu", 0.0
    if activation is np.tanh:
        return "tanh", 0.0
    if activation is sigmoid:
        return "sigmoid", 0.0
    slope = _leaky_slope(activation)
    if slope is not None and slope > 0:
        return "leaky_relu", slope
    return None


def dense_definition(
    x: Any, weight: Any, bias: Any, *, activation: str = "none", slope: float = 0.0
) -> Any:
    return DEFINITIONS[activation](np.matmul(x, weight) + bias, slope)


def activate(y: np.ndarray, bias: np.ndarray, activation: str, slope: float) -> None:
    """``y = activation(y + bias)`` in place."""
    kernels.dense.add_bias_activate(
        *helpers(y.size), y, bias, NUMBERS[activation], y.dtype.type(slope)
    )


def affine(
    rows: np.ndarray,
    weight: np.ndarray,
    bias: np.ndarray,
    activation: str = "none",
    slope: float = 0.0,
    *,
    out: np.ndarray | None = None,
) -> np.ndarray:
    """``activation(rows @ weight + bias)``"""
    if activation in FLOORS:
        return product(rows, weight, bias, floor=FLOORS[activation], out=out)
    y = product(rows, weight, out=out)
    activate(y, bias, activation, slope)
    return y


def through_activation(
    g: np.ndarray,
    y: np.ndarray,
    g_bias: np.ndarray,
    activation: str,
    slope: float,
    *,
    own: bool = False,
) -> np.ndarray:
    """The cotangent of what was activated, and into `g_bias` its sum over rows.

    It takes the place of `g` if that is the caller's `own`, and is `g` itself without an
    activation.
    """
    if activation == "none" or (own and g.flags.c_contiguous and g.dtype == y.dtype):
        g = np.ascontiguousarray(g)
    else:
        g = np.array(g, y.dtype, order="C")
    kernels.dense.adjoint_activate(
        *helpers(y.size), g, y, g_bias, NUMBERS[activation], y.dtype.type(slope)
    )
    return g


def sum_of_rows(g: np.ndarray, total: np.ndarray) -> np.ndarray:
    """Into `total`."""
    through_activation(g, g, total, "none", 0.0)
    return total


def dense_forward(
    x: Any, weight: Any, bias: Any, *, activation: str = "none", slope: float = 0.0
) -> tuple[Any, Any]:
    rows = x if x.ndim == 2 else x.reshape(-1, x.shape[-1])
    n_out = weight.shape[1]
    number = NUMBERS[activation]
    factor = bias.dtype.type(slope)
    if rows.size * n_out <= SMALL and x.dtype == weight.dtype:
        y = np.empty((rows.shape[0], n_out), weight.dtype)
        kernels.dense.forward_small(rows, weight, bias, y, number, factor)
    else:
        y = affine(rows, weight, bias, activation, slope)
    if x.ndim != 2:
        y = y.reshape(*x.shape[:-1], n_out)
    return y, y


def dense_adjoint(
    g: Any,
    y: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[np.ndarray | None],
    *,
    own: bool = False,
) -> list[Any]:
    """`own` says that `g` may be overwritten."""
    x, weight, _ = inputs
    n_in, n_out = weight.shape
    rows = x if x.ndim == 2 else x.reshape(-1, n_in)
    g2 = g if g.ndim == 2 else g.reshape(-1, n_out)
    y2 = y if y.ndim == 2 else y.reshape(-1, n_out)
    number = NUMBERS[options.get("activation", "none")]
    slope = y.dtype.type(options.get("slope", 0.0))
    g_bias = places[2] if places[2] is not None else np.empty(n_out, y.dtype)
    g_weight = places[1] if places[1] is not None else np.empty((n_in, n_out), y.dtype)
    gx = None
    if rows.size * n_out <= SMALL and g.dtype == y.dtype == x.dtype == weight.dtype:
        gx = np.empty(rows.shape, y.dtype)
        gz = np.empty(n_out, y.dtype)
        kernels.dense.adjoint_small(
            g2, rows, weight, y2, gx, g_weight, g_bias, gz, number, slope, wanted[0]
        )
    else:
        gz = through_activation(g2, y2, g_bias, options.get("activation", "none"), slope, own=own)
        if wanted[1]:
            transposed_product(rows, gz, out=g_weight)
        if wanted[0]:
            gx = product_with_transposed(gz, weight)
    return [
        gx.reshape(x.shape) if wanted[0] and gx is not None else None,
        g_weight if wanted[1] else None,
        g_bias if wanted[2] else None,
    ]


dense = Fused(
    "dense",
    definition=dense_definition,
    forward=dense_forward,
    adjoint=dense_adjoint,
    form=Signature(x="*n n_in", weight="n_in n_out", bias="n_out"),
)


@part("dense", "layer")
class Dense(Layer):
    """Every output reads every input: ``activation(x @ weight + bias)`` over the last axis.

    Parameters
    ----------
    width : int
        Number of outputs.
    activation : callable, optional
        `relu`, `leaky_relu`, `sigmoid` and `np.tanh` are computed together with the product. In a
        `Stack` an activation that follows the layer is, too.
    initialiser : initialiser, optional
        He's normal before a ReLU, Glorot's uniform otherwise.

    Attributes
    ----------
    weight : Tensor, shape (n_in, width)
    bias : Tensor, shape (width,)

    Raises
    ------
    ShapeError
        If the input's last axis is not as long as at initialisation.

    Examples
    --------
    >>> layer = Dense(2, initialiser=vs.initialisers.ones).initialise(np.ones((1, 3)))
    >>> layer(np.ones((1, 3), np.float32))
    Tensor([[3., 3.]], float32, from dense)
    """

    def __init__(
        self,
        width: int,
        activation: Callable[..., Any] | None = None,
        *,
        initialiser: Initialiser | None = None,
    ) -> None:
        if not isinstance(width, int | np.integer) or width < 1:
            raise LayerError(f"Dense: width must be a whole number of at least 1, got {width!r}.")
        self.width = int(width)
        self.activation = activation
        self.initialiser = initialiser

    def declare(self, shape: tuple[int, ...]) -> None:
        if len(shape) < 2:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, n_in) or (batch, ..., n_in), got "
                f"{shape}. "
                "Add a batch axis: x[None, :] for one example, x[:, None] for one feature."
            )
        usual = he_normal if self._before_rectifier else glorot_uniform
        self.parameter("weight", (shape[-1], self.width), self.initialiser or usual)
        self.parameter("bias", (self.width,), zeros)

    _planned_by = ("activation",)
    _before_rectifier = False

    def followed_by(self, activation: Any) -> None:
        """Told by a stack what comes next, which decides how weights begin."""
        self._before_rectifier = activation is relu or _leaky_slope(activation) is not None

    def compute(self, x: Any, *following: Any) -> Any:
        activation = following[0] if following else None
        self.check_input(x)
        if activation is None and self.activation is not None:
            activation = fusable(self.activation)
            if activation is None:
                return self.activation(dense(x, self.weight, self.bias))
        if activation is None:
            return dense(x, self.weight, self.bias)
        return dense(x, self.weight, self.bias, activation=activation[0], slope=activation[1])

    @property
    def weight_shape(self) -> tuple[int, ...]:
        """Inputs and outputs."""
        return tuple(self.weight.shape)

    def check_input(self, x: Any) -> None:
        """Refuse an input of another width than at initialisation."""
        n_in = self.weight_shape[0]
        if x.ndim < 2 or x.shape[-1] != n_in:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, {n_in}), got {tuple(x.shape)}. "
                "Make what comes before it "
                f"{n_in} wide, or initialise the network again on a sample of this shape."
            )

    def multiply_adds(self, shape: tuple[int, ...], output: tuple[int, ...]) -> int:
        return int(np.prod(shape, dtype=np.int64)) * self.width

    weight: Any
    bias: Any


class SeparateDense(Dense):
    """A dense layer of which the activation is computed by itself, so that more may be added before
    it.
    """

    def affine(self, x: Any) -> Any:
        """``x @ weight + bias``"""
        return dense(x, self.weight, self.bias)

    def compute(
        self, x: Any, *following: Any
    ) -> Any:  # no stack computes an activation together with it
        self.check_input(x)
        y = self.affine(x)
        return y if self.activation is None else self.activation(y)

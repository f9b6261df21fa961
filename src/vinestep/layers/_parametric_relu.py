"""Activations with parameters."""

from __future__ import annotations

from typing import Any

import numpy as np

from .._activations import relu
from ..errors import LayerError, ShapeError
from ..initialisers import constant
from ..parts._registry import part
from ._base import Layer

__all__ = ["ParametricRelu"]


@part("parametric_relu", "layer")
class ParametricRelu(Layer):
    """`x` where positive, elsewhere `x` times a slope that is trained, one for each channel.

    K. He, X. Zhang, S. Ren and J. Sun, "Delving Deep into Rectifiers", ICCV 2015, equation 1; the
    operator PRelu of the open standard ONNX with a slope for each element of the last axis.

    Parameters
    ----------
    initial_slope : float
        At the beginning.

    Attributes
    ----------
    slope : Tensor, shape (channels,)

    Raises
    ------
    ShapeError
        If the input has another number of channels than at initialisation.

    Examples
    --------
    >>> ParametricRelu(0.5).initialise(np.ones((1, 2)))(
    ...     np.array([[-1.0, 2.0]], np.float32)
    ... ).array
    array([[-0.5,  2. ]], dtype=float32)
    """

    slope: Any

    def __init__(self, initial_slope: float = 0.25) -> None:
        if not np.isfinite(initial_slope):
            raise LayerError(
                f"ParametricRelu: initial_slope must be a finite number, got {initial_slope!r}."
            )
        self.initial_slope = float(initial_slope)

    def declare(self, shape: tuple[int, ...]) -> None:
        self.parameter("slope", shape[-1:], constant(self.initial_slope))

    def compute(self, x: Any) -> Any:
        if x.ndim < 2 or x.shape[-1:] != self.slope.shape:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, ..., {self.slope.shape[0]}), got "
                f"{tuple(x.shape)}. Initialise the "
                "network again on a sample of this shape, or make what comes before as wide."
            )
        return relu(x) - self.slope * relu(-x)

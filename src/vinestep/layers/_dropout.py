"""Dropout."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..errors import LayerError
from ..parts._registry import part
from ._base import Layer
from ._learning_pass import PASS, random_normal, random_uniform

__all__ = ["Dropout", "Noise"]


@part("dropout", "layer")
class Dropout(Layer):
    """Sets each value to zero with a given probability in a learning pass, and scales the others up
    to make up for it.

    N. Srivastava et al., "Dropout: A Simple Way to Prevent Neural Networks from Overfitting", JMLR
    15, 1929-1958, 2014; scaled in the learning pass, so that inference does nothing. What is
    dropped is a function of seed, step, the layer's path, and how often it was called in
    this pass.

    Parameters
    ----------
    probability : float
        Probability of dropping a value, from 0 up to but not including 1.
    whole_channels : bool
        Drop all values of a channel of an example together (J. Tompson et al., CVPR 2015, section
        3.2).

    Examples
    --------
    >>> Stack(Dropout(0.5)).initialise(np.ones((1, 2)))(np.ones((1, 2)))
    array([[1., 1.]], dtype=float32)
    """

    def __init__(self, probability: float, *, whole_channels: bool = False) -> None:
        if not 0 <= probability < 1:
            raise LayerError(
                "Dropout: probability must be from 0 up to but not including 1, got "
                f"{probability!r}."
            )
        self.probability = float(probability)
        self.whole_channels = whole_channels

    def compute(self, x: Any) -> Any:
        factors = self.factors(x.shape, x.dtype)
        return x if factors is None else x * factors

    def factors(self, shape: tuple[int, ...], dtype: np.dtype[Any]) -> np.ndarray | None:
        """What values of this shape are multiplied by; None if nothing is dropped."""
        if not (PASS.learning or PASS.dropping) or self.probability == 0:
            return None
        if self.whole_channels:
            shape = (shape[0], *(1,) * (len(shape) - 2), shape[-1])
        kept = random_uniform(shape, self.random_key) >= np.float32(self.probability)
        factors: np.ndarray = np.multiply(kept, 1 / (1 - self.probability), dtype=dtype)
        return factors


@part("noise", "layer")
class Noise(Layer):
    """Adds normal noise in a learning pass; a function of seed, step and the layer's path alone.

    Parameters
    ----------
    deviation : float
        Standard deviation.

    Examples
    --------
    >>> Stack(Noise(0.5)).initialise(np.ones((1, 2)))(np.ones((1, 2)))
    array([[1., 1.]], dtype=float32)
    """

    def __init__(self, deviation: float) -> None:
        if not deviation >= 0:
            raise LayerError(f"Noise: deviation must not be negative, got {deviation!r}.")
        self.deviation = float(deviation)

    def compute(self, x: Any) -> Any:
        if not (PASS.learning or PASS.dropping) or self.deviation == 0:
            return x
        return x + (random_normal(x.shape, self.random_key) * self.deviation).astype(x.dtype)

"""Dropout."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from .. import kernels
from ..autodiff.fused import Fused
from ..autodiff.signatures import Signature
from ..errors import LayerError
from ..kernels.machinery.pool import helpers
from ..parts._registry import part
from ._base import Layer
from ._learning_pass import (
    DRAWN_BITS,
    PASS,
    Stream,
    random_normal,
    random_stream,
    uniform_of,
)

__all__ = ["Dropout", "Noise"]

DRAWN_COST = 4  # times as long as an element of a simple loop takes


def _definition(x: Any, *, dropout: Dropout, stream: Stream) -> Any:
    return x * dropout.factors_of(stream, x.shape, x.dtype)


def _dropped(x: np.ndarray, dropout: Dropout, stream: Stream) -> np.ndarray:
    out = np.empty(x.shape, x.dtype)
    words = np.array(stream.place, np.uint64)
    kernels.dropout.drop(
        *helpers(DRAWN_COST * x.size),
        x.reshape(-1),
        out.reshape(-1),
        words,
        dropout.threshold,
        dropout.scale,
    )
    return out


def _forward(x: Any, *, dropout: Dropout, stream: Stream) -> tuple[Any, None]:
    return _dropped(x, dropout, stream), None


def _adjoint(
    g: Any,
    saved: None,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    return [_dropped(g, **options)]


_drop = Fused(
    "dropout",
    definition=_definition,
    forward=_forward,
    adjoint=_adjoint,
    form=Signature(x="*n"),
)


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

    _planned_by = ("probability", "whole_channels")

    def compute(self, x: Any) -> Any:
        if self.whole_channels:
            factors = self.factors(x.shape, x.dtype)
            return x if factors is None else x * factors
        stream = self.stream(x.shape)
        return x if stream is None else _drop(x, dropout=self, stream=stream)

    def factors(self, shape: tuple[int, ...], dtype: np.dtype[Any]) -> np.ndarray | None:
        """What values of this shape are multiplied by; None if nothing is dropped."""
        if self.whole_channels:
            shape = (shape[0], *(1,) * (len(shape) - 2), shape[-1])
        stream = self.stream(shape)
        return None if stream is None else self.factors_of(stream, shape, dtype)

    def stream(self, shape: tuple[int, ...]) -> Stream | None:
        """By which factors of this shape are drawn; None if nothing is dropped."""
        if not (PASS.learning or PASS.dropping) or self.probability == 0:
            return None
        return random_stream(shape, self.random_key)

    def factors_of(
        self, stream: Stream, shape: tuple[int, ...], dtype: np.dtype[Any]
    ) -> np.ndarray:
        """0 or `scale`."""
        kept = uniform_of(stream, shape) >= np.float32(self.probability)
        kind = dtype if dtype.kind == "f" else np.result_type(dtype, np.float32)
        factors: np.ndarray = np.multiply(kept, self.scale, dtype=kind.newbyteorder("="))
        return factors

    @property
    def scale(self) -> float:
        """What makes up for the values that are dropped."""
        return 1 / (1 - self.probability)

    @property
    def threshold(self) -> int:
        """A value is kept if the highest bits of its random word, as a number, are no lower."""
        return math.ceil(float(np.float32(self.probability)) * (1 << DRAWN_BITS))


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

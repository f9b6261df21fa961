"""Dropout."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..errors import LayerError
from .base import Layer
from .context import PASS, random_uniform

__all__ = ["Dropout"]


class Dropout(Layer):
    """Sets each value to zero with a given probability in a learning pass, and scales the others up to make up for it.

    N. Srivastava et al., "Dropout: A Simple Way to Prevent Neural Networks from Overfitting", JMLR 15, 1929-1958, 2014;
    scaled in the learning pass, so that inference does nothing. What is dropped is a function of seed, step and the
    layer's path alone.

    Parameters
    ----------
    share : float
        Probability of dropping a value, from 0 up to but not including 1.

    Examples
    --------
    >>> Stack(Dropout(0.5)).initialise(np.ones((1, 2)))(np.ones((1, 2)))
    array([[1., 1.]], dtype=float32)
    """

    def __init__(self, share: float) -> None:
        if not 0 <= share < 1:
            raise LayerError(f"Dropout: share must be from 0 up to but not including 1, got {share!r}.")
        self.share = float(share)

    def compute(self, x: Any) -> Any:
        if not PASS.learning or self.share == 0:
            return x
        kept = random_uniform(x.shape, self.random_key) >= np.float32(self.share)
        return x * (kept.astype(x.dtype) * x.dtype.type(1 / (1 - self.share)))

"""A source of whatever holds examples."""

from __future__ import annotations

from typing import Any

import numpy as np

from ._dataset import Dataset
from ._source import Examples, Source

__all__ = ["as_source"]


def as_source(data: Any, target: str | int | None = None) -> Source:
    """A source of whatever holds examples: a source, arrays (inputs, targets), or anything with a
    length and items.

    Examples
    --------
    >>> as_source((np.ones((3, 2)), np.zeros(3)))
    <Dataset of 3 examples, inputs (2,) float64>
    """
    if isinstance(data, Source):
        return data
    if isinstance(data, tuple) and len(data) == 2 and all(isinstance(x, np.ndarray) for x in data):
        return Dataset(*data)
    return Examples(data, target=target)

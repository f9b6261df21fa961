"""Whose code runs in a learning pass.

The library's own layers and losses write to no array that a record keeps, so arrays need not be
guarded while nothing else runs. Code of a user's own may: it is watched as by `differentiate`.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np

from ...layers._base import Layer

__all__ = ["is_library_code"]

TRUSTED = ("vinestep", "numpy", "scipy")


def is_library_code(network: Layer, loss: Any) -> bool:
    """Whether nothing but functions of the library, NumPy and SciPy takes part."""
    return _is_trusted(loss) and all(
        _is_trusted(part) for layer in network.walk() for part in _parts(layer)
    )


def _parts(layer: Layer) -> Iterator[Any]:
    """The layer, and whatever in its attributes can be called."""
    yield layer
    for name, value in vars(layer).items():
        if not name.startswith("_"):  # plans, made of the rest
            yield from _callables(value)


def _callables(value: Any) -> Iterator[Any]:
    if isinstance(value, list | tuple):
        for item in value:
            yield from _callables(item)
    elif isinstance(value, dict):
        yield from _callables(list(value.values()))
    elif callable(value) and not isinstance(value, Layer):
        yield value


def _is_trusted(part: Any) -> bool:
    if isinstance(part, partial):
        return _is_trusted(part.func) and all(
            _is_trusted(x) for x in (*part.args, *part.keywords.values()) if callable(x)
        )
    if isinstance(part, np.ufunc):
        return True
    module = getattr(part, "__module__", None) or type(part).__module__
    name = getattr(part, "__name__", "")
    return module.partition(".")[0] in TRUSTED and name != "<lambda>"

"""Several inputs of a network, by name or by place."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any

from ..errors import DataError
from ._base import Layer

__all__ = ["input_names_of", "inputs_in_order", "takes"]


def inputs_in_order(network: Layer, inputs: Any) -> Any:
    """Inputs by name in the order in which the network's `compute` takes them; others as they
    are.
    """
    if not isinstance(inputs, Mapping):
        return inputs
    takes = input_names_of(network)
    names = [name for name in takes if name in inputs]
    unknown = [name for name in inputs if name not in names]
    if unknown:
        taken = ", ".join(takes) or "none"
        raise DataError(
            f"The batch has an input {unknown[0]!r}, and {type(network).__name__}.compute takes "
            f"{taken}. Name its parameters as the "
            "inputs are named, or give inputs by place, as a tuple."
        )
    if names != list(takes)[: len(names)]:
        raise DataError(
            f"The batch has the inputs {', '.join(inputs)}, and {type(network).__name__}.compute "
            "takes others before them."
        )
    return tuple(inputs[name] for name in names)


def input_names_of(network: Layer) -> tuple[str, ...]:
    """What a network calls its inputs: by itself, or by the parameters of its `compute`."""
    named: tuple[str, ...] | None = getattr(network, "input_names", None)
    return parameters_of(type(network).compute) if named is None else named


def takes(network: Layer, name: str) -> bool:
    """Whether a network's `compute` has a parameter of this name, such as ``mask``."""
    return name in parameters_of(type(network).compute)


@lru_cache(maxsize=256)
def parameters_of(compute: Callable[..., Any]) -> tuple[str, ...]:
    return tuple(inspect.signature(compute).parameters)[1:]

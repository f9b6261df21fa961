"""Operations whose derivative is a sweep of a record of their own."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from .identity import alias
from .registry import Rule
from .tensor import Origin, Tensor, apply, checksums_of
from .tracking import STATE

__all__ = ["nested", "node_of"]

Pullback = Callable[[Any, Sequence[Any], Sequence[bool], Sequence[Any]], list[Any]]


class _Nested(Rule):
    """A rule for one value, whose derivative is a function."""

    __slots__ = ("pullback",)

    writes_into_places = True

    def __init__(self, name: str, pullback: Pullback) -> None:
        super().__init__(name, _computed, ())
        self.pullback = pullback

    def pull(
        self, g: Any, y: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool]
    ) -> list[Any]:
        return self.pullback(g, inputs, wanted, [None] * len(wanted))

    def pull_into(
        self,
        g: Any,
        y: Any,
        inputs: Sequence[Any],
        options: dict[str, Any],
        wanted: Sequence[bool],
        places: Sequence[Any],
    ) -> list[Any]:
        return self.pullback(g, inputs, wanted, places)


def _computed(*arrays: Any) -> Any:
    raise NotImplementedError("The value was computed when it was recorded.")


def node_of(x: Any) -> Tensor:
    """The same value as a node of a new record, whose cotangent is asked for."""
    node = apply(alias, (x,), {}) if isinstance(x, Tensor) else Tensor(x)
    assert isinstance(node, Tensor)
    return node


def nested(
    name: str, value: np.ndarray, inputs: Sequence[Any], pullback: Pullback, *, keeps: bool = False
) -> Tensor:
    """A value that depends on these inputs in a way that only its pullback knows.

    Parameters
    ----------
    name : str
        Shown in trails and messages.
    value : ndarray
    inputs : sequence of Tensor or ndarray
    pullback : callable
        ``pullback(cotangent, inputs, wanted, places)`` to the cotangents of the inputs, None where
        not wanted; the first contribution to an input may be written into its place.
    keeps : bool
        Whether the pullback computes with the inputs, which are not to be changed meanwhile: they
        are arrays, or Tensors in a sweep that is recorded itself. Otherwise they are outlines.
    """
    parents = [one.origin if isinstance(one, Tensor) else None for one in inputs]
    arrays = [one._array if isinstance(one, Tensor) else one for one in inputs] if keeps else None
    seals = checksums_of(arrays, parents) if arrays is not None and STATE.now.sealing else None
    origin = Origin(
        _Nested(name, pullback),
        parents,
        arrays,
        None,
        {},
        value.shape,
        value.dtype,
        STATE.now.place,
        seals,
    )
    return Tensor.from_operation(value, origin)

"""Tensors that are no part of a network, as one that a descent can move."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ...autodiff.tensor import Leaf, Tensor
from ...errors import SettingError
from ...layers._arena import Arena
from ...layers._base import Layer

__all__ = ["TensorGroup", "as_network"]


class TensorGroup(Layer):
    """Leaves by name, whose memory becomes one arena: they keep being what they are, and change as
    the descent goes on.
    """

    def __init__(self, tensors: Mapping[str, Tensor]) -> None:
        kinds = {tensor.dtype for tensor in tensors.values()}
        if len(kinds) != 1 or next(iter(kinds)).kind != "f":
            raise SettingError(
                "Tensors that descend together are of one float type, got "
                f"{', '.join(sorted(map(str, kinds))) or 'none'}."
            )
        for name, tensor in tensors.items():
            if type(tensor.origin) is not Leaf:
                raise SettingError(
                    f"{name} was computed from others. Only a Tensor that was made of an array, "
                    "vinestep.Tensor(array), can be moved."
                )
            if tensor.origin.memory is not None:
                raise SettingError(f"{name} is moved already, by a network or another descent.")
        self._parameters = dict(tensors)
        self._declared = True
        self._computes_in = next(iter(kinds))
        for name, tensor in tensors.items():
            tensor.origin.name = tensor.origin.name or name  # type: ignore[misc]
        self.arena = Arena(dict(tensors), self._computes_in)

    def compute(self, *inputs: Any, **options: Any) -> Any:
        raise SettingError("These are Tensors, no network: use them in the loss as they are.")


def as_network(value: Any) -> Layer:
    """A network as it is; Tensors, one, several or by name, as a group of them.

    Raises
    ------
    SettingError
        If it is something else.
    """
    if isinstance(value, Layer):
        return value
    if isinstance(value, Tensor):
        return TensorGroup({value.origin.name or "x": value})  # type: ignore[misc]
    named = value if isinstance(value, Mapping) else None
    if named is None and isinstance(value, Sequence) and not isinstance(value, str):
        named = {f"{i}": one for i, one in enumerate(value)}
    if named and all(isinstance(one, Tensor) for one in named.values()):
        return TensorGroup({str(name): one for name, one in named.items()})
    raise SettingError(
        f"The network is a {type(value).__name__}, not a layer. Wrap functions: "
        "vinestep.Stack(f). Or give Tensors: one, a list, or a dict by name."
    )

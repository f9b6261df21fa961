"""Memory for gradients, used again once nobody can see it any more."""

from __future__ import annotations

import weakref
from collections.abc import Mapping
from typing import Any

import numpy as np

from ..autodiff.gradients import Gradients, Layout
from ..autodiff.tensor import Origin, Tensor

__all__ = ["GradientBuffers"]

MOST_SPARE = 2


class _Buffer:
    """Memory, where the gradient of each parameter lies in it, and the array over it that was lent last."""

    __slots__ = ("lent", "memory", "places")

    def __init__(self, layout: Layout, dtype: np.dtype[Any], tensors: Mapping[str, Tensor]) -> None:
        room = np.empty(layout.size, dtype)
        self.memory = memoryview(room)  # type: ignore[arg-type]
        self.places = {tensor.origin: layout.view(room, layout[path]) for path, tensor in tensors.items()}
        self.lent: weakref.ref[np.ndarray] | None = None


class GradientBuffers:
    """Buffers for the gradients of one arena.

    Each lending makes a new array over a buffer's memory. Every view of that array keeps it alive, so when it dies nobody looks at
    the memory any more, and the buffer is spare.
    """

    def __init__(self, layout: Layout, dtype: np.dtype[Any], tensors: Mapping[str, Tensor]) -> None:
        self.layout = layout
        self._dtype = dtype
        self._tensors = tensors
        self._spare: list[_Buffer] = []

    def lend(self) -> tuple[Gradients, dict[Origin, np.ndarray]]:
        """Gradients to be filled by way of their places."""
        buffer = self._spare.pop() if self._spare else _Buffer(self.layout, self._dtype, self._tensors)
        flat = np.frombuffer(buffer.memory, self._dtype) if self.layout.size else np.empty(0, self._dtype)
        spare = self._spare

        def take_back(_: Any) -> None:
            if len(spare) < MOST_SPARE:
                spare.append(buffer)

        buffer.lent = weakref.ref(flat, take_back)
        return Gradients(self.layout, flat), buffer.places

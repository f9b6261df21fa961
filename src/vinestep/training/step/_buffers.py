"""Memory for gradients, used again once nobody can see it any more."""

from __future__ import annotations

import weakref
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...autodiff.gradients import Gradients, Layout
from ...autodiff.tensor import Tensor
from ...kernels.allocator import keep_freed_memory
from ._exchange import Pieces

__all__ = ["GradientBuffer", "GradientBuffers"]

MOST_SPARE = 2


class GradientBuffer:
    """Memory, where the gradient of each parameter lies in it, and the array over it that was lent
    last.
    """

    __slots__ = ("_into", "_into_for", "lent", "memory", "places", "spare")

    def __init__(
        self,
        layout: Layout,
        dtype: np.dtype[Any],
        tensors: Mapping[str, Tensor],
        spare: list[GradientBuffer],
    ) -> None:
        self.spare = spare
        room = np.empty(layout.size, dtype)
        self.memory = memoryview(room)  # type: ignore[arg-type]
        self.places = {
            tensor.origin: layout.view(room, layout[path]) for path, tensor in tensors.items()
        }
        self._into: list[np.ndarray | None] = []
        self._into_for: object = None
        self.lent: weakref.ref[np.ndarray] | None = None

    def places_of(self, operation: object, parameters: Sequence[Tensor]) -> list[Any]:
        """The places of an operation's inputs, of which the first is no parameter; worked out once
        for the operation that asks.
        """
        if self._into_for is not operation:
            self._into = [None, *(self.places[parameter.origin] for parameter in parameters)]
            self._into_for = operation
        return self._into

    def take_back(self, _: Any) -> None:
        if len(self.spare) < MOST_SPARE:
            self.spare.append(self)


class GradientBuffers:
    """Buffers for the gradients of one arena.

    Each lending makes a new array over a buffer's memory. Every view of that array keeps it alive,
    so when it dies nobody looks at the memory any more, and the buffer is spare.
    """

    def __init__(self, layout: Layout, dtype: np.dtype[Any], tensors: Mapping[str, Tensor]) -> None:
        keep_freed_memory()
        self.layout = layout
        self._dtype = dtype
        self._tensors = tensors
        self._spare: list[GradientBuffer] = []
        self._pieces: Pieces | None = None

    @property
    def pieces(self) -> Pieces:
        """What of them travels together to other ranks."""
        if self._pieces is None:
            self._pieces = Pieces(self.layout, self._tensors)
        return self._pieces

    def lend(self) -> tuple[Gradients, GradientBuffer]:
        """Gradients, to be filled by way of the buffer's places."""
        buffer = (
            self._spare.pop()
            if self._spare
            else GradientBuffer(self.layout, self._dtype, self._tensors, self._spare)
        )
        flat = (
            np.frombuffer(buffer.memory, self._dtype)
            if self.layout.size
            else np.empty(0, self._dtype)
        )
        buffer.lent = weakref.ref(flat, buffer.take_back)
        return Gradients(self.layout, flat), buffer

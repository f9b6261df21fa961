"""The arena: all trainable parameters of a network in one flat array, the frozen ones in
another.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np

from .._public_names import did_you_mean
from ..autodiff.checksums import OwnMemory
from ..autodiff.gradients import Layout
from ..autodiff.tensor import Tensor, hand_out
from ..errors import ShapeError

__all__ = ["Arena"]


class Arena:
    """Owns the memory of a network's parameters.

    Parameters
    ----------
    tensors : mapping of path to Tensor
        All parameters, in the network's order. Their arrays become views into `values` or `frozen`.
    dtype : dtype
        Of all of them, and of what a network without parameters computes in.
    frozen : set of paths
    """

    def __init__(
        self, tensors: Mapping[str, Tensor], dtype: np.dtype[Any], frozen: Iterable[str] = ()
    ) -> None:
        self.tensors = dict(tensors)
        self.dtype = dtype
        self.pack(set(frozen))

    generation = 0
    """Rises with every packing of any arena, and with every change of layers: what was planned
    before may be out of date.
    """

    def pack(self, frozen: set[str]) -> None:
        """Lay the parameters out anew, with these ones frozen. Values and Tensors stay; views
        move.
        """
        Arena.generation += 1
        self.frozen_paths = frozen
        trainable = {path: t for path, t in self.tensors.items() if path not in frozen}
        still = {path: t for path, t in self.tensors.items() if path in frozen}
        self.layout = Layout((path, t.shape) for path, t in trainable.items())
        self.frozen_layout = Layout((path, t.shape) for path, t in still.items())
        self.memory = OwnMemory()
        self.values = self._move(trainable, self.layout)
        self.frozen = self._move(still, self.frozen_layout)
        self.trainable = trainable
        for tensor in trainable.values():
            tensor.origin.memory = self.memory  # type: ignore[attr-defined]  # parameters are leaves
            self.memory.arrays[tensor.origin] = tensor._array
        for tensor in still.values():
            tensor.origin.memory = None  # type: ignore[attr-defined]  # handed to layers as plain arrays

    @property
    def flat(self) -> np.ndarray:
        """All trainable parameters in one array, which may be written to."""
        self.hand_out()
        return self.values

    def hand_out(self) -> None:
        """Plain arrays of the parameters leave the library."""
        for tensor in self.trainable.values():
            hand_out(tensor.origin)

    def _move(self, tensors: Mapping[str, Tensor], layout: Layout) -> np.ndarray:
        flat = np.empty(layout.size, dtype=self.dtype)
        for path, tensor in tensors.items():
            view = layout.view(flat, layout[path])
            view[...] = tensor._array
            tensor._array = view
        return flat

    def arrays(self) -> dict[str, np.ndarray]:
        """Every parameter by path, for code of the library that keeps none of them."""
        return {path: tensor._array for path, tensor in self.tensors.items()}

    def __getstate__(self) -> dict[str, Any]:
        return {"tensors": self.tensors, "dtype": self.dtype, "frozen": self.frozen_paths}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__init__(state["tensors"], np.dtype(state["dtype"].str), state["frozen"])  # type: ignore[misc]

    def check(self, weights: Mapping[str, np.ndarray]) -> None:
        """
        Raises
        ------
        ShapeError
            If a path does not exist or a shape differs.
        """
        for path, array in weights.items():
            if path not in self.tensors:
                raise ShapeError(
                    f"There is no parameter {path!r}. {did_you_mean(path, self.tensors)}"
                )
            if np.shape(array) != self.tensors[path].shape:
                raise ShapeError(
                    f"{path}: expected weights of shape {self.tensors[path].shape}, got "
                    f"{np.shape(array)}. "
                    "Were they saved from a network of another width?"
                )

    def load(self, weights: Mapping[str, np.ndarray]) -> None:
        """Overwrite parameters by path, all or none."""
        self.check(weights)
        if weights:
            self.memory.written()
        for path, array in weights.items():
            self.tensors[path]._array[...] = array

"""Networks with several inputs by name."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ..errors import LayerError, ShapeError
from ..parts._registry import part
from ._base import Layer, LayerLike, call_layer

__all__ = ["MultiInput"]


@part("multi_input", "layer")
class MultiInput(Layer):
    """A branch for each of several inputs, by name; what they put out is joined along the last axis
    and goes through a head.

    Parameters
    ----------
    branches : mapping of name to layer or callable
        Of each input, by the name it has in the data.
    head : layer or callable
        Takes what is joined; `Heads`, for several outputs.

    Raises
    ------
    LayerError
        If a branch is no layer or function.
    ShapeError
        If what the branches put out differs in more than the last axis.

    Examples
    --------
    >>> network = MultiInput({"must": Dense(8, vs.relu), "cellar": Dense(4)}, Dense(3))
    >>> inputs = {"must": np.ones((5, 6)), "cellar": np.ones((5, 2))}
    >>> data = vs.data.Dataset(inputs, np.arange(5) % 3)
    >>> training = vs.Training(network, task=vs.tasks.Classes())
    >>> training.run(data.batches(5), epochs=1).status.value
    'finished'
    """

    def __init__(self, branches: Mapping[str, LayerLike], head: LayerLike) -> None:
        self.branches, self.head = dict(branches), head
        for name, branch in self.branches.items():
            if not isinstance(name, str) or not name or "/" in name or not callable(branch):
                raise LayerError(
                    f"MultiInput: {name!r} is a {type(branch).__name__}. Give layers by name, such "
                    'as {"must": vinestep.Dense(8)}.'
                )
        if not self.branches:
            raise LayerError("MultiInput: there are no branches.")
        if not callable(head):
            raise LayerError(
                f"MultiInput: the head is a {type(head).__name__}, no layer or function."
            )

    @property
    def input_names(self) -> tuple[str, ...]:
        """In the order in which `compute` takes them."""
        return tuple(self.branches)

    def compute(self, *inputs: Any) -> Any:
        """
        Parameters
        ----------
        *inputs : array
            One for each branch, in their order.
        """
        if len(inputs) != len(self.branches):
            raise ShapeError(
                f"{self._label}: there are {len(self.branches)} branches, "
                f"{', '.join(self.branches)}, and {len(inputs)} inputs."
            )
        found = [
            call_layer(branch, x, self._join(f"branches/{name}"))
            for (name, branch), x in zip(self.branches.items(), inputs, strict=True)
        ]
        if any(y.shape[:-1] != found[0].shape[:-1] for y in found):
            shapes = ", ".join(
                f"{name} {tuple(y.shape)}" for name, y in zip(self.branches, found, strict=True)
            )
            raise ShapeError(
                f"{self._label}: the branches put out {shapes}; all but the last axis has to agree."
            )
        joined = np.concatenate(found, axis=-1) if len(found) > 1 else found[0]
        return call_layer(self.head, joined, self._join("head"))

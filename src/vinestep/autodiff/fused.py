"""Fused operations: a definition in plain NumPy and a kernel pair that does the same faster.

The definition is the meaning, the documentation, the oracle of the tests and the way to higher order. With
``VINESTEP_KERNELS=off`` in the environment every definition runs instead of its kernel.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from .registry import Rule
from .rules.elementwise import alias
from .state import STATE
from .sweep import sweep
from .tensor import Origin, Tensor, apply, seals_of

__all__ = ["FUSED", "Fused", "kernels_on"]


def kernels_on() -> bool:
    """Whether kernels run; ``VINESTEP_KERNELS=off`` lets the definitions run in their place."""
    return os.environ.get("VINESTEP_KERNELS", "on") != "off"


USE_KERNELS = kernels_on()
FUSED: dict[str, Fused] = {}


class Fused(Rule):
    """An operation with a definition and a kernel pair.

    Parameters
    ----------
    name : str
        Unique; shown in trails.
    definition : callable
        ``definition(*inputs, **options)`` in NumPy, on arrays or Tensors.
    forward : callable
        ``forward(*arrays, **options)`` to ``(result, saved)``; `saved` is whatever the adjoint needs besides the inputs.
    adjoint : callable
        ``adjoint(g, saved, inputs, options, wanted, places)`` to a list of cotangents, None where not wanted. Where
        ``places[i]`` is an array, the cotangent of input i may be written there and that array returned. `g` may be
        overwritten only if the kernel made it itself.

    Examples
    --------
    >>> softly = Fused(
    ...     "softly",
    ...     definition=lambda x: np.tanh(x) * x,
    ...     forward=lambda x: (np.tanh(x) * x, np.tanh(x)),
    ...     adjoint=lambda g, t, inputs, options, wanted, places: [g * (t + inputs[0] * (1 - t * t))],
    ... )
    >>> gradient_of(lambda x: np.sum(softly(x)))(np.array([0.5])).round(6)
    array([0.855341])
    """

    __slots__ = ("definition", "kernel_adjoint", "kernel_forward")

    writes_into_places = True

    def __init__(
        self,
        name: str,
        *,
        definition: Callable[..., Any],
        forward: Callable[..., tuple[Any, Any]],
        adjoint: Callable[..., list[Any]],
    ) -> None:
        super().__init__(name, definition, (), keeps="x")
        self.definition = definition
        self.kernel_forward = forward
        self.kernel_adjoint = adjoint
        FUSED[name] = self

    def __call__(self, *inputs: Any, **options: Any) -> Any:
        if not USE_KERNELS:
            return self.definition(*inputs, **options)
        arrays = [x._array if type(x) is Tensor else x for x in inputs]
        output, saved = self.kernel_forward(*arrays, **options)
        now = STATE.now
        if not now.recording:
            return output
        parents = [x.origin if type(x) is Tensor else None for x in inputs]
        if not any(parents):
            return output
        seals = seals_of(inputs) if now.sealing else None
        origin = Origin(self, parents, inputs, saved, options, output.shape, output.dtype, now.place, seals)
        return Tensor.from_operation(output, origin)

    def pull(self, g: Any, saved: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool]) -> list[Any]:
        return self.pull_into(g, saved, inputs, options, wanted, [None] * len(inputs))

    def pull_into(
        self,
        g: Any,
        saved: Any,
        inputs: Sequence[Any],
        options: dict[str, Any],
        wanted: Sequence[bool],
        places: Sequence[np.ndarray | None],
    ) -> list[Any]:
        if STATE.now.recording:
            return self._pull_by_definition(g, inputs, options, wanted)
        return self.kernel_adjoint(g, saved, inputs, options, wanted, places)

    def _pull_by_definition(self, g: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool]) -> list[Any]:
        """The definition recorded anew over the same inputs, then swept differentiably."""
        nodes = [apply(alias, (x,), {}) if isinstance(x, Tensor) else x for x in inputs]
        value = self.definition(*nodes, **options)
        targets = [node.origin for node, want in zip(nodes, wanted, strict=True) if want]
        found = sweep(value, g, targets, differentiable=True)
        return [found.get(node.origin) if want else None for node, want in zip(nodes, wanted, strict=True)]

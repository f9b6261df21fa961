"""Fused operations: a definition in plain NumPy and a kernel pair that does the same faster.

The definition is the meaning, the documentation, the oracle of the tests and the way to higher
order. With ``VINESTEP_KERNELS=off`` in the environment every definition runs instead of its kernel.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ..kernels import Unsound, give_up, usable
from .nested import node_of
from .registry import Rule
from .signatures import Signature, Signatures, standard
from .sweep import sweep
from .tensor import (
    Origin,
    Tensor,
    checksums_of,
    plain,
)
from .tracking import STATE, recorded

__all__ = ["FUSED", "Fused"]


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
        ``forward(*arrays, **options)`` to ``(result, saved)``; `saved` is whatever the adjoint
        needs besides the inputs.
    adjoint : callable
        ``adjoint(g, saved, inputs, options, wanted, places)`` to a list of cotangents, None where
        not wanted. Where ``places[i]`` is an array, the cotangent of input i may be written there
        and that array returned. `g` may be overwritten only if the kernel made it itself. Either
        kernel may return NotImplemented: then the definition is used.
    form : Signature, optional
        What the inputs must look like. It is checked whether kernels run or not; inputs of other
        precisions than float32 and float64, or of several, are computed by the definition.
    any_cotangent : bool
        Whether the adjoint lays `g` out by itself; otherwise it is contiguous.

    Examples
    --------
    >>> softly = Fused(
    ...     "softly",
    ...     definition=lambda x: np.tanh(x) * x,
    ...     forward=lambda x: (np.tanh(x) * x, np.tanh(x)),
    ...     adjoint=lambda g, t, inputs, options, wanted, places: [
    ...         g * (t + inputs[0] * (1 - t * t))
    ...     ],
    ... )
    >>> gradient_of(lambda x: np.sum(softly(x)))(np.array([0.5])).round(6)
    array([0.855341])
    """

    __slots__ = ("any_cotangent", "definition", "form", "kernel_adjoint", "kernel_forward")

    writes_into_places = True

    def __init__(
        self,
        name: str,
        *,
        definition: Callable[..., Any],
        forward: Callable[..., Any],
        adjoint: Callable[..., Any],
        form: Signature | Signatures | None = None,
        any_cotangent: bool = False,
    ) -> None:
        super().__init__(name, definition, (), keeps="x")
        self.definition = definition
        self.kernel_forward = forward
        self.kernel_adjoint = adjoint
        self.form = form
        self.any_cotangent = any_cotangent
        FUSED[name] = self

    def __call__(self, *inputs: Any, **options: Any) -> Any:
        parents: list[Origin | None] = []
        arrays: list[Any] = []
        for x in inputs:
            if type(x) is Tensor:
                parents.append(x.origin)
                arrays.append(x._array)
            else:
                parents.append(None)
                arrays.append(x if type(x) is np.ndarray else plain(x))
        ready = self.admitted(arrays, options)
        if ready is None:
            return self.definition(*inputs, **options)
        try:
            found = self.kernel_forward(*ready, **options)
        except Unsound as error:
            give_up(error)
            return self.definition(*inputs, **options)
        if found is NotImplemented:
            return self.definition(*inputs, **options)
        output, saved = found
        now = STATE.now
        if not now.recording or not any(parents):
            return output
        seals = checksums_of(arrays, parents) if now.sealing else None
        if seals is not None:
            for i, (ours, given) in enumerate(zip(ready, arrays, strict=True)):
                if ours is not given:  # a copy that nobody else knows of
                    seals[i] = None
        origin = Origin(
            self, parents, ready, saved, options, output.shape, output.dtype, now.place, seals
        )
        return Tensor.from_operation(output, origin)

    def admitted(self, arrays: Sequence[Any], options: dict[str, Any]) -> Sequence[Any] | None:
        """The arrays as the kernels take them, or None if the definition is to be computed; raises
        if they do not fit.
        """
        if self.form is None:
            return arrays if usable() else None
        if usable():
            return self.form.admit(self.name, arrays, options)
        self.form.check(self.name, arrays, options)
        return None

    def pull(
        self,
        g: Any,
        saved: Any,
        inputs: Sequence[Any],
        options: dict[str, Any],
        wanted: Sequence[bool],
    ) -> list[Any]:
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
        if type(g) is np.ndarray and not self.any_cotangent:
            g = standard(g)
        try:
            pulled = self.kernel_adjoint(g, saved, inputs, options, wanted, places)
        except Unsound as error:
            give_up(error)
            pulled = NotImplemented
        return (
            self._pull_by_definition(g, inputs, options, wanted)
            if pulled is NotImplemented
            else pulled
        )

    def _pull_by_definition(
        self, g: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool]
    ) -> list[Any]:
        """The definition recorded anew over the same inputs, then swept; differentiably if that is
        what is going on.
        """
        differentiable = STATE.now.recording
        with recorded(sealing=False):
            nodes = [node_of(x) if want else x for x, want in zip(inputs, wanted, strict=True)]
            value = self.definition(*nodes, **options)
            targets = [node.origin for node, want in zip(nodes, wanted, strict=True) if want]
            result = sweep(value, g, targets, differentiable=differentiable)
        return [
            result.get(node.origin) if want else None
            for node, want in zip(nodes, wanted, strict=True)
        ]

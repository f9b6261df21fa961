"""A body whose activations are not kept, but computed again on the way back."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import numpy as np

from ..autodiff.nested import nested, node_of
from ..autodiff.sweep import sweep
from ..autodiff.tensor import Tensor, held
from ..autodiff.tracking import STATE, recorded
from ..errors import LayerError
from ..parts._registry import part
from ._base import Layer
from ._containers import takes_mask
from ._learning_pass import PASS

__all__ = ["Recomputed"]


@part("recomputed", "layer")
class Recomputed(Layer):
    """A body of which a learning pass keeps the input only: on the way back it is computed once
    more, with the same dropout [1]_.

    Derivatives are the same to the last bit, running statistics are brought on once. A network of
    n such bodies keeps the activations of one of them at a time, and what lies between them; a step
    takes about a third longer.

    Parameters
    ----------
    body : Layer

    References
    ----------
    .. [1] T. Chen, B. Xu, C. Zhang and C. Guestrin, "Training Deep Nets with Sublinear Memory
       Cost", 2016, section 4.

    Examples
    --------
    >>> body = vs.Stack(vs.Dense(8), vs.relu, vs.Dropout(0.5), vs.Dense(4), vs.relu)
    >>> network = vs.Stack(vs.Recomputed(body), vs.Dense(1)).initialise(np.ones((1, 3)))
    >>> network(np.ones((2, 3), np.float32)).shape
    (2, 1)
    """

    def __init__(self, body: Layer) -> None:
        if not isinstance(body, Layer):
            raise LayerError(
                f"Recomputed: the body is a {type(body).__name__}. Give a layer, such as a Stack."
            )
        self.body = body

    def compute(self, x: Any, mask: Any = None) -> Any:
        """
        Parameters
        ----------
        x : array
        mask : array of bool, shape (batch, time), optional
            For a body that takes one.
        """
        more = {} if mask is None or not takes_mask(type(self.body).compute) else {"mask": mask}
        if not STATE.now.recording or PASS.observer is not None:
            return self.body(x, **more)
        before = _Draws()
        value = np.asarray(held(self.body(x, **more)))  # its record is let go
        if value.base is not None:  # it may be a view of memory with all activations
            value = value.copy()
        trained = self.body._trainable_tensors()

        def pullback(
            g: Any, inputs: Sequence[Any], wanted: Sequence[bool], places: Sequence[Any]
        ) -> list[Any]:
            return self._again(g, inputs[0], more, trained, before, wanted, places)

        if not isinstance(x, Tensor) and not trained:
            return value
        return nested("recomputed", value, [x, *trained], pullback, keeps=True)

    def _again(
        self,
        g: Any,
        x: Any,
        more: dict[str, Any],
        trained: Sequence[Tensor],
        before: _Draws,
        wanted: Sequence[bool],
        places: Sequence[Any],
    ) -> list[Any]:
        """Cotangents of the input and of the parameters, by a record that is made now."""
        differentiable = STATE.now.recording
        with before.once_more(), self._statistics_left(), recorded(sealing=False):
            node = node_of(x) if wanted[0] else held(x)
            value = self.body(node, **more)
        origins = [node.origin if wanted[0] else None, *(one.origin for one in trained)]
        targets = [one for one, want in zip(origins, wanted, strict=True) if one and want]
        into = {one: place for one, place in zip(origins, places, strict=True) if one is not None}
        into = {one: place for one, place in into.items() if place is not None}
        found = sweep(
            value,
            g,
            targets,
            differentiable=differentiable,
            release=not differentiable,
            destinations=None if differentiable else into,
        )
        return [
            found.get(one) if one is not None and want else None
            for one, want in zip(origins, wanted, strict=True)
        ]

    @contextmanager
    def _statistics_left(self) -> Iterator[None]:
        """Running statistics were brought on by the first pass."""
        kept = [(array, array.copy()) for array in self.body.statistics(changing=True).values()]
        try:
            yield
        finally:
            for array, before in kept:
                array[...] = before


class _Draws:
    """What a pass draws by, to draw the same again."""

    def __init__(self) -> None:
        self.learning, self.dropping, self.merged = PASS.learning, PASS.dropping, PASS.merged
        self.seed, self.step, self.rows = PASS.seed, PASS.step, PASS.rows
        self.drawn = dict(PASS.drawn)

    @contextmanager
    def once_more(self) -> Iterator[None]:
        now = _Draws()
        drawn = PASS.drawn
        self._set(dict(self.drawn))
        try:
            yield
        finally:
            now._set(drawn)

    def _set(self, drawn: dict[int, int]) -> None:
        PASS.learning, PASS.dropping, PASS.merged = self.learning, self.dropping, self.merged
        PASS.seed, PASS.step, PASS.rows, PASS.drawn = self.seed, self.step, self.rows, drawn

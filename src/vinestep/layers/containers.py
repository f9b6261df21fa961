"""Layers made of layers."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from ..errors import LayerError, ShapeError
from .base import Layer, LayerLike, call_layer
from .context import PASS
from .dense import Dense, fusable

__all__ = ["Concat", "Residual", "Stack", "Sum"]


def _checked(kind: str, layers: tuple[LayerLike, ...]) -> list[LayerLike]:
    for position, layer in enumerate(layers):
        if isinstance(layer, type):
            raise LayerError(f"{kind}: item {position} is the class {layer.__name__}; call it: {layer.__name__}(...).")
        if not callable(layer):
            raise LayerError(f"{kind}: item {position} is a {type(layer).__name__}, neither a layer nor a function.")
    return list(layers)


class Stack(Layer):
    """Layers one after another.

    Parameters
    ----------
    *layers : layers or callables
        Their positions are the first part of their paths: ``0/weight``.

    Examples
    --------
    >>> network = Stack(Dense(8), vs.relu, Dense(3)).initialise(np.zeros((1, 4)))
    >>> network(np.zeros((5, 4), np.float32)).shape
    (5, 3)
    >>> [layer.path for layer in network[:2] if isinstance(layer, Dense)]
    ['0']
    """

    def __init__(self, *layers: LayerLike) -> None:
        self.layers = _checked("Stack", layers)
        for layer, following in zip(self.layers, self.layers[1:], strict=False):
            if isinstance(layer, Dense):
                layer.followed_by(following)
        self._plan: list[tuple[Any, tuple[str, float] | None]] | None = None

    def __len__(self) -> int:
        return len(self.layers)

    def __getitem__(self, index: Any) -> Any:
        return self.layers[index]

    def children(self) -> Iterator[tuple[str, Layer]]:
        for i, layer in enumerate(self.layers):
            if isinstance(layer, Layer):
                yield str(i), layer

    def _planned(self) -> list[tuple[Any, tuple[str, float] | None]]:
        """Layers, and for a dense layer the activation behind it, which it then applies itself."""
        plan: list[tuple[Any, tuple[str, float] | None]] = []
        i = 0
        while i < len(self.layers):
            layer = self.layers[i]
            after = fusable(self.layers[i + 1]) if i + 1 < len(self.layers) else None
            fuse = type(layer) is Dense and layer.activation is None and after is not None
            plan.append((layer, after if fuse else None))
            i += 2 if fuse else 1
        return plan

    def compute(self, x: Any) -> Any:
        if PASS.observer is not None:
            for i, layer in enumerate(self.layers):
                x = call_layer(layer, x, self._join(str(i)))
            self._plan = None
            return x
        if self._plan is None:
            self._plan = self._planned()
        for layer, activation in self._plan:
            x = layer(x) if activation is None else layer(x, activation)
        return x


class Residual(Layer):
    """A body and a way around it: ``body(x) + shortcut(x)``, the shortcut being `x` itself by default.

    K. He, X. Zhang, S. Ren and J. Sun, "Deep Residual Learning for Image Recognition", CVPR 2016, equation 1.

    Raises
    ------
    ShapeError
        If body and shortcut differ in shape.

    Examples
    --------
    >>> Residual(np.square).initialise(np.ones((1, 2)))(np.full((1, 2), 3.0))
    array([[12., 12.]])
    """

    def __init__(self, body: LayerLike, shortcut: LayerLike | None = None) -> None:
        self.body, *rest = _checked("Residual", (body,) if shortcut is None else (body, shortcut))
        self.shortcut = rest[0] if rest else None

    def compute(self, x: Any) -> Any:
        around = x if self.shortcut is None else call_layer(self.shortcut, x, self._join("shortcut"))
        through = call_layer(self.body, x, self._join("body"))
        if through.shape != around.shape:
            raise ShapeError(
                f"{self._label}: the body gives shape {through.shape}, the shortcut {around.shape}. Give a shortcut that "
                "changes the shape likewise, such as Dense(width)."
            )
        return through + around


class _Branches(Layer):
    def __init__(self, *branches: LayerLike) -> None:
        if not branches:
            raise LayerError(f"{type(self).__name__} needs at least one branch.")
        self.branches = _checked(type(self).__name__, branches)

    def children(self) -> Iterator[tuple[str, Layer]]:
        for i, layer in enumerate(self.branches):
            if isinstance(layer, Layer):
                yield str(i), layer

    def _outputs(self, x: Any) -> list[Any]:
        return [call_layer(branch, x, self._join(str(i))) for i, branch in enumerate(self.branches)]


class Concat(_Branches):
    """Branches side by side: their outputs joined along the last axis.

    Examples
    --------
    >>> Concat(np.square, np.negative).initialise(np.ones((1, 2)))(np.full((1, 1), 3.0))
    array([[ 9., -3.]])
    """

    def compute(self, x: Any) -> Any:
        outputs = self._outputs(x)
        if any(y.shape[:-1] != outputs[0].shape[:-1] for y in outputs):
            shapes = ", ".join(str(tuple(y.shape)) for y in outputs)
            raise ShapeError(f"{self._label}: the branches give {shapes}; all but the last axis have to agree.")
        return np.concatenate(outputs, axis=-1)


class Sum(_Branches):
    """Branches side by side: their outputs added up.

    Examples
    --------
    >>> Sum(np.square, np.negative).initialise(np.ones((1, 2)))(np.full((1, 1), 3.0))
    array([[6.]])
    """

    def compute(self, x: Any) -> Any:
        outputs = self._outputs(x)
        if any(y.shape != outputs[0].shape for y in outputs):
            raise ShapeError(
                f"{self._label}: the branches give {', '.join(str(tuple(y.shape)) for y in outputs)}; they have to agree."
            )
        total = outputs[0]
        for y in outputs[1:]:
            total = total + y
        return total

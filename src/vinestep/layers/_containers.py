"""Layers made of layers."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import cache, partial
from inspect import signature
from typing import Any

import numpy as np

from .._masking import zero_nonfinite
from ..autodiff.signatures import is_standard, standard
from ..autodiff.tensor import Tensor, held
from ..errors import LayerError, ShapeError
from ..kernels import usable
from ..parts._registry import part
from ._arena import Arena
from ._base import Layer, LayerLike, call_layer
from ._convolution import Convolution
from ._dense import FLOORS, Dense, fusable
from ._dense_chain import ChainPlan, dense_chain
from ._dropout import Dropout
from ._learning_pass import PASS
from ._normalisation import BatchNorm

__all__ = ["Concat", "Residual", "Stack", "Sum", "takes_mask"]

RunItem = tuple[Dense, tuple[str, float] | None, Dropout | None]
"""A dense layer with its activation and the dropout of its input."""


def _checked(kind: str, layers: tuple[LayerLike, ...]) -> list[LayerLike]:
    for position, layer in enumerate(layers):
        if isinstance(layer, type):
            raise LayerError(
                f"{kind}: item {position} is the class {layer.__name__}; call it: "
                f"{layer.__name__}(...)."
            )
        if not callable(layer):
            raise LayerError(
                f"{kind}: item {position} is a {type(layer).__name__}, neither a layer nor a "
                "function."
            )
    return list(layers)


def _numbered(items: Sequence[LayerLike]) -> Iterator[tuple[str, Layer]]:
    """The layers among them, with their positions as paths."""
    return ((str(i), item) for i, item in enumerate(items) if isinstance(item, Layer))


@part("stack", "layer")
class Stack(Layer):
    """Layers one after another.

    Parameters
    ----------
    *layers : layers or callables, or one list of them
        Their positions are the first part of their paths: ``0/weight``.

    Examples
    --------
    >>> network = Stack(Dense(8), vs.relu, Dense(3)).initialise(np.zeros((1, 4)))
    >>> network(np.zeros((5, 4), np.float32)).shape
    (5, 3)
    >>> [layer.path for layer in network[:2] if isinstance(layer, Dense)]
    ['0']
    """

    def __init__(self, *layers: LayerLike | Sequence[LayerLike]) -> None:
        listed: Any = layers
        if len(layers) == 1 and isinstance(layers[0], list | tuple):
            listed = tuple(layers[0])
        self.layers = tuple(_checked("Stack", listed))
        for layer, following in zip(self.layers, self.layers[1:], strict=False):
            if isinstance(layer, Dense):
                layer.followed_by(following)

    _caches = ("_plan", "_plan_for", "_merged_plan", "_merged_for")
    _planned_by = ("layers",)
    _plan: list[tuple[Any, tuple[str, float] | None]] | None = None
    _plan_for: int | None = None
    _merged_plan: list[Any] | None = None
    _merged_for: int | None = None

    def __len__(self) -> int:
        return len(self.layers)

    def __getitem__(self, index: Any) -> Any:
        return self.layers[index]

    def children(self) -> Iterator[tuple[str, Layer]]:
        return _numbered(self.layers)

    def _planned(self) -> list[tuple[Any, tuple[str, float] | None]]:
        """Layers, and for those that can apply the activation behind them, that activation."""
        plan: list[tuple[Any, tuple[str, float] | None]] = []
        i = 0
        while i < len(self.layers):
            layer = self.layers[i]
            after = fusable(self.layers[i + 1]) if i + 1 < len(self.layers) else None
            fuse = after is not None and _applies(layer, after[0])
            own = (
                layer
                if isinstance(layer, Layer)
                else partial(call_layer, layer, path=self._join(str(i)))
            )
            plan.append((own, after if fuse else None))
            i += 2 if fuse else 1
        return plan

    def compute(self, x: Any, mask: Any = None) -> Any:
        """
        Parameters
        ----------
        x : array
        mask : array of bool, shape (batch, time), optional
            Which places of sequences hold a value, for the layers that take a mask while x still
            has these axes.
        """
        if mask is not None:
            return self._masked(x, mask)
        if PASS.observer is not None:
            for i, layer in enumerate(self.layers):
                x = call_layer(layer, x, self._join(str(i)))
            return x
        if PASS.merged:
            for layer in self._merged():
                x = layer(x)
            return x
        if self._plan is None or self._plan_for != Arena.generation:
            self._plan, self._plan_for = self._planned(), Arena.generation
        for layer, activation in self._plan:
            x = layer(x) if activation is None else layer(x, activation)
        return x

    def _masked(self, x: Any, mask: Any) -> Any:
        given = np.asarray(held(mask))
        if given.dtype == bool:
            x = zero_nonfinite(x, ~given)
        for i, layer in enumerate(self.layers):
            if (
                isinstance(layer, Layer)
                and np.shape(x)[:2] == np.shape(mask)
                and takes_mask(type(layer).compute)
            ):
                x = layer(x, mask=mask)
            else:
                x = call_layer(layer, x, self._join(str(i)))
        return x

    def _merged(self) -> list[Any]:
        """Layers, with runs of dense ones put together."""
        if self._merged_plan is not None and self._merged_for == Arena.generation:
            return self._merged_plan
        merged: list[Any] = []
        run: list[RunItem] = []
        dropout: Dropout | None = None
        for layer, activation in [*self._planned(), (None, None)]:
            if type(layer) is Dense and (layer.activation is None or fusable(layer.activation)):
                run.append((layer, activation or fusable(layer.activation), dropout))
                dropout = None
                continue
            if dropout is None and _drops_values(layer):
                dropout = layer
                continue
            merged += _run_of(run) + ([] if dropout is None else [dropout])
            run, dropout = [], None
            merged += [_with_activation(layer, activation)] if layer is not None else []
        self._merged_plan, self._merged_for = merged, Arena.generation
        return merged


@cache
def takes_mask(compute: Callable[..., Any]) -> bool:
    """Whether a layer's computation is told which places of sequences hold a value."""
    return "mask" in signature(compute).parameters


def _applies(layer: Any, activation: str) -> bool:
    """Whether a layer can apply the activation that follows it together with its own work."""
    if type(layer) in (Dense, Convolution):
        return layer.activation is None
    return type(layer) is BatchNorm and activation in FLOORS


def held_array(value: Any) -> Any:
    """The array itself of a parameter, not a view of it."""
    return value._array if isinstance(value, Tensor) else value


def _with_activation(layer: Any, activation: tuple[str, float] | None) -> LayerLike:
    return layer if activation is None else lambda x: layer(x, activation)


def _drops_values(layer: Any) -> bool:
    """Whether a layer is a dropout that a dense layer behind it can do along with its own work."""
    return type(layer) is Dropout and not layer.whole_channels and layer._declared


def _run_of(run: Sequence[RunItem]) -> list[LayerLike]:
    """Dense layers as one operation, where that saves anything."""
    if len(run) == 1 and run[0][2] is None:
        return [_with_activation(*run[0][:2])]
    return [DenseRun(run)] if run else []


class DenseRun:
    """Dense layers one after another, with the dropout before them, computed as one operation."""

    def __init__(self, run: Sequence[RunItem]) -> None:
        first = run[0][0]
        self.first = first
        self.weights = [array for layer, _, _ in run for array in (layer.weight, layer.bias)]
        self.arrays = [held_array(weight) for weight in self.weights]
        activations, dropouts = zip(*(item[1:] for item in run), strict=True)
        self.plan = ChainPlan.of(activations, self.arrays, dropouts)
        self.wanted = [False, *(isinstance(weight, Tensor) for weight in self.weights)]
        self.is_standard = all(map(is_standard, self.arrays))
        self.has_dropout = any(dropout is not None for dropout in dropouts)

    def admitted(self, inputs: np.ndarray) -> np.ndarray:
        """Inputs as the kernels take them, of the width and in the precision of the layers."""
        dtype = self.arrays[0].dtype
        x = inputs if inputs.dtype == dtype else inputs.astype(dtype)
        if x.shape[1] != self.plan.widths[0]:
            self.first.check_input(x)
        return standard(x)

    def __call__(self, x: Any) -> Any:
        self.first.check_input(x)
        return dense_chain(x, *self.weights, plan=self.plan, streams=self.plan.streams(x.shape))


def single_run(network: Layer) -> DenseRun | None:
    """The run of dense layers that a network consists of and nothing else, if all of it is trained
    and kernels are on.
    """
    if type(network) is not Stack or not usable() or network.arena is None:
        return None
    merged = network._merged()
    if (
        len(merged) != 1
        or not isinstance(merged[0], DenseRun)
        or not merged[0].is_standard
        or not all(merged[0].wanted[1:])
    ):
        return None
    return merged[0] if len(set(map(id, merged[0].weights))) == len(merged[0].weights) else None


@part("residual", "layer")
class Residual(Layer):
    """A body and a way around it: ``body(x) + shortcut(x)``, the shortcut being `x` itself by
    default.

    K. He, X. Zhang, S. Ren and J. Sun, "Deep Residual Learning for Image Recognition", CVPR 2016,
    equation 1.

    Raises
    ------
    ShapeError
        If body and shortcut differ in shape.

    Examples
    --------
    >>> Residual(np.square).initialise(np.ones((1, 2)))(np.full((1, 2), 3.0))
    array([[12., 12.]], dtype=float32)
    """

    def __init__(self, body: LayerLike, shortcut: LayerLike | None = None) -> None:
        self.body, *rest = _checked("Residual", (body,) if shortcut is None else (body, shortcut))
        self.shortcut = rest[0] if rest else None

    def compute(self, x: Any) -> Any:
        around = (
            x if self.shortcut is None else call_layer(self.shortcut, x, self._join("shortcut"))
        )
        through = call_layer(self.body, x, self._join("body"))
        if through.shape != around.shape:
            raise ShapeError(
                f"{self._label}: the body gives shape {through.shape}, the shortcut "
                f"{around.shape}. Give a shortcut that "
                "changes the shape likewise, such as Dense(width)."
            )
        return through + around


class _Branches(Layer):
    def __init__(self, *branches: LayerLike) -> None:
        if not branches:
            raise LayerError(f"{type(self).__name__} needs at least one branch.")
        self.branches = _checked(type(self).__name__, branches)

    def children(self) -> Iterator[tuple[str, Layer]]:
        return _numbered(self.branches)

    def _outputs(self, x: Any) -> list[Any]:
        return [call_layer(branch, x, self._join(str(i))) for i, branch in enumerate(self.branches)]


@part("concat", "layer")
class Concat(_Branches):
    """Branches side by side: their outputs joined along the last axis.

    Examples
    --------
    >>> Concat(np.square, np.negative).initialise(np.ones((1, 2)))(np.full((1, 1), 3.0))
    array([[ 9., -3.]], dtype=float32)
    """

    def compute(self, x: Any) -> Any:
        outputs = self._outputs(x)
        if any(y.shape[:-1] != outputs[0].shape[:-1] for y in outputs):
            shapes = ", ".join(str(tuple(y.shape)) for y in outputs)
            raise ShapeError(
                f"{self._label}: the branches give {shapes}; all but the last axis have to agree."
            )
        return np.concatenate(outputs, axis=-1)


@part("sum", "layer")
class Sum(_Branches):
    """Branches side by side: their outputs added up.

    Examples
    --------
    >>> Sum(np.square, np.negative).initialise(np.ones((1, 2)))(np.full((1, 1), 3.0))
    array([[6.]], dtype=float32)
    """

    def compute(self, x: Any) -> Any:
        outputs = self._outputs(x)
        if any(y.shape != outputs[0].shape for y in outputs):
            raise ShapeError(
                f"{self._label}: the branches give "
                f"{', '.join(str(tuple(y.shape)) for y in outputs)}; they have to agree."
            )
        total = outputs[0]
        for y in outputs[1:]:
            total = total + y
        return total

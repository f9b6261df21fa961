"""Convolution and its transpose, in one to three dimensions, channels last."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import product
from typing import Any

import numpy as np

from .. import kernels
from ..autodiff.fused import Fused
from ..errors import LayerError, ShapeError
from ..initialisers import Initialiser, he_normal, zeros
from .base import Layer
from .windows import Padding, WindowPlan, each_axis, geometry_of, plan_windows, seen_by_window

__all__ = ["Convolution", "TransposedConvolution", "convolution"]

CHUNK = 1 << 18  # elements of an unfolded chunk: a megabyte in float32, to stay in the second-level cache


def _definition(x: Any, weight: Any, bias: Any, *, plan: WindowPlan, groups: int = 1) -> Any:
    """Sum over the places of the window of what it sees there times the weights there."""
    n_in, n_out = weight.shape[-2:]
    total: Any = bias
    for offset, seen in seen_by_window(x, plan):
        if groups == 1:
            total = total + np.matmul(seen, weight[offset])
            continue
        parts = np.reshape(seen, (*seen.shape[:-1], groups, n_in))
        shares = np.reshape(weight[offset], (n_in, groups, n_out // groups))
        total = total + np.reshape(np.einsum("...gi,igo->...go", parts, shares), (*seen.shape[:-1], n_out))
    return total


def _is_pointwise(plan: WindowPlan) -> bool:
    return all(k == 1 for k in plan.size) and all(s == 1 for s in plan.stride) and not plan.is_padded


def _group(array: Any, groups: int, g: int) -> Any:
    width = array.shape[-1] // groups
    return array[..., g * width : (g + 1) * width]


def _padded_volume(x: Any, plan: WindowPlan) -> tuple[Any, np.ndarray]:
    """The input with its padding in memory, and three spatial axes."""
    if plan.is_padded:
        wide = _room_with_padding(x, plan)
        wide[_inside(x, plan)] = x
        x = wide
    return geometry_of(np.ascontiguousarray(x), plan)


def _room_with_padding(x: Any, plan: WindowPlan) -> np.ndarray:
    """Zeros as large as the input with its padding."""
    spatial = (n + sum(pads) for n, pads in zip(x.shape[1:-1], plan.padding, strict=True))
    return np.zeros((x.shape[0], *spatial, x.shape[-1]), x.dtype)


def _inside(x: Any, plan: WindowPlan) -> tuple[slice, ...]:
    """Where the input lies in its padded form."""
    return (slice(None), *(slice(before, before + n) for (before, _), n in zip(plan.padding, x.shape[1:-1], strict=True)))


def _patches(x: Any, plan: WindowPlan, rows: int) -> Iterator[tuple[slice, Any]]:
    """Windows as rows of a matrix, a cache-sized chunk at a time: which rows, and the chunk."""
    if _is_pointwise(plan):
        yield slice(0, rows), x.reshape(rows, x.shape[-1])
        return
    volume, geometry = _padded_volume(x, plan)
    width = int(np.prod(plan.size)) * x.shape[-1]
    across = x.shape[-1] == 1 and plan.stride[-1] == 1
    line = plan.count[-1] if across else 1
    step = max(1, CHUNK // max(width * line, 1)) * line
    work = np.empty((width, min(step, rows)) if across else (min(step, rows), width), x.dtype)
    for start in range(0, rows, step):
        stop = min(start + step, rows)
        if across:
            kernels.convolution.unfold_across(volume, work, start // line, stop // line, geometry)
            yield slice(start, stop), work[:, : stop - start].T
        else:
            kernels.convolution.unfold(volume, work, start, stop, geometry)
            yield slice(start, stop), work[: stop - start]


def _forward(x: Any, weight: Any, bias: Any, *, plan: WindowPlan, groups: int = 1) -> tuple[Any, Any]:
    n_in, n_out = weight.shape[-2:]
    rows = x.shape[0] * int(np.prod(plan.count))
    y = np.empty((rows, n_out), weight.dtype)
    flat = weight.reshape(-1, n_out)
    if groups > 1 and n_in == 1:
        volume, geometry = geometry_of(np.ascontiguousarray(x), plan)
        kernels.convolution.depthwise(volume, flat, y, geometry)
        y += bias
    else:
        for g in range(groups):
            own_y, own_weight, own_bias = _group(y, groups, g), _group(flat, groups, g), _group(bias, groups, g)
            for part, patches in _patches(_group(x, groups, g), plan, rows):
                np.matmul(patches, own_weight, out=own_y[part])
                own_y[part] += own_bias
    return y.reshape(x.shape[0], *plan.count, n_out), None


def _adjoint(
    g: Any, saved: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool], places: Sequence[Any]
) -> list[Any]:
    x, weight, _ = inputs
    plan: WindowPlan = options["plan"]
    groups = options.get("groups", 1)
    n_in, n_out = weight.shape[-2:]
    flat_g = np.ascontiguousarray(g).reshape(-1, n_out)
    g_bias = np.add.reduce(flat_g, axis=0, out=places[2]) if wanted[2] else None
    if groups > 1 and n_in == 1:
        return [*_depthwise_adjoint(flat_g, np.ascontiguousarray(x), weight, plan, places[1]), g_bias]
    g_weight = (places[1] if places[1] is not None else np.empty(weight.shape, weight.dtype)) if wanted[1] else None
    gx = np.empty(x.shape, x.dtype) if wanted[0] else None
    for group in range(groups):
        own_g = _group(flat_g, groups, group)
        if g_weight is not None:
            _weights_adjoint(own_g, _group(x, groups, group), plan, _group(g_weight, groups, group))
        if gx is not None:
            _input_adjoint(own_g, _group(weight.reshape(-1, n_out), groups, group), _group(gx, groups, group), plan)
    return [gx, g_weight, g_bias]


def _depthwise_adjoint(g: Any, x: Any, weight: Any, plan: WindowPlan, place: Any) -> list[Any]:
    volume, geometry = geometry_of(x, plan)
    into_x, into_weight = np.zeros_like(volume), np.zeros((int(np.prod(plan.size)), weight.shape[-1]), weight.dtype)
    kernels.convolution.depthwise_adjoint(g, volume, weight.reshape(-1, weight.shape[-1]), into_x, into_weight, geometry)
    g_weight = into_weight.reshape(weight.shape)
    if place is not None:
        place[...] = g_weight
        g_weight = place
    return [into_x.reshape(x.shape), g_weight]


def _weights_adjoint(g: Any, x: Any, plan: WindowPlan, out: Any) -> None:
    total = None
    for part, patches in _patches(x, plan, g.shape[0]):
        if total is None:
            total = np.matmul(patches.T, g[part])
        else:
            total += np.matmul(patches.T, g[part])
    out[...] = 0 if total is None else total.reshape(out.shape)


def _input_adjoint(g: Any, weight: Any, gx: Any, plan: WindowPlan) -> None:
    rows = g.shape[0]
    if _is_pointwise(plan):
        gx[...] = np.matmul(g, weight.T).reshape(gx.shape)
        return
    wide = _room_with_padding(gx, plan)
    volume, geometry = geometry_of(wide, plan)
    step = max(1, CHUNK // max(weight.shape[0], 1))
    work = np.empty((min(step, rows), weight.shape[0]), gx.dtype)
    for start in range(0, rows, step):
        stop = min(start + step, rows)
        columns = np.matmul(g[start:stop], weight.T, out=work[: stop - start])
        kernels.convolution.fold(columns, volume, start, stop, geometry)
    gx[...] = wide[_inside(gx, plan)]


convolution = Fused("convolution", definition=_definition, forward=_forward, adjoint=_adjoint)


class Convolution(Layer):
    """Weighted sums over windows, the same weights everywhere.

    In one, two or three dimensions, as the input has: ``(batch, time, channels)``, ``(batch, height, width, channels)`` or
    ``(batch, depth, height, width, channels)``. What it computes is the operator Conv of the open standard ONNX (a correlation:
    the window is not mirrored), with channels last.

    Parameters
    ----------
    channels : int
        Of the output.
    window : int or sequence of int
        Size along each spatial axis.
    stride, dilation : int or sequence of int
    padding : {"same", "valid"}, int, or sequence
        "same" makes the output ``ceil(n / stride)`` long; a number pads each side; for each axis a number or a pair.
    groups : int
        Channels in so many groups that do not see each other; as many as there are channels is the depthwise convolution.
    activation : callable, optional
    weights : initialiser, optional
        He's normal by default.

    Attributes
    ----------
    weight : Tensor, shape (*window, channels_in // groups, channels)
    bias : Tensor, shape (channels,)

    Raises
    ------
    ShapeError
        If the input has no spatial axis, another number of channels, or is smaller than the window.
    LayerError
        If groups do not divide the channels.

    Examples
    --------
    >>> layer = Convolution(1, 2, padding="valid", weights=vs.initialisers.ones).initialise(np.ones((1, 4, 1)))
    >>> layer(np.arange(4.0, dtype=np.float32).reshape(1, 4, 1)).array.ravel()
    array([1., 3., 5.], dtype=float32)
    """

    def __init__(
        self,
        channels: int,
        window: int | Sequence[int],
        *,
        stride: int | Sequence[int] = 1,
        dilation: int | Sequence[int] = 1,
        padding: Padding = "same",
        groups: int = 1,
        activation: Callable[..., Any] | None = None,
        weights: Initialiser = he_normal,
    ) -> None:
        if channels < 1 or groups < 1:
            raise LayerError(f"Convolution: channels and groups must be at least 1, got {channels} and {groups}.")
        self.channels, self.window, self.stride, self.dilation = channels, window, stride, dilation
        self.padding, self.groups, self.activation, self.weights_from = padding, groups, activation, weights

    weight: Any
    bias: Any

    def declare(self, shape: tuple[int, ...]) -> None:
        ndim = len(shape) - 2
        if not 1 <= ndim <= 3:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, ..., channels) with one to three axes between, got {shape}. "
                "Grey pictures need an axis of one channel: x[..., None]."
            )
        if shape[-1] % self.groups or self.channels % self.groups:
            raise LayerError(f"{self._label}: {self.groups} groups do not divide {shape[-1]} channels in and {self.channels} out evenly.")
        window = each_axis(self.window, ndim, f"{self._label}: window")
        self.parameter("weight", (*window, shape[-1] // self.groups, self.channels), self.weights_from)
        self.parameter("bias", (self.channels,), zeros)

    def compute(self, x: Any) -> Any:
        y = convolution(x, self.weight, self.bias, plan=self.plan_for(x.shape), groups=self.groups)
        return y if self.activation is None else self.activation(y)

    def plan_for(self, shape: tuple[int, ...]) -> WindowPlan:
        """Where the windows lie on an input of this shape."""
        window = self.weight.shape[:-2]
        ndim, n_in = len(window), self.weight.shape[-2] * self.groups
        if len(shape) != ndim + 2 or shape[-1] != n_in:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, {'..., ' * ndim}{n_in}) with {ndim} spatial axes, got {tuple(shape)}. "
                "Initialise the network again on a sample of this shape, or bring the input to the other one."
            )
        stride, dilation = (
            each_axis(self.stride, ndim, f"{self._label}: stride"),
            each_axis(self.dilation, ndim, f"{self._label}: dilation"),
        )
        return plan_windows(self._label, shape[1:-1], window, stride, dilation, self.padding)

    def multiply_adds(self, shape: tuple[int, ...], output: tuple[int, ...]) -> int:
        return int(np.prod(output[:-1], dtype=np.int64)) * int(self.weight.size)


class TransposedConvolution(Layer):
    """The adjoint of a convolution as a layer: each input value is spread over a window, scaled by the weights.

    What it computes is the operator ConvTranspose of the open standard ONNX, with channels last and no output padding.

    Parameters
    ----------
    channels : int
        Of the output.
    window, stride : int or sequence of int
    padding : {"same", "valid"} or int
        What is cut off the result: "same" makes it ``n * stride`` long, "valid" cuts nothing, a number cuts each side.
    activation : callable, optional
    weights : initialiser, optional

    Attributes
    ----------
    weight : Tensor, shape (*window, channels_in, channels)
    bias : Tensor, shape (channels,)

    Examples
    --------
    >>> layer = TransposedConvolution(1, 2, stride=2, weights=vs.initialisers.ones).initialise(np.ones((1, 2, 1)))
    >>> layer(np.array([[[1.0], [2.0]]], np.float32)).array.ravel()
    array([1., 1., 2., 2.], dtype=float32)
    """

    def __init__(
        self,
        channels: int,
        window: int | Sequence[int],
        *,
        stride: int | Sequence[int] = 1,
        padding: str | int = "same",
        activation: Callable[..., Any] | None = None,
        weights: Initialiser = he_normal,
    ) -> None:
        if channels < 1:
            raise LayerError(f"TransposedConvolution: channels must be at least 1, got {channels}.")
        self.channels, self.window, self.stride = channels, window, stride
        self.padding, self.activation, self.weights_from = padding, activation, weights

    weight: Any
    bias: Any

    def declare(self, shape: tuple[int, ...]) -> None:
        ndim = len(shape) - 2
        if not 1 <= ndim <= 3:
            raise ShapeError(f"{self._label}: expected input of shape (batch, ..., channels) with one to three axes between, got {shape}.")
        window = each_axis(self.window, ndim, f"{self._label}: window")
        self.parameter("weight", (*window, shape[-1], self.channels), self.weights_from)
        self.parameter("bias", (self.channels,), zeros)

    def compute(self, x: Any) -> Any:
        window = self.weight.shape[:-2]
        ndim = len(window)
        if x.ndim != ndim + 2 or x.shape[-1] != self.weight.shape[-2]:
            raise ShapeError(
                f"{self._label}: expected input with {ndim} spatial axes and {self.weight.shape[-2]} channels, got {tuple(x.shape)}."
            )
        stride = each_axis(self.stride, ndim, f"{self._label}: stride")
        full = [(n - 1) * s + k for n, s, k in zip(x.shape[1:-1], stride, window, strict=True)]
        total: Any = np.zeros((x.shape[0], *full, self.channels), x.dtype)
        for offset in product(*(range(k) for k in window)):
            part = np.matmul(x, self.weight[offset])
            total = total + _spread(part, offset, stride, full)
        cut = tuple(slice(b, n - a) for (b, a), n in zip(self._cuts(x.shape[1:-1], full, stride), full, strict=True))
        y = total[(slice(None), *cut)] + self.bias
        return y if self.activation is None else self.activation(y)

    def _cuts(self, spatial: Sequence[int], full: Sequence[int], stride: Sequence[int]) -> list[tuple[int, int]]:
        if self.padding == "valid":
            return [(0, 0)] * len(full)
        if self.padding == "same":
            extra = [max(f - n * s, 0) for f, n, s in zip(full, spatial, stride, strict=True)]
            return [(e // 2, e - e // 2) for e in extra]
        if isinstance(self.padding, int) and 0 <= 2 * self.padding < min(full):
            return [(self.padding, self.padding)] * len(full)
        raise LayerError(f'{self._label}: padding is "same", "valid" or a number that leaves something, got {self.padding!r}.')

    def multiply_adds(self, shape: tuple[int, ...], output: tuple[int, ...]) -> int:
        return int(np.prod(shape[:-1], dtype=np.int64)) * int(self.weight.size)


def _spread(x: Any, offset: Sequence[int], stride: Sequence[int], full: Sequence[int]) -> Any:
    """Values set apart by the stride, beginning at the offset, zeros between."""
    from ..autodiff.rules.indexing import scatter

    index = (slice(None), *(slice(o, o + (n - 1) * s + 1, s) for o, n, s in zip(offset, x.shape[1:-1], stride, strict=True)))
    return scatter(x, index=index, shape=(x.shape[0], *full, x.shape[-1]))

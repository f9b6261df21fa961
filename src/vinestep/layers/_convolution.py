"""Convolution and its transpose, in one to three dimensions, channels last."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise, product
from typing import Any

import numpy as np

from .. import kernels
from ..autodiff.fused import Fused
from ..autodiff.signatures import Signature, misfit, standard
from ..errors import LayerError, ShapeError
from ..initialisers import Initialiser, he_normal, zeros
from ..kernels.machinery.pool import in_parts
from ..kernels.products import gathered_product, product_with_transposed, transposed_product
from ..parts._registry import part
from ._base import Layer
from ._dense import (
    DEFINITIONS,
    FLOORS,
    activate,
    affine,
    fusable,
    through_activation,
)
from ._window_geometry import (
    Padding,
    WindowPlan,
    each_axis,
    geometry_of,
    padded,
    phases_of,
    places_of_windows,
    plan_windows,
    seen_by_window,
)

__all__ = ["Convolution", "TransposedConvolution", "convolution"]


CHUNK = 1 << 18  # elements of input and output that are worked on together: a megabyte in float32
CHUNK_BACK = 1 << 15  # the same on the backward pass, where more room is needed beside them


def _definition(
    x: Any,
    weight: Any,
    bias: Any,
    *,
    plan: WindowPlan,
    groups: int = 1,
    activation: str = "none",
    slope: float = 0.0,
) -> Any:
    """Sum over the places of the window of what it sees there times the weights there."""
    n_in, n_out = weight.shape[-2:]
    total: Any = bias
    for offset, seen in seen_by_window(x, plan):
        if groups == 1:
            total = total + np.matmul(seen, weight[offset])
            continue
        parts = np.reshape(seen, (*seen.shape[:-1], groups, n_in))
        shares = np.reshape(weight[offset], (n_in, groups, n_out // groups))
        total = total + np.reshape(
            np.einsum("...gi,igo->...go", parts, shares), (*seen.shape[:-1], n_out)
        )
    return DEFINITIONS[activation](total, slope)


def _is_pointwise(plan: WindowPlan) -> bool:
    return (
        all(k == 1 for k in plan.size) and all(s == 1 for s in plan.stride) and not plan.is_padded
    )


def _is_depthwise(weight: Any, groups: int) -> bool:
    return groups > 1 and weight.shape[-2] == 1


def _group(array: Any, groups: int, g: int) -> np.ndarray:
    """The channels of a group, contiguous."""
    width = array.shape[-1] // groups
    return np.ascontiguousarray(array[..., g * width : (g + 1) * width])


def _chunks(x: Any, plan: WindowPlan, weight: Any, room: int) -> list[tuple[int, int]]:
    """Examples taken together, with so many elements of input and output: their padded forms stay
    in the cache.

    They do not depend on the number of threads. There are no more chunks than make their gradients
    by the weights, one each until they are added up, take the room of the input.
    """
    n = x.shape[0]
    most = max(1, min(n, x.size // weight.size))
    count = max(1, min(most, (x.size + n * weight.shape[-1] * int(np.prod(plan.count))) // room))
    return list(pairwise(n * i // count for i in range(count + 1)))


def _forward(
    x: Any,
    weight: Any,
    bias: Any,
    *,
    plan: WindowPlan,
    groups: int = 1,
    activation: str = "none",
    slope: float = 0.0,
) -> Any:
    if (
        _is_depthwise(weight, groups) and plan.is_padded and not np.isfinite(weight).all()
    ):  # its loop leaves the padding out
        return NotImplemented
    n_out = weight.shape[-1]
    x = np.ascontiguousarray(x, weight.dtype)
    y = np.empty((x.shape[0], *plan.count, n_out), weight.dtype)
    flat = weight.reshape(-1, n_out)
    if _is_pointwise(plan) and groups == 1:
        y = affine(x.reshape(-1, x.shape[-1]), flat, bias, activation, slope).reshape(y.shape)
        return y, y

    def compute(start: int, stop: int) -> None:
        own = y[start:stop].reshape(-1, n_out)
        if _is_depthwise(weight, groups):
            volume, geometry = geometry_of(x[start:stop], plan)
            kernels.convolution.depthwise(volume, flat, own, geometry)
            activate(own, bias, activation, slope)
        else:
            _gathered_forward(x[start:stop], flat, bias, own, plan, groups, activation, slope)

    in_parts(compute, _chunks(x, plan, weight, CHUNK))
    return y, y


def _gathered_forward(
    x: Any,
    weight: Any,
    bias: Any,
    y: Any,
    plan: WindowPlan,
    groups: int,
    activation: str,
    slope: float,
) -> None:
    source = padded(x, plan.padding).reshape(-1)
    firsts, within = places_of_windows(plan, x.shape, groups)
    direct, floor = activation in FLOORS, FLOORS.get(activation, -np.inf)
    for g in range(groups):
        own_bias = _group(bias, groups, g) if direct else None
        part = gathered_product(
            source,
            firsts,
            within[g],
            _group(weight, groups, g),
            own_bias,
            floor=floor,
            out=y if groups == 1 else None,
        )
        if groups > 1:
            y[:, g * part.shape[1] : (g + 1) * part.shape[1]] = part
    if not direct:
        activate(y, bias, activation, slope)


def _adjoint(
    g: Any,
    y: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> Any:
    x, weight, _ = inputs
    if not np.isfinite(weight).all():  # zeros laid around the cotangent would meet them
        return NotImplemented
    if (
        _is_depthwise(weight, options.get("groups", 1))
        and options["plan"].is_padded
        and not np.isfinite(np.sum(g) + np.sum(y))
    ):
        return NotImplemented
    plan, groups = options["plan"], options.get("groups", 1)
    activation, slope, n_out = (
        options.get("activation", "none"),
        options.get("slope", 0.0),
        weight.shape[-1],
    )
    x = np.ascontiguousarray(x, weight.dtype)
    gx = np.empty(x.shape, weight.dtype) if wanted[0] else None
    find = (
        _pointwise_adjoint
        if _is_pointwise(plan) and groups == 1
        else _depthwise_adjoint
        if _is_depthwise(weight, groups)
        else _gathered_adjoint
    )
    transposed = (
        _transposed(weight, plan, x.shape, groups)
        if wanted[0] and find is _gathered_adjoint
        else []
    )

    def compute(start: int, stop: int) -> tuple[np.ndarray | None, np.ndarray]:
        g_bias, part = np.empty(n_out, weight.dtype), slice(start, stop)
        gz = through_activation(
            standard(g[part]).reshape(-1, n_out),
            y[part].reshape(-1, n_out),
            g_bias,
            activation,
            slope,
        )
        return find(
            gz,
            x[part],
            weight,
            transposed,
            plan,
            groups,
            None if gx is None else gx[part],
            wanted[1],
        ), g_bias

    chunks = [(0, len(x))] if find is _pointwise_adjoint else _chunks(x, plan, weight, CHUNK_BACK)
    by_weight, by_bias = zip(*in_parts(compute, chunks), strict=True)
    result = [
        _added(parts, place) if want else None
        for parts, place, want in zip((by_weight, by_bias), places[1:3], wanted[1:3], strict=True)
    ]
    return [gx, *result]


def _added(parts: Sequence[Any], place: np.ndarray | None) -> np.ndarray:
    return np.add.reduce(
        parts, axis=0, out=np.empty(parts[0].shape, parts[0].dtype) if place is None else place
    )


def _pointwise_adjoint(
    g: Any,
    x: Any,
    weight: Any,
    transposed: Any,
    plan: WindowPlan,
    groups: int,
    gx: Any,
    by_weight: bool,
) -> Any:
    n_in, n_out = weight.shape[-2:]
    if gx is not None:
        gx[...] = product_with_transposed(g, weight.reshape(n_in, n_out)).reshape(gx.shape)
    return transposed_product(x.reshape(-1, n_in), g).reshape(weight.shape) if by_weight else None


def _depthwise_adjoint(
    g: Any,
    x: Any,
    weight: Any,
    transposed: Any,
    plan: WindowPlan,
    groups: int,
    gx: Any,
    by_weight: bool,
) -> Any:
    volume, geometry = geometry_of(x, plan)
    into_x, flat = np.zeros_like(volume), weight.reshape(-1, weight.shape[-1])
    into_weight = np.zeros(flat.shape, weight.dtype)
    kernels.convolution.depthwise_adjoint(g, volume, flat, into_x, into_weight, geometry)
    if gx is not None:
        gx[...] = into_x.reshape(x.shape)
    return into_weight.reshape(weight.shape)


def _gathered_adjoint(
    g: Any,
    x: Any,
    weight: Any,
    transposed: Any,
    plan: WindowPlan,
    groups: int,
    gx: Any,
    by_weight: bool,
) -> Any:
    if gx is not None:
        _input_adjoint(g, transposed, plan, gx)
    if not by_weight:
        return None
    source = padded(x, plan.padding).reshape(-1)
    firsts, within = places_of_windows(plan, x.shape, groups)
    parts = [
        gathered_product(source, within[own], firsts, _group(g, groups, own))
        for own in range(groups)
    ]
    return (parts[0] if groups == 1 else np.concatenate(parts, axis=1)).reshape(weight.shape)


def _transposed(
    weight: Any, plan: WindowPlan, shape: tuple[int, ...], groups: int
) -> list[list[np.ndarray]]:
    """The weights that lead back, for each phase and group: (places of the window and channels out,
    channels in).
    """
    _, phases = phases_of(plan, (1, *shape[1:]), weight.shape[-1], groups)
    seen = [weight[np.ix_(*phase.offsets)] for phase in phases]
    return [
        [
            np.ascontiguousarray(np.swapaxes(_group(part, groups, g), -1, -2)).reshape(
                -1, weight.shape[-2]
            )
            for g in range(groups)
        ]
        for part in seen
    ]


def _input_adjoint(g: Any, transposed: list[list[np.ndarray]], plan: WindowPlan, gx: Any) -> None:
    groups, n_in = len(transposed[0]), transposed[0][0].shape[1]
    pads, phases = phases_of(plan, gx.shape, g.shape[1], groups)
    source = padded(g.reshape(gx.shape[0], *plan.count, g.shape[1]), pads).reshape(-1)
    if groups == len(phases) == 1:
        gathered_product(
            source, phases[0].rows, phases[0].columns[0], transposed[0][0], out=gx.reshape(-1, n_in)
        )
        return
    for phase, weights in zip(phases, transposed, strict=True):
        parts = [
            gathered_product(source, phase.rows, columns, own)
            for columns, own in zip(phase.columns, weights, strict=True)
        ]
        target = gx[phase.where]
        target[...] = np.concatenate(parts, axis=1).reshape(target.shape)


def _check_plan(
    sizes: Mapping[str, Any], arrays: Sequence[Any], options: Mapping[str, Any]
) -> None:
    plan, groups = options["plan"], options.get("groups", 1)
    if not plan.lies_on(sizes["*space"]) or sizes["*window"] != plan.size:
        raise misfit(
            "convolution",
            f"windows of {sizes['*window']} on an input of {sizes['*space']} are not those "
            f"planned, {plan}.",
        )
    if groups < 1 or sizes["channels"] != groups * sizes["n_in"] or sizes["n_out"] % groups:
        raise misfit(
            "convolution",
            f"{groups} groups of {sizes['n_in']} do not make {sizes['channels']} channels, or do "
            f"not divide {sizes['n_out']}.",
        )


convolution = Fused(
    "convolution",
    definition=_definition,
    forward=_forward,
    adjoint=_adjoint,
    form=Signature(
        also=_check_plan, x="batch *space channels", weight="*window n_in n_out", bias="n_out"
    ),
    any_cotangent=True,
)


@part("convolution", "layer")
class Convolution(Layer):
    """Weighted sums over windows, the same weights everywhere.

    In one, two or three dimensions, as the input has: ``(batch, time, channels)``, ``(batch,
    height, width, channels)`` or ``(batch, depth, height, width, channels)``. What it computes is
    the operator Conv of the open standard ONNX (a correlation: the window is not mirrored), with
    channels last.

    Parameters
    ----------
    channels : int
        Of the output.
    window : int or sequence of int
        Size along each spatial axis.
    stride, dilation : int or sequence of int
    padding : {"same", "valid"}, int, or sequence
        "same" makes the output ``ceil(n / stride)`` long; a number pads each side; for each axis a
        number or a pair.
    groups : int
        Channels in so many groups that do not see each other; as many as there are channels is the
        depthwise convolution.
    activation : callable, optional
    initialiser : initialiser, optional
        He's normal by default.

    Attributes
    ----------
    weight : Tensor, shape ``(*window, channels_in // groups, channels)``
    bias : Tensor, shape (channels,)

    Raises
    ------
    ShapeError
        If the input has no spatial axis, another number of channels, or is smaller than the window.
    LayerError
        If groups do not divide the channels.

    Examples
    --------
    >>> layer = Convolution(1, 2, padding="valid", initialiser=vs.initialisers.ones).initialise(
    ...     np.ones((1, 4, 1))
    ... )
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
        initialiser: Initialiser = he_normal,
    ) -> None:
        if channels < 1 or groups < 1:
            raise LayerError(
                f"Convolution: channels and groups must be at least 1, got {channels} and {groups}."
            )
        self.channels, self.window, self.stride, self.dilation = channels, window, stride, dilation
        self.padding, self.groups, self.activation, self.initialiser = (
            padding,
            groups,
            activation,
            initialiser,
        )

    _planned_by = ("activation",)
    weight: Any
    bias: Any

    def declare(self, shape: tuple[int, ...]) -> None:
        ndim = len(shape) - 2
        if not 1 <= ndim <= 3:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, ..., channels) with one to three "
                f"axes between, got {shape}. "
                "Grey pictures need an axis of one channel: x[..., None]."
            )
        if shape[-1] % self.groups or self.channels % self.groups:
            raise LayerError(
                f"{self._label}: {self.groups} groups do not divide {shape[-1]} channels in and "
                f"{self.channels} out evenly."
            )
        window = each_axis(self.window, ndim, f"{self._label}: window")
        self.parameter(
            "weight", (*window, shape[-1] // self.groups, self.channels), self.initialiser
        )
        self.parameter("bias", (self.channels,), zeros)

    def compute(self, x: Any, *following: Any) -> Any:
        fused = following[0] if following else fusable(self.activation)
        name, slope = fused or ("none", 0.0)
        plan = self.plan_for(x.shape)
        y = convolution(
            x, self.weight, self.bias, plan=plan, groups=self.groups, activation=name, slope=slope
        )
        return y if fused or self.activation is None else self.activation(y)

    def plan_for(self, shape: tuple[int, ...]) -> WindowPlan:
        """Where the windows lie on an input of this shape."""
        window = self.weight.shape[:-2]
        ndim, n_in = len(window), self.weight.shape[-2] * self.groups
        if len(shape) != ndim + 2 or shape[-1] != n_in:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, {'..., ' * ndim}{n_in}) with "
                f"{ndim} spatial axes, got {tuple(shape)}. "
                "Initialise the network again on a sample of this shape, or bring the input to "
                "the other one."
            )
        stride, dilation = (
            each_axis(self.stride, ndim, f"{self._label}: stride"),
            each_axis(self.dilation, ndim, f"{self._label}: dilation"),
        )
        return plan_windows(self._label, shape[1:-1], window, stride, dilation, self.padding)

    def multiply_adds(self, shape: tuple[int, ...], output: tuple[int, ...]) -> int:
        return int(np.prod(output[:-1], dtype=np.int64)) * int(self.weight.size)


@part("transposed_convolution", "layer")
class TransposedConvolution(Layer):
    """The adjoint of a convolution as a layer: each input value is spread over a window, scaled by
    the weights.

    What it computes is the operator ConvTranspose of the open standard ONNX, with channels last and
    no output padding.

    Parameters
    ----------
    channels : int
        Of the output.
    window, stride : int or sequence of int
    padding : {"same", "valid"} or int
        What is cut off the result: "same" makes it ``n * stride`` long, "valid" cuts nothing, a
        number cuts each side.
    activation : callable, optional
    initialiser : initialiser, optional

    Attributes
    ----------
    weight : Tensor, shape ``(*window, channels_in, channels)``
    bias : Tensor, shape (channels,)

    Examples
    --------
    >>> layer = TransposedConvolution(
    ...     1, 2, stride=2, initialiser=vs.initialisers.ones
    ... ).initialise(np.ones((1, 2, 1)))
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
        initialiser: Initialiser = he_normal,
    ) -> None:
        if channels < 1:
            raise LayerError(f"TransposedConvolution: channels must be at least 1, got {channels}.")
        self.channels, self.window, self.stride = channels, window, stride
        self.padding, self.activation, self.initialiser = padding, activation, initialiser

    weight: Any
    bias: Any

    def declare(self, shape: tuple[int, ...]) -> None:
        ndim = len(shape) - 2
        if not 1 <= ndim <= 3:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, ..., channels) with one to three "
                f"axes between, got {shape}."
            )
        window = each_axis(self.window, ndim, f"{self._label}: window")
        self.parameter("weight", (*window, shape[-1], self.channels), self.initialiser)
        self.parameter("bias", (self.channels,), zeros)

    def compute(self, x: Any) -> Any:
        window = self.weight.shape[:-2]
        ndim = len(window)
        if x.ndim != ndim + 2 or x.shape[-1] != self.weight.shape[-2]:
            raise ShapeError(
                f"{self._label}: expected input with {ndim} spatial axes and "
                f"{self.weight.shape[-2]} channels, got {tuple(x.shape)}."
            )
        stride = each_axis(self.stride, ndim, f"{self._label}: stride")
        full = [(n - 1) * s + k for n, s, k in zip(x.shape[1:-1], stride, window, strict=True)]
        total: Any = np.zeros((x.shape[0], *full, self.channels), x.dtype)
        for offset in product(*(range(k) for k in window)):
            part = np.matmul(x, self.weight[offset])
            total = total + _spread(part, offset, stride, full)
        cut = tuple(
            slice(b, n - a)
            for (b, a), n in zip(self._cuts(x.shape[1:-1], full, stride), full, strict=True)
        )
        y = total[(slice(None), *cut)] + self.bias
        return y if self.activation is None else self.activation(y)

    def _cuts(
        self, spatial: Sequence[int], full: Sequence[int], stride: Sequence[int]
    ) -> list[tuple[int, int]]:
        if self.padding == "valid":
            return [(0, 0)] * len(full)
        if self.padding == "same":
            extra = [max(f - n * s, 0) for f, n, s in zip(full, spatial, stride, strict=True)]
            return [(e // 2, e - e // 2) for e in extra]
        if isinstance(self.padding, int) and 0 <= 2 * self.padding < min(full):
            return [(self.padding, self.padding)] * len(full)
        raise LayerError(
            f'{self._label}: padding is "same", "valid" or a number that leaves something, got '
            f"{self.padding!r}."
        )

    def multiply_adds(self, shape: tuple[int, ...], output: tuple[int, ...]) -> int:
        return int(np.prod(shape[:-1], dtype=np.int64)) * int(self.weight.size)


def _spread(x: Any, offset: Sequence[int], stride: Sequence[int], full: Sequence[int]) -> Any:
    """Values set apart by the stride, beginning at the offset, zeros between."""
    from ..autodiff.rules.indexing import scatter

    index = (
        slice(None),
        *(
            slice(o, o + (n - 1) * s + 1, s)
            for o, n, s in zip(offset, x.shape[1:-1], stride, strict=True)
        ),
    )
    return scatter(x, index=index, shape=(x.shape[0], *full, x.shape[-1]))

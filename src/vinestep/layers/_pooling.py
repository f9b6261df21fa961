"""Pooling, global pooling, upsampling, flattening."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np

from .. import kernels
from ..autodiff.fused import Fused
from ..autodiff.rules.elementwise import as_floats
from ..autodiff.signatures import Signature, misfit
from ..errors import LayerError, ShapeError
from ..kernels.machinery.pool import in_parts, spans
from ..parts._registry import part
from ._base import Layer
from ._window_geometry import (
    Padding,
    WindowPlan,
    each_axis,
    padded,
    places_of_windows,
    plan_windows,
    seen_by_window,
    unpadded,
)

__all__ = [
    "Columns",
    "Flatten",
    "GlobalMax",
    "GlobalMean",
    "MaxPool",
    "MeanPool",
    "Reshape",
    "Upsample",
]

LANES = 8  # channels a loop takes at once


def _largest_definition(x: Any, *, plan: WindowPlan) -> Any:
    return np.max(
        np.stack([seen for _, seen in seen_by_window(as_floats(x), plan, -np.inf)]), axis=0
    )


def _largest_forward(x: Any, *, plan: WindowPlan) -> tuple[Any, Any]:
    wide = padded(x, plan.padding, -np.inf)
    rows, columns = places_of_windows(plan, x.shape, 1, 1)
    y = np.empty((rows.size, x.shape[-1]), x.dtype)

    def compute(start: int, stop: int) -> None:
        kernels.implicit_gemm.largest(wide.reshape(-1), rows, columns[0], y, start, stop)

    in_parts(compute, spans(rows.size, each=columns[0].size * x.shape[-1] // LANES))
    return y.reshape(x.shape[0], *plan.count, x.shape[-1]), y


def _largest_adjoint(
    g: Any,
    y: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    plan = options["plan"]
    wide = padded(inputs[0], plan.padding, -np.inf)
    rows, columns = places_of_windows(plan, inputs[0].shape, 1, 1)
    gx, flat_g = np.zeros(wide.shape, wide.dtype), np.ascontiguousarray(g).reshape(y.shape)
    each = rows.size // max(wide.shape[0], 1)

    def compute(start: int, stop: int) -> None:  # whole examples, as windows may overlap
        kernels.implicit_gemm.largest_adjoint(
            flat_g, wide.reshape(-1), rows, columns[0], y, gx.reshape(-1), start * each, stop * each
        )  # fmt: skip

    in_parts(compute, spans(wide.shape[0], each=each * columns[0].size * y.shape[1] // LANES))
    return [unpadded(gx, plan.padding)]


def _check_plan(
    sizes: Mapping[str, Any], arrays: Sequence[Any], options: Mapping[str, Any]
) -> None:
    if not options["plan"].lies_on(sizes["*space"]):
        raise misfit(
            "max pool",
            f"the windows are not planned for an input of {sizes['*space']}: {options['plan']}.",
        )


largest = Fused(
    "max pool",
    definition=_largest_definition,
    forward=_largest_forward,
    adjoint=_largest_adjoint,
    form=Signature(also=_check_plan, x="batch *space channels"),
)


class _Pool(Layer):
    """What both kinds of pooling share: windows over the spatial axes, as many apart as they are
    long unless said otherwise.
    """

    def __init__(
        self,
        window: int | Sequence[int],
        *,
        stride: int | Sequence[int] | None = None,
        padding: Padding = "valid",
    ) -> None:
        self.window, self.stride, self.padding = window, stride, padding

    def plan_for(self, shape: tuple[int, ...]) -> WindowPlan:
        """Where the windows lie on an input of this shape."""
        ndim = len(shape) - 2
        if not 1 <= ndim <= 3:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, ..., channels) with one to three "
                f"axes between, got {tuple(shape)}."
            )
        window = each_axis(self.window, ndim, f"{self._label}: window")
        stride = (
            window
            if self.stride is None
            else each_axis(self.stride, ndim, f"{self._label}: stride")
        )
        plan = plan_windows(self._label, shape[1:-1], window, stride, (1,) * ndim, self.padding)
        if any(max(pads) >= k for pads, k in zip(plan.padding, plan.size, strict=True)):
            raise LayerError(
                f"{self._label}: padding {plan.padding} is not smaller than the window "
                f"{plan.size}; some windows would see nothing."
            )
        return plan


@part("max_pool", "layer")
class MaxPool(_Pool):
    """The largest value of each window, channel by channel. Equal largest values share the
    derivative.

    The operator MaxPool of the open standard ONNX, with channels last.

    Parameters
    ----------
    window : int or sequence of int
    stride : int or sequence of int, optional
        The window by default.
    padding : "valid", "same" or numbers
        Outside the input lies nothing that could be the largest.

    Examples
    --------
    >>> MaxPool(2).initialise(np.ones((1, 4, 1)))(
    ...     np.array([[[1.0], [3.0], [2.0], [0.0]]])
    ... ).ravel()
    array([3., 2.], dtype=float32)
    """

    def compute(self, x: Any) -> Any:
        return largest(x, plan=self.plan_for(x.shape))


@part("mean_pool", "layer")
class MeanPool(_Pool):
    """The mean of each window, channel by channel; places outside the input do not count.

    The operator AveragePool of the open standard ONNX with count_include_pad=0, channels last.
    Parameters as for `MaxPool`.

    Examples
    --------
    >>> MeanPool(2).initialise(np.ones((1, 4, 1)))(
    ...     np.array([[[1.0], [3.0], [2.0], [0.0]]])
    ... ).ravel()
    array([2., 1.], dtype=float32)
    """

    def compute(self, x: Any) -> Any:
        plan = self.plan_for(x.shape)
        total: Any = 0.0
        for _, seen in seen_by_window(x, plan):
            total = total + seen
        counted = sum(
            seen for _, seen in seen_by_window(np.ones((1, *x.shape[1:-1], 1), x.dtype), plan)
        )
        return total * (1 / counted)


@part("global_mean", "layer")
class GlobalMean(Layer):
    """The mean over all spatial axes: ``(batch, ..., channels)`` to ``(batch, channels)``.

    Examples
    --------
    >>> GlobalMean().initialise(np.ones((1, 2, 2, 3)))(np.ones((5, 2, 2, 3))).shape
    (5, 3)
    """

    def compute(self, x: Any) -> Any:
        return np.mean(x, axis=_spatial(self._label, x))


@part("global_max", "layer")
class GlobalMax(Layer):
    """The largest value over all spatial axes: ``(batch, ..., channels)`` to ``(batch, channels)``.

    Examples
    --------
    >>> GlobalMax().initialise(np.ones((1, 2, 2, 3)))(np.ones((5, 2, 2, 3))).shape
    (5, 3)
    """

    def compute(self, x: Any) -> Any:
        return np.max(x, axis=_spatial(self._label, x))


def _spatial(label: str, x: Any) -> tuple[int, ...]:
    if x.ndim < 3:
        raise ShapeError(
            f"{label}: expected input of shape (batch, ..., channels) with at least one axis "
            f"between, got {tuple(x.shape)}."
        )
    return tuple(range(1, x.ndim - 1))


@part("upsample", "layer")
class Upsample(Layer):
    """Spatial axes made longer by a whole factor.

    Parameters
    ----------
    factor : int or sequence of int
    how : {"nearest", "linear"}
        Repeated, or interpolated linearly between the middles of the values, the outermost held;
        the operator Resize of the open standard ONNX with half_pixel coordinates.

    Examples
    --------
    >>> Upsample(2).initialise(np.ones((1, 2, 1)))(np.array([[[0.0], [4.0]]])).ravel()
    array([0., 0., 4., 4.], dtype=float32)
    >>> Upsample(2, how="linear").initialise(np.ones((1, 2, 1)))(
    ...     np.array([[[0.0], [4.0]]])
    ... ).ravel()
    array([0., 1., 3., 4.], dtype=float32)
    """

    def __init__(
        self, factor: int | Sequence[int], *, how: Literal["nearest", "linear"] = "nearest"
    ) -> None:
        if how not in ("nearest", "linear"):
            raise LayerError(f'Upsample: how must be "nearest" or "linear", got {how!r}.')
        self.factor, self.how = factor, how

    def compute(self, x: Any) -> Any:
        axes = _spatial(self._label, x)
        factors = each_axis(self.factor, len(axes), f"{self._label}: factor")
        for axis, factor in zip(axes, factors, strict=True):
            x = (
                _repeated(x, axis, factor)
                if self.how == "nearest"
                else _interpolated(x, axis, factor)
            )
        return x


def _repeated(x: Any, axis: int, factor: int) -> Any:
    wide = np.expand_dims(x, axis + 1)
    shape = list(wide.shape)
    shape[axis + 1] = factor
    merged = list(x.shape)
    merged[axis] *= factor
    return np.reshape(np.broadcast_to(wide, tuple(shape)), merged)


def _interpolated(x: Any, axis: int, factor: int) -> Any:
    n = x.shape[axis]
    place = np.clip((np.arange(n * factor) + 0.5) / factor - 0.5, 0, n - 1)
    lower = np.minimum(place.astype(int), max(n - 2, 0))
    matrix = np.zeros((n * factor, n), x.dtype)
    matrix[np.arange(n * factor), lower] = 1 - (place - lower)
    if n > 1:
        matrix[np.arange(n * factor), lower + 1] += place - lower
    return np.moveaxis(np.tensordot(x, matrix, axes=([axis], [1])), -1, axis)


@part("flatten", "layer")
class Flatten(Layer):
    """All axes but the batch in one.

    Examples
    --------
    >>> Flatten().initialise(np.ones((1, 2, 3)))(np.ones((5, 2, 3))).shape
    (5, 6)
    """

    def compute(self, x: Any) -> Any:
        return (
            np.reshape(x, (x.shape[0], -1))
            if x.size
            else np.reshape(x, (x.shape[0], int(np.prod(x.shape[1:]))))
        )


@part("columns", "layer")
class Columns(Layer):
    """The columns of a picture as a sequence, from left to right: ``(batch, height, width,
    channels)`` to ``(batch, width, features)``.

    Examples
    --------
    >>> Columns().initialise(np.ones((1, 4, 6, 3)))(np.ones((5, 4, 6, 3))).shape
    (5, 6, 12)
    """

    axes = "batch height width channels"

    def compute(self, x: Any) -> Any:
        batch, height, width, channels = x.shape
        return np.reshape(np.swapaxes(x, 1, 2), (batch, width, height * channels))


@part("reshape", "layer")
class Reshape(Layer):
    """Another shape for each example.

    Parameters
    ----------
    shape : sequence of int
        Without the batch; one of them may be -1.

    Examples
    --------
    >>> Reshape((3, 2)).initialise(np.ones((1, 6)))(np.ones((5, 6))).shape
    (5, 3, 2)
    """

    def __init__(self, shape: Sequence[int]) -> None:
        self.shape = tuple(shape)

    def compute(self, x: Any) -> Any:
        own, asked = int(np.prod(x.shape[1:])), int(np.prod([n for n in self.shape if n != -1]))
        if (own != asked) if -1 not in self.shape else (asked == 0 or own % asked):
            raise ShapeError(
                f"{self._label}: {own} values an example, of shape {tuple(x.shape[1:])}, do not "
                f"make {self.shape}."
            )
        return np.reshape(x, (x.shape[0], *self.shape))

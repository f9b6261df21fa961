"""Where windows lie: sizes, padding and strides along spatial axes, shared by convolution and pooling.

Padding follows the operators Conv, MaxPool and AveragePool of the open standard ONNX: "same" is their SAME_UPPER, so that an odd
remainder is padded at the end; our axes stand in another order, channels last.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import product
from typing import Any

import numpy as np

from ..errors import LayerError, ShapeError

__all__ = ["Padding", "WindowPlan", "each_axis", "geometry_of", "plan_windows", "seen_by_window"]

Padding = str | int | Sequence[Any]


def each_axis(value: int | Sequence[int], ndim: int, name: str, *, least: int = 1) -> tuple[int, ...]:
    """One number for each spatial axis."""
    values = (value,) * ndim if isinstance(value, int | np.integer) else tuple(value)
    if len(values) != ndim or any(not isinstance(v, int | np.integer) or v < least for v in values):
        raise LayerError(f"{name}: expected a whole number of at least {least}, or {ndim} of them, one a spatial axis, got {value!r}.")
    return tuple(int(v) for v in values)


@dataclass(frozen=True, slots=True)
class WindowPlan:
    """Windows along each spatial axis: their size, stride and dilation, the padding before and after, and how many there are."""

    size: tuple[int, ...]
    stride: tuple[int, ...]
    dilation: tuple[int, ...]
    padding: tuple[tuple[int, int], ...]
    count: tuple[int, ...]

    @property
    def is_padded(self) -> bool:
        return any(before or after for before, after in self.padding)


def plan_windows(
    label: str,
    spatial: Sequence[int],
    size: Sequence[int],
    stride: Sequence[int],
    dilation: Sequence[int],
    padding: Padding,
) -> WindowPlan:
    """Where the windows lie on an input of these spatial lengths.

    Raises
    ------
    ShapeError
        If a window is larger than the padded input.
    LayerError
        If the padding is none of those known.
    """
    pads, counts = [], []
    for axis, (n, k, s, d) in enumerate(zip(spatial, size, stride, dilation, strict=True)):
        reach = (k - 1) * d + 1
        before, after = _padding(label, padding, axis, len(size), n, reach, s)
        room = n + before + after - reach
        if room < 0:
            wide = f"{k} (reaching over {reach} with dilation {d})" if d > 1 else str(k)
            raise ShapeError(
                f"{label}: a window of {wide} is larger than the input along spatial axis {axis}, {n} long and padded by "
                f'{before} and {after}. Use a smaller window, padding="same", or a larger input.'
            )
        pads.append((before, after))
        counts.append(room // s + 1)
    return WindowPlan(tuple(size), tuple(stride), tuple(dilation), tuple(pads), tuple(counts))


def _padding(label: str, padding: Padding, axis: int, ndim: int, n: int, reach: int, stride: int) -> tuple[int, int]:
    if padding == "valid":
        return 0, 0
    if padding == "same":
        total = max((-(-n // stride) - 1) * stride + reach - n, 0)
        return total // 2, total - total // 2
    if isinstance(padding, int | np.integer) and padding >= 0:
        return int(padding), int(padding)
    if isinstance(padding, Sequence) and not isinstance(padding, str) and len(padding) == ndim:
        own = padding[axis]
        before, after = (own, own) if isinstance(own, int | np.integer) else tuple(own)
        if before >= 0 and after >= 0:
            return int(before), int(after)
    raise LayerError(
        f'{label}: padding is "same", "valid", a number of at least 0, or for each of {ndim} axes a number or a pair, got {padding!r}.'
    )


def _under(plan: WindowPlan, offset: Sequence[int]) -> tuple[slice, ...]:
    """The elements that one place of the window sees, over all windows."""
    return tuple(
        slice(o * d, o * d + (n - 1) * s + 1, s) for o, d, n, s in zip(offset, plan.dilation, plan.count, plan.stride, strict=True)
    )


def seen_by_window(x: Any, plan: WindowPlan, fill: float = 0.0) -> Iterator[tuple[tuple[int, ...], Any]]:
    """For each place of the window what it sees, over all windows; `fill` outside the input. Arrays and Tensors alike."""
    padded = np.pad(x, ((0, 0), *plan.padding, (0, 0)), constant_values=fill) if plan.is_padded else x
    for offset in product(*(range(k) for k in plan.size)):
        yield offset, padded[(slice(None), *_under(plan, offset))]


def _three(values: Sequence[int], fill: int) -> tuple[int, ...]:
    return (fill,) * (3 - len(values)) + tuple(values)


def geometry_of(x: Any, plan: WindowPlan) -> tuple[Any, np.ndarray]:
    """The input with three spatial axes, and the numbers the loops need."""
    spatial = _three(x.shape[1:-1], 1)
    befores = _three([before for before, _ in plan.padding], 0)
    numbers = [_three(plan.size, 1), _three(plan.stride, 1), _three(plan.dilation, 1), befores, _three(plan.count, 1)]
    return x.reshape(x.shape[0], *spatial, x.shape[-1]), np.array(numbers, dtype=np.int64)

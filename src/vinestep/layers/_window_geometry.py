"""Where windows lie: sizes, padding and strides along spatial axes, shared by convolution and
pooling.

Padding follows the operators Conv, MaxPool and AveragePool of the open standard ONNX: "same" is
their SAME_UPPER, so that an odd remainder is padded at the end; our axes stand in another order,
channels last.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache, reduce
from itertools import product
from math import prod
from typing import Any

import numpy as np

from .. import kernels
from ..errors import LayerError, ShapeError
from ..kernels.machinery.pool import over_rows
from ..kernels.products import index_kind

__all__ = [
    "Padding",
    "Phase",
    "WindowPlan",
    "each_axis",
    "geometry_of",
    "padded",
    "phases_of",
    "places_of_windows",
    "plan_windows",
    "seen_by_window",
    "unpadded",
]

Padding = str | int | Sequence[Any]


def each_axis(
    value: int | Sequence[int], ndim: int, name: str, *, least: int = 1
) -> tuple[int, ...]:
    """One number for each spatial axis."""
    values = (value,) * ndim if isinstance(value, int | np.integer) else tuple(value)
    if len(values) != ndim or any(not isinstance(v, int | np.integer) or v < least for v in values):
        raise LayerError(
            f"{name}: expected a whole number of at least {least}, or {ndim} of them, one a "
            f"spatial axis, got {value!r}."
        )
    return tuple(int(v) for v in values)


@dataclass(frozen=True, slots=True)
class WindowPlan:
    """Windows along each spatial axis: their size, stride and dilation, the padding before and
    after, and how many there are.
    """

    size: tuple[int, ...]
    stride: tuple[int, ...]
    dilation: tuple[int, ...]
    padding: tuple[tuple[int, int], ...]
    count: tuple[int, ...]

    def lies_on(self, spatial: Sequence[int]) -> bool:
        """Whether this is where windows lie on an input of these spatial lengths, and all of them
        inside it with its padding.
        """
        return _lies_on(self, tuple(spatial))

    @property
    def is_padded(self) -> bool:
        return any(before or after for before, after in self.padding)


@lru_cache(maxsize=256)
def _lies_on(plan: WindowPlan, spatial: tuple[int, ...]) -> bool:
    if len(spatial) != len(plan.size):
        return False
    for n, k, s, d, (before, after), count in zip(
        spatial, plan.size, plan.stride, plan.dilation, plan.padding, plan.count, strict=True
    ):
        room = n + before + after - ((k - 1) * d + 1)
        if min(before, after, room) < 0 or min(k, s, d) < 1 or count != room // s + 1:
            return False
    return True


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
                f"{label}: a window of {wide} is larger than the input along spatial axis {axis}, "
                f"{n} long and padded by "
                f'{before} and {after}. Use a smaller window, padding="same", or a larger input.'
            )
        pads.append((before, after))
        counts.append(room // s + 1)
    return WindowPlan(tuple(size), tuple(stride), tuple(dilation), tuple(pads), tuple(counts))


def _padding(
    label: str, padding: Padding, axis: int, ndim: int, n: int, reach: int, stride: int
) -> tuple[int, int]:
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
        f'{label}: padding is "same", "valid", a number of at least 0, or for each of {ndim} axes '
        f"a number or a pair, got {padding!r}."
    )


def _under(plan: WindowPlan, offset: Sequence[int]) -> tuple[slice, ...]:
    """The elements that one place of the window sees, over all windows."""
    return tuple(
        slice(o * d, o * d + (n - 1) * s + 1, s)
        for o, d, n, s in zip(offset, plan.dilation, plan.count, plan.stride, strict=True)
    )


def seen_by_window(
    x: Any, plan: WindowPlan, fill: float = 0.0
) -> Iterator[tuple[tuple[int, ...], Any]]:
    """For each place of the window what it sees, over all windows; `fill` outside the input. Arrays
    and Tensors alike.
    """
    padded = (
        np.pad(x, ((0, 0), *plan.padding, (0, 0)), constant_values=fill) if plan.is_padded else x
    )
    for offset in product(*(range(k) for k in plan.size)):
        yield offset, padded[(slice(None), *_under(plan, offset))]


def _three(values: Sequence[int], fill: int) -> tuple[int, ...]:
    return (fill,) * (3 - len(values)) + tuple(values)


def _volume(x: Any) -> Any:
    """With three spatial axes."""
    return x.reshape(x.shape[0], *_three(x.shape[1:-1], 1), x.shape[-1])


def geometry_of(x: Any, plan: WindowPlan) -> tuple[Any, np.ndarray]:
    """The input with three spatial axes, and the numbers the loops need."""
    befores = _three([before for before, _ in plan.padding], 0)
    numbers = [
        _three(plan.size, 1),
        _three(plan.stride, 1),
        _three(plan.dilation, 1),
        befores,
        _three(plan.count, 1),
    ]
    return _volume(x), np.array(numbers, dtype=np.int64)


def padded(x: np.ndarray, pads: Sequence[tuple[int, int]], fill: float = 0.0) -> np.ndarray:
    """The input with `fill` around it along its spatial axes, contiguous; itself if there is
    nothing to add.
    """
    x = np.ascontiguousarray(x)
    if not any(before or after for before, after in pads):
        return x
    wide = np.empty(_shape_with(x.shape, pads), x.dtype)
    befores = np.array(_three([before for before, _ in pads], 0), np.int64)
    value = x.dtype.type(fill)
    over_rows(
        lambda room, narrow: kernels.convolution.pad(narrow, room, befores, value),
        [_volume(wide), _volume(x)],
    )
    return wide


def unpadded(wide: np.ndarray, pads: Sequence[tuple[int, int]]) -> np.ndarray:
    """What `padded` began with."""
    inside = (
        slice(before, n - after) for n, (before, after) in zip(wide.shape[1:-1], pads, strict=True)
    )
    return wide[(slice(None), *inside)]


def _shape_with(shape: Sequence[int], pads: Sequence[tuple[int, int]]) -> tuple[int, ...]:
    return (
        shape[0],
        *(n + before + after for n, (before, after) in zip(shape[1:-1], pads, strict=True)),
        shape[-1],
    )


def _steps(shape: Sequence[int]) -> list[int]:
    """How many elements further the next one along each axis lies."""
    return [int(np.prod(shape[axis + 1 :], dtype=np.int64)) for axis in range(len(shape))]


def _lattice(shape: Sequence[int], *axes: np.ndarray) -> np.ndarray:
    """Sums of one from each, the last running fastest: places in an array of that shape."""
    places = reduce(np.add.outer, axes).ravel()
    return places.astype(index_kind(prod(shape)))


@lru_cache(maxsize=32)
def places_of_windows(
    plan: WindowPlan, shape: tuple[int, ...], groups: int, channels: int | None = None
) -> tuple[np.ndarray, list[np.ndarray]]:
    """Where each window begins in the padded input of this unpadded shape, and where within a
    window its elements lie, by group.

    With `channels` of 1 only those of the first channel.
    """
    wide = _shape_with(shape, plan.padding)
    examples, *along, _ = _steps(wide)
    firsts = (
        np.arange(n) * s * step for n, s, step in zip(plan.count, plan.stride, along, strict=True)
    )
    within = [
        np.arange(k) * d * step for k, d, step in zip(plan.size, plan.dilation, along, strict=True)
    ]
    parts = np.arange(shape[-1] if channels is None else channels).reshape(groups, -1)
    return _lattice(wide, np.arange(shape[0]) * examples, *firsts), [
        _lattice(wide, *within, own) for own in parts
    ]


@dataclass(frozen=True, slots=True)
class Phase:
    """Places of the input that lie alike between the windows' strides, and the windows that see
    them.
    """

    where: tuple[slice, ...]
    """In the input."""
    offsets: tuple[list[int], ...]
    """Places of the window that fall there, along each axis."""
    rows: np.ndarray
    columns: list[np.ndarray]
    """With the rows, where in the padded cotangent the windows' values lie, by group."""


@lru_cache(maxsize=32)
def phases_of(
    plan: WindowPlan, shape: tuple[int, ...], width: int, groups: int
) -> tuple[list[tuple[int, int]], list[Phase]]:
    """How to collect for an input of this shape what its windows spread: padding of the cotangent,
    `width` channels wide, and phases.

    The window that sees place ``p + m * stride`` with its place o is number ``m + (p + before - o *
    dilation) / stride``, if whole.
    """
    axes = []
    for n, k, s, d, (before, _), count in zip(
        shape[1:-1], plan.size, plan.stride, plan.dilation, plan.padding, plan.count, strict=True
    ):
        found = []
        for p in range(min(s, n)):
            offsets = [o for o in range(k) if (p + before - o * d) % s == 0]
            found.append(
                (
                    p,
                    -(-(n - p) // s),
                    offsets,
                    np.array([(p + before - o * d) // s for o in offsets], np.int64),
                )
            )
        lowest = min((int(shift.min()) for _, _, _, shift in found if shift.size), default=0)
        highest = max((int(shift.max()) + m for _, m, _, shift in found if shift.size), default=0)
        axes.append((s, (max(-lowest, 0), max(highest - count, 0)), found))
    pads = [pad for _, pad, _ in axes]
    wide = _shape_with((shape[0], *plan.count, width), pads)
    examples, *along, _ = _steps(wide)
    channels = np.arange(width).reshape(groups, -1)
    phases = []
    for chosen in product(*(found for _, _, found in axes)):
        firsts = [np.arange(m) * step for (_, m, _, _), step in zip(chosen, along, strict=True)]
        within = [
            (shift + before) * step
            for (_, _, _, shift), (before, _), step in zip(chosen, pads, along, strict=True)
        ]
        phases.append(
            Phase(
                where=(
                    slice(None),
                    *(slice(p, None, s) for (p, *_), (s, *_) in zip(chosen, axes, strict=True)),
                ),
                offsets=tuple(offsets for _, _, offsets, _ in chosen),
                rows=_lattice(wide, np.arange(shape[0]) * examples, *firsts),
                columns=[_lattice(wide, *within, own) for own in channels],
            )
        )
    return pads, phases

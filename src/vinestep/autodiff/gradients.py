"""Gradients: derivatives by path, in one flat array."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from .. import kernels
from .._public_names import did_you_mean
from ..errors import SettingError, ShapeError, UnknownNameError
from ..kernels.machinery.pool import helpers
from .signatures import is_standard

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Gradients", "Layout", "Slot", "euclidean_norm", "pack", "scaled"]


FEW = 2048  # numbers of which a copy costs less than calling a compiled loop
MANY_A_MOMENT = 16  # squares are added up in the time of one element of a simple loop


@dataclass(frozen=True, slots=True)
class Slot:
    """Where one array lies in a flat array."""

    path: str
    start: int
    stop: int
    shape: tuple[int, ...]


class Layout:
    """The order in which arrays of given paths and shapes lie in one flat array."""

    __slots__ = ("_slots", "size")

    def __init__(self, shapes: Iterable[tuple[str, tuple[int, ...]]]) -> None:
        self._slots: dict[str, Slot] = {}
        start = 0
        for path, shape in shapes:
            stop = start + int(np.prod(shape, dtype=np.int64))
            self._slots[path] = Slot(path, start, stop, shape)
            start = stop
        self.size = start

    def __iter__(self) -> Iterator[Slot]:
        return iter(self._slots.values())

    def __len__(self) -> int:
        return len(self._slots)

    def __contains__(self, path: object) -> bool:
        return path in self._slots

    def __getitem__(self, path: str) -> Slot:
        return self._slots[path]

    def view(self, flat: np.ndarray, slot: Slot) -> np.ndarray:
        return flat[slot.start : slot.stop].reshape(slot.shape)

    @property
    def paths(self) -> list[str]:
        return list(self._slots)

    def common(self, other: Layout) -> Iterator[tuple[Slot, Slot]]:
        """Where arrays of the same path and shape lie in this layout and in another."""
        for slot in self:
            if slot.path in other and other[slot.path].shape == slot.shape:
                yield slot, other[slot.path]


class Gradients(Mapping[str, np.ndarray]):
    """Derivatives of one value by several arrays, by path.

    Parameters
    ----------
    layout : Layout
    flat : ndarray, shape (layout.size,)
        All derivatives one after the other, in the layout's order. Not copied.

    Examples
    --------
    >>> w = {"weight": Tensor([1.0, 2.0]), "bias": Tensor([0.5])}
    >>> g = differentiate(np.sum(w["weight"] ** 2) + np.sum(3 * w["bias"]), wrt=w)
    >>> g["weight"]
    array([2., 4.])
    >>> round(g.norm(), 3)
    5.385
    >>> round(g.clipped(1.0).norm(), 3)
    1.0
    """

    __slots__ = ("__weakref__", "flat", "layout")

    def __init__(self, layout: Layout, flat: np.ndarray) -> None:
        if flat.shape != (layout.size,):
            raise ShapeError(
                f"Gradients: expected a flat array of shape ({layout.size},), got {flat.shape}."
            )
        self.layout = layout
        self.flat = flat

    def __getitem__(self, path: str) -> np.ndarray:
        if path not in self.layout:
            raise UnknownNameError(
                f"No gradient for {path!r}. {did_you_mean(str(path), self.layout.paths)}"
            )
        return self.layout.view(self.flat, self.layout[path])

    def __iter__(self) -> Iterator[str]:
        return iter(self.layout.paths)

    def __len__(self) -> int:
        return len(self.layout)

    def __repr__(self) -> str:
        parts = ", ".join(f"{slot.path}: {slot.shape}" for slot in self.layout)
        return f"Gradients({{{parts}}}, norm={self.norm():.4g})"

    def norm(self) -> float:
        """Euclidean norm over all derivatives at once, added up in float64."""
        return euclidean_norm(self.flat)

    def clipped(self, max_norm: float) -> Gradients:
        """The same direction, no longer than `max_norm`; itself if it is short enough.

        R. Pascanu, T. Mikolov and Y. Bengio, "On the Difficulty of Training Recurrent Neural
        Networks", ICML 2013, algorithm 1.
        """
        if not max_norm > 0:
            raise SettingError(f"clipped: max_norm must be positive, got {max_norm}.")
        norm = self.norm()
        return (
            self if norm <= max_norm else Gradients(self.layout, scaled(self.flat, max_norm / norm))
        )

    def by_layer(self) -> pd.Series:
        """Euclidean norm of the derivatives of each layer, a pandas Series indexed by the layer's
        path.
        """
        import pandas as pd

        squares: dict[str, float] = {}
        for path, g in self.items():
            layer = path.rpartition("/")[0] or path
            squares[layer] = squares.get(layer, 0.0) + float(np.sum(np.square(g, dtype=np.float64)))
        return pd.Series(
            {layer: np.sqrt(s) for layer, s in squares.items()}, name="gradient norm", dtype=float
        )

    def copy(self) -> Gradients:
        return Gradients(self.layout, self.flat.copy())


def euclidean_norm(flat: np.ndarray) -> float:
    """Of a flat array; finite whenever its elements are and the norm is a float64."""
    if flat.size <= FEW:
        wide = flat.astype(np.float64)
        total = float(wide.dot(wide))
    else:
        total = _square_sum(flat)
    if math.isfinite(total) or not np.isfinite(flat).all():
        return math.sqrt(total)
    largest = float(np.max(np.abs(flat)))
    return largest * math.sqrt(float(np.sum(np.square(flat / largest, dtype=np.float64))))


def _square_sum(flat: np.ndarray) -> float:
    if kernels.usable() and is_standard(flat):
        try:
            return float(kernels.reductions.square_sum(*helpers(flat.size // MANY_A_MOMENT), flat))
        except kernels.Unsound as error:
            kernels.give_up(error)
    with np.errstate(over="ignore"):
        return float(np.sum(np.square(flat, dtype=np.float64)))


def scaled(flat: np.ndarray, factor: float, out: np.ndarray | None = None) -> np.ndarray:
    """``flat * factor``, also where the factor is too small for the numbers' own precision."""
    if factor >= float(np.finfo(flat.dtype).tiny):
        result: np.ndarray = np.multiply(flat, flat.dtype.type(factor), out=out)
        return result
    wide = np.asarray(flat.astype(np.float64) * factor, flat.dtype)
    if out is None:
        return wide
    out[...] = wide
    return out


def pack(layout: Layout, arrays: Mapping[str, Any], dtype: Any) -> Gradients:
    """Gradients from separate arrays by path."""
    flat = np.empty(layout.size, dtype=dtype)
    for slot in layout:
        layout.view(flat, slot)[...] = arrays[slot.path]
    return Gradients(layout, flat)

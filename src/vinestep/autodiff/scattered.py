"""Cotangents of indexing, which are zero but at a few places."""

from __future__ import annotations

from typing import Any

import numpy as np

__all__ = ["Scattered", "scattered_zeros"]


def _is_basic(index: Any) -> bool:
    parts = index if type(index) is tuple else (index,)
    return all(
        part is None
        or part is Ellipsis
        or (isinstance(part, slice | int | np.integer) and not isinstance(part, bool))
        for part in parts
    )


def scattered_zeros(g: Any, index: Any, shape: tuple[int, ...]) -> Any:
    """Zeros of `shape` with `g` added where `index` points."""
    out = np.zeros(shape, dtype=g.dtype)
    if _is_basic(index) or (type(index) is np.ndarray and index.dtype == bool):
        out[index] = g
    else:
        np.add.at(out, index, g)
    return out


class Scattered:
    """A cotangent that is zero but where `index` points: added to what is there without making the
    zeros.
    """

    __slots__ = ("dtype", "g", "index", "shape")

    def __init__(self, g: Any, index: Any, shape: tuple[int, ...]) -> None:
        self.g, self.index, self.shape, self.dtype = g, index, shape, g.dtype

    def whole(self) -> Any:
        """With the zeros."""
        return scattered_zeros(self.g, self.index, self.shape)

    def add_to(self, total: np.ndarray) -> None:
        """Add in place."""
        if _is_basic(self.index):
            seen = total[self.index]
            if isinstance(seen, np.ndarray):
                np.add(
                    seen, self.g, out=seen
                )  # total[index] += g would copy the view onto itself as well
            else:
                total[self.index] += self.g
        elif type(self.index) is np.ndarray and self.index.dtype == bool:
            total[self.index] += self.g
        else:
            np.add.at(total, self.index, self.g)

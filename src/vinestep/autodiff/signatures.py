"""What the inputs of a fused operation must look like before a compiled loop sees them.

A loop indexes by the shapes of some of its arrays into others and checks nothing. So this is
checked once a call, at the one door that leads to the loops: a misfit is refused in words, and what
is laid out in another way than the loops expect is laid out anew.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import Any

import numpy as np

from ..errors import DTypeError, ShapeError
from .tracking import STATE

__all__ = ["Signature", "Signatures", "is_standard", "misfit", "standard"]

FLOAT32, FLOAT64, WHOLE = (
    np.dtype(np.float32),
    np.dtype(np.float64),
    np.dtype(np.int64),
)
MOST_REMEMBERED = 4096  # shapes that were found to fit

Sizes = Mapping[str, Any]


def is_standard(array: Any) -> bool:
    """Whether loops can run over an array: float32 or float64 of this machine, contiguous, aligned,
    not read-only.
    """
    if type(array) is not np.ndarray:
        return False
    dtype = array.dtype
    return (
        dtype is FLOAT32 or dtype is FLOAT64 or dtype in (FLOAT32, FLOAT64)
    ) and array.flags.carray


def standard(array: np.ndarray) -> np.ndarray:
    """The array, or a contiguous copy of its own."""
    return array if array.flags.carray else np.array(array, order="C")


class Signature:
    """The axes of each input by name; axes of one name are equally long.

    Parameters
    ----------
    also : callable, optional
        ``also(sizes, arrays, options)`` checks what axes do not say, and raises.
    suits : callable, optional
        ``suits(sizes, options)``: whether the loops take arrays of these sizes.
    **axes : str
        For each input its axes, such as ``"*n features"``: a name, a number, or once a starred name
        that stands for any number of axes. ``"whole "`` before them says that the input holds whole
        numbers.

    Examples
    --------
    >>> form = Signature(x="*n i", weight="i o", bias="o")
    >>> form.check("dense", [np.ones((5, 3)), np.ones((3, 2)), np.ones(4)], {})
    Traceback (most recent call last):
    vinestep.errors.ShapeError: dense: expected x (*n, i), weight (i, o), bias (o), got (5, 3), (3, 2), (4,): o is 2 in weight, 4 in bias.
    """  # noqa: E501

    def __init__(
        self,
        *,
        also: Callable[[Sizes, Sequence[Any], Mapping[str, Any]], None] | None = None,
        suits: Callable[[Sizes, Mapping[str, Any]], bool] | None = None,
        **axes: str,
    ) -> None:
        self.names = list(axes)
        self.whole = [text.startswith("whole ") for text in axes.values()]
        self.axes = [text.removeprefix("whole ").split() for text in axes.values()]
        self.also = also
        self.suits = suits
        self._known: dict[Any, Sizes] = {}

    def admit(
        self, operation: str, arrays: Sequence[Any], options: Mapping[str, Any]
    ) -> Sequence[Any] | None:
        """Arrays that fit, as the loops take them; None if the definition has to compute them.
        Raises as `check` does.

        What lies as it should and was seen before goes by quickly, since this is done once a call.
        """
        shapes = []
        dtype = None
        for array, whole in zip(arrays, self.whole, strict=False):
            if type(array) is not np.ndarray or not array.flags.carray:
                break
            shapes.append(array.shape)
            own = array.dtype
            if own is not (WHOLE if whole else dtype):
                if whole or dtype is not None or (own is not FLOAT32 and own is not FLOAT64):
                    break
                dtype = own
        else:
            sizes = self._known.get(tuple(shapes))
            if sizes is not None:
                if self.also is not None:
                    self.also(sizes, arrays, options)
                return arrays if self.suits is None or self.suits(sizes, options) else None
        self.check(operation, arrays, options)
        return self.laid_out(arrays, options)

    def check(self, operation: str, arrays: Sequence[Any], options: Mapping[str, Any]) -> None:
        """
        Raises
        ------
        ShapeError
            If the shapes do not belong together.
        DTypeError
            If whole numbers are wanted and others came.
        """
        shapes = tuple([x.shape if type(x) is np.ndarray else np.shape(x) for x in arrays])
        sizes = self._known.get(shapes)
        if sizes is None:
            sizes = self._sizes(operation, shapes)
            if len(self._known) >= MOST_REMEMBERED:
                self._known.clear()
            self._known[shapes] = sizes
        for whole, array, name in zip(self.whole, arrays, self.names, strict=False):
            kind = array.dtype.kind if type(array) is np.ndarray else np.asarray(array).dtype.kind
            if kind != "f" or whole:
                self._check_kind(
                    operation, name, np.asarray(array).dtype, "iu" if whole else "fiub"
                )
        if self.also is not None:
            self.also(sizes, arrays, options)

    def laid_out(self, arrays: Sequence[Any], options: Mapping[str, Any]) -> list[Any] | None:
        """Arrays that were checked, as the loops expect them; None if their numbers are of another
        or of several kinds.
        """
        if self.suits is not None and not self.suits(
            self._known[tuple([np.shape(x) for x in arrays])], options
        ):
            return None
        dtype = None
        ready = []
        for i, array in enumerate(arrays):
            if i < len(self.whole) and self.whole[i]:
                ready.append(np.asarray(array, WHOLE, order="C"))
                continue
            if (
                type(array) is not np.ndarray
                or array.dtype not in (FLOAT32, FLOAT64)
                or (dtype is not None and array.dtype != dtype)
            ):
                return None
            dtype = array.dtype
            ready.append(array if array.flags.carray else np.array(array, order="C"))
        return ready

    def _sizes(self, operation: str, shapes: tuple[tuple[int, ...], ...]) -> Sizes:
        if len(shapes) != len(self.axes):
            raise misfit(
                operation,
                f"expected {len(self.axes)} inputs, {', '.join(self.names)}; got {len(shapes)}.",
            )
        result: dict[str, tuple[Any, str]] = {}
        for name, axes, shape in zip(self.names, self.axes, shapes, strict=True):
            for axis, size in self._read(operation, axes, shape, shapes):
                wanted, there = result.setdefault(
                    axis, (int(axis) if axis.isdigit() else size, name)
                )
                if wanted != size:
                    known = (
                        f"{axis} is {wanted} in {there}, {size} in {name}"
                        if not axis.isdigit()
                        else f"an axis of {name} has to be {axis}"
                    )
                    raise self._misfit(operation, shapes, known)
        return {axis: size for axis, (size, _) in result.items()}

    def _read(
        self,
        operation: str,
        axes: list[str],
        shape: tuple[int, ...],
        shapes: tuple[tuple[int, ...], ...],
    ) -> list[tuple[str, Any]]:
        starred = next((i for i, axis in enumerate(axes) if axis.startswith("*")), None)
        if len(shape) != len(axes) if starred is None else len(shape) < len(axes) - 1:
            raise self._misfit(operation, shapes, "another number of axes")
        if starred is None:
            return list(zip(axes, shape, strict=True))
        after = len(axes) - starred - 1
        end = len(shape) - after
        return [
            *zip(axes[:starred], shape[:starred], strict=True),
            (axes[starred], shape[starred:end]),
            *zip(axes[starred + 1 :], shape[end:], strict=True),
        ]

    def _check_kind(self, operation: str, name: str, dtype: np.dtype[Any], kinds: str) -> None:
        if dtype.kind not in kinds:
            wanted = "whole numbers" if kinds == "iu" else "real numbers"
            raise DTypeError(f"{_where(operation)}: {name} has to hold {wanted}, got {dtype}.")

    def _misfit(self, operation: str, shapes: tuple[tuple[int, ...], ...], why: str) -> ShapeError:
        wanted = ", ".join(
            f"{name} ({', '.join(axes)})" for name, axes in zip(self.names, self.axes, strict=True)
        )
        return misfit(operation, f"expected {wanted}, got {', '.join(map(str, shapes))}: {why}.")


class Signatures:
    """The forms of an operation that takes any number of inputs.

    Parameters
    ----------
    of : callable
        The form for so many inputs.
    """

    def __init__(self, of: Callable[[int], Signature]) -> None:
        self._of = lru_cache(maxsize=64)(of)

    def check(self, operation: str, arrays: Sequence[Any], options: Mapping[str, Any]) -> None:
        self._of(len(arrays)).check(operation, arrays, options)

    def admit(
        self, operation: str, arrays: Sequence[Any], options: Mapping[str, Any]
    ) -> Sequence[Any] | None:
        return self._of(len(arrays)).admit(operation, arrays, options)


def misfit(operation: str, text: str) -> ShapeError:
    """The error for an option that does not go with the arrays."""
    return ShapeError(f"{_where(operation)}: {text}")


def _where(operation: str) -> str:
    place = STATE.now.place
    return f"{place} ({operation})" if place else operation

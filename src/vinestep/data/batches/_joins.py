"""How examples become a batch."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np

from ...errors import DataError
from ...parts._registry import part
from ._batch import Batch

__all__ = ["Example", "Join", "Padded", "as_example", "stacked", "stacked_as_read"]

Join = Callable[[Sequence["Example"]], Batch]
"""From examples to a batch."""

Example = tuple[Any, Any, Any]
"""Inputs, target and weight; the last two may be None."""


def as_example(value: Any, target: str | int | None, where: str) -> Example:
    """An example as a source gives it, taken apart.

    Parameters
    ----------
    value : pair of inputs and target, dict with the key `target`, Batch, or an array without a
    target
    target : str or int, optional
        The key, or the place in a tuple, that is the target.
    """
    if isinstance(value, Batch):
        return value.inputs, value.targets, value.weights
    if isinstance(value, dict):
        rest = dict(value)
        weight = rest.pop("weight", None)
        if target is not None and target not in rest:
            raise DataError(
                f"{where}: there is no field {target!r}. It has {', '.join(map(repr, value))}."
            )
        wanted = rest.pop(target) if target is not None else rest.pop("target", None)
        if not rest:
            raise DataError(f"{where}: there is no input beside the target.")
        return (next(iter(rest.values())) if len(rest) == 1 else rest), wanted, weight
    if (
        isinstance(value, tuple | list)
        and len(value) > 1
        and (isinstance(value, tuple) or target is not None)
    ):
        place = len(value) - 1 if target is None else int(target)
        inputs = tuple(x for i, x in enumerate(value) if i != place % len(value))
        return (inputs[0] if len(inputs) == 1 else inputs), value[place], None
    return value, None, None


def stacked(examples: Sequence[Example]) -> Batch:
    """Arrays of equal shapes, one upon another.

    Raises
    ------
    DataError
        If they are of different shapes: which example differs.

    Examples
    --------
    >>> stacked([(np.zeros(3), 1, None), (np.ones(3), 0, None)]).inputs.shape
    (2, 3)
    """
    inputs, targets, weights = zip(*examples, strict=True)
    return Batch(_stacked(inputs), _stacked(targets), _stacked(weights))


def stacked_as_read(examples: Iterator[Example], n: int) -> Batch:
    """What `stacked` gives, each of n examples copied into the batch while it is in the processor's
    cache.
    """
    first = next(examples)
    if not isinstance(first[0], np.ndarray) or first[0].dtype.hasobject:
        return stacked([first, *examples])
    inputs = np.empty((n, *first[0].shape), first[0].dtype)
    targets, weights = [], []
    for place, (array, target, weight) in enumerate(itertools.chain([first], examples)):
        if np.shape(array) != inputs.shape[1:]:
            raise _unequal(inputs.shape[1:], place, np.shape(array))
        if (kind := np.result_type(array, inputs)) != inputs.dtype:
            inputs = inputs.astype(kind)
        inputs[place] = array
        targets.append(target)
        weights.append(weight)
    return Batch(inputs, _stacked(targets), _stacked(weights))


def _unequal(shape: tuple[int, ...], place: int, other: tuple[int, ...]) -> DataError:
    return DataError(
        f"The examples have different shapes: {shape} and, in place {place} of the batch, "
        f"{other}. Bring "
        "pictures to one size (vinestep.data.pictures.Resize), pad sequences "
        "(join=vinestep.data.Padded()), or give a function join=."
    )


def _stacked(values: Sequence[Any]) -> Any:
    first = values[0]
    if first is None:
        return None
    if isinstance(first, dict):
        return {name: _stacked([value[name] for value in values]) for name in first}
    if isinstance(first, tuple):
        return tuple(_stacked(column) for column in zip(*values, strict=True))
    arrays = [np.asarray(value) for value in values]
    odd = next((i for i, array in enumerate(arrays) if array.shape != arrays[0].shape), None)
    if odd is not None:
        raise _unequal(arrays[0].shape, odd, arrays[odd].shape)
    return np.stack(arrays)


@part("padded", "join")
class Padded:
    """Sequences of unequal lengths, filled up to the longest of the batch; ``masks`` says which
    places hold a value.

    Parameters
    ----------
    value : float
        What is filled in.
    multiple : int
        Lengths are rounded up to a multiple of this.
    target_value : float
        What stands in padded places of targets that are sequences too; losses leave it out by
        ``ignored=``.

    Examples
    --------
    >>> batch = Padded()([(np.ones(2), 0, None), (np.ones(3), 1, None)])
    >>> batch.inputs.tolist(), batch.masks.tolist()
    ([[1.0, 1.0, 0.0], [1.0, 1.0, 1.0]], [[True, True, False], [True, True, True]])
    """

    def __init__(self, value: float = 0, multiple: int = 1, target_value: float = -1) -> None:
        if multiple < 1:
            raise DataError(f"Padded: multiple must be at least 1, got {multiple}.")
        self.value, self.multiple, self.target_value = value, multiple, target_value

    def __call__(self, examples: Sequence[Example]) -> Batch:
        inputs, targets, weights = zip(*examples, strict=True)
        arrays = [np.asarray(x) for x in inputs]
        lengths = [len(x) for x in arrays]
        time = -(-max(lengths) // self.multiple) * self.multiple
        masks = np.arange(time) < np.array(lengths)[:, None]
        labels = [np.asarray(t) for t in targets] if targets[0] is not None else []
        long = (
            bool(labels)
            and all(t.ndim and len(t) == n for t, n in zip(labels, lengths, strict=True))
            and len(set(lengths)) > 1
        )
        long = long or (
            bool(labels) and all(t.ndim for t in labels) and labels[0].shape[0] == lengths[0]
        )
        wanted = self._filled(labels, time, self.target_value) if long else _stacked(targets)
        return Batch(self._filled(arrays, time, self.value), wanted, _stacked(weights), masks)

    @staticmethod
    def _filled(arrays: Sequence[np.ndarray], time: int, value: float) -> np.ndarray:
        result = np.full((len(arrays), time, *arrays[0].shape[1:]), value, arrays[0].dtype)
        for row, array in zip(result, arrays, strict=True):
            if array.shape[1:] != arrays[0].shape[1:]:
                raise DataError(
                    f"Padded: the sequences have features of shapes {arrays[0].shape[1:]} and "
                    f"{array.shape[1:]}."
                )
            row[: len(array)] = array
        return result

"""A batch: some examples together."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from ...errors import DataError

__all__ = [
    "Batch",
    "arrays_of",
    "as_batch",
    "count_of",
    "first_of",
    "joined_parts",
    "mapped",
    "taken",
]


class Batch:
    """Some examples: first axis the examples. It unpacks into inputs and targets.

    Parameters
    ----------
    inputs : array, tuple of arrays (by place), or dict of arrays (by name)
    targets : array, or dict of arrays (by name), optional
    weights : array, optional
        What each example, or each place of a sequence, weighs in the loss.
    masks : array of bool, optional
        Which places of padded sequences hold a value, shape (batch, time); handed to the network as
        ``mask=``.
    rows : Rows, optional
        Which rows of a whole batch these are, where several ranks share it.

    Examples
    --------
    >>> inputs, targets = next(iter(vs.data.Dataset(np.ones((5, 2)), np.arange(5)).batches(3)))
    >>> inputs.shape, targets.shape
    ((3, 2), (3,))
    """

    __slots__ = ("inputs", "masks", "rows", "targets", "weights")

    def __init__(
        self,
        inputs: Any,
        targets: Any = None,
        weights: Any = None,
        masks: Any = None,
        rows: Any = None,
    ) -> None:
        self.inputs, self.targets, self.weights, self.masks = inputs, targets, weights, masks
        self.rows = rows

    def __repr__(self) -> str:
        return f"<Batch of {len(self)} examples>"

    def with_values(self, **changed: Any) -> Batch:
        """A copy with other inputs, targets, weights or masks."""
        return Batch(**{name: changed.get(name, getattr(self, name)) for name in self.__slots__})

    def slice(self, start: int, stop: int) -> Batch:
        """The examples from one place up to another, with all that belongs to them."""

        def cut(value: Any) -> Any:
            return None if value is None else mapped(lambda array: array[start:stop], value)

        return Batch(cut(self.inputs), cut(self.targets), cut(self.weights), cut(self.masks))

    def __iter__(self) -> Iterator[Any]:
        return iter((self.inputs, self.targets))

    def __len__(self) -> int:
        """Number of examples."""
        inputs = self.inputs
        return len(inputs) if type(inputs) is np.ndarray else count_of(inputs)


def as_batch(value: Any, what: str) -> Batch:
    """A batch as it is; a pair of inputs and targets, with weights as a third, as one.

    Raises
    ------
    DataError
        If it is neither; `what` says where it stands.
    """
    if isinstance(value, Batch):
        return value
    if isinstance(value, tuple | list) and len(value) in (2, 3):
        return Batch(*value)
    raise DataError(
        f"{what}: a batch is a tuple (inputs, targets) or (inputs, targets, weights), or a "
        f"vinestep.data.Batch, got {type(value).__name__}."
    )


def count_of(values: Any) -> int:
    """How many examples arrays hold."""
    return int(np.shape(first_of(values))[0])


def first_of(values: Any) -> Any:
    """The first array of inputs that may be several."""
    while isinstance(values, tuple | dict) and values:
        values = values[0] if isinstance(values, tuple) else next(iter(values.values()))
    return values


def arrays_of(values: Any) -> list[Any]:
    """The arrays of inputs that may be several, in a list."""
    if isinstance(values, Mapping):
        return list(values.values())
    return list(values) if isinstance(values, tuple) else [values]


def mapped(function: Any, values: Any) -> Any:
    """A function of every array of inputs that may be several."""
    if isinstance(values, Mapping):
        return {name: function(value) for name, value in values.items()}
    if isinstance(values, tuple):
        return tuple(function(value) for value in values)
    return function(values)


def taken(values: Any, index: Any) -> Any:
    """Some examples of arrays."""
    return mapped(lambda array: array[index], values)


def joined_parts(parts: Sequence[Any]) -> Any:
    """Arrays of several batches in one; of several arrays a batch each in one."""
    first = parts[0]
    if isinstance(first, Mapping):
        return {name: joined_parts([part[name] for part in parts]) for name in first}
    if isinstance(first, tuple):
        return tuple(joined_parts(column) for column in zip(*parts, strict=True))
    return np.concatenate(parts)

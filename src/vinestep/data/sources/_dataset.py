"""Datasets: examples in arrays, in memory or in a file that is mapped into it."""

from __future__ import annotations

from collections.abc import Mapping
from mmap import mmap
from typing import Any

import numpy as np

from ...errors import DataError
from .._file_stamps import Stamp, check_unchanged
from .._hashing import digest, row_hashes
from ..batches._batch import (
    Batch,
    arrays_of,
    count_of,
    mapped,
    taken,
)
from ..batches._batches import Batches
from ..batches._joins import Example
from ._source import Provenance, Source, Subset, of_target

__all__ = ["Dataset", "same_scaling"]

MOST_LOOKED_AT = 20_000  # rows
FEW_VALUES = 0.1  # different ones of the rows, in each column, where rows are equal by nature


class Dataset(Source):
    """Inputs and targets, example by example.

    Parameters
    ----------
    inputs : array_like, shape (n, ...), or tuple or dict of such
        Several inputs by place or by name. Memory-mapped arrays are read as they are used.
    targets : array_like, shape (n, ...), or dict of such by name, optional
    weights : array_like, shape (n, ...), optional
        What each example weighs in the loss.
    class_values : sequence, or mapping of target to sequence, optional
        What the class numbers in `targets` stand for.

    Raises
    ------
    DataError
        If there are no examples, or not as many inputs as targets.

    Examples
    --------
    >>> data = vs.data.Dataset(np.arange(10.0)[:, None], np.arange(10))
    >>> train, test = data.split(0.7, 0.3, seed=1)
    >>> len(train), len(test)
    (7, 3)
    """

    holds_lock = False
    knows_labels = True

    def __init__(
        self,
        inputs: Any,
        targets: Any = None,
        *,
        weights: Any = None,
        class_values: Any = (),
        provenance: Provenance | None = None,
    ) -> None:
        self.inputs = mapped(lambda x: _array(x, "inputs"), inputs)
        self.targets: Any = (
            None if targets is None else mapped(lambda x: _array(x, "targets"), targets)
        )
        self.weights = None if weights is None else _array(weights, "weights")
        self.class_values = checked_class_values(class_values, self.targets)
        n = self._checked_length()
        if n == 0:
            raise DataError("Dataset: there are no examples.")
        self._provenance = provenance
        self.mapped_files: dict[str, Stamp | None] = {}

    def _checked_length(self) -> int:
        arrays = arrays_of(self.inputs)
        n = arrays[0].shape[0] if arrays and arrays[0].ndim else 0
        for array in arrays[1:]:
            if array.shape[:1] != (n,):
                raise DataError(
                    f"Dataset: inputs of shapes {arrays[0].shape} and {array.shape}. Each example "
                    "needs one of each."
                )
        for values, name in ((self.targets, "targets"), (self.weights, "weights")):
            for beside in () if values is None else arrays_of(values):
                if beside.shape[:1] != (n,):
                    raise DataError(
                        f"Dataset: {n} inputs but {name} of shape {beside.shape}. Each example "
                        "needs one of each."
                    )
        return int(n)

    def __len__(self) -> int:
        return count_of(self.inputs)

    def __repr__(self) -> str:
        described = " and ".join(
            f"{array.shape[1:]} {array.dtype}" for array in arrays_of(self.inputs)
        )
        return f"<{type(self).__name__} of {len(self)} examples, inputs {described}>"

    def example(self, index: int) -> Example:
        self._check_files()
        return (
            taken(self.inputs, index),
            None if self.targets is None else taken(self.targets, index),
            None if self.weights is None else self.weights[index],
        )

    def _check_files(self) -> None:
        for file, stamp in self.mapped_files.items():
            check_unchanged(file, stamp)

    def take(self, index: np.ndarray) -> Batch:
        if self.mapped_files:
            self._check_files()
        inputs, targets = self.inputs, self.targets
        return Batch(
            inputs[index] if type(inputs) is np.ndarray else taken(inputs, index),
            targets[index]
            if type(targets) is np.ndarray
            else None
            if targets is None
            else taken(targets, index),
            None if self.weights is None else self.weights[index],
        )

    def labels(self, target: str = "") -> np.ndarray | None:
        targets = of_target(self.targets, target)
        return (
            targets
            if isinstance(targets, np.ndarray) and targets.ndim == 1 and targets.dtype.kind in "iu"
            else None
        )

    def settings(self) -> dict[str, Any]:
        """What it is, for the record: kind, number of examples, shapes and dtypes."""
        settings: dict[str, Any] = {
            "kind": "arrays",
            "examples": len(self),
            "inputs": ", ".join(
                f"{array.shape[1:]} {array.dtype}" for array in arrays_of(self.inputs)
            ),
        }
        if self.targets is not None:
            names = list(self.targets) if isinstance(self.targets, dict) else [""]
            settings["targets"] = ", ".join(
                f"{name} {array.shape[1:]} {array.dtype}".strip()
                for name, array in zip(names, arrays_of(self.targets), strict=True)
            )
        return settings

    def fingerprint(self) -> str:
        """Of the contents: equal for equal inputs and targets, in any process."""
        return digest(
            *arrays_of(self.inputs),
            *(
                array
                for values in (self.targets, self.weights)
                if values is not None
                for array in arrays_of(values)
            ),
        )

    def rows(self, index: np.ndarray) -> Any:
        """The examples at these places, as a dataset of the same kind; of memory-mapped arrays a
        `Subset`, which reads when it is asked.
        """
        if any(_is_mapped(array) for array in arrays_of(self.inputs)):
            return Subset(self, index)
        some = self.take(index)
        made = type(self).__new__(type(self))
        Dataset.__init__(
            made,
            some.inputs,
            some.targets,
            weights=some.weights,
            class_values=self.class_values,
            provenance=self._provenance_of(index),
        )
        return made

    def _provenance_of(self, index: np.ndarray) -> Provenance:
        return Provenance(self.provenance.source, self.provenance.rows[index])

    def shared_rows(self, other: Source) -> int:
        if isinstance(other, Dataset) and self.provenance.source != other.provenance.source:
            ours, theirs = arrays_of(self.inputs), arrays_of(other.inputs)
            if [(a.shape[1:], a.dtype) for a in ours] != [(a.shape[1:], a.dtype) for a in theirs]:
                return 0
        return super().shared_rows(other)

    def _repeats_by_chance(self, ours: np.ndarray, theirs: np.ndarray) -> bool:
        """Rows of numbers do not repeat, if one column is of many different ones."""
        inputs = self.inputs
        if not isinstance(inputs, np.ndarray) or inputs.ndim != 2 or not inputs.shape[1]:
            return super()._repeats_by_chance(ours, theirs)
        looked_at = inputs[:MOST_LOOKED_AT]
        different = max(len(np.unique(column)) for column in looked_at.T)
        return different < FEW_VALUES * len(looked_at)

    def example_hashes(self) -> np.ndarray:
        if self._hashed is None:
            self._hashed = row_hashes(
                *arrays_of(self.inputs), *([] if self.targets is None else arrays_of(self.targets))
            )
        return self._hashed

    def batches(self, size: int, **options: Any) -> Batches:
        """Minibatches of this dataset; see `Batches`."""
        return Batches(self, size, **options)


def _is_mapped(array: np.ndarray) -> bool:
    base: Any = array
    while base is not None and not isinstance(base, mmap):
        base = getattr(base, "base", None)
    return base is not None


def checked_class_values(values: Any, targets: Any) -> Any:
    """What class numbers stand for: a tuple, or of several targets one for each."""
    if not isinstance(targets, dict):
        if isinstance(values, Mapping):
            raise DataError("Dataset: class_values are by target, and there is one target only.")
        return tuple(values)
    given = dict(values) if isinstance(values, Mapping) else {}
    unknown = [name for name in given if name not in targets]
    if unknown or (values and not given):
        raise DataError(
            f"Dataset: the targets are {', '.join(targets)}. Give class_values by these names."
        )
    return {name: tuple(given.get(name, ())) for name in targets}


def _array(values: Any, name: str) -> np.ndarray:
    if isinstance(values, np.ma.MaskedArray):
        raise DataError(
            f"Dataset: the {name} are a masked array, whose mask would be lost. Say what stands "
            f"there: {name}.filled(0.0)."
        )
    return np.asarray(values)


def same_scaling(first: Dataset, second: Dataset) -> bool:
    """Whether two parts were scaled by the same numbers, or neither was."""
    ours, theirs = getattr(first, "scaling", None), getattr(second, "scaling", None)
    if ours is None or theirs is None:
        return ours is theirs
    return bool(ours.equals(theirs))

"""Datasets and minibatches."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Self

import numpy as np

from ..errors import DataError
from .content import digest, row_hashes

__all__ = ["Batch", "Batches", "Dataset"]


class Batch(NamedTuple):
    """Some examples: inputs and targets, first axis the examples.

    Examples
    --------
    >>> inputs, targets = next(iter(vs.data.Dataset(np.ones((5, 2)), np.arange(5)).batches(3)))
    >>> inputs.shape, targets.shape
    ((3, 2), (3,))
    """

    inputs: Any
    targets: Any


@dataclass(frozen=True, slots=True)
class Provenance:
    """Which rows a dataset holds of which source, told by its content, so that overlaps can be noticed."""

    source: str
    rows: np.ndarray


class Dataset:
    """Inputs and targets, example by example.

    Parameters
    ----------
    inputs : array_like, shape (n, ...)
    targets : array_like, shape (n, ...)

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

    def __init__(self, inputs: Any, targets: Any, *, provenance: Provenance | None = None) -> None:
        self.inputs = _array(inputs, "inputs")
        self.targets = _array(targets, "targets")
        n = self.inputs.shape[0] if self.inputs.ndim else 0
        if self.targets.shape[:1] != (n,):
            raise DataError(f"Dataset: {n} inputs but targets of shape {self.targets.shape}. Each example needs one of each.")
        if n == 0:
            raise DataError("Dataset: there are no examples.")
        self._provenance = provenance
        self._rows: np.ndarray | None = None

    def __len__(self) -> int:
        return int(self.inputs.shape[0])

    def __repr__(self) -> str:
        return f"<{type(self).__name__} of {len(self)} examples, inputs {self.inputs.shape[1:]} {self.inputs.dtype}>"

    @property
    def provenance(self) -> Provenance:
        """Where the examples come from; of a dataset that was not taken from another one, itself."""
        if self._provenance is None:
            self._provenance = Provenance(self.fingerprint(), np.arange(len(self)))
        return self._provenance

    def settings(self) -> dict[str, Any]:
        """What it is, for the record: kind, number of examples, shapes and dtypes."""
        return {
            "kind": "arrays",
            "examples": len(self),
            "inputs": f"{self.inputs.shape[1:]} {self.inputs.dtype}",
            "targets": f"{self.targets.shape[1:]} {self.targets.dtype}",
        }

    def fingerprint(self) -> str:
        """Of the contents: equal for equal inputs and targets, in any process."""
        return digest(self.inputs, self.targets)

    def rows(self, index: np.ndarray) -> Self:
        """The examples at these places, as a dataset of the same kind."""
        return type(self)(self.inputs[index], self.targets[index], provenance=self._provenance_of(index))  # type: ignore[call-arg]

    def _provenance_of(self, index: np.ndarray) -> Provenance:
        return Provenance(self.provenance.source, self.provenance.rows[index])

    def shared_rows(self, other: Dataset) -> int:
        """How many examples of the other are in this one too: the same row of one source, or equal inputs and targets.

        Equal rows of different sources count if they are more than chance would have it: where this dataset is full of equal rows
        itself, as tables of few categories are, those of another part are no sign of anything.
        """
        if self.provenance.source == other.provenance.source:
            return int(np.intersect1d(self.provenance.rows, other.provenance.rows).size)
        if self.inputs.shape[1:] != other.inputs.shape[1:] or self.inputs.dtype != other.inputs.dtype:
            return 0
        ours, theirs = self._hashes(), other._hashes()
        distinct, counts = np.unique(ours, return_counts=True)
        shared = int(np.isin(theirs, distinct).sum())
        repeated = float(counts[counts > 1].sum()) / len(ours)
        return shared if shared and repeated < shared / len(theirs) / 2 else 0

    def _hashes(self) -> np.ndarray:
        if self._rows is None:
            self._rows = row_hashes(self.inputs, self.targets)
        return self._rows

    def split(self, *shares: float, seed: int = 0, stratified: bool = False) -> list[Self]:
        """Divide at random into parts that share no example.

        Parameters
        ----------
        *shares : float
            Parts of the whole; they must not add up to more than 1.
        seed : int
        stratified : bool
            Give every part the same mix of classes as the whole.

        Raises
        ------
        DataError
            If a part would be empty, or, stratified, would miss a class.
        """
        self._check_shares(shares)
        rng = np.random.default_rng([seed, 0x5EED])
        groups = self._classes() if stratified else [np.arange(len(self))]
        parts: list[list[np.ndarray]] = [[] for _ in shares]
        for group, sizes in zip(groups, _apportioned([len(group) for group in groups], shares), strict=True):
            shuffled = rng.permutation(group)
            bounds = np.cumsum([0, *sizes])
            for part, start, stop in zip(parts, bounds, bounds[1:], strict=False):
                part.append(shuffled[start:stop])
        indices = [np.sort(np.concatenate(part)) for part in parts]
        for share, index, part in zip(shares, indices, parts, strict=True):
            if not index.size:
                raise DataError(f"split: a share of {share} of {len(self)} examples is an empty part. Give it more, or leave it out.")
            if stratified and any(not piece.size for piece in part):
                raise DataError(
                    f"split: the part with a share of {share} would miss a class: the rarest has "
                    f"{min(len(g) for g in groups)} examples. Give it a larger share, or split without stratified=True."
                )
        return [self.rows(index) for index in indices]

    @staticmethod
    def _check_shares(shares: Sequence[float]) -> None:
        if not shares or any(not 0 < share <= 1 for share in shares) or sum(shares) > 1 + 1e-9:
            raise DataError(
                f"split: shares have to be positive and add up to at most 1, got {', '.join(map(str, shares)) or 'none'}. "
                "For instance split(0.7, 0.15, 0.15)."
            )

    def _classes(self) -> list[np.ndarray]:
        if self.targets.ndim != 1 or self.targets.dtype.kind not in "iu":
            raise DataError("split: stratified=True balances classes, and the targets are not class numbers. Leave it out.")
        return [np.flatnonzero(self.targets == label) for label in np.unique(self.targets)]

    def batches(self, size: int, *, shuffled: bool = True, seed: int | None = None, drop_partial: bool = False) -> Batches:
        """Minibatches of this dataset; see `Batches`."""
        return Batches(self, size, shuffled=shuffled, seed=seed, drop_partial=drop_partial)


def _array(values: Any, name: str) -> np.ndarray:
    if isinstance(values, np.ma.MaskedArray):
        raise DataError(f"Dataset: the {name} are a masked array, whose mask would be lost. Say what stands there: {name}.filled(0.0).")
    return np.asarray(values)


def _apportioned(sizes: Sequence[int], shares: Sequence[float]) -> np.ndarray:
    """How many of each group each part gets, shape (groups, parts): within one of its due, and each part its due of the whole.

    Dues are rounded group by group, what rounding took from a part in earlier groups being made up for in later ones.
    """
    bounds = np.round(np.cumsum([0.0, *shares, max(1.0 - sum(shares), 0.0)]) * sum(sizes), 6)
    whole = np.diff(np.round(bounds).astype(int))
    dues = np.outer(sizes, whole / max(sum(sizes), 1))
    given = np.floor(dues + 1e-9).astype(int)
    owed = np.zeros(len(whole))
    for due, own, size in zip(dues, given, sizes, strict=True):
        owed += due - own
        for _ in range(size - int(own.sum())):
            part = int(np.argmax(np.where(due - own > 1e-9, owed, owed - 2)))
            own[part] += 1
            owed[part] -= 1
    return given[:, : len(shares)]


def same_scaling(first: Dataset, second: Dataset) -> bool:
    """Whether two parts were scaled by the same numbers, or neither was."""
    ours, theirs = getattr(first, "scaling", None), getattr(second, "scaling", None)
    if ours is None or theirs is None:
        return ours is theirs
    return bool(ours.equals(theirs))


class Batches:
    """Minibatches of a dataset, in an order that is a function of seed and epoch alone.

    Parameters
    ----------
    dataset : Dataset
    size : int
        Examples a batch; the last may be smaller.
    shuffled : bool
        A new order each epoch; otherwise the dataset's own.
    seed : int, optional
        Of the order; by default the training's.
    drop_partial : bool
        Leave a smaller last batch away.

    Raises
    ------
    DataError
        If the size is not positive, or no batch is left.

    Examples
    --------
    >>> batches = vs.data.Dataset(np.arange(5.0)[:, None], np.arange(5)).batches(2)
    >>> [batch.targets.tolist() for batch in batches.epoch(0, seed=1)]
    [[3, 4], [1, 0], [2]]
    >>> len(batches)
    3
    """

    def __init__(self, dataset: Dataset, size: int, *, shuffled: bool = True, seed: int | None = None, drop_partial: bool = False) -> None:
        if not isinstance(size, int | np.integer) or size < 1:
            raise DataError(f"batches: size must be a whole number of at least 1, got {size!r}.")
        self.dataset = dataset
        self.size = int(size)
        self.shuffled = shuffled
        self.seed = seed
        self.drop_partial = drop_partial
        if not len(self):
            raise DataError(f"batches: {len(dataset)} examples make no full batch of {size}. Use a smaller size or keep the partial one.")

    def __len__(self) -> int:
        whole, rest = divmod(len(self.dataset), self.size)
        return whole + (rest > 0 and not self.drop_partial)

    def settings(self) -> dict[str, Any]:
        """How they were made, for the record."""
        return {"size": self.size, "shuffled": self.shuffled, "drop_partial": self.drop_partial, "examples": len(self.dataset)}

    def epoch(self, number: int = 0, *, seed: int = 0, start: int = 0) -> Iterator[Batch]:
        """The batches of an epoch, from the one at `start` on."""
        order = self._order(number, seed if self.seed is None else self.seed)
        inputs, targets = self.dataset.inputs, self.dataset.targets
        for i in range(start, len(self)):
            index = order[i * self.size : (i + 1) * self.size]
            yield Batch(inputs[index], targets[index])

    def in_order(self) -> Iterator[Batch]:
        """Every example once, in the dataset's own order, the partial batch too."""
        for start in range(0, len(self.dataset), self.size):
            part = slice(start, start + self.size)
            yield Batch(self.dataset.inputs[part], self.dataset.targets[part])

    def __iter__(self) -> Iterator[Batch]:
        return self.epoch(0)

    def _order(self, number: int, seed: int) -> np.ndarray:
        if not self.shuffled:
            return np.arange(len(self.dataset))
        return np.random.default_rng([seed, number, 0x0EDE]).permutation(len(self.dataset))

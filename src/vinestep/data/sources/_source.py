"""Where examples come from, by index: the contract that batches, splits, assessment and prediction
rely on.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Self

import numpy as np

from ..._arguments import checked_seed
from ...errors import DataError, ExampleIndexError
from .._hashing import digest
from ..batches._batch import Batch, mapped
from ..batches._batches import Batches
from ..batches._joins import (
    Example,
    Join,
    as_example,
    stacked,
    stacked_as_read,
)
from ..batches._orders import Order
from ..batches._transforms import Transform, as_transform, prepared
from ..encoding._text_form import TextForm
from ._splits import fold_indices, split_indices

__all__ = ["Examples", "Prepared", "Provenance", "Source", "Subset"]

MOST_READ = 20_000  # examples of unknown cost that are read to find what two sources share
FEWEST_COPIES, MOST_COPIES = 3, 0.05  # of the examples of a part, that may equal others by chance
FEW_DIFFERENT = 0.4
LOOKED_AT = 64  # examples that tell what an unknown source holds


@dataclass(frozen=True, slots=True)
class Provenance:
    """Which rows a source holds of which other one, told by its content, so that overlaps can be
    noticed.
    """

    source: str
    rows: np.ndarray


class Source:
    """Examples by index.

    A source of one's own derives from this, or is anything with ``__len__`` and ``__getitem__``,
    wrapped by `Examples`.

    Attributes
    ----------
    holds_lock : bool
        Whether reading an example is Python work, which threads do one at a time, so that readers
        have to be processes.
    class_values : tuple, or dict of target to tuple
        What class numbers stand for; empty of numbers.
    text_form : TextForm, optional
        How texts became tokens, for the model.

    Examples
    --------
    >>> class Squares(Source):
    ...     def __len__(self):
    ...         return 5
    ...
    ...     def example(self, index):
    ...         return np.array([float(index)]), float(index) ** 2, None
    ...
    ...     def settings(self):
    ...         return {"kind": "squares"}
    ...
    ...     def fingerprint(self):
    ...         return "squares of 0 to 4"
    >>> next(iter(Squares().batches(3, shuffled=False))).targets.tolist()
    [0.0, 1.0, 4.0]
    """

    holds_lock: bool = True
    splits_by_file: bool = False
    """Whether parts are of whole files, so that nothing asks for single examples."""
    knows_labels: bool = False
    """Whether `labels` needs no reading of examples."""
    class_values: Any = ()
    target_gaps: bool = False
    """Whether targets may be missing: NaN, or -1 of classes."""
    text_form: TextForm | None = None
    _provenance: Provenance | None = None
    _hashed: np.ndarray | None = None

    def __len__(self) -> int:
        raise NotImplementedError

    def example(self, index: int) -> Example:
        """Inputs, target and weight of one example; the last two may be None."""
        raise NotImplementedError

    def take(self, index: np.ndarray) -> Batch | None:
        """Several examples at once, for sources that give them faster than one by one; None
        otherwise.
        """
        return None

    def settings(self) -> dict[str, Any]:
        """What it is, for the record."""
        raise NotImplementedError

    def fingerprint(self) -> str:
        """Of the contents: equal for equal examples, in any process."""
        raise NotImplementedError

    def __getitem__(self, index: int) -> tuple[Any, Any]:
        n = len(self)
        if isinstance(index, bool) or not isinstance(index, int | np.integer):
            raise DataError(
                f"{self!r}: an example is taken by its number, got {type(index).__name__}. Several "
                "are rows(indices), or batches(size)."
            )
        if not -n <= index < n:
            raise ExampleIndexError(f"there are {n} examples, and no number {index}")
        inputs, target, _ = self.example(int(index) % n)
        return inputs, target

    def __repr__(self) -> str:
        return f"<{type(self).__name__} of {len(self)} examples>"

    @property
    def class_names(self) -> Any:
        """The classes as texts; of several targets by name."""
        if isinstance(self.class_values, dict):
            return {name: tuple(map(str, v)) for name, v in self.class_values.items()}
        return tuple(map(str, self.class_values))

    @property
    def classes(self) -> Any:
        """Number of classes; 1 if targets are numbers. Of several targets by name."""
        if isinstance(self.class_values, dict):
            return {name: len(values) or 1 for name, values in self.class_values.items()}
        return len(self.class_values) or 1

    def gathered(self, index: np.ndarray, join: Join = stacked) -> Batch:
        """A batch of these examples."""
        if join is stacked:
            batch = self.take(index)
            if batch is not None:
                return batch
            return stacked_as_read((self.read(int(i)) for i in index), len(index))
        return join([self.read(int(i)) for i in index])

    def read(self, index: int) -> Example:
        """One example, or an error that names it."""
        try:
            return self.example(index)
        except Exception as error:
            if isinstance(error, DataError) and f"example {index}" in str(error):
                raise
            raise DataError(
                f"Reading example {index} of {self!r}: {type(error).__name__}: {error}"
            ) from error

    def labels(self, target: str = "") -> np.ndarray | None:
        """The class number of every example, or None where targets are no classes. Of several
        targets one is named.
        """
        targets = [of_target(self.read(i)[1], target) for i in range(len(self))]
        if any(isinstance(one, dict) for one in targets):
            return None
        result = np.asarray(targets)
        return result if result.ndim == 1 and result.dtype.kind in "iu" else None

    def sample_index(self, most: int) -> np.ndarray:
        """Some examples that tell what there is, spread over the source as far as that costs
        little.
        """
        return np.unique(np.linspace(0, len(self) - 1, min(len(self), most)).astype(int))

    # parts

    def rows(self, index: np.ndarray) -> Any:
        """Some of the examples, as a source."""
        return Subset(self, index)

    def split(
        self,
        *shares: float,
        seed: int = 0,
        stratified: bool | str = False,
        groups: Any = None,
        by: Any = None,
    ) -> list[Self]:
        """Divide into parts that share no example.

        Parameters
        ----------
        *shares : float or int
            Parts of the whole, adding up to at most 1; or numbers of examples.
        seed : int
        stratified : bool or str
            Give every part the same mix of classes as the whole; of several targets, that of the
            one named.
        groups : array_like, shape (n,), optional
            Examples of one group stay together: no vine in two parts.
        by : array_like, shape (n,), optional
            Times: the first part gets the earliest examples, the last the latest.

        Raises
        ------
        DataError
            If a part would be empty, or, stratified, would miss a class.
        """
        labels = self._stratifying(stratified) if stratified else None
        return [
            self.rows(index)
            for index in split_indices(len(self), shares, seed, labels=labels, groups=groups, by=by)
        ]

    def folds(
        self,
        k: int,
        *,
        seed: int = 0,
        stratified: bool | str = False,
        groups: Any = None,
        by: Any = None,
        repeats: int = 1,
    ) -> Iterator[tuple[Self, Self]]:
        """Training and validation part of each of k folds, each example validated once; repeated
        with other seeds if asked.

        With times, ``by=``, fold i trains on the earliest and validates on what comes next: of k +
        1 spans of time the first i, and then one more.

        Examples
        --------
        >>> data = vs.data.Dataset(np.arange(6.0), np.arange(6))
        >>> [sorted(validation.targets.tolist()) for train, validation in data.folds(3)]
        [[1, 3], [4, 5], [0, 2]]
        """
        for train, validation in self.fold_rows(
            k, seed=seed, stratified=stratified, groups=groups, by=by, repeats=repeats
        ):
            yield self.rows(train), self.rows(validation)

    def fold_rows(
        self,
        k: int,
        *,
        seed: int = 0,
        stratified: bool | str = False,
        groups: Any = None,
        by: Any = None,
        repeats: int = 1,
    ) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        """The numbers of the examples of both parts of each fold; see `folds`."""
        labels = self._stratifying(stratified) if stratified else None
        seed = checked_seed(seed, "folds")
        for repeat in range(repeats):
            yield from fold_indices(
                len(self), k, seed + repeat, labels=labels, groups=groups, by=by
            )

    def _stratifying(self, stratified: bool | str) -> np.ndarray:
        target = stratified if isinstance(stratified, str) else ""
        if isinstance(self.class_values, dict) and target not in self.class_values:
            raise DataError(
                f"split: the targets are {', '.join(self.class_values)}. Say by the classes of "
                "which the parts are to be alike: stratified=NAME."
            )
        labels = self.labels(target)
        if labels is None:
            raise DataError(
                "split: stratified=True balances classes, and the targets are not class numbers. "
                "Leave it out."
            )
        return labels

    # use

    def batches(self, size: int, **options: Any) -> Batches:
        """Minibatches; see `Batches`."""
        order = self.default_order()
        if order is not None and options.get("shuffled", True) and options.get("order") is None:
            options["order"] = order
        return Batches(self, size, **options)

    def default_order(self) -> Order | None:
        """In which shuffled batches come; by default any example may come next."""
        return None

    def prepared(self, *transforms: Transform | Callable[[Any], Any]) -> Prepared:
        """The same examples, every input transformed, by functions of an array of examples too; the
        transforms are kept with the model.
        """
        return Prepared(self, transforms)

    @property
    def preparation(self) -> tuple[Transform, ...]:
        """What is done to every input, for the model."""
        return ()

    # provenance

    @property
    def provenance(self) -> Provenance:
        """Where the examples come from; of a source that was not taken from another one, itself."""
        if self._provenance is None:
            self._provenance = Provenance(self.fingerprint(), np.arange(len(self)))
        return self._provenance

    def shared_rows(self, other: Source) -> int:
        """How many examples of the other are in this one too: the same example of one source, or of
        equal content.

        Equal examples count if they are more than chance would have it: where this source is full
        of equal examples itself, as tables of few categories are, those of another part are no
        sign of anything.
        """
        same_source = self.provenance.source == other.provenance.source
        same = np.intersect1d(self.provenance.rows, other.provenance.rows)
        if same_source and same.size:
            return int(same.size)
        ours, theirs = self.example_hashes(), other.example_hashes()
        if ours is None or theirs is None:
            return 0
        shared = int(np.isin(theirs, ours).sum())
        if same_source:
            many = shared >= FEWEST_COPIES and shared > MOST_COPIES * len(theirs)
            return shared if many and not self._repeats_by_chance(ours, theirs) else 0
        return shared_contents(ours, theirs)

    def _repeats_by_chance(self, ours: np.ndarray, theirs: np.ndarray) -> bool:
        """Whether there are so few different examples that equal ones in two parts say nothing; by
        the hashes of their contents.
        """
        both = np.concatenate([ours, theirs])
        return len(np.unique(both)) < FEW_DIFFERENT * len(both)

    def example_hashes(self) -> np.ndarray | None:
        """A number for the content of each example; None for more than 20,000 that would have to be
        read one by one.
        """
        if self._hashed is None and len(self) <= MOST_READ:
            self._hashed = np.array([_hash(self.read(i)) for i in range(len(self))], np.uint64)
        return self._hashed


def shared_contents(ours: np.ndarray, theirs: np.ndarray) -> int:
    """How many of the others' examples are among ours, by hashes of their contents; 0 where ours
    are full of equal examples themselves.
    """
    shared = int(np.isin(theirs, ours).sum())
    _, counts = np.unique(ours, return_counts=True)
    repeated = float(counts[counts > 1].sum()) / len(ours)
    return shared if shared and repeated < shared / len(theirs) / 2 else 0


def of_target(targets: Any, name: str) -> Any:
    """The targets of this name, where there are several; otherwise the targets."""
    if not isinstance(targets, dict) or not name:
        return targets
    if name not in targets:
        raise DataError(f"There is no target {name!r}. There are {', '.join(targets)}.")
    return targets[name]


def _hash(example: Example) -> int:
    return int(digest(*_arrays(example[:2]))[:16], 16)


def _arrays(values: Any) -> list[np.ndarray]:
    if isinstance(values, tuple | list):
        return [array for value in values for array in _arrays(value)]
    if isinstance(values, dict):
        return [array for name in sorted(values) for array in _arrays(values[name])]
    return [] if values is None else [np.asarray(values)]


class Subset(Source):
    """Some examples of a source."""

    def __init__(self, source: Source, index: Any) -> None:
        self.source = source
        self.index = np.asarray(index)
        if not self.index.size:
            raise DataError("There are no examples in this part.")
        self.class_values, self.target_gaps = source.class_values, source.target_gaps
        self.text_form = source.text_form
        whole = source.provenance
        self._provenance = Provenance(whole.source, whole.rows[self.index])
        self.holds_lock, self.knows_labels = source.holds_lock, source.knows_labels

    def __len__(self) -> int:
        return len(self.index)

    def example(self, index: int) -> Example:
        return self.source.read(int(self.index[index]))

    def take(self, index: np.ndarray) -> Batch | None:
        return self.source.take(self.index[index])

    def labels(self, target: str = "") -> np.ndarray | None:
        result = self.source.labels(target)
        return None if result is None else result[self.index]

    def settings(self) -> dict[str, Any]:
        return self.source.settings() | {"examples": len(self)}

    def fingerprint(self) -> str:
        return digest(np.frombuffer(self.source.fingerprint().encode(), np.uint8), self.index)

    @property
    def preparation(self) -> tuple[Transform, ...]:
        return self.source.preparation

    def example_hashes(self) -> np.ndarray | None:
        result = self.source.example_hashes()
        return None if result is None else result[self.index]


class Examples(Source):
    """Anything with ``__len__`` and ``__getitem__``.

    Parameters
    ----------
    items : sequence
        Its items are pairs (inputs, target), tuples of several inputs and a target, dicts, or
        arrays without a target.
    target : str or int, optional
        Which field of a dict, or place of a tuple, is the target; by default ``"target"``, or the
        last.
    name : str
        For the record.

    Examples
    --------
    >>> source = Examples([{"pH": 3.1, "state": 0}, {"pH": 3.4, "state": 1}], target="state")
    >>> source[1]
    (3.4, 1)
    """

    def __init__(self, items: Any, *, target: str | int | None = None, name: str = "") -> None:
        if not hasattr(items, "__len__") or not hasattr(items, "__getitem__"):
            raise DataError(
                f"Examples: a {type(items).__name__} has no length or no items. Of an iterator "
                "make a Stream."
            )
        if not len(items):
            raise DataError("Examples: there are none.")
        self.items, self.target, self.name = items, target, name or type(items).__name__

    def __len__(self) -> int:
        return len(self.items)

    def example(self, index: int) -> Example:
        return as_example(self.items[index], self.target, f"example {index}")

    def settings(self) -> dict[str, Any]:
        return {"kind": "examples", "name": self.name, "examples": len(self)}

    def fingerprint(self) -> str:
        """Of what it says itself by ``fingerprint()``, or of its length and 64 examples from begin
        to end.
        """
        own = getattr(self.items, "fingerprint", None)
        if callable(own):
            return str(own())
        places = np.unique(np.linspace(0, len(self) - 1, min(len(self), LOOKED_AT)).astype(int))
        return digest(
            np.array([len(self)]),
            *(array for i in places for array in _arrays(self.read(int(i))[:2])),
        )


class Prepared(Source):
    """Examples of which every input is transformed, by what the model keeps: a colleague's pictures
    are treated as those of training.
    """

    def __init__(
        self, source: Source, transforms: Sequence[Transform | Callable[[Any], Any]]
    ) -> None:
        self.source = source
        self.transforms = tuple(map(as_transform, transforms))
        for transform in self.transforms:
            if transform.random:
                raise DataError(
                    f"prepared: {transform!r} is random, and every example is prepared in one "
                    "way. Use batches(..., augment=)."
                )
        self.class_values, self.target_gaps = source.class_values, source.target_gaps
        self.text_form = source.text_form
        self.holds_lock, self.knows_labels = source.holds_lock, source.knows_labels
        self.splits_by_file = source.splits_by_file

    def __len__(self) -> int:
        return len(self.source)

    def default_order(self) -> Order | None:
        return self.source.default_order()

    def sample_index(self, most: int) -> np.ndarray:
        return self.source.sample_index(most)

    def rows(self, index: np.ndarray) -> Any:
        if not self.splits_by_file:
            return super().rows(index)
        return Prepared(self.source.rows(index), self.transforms)

    def split(self, *shares: float, **options: Any) -> list[Any]:
        if not self.splits_by_file:
            return super().split(*shares, **options)
        return [Prepared(part, self.transforms) for part in self.source.split(*shares, **options)]

    def fold_rows(self, k: int, **options: Any) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        if self.splits_by_file:
            return self.source.fold_rows(k, **options)
        return super().fold_rows(k, **options)

    def example(self, index: int) -> Example:
        inputs, target, weight = self.source.read(index)
        return (
            mapped(lambda x: prepared(np.asarray(x)[None], self.transforms)[0], inputs),
            target,
            weight,
        )

    def take(self, index: np.ndarray) -> Batch | None:
        batch = self.source.take(index)
        if batch is None:
            return None
        return batch.with_values(
            inputs=mapped(lambda x: prepared(x, self.transforms), batch.inputs)
        )

    def labels(self, target: str = "") -> np.ndarray | None:
        return self.source.labels(target)

    def settings(self) -> dict[str, Any]:
        from ...parts._describe import describe

        return self.source.settings() | {
            "prepared": [describe(transform, opaque=True) for transform in self.transforms]
        }

    def fingerprint(self) -> str:
        return self.source.fingerprint()

    @property
    def provenance(self) -> Provenance:
        return self.source.provenance

    @property
    def preparation(self) -> tuple[Transform, ...]:
        return (*self.source.preparation, *self.transforms)

    def example_hashes(self) -> np.ndarray | None:
        return self.source.example_hashes()

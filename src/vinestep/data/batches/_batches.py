"""Minibatches of a source: order, size, augmentation, background readers."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from contextlib import closing
from functools import partial
from typing import Any

import numpy as np

from ...errors import DataError
from ...parts._describe import describe
from ._batch import Batch
from ._batching import STALL_AFTER, Augment, Batching, ReadersAs
from ._contract import ExampleSource
from ._counter_rng import CounterRandom
from ._joins import Join, stacked
from ._orders import (
    ByLength,
    DrawnAhead,
    InOrder,
    Order,
    ShardOrder,
    Shuffled,
    Weighted,
    example_of,
    with_occurrences,
)
from ._partition import Partition

__all__ = ["Batches"]


class Batches(Batching):
    """Minibatches of a source, in an order that is a function of seed and epoch alone.

    Parameters
    ----------
    dataset : Source
    size : int
        Examples a batch; the last may be smaller.
    shuffled : bool
        A new order each epoch; otherwise the source's own.
    seed : int, optional
        Of order and augmentation; by default the training's.
    drop_partial : bool
        Leave a smaller last batch away.
    order : Order, optional
        Instead of `shuffled`: `Weighted`, `Balanced`, `ByLength`, or any function of (n, epoch,
        seed, size).
    augment : Transform or function, or sequence of such
        What is done to each batch at random: a function of seed, epoch and example. A plain
        function ``f(x, rng)`` takes one example and a generator.
    join : callable, optional
        From a list of examples (inputs, target, weight) to a `Batch`; by default arrays of equal
        shapes, one upon another. `Padded` is for sequences.
    readers : int
        Threads or processes that read ahead; 0 reads when a batch is asked for. What comes is the
        same whatever their number.
    readers_as : {"threads", "processes"}, optional
        By default what suits the source: threads where reading leaves the interpreter free,
        processes for Python work.
    ahead : int
        Batches that each reader has ready at most.
    stall_after : float, optional
        Seconds after which a reader that gives nothing is given up, with an error that names what
        it reads; None waits for ever.

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

    def __init__(
        self,
        dataset: ExampleSource,
        size: int,
        *,
        shuffled: bool = True,
        seed: int | None = None,
        drop_partial: bool = False,
        order: Order | None = None,
        augment: Augment = (),
        join: Join | None = None,
        readers: int = 0,
        readers_as: ReadersAs | None = None,
        ahead: int = 2,
        stall_after: float | None = STALL_AFTER,
    ) -> None:
        super().__init__(
            size, seed, drop_partial, augment, join, readers, readers_as, ahead, stall_after
        )
        self.dataset = dataset
        self.shuffled = shuffled
        self.order: Order = order if order is not None else Shuffled() if shuffled else InOrder()
        ahead_of = (Shuffled, Weighted, ByLength, ShardOrder)
        self._draw = DrawnAhead(self.order) if isinstance(self.order, ahead_of) else self.order
        self._length = self._batches_in(
            len(self.order(len(dataset), 0, 0, self.size)) if order is not None else len(dataset)
        )
        if not len(self):
            raise DataError(
                f"batches: {len(dataset)} examples make no full batch of {size}. Use a smaller "
                "size or keep the partial one."
            )

    def _batches_in(self, examples: int) -> int:
        whole, rest = divmod(examples, self.size)
        return whole + (rest > 0 and not self.drop_partial)

    def __len__(self) -> int:
        """Batches of an epoch."""
        return self._length

    @property
    def steps_an_epoch(self) -> int | None:
        """Batches of an epoch; None where that is not known."""
        return len(self)

    def settings(self) -> dict[str, Any]:
        """How they were made, for the record. Readers are left out: what comes is the same with
        any.
        """
        settings: dict[str, Any] = {
            "size": self.size,
            "shuffled": self.shuffled,
            "drop_partial": self.drop_partial,
            "examples": len(self.dataset),
        }
        if self.seed is not None:
            settings["seed"] = self.seed
        if not isinstance(self.order, InOrder | Shuffled):
            settings["order"] = describe(self.order, opaque=True)
        return settings | self.parts_settings()

    def fingerprint(self) -> str:
        """Of the data."""
        return str(self.dataset.fingerprint())

    def sample(self) -> Batch:
        """The first example as a batch, for a network to be initialised by."""
        return self.joined(np.arange(1), 0, 0, augmented=True)

    def epoch(
        self, number: int = 0, *, seed: int = 0, start: int = 0, partition: Partition | None = None
    ) -> Generator[Batch, None, None]:
        """The batches of an epoch, from the one at `start` on: exactly those that were left. With a
        partition only its rows of each are read, where a batch is no more than its examples.
        """
        own = seed if self.seed is None else self.seed
        order = self._draw(len(self.dataset), number, own, self.size)
        if self.augment:
            order = with_occurrences(order)
        stops = range(start, self._batches_in(len(order)))
        indices = [order[i * self.size : (i + 1) * self.size] for i in stops]
        read = partial(self.joined, epoch=number, seed=own, augmented=bool(self.augment))
        if partition is None or partition.size == 1 or self.join is not stacked:
            return self._read(read, indices)
        return self._read_shared(read, indices, partition)

    def _read_shared(
        self, read: Any, indices: list[np.ndarray], partition: Partition
    ) -> Generator[Batch, None, None]:
        """A batch that is smaller than the ranks is read whole, for a rank without rows."""
        rows = [
            partition.rows(n) if (n := len(index)) >= partition.size else None for index in indices
        ]
        own = [
            index if part is None else index[part.start : part.stop]
            for index, part in zip(indices, rows, strict=True)
        ]
        with closing(self._read(read, own)) as batches:
            for batch, part in zip(batches, rows, strict=False):
                yield batch if part is None else batch.with_values(rows=part)

    def in_order(self) -> Iterator[Batch]:
        """Every example once, in the source's own order, as it is: for assessing and predicting."""
        n = len(self.dataset)
        indices = [np.arange(start, min(start + self.size, n)) for start in range(0, n, self.size)]
        return self._read(partial(self.joined, epoch=0, seed=0, augmented=False), indices)

    def __iter__(self) -> Iterator[Batch]:
        return self.epoch(0)

    def joined(self, index: np.ndarray, epoch: int, seed: int, augmented: bool) -> Batch:
        """The batch of these examples."""
        batch = self.dataset.gathered(example_of(index), self.join)
        return (
            self.augmented(batch, CounterRandom(seed, epoch, index))
            if augmented and self.augment
            else batch
        )

    def _taken(self, indices: list[np.ndarray]) -> Generator[Batch, None, None]:
        """Without augmentation there is nothing between the source and the batch."""
        take, gathered = self.dataset.take, self.dataset.gathered
        for index in indices:
            batch = take(index)
            yield gathered(index) if batch is None else batch

    def _read(self, read: Any, indices: list[np.ndarray]) -> Generator[Batch, None, None]:
        if not self.readers and self.join is stacked and not read.keywords["augmented"]:
            return self._taken(indices)
        return self.read_by_readers(read, indices)

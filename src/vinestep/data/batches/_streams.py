"""Streams: examples that come one after another, without a length."""

from __future__ import annotations

import itertools
import queue
import threading
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence, Sized
from functools import partial
from typing import Any

import numpy as np

from ...errors import DataError, SettingError
from .._hashing import digest, row_hashes
from ._batch import Batch, arrays_of, as_batch, mapped
from ._batching import STALL_AFTER, Augment, Batching, ReadersAs, checked_stall
from ._counter_rng import CounterRandom
from ._joins import Example, Join, as_example

__all__ = ["IterableBatches", "Stream", "StreamBatches"]


class Stream:
    """Examples from an iterator that can be begun anew.

    Parameters
    ----------
    begin : callable or iterable
        A function that gives a new iterator over examples, always the same ones in the same order;
        or an object whose ``__iter__`` does.
    read : callable, optional
        From what the iterator gives, such as a file's name, to an example: the costly part, which
        readers share among themselves. It is not called for examples that a restored position
        leaves behind.
    target : str or int, optional
        Which field of a dict, or place of a tuple, is the target.
    name : str
        For the record.
    stall_after : float, optional
        Seconds after which a stream that gives nothing is given up.

    Examples
    --------
    >>> stream = Stream(lambda: ((float(i), i % 2) for i in range(5)))
    >>> [batch.targets.tolist() for batch in stream.batches(2)]
    [[0, 1], [0, 1], [0]]
    """

    holds_lock = True

    def __init__(
        self,
        begin: Callable[[], Iterator[Any]] | Iterable[Any],
        *,
        read: Callable[[Any], Any] | None = None,
        target: str | int | None = None,
        name: str = "",
        stall_after: float | None = None,
    ) -> None:
        if isinstance(begin, Iterator):
            raise DataError(
                f"Stream: a {type(begin).__name__} can be gone through once only, so no run over "
                "it could be continued. Give the function "
                "that makes it, or an object whose __iter__ begins anew."
            )
        self.begin, self.read, self.target = begin, read, target
        self.stall_after = checked_stall(stall_after, "Stream")
        self.name = name or getattr(begin, "__name__", type(begin).__name__)

    def __iter__(self) -> Iterator[Example]:
        """The examples from the first on."""
        for number, item in self.items():
            yield self.example(number, item)

    def example(self, number: int, item: Any) -> Example:
        """The example that an item of the iterator stands for."""
        where = f"example {number} of the stream {self.name}"
        if self.read is not None:
            try:
                item = self.read(item)
            except DataError:
                raise
            except Exception as error:
                raise DataError(f"Reading {where}: {type(error).__name__}: {error}") from error
        return as_example(item, self.target, where)

    def items(self) -> Iterator[tuple[int, Any]]:
        """What the iterator gives, numbered from 0."""
        items = self.begin() if callable(self.begin) else iter(self.begin)
        if self.stall_after is not None:
            items = _punctual(items, self.stall_after, self.name)
        for number in itertools.count():
            try:
                item = next(items)
            except StopIteration:
                return
            except DataError:
                raise
            except Exception as error:
                raise DataError(
                    f"The stream {self.name} failed at example {number}: {type(error).__name__}: "
                    f"{error}"
                ) from error
            yield number, item

    def settings(self) -> dict[str, Any]:
        return {"kind": "stream", "name": self.name}

    def fingerprint(self) -> str:
        """What it says itself by ``fingerprint()``, or nothing: a stream is not read to be
        known.
        """
        own = getattr(self.begin, "fingerprint", None)
        return str(own()) if callable(own) else ""

    def batches(self, size: int, **options: Any) -> StreamBatches:
        """Minibatches; see `StreamBatches`."""
        return StreamBatches(self, size, **options)


class StreamBatches(Batching):
    """Minibatches of a stream.

    Parameters
    ----------
    stream : Stream
    size : int
    epoch_steps : int, optional
        Batches that make an epoch: the stream goes on through the epochs, and begins anew only
        where it ends. By default an epoch is one pass.
    shuffle_among : int
        Examples kept back, from which the next is drawn at random; 0 keeps the order.
    seed : int, optional
        By default the training's.
    drop_partial : bool
    augment, join, readers, readers_as, ahead, stall_after
        As of `Batches`. The stream is gone through once, by the process that trains; its batches
        are divided among the readers, each of which reads, joins and augments its own.

    Notes
    -----
    A position is restored by going through the stream again, without reading, joining or augmenting
    what was used.
    """

    def __init__(
        self,
        stream: Stream,
        size: int,
        *,
        epoch_steps: int | None = None,
        shuffle_among: int = 0,
        seed: int | None = None,
        drop_partial: bool = False,
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
        if epoch_steps is not None and epoch_steps < 1:
            raise SettingError(f"batches: epoch_steps must be at least 1, got {epoch_steps}.")
        self.dataset = stream
        self.epoch_steps, self.shuffle_among = epoch_steps, int(shuffle_among)
        self._left_at: tuple[int, int, Iterator[Any]] | None = None

    @property
    def steps_an_epoch(self) -> int | None:
        return self.epoch_steps

    def settings(self) -> dict[str, Any]:
        settings: dict[str, Any] = {"size": self.size, "drop_partial": self.drop_partial}
        if self.epoch_steps is not None:
            settings["epoch_steps"] = self.epoch_steps
        if self.shuffle_among:
            settings["shuffle_among"] = self.shuffle_among
        return settings | self.parts_settings()

    def fingerprint(self) -> str:
        return str(self.dataset.fingerprint())

    def sample(self) -> Batch:
        for example in self.dataset:
            return self.join([example])
        raise DataError(f"The stream {self.dataset.name} holds no example.")

    def epoch(
        self, number: int = 0, *, seed: int = 0, start: int = 0
    ) -> Generator[Batch, None, None]:
        """The batches of an epoch, from the one at `start` on."""
        own = seed if self.seed is None else self.seed
        first = start if self.epoch_steps is None else number * self.epoch_steps + start
        stop = None if self.epoch_steps is None else (number + 1) * self.epoch_steps
        pieces = self._pieces_from(own, number, first)
        tasks = itertools.islice(pieces, None if stop is None else max(stop - first, 0))
        yield from self.read_by_readers(
            partial(self.joined, epoch=number, seed=own, augmented=bool(self.augment)), tasks
        )
        if stop is not None and first <= stop:
            self._left_at = own, stop, pieces

    def _pieces_from(self, seed: int, epoch: int, first: int) -> Iterator[list[tuple[int, Any]]]:
        """From the batch of this number on: where the epoch before ended, or after going through
        the stream anew.
        """
        left_at, self._left_at = self._left_at, None
        if left_at is not None and left_at[:2] == (seed, first):
            return left_at[2]
        return itertools.islice(self._pieces(seed, epoch), first, None)

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {"_left_at": None}

    def in_order(self) -> Iterator[Batch]:
        """One pass through the stream, as it is."""
        pieces = _cut(self.dataset.items(), self.size)
        yield from self.read_by_readers(
            partial(self.joined, epoch=0, seed=0, augmented=False), pieces
        )

    def joined(self, piece: list[tuple[int, Any]], epoch: int, seed: int, augmented: bool) -> Batch:
        """The batch of these items."""
        batch = self.join([self.dataset.example(number, item) for number, item in piece])
        return (
            self.augmented(batch, CounterRandom(seed, epoch, [number for number, _ in piece]))
            if augmented
            else batch
        )

    def __iter__(self) -> Iterator[Batch]:
        return self.epoch(0)

    def _pieces(self, seed: int, epoch: int) -> Iterator[list[tuple[int, Any]]]:
        """Items with their numbers, batch by batch: of one pass, or, with `epoch_steps`, pass after
        pass.
        """
        passes = itertools.count() if self.epoch_steps is not None else [epoch]
        for number in passes:
            found = False
            for piece in _cut(self._shuffled(seed, number), self.size):
                if len(piece) == self.size or not self.drop_partial:
                    found = True
                    yield piece
            if not found:
                raise DataError(f"The stream {self.dataset.name} makes no batch of {self.size}.")

    def _shuffled(self, seed: int, epoch: int) -> Iterator[tuple[int, Any]]:
        numbered = self.dataset.items()
        if not self.shuffle_among:
            yield from numbered
            return
        rng = np.random.default_rng([seed, epoch, 0x57E4])
        kept = list(itertools.islice(numbered, self.shuffle_among))
        for item in numbered:
            place = int(rng.integers(len(kept)))
            yield kept[place]
            kept[place] = item
        for place in rng.permutation(len(kept)):
            yield kept[place]


class IterableBatches(StreamBatches):
    """Batches that are made elsewhere, as they come; `Training.run` makes it of a list.

    Parameters
    ----------
    begin : callable or iterable
        What gives the batches, always the same ones in the same order: a function that begins
        anew, a list, or an object whose ``__iter__`` begins anew. A batch is a `Batch` or a tuple
        of inputs, targets and, if they weigh differently, weights.
    epoch_steps : int, optional
        Batches that make an epoch; by default one pass.
    name : str
        For the record.
    stall_after : float, optional
        Seconds after which an iterator that gives nothing is given up.

    Notes
    -----
    Whether two parts share examples is told of lists, whose contents are looked at.

    Examples
    --------
    >>> given = IterableBatches(
    ...     [(np.ones((3, 2)), np.arange(3)), (np.ones((1, 2)), np.arange(1))]
    ... )
    >>> [len(batch) for batch in given.epoch(0)]
    [3, 1]
    """

    def __init__(
        self,
        begin: Callable[[], Iterator[Any]] | Iterable[Any],
        *,
        epoch_steps: int | None = None,
        name: str = "",
        stall_after: float | None = None,
    ) -> None:
        super().__init__(
            Stream(begin, name=name, stall_after=stall_after), 1, epoch_steps=epoch_steps
        )

    @property
    def steps_an_epoch(self) -> int | None:
        if self.epoch_steps is None and isinstance(self.dataset.begin, Sized):
            return len(self.dataset.begin)
        return self.epoch_steps

    def settings(self) -> dict[str, Any]:
        found: dict[str, Any] = {"given": self.dataset.name}
        return found if self.epoch_steps is None else found | {"epoch_steps": self.epoch_steps}

    def fingerprint(self) -> str:
        if not isinstance(self.dataset.begin, Sequence):
            return super().fingerprint()
        return digest(*(array for batch in self.in_order() for array in _arrays_of(batch)))

    def example_hashes(self) -> np.ndarray | None:
        """A number for the content of each example of a list of batches; None of what comes from
        elsewhere, which is not gone through to be known.
        """
        if not isinstance(self.dataset.begin, Sequence):
            return None
        return np.concatenate([row_hashes(*_arrays_of(batch)) for batch in self.in_order()])

    def sample(self) -> Batch:
        return next(self.in_order())

    def in_order(self) -> Iterator[Batch]:
        found = False
        for number, item in self.dataset.items():
            found = True
            yield self._as_batch(number, item)
        if not found:
            raise DataError(f"{self.dataset.name}: there is no batch in it.")

    def joined(self, piece: list[tuple[int, Any]], epoch: int, seed: int, augmented: bool) -> Batch:
        return self._as_batch(*piece[0])

    def _as_batch(self, number: int, item: Any) -> Batch:
        found = as_batch(item, f"{self.dataset.name}: batch {number}")
        return found.with_values(
            **{
                name: None if value is None else mapped(np.asarray, value)
                for name in Batch.__slots__
                for value in [getattr(found, name)]
            }
        )


def _arrays_of(batch: Batch) -> list[np.ndarray]:
    return [
        *arrays_of(batch.inputs),
        *([] if batch.targets is None else arrays_of(batch.targets)),
    ]


def _cut(items: Iterator[Any], size: int) -> Iterator[list[Any]]:
    while piece := list(itertools.islice(items, size)):
        yield piece


def _punctual(items: Iterator[Any], seconds: float, name: str) -> Iterator[Any]:
    """The items, each of which has to come in time. What waits for a stream that has stalled is a
    thread, which ends with the process.
    """
    found: queue.Queue[tuple[str, Any]] = queue.Queue(maxsize=1)
    left = threading.Event()

    def give(kind: str, value: Any) -> bool:
        while not left.is_set():
            try:
                found.put((kind, value), timeout=0.1)
                return True
            except queue.Full:
                continue
        return False

    def fetch() -> None:
        try:
            for item in items:
                if not give("item", item):
                    return
        except BaseException as error:  # raised again where the stream is read
            give("error", error)
        else:
            give("end", None)

    threading.Thread(target=fetch, daemon=True, name=f"vinestep stream {name}").start()
    try:
        for number in itertools.count():
            try:
                kind, value = found.get(timeout=seconds)
            except queue.Empty:
                raise DataError(
                    f"The stream {name} gave nothing for {seconds:g} seconds, after {number} "
                    "examples. See what it waits for, or give it "
                    "more time: stall_after=."
                ) from None
            if kind == "error":
                raise value
            if kind == "end":
                return
            yield value
    finally:
        left.set()

"""In what order examples are drawn: a function of seed and epoch alone, so that any batch of any
epoch can be found at once.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable
from concurrent.futures import Future
from typing import Any, Protocol

import numpy as np

from ...errors import DataError
from ...parts._registry import part

__all__ = [
    "Balanced",
    "ByLength",
    "DrawnAhead",
    "InOrder",
    "Order",
    "OwnOrder",
    "ShardOrder",
    "Shuffled",
    "Weighted",
    "example_of",
    "rows_of_files",
    "shuffle_quality",
    "with_occurrences",
]

MANY = 1 << 17  # examples that are drawn ahead
PLACES = 40  # bits of the number of an example; above them, how often it was drawn before


def with_occurrences(order: np.ndarray) -> np.ndarray:
    """Numbers that tell the draws of one example in an epoch apart, so that each is augmented
    anew; the number of an example that was not drawn before is its own.

    Examples
    --------
    >>> drawn = with_occurrences(np.array([4, 2, 4, 4]))
    >>> example_of(drawn).tolist(), (drawn >> 40).tolist()
    ([4, 2, 4, 4], [0, 0, 1, 2])
    """
    by_example = np.argsort(order, kind="stable")
    ordered = order[by_example]
    begins = np.flatnonzero(np.r_[True, ordered[1:] != ordered[:-1]])
    times = np.empty(len(order), np.int64)
    times[by_example] = np.arange(len(order)) - np.repeat(
        begins, np.diff(np.r_[begins, len(order)])
    )
    return np.asarray(order, np.int64) + (times << PLACES)


def example_of(drawn: np.ndarray) -> np.ndarray:
    """The examples that `with_occurrences` numbered."""
    return np.asarray(drawn) & ((1 << PLACES) - 1)


class Order(Protocol):
    """Which examples an epoch shows, one after another."""

    def __call__(self, n: int, epoch: int, seed: int, size: int) -> np.ndarray:
        """Indices of n examples, to be cut into batches of `size`."""
        ...


@part("in_order", "order")
class InOrder:
    """As the source has them.

    Examples
    --------
    >>> InOrder()(3, epoch=0, seed=0, size=2).tolist()
    [0, 1, 2]
    """

    def __call__(self, n: int, epoch: int, seed: int, size: int) -> np.ndarray:
        return np.arange(n)


@part("shuffled", "order")
class Shuffled:
    """A new permutation each epoch.

    Examples
    --------
    >>> sorted(Shuffled()(4, epoch=2, seed=7, size=2).tolist())
    [0, 1, 2, 3]
    """

    def __call__(self, n: int, epoch: int, seed: int, size: int) -> np.ndarray:
        return np.random.default_rng([seed, epoch, 0x0EDE]).permutation(n)


class Weighted:
    """Drawn with replacement, in proportion to weights.

    Parameters
    ----------
    weights : array_like, shape (n,)
    draws : int, optional
        How many an epoch; by default as many as there are examples.

    Examples
    --------
    >>> order = Weighted([1, 0, 3], draws=1000)(3, epoch=0, seed=0, size=10)
    >>> [round(float((order == i).mean()), 1) for i in range(3)]
    [0.2, 0.0, 0.8]
    """

    def __init__(self, weights: Any, draws: int | None = None) -> None:
        self.weights = np.asarray(weights, np.float64)
        if (
            self.weights.ndim != 1
            or not np.isfinite(self.weights).all()
            or (self.weights < 0).any()
            or not self.weights.sum() > 0
        ):
            raise DataError(
                "Weighted: weights have to be one number for each example, none negative, and not "
                "all 0."
            )
        self.draws = draws

    def __call__(self, n: int, epoch: int, seed: int, size: int) -> np.ndarray:
        if len(self.weights) != n:
            raise DataError(f"Weighted: there are {n} examples and {len(self.weights)} weights.")
        rng = np.random.default_rng([seed, epoch, 0x3E16])
        bounds = np.cumsum(self.weights) / self.weights.sum()
        return np.minimum(np.searchsorted(bounds, rng.random(self.draws or n), side="right"), n - 1)


class Balanced(Weighted):
    """Every class drawn equally often, on average.

    Parameters
    ----------
    labels : array_like of int, shape (n,)
    draws : int, optional

    Examples
    --------
    >>> order = Balanced([0, 0, 0, 1])
    >>> order.weights.round(2).tolist()
    [0.33, 0.33, 0.33, 1.0]
    """

    def __init__(self, labels: Any, draws: int | None = None) -> None:
        _, inverse, counts = np.unique(np.asarray(labels), return_inverse=True, return_counts=True)
        super().__init__(1 / counts[inverse], draws)


class DrawnAhead:
    """An order whose next epoch is drawn by a thread while this one is gone through, since a
    million examples take as long as many steps.
    """

    def __init__(self, order: Order) -> None:
        self.order = order
        self._key: tuple[int, ...] | None = None
        self._drawn: Future[np.ndarray] | None = None

    def __call__(self, n: int, epoch: int, seed: int, size: int) -> np.ndarray:
        if n < MANY:
            return self.order(n, epoch, seed, size)
        found, process = self._drawn, os.getpid()  # a forked process has none of the threads
        known = found is not None and self._key == (process, n, epoch, seed, size)
        order = found.result() if found and known else self.order(n, epoch, seed, size)
        self._key, self._drawn = (process, n, epoch + 1, seed, size), Future()
        arguments = (self._drawn, n, epoch + 1, seed, size)
        threading.Thread(target=self._draw, args=arguments, daemon=True).start()
        return order

    def _draw(self, into: Future[np.ndarray], *key: int) -> None:
        try:
            into.set_result(self.order(*key))
        except Exception as error:  # raised again where the order is wanted
            into.set_exception(error)

    def __getstate__(self) -> dict[str, Any]:
        return {"order": self.order, "_key": None, "_drawn": None}


class OwnOrder:
    """An order of the user's own.

    Parameters
    ----------
    function : callable
        ``function(epoch, seed)`` to indices, any number of them.

    Examples
    --------
    >>> hardest_first = OwnOrder(lambda epoch, seed: [2, 0, 1])
    >>> hardest_first(3, epoch=0, seed=0, size=2).tolist()
    [2, 0, 1]
    """

    def __init__(self, function: Callable[[int, int], Any]) -> None:
        self.function = function

    def __call__(self, n: int, epoch: int, seed: int, size: int) -> np.ndarray:
        result = np.asarray(self.function(epoch, seed))
        if (
            result.ndim != 1
            or result.dtype.kind not in "iu"
            or not result.size
            or result.min() < 0
            or result.max() >= n
        ):
            raise DataError(
                f"The order of epoch {epoch} has to be whole numbers from 0 to {n - 1}, in one "
                "axis."
            )
        return result


class ByLength:
    """Sequences of about equal lengths share a batch, so that little is padded; batches come in
    random order.

    Examples are shuffled, cut into pieces of `pool` batches, and sorted by length within each. What
    does not fill a batch is drawn from examples of all lengths and comes last.

    Parameters
    ----------
    lengths : array_like of int, shape (n,)
    pool : int
        Batches that are sorted together.

    Examples
    --------
    >>> lengths = np.array([9, 2, 8, 3])
    >>> [
    ...     sorted(lengths[pair].tolist())
    ...     for pair in np.split(ByLength(lengths)(4, epoch=0, seed=0, size=2), 2)
    ... ]
    [[2, 3], [8, 9]]
    """

    def __init__(self, lengths: Any, pool: int = 50) -> None:
        self.lengths, self.pool = np.asarray(lengths), pool

    def __call__(self, n: int, epoch: int, seed: int, size: int) -> np.ndarray:
        if self.lengths.shape != (n,):
            raise DataError(
                f"ByLength: there are {n} examples and lengths of shape {self.lengths.shape}."
            )
        rng = np.random.default_rng([seed, epoch, 0xB0C])
        whole, step = n // size, self.pool * size
        left, order = np.split(rng.permutation(n), [n - whole * size])
        order = np.concatenate(
            [
                part[np.argsort(self.lengths[part], kind="stable")]
                for part in np.split(order, range(step, len(order), step))
            ]
        )
        batches = order.reshape(whole, size)
        return np.concatenate([batches[rng.permutation(whole)].ravel(), left])


class ShardOrder:
    """A shuffle buffer of whole files: they come in a new order each epoch, some at a time, and the
    examples of these are shuffled.

    Parameters
    ----------
    lengths : array_like of int
        Examples of each file.
    buffer_files : int
        Files in the shuffle buffer.

    Examples
    --------
    >>> order = ShardOrder([3, 3, 3, 3], buffer_files=2)(12, epoch=0, seed=0, size=4)
    >>> sorted(order.tolist()) == list(range(12)), len(set((order[:6] // 3).tolist()))
    (True, 2)
    """

    def __init__(self, lengths: Any, buffer_files: int) -> None:
        self.lengths, self.buffer_files = np.asarray(lengths), buffer_files

    def __call__(self, n: int, epoch: int, seed: int, size: int) -> np.ndarray:
        if int(self.lengths.sum()) != n:
            raise DataError(
                f"ShardOrder: there are {n} examples, and files of {int(self.lengths.sum())}."
            )
        rng = np.random.default_rng([seed, epoch, 0x5AAD])
        starts = np.concatenate([[0], np.cumsum(self.lengths)])
        files = rng.permutation(len(self.lengths))
        parts = []
        for begin in range(0, len(files), self.buffer_files):
            chosen = files[begin : begin + self.buffer_files]
            parts.append(rng.permutation(rows_of_files(starts, chosen)))
        return np.concatenate(parts)


def rows_of_files(starts: np.ndarray, files: Iterable[int]) -> np.ndarray:
    """The examples of some files, of which `starts` says where each begins."""
    return np.concatenate([np.arange(starts[i], starts[i + 1]) for i in files])


def shuffle_quality(order: Any) -> float:
    """How far apart examples come in an epoch that are neighbours in the source, as a share of what
    a whole shuffle makes of it: near 0 in the source's own order, about 1 of a whole shuffle.

    Examples
    --------
    >>> files = ShardOrder([100] * 20, buffer_files=5)
    >>> [
    ...     round(shuffle_quality(order(2000, epoch=0, seed=0, size=10)), 1)
    ...     for order in (InOrder(), files, Shuffled())
    ... ]
    [0.0, 0.3, 1.0]
    """
    order = np.asarray(order)
    places = np.empty(len(order), np.int64)
    places[order] = np.arange(len(order))
    return float(np.abs(np.diff(places)).mean() / ((len(order) + 1) / 3))

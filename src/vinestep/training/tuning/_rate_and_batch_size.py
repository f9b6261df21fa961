"""Finding a rate and a size of batches before a run: both on a copy of the training."""

from __future__ import annotations

import copy
import math
import time
import tracemalloc
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ...data.batches._batch import Batch
from ...data.sources._as_source import as_source
from ...data.sources._source import Source
from ...errors import NotFiniteError, SettingError
from ...optimisers._quasi_newton import LBFGS
from ...schedules import constant
from ..step._batch_checks import AnyBatches, as_batches

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from ..step._base import TrainingBase

__all__ = ["BatchSizes", "RateRange", "batch_sizes", "rate_range"]

RISEN = 4.0  # times the lowest loss: the test is over
DECADE = 1.0  # of rates, over which a slope is taken
RECENT = 5  # steps whose median says whether the loss has risen
SMOOTH = 0.05  # of the steps, on either side
SECONDS_A_SIZE = 0.5


@dataclass(frozen=True)
class RateRange:
    """The loss against a rising rate.

    Examples
    --------
    >>> found = RateRange(np.geomspace(1e-4, 1, 5), np.array([1.0, 0.95, 0.4, 0.3, 9.0]))
    >>> found.suggested
    0.01
    """

    rates: np.ndarray
    losses: np.ndarray
    """Smoothed."""

    @property
    def suggested(self) -> float:
        """Where the loss falls fastest, by a line through each decade of rates, before it is
        lowest; NaN if it never falls.
        """
        lowest = int(np.argmin(self.losses)) if len(self.losses) else 0
        if lowest < 2:
            return math.nan
        places = np.log10(self.rates)
        slopes = np.full(lowest + 1, np.inf)
        for i in range(1, lowest + 1):
            near = np.flatnonzero(np.abs(places - places[i]) <= DECADE / 2 + 1e-9)
            near = near if near.size > 2 else np.array([i - 1, i, min(i + 1, len(places) - 1)])
            slopes[i] = np.polyfit(places[near], self.losses[near], 1)[0]
        return float(f"{self.rates[int(np.argmin(slopes))]:.2g}") if slopes.min() < 0 else math.nan

    @property
    def highest(self) -> float:
        """Where the loss is lowest: the highest rate of a schedule that rises and falls should stay
        below.
        """
        return float(f"{self.rates[int(np.argmin(self.losses))]:.2g}")

    def table(self) -> pd.DataFrame:
        """A row for each step: rate, loss."""
        import pandas as pd

        return pd.DataFrame({"rate": self.rates, "loss": self.losses})

    def figure(self) -> Figure:
        """The loss against the rate, with the rate suggested."""
        from ...figures._tuning import rate_range

        return rate_range(self.rates, self.losses, self.suggested)


def rate_range(
    training: TrainingBase,
    batches: AnyBatches,
    *,
    low: float = 1e-6,
    high: float = 10.0,
    steps: int = 150,
) -> RateRange:
    """The rate range test: a short training during which the rate rises from low to high, each step
    by the same factor.

    L. N. Smith, "Cyclical Learning Rates for Training Neural Networks", WACV 2017, section 3.3. It
    works on a copy, without the schedule, and stops where the loss is four times the lowest, or not
    finite.

    Parameters
    ----------
    training : Training
    batches : Batches
    low, high : float
    steps : int

    Returns
    -------
    found : RateRange
        ``found.suggested``, ``found.table()``, ``found.figure()``.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(200, 3))
    >>> data = vs.data.Dataset(x, x[:, :1] - x[:, 1:2])
    >>> training = vs.Training(
    ...     vs.Stack(vs.Dense(16, vs.relu), vs.Dense(1)), loss=vs.losses.squared_error
    ... )
    >>> found = vs.training.rate_range(training, data.batches(32))
    >>> bool(1e-4 < found.suggested < 1)
    True
    """
    if not (0 < low < high) or steps < 10:
        raise SettingError(
            f"rate_range: 0 < low < high and at least 10 steps are needed, got {low}, {high} and "
            f"{steps}."
        )
    if isinstance(training.optimiser, LBFGS):
        raise SettingError("rate_range: LBFGS searches the length of its steps itself.")
    one = copy.deepcopy(training)
    one.descent.schedule = constant()
    batches = as_batches(batches, "rate_range: the data")
    wanted = np.geomspace(low, high, steps)
    rates, losses, lowest = [], [], math.inf
    for rate, group in zip(wanted, _endless(one, batches), strict=False):
        one.optimiser.rate = float(rate)
        try:
            value = one.make_step(group, 0, 0)[0].loss
        except NotFiniteError:
            break
        rates.append(float(rate))
        losses.append(value)
        recent = float(np.median(losses[-RECENT:]))
        lowest = min(lowest, recent)
        if recent > RISEN * lowest + 1e-12 and len(losses) > steps // 10:
            break
    return RateRange(np.array(rates), _smoothed(np.array(losses), max(1, int(SMOOTH * steps))))


def _endless(training: TrainingBase, batches: AnyBatches) -> Iterator[Any]:
    epoch = 0
    while True:
        for _, group in training.grouped(batches.epoch(epoch, seed=training.seed)):
            yield group
        epoch += 1


def _smoothed(values: np.ndarray, reach: int) -> np.ndarray:
    """Means over so many neighbours on either side."""
    if not len(values):
        return values
    sums = np.concatenate([[0.0], np.cumsum(values)])
    places = np.arange(len(values))
    begins, ends = np.maximum(places - reach, 0), np.minimum(places + reach + 1, len(values))
    return np.asarray((sums[ends] - sums[begins]) / (ends - begins))


@dataclass(frozen=True)
class BatchSizes:
    """What batches of several sizes cost.

    Examples
    --------
    >>> BatchSizes(
    ...     [{"size": 8, "seconds": 0.001, "examples_per_second": 8000.0, "megabytes": 1.0}],
    ...     None,
    ... ).fastest
    8
    """

    rows: list[dict[str, float]]
    limit: float | None
    """In megabytes."""

    def _fitting(self) -> list[dict[str, float]]:
        return [row for row in self.rows if self.limit is None or row["megabytes"] <= self.limit]

    @property
    def largest(self) -> int:
        """The largest size that was tried and fits; 0 if none does."""
        return int(max((row["size"] for row in self._fitting()), default=0))

    @property
    def fastest(self) -> int:
        """Of those that fit, the smallest size within 5 % of the most examples a second; 0 if none
        fits.
        """
        fitting = self._fitting()
        most = max((row["examples_per_second"] for row in fitting), default=0.0)
        return int(
            min(
                (row["size"] for row in fitting if row["examples_per_second"] >= 0.95 * most),
                default=0,
            )
        )

    def table(self) -> pd.DataFrame:
        """A row for each size: seconds a step, examples a second, megabytes that a step needs at
        most.
        """
        import pandas as pd

        return pd.DataFrame(self.rows)


def batch_sizes(
    training: TrainingBase,
    data: Any,
    *,
    sizes: Sequence[int] | None = None,
    megabytes: float | None = None,
) -> BatchSizes:
    """What a step costs by the size of its batch: the largest that fits into memory, and the one
    with the best throughput.

    Parameters
    ----------
    training : Training
    data : Source, or arrays (inputs, targets)
        Examples are repeated if there are fewer than the largest size.
    sizes : sequence of int, optional
        By default powers of 2 up to 8192, until one needs more than `megabytes`.
    megabytes : float, optional
        What a step may need at most beside the parameters; by default half of what is free.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((64, 3)), np.ones((64, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> list(vs.training.batch_sizes(training, data, sizes=[8, 16]).table()["size"])
    [8, 16]
    """
    import psutil

    limit = megabytes if megabytes is not None else psutil.virtual_memory().available / 2**21
    one = copy.deepcopy(training)
    one.descent.schedule = constant()
    source = as_source(data)
    rows: list[dict[str, float]] = []
    for size in sizes if sizes is not None else [2**k for k in range(14)]:
        batch = _batch_of(source, int(size))
        used = _needed(one, batch)
        times: list[float] = []
        begun = time.perf_counter()
        while len(times) < 3 or (time.perf_counter() - begun < SECONDS_A_SIZE and len(times) < 200):
            at = time.perf_counter()
            one.make_step([batch], 0, 0)
            times.append(time.perf_counter() - at)
        seconds = float(np.median(times))
        rows.append(
            {
                "size": int(size),
                "seconds": seconds,
                "examples_per_second": size / seconds,
                "megabytes": used,
            }
        )
        if used > limit and sizes is None:
            break
    return BatchSizes(rows, limit)


def _batch_of(source: Source, size: int) -> Batch:
    return source.gathered(np.arange(size) % len(source))


def _needed(training: TrainingBase, batch: Batch) -> float:
    """Megabytes of arrays that a step needs at its peak, beside what is there before."""
    training.make_step([batch], 0, 0)
    tracemalloc.start()
    try:
        before = tracemalloc.get_traced_memory()[0]
        training.make_step([batch], 0, 0)
        return (tracemalloc.get_traced_memory()[1] - before) / 2**20
    finally:
        tracemalloc.stop()

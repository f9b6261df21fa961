"""Scores with how sure they are: confidence intervals over the examples."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property, reduce
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
import scipy

from .._loss_reduction import counted_mask, loss_value
from .._public_names import own_names
from ..autodiff.tensor import held
from ..data.batches._batch import count_of, first_of, mapped, taken
from ..errors import DataError, ShapeError
from ..tasks._several import Several
from ..tasks._task_of import task_of
from .metrics._base import Metric

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Assessment", "Scored", "assess"]

CONFIDENCE = 0.95
RESAMPLES = 400
MOST_RESAMPLED = 2_000_000  # examples drawn in all; fewer resamples are made of large sets
FEWEST = 50


class Scored(NamedTuple):
    """Some examples with what a network put out for them."""

    outputs: Any
    targets: Any
    """Of several tasks outputs and targets by name."""
    weights: np.ndarray | None = None


class Assessment(dict[str, float]):
    """Loss and metrics by name, and how sure they are.

    Parameters
    ----------
    values : mapping of score to value
    examples : callable
        Gives the scored examples, batch by batch; called when intervals are first asked for.
    loss : callable
    metrics : sequence of Metric

    Examples
    --------
    >>> outputs, targets = (
    ...     np.array([[2.0, 0.0], [0.0, 1.0], [3.0, -1.0], [1.0, 0.0]]),
    ...     np.array([0, 1, 0, 1]),
    ... )
    >>> found = vs.evaluation.assess(
    ...     outputs, targets, vs.losses.cross_entropy, [vs.metrics.accuracy]
    ... )
    >>> found["accuracy"], tuple(round(bound, 2) for bound in found.intervals["accuracy"])
    (0.75, (0.3, 0.95))
    """

    def __init__(
        self,
        values: Mapping[str, float],
        examples: Callable[[], Iterable[Scored]],
        loss: Callable[[Any, Any], Any],
        metrics: Sequence[Metric],
    ) -> None:
        super().__init__(values)
        self.loss = loss
        self.metrics = metrics
        self._examples = examples

    @cached_property
    def batches(self) -> list[Scored]:
        """Outputs, targets and weights."""
        return list(self._examples())

    @property
    def size(self) -> int:
        """How many examples there are."""
        return sum(count_of(batch.targets) for batch in self.batches)

    @cached_property
    def intervals(self) -> dict[str, tuple[float, float]]:
        """Bounds of the 95 % confidence intervals, by name.

        Wilson's for fractions (E. B. Wilson, J. Am. Stat. Assoc. 22, 1927); for the others
        percentiles of a bootstrap over the examples (B. Efron, Ann. Stat. 7, 1979), with a fixed
        seed; an example is drawn with all its places and its weight. NaN where there are too few
        examples.
        """
        result: dict[str, tuple[float, float]] = {}
        for metric in self.metrics:
            if metric.is_fraction:
                counts = [metric_counts(metric, self.loss, *batch) for batch in self.batches]
                right, n = (round(float(count)) for count in reduce(metric.merge, counts))
                if n:
                    result[metric.name] = wilson(right, n)
        rest = [name for name in self if name not in result]
        return result | self._bootstrapped(rest)

    def _bootstrapped(self, names: Sequence[str]) -> dict[str, tuple[float, float]]:
        n = self.size
        if n < 2 or not names:
            return dict.fromkeys(names, (math.nan, math.nan))
        drawn = bootstrap_indices(n, RESAMPLES)
        tail = 50 * (1 - CONFIDENCE)
        bounds = {}
        for name in names:
            values = self.resampled(name, drawn)
            known = values[~np.isnan(values)]
            low, high = np.percentile(known, [tail, 100 - tail]) if known.size else [np.nan] * 2
            bounds[name] = float(low), float(high)
        return bounds

    def resampled(self, name: str, drawn: Sequence[np.ndarray]) -> np.ndarray:
        """A score of each resample; NaN where nothing of it counts."""
        metric = next((m for m in self.metrics if m.name == name), None)
        values = []
        for index in drawn:
            examples = _some(self.joined, index)
            if metric is not None:
                values.append(metric.conclude(metric_counts(metric, self.loss, *examples)))
                continue
            try:
                values.append(loss_value(self.loss, *examples))
            except DataError:
                values.append(math.nan)
        return np.array(values)

    @cached_property
    def joined(self) -> Scored:
        """All examples in one."""
        return joined(self.batches)

    def table(self) -> pd.DataFrame:
        """A row for each score: its value, the bounds of its interval, and the number of
        examples.
        """
        import pandas as pd

        rows = [(name, value, *self.intervals[name], self.size) for name, value in self.items()]
        return pd.DataFrame(rows, columns=["score", "value", "low", "high", "examples"])


def bootstrap_indices(n: int, most: int) -> list[np.ndarray]:
    """Places of so many examples drawn with repetition, the same each time; fewer of large sets."""
    rng = np.random.default_rng([n, 0xB007])
    count = max(FEWEST, min(most, MOST_RESAMPLED // max(n, 1)))
    return [rng.integers(0, n, n) for _ in range(count if n else 0)]


def _some(batch: Scored, index: np.ndarray) -> Scored:
    weights = None if batch.weights is None else batch.weights[index]
    return Scored(taken(batch.outputs, index), taken(batch.targets, index), weights)


def joined(batches: Sequence[Scored]) -> Scored:
    """All examples in one; sequences are padded to the longest, with weights of 0.

    Raises
    ------
    ShapeError
        If outputs of batches differ in more than their length.
    """
    first = batches[0]
    if isinstance(first.targets, dict):
        return _joined_by_name(batches)
    longest = max((np.shape(b.targets)[1] for b in batches if np.ndim(b.targets) > 1), default=0)
    uneven = any(np.ndim(b.targets) > 1 and b.targets.shape[1] != longest for b in batches)
    weighed = uneven or any(b.weights is not None for b in batches)

    def to_longest(array: np.ndarray, value: float) -> np.ndarray:
        if not uneven or array.ndim < 2:
            return array
        rest = [(0, 0)] * (array.ndim - 2)
        wide = [(0, 0), (0, longest - array.shape[1]), *rest]
        return np.pad(array, wide, constant_values=array.dtype.type(value))

    try:
        return Scored(
            np.concatenate([to_longest(np.asarray(b.outputs), 0) for b in batches]),
            np.concatenate(
                [to_longest(b.targets, -1 if b.targets.dtype.kind == "i" else 0) for b in batches]
            ),
            np.concatenate(
                [
                    to_longest(
                        np.ones(b.targets.shape[: 2 if uneven else 1])
                        if b.weights is None
                        else b.weights,
                        0,
                    )
                    for b in batches
                ]
            )
            if weighed
            else None,
        )
    except ValueError as error:
        shapes = ", ".join(sorted({str(np.shape(b.outputs)[1:]) for b in batches}))
        raise ShapeError(f"The outputs of the batches have different shapes: {shapes}.") from error


def _joined_by_name(batches: Sequence[Scored]) -> Scored:
    weighed = any(b.weights is not None for b in batches)
    ones = [np.ones(count_of(b.targets)) if b.weights is None else b.weights for b in batches]
    names = list(batches[0].targets)
    parts = {
        name: joined([Scored(b.outputs[name], b.targets[name]) for b in batches]) for name in names
    }
    return Scored(
        {name: part.outputs for name, part in parts.items()},
        {name: part.targets for name, part in parts.items()},
        np.concatenate(ones) if weighed else None,
    )


def metric_counts(
    metric: Metric, loss: Callable[..., Any], outputs: Any, targets: Any, weights: Any = None
) -> np.ndarray:
    """The counts of a metric for some examples, without those, and those places, that do not
    count.

    Raises
    ------
    DataError
        If there are several outputs, and the metric does not say of which it is.
    """
    task = task_of(loss)
    if isinstance(task, Several):
        if metric.target not in task.tasks:
            raise DataError(
                f"The metric {metric.name} is of one target, and there are "
                f"{', '.join(task.tasks)}. Say of which: vinestep.metrics.of_target(metric, "
                f"{next(iter(task.tasks))!r})."
            )
        outputs = task.by_name(outputs, "output")[metric.target]
        targets = task.by_name(targets, "target")[metric.target]
        return _counts_of_one(metric, task.tasks[metric.target], outputs, targets, weights)
    if metric.target:
        raise DataError(
            f"The metric {metric.name} is of the target {metric.target!r}, and the task is of one "
            "target only."
        )
    if isinstance(outputs, tuple | dict):
        raise DataError(
            f"The metric {metric.name} takes one array of outputs, and the network puts out "
            f"{len(outputs)}. Say what they mean: task=vinestep.tasks.Several(...)."
        )
    return _counts_of_one(metric, loss, outputs, targets, weights)


def merge_counts(
    metrics: Sequence[Metric], counts: dict[str, np.ndarray], more: Mapping[str, np.ndarray]
) -> None:
    """Add the counts of more examples to those so far, in place."""
    for metric in metrics:
        if metric.name in more:
            known, own = counts.get(metric.name), more[metric.name]
            counts[metric.name] = own if known is None else metric.merge(known, own)


def _counts_of_one(
    metric: Metric, loss: Callable[..., Any], outputs: Any, targets: Any, weights: Any
) -> np.ndarray:
    task = task_of(loss)
    targets = task.hard_targets(outputs, np.asarray(targets))
    if metric.of == "task":
        return metric.count(outputs, targets, task, weights)
    places = counted_mask(loss, targets, weights)
    found, wanted = outputs, targets
    if metric.of == "classes":
        found, wanted = task.as_classes(outputs, targets)
    elif metric.of == "values":
        found, wanted = task.as_values(outputs, targets)
    if places is not None and (places.ndim == 1 or metric.elementwise):
        shape = places.shape
        if found.shape[: places.ndim] == shape == wanted.shape[: places.ndim]:
            found, wanted = found[places], wanted[places]
    return metric.count(found, wanted)


def wilson(right: int, n: int) -> tuple[float, float]:
    """Bounds of a share, with 95 % confidence: E. B. Wilson, J. Am. Stat. Assoc. 22, 1927.

    Examples
    --------
    >>> [round(bound, 4) for bound in wilson(8, 10)]
    [0.4902, 0.9433]
    """
    z = float(scipy.special.ndtri(0.5 + CONFIDENCE / 2))
    share, slack = right / n, z * z / n
    middle = (share + slack / 2) / (1 + slack)
    reach = z * math.sqrt(share * (1 - share) / n + slack / (4 * n)) / (1 + slack)
    return max(0.0, middle - reach), min(1.0, middle + reach)


def _array(values: Any) -> np.ndarray:
    return np.asarray(held(values))


def assess(
    outputs: Any,
    targets: Any,
    loss: Callable[..., Any],
    metrics: Sequence[Metric] = (),
    *,
    weights: Any = None,
) -> Assessment:
    """Score outputs against targets.

    Parameters
    ----------
    outputs, targets : array_like, first axis the examples; or several by name
    loss : callable
        Or a task of `vinestep.tasks`.
    metrics : sequence of Metric
    weights : array_like, shape (n,), optional
        What each example weighs in the loss; those of 0 do not count in metrics either.

    Raises
    ------
    ShapeError
        If there are not as many outputs as targets.

    Examples
    --------
    >>> vs.evaluation.assess(np.ones((3, 1)), np.zeros((3, 1)), vs.losses.squared_error)
    {'loss': 1.0}
    """
    outputs, targets = (mapped(_array, values) for values in (outputs, targets))
    shapes = [np.shape(first_of(values)) for values in (outputs, targets)]
    if shapes[0][:1] != shapes[1][:1]:
        raise ShapeError(
            f"assess: outputs of shape {shapes[0]} and targets of shape {shapes[1]}: one of each "
            "is needed."
        )
    given = None if weights is None else _array(weights)
    values = {"loss": loss_value(loss, outputs, targets, given)} | {
        m.name: m.conclude(metric_counts(m, loss, outputs, targets, given)) for m in metrics
    }
    return Assessment(values, lambda: [Scored(outputs, targets, given)], loss, metrics)


__getattr__, __dir__ = own_names(__name__, __all__)

"""A step of several ranks: what each derives of its part, as if the batch were one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np

from ..._loss_reduction import LossAccumulator
from ...autodiff.gradients import Gradients
from ...data.batches._batch import Batch
from ...distributed._communicator import Communicator
from ...distributed._current import communicator
from ...errors import SettingError, VineStepError
from ...evaluation.metrics._base import Metric
from ._derivation import Derivation, Watch

__all__ = ["StepCounts", "derived_together", "no_sum_of_losses"]


class StepCounts(NamedTuple):
    """What a step adds to the figures of an epoch."""

    counts: dict[str, np.ndarray]
    """Of the metrics."""
    weight: float
    """Of the examples in the mean of losses."""
    examples: int
    summed: bool
    """Whether the loss is a sum over examples."""

    @classmethod
    def merged(cls, parts: Sequence[StepCounts], metrics: Sequence[Metric]) -> StepCounts:
        """Of all ranks."""
        counts: dict[str, np.ndarray] = {}
        for metric in metrics:
            for part in parts:
                if metric.name not in part.counts:
                    continue
                own, known = part.counts[metric.name], counts.get(metric.name)
                counts[metric.name] = own if known is None else metric.merge(known, own)
        return cls(
            counts,
            sum(part.weight for part in parts),
            sum(part.examples for part in parts),
            any(part.summed for part in parts if part.examples),
        )


def derived_together(
    derive: Derivation, batches: Sequence[Batch], watch: Watch | None, first: int
) -> tuple[list[Any], float, Gradients]:
    """Outputs of this rank's part of each batch, and loss and gradients of all parts of all.

    Parameters
    ----------
    derive : Derivation
    batches : sequence of Batch
        This rank's rows.
    watch : callable, optional
    first : int
        Number of the first pass, by which dropout is drawn.
    """
    team, total = communicator(), LossAccumulator(derive.loss)
    every: list[Any] = []
    gradients: Gradients | None = None
    error: Exception | None = None
    factor = 1.0
    try:
        for i, batch in enumerate(batches):
            if not len(batch):
                every.append(None)
                continue
            if total.is_empty(batch.targets, batch.weights):
                every.append(derive.outputs(batch, first + i))
                continue
            outputs, value, found = derive(batch, watch, first + i)
            every.append(outputs)
            weight = total.add(value, outputs, batch.targets, batch.weights)
            if gradients is None:
                gradients, factor = found, weight
                continue
            flat = gradients.flat
            if factor != 1:
                flat *= flat.dtype.type(factor)
                factor = 1.0
            flat += found.flat * flat.dtype.type(weight)
    except Exception as raised:
        error = raised
    if gradients is None:
        gradients, _ = derive.descent.buffer()
        gradients.flat[...] = 0
    value = _scaled(team, error, total, gradients.flat, factor)
    team.all_reduce(gradients.flat)
    return every, value, gradients


def _scaled(
    team: Communicator,
    error: Exception | None,
    own: LossAccumulator,
    flat: np.ndarray,
    factor: float,
) -> float:
    """The loss of all ranks; gradients of this one are scaled so that their sum is that of it."""
    failure = None if error is None else (type(error), str(error))
    told = team.all_gather((failure, own.sums()))
    team.raise_agreed(error, [bad for bad, _ in told])
    total = LossAccumulator.joined(own.loss, [sums for _, sums in told])
    try:
        if not total.is_exact:
            raise no_sum_of_losses(own.loss, "ranks", "Train in one process")
        value = total.value
    except VineStepError as known:
        team.raise_agreed(known, [known])
        raise
    if not total.is_sum:
        factor /= total.weight
    if factor != 1:
        flat *= flat.dtype.type(factor)
    return value


def no_sum_of_losses(loss: Any, where: str, cure: str) -> SettingError:
    """The loss of several batches, or parts of one, does not follow from that of each."""
    return SettingError(
        f"{where}: the loss {getattr(loss, '__name__', loss)} of several batches does not follow "
        "from that of each, as it does for means and sums over examples. "
        f"{cure}, a loss of vinestep.losses through functools.partial, or say "
        'loss.reduction = "mean" or "sum".'
    )

"""A step of several ranks: what each derives of its part, as if the batch were one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np

from ..._loss_reduction import LossAccumulator
from ...autodiff.gradients import Gradients
from ...data.batches._batch import Batch
from ...data.batches._partition import whole_size
from ...distributed._communicator import Communicator
from ...errors import PeerError, SettingError, VineStepError
from ...evaluation._scores import merge_counts
from ...evaluation.metrics._base import Metric
from ...layers._base import Layer
from ._derivation import Derivation, Watch
from ._rank_sums import fail_within_layers, reduces_over_ranks

__all__ = ["StepCounts", "distributed_derivative", "no_sum_of_losses"]


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
        for part in parts:
            merge_counts(metrics, counts, part.counts)
        return cls(
            counts,
            sum(part.weight for part in parts),
            sum(part.examples for part in parts),
            any(part.summed for part in parts if part.examples),
        )


def distributed_derivative(
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
    comm, total = derive.descent.comm, LossAccumulator(derive.loss)
    descent, exchange = derive.descent, derive.descent.exchange()
    every: list[Any] = []
    error: Exception | None = None
    _check_rows(comm, descent.network, batches)
    counting = [
        len(batch) > 0 and not total.is_empty(batch.targets, batch.weights) for batch in batches
    ]
    try:
        for i, batch in enumerate(batches):
            if not len(batch):
                every.append(None)
                continue
            if not counting[i]:
                every.append(derive.outputs(batch, first + i))
                continue
            is_last = not any(counting[i + 1 :])
            outputs, _, found = derive(
                batch, watch, first + i, _weigh(total, batch), exchange if is_last else None
            )
            every.append(outputs)
            if not is_last and exchange.earlier is None:
                exchange.earlier = found
            elif not is_last:
                exchange.earlier.flat += found.flat  # type: ignore[union-attr, misc]
    except PeerError:
        raise
    except Exception as raised:
        fail_within_layers(comm, descent.network, raised)
        error = raised
    gradients = descent.exchanged(exchange, error)
    joined = LossAccumulator.joined(total.loss, exchange.gather(total.sums(), error=error))
    return every, _scaled(comm, joined, gradients.flat), gradients


def _weigh(total: LossAccumulator, batch: Batch) -> Callable[[Any, float], float]:
    return lambda outputs, value: total.add(value, outputs, batch.targets, batch.weights)


def _check_rows(comm: Communicator, network: Layer, batches: Sequence[Batch]) -> None:
    """Layers that hear other ranks need some rows, of which some count, on each."""
    least = min(whole_size(batch) for batch in batches)
    if least < comm.size and reduces_over_ranks(network):
        error = SettingError(
            f"A batch of {least} examples is smaller than the {comm.size} ranks, and the network "
            "brings statistics of all together. Use larger batches; drop_partial=True leaves a "
            "last small one away."
        )
        comm.raise_on_all(error)


def _scaled(comm: Communicator, total: LossAccumulator, flat: np.ndarray) -> float:
    """The loss of all ranks; gradients, which are of the sum of losses, become those of it."""
    try:
        if not total.is_exact:
            raise no_sum_of_losses(total.loss, "ranks", "Train in one process")
        value = total.value
    except VineStepError as known:
        comm.raise_on_all(known)
    if not total.is_sum:
        flat /= flat.dtype.type(total.weight)
    return value


def no_sum_of_losses(loss: Any, where: str, cure: str) -> SettingError:
    """The loss of several batches, or parts of one, does not follow from that of each."""
    return SettingError(
        f"{where}: the loss {getattr(loss, '__name__', loss)} of several batches does not follow "
        "from that of each, as it does for means and sums over examples. "
        f"{cure}, a loss of vinestep.losses through functools.partial, or say "
        'loss.reduction = "mean" or "sum".'
    )

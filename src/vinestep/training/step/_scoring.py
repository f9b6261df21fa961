"""Assessing and predicting: a network in inference over batches of data."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ...autodiff.tensor import held
from ...autodiff.tracking import untracked
from ...data.batches._batch import Batch
from ...data.sources._dataset import Dataset, same_scaling
from ...errors import DataError, ShapeError
from ...evaluation.metrics import Metric
from ...layers._base import Layer
from ...losses import reduction_of, weight_in_mean
from ._forward_pass import loss_of, outputs_of

if TYPE_CHECKING:
    from ...evaluation._scores import Assessment

__all__ = ["assessment", "average_scores", "batch_outputs", "check_encoding", "outputs_and_targets"]


def average_scores(
    network: Layer, batches: Any, loss: Callable[[Any, Any], Any], metrics: Sequence[Metric]
) -> dict[str, float]:
    """Loss and metrics over all examples, in inference; each example counts once, and no more than
    a batch is kept.
    """
    total, n, summed = 0.0, 0.0, reduction_of(loss) == "sum"
    counts: dict[str, np.ndarray] = {}
    with untracked():
        for batch, outputs in batch_outputs(network, batches):
            targets = batch.targets
            if targets is None:
                raise DataError(
                    "assess: the examples have no targets. Say which field is the target: target=."
                )
            value = held(loss_of(loss, outputs, batch))
            if np.size(value) != 1:
                raise ShapeError(
                    f"assess: the loss has shape {np.shape(value)}, and has to be one number. Use "
                    'reduction="mean".'
                )
            weight = weight_in_mean(loss, targets, batch.weights)
            total += float(np.reshape(value, ())) * (1 if summed else weight)
            n += weight
            for metric in metrics:
                count = metric.count(outputs, targets)
                counts[metric.name] = (
                    counts[metric.name] + count if metric.name in counts else count
                )
    return {"loss": total if summed else total / n} | {
        m.name: m.conclude(counts[m.name]) for m in metrics
    }


def batch_outputs(network: Layer, batches: Any) -> Iterator[tuple[Batch, Any]]:
    """Each batch with what the network makes of it; to be gone through untracked."""
    for batch in batches.in_order():
        yield batch, held(outputs_of(network, batch.inputs, batch.masks))


def outputs_and_targets(network: Layer, batches: Any) -> tuple[np.ndarray, np.ndarray]:
    """What the network puts out for every example, and what is true of it."""
    outputs, targets = [], []
    with untracked():
        for batch, found in batch_outputs(network, batches):
            outputs.append(found)
            targets.append(np.asarray(batch.targets))
    return np.concatenate(outputs), np.concatenate(targets)


def assessment(
    network: Layer, batches: Any, loss: Callable[[Any, Any], Any], metrics: Sequence[Metric]
) -> Assessment:
    """Scores of a network on batches; the examples are gone through again when intervals are asked
    for.
    """
    from ...evaluation._scores import Assessment

    return Assessment(
        average_scores(network, batches, loss, metrics),
        lambda: outputs_and_targets(network, batches),
        loss,
        metrics,
    )


def check_encoding(first: Any, second: Any, what: str) -> None:
    """Refuse parts whose numbers mean different things."""
    ours, theirs = getattr(first, "encoding", first), getattr(second, "encoding", None)
    if ours is None or theirs is None or isinstance(ours, Dataset):
        return
    if ours != theirs:
        raise DataError(
            f"The training part and {what} are encoded differently: "
            f"{'; '.join(ours.differences(theirs))}. Split one table into parts, "
            "so that they share one encoding."
        )
    if isinstance(first, Dataset) and not same_scaling(first, second):
        raise DataError(
            f"The training part and {what} are scaled differently. Scale them together: "
            "vinestep.data.scaled(train, other)."
        )

"""Assessing and predicting: a network in inference over batches of data."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any

import numpy as np

from ..._loss_reduction import LossAccumulator, loss_value
from ...autodiff.tensor import held
from ...autodiff.tracking import untracked
from ...data.batches._batch import Batch, mapped
from ...data.sources._dataset import Dataset, same_scaling
from ...distributed._communicator import Communicator
from ...errors import DataError
from ...evaluation._scores import Assessment, Scored, joined, merge_counts, metric_counts
from ...evaluation.metrics._base import Metric
from ...layers._base import Layer
from ...tasks._base import Task
from ...tasks._several import Several
from ...tasks._task_of import task_of
from ._forward_pass import loss_of, outputs_of_batch, with_targets

__all__ = [
    "assessment",
    "average_scores",
    "batch_outputs",
    "check_encoding",
    "outputs_and_targets",
    "right_decisions",
]


def average_scores(
    network: Layer,
    batches: Any,
    loss: Callable[[Any, Any], Any],
    metrics: Sequence[Metric],
    comm: Communicator | None = None,
) -> dict[str, float]:
    """Loss and metrics over all examples, in inference; each example counts once, and no more than
    a batch is kept. Of several ranks each takes every so many-th batch.
    """
    task = task_of(loss)
    shared = None if comm is None or comm.size == 1 else comm
    own = batches if shared is None else _Strided(batches, shared)
    total, counts, error = LossAccumulator(loss), {}, None  # type: ignore[var-annotated]
    try:
        with untracked():
            for batch, outputs in batch_outputs(network, own, task):
                _add_scores(batch, outputs, loss, metrics, total, counts)
    except Exception as raised:
        if shared is None:
            raise
        error = raised
    if shared is not None:
        every = shared.all_gather((total.sums(), counts), error=error)
        total, counts = LossAccumulator.joined(loss, [sums for sums, _ in every]), {}
        for _, part in every:
            merge_counts(metrics, counts, part)
    if total.is_exact:
        value = total.value
    else:
        value = loss_value(loss, *joined(list(scored_batches(network, batches, task))))
    return {"loss": value} | {m.name: m.conclude(counts[m.name]) for m in metrics}


class _Strided:
    """Every so many-th batch."""

    def __init__(self, batches: Any, comm: Communicator) -> None:
        self.batches, self.comm = batches, comm

    def in_order(self) -> Iterator[Batch]:
        return islice(self.batches.in_order(), self.comm.rank, None, self.comm.size)


def _add_scores(
    batch: Batch,
    outputs: Any,
    loss: Any,
    metrics: Sequence[Metric],
    total: LossAccumulator,
    counts: dict[str, np.ndarray],
) -> None:
    targets = batch.targets
    if targets is None:
        raise DataError(
            "assess: the examples have no targets. Say which field is the target: target=."
        )
    if not total.is_empty(targets, batch.weights):
        total.add(loss_of(loss, outputs, batch), outputs, targets, batch.weights)
    merge_counts(
        metrics,
        counts,
        {m.name: metric_counts(m, loss, outputs, targets, batch.weights) for m in metrics},
    )


def batch_outputs(
    network: Layer, batches: Any, task: Task | None = None
) -> Iterator[tuple[Batch, Any]]:
    """Each batch with what the network makes of it; to be gone through untracked."""
    for batch in batches.in_order():
        if task is not None:
            batch = with_targets(batch, task)
        yield batch, mapped(held, outputs_of_batch(network, batch))


def scored_batches(network: Layer, batches: Any, task: Task | None = None) -> Iterator[Scored]:
    """What the network puts out for every example, and what is true of it."""
    with untracked():
        for batch, found in batch_outputs(network, batches, task):
            weights = None if batch.weights is None else np.asarray(batch.weights)
            yield Scored(found, mapped(np.asarray, batch.targets), weights)


def outputs_and_targets(network: Layer, batches: Any) -> tuple[Any, Any]:
    """All examples in one; sequences are padded to the longest, with labels of -1. Of several
    tasks both by name.
    """
    whole = joined(list(scored_batches(network, batches)))
    return whole.outputs, whole.targets


def assessment(
    network: Layer, batches: Any, loss: Callable[[Any, Any], Any], metrics: Sequence[Metric]
) -> Assessment:
    """Scores of a network on batches; the examples are gone through again when intervals are asked
    for.
    """
    return Assessment(
        average_scores(network, batches, loss, metrics),
        lambda: scored_batches(network, batches, task_of(loss)),
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


def right_decisions(loss: Any, outputs: Any, targets: Any, classes: Any) -> np.ndarray | None:
    """Whether the decided class of each example is the true one; of several targets, those of all
    that are classes and known. None if the outputs decide between other classes, or none.
    """
    task = task_of(loss)
    if isinstance(task, Several):
        found, wanted = task.by_name(outputs, "output"), task.by_name(targets, "target")
        known = classes if isinstance(classes, Mapping) else {}
        each = [
            right_decisions(own, found[name], wanted[name], known[name])
            for name, own in task.tasks.items()
            if known.get(name, 1) > 1
        ]
        right = [one for one in each if one is not None]
        return np.all(right, axis=0) if right and len(right) == len(each) else None
    if isinstance(outputs, Mapping | tuple) or isinstance(targets, Mapping):
        return None
    logits, labels = task.as_classes(outputs, np.asarray(targets))
    if logits.ndim != 2 or labels.ndim != 1 or logits.shape[1] != classes:
        return None
    return np.asarray((logits.argmax(axis=1) == labels) | (labels < 0))

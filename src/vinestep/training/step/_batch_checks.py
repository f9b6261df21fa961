"""What a training is given, checked."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import numpy as np

from ...data.batches._batch import Batch, as_batch, count_of, first_of
from ...data.batches._batches import Batches
from ...data.batches._streams import IterableBatches, Stream, StreamBatches
from ...data.sources._source import Source, shared_contents
from ...errors import DataError, SettingError
from ...evaluation.metrics._base import Metric, of_target, target_loss
from ...parts._registry import Kinds, kinds
from ...tasks._base import Task
from ...tasks._several import Several
from ._forward_pass import with_targets
from ._scoring import check_encoding

__all__ = [
    "AnyBatches",
    "are_batches",
    "as_batches",
    "check_parts",
    "checked_batch",
    "checked_metrics",
]

AnyBatches = Batches | StreamBatches


def checked_loss_or_task(loss: Any, task: Any) -> Any:
    """What is minimised: a loss, or a task, which is its own."""
    if task is not None:
        if loss is not None:
            raise SettingError("Training: give a loss or a task, which has one, not both.")
        if not isinstance(task, Task):
            raise SettingError(
                f"Training: task is a {type(task).__name__}. Give one of vinestep.tasks, such as "
                "vinestep.tasks.Classes()."
            )
        return task
    if not callable(loss):
        raise SettingError(
            f"Training: loss is a {type(loss).__name__}, not a function loss(outputs, "
            "targets), such as vinestep.losses.huber. Or give a task of vinestep.tasks."
        )
    return loss


def checked_metrics(metrics: Any, task: Task, *, usual: bool = False) -> list[Metric]:
    """Metrics of different names, as a list; those of each target by its name, where there are
    several. If nothing is said, those usual for the task, or none.
    """
    if metrics is None:
        return usual_metrics(task) if usual else []
    if isinstance(metrics, Mapping):
        metrics = _by_target(metrics, task)
    if isinstance(metrics, Metric) or not isinstance(metrics, Iterable):
        raise SettingError(
            "Training: metrics is a sequence. Write metrics=[vinestep.metrics.accuracy]."
        )
    result = list(metrics)
    for metric in result:
        if not isinstance(metric, Metric):
            raise SettingError(f"Training: {_no_metric(metric)}")
    names = [metric.name for metric in result]
    if len(set(names)) < len(names) or "loss" in names:
        raise SettingError(
            "Training: metrics need different names, and none may be called loss: "
            f"{', '.join(names)}."
        )
    return result


def _no_metric(given: Any) -> str:
    """What is wrong with something given for a metric, and what to write in its place."""
    name = getattr(given, "__name__", "")
    if callable(given) and name:
        if any(kind.target is given for kind in kinds("metric")):
            return f"{name} makes a metric. Write vinestep.metrics.{name}()."
        return (
            f"{name} is a function, and no metric. Make one of it: vinestep.metrics.of_all({name}) "
            "is called with all outputs and targets of an epoch."
        )
    return f"{given!r} is no metric. Give those of vinestep.metrics, or a Metric of your own."


def usual_metrics(task: Task) -> list[Metric]:
    """What a training is scored by that says nothing of metrics."""
    if isinstance(task, Several):
        each = {name: usual_metrics(own) for name, own in task.tasks.items()}
        losses = [target_loss(name) for name in task.tasks]
        return [*losses, *_by_target(each, task)]
    found = [Kinds().find(name, ("metric",)) for name in task.usual_metrics]
    return [kind.target if kind.form == "object" else kind.target() for kind in found]


def _by_target(metrics: Mapping[str, Any], task: Task) -> list[Metric]:
    if not isinstance(task, Several):
        raise SettingError(
            "Training: metrics by target are for several targets: task=vinestep.tasks.Several(...)."
        )
    unknown = [name for name in metrics if name not in task.tasks]
    if unknown:
        raise SettingError(
            f"Training: there are metrics of {unknown[0]!r}, and no such target. There are "
            f"{', '.join(task.tasks)}."
        )
    return [
        of_target(metric, name)
        for name, listed in metrics.items()
        for metric in checked_metrics(listed, task.tasks[name])
    ]


def checked_batch(batch: Any, task: Task | None = None) -> Batch:
    """A batch that holds inputs and targets, and as many of each."""
    result = as_batch(batch, "Training")
    if task is not None:
        result = with_targets(result, task)
    inputs, targets = result.inputs, result.targets
    if (
        type(inputs) is type(targets) is np.ndarray
        and inputs.ndim
        and targets.ndim
        and len(inputs) == len(targets) > 0
    ):
        return result
    if targets is None:
        raise DataError(
            "Training: the batch has no targets. Say which field of an example is the target: "
            "target=."
        )
    each = list(targets.values()) if isinstance(targets, dict) else [targets]
    for one in each:
        n = np.shape(one)[0] if np.ndim(one) else 0
        if not n or not _has_examples(inputs, n):
            raise DataError(
                f"Training: a batch of inputs of shape {np.shape(first_of(inputs))} and targets of "
                f"shape {np.shape(one)}. It needs at "
                "least one example, and as many inputs as targets."
            )
    return result


def _has_examples(inputs: Any, n: int) -> bool:
    return bool(np.ndim(first_of(inputs))) and count_of(inputs) == n


def are_batches(data: Any) -> bool:
    """Whether data fulfils the contract of batches, rather than holding examples."""
    return isinstance(data, AnyBatches)


def as_batches(data: Any, what: str) -> Any:
    """Data that fulfils the contract of batches: batches as they are, a list or other iterable of
    them wrapped, nothing as nothing.

    Raises
    ------
    DataError
        If it holds examples rather than batches, or can be gone through once only.
    """
    if data is None or are_batches(data):
        return data
    if isinstance(data, Iterator):
        raise DataError(
            f"{what} is a {type(data).__name__}, which can be gone through once only. Give the "
            "function that makes it: vinestep.data.IterableBatches(function)."
        )
    holds_examples = isinstance(data, Source | Stream | np.ndarray | str | Mapping)
    if holds_examples or not isinstance(data, Iterable):
        raise DataError(
            f"{what} is a {type(data).__name__}. Give batches: dataset.batches(32), or a list "
            "or other iterable of them."
        )
    return IterableBatches(data)


def check_parts(parts: Mapping[str, AnyBatches | None]) -> None:
    """Parts of one run are encoded alike, and share no examples."""
    given = {role: part for role, part in parts.items() if part is not None}
    roles = list(given)
    for i, first in enumerate(roles):
        for second in roles[i + 1 :]:
            ours, theirs = given[first].dataset, given[second].dataset
            if isinstance(ours, Source) and isinstance(theirs, Source):
                check_encoding(ours, theirs, f"the {second} part")
                shared, whole = ours.shared_rows(theirs), len(theirs)
            elif not isinstance(ours, Source) and ours.begin is getattr(theirs, "begin", None):
                raise DataError(
                    f"run: the {second} data is the {first} data, so its loss says nothing about "
                    "new data. Give it examples of its own."
                )
            else:
                shared, whole = _shared(given[first], given[second])
            if shared:
                raise DataError(
                    f"run: {shared} of {whole} {second} examples are {first} examples too, so "
                    "their loss says nothing about new data. Take both from one split: train, "
                    "validation = data.split(0.8, 0.2)."
                )


def _shared(ours: AnyBatches, theirs: AnyBatches) -> tuple[int, int]:
    """How many of the others' examples are among ours, of how many, where their contents can be
    looked at.
    """
    hashes = [_contents(part) for part in (ours, theirs)]
    if hashes[0] is None or hashes[1] is None:
        return 0, 0
    return shared_contents(hashes[0], hashes[1]), len(hashes[1])


def _contents(part: AnyBatches) -> np.ndarray | None:
    known = part if isinstance(part, IterableBatches) else part.dataset
    return known.example_hashes() if isinstance(known, IterableBatches | Source) else None

"""What a metric is: counts of batches that are merged, and a figure concluded from them."""

from __future__ import annotations

import copy
from collections.abc import Callable
from functools import partial
from typing import Any, Literal

import numpy as np

from ...autodiff.tensor import held
from ...errors import DataError, SettingError, ShapeError
from ...parts._registry import maker

__all__ = ["Metric", "checked_pair", "classified", "of_all", "of_target", "ratio", "target_loss"]

Counts = np.ndarray
Of = Literal["outputs", "classes", "values", "task"]
OF = ("outputs", "classes", "values", "task")
BETTER = ("higher", "lower", "neither")


class Metric:
    """A figure over examples.

    Parameters
    ----------
    name : str
        Column of the curves.
    count : callable
        ``count(outputs, targets)`` to a float64 array of counts, which add up over batches.
    conclude : callable
        ``conclude(counts)`` to the figure.
    better : {"higher", "lower", "neither"}
    is_fraction : bool
        Whether the counts are (k, n) and the figure k of n, as accuracy is: its interval is then
        Wilson's.
    elementwise : bool
        Whether places of sequences are counted one by one; `count` then sees only those that are
        not padding, in one row.
    of : {"outputs", "classes", "values", "task"}
        What `count` takes: what the network puts out, with targets as they are; a value for each
        class, and labels; or estimates of the shape of the targets. The task says how outputs
        become such. With "task", ``count(outputs, targets, task, weights)``.
    merge : callable, optional
        ``merge(counts, more)``, where counts do not simply add up.
    target : str
        Of which target it is, where there are several.

    Examples
    --------
    >>> vs.metrics.accuracy(np.array([[0.1, 0.9], [0.8, 0.2]]), np.array([1, 1]))
    0.5
    """

    def __init__(
        self,
        name: str,
        count: Callable[..., Counts],
        conclude: Callable[[Counts], float],
        *,
        better: str,
        is_fraction: bool = False,
        elementwise: bool = False,
        of: Of = "outputs",
        merge: Callable[[Counts, Counts], Counts] = np.add,
        target: str = "",
    ) -> None:
        if better not in BETTER:
            raise SettingError(
                f"Metric {name}: better must be one of {', '.join(BETTER)}, got {better!r}."
            )
        if of not in OF:
            raise SettingError(f"Metric {name}: of is one of {', '.join(OF)}, got {of!r}.")
        self.name = name
        self.count = count
        self.conclude = conclude
        self.better = better
        self.is_fraction = is_fraction
        self.elementwise = elementwise
        self.of = of
        self.merge = merge
        self.target = target

    def __deepcopy__(self, memo: dict[int, Any]) -> Metric:
        """Itself: it never changes, and is known by what it is."""
        return self

    def __call__(self, outputs: Any, targets: Any) -> float:
        if self.of == "task":
            raise DataError(
                f"The metric {self.name} depends on what outputs mean. Use "
                "vinestep.evaluation.assess(outputs, targets, task, [metric])."
            )
        return self.conclude(self.count(np.asarray(held(outputs)), np.asarray(held(targets))))

    def __repr__(self) -> str:
        return f"<metric {self.name}>"


def ratio(counts: Counts) -> float:
    return float(counts[0] / counts[1]) if counts[1] else float("nan")


def classified(
    name: str, outputs: np.ndarray, targets: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Outputs ``(n, n_classes)`` and labels ``(n,)``, of examples, or of all times of sequences
    whose label is not -1, as padding has.
    """
    if outputs.ndim < 2 or targets.shape != outputs.shape[:-1] or not outputs.shape[-1]:
        raise ShapeError(
            f"{name}: expected outputs of shape (n, n_classes) and labels of shape (n,), or "
            f"sequences of them, got {outputs.shape} and "
            f"{targets.shape}."
        )
    if targets.dtype.kind not in "iub":
        raise DataError(
            f"{name}: labels have to be whole numbers, got {targets.dtype}. Use labels.astype(int)."
        )
    if targets.ndim > 1 and (targets < 0).any():
        there = targets != -1
        outputs, targets = outputs[there], targets[there]
    classes, labels = outputs.shape[-1], targets.reshape(-1).astype(np.int64)
    if labels.size and (labels.min() < 0 or labels.max() >= classes):
        bad = labels[(labels < 0) | (labels >= classes)][0]
        raise DataError(
            f"{name}: label {bad} is out of range: outputs of {classes} classes allow labels 0 to "
            f"{classes - 1}."
        )
    return outputs.reshape(-1, classes), labels


def checked_pair(name: str, outputs: np.ndarray, targets: np.ndarray) -> None:
    """Refuse outputs and targets that are not numbers of one shape."""
    if outputs.shape != targets.shape:
        raise ShapeError(
            f"{name}: outputs have shape {outputs.shape}, targets {targets.shape}. They have to "
            "agree."
        )
    for values, what in ((outputs, "outputs"), (targets, "targets")):
        if values.dtype.kind not in "fiub":
            raise DataError(f"{name}: {what} have to be real numbers, got {values.dtype}.")


@maker("of_target", "metric")
def of_target(metric: Metric, target: str) -> Metric:
    """A metric of one target of several, called ``TARGET_METRIC`` in the curves.

    Examples
    --------
    >>> vs.metrics.of_target(vs.metrics.accuracy, "state")
    <metric state_accuracy>
    """
    if not target or not isinstance(target, str):
        raise SettingError(f"of_target: target is the name of a target, got {target!r}.")
    result = copy.copy(metric)
    result.name, result.target = f"{target}_{metric.name}", target
    return result


@maker("target_loss", "metric")
def target_loss(target: str) -> Metric:
    """The mean loss of one target of several, over what is known of it.

    Examples
    --------
    >>> vs.metrics.target_loss("sugar").name
    'sugar_loss'
    """
    return Metric(f"{target}_loss", _loss_of_task, ratio, better="lower", of="task", target=target)


def _loss_of_task(outputs: Any, targets: Any, task: Any, weights: Any) -> Counts:
    weigh = task.place_weights(targets, weights)
    return np.array([float(task.total(outputs, targets, weigh)), float(weigh.sum())])


@maker("of_all", "metric")
def of_all(
    function: Callable[[Any, Any], Any],
    name: str = "",
    better: Literal["higher", "lower", "neither"] = "higher",
) -> Metric:
    """A metric of your own: a function of all outputs and all targets of an epoch, which are kept
    until then.

    Parameters
    ----------
    function : callable
        ``function(outputs, targets)`` to a number; arrays with the examples along the first axis.
    name : str
        By default that of the function.
    better : {"higher", "lower", "neither"}

    Examples
    --------
    >>> def median_error(outputs, targets):
    ...     return np.median(np.abs(outputs - targets))
    >>> vs.metrics.of_all(median_error, better="lower")(
    ...     np.zeros((3, 1)), np.array([[1], [2], [9]])
    ... )
    2.0
    """
    return Metric(
        name or getattr(function, "__name__", "of_all"),
        _kept,
        partial(_of_kept, function=function),
        better=better,
        merge=_together,
    )


def _kept(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    """Outputs and targets in one array, a row for each example; the first row says where targets
    begin, and of which shape an example is.
    """
    n = len(outputs)
    if len(targets) != n:
        raise ShapeError(f"{n} outputs for {len(targets)} targets.")
    shapes = [*outputs.shape[1:], -1, *targets.shape[1:]]
    flat = [x.reshape(n, int(np.prod(x.shape[1:]))) for x in (outputs, targets)]
    rows = np.concatenate(flat, axis=1, dtype=np.float64)
    width = max(rows.shape[1], len(shapes))
    padded = np.full((n + 1, width), np.nan)
    padded[0, : len(shapes)] = shapes
    padded[1:, : rows.shape[1]] = rows
    return padded


def _together(counts: Counts, more: Counts) -> Counts:
    if counts.shape[1:] != more.shape[1:] or not np.array_equal(counts[0], more[0], equal_nan=True):
        raise ShapeError("The outputs or targets of the batches have different shapes.")
    return np.concatenate([counts, more[1:]])


def _of_kept(counts: Counts, *, function: Callable[[Any, Any], Any]) -> float:
    head = counts[0][~np.isnan(counts[0])].astype(int).tolist()
    cut = head.index(-1)
    outputs, targets = head[:cut], head[cut + 1 :]
    wide = int(np.prod(outputs))
    rows = counts[1:]
    return float(
        function(
            rows[:, :wide].reshape(-1, *outputs),
            rows[:, wide : wide + int(np.prod(targets))].reshape(-1, *targets),
        )
    )

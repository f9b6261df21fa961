"""What is decided of each example beside what is true of it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import scipy

from ..evaluation.metrics._texts import edit_distance
from ._base import Task
from ._classes import Binary, Classes, Labels, Ordered
from ._several import Several
from ._task_of import task_of
from ._unaligned import Unaligned

__all__ = ["prediction_rows", "value_text"]

OF_NO_TASK = task_of(None)


def prediction_rows(
    task: Task | None,
    outputs: Any,
    targets: Any = None,
    classes: Any = (),
    *,
    texts: Sequence[Any] | None = None,
) -> list[dict[str, Any]]:
    """A row for each example: its number, truth, output and error.

    Parameters
    ----------
    task : Task or None
    outputs : array, or several by place or by name
    targets : as the outputs, optional
    classes : sequence, or mapping of target to sequence
        What class numbers stand for.
    texts : sequence, optional
        What the outputs say, in place of what the task makes of them.

    Returns
    -------
    rows : list of dict
        Of several targets all stand in one text, and each in columns followed by its name.

    Examples
    --------
    >>> logits = np.array([[2.0, 0.0], [0.0, 1.0]])
    >>> rows = prediction_rows(vs.tasks.Classes(), logits, np.array([0, 0]), ["sound", "stuck"])
    >>> [(row["truth"], row["output"]) for row in rows]
    [('sound', 'sound (0.881)'), ('sound', 'stuck (0.731)')]
    """
    found: dict[str, Columns]
    if texts is not None:
        truths = [None] * len(texts) if targets is None else _texts(targets, classes)
        found = {"": {"truth": truths, "output": texts, "error": _away(outputs, targets)}}
    else:
        found = {
            name: _decided(own_task, own, true, own_classes)
            for name, own_task, own, true, own_classes in _by_target(
                task or OF_NO_TASK, outputs, targets, classes
            )
        }
    rows: list[dict[str, Any]] = [{"example": i} for i in range(_count(outputs))]
    _add(rows, found[""] if "" in found else _side_by_side(found))
    for name, columns in found.items():
        if name:
            _add(rows, {f"{column} {name}": v for column, v in columns.items()})
    return rows


def _count(outputs: Any) -> int:
    while isinstance(outputs, tuple | Mapping):
        outputs = outputs[0] if isinstance(outputs, tuple) else next(iter(outputs.values()))
    return len(outputs)


Columns = dict[str, Sequence[Any] | None]


def _add(rows: list[dict[str, Any]], columns: Columns) -> None:
    for column, values in columns.items():
        for row, value in zip(rows, values if values is not None else [], strict=False):
            row[column] = value


def _side_by_side(found: dict[str, Columns]) -> Columns:
    """Several targets in one text, and the mean of their errors."""
    n = max(len(columns["output"] or ()) for columns in found.values())

    def texts(column: str) -> list[str | None]:
        result = []
        for i in range(n):
            each = {name: (columns[column] or [None] * n)[i] for name, columns in found.items()}
            told = [
                f"{name} {str(text).replace(' (', ', ').rstrip(')')}"
                for name, text in each.items()
                if text is not None
            ]
            result.append("; ".join(told) or None)
        return result

    errors = []
    for i in range(n):
        own = [columns["error"][i] for columns in found.values() if columns["error"] is not None]
        known = [error for error in own if error is not None]
        errors.append(round(sum(known) / len(known), 6) if known else None)
    return {"truth": texts("truth"), "output": texts("output"), "error": errors}


def _by_target(
    task: Task, outputs: Any, targets: Any, classes: Any
) -> Iterator[tuple[str, Task, np.ndarray, Any, Sequence[Any]]]:
    """Name, task, outputs, targets and classes of each target; one alone has no name."""
    if isinstance(outputs, tuple | Mapping) and not isinstance(task, Several):
        named = outputs if isinstance(outputs, Mapping) else dict(enumerate(outputs))
        for key, own in named.items():
            yield str(key), OF_NO_TASK, own, None, ()
        return
    for name, own_task, found, wanted in task.by_target(outputs, targets):
        known = classes
        if name:
            known = classes.get(name, ()) if isinstance(classes, Mapping) else ()
        yield name, own_task, found, wanted, known


def _decided(
    task: Task, outputs: np.ndarray, targets: np.ndarray | None, classes: Sequence[Any]
) -> Columns:
    """Truth, output and error of one target: of classes the one that is decided, with its
    probability, and one less the probability of the right one; of numbers the estimate, and the
    mean absolute difference.
    """
    truths = [None] * len(outputs) if targets is None else _texts(targets, classes)
    if targets is not None and task.gaps:
        there: list[bool] = np.any(task.known(targets).reshape(len(targets), -1), axis=1).tolist()
        truths = [text if known else "missing" for text, known in zip(truths, there, strict=True)]
    columns: Columns = {
        "truth": truths,
        "output": [value_text(value) for value in outputs],
        "error": _away(outputs, targets),
    }
    if isinstance(task, Unaligned) or (isinstance(task, Classes) and outputs.ndim > 2):
        return columns | _decided_places(task, outputs, targets, classes)
    complete = targets if targets is not None else np.zeros(len(outputs), np.int64)
    logits, labels = task.as_classes(outputs, complete)
    if isinstance(task, Classes | Binary | Ordered) and logits.ndim == 2 and labels.ndim == 1:
        chances = scipy.special.softmax(logits.astype(np.float64), axis=1)
        best = chances.argmax(axis=1)
        named = _texts(best, classes if len(classes) == chances.shape[1] else ())
        columns["output"] = [
            f"{text} ({chance:.3g})"
            for text, chance in zip(named, chances.max(axis=1), strict=True)
        ]
        if targets is not None and labels.dtype.kind in "iu" and labels.max() < chances.shape[1]:
            known = task.known(targets)
            right = chances[np.arange(len(labels)), np.where(known, labels, 0)]
            columns["error"] = [
                round(float(1 - p), 6) if there else None
                for p, there in zip(right, known, strict=True)
            ]
    elif isinstance(task, Labels):
        chances = scipy.special.expit(outputs.astype(np.float64))
        names = task.names or [str(i) for i in range(chances.shape[1])]
        columns["output"] = [_chosen(row > 1 / 2, names) for row in chances]
        if targets is not None:
            columns["truth"] = [_chosen(row == 1, names) for row in targets]
            columns["error"] = _away(chances, task.completed(targets))
    elif targets is not None and targets.dtype.kind in "fiu":
        estimates, wanted = task.as_values(outputs, targets)
        if np.shape(estimates) == np.shape(wanted) and outputs.dtype.kind == "f":
            columns["output"] = [value_text(value) for value in estimates]
            columns["error"] = _away(estimates, wanted)
    return columns


def _decided_places(
    task: Task, outputs: np.ndarray, targets: np.ndarray | None, classes: Sequence[Any]
) -> Columns:
    """Of tags, pixels and unaligned labels what is decided place by place; the error is the share
    of places that are wrong, or of edits.
    """
    if isinstance(task, Unaligned):
        found = task.decoded(outputs)
        true = None if targets is None else [row[row >= 0].tolist() for row in targets]
        columns: Columns = {"output": [_spelt(labels, classes) for labels in found]}
        if true is not None:
            columns["truth"] = [_spelt(labels, classes) for labels in true]
            edits = [edit_distance(a, b) for a, b in zip(found, true, strict=True)]
            columns["error"] = [
                round(n / max(len(b), 1), 6) for n, b in zip(edits, true, strict=True)
            ]
        return columns
    best = outputs.argmax(axis=-1)
    columns = {"output": [value_text(one) for one in best]}
    if targets is not None and targets.shape == best.shape:
        known = task.known(targets)
        wrong = ((best != targets) & known).reshape(len(best), -1).sum(axis=1)
        places = np.maximum(known.reshape(len(best), -1).sum(axis=1), 1)
        columns["error"] = [round(float(share), 6) for share in wrong / places]
    return columns


def _spelt(labels: Sequence[int], classes: Sequence[Any]) -> str:
    texts = [str(classes[i]) if i < len(classes) else str(i) for i in labels]
    return ("" if all(len(text) == 1 for text in texts) else " ").join(texts)


def _chosen(marks: np.ndarray, names: Sequence[str]) -> str:
    return ", ".join(name for name, mark in zip(names, marks, strict=True) if mark) or "none"


def _texts(values: Any, classes: Any) -> list[Any]:
    """Class numbers by what they stand for, other values as they are."""
    array = np.asarray(values) if not isinstance(values, Mapping) else None
    if array is None:
        return [value_text(value) for value in next(iter(values.values()))]
    if array.ndim != 1 or array.dtype.kind not in "iu" or isinstance(classes, Mapping):
        return [value_text(value) for value in array]
    return [str(classes[i]) if 0 <= i < len(classes) else value_text(i) for i in array]


def _away(outputs: Any, targets: Any) -> list[float | None] | None:
    """How far each output is from the truth, where they can be held against one another."""
    if not isinstance(outputs, np.ndarray) or not isinstance(targets, np.ndarray):
        return None
    if outputs.shape != targets.shape or outputs.dtype.kind != "f":
        return None
    if targets.dtype.kind not in "fiub":
        return None
    each = np.abs(outputs - targets).reshape(len(outputs), -1).mean(axis=1)
    return [None if np.isnan(one) else round(float(one), 6) for one in each]


def value_text(value: Any) -> str:
    """A number, or an array, in few characters."""
    array = np.asarray(value)
    if array.size == 1:
        return f"{array.item():.6g}" if array.dtype.kind in "fiub" else str(array.item())
    return np.array2string(array, precision=3, threshold=12)

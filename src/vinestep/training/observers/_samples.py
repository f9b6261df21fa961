"""Observers that put the same few examples through the network as a run goes."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.special import expit, softmax

from ...autodiff.tensor import held
from ...autodiff.tracking import untracked
from ...data.batches._batch import count_of, mapped
from ...errors import DataError, SettingError
from ...evaluation.metrics._texts import edit_distance
from ...parts._registry import part
from ...tasks._base import Task
from ...tasks._classes import Binary, Classes, Labels, Ordered
from ...tasks._several import Several
from ...tasks._task_of import task_of
from ...tasks._unaligned import Unaligned
from ..run._run import Observer
from ..step._forward_pass import outputs_of
from ._recorders import descent_of

if TYPE_CHECKING:
    from ..run._results import Outcome
    from ..run._run import Run

__all__ = ["LayerOutputs", "Samples"]

OF_NO_TASK = task_of(None)
MOST_FIELDS = 12  # of an example's numbers, where they are shown


class Fixed(Observer):
    """Looks at the same examples every so many epochs.

    Parameters
    ----------
    inputs : array, tuple of arrays, or int
        Examples as the network takes them, or how many of the validation part, in its own order.
    targets : array, optional
        What is true of them; known of those of the validation part.
    every : int, optional
        Epochs; by default after the epochs 1, 2, 4, 8 and so on, and after the last.
    """

    def __init__(self, inputs: Any, targets: Any, every: int | None) -> None:
        name = type(self).__name__
        if isinstance(inputs, int) and (isinstance(inputs, bool) or inputs < 1):
            raise SettingError(
                f"{name}: inputs are arrays, or a number of examples of at least 1; got {inputs!r}."
            )
        if every is not None and (
            isinstance(every, bool) or not isinstance(every, int) or every < 1
        ):
            raise SettingError(
                f"{name}: every must be a number of epochs of at least 1, got {every!r}."
            )
        self.inputs, self.targets, self.every = inputs, targets, every
        self.begin()

    def not_settings(self) -> set[str]:
        return {"targets", "show"} | (set() if isinstance(self.inputs, int) else {"inputs"})

    def begin(self) -> None:
        self.classes: Any = ()
        self._given: tuple[Any, Any, Any] | None = None
        self._looked = -1

    def examples(self, run: Run) -> tuple[Any, Any, Any]:
        """Inputs, targets and masks."""
        if self._given is None:
            batches = run.examples
            self.classes = getattr(getattr(batches, "dataset", None), "class_values", ())
            if not isinstance(self.inputs, int):
                self._given = self.inputs, self.targets, None
            elif batches is None:
                raise DataError(
                    f"{type(self).__name__}: this run has no data of its own to take "
                    f"{self.inputs} examples from. Give inputs."
                )
            else:
                batch = next(iter(batches.in_order()))
                first = [
                    _first(values, self.inputs)
                    for values in (batch.inputs, batch.targets, batch.masks)
                ]
                self._given = first[0], first[1], first[2]
        return self._given

    def is_due(self, epoch: int) -> bool:
        return epoch & (epoch - 1) == 0 if self.every is None else epoch % self.every == 0

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        if self.is_due(run.position.epoch):
            self._look_once(run)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        if self.every is None:
            self._look_once(run)

    def _look_once(self, run: Run) -> None:
        if run.store is not None and self._looked != run.position.step:
            self._looked = run.position.step
            self.look(run)

    def look(self, run: Run) -> None:
        raise NotImplementedError


def _first(values: Any, n: int) -> Any:
    if values is None:
        return None
    if isinstance(values, tuple):
        return tuple(_first(value, n) for value in values)
    if isinstance(values, dict):
        return {name: _first(value, n) for name, value in values.items()}
    return values[:n]


@part("samples", "observer")
class Samples(Fixed):
    """Puts the same examples through the network as a run goes, and records the decisions beside
    the truth, and the inputs once.

    Each look is a table: example, truth, output, and the error where outputs and truth can be held
    against one another: of classes one less the probability of the right one, of numbers the mean
    absolute difference. Of several targets all stand in these columns, and each in ones followed by
    its name.

    Parameters
    ----------
    inputs : array, tuple of arrays, or int
        Examples as the network takes them, or how many of the validation part. Pictures are
        recorded as pictures.
    targets : array, optional
        What is true of them.
    every : int, optional
        Epochs; by default after the epochs 1, 2, 4, 8 and so on, and after the last.
    show : callable, optional
        From outputs to a list of texts, one an example, or to PNG bytes of a picture; by default
        the numbers, or the class that is decided with its probability.
    name : str
        Of the tables or pictures in the record.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> store, samples = vs.training.MemoryStore(), vs.observers.Samples(2)
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> outcome = training.run(data.batches(4), epochs=2, observers=[samples], record=store)
    >>> [name for name in store.file_names() if name.startswith("samples-0")]
    ['samples-00000000.csv', 'samples-00000002.csv', 'samples-00000004.csv']
    """

    def __init__(
        self,
        inputs: Any = 12,
        targets: Any = None,
        *,
        every: int | None = None,
        show: Callable[[Any], Any] | None = None,
        name: str = "samples",
    ) -> None:
        self.show, self.name = show, name
        super().__init__(inputs, targets, every)

    def before_run(self, run: Run) -> None:
        if run.store is None or run.position.step:
            return
        inputs, _, _ = self.examples(run)
        self._record_inputs(run, inputs)
        self._look_once(run)

    def _record_inputs(self, run: Run, inputs: Any) -> None:
        array = np.asarray(inputs) if not isinstance(inputs, tuple | dict) else None
        if array is None or array.dtype.kind not in "fiub":
            return
        if array.ndim == 4 and array.shape[-1] in (1, 3):
            for i, picture in enumerate(array):
                run.picture(f"{self.name} input {i:03d}", picture)
        elif array.ndim == 2:
            fields = range(min(array.shape[1], MOST_FIELDS))
            run.table(
                f"{self.name} inputs",
                [
                    {"example": i, **{f"input {j}": _short(row[j]) for j in fields}}
                    for i, row in enumerate(array)
                ],
            )

    def look(self, run: Run) -> None:
        assert run.store is not None
        inputs, targets, masks = self.examples(run)
        with untracked():
            found = outputs_of(descent_of(run).network, inputs, masks)
        outputs = mapped(lambda x: np.asarray(held(x)), found)
        wanted = None if targets is None else mapped(np.asarray, targets)
        shown = None if self.show is None else self.show(outputs)
        if isinstance(shown, bytes):
            run.store.picture(self.name, run.position.step, shown)
            return
        rows: list[dict[str, Any]] = [{"example": i} for i in range(count_of(outputs))]
        if shown is not None:
            truths = [None] * len(rows) if wanted is None else _texts(wanted, self.classes)
            columns: Columns = {
                "truth": truths,
                "output": list(shown),
                "error": _away(outputs, wanted),
            }
            _add(rows, columns)
        else:
            found = {
                name: _judged(task, own, true, classes)
                for name, task, own, true, classes in _by_target(
                    run.task or OF_NO_TASK, outputs, wanted, self.classes
                )
            }
            _add(rows, found[""] if "" in found else _side_by_side(found))
            for name, columns in found.items():
                if name:
                    _add(rows, {f"{column} {name}": v for column, v in columns.items()})
        run.store.table(self.name, run.position.step, rows)


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


def _judged(
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
        "output": [_short(value) for value in outputs],
        "error": _away(outputs, targets),
    }
    if isinstance(task, Unaligned) or (isinstance(task, Classes) and outputs.ndim > 2):
        return columns | _decided_places(task, outputs, targets, classes)
    complete = targets if targets is not None else np.zeros(len(outputs), np.int64)
    logits, labels = task.as_classes(outputs, complete)
    if isinstance(task, Classes | Binary | Ordered) and logits.ndim == 2 and labels.ndim == 1:
        chances = softmax(logits.astype(np.float64), axis=1)
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
        chances = expit(outputs.astype(np.float64))
        names = task.names or [str(i) for i in range(chances.shape[1])]
        columns["output"] = [_chosen(row > 1 / 2, names) for row in chances]
        if targets is not None:
            columns["truth"] = [_chosen(row == 1, names) for row in targets]
            columns["error"] = _away(chances, task.completed(targets))
    elif targets is not None and targets.dtype.kind in "fiu":
        estimates, wanted = task.as_values(outputs, targets)
        if np.shape(estimates) == np.shape(wanted) and outputs.dtype.kind == "f":
            columns["output"] = [_short(value) for value in estimates]
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
    columns = {"output": [_short(one) for one in best]}
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
        return [_short(value) for value in next(iter(values.values()))]
    if array.ndim != 1 or array.dtype.kind not in "iu" or isinstance(classes, Mapping):
        return [_short(value) for value in array]
    return [str(classes[i]) if 0 <= i < len(classes) else _short(i) for i in array]


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


def _short(value: Any) -> str:
    array = np.asarray(value)
    if array.size == 1:
        return f"{array.item():.6g}" if array.dtype.kind in "fiub" else str(array.item())
    return np.array2string(array, precision=3, threshold=12)


@part("layer_outputs", "observer")
class LayerOutputs(Fixed):
    """Records the outputs of a layer for the same examples as a run goes, as arrays:
    ``outputs-PATH-00000120.npy`` in the record.

    Parameters
    ----------
    path : str
        Of the layer, as `network.describe` lists it.
    inputs : array, tuple of arrays, or int
        Examples as the network takes them, or how many of the validation part.
    every : int, optional
        Epochs; by default after the epochs 1, 2, 4, 8 and so on, and after the last.

    Examples
    --------
    >>> store, looks = (
    ...     vs.training.MemoryStore(),
    ...     vs.observers.LayerOutputs("0", np.ones((3, 2))),
    ... )
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Stack(vs.Dense(4), vs.Dense(1)), loss=vs.losses.squared_error)
    >>> outcome = training.run(data.batches(4), epochs=1, observers=[looks], record=store)
    >>> [name for name in store.files if name.startswith("outputs")]
    ['outputs-0-00000002.npy']
    """

    def __init__(self, path: str, inputs: Any = 12, *, every: int | None = None) -> None:
        self.path = path
        super().__init__(inputs, None, every)

    def look(self, run: Run) -> None:
        inputs, _, _ = self.examples(run)
        run.array(
            f"outputs {self.path}",
            np.asarray(descent_of(run).network.outputs_of(self.path, inputs)),
        )

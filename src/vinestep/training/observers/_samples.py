"""Observers that put the same few examples through the network as a run goes."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from ...autodiff.tensor import held
from ...autodiff.tracking import untracked
from ...data.batches._batch import mapped
from ...errors import DataError, SettingError
from ...parts._registry import part
from ...tasks._prediction_rows import prediction_rows, value_text
from ..run._run import Observer
from ..step._forward_pass import outputs_of
from ._recorders import descent_of

if TYPE_CHECKING:
    from ..run._results import Outcome
    from ..run._run import Run

__all__ = ["LayerOutputs", "Samples"]


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

    on_every_rank = False
    calls_network = True

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
                    {"example": i, **{f"input {j}": value_text(row[j]) for j in fields}}
                    for i, row in enumerate(array)
                ],
            )

    def look(self, run: Run) -> None:
        assert run.store is not None
        inputs, targets, masks = self.examples(run)
        with untracked():
            found = outputs_of(descent_of(run).network, inputs, masks, targets)
        outputs = mapped(lambda x: np.asarray(held(x)), found)
        wanted = None if targets is None else mapped(np.asarray, targets)
        shown = None if self.show is None else self.show(outputs)
        if isinstance(shown, bytes):
            run.store.picture(self.name, run.position.step, shown)
            return
        texts = None if shown is None else list(shown)
        rows = prediction_rows(run.task, outputs, wanted, self.classes, texts=texts)
        run.store.table(self.name, run.position.step, rows)


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

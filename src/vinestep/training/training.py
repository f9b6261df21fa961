"""Training: a network that descends a loss, step by step or as a whole recorded run."""

from __future__ import annotations

import copy
import math
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from os import PathLike
from typing import TYPE_CHECKING, Any, NoReturn

import numpy as np

from ..autodiff.fused import Fused
from ..autodiff.gradients import Gradients
from ..autodiff.tensor import held
from ..data.dataset import Batch, Batches
from ..errors import DataError, NotFiniteError, SettingError
from ..findings import Finding, tell
from ..layers.arena import Arena
from ..layers.base import Layer
from ..layers.chain import dense_chain
from ..layers.containers import DenseRun, single_run
from ..layers.context import learning, observed
from ..losses import makes_logits, note_probabilities, reduction_of, straight_form
from ..metrics import Metric
from ..optimisers import Optimiser
from ..parts.describing import describe
from ..schedules import Schedule
from .descent import Descent, checked_loss, learning_pass
from .epochs import train_epochs
from .guard import is_library_code
from .looking import average, check_encoding, network_outputs, outputs_and_targets
from .opening import opened
from .plain import finite_rows
from .records import Outcome, Step
from .resuming import continue_run
from .running import Run, listening
from .store import RunStore

if TYPE_CHECKING:
    import pandas as pd

    from ..model import Model
    from ..scores import Assessment
    from .observers import Observer

__all__ = ["Training"]

Loss = Callable[[Any, Any], Any]
Watch = Callable[[str, np.ndarray], None]


class Training:
    """A network, what it is to minimise, and how.

    Parameters
    ----------
    network : Layer
        Initialised on the first batch, with `seed`, if it is not yet.
    loss : callable
        ``loss(outputs, targets)`` to one number.
    optimiser : Optimiser, optional
        Adam by default.
    schedule : Schedule, optional
        Scales the optimiser's rate by step; constant by default.
    metrics : sequence of Metric
    clip : float, optional
        Largest Euclidean norm of all gradients together; longer ones are shortened to it.
    seed : int
        Of weights, order of examples, and dropout.

    Examples
    --------
    >>> data = vs.data.Dataset(np.array([[0.0], [1.0], [2.0], [3.0]]), np.array([[1.0], [3.0], [5.0], [7.0]]))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error, optimiser=vs.optimisers.Adam(rate=0.1))
    >>> outcome = training.run(data.batches(4), epochs=300)
    >>> training.network.weights()["weight"].round(2), training.network.weights()["bias"].round(2)
    (array([[2.]], dtype=float32), array([1.], dtype=float32))
    """

    def __init__(
        self,
        network: Layer,
        *,
        loss: Loss,
        optimiser: Optimiser | None = None,
        schedule: Schedule | Callable[[int], float] | None = None,
        metrics: Sequence[Metric] = (),
        clip: float | None = None,
        seed: int = 0,
    ) -> None:
        if not callable(loss):
            raise SettingError(
                f"Training: loss is a {type(loss).__name__}, not a function loss(outputs, targets), such as vinestep.losses.huber."
            )
        self.descent = Descent(network, optimiser=optimiser, schedule=schedule, clip=clip, seed=seed)
        self.loss = loss
        self.metrics = _metrics(metrics)
        self.class_values: tuple[str | int | float | bool, ...] = ()
        self.encoding: Any = None
        self.scaling: Any = None
        self.lineage: dict[str, Any] = {}
        """Where the network comes from: run, settings, data; for the model that is handed on."""
        self._straight: tuple[DenseRun, Any, Fused] | None = None
        self._guarded = True
        self._known: tuple[Any, ...] = ()
        self._record: Run | None = None

    @property
    def network(self) -> Layer:
        return self.descent.network

    @property
    def optimiser(self) -> Optimiser:
        return self.descent.optimiser

    @property
    def schedule(self) -> Schedule:
        return self.descent.schedule

    @property
    def clip(self) -> float | None:
        return self.descent.clip

    @property
    def seed(self) -> int:
        return self.descent.seed

    @property
    def step_number(self) -> int:
        """How many steps were made."""
        return self.descent.step_number

    # one step

    def step(self, batch: Batch | tuple[Any, Any]) -> Step:
        """One update on one batch.

        Raises
        ------
        NotFiniteError
            If the loss is NaN or infinite; nothing has been changed then.
        """
        return self.make_step(batch, 0, 0)[0]

    def make_step(
        self, batch: Batch | tuple[Any, Any], epoch: int, position: int, *, before_update: Any = None, watch: Watch | None = None
    ) -> tuple[Step, dict[str, np.ndarray]]:
        """One update, and the counts of the metrics; for loops that count epochs.

        Parameters
        ----------
        batch : pair of inputs and targets
        epoch, position : int
            Epochs and batches of the present one that are done.
        before_update : callable, optional
            Called with loss, gradients before clipping, and their norm.
        watch : callable, optional
            Called with path and output of every layer; takes time.
        """
        begun = time.perf_counter()
        descent = self.descent
        inputs, targets = _checked_batch(batch)
        if descent.network.arena is None:
            descent.network.initialise(inputs if isinstance(inputs, tuple) else inputs[:1], seed=descent.seed)
        statistics = [(array, array.copy()) for array in descent.statistics()]
        try:
            outputs, value, gradients = self._derive(inputs, targets) if watch is None else self._derive_watched(inputs, targets, watch)
            if descent.step_number == 0 and makes_logits(self.loss):
                note_probabilities(outputs)
            if before_update is not None:
                before_update(value, gradients)
            norm, rate = descent.descend(value, gradients)
        except BaseException:
            for array, before in statistics:
                array[...] = before
            raise
        counts: dict[str, np.ndarray] = {}
        figures: dict[str, float] = {}
        for metric in self.metrics:
            counts[metric.name] = metric.count(held(outputs), np.asarray(targets))
            figures[metric.name] = metric.conclude(counts[metric.name])
        seconds = time.perf_counter() - begun
        return Step(descent.step_number, epoch + 1, position + 1, value, figures, gradients, norm, rate, seconds, len(targets)), counts

    def _derive(self, inputs: Any, targets: Any) -> tuple[Any, float, Gradients]:
        """Outputs, loss and gradients of a learning pass."""
        if straight := self._straight_path(inputs):
            run, checked, loss = straight
            return self._derive_straight(run, checked, loss, inputs, targets)
        with learning_pass(self.seed, self.step_number, guarded=self._guarded):
            outputs = self.network(*inputs) if isinstance(inputs, tuple) else self.network(inputs)
            recorded = self.loss(outputs, targets)
        value = checked_loss(recorded)
        if not math.isfinite(value):
            self._refuse(value, inputs)
        return outputs, value, self.descent.gradients(recorded)

    def _derive_watched(self, inputs: Any, targets: Any, watch: Watch) -> tuple[Any, float, Gradients]:
        def told(layer: Any, path: str, given: tuple[Any, ...], output: Any) -> None:
            watch(path, held(output))

        with learning_pass(self.seed, self.step_number, guarded=True), observed(told):
            outputs = self.network(*inputs) if isinstance(inputs, tuple) else self.network(inputs)
            recorded = self.loss(outputs, targets)
        value = checked_loss(recorded)
        if not math.isfinite(value):
            self._refuse(value, inputs)
        return outputs, value, self.descent.gradients(recorded)

    def _straight_path(self, inputs: Any) -> tuple[DenseRun, Any, Fused] | None:
        """What is needed to do without a record, where network and loss are one fused operation each."""
        known = self._known
        if not known or known[0] != Arena.generation or known[1] is not self.network or known[2] is not self.loss:
            self._known = (Arena.generation, self.network, self.loss)
            run, loss = single_run(self.network), straight_form(self.loss)
            self._straight = (run, *loss) if run is not None and loss is not None else None
            self._guarded = not is_library_code(self.network, self.loss)
        return self._straight if type(inputs) is np.ndarray and inputs.ndim == 2 else None

    def _derive_straight(self, run: DenseRun, checked: Any, loss: Fused, inputs: np.ndarray, targets: Any) -> tuple[Any, float, Gradients]:
        x = run.admitted(inputs)
        outputs, saved = dense_chain.kernel_forward(x, *run.arrays, plan=run.plan)
        labels = checked(targets, outputs)
        value, slopes = loss.kernel_forward(outputs, labels)
        number = float(value)
        if not math.isfinite(number):
            self._refuse(number, inputs)
        gradients, buffer = self.descent.buffer()
        if buffer.into_for is not run:
            buffer.into, buffer.into_for = [None, *(buffer.places[weight.origin] for weight in run.weights)], run
        (g, _) = loss.kernel_adjoint(1.0, slopes, (outputs, labels), {}, (True, False), (None, None))
        dense_chain.kernel_adjoint(g, saved, (x, *run.arrays), {"plan": run.plan}, run.wanted, buffer.into)
        return outputs, number, gradients

    def _refuse(self, value: float, inputs: Any) -> NoReturn:
        values = inputs if isinstance(inputs, tuple) else (inputs,)
        if not all(np.all(np.isfinite(x)) for x in values if np.asarray(x).dtype.kind == "f"):
            where = "the inputs of the batch: clean the data"
        else:
            with learning(self.seed, self.step_number):
                where = self.network.first_bad_layer(*values) or "the loss itself: look at its targets"
        raise NotFiniteError(
            f"Step {self.step_number + 1}: the loss is {value}. The first values that are not finite are in {where}. "
            "A smaller rate, a warm-up or clip= are the usual cures; the last checkpoint is untouched."
        )

    # open loop

    def steps(self, batches: Batches | Iterable[Batch], epochs: int = 1) -> Iterator[Step]:
        """Train, and yield after each update.

        Examples
        --------
        >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
        >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
        >>> [(step.number, step.epoch, step.batch) for step in training.steps(data.batches(4), epochs=2)]
        [(1, 1, 1), (2, 1, 2), (3, 2, 1), (4, 2, 2)]
        """
        if epochs > 1 and iter(batches) is batches:
            raise DataError(
                f"steps: {type(batches).__name__} can be gone through once only, and {epochs} epochs were asked for. Give "
                "dataset.batches(32), a list, or any object whose __iter__ begins anew each time."
            )
        for epoch in range(epochs):
            order = batches.epoch(epoch, seed=self.seed) if isinstance(batches, Batches) else batches
            for i, batch in enumerate(order):
                yield self.make_step(batch, epoch, i)[0]

    # a whole run

    def run(
        self,
        batches: Batches,
        *,
        epochs: int,
        validation: Batches | None = None,
        observers: Sequence[Observer] = (),
        test: Batches | None = None,
        record: RunStore | str | PathLike[str] | None = None,
        name: str = "run",
        resume: RunStore | str | PathLike[str] | None = None,
        changed: Sequence[str] = (),
        plan: dict[str, Any] | None = None,
    ) -> Outcome:
        """Train for a number of epochs, observed and recorded.

        Parameters
        ----------
        batches, validation : Batches
            They may not share examples.
        epochs : int
            In all, those before a resumption included.
        observers : sequence of Observer
        test : Batches, optional
            Kept for the end: it may share no examples with the others, and how often it is scored is recorded.
        record : path or store, optional
            Folder for runs; a numbered folder is made in it with plan, curves, console and states.
        name : str
            First part of that folder's name.
        resume : path or store, optional
            Folder of a run to continue from its newest sound state, or the file of one of its states.
        changed : sequence of str
            What is meant to differ from what the run began with, by the names that the refusal lists, such as ``optimiser.rate``; a
            name stands for all below it. It is recorded.
        plan : dict, optional
            What was asked for, to be recorded; by default the settings of everything that takes part.

        Returns
        -------
        outcome : Outcome

        Raises
        ------
        DataError
            If training, validation and test parts share examples, or encode them differently.
        NotFiniteError
            If the loss becomes NaN or infinite.
        RunError
            If the run to resume does not exist, is finished or running, or was set up differently: how.
        """
        from .observers import with_recorders

        if not isinstance(epochs, int | np.integer) or epochs < 1:
            raise SettingError(f"run: epochs must be a whole number of at least 1, got {epochs!r}.")
        self._check_parts({"training": batches, "validation": validation, "test": test})
        self._prepare(batches)
        recorded = resume is not None or record is not None
        settings = self.settings(batches, int(epochs), validation) if recorded else {}
        watchers = with_recorders(observers, recorded)
        with ExitStack() as stack:
            stack.enter_context(listening(watchers))
            store = stack.enter_context(opened(record, resume, name))
            run = Run(
                {"": self.descent},
                watchers,
                store,
                name,
                plan if plan is not None else settings,
                settings,
                epochs=int(epochs),
                steps_per_epoch=len(batches),
                better=self.directions(),
                extra=self._described_model,
            )
            run.position.summed = reduction_of(self.loss) == "sum"
            self._record = run
            self.lineage = self._lineage(run, batches, test)
            if resume is not None:
                continue_run(run, resume, changed)
            elif store is not None:
                run.save("step-00000000-epoch-0")
                run.record_status("")
                store.begin(name, run.plan)
            self.lineage["run"] = store.label if store is not None else ""
            begun = time.perf_counter()
            with run.under_way():
                train_epochs(run, self, batches, validation)
            return run.conclude(begun)

    def _check_parts(self, parts: Mapping[str, Batches | None]) -> None:
        given = {}
        for role, part in parts.items():
            if part is not None and not isinstance(part, Batches):
                raise DataError(f"run: the {role} data is a {type(part).__name__}. Give batches: dataset.batches(32).")
            if part is not None:
                given[role] = part.dataset
        roles = list(given)
        for i, first in enumerate(roles):
            for second in roles[i + 1 :]:
                check_encoding(given[first], given[second], f"the {second} part")
                shared = given[first].shared_rows(given[second])
                if shared:
                    raise DataError(
                        f"run: {shared} of {len(given[second])} {second} examples are {first} examples too, so their loss says "
                        "nothing about new data. Take both from one split: train, validation = data.split(0.8, 0.2)."
                    )

    def _prepare(self, batches: Batches) -> None:
        if self.network.arena is None:
            self.network.initialise(batches.dataset.inputs[:1], seed=self.seed)
        self.descent.begin()
        self.class_values = tuple(getattr(batches.dataset, "class_values", ())) or self.class_values
        self.encoding = getattr(batches.dataset, "encoding", None) or self.encoding
        self.scaling = getattr(batches.dataset, "scaling", None) or self.scaling

    def settings(self, batches: Batches, epochs: int, validation: Batches | None = None) -> dict[str, Any]:
        """What takes part in a run and how it is set, for the record."""
        return {
            "written_by": "Training.run",
            "seed": self.seed,
            "epochs": epochs,
            "clip": self.clip,
            "precision": str(self.network.dtype),
            "loss": describe(self.loss, opaque=True),
            "metrics": describe(self.metrics, opaque=True),
            "optimiser": describe(self.optimiser, opaque=True),
            "schedule": describe(self.schedule, opaque=True),
            "batches": batches.settings(),
            "data": batches.dataset.fingerprint(),
            "validation": None if validation is None else {"data": validation.dataset.fingerprint(), **validation.settings()},
            "frozen": sorted(self.network._ready_arena().frozen_paths),
            "network": describe(self.network, opaque=True),
            "weights": {path: list(a.shape) for path, a in self.network.weights().items()},
        }

    def directions(self) -> dict[str, str]:
        """Of each column of the curves that can be judged: whether "higher" or "lower" is better."""
        own = {"loss": "lower"} | {metric.name: metric.better for metric in self.metrics}
        return own | {f"validation_{name}": better for name, better in own.items()}

    def _lineage(self, run: Run, batches: Batches, test: Batches | None) -> dict[str, Any]:
        from ..lineage import commit, versions

        return {
            "settings": run.settings,
            "data": batches.dataset.fingerprint() if run.store is not None else "",
            "test": test.dataset.fingerprint() if test is not None else "",
            "versions": versions(),
            "commit": commit() if run.store is not None else "",
        }

    def _described_model(self) -> dict[str, Any]:
        """What a saved state says of the model in it."""
        return {"model": self.model(copied=False).described(opaque=True)}

    def model(self, *, copied: bool = True) -> Model:
        """What was trained, to be handed on: the network as it is now, with the encoding of its data and where it came from.

        Parameters
        ----------
        copied : bool
            Whether it is a copy, which training on does not change.

        Examples
        --------
        >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
        >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
        >>> step = training.step((data.inputs, data.targets))
        >>> training.model().predict(np.ones((2, 2))).shape
        (2, 1)
        """
        from ..model import Model

        rows = self._record.rows if self._record is not None else []
        return Model(
            copy.deepcopy(self.network) if copied else self.network,
            self.encoding,
            self.scaling,
            self.class_values,
            self.loss,
            tuple(self.metrics),
            {**self.lineage, "step": self.step_number, "scores": finite_rows(rows[-1:])[0] if rows else {}},
        )

    # copies and state

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {"_straight": None, "_known": (), "_record": None}

    def state(self) -> dict[str, Any]:
        """Weights, running statistics, the optimiser's state and the counters."""
        return self.descent.state()

    def restore(self, state: Mapping[str, Any]) -> None:
        """Take back what `state` gave; see `Descent.restore`."""
        self.descent.restore(state)

    # looking

    def assess(self, batches: Batches) -> Assessment:
        """Loss and metrics over all examples, in inference; each example counts once.

        Returns
        -------
        assessment : Assessment
            A mapping of score to value; ``assessment.intervals`` says how sure they are.

        Examples
        --------
        >>> data = vs.data.Dataset(np.ones((5, 2)), np.zeros((5, 1)))
        >>> training = vs.Training(vs.Dense(1, initialiser=vs.initialisers.ones), loss=vs.losses.squared_error)
        >>> training.network.initialise(data.inputs) is training.network
        True
        >>> training.assess(data.batches(2))
        {'loss': 4.0}
        """
        from ..scores import Assessment

        if not isinstance(batches, Batches):
            raise DataError(f"assess: the data is a {type(batches).__name__}. Give batches: dataset.batches(256).")
        check_encoding(self.encoding, batches.dataset, "the part to assess")
        self._count_test(batches)
        values = average(self.network, batches, self.loss, self.metrics)
        return Assessment(values, lambda: outputs_and_targets(self.network, batches), self.loss, self.metrics)

    def _count_test(self, batches: Batches) -> None:
        """How often the test part of a recorded run was scored is a matter of record: each look makes it less of a test."""
        store = self._record.store if self._record is not None else None
        if store is None or not self.lineage.get("test") or batches.dataset.fingerprint() != self.lineage["test"]:
            return
        times = int(store.info().get("test_scored", 0)) + 1
        store.status({"test_scored": times})
        if times > 1:
            tell(
                [
                    Finding(
                        "the test part",
                        "suspicious",
                        f"it was scored {times} times for {store.label}.",
                        "Whatever is chosen by its scores has been fitted to it; decide by the validation part.",
                    )
                ]
            )

    def outputs(self, data: Any, *, size: int = 1024) -> np.ndarray:
        """What the network puts out in inference, for a dataset, batches or an array of inputs."""
        check_encoding(self.encoding, data.dataset if isinstance(data, Batches) else data, "the data to predict")
        return network_outputs(self.network, data, size)

    def predict(self, data: Any) -> pd.DataFrame:
        """Predictions for a dataset, batches or an array of inputs as the network takes them; `model` takes raw rows.

        Returns
        -------
        predictions : DataFrame, one row an example
            With classes the class ``predicted``, as it stands in the data, and a probability for each; otherwise ``predicted``
            numbers.
        """
        return self.model(copied=False).readable(self.outputs(data))


def _metrics(metrics: Any) -> list[Metric]:
    if isinstance(metrics, Metric) or not isinstance(metrics, Iterable):
        raise SettingError("Training: metrics is a sequence. Write metrics=[vinestep.metrics.accuracy].")
    found = list(metrics)
    for metric in found:
        if not isinstance(metric, Metric):
            raise SettingError(f"Training: {metric!r} is no metric. Give those of vinestep.metrics, or a Metric of your own.")
    names = [metric.name for metric in found]
    if len(set(names)) < len(names) or "loss" in names:
        raise SettingError(f"Training: metrics need different names, and none may be called loss: {', '.join(names)}.")
    return found


def _checked_batch(batch: Any) -> tuple[Any, Any]:
    """Inputs and targets of a batch that holds both and as many of each."""
    if not isinstance(batch, tuple | list) or len(batch) != 2:
        raise DataError(f"Training: a batch is a pair (inputs, targets), got {type(batch).__name__}.")
    inputs, targets = batch
    if type(inputs) is type(targets) is np.ndarray and inputs.ndim and targets.ndim and len(inputs) == len(targets) > 0:
        return inputs, targets
    n = np.shape(targets)[0] if np.ndim(targets) else 0
    first = inputs[0] if isinstance(inputs, tuple) else inputs
    if not n or np.shape(first)[:1] != (n,):
        raise DataError(
            f"Training: a batch of inputs of shape {np.shape(first)} and targets of shape {np.shape(targets)}. It needs at least one "
            "example, and as many inputs as targets."
        )
    return inputs, targets

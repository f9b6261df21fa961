"""Training: a network that descends a loss, step by step or as a whole recorded run."""

from __future__ import annotations

import copy
import itertools
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from os import PathLike
from typing import TYPE_CHECKING, Any

import numpy as np

from ..autodiff.gradients import Gradients
from ..autodiff.state import untracked
from ..autodiff.tensor import held
from ..data.batch import Batch
from ..data.looks import findings_of_parts, range_of
from ..data.source import Source
from ..data.streams import Stream
from ..errors import DataError, SettingError
from ..findings import tell
from ..layers.arena import Arena
from ..layers.base import Layer
from ..layers.loading import Loaded, load_matching
from ..losses import makes_logits, note_probabilities, reduction_of, weight_in_mean
from ..metrics import Metric
from ..optimisers import Optimiser
from ..schedules import Schedule
from .asked import lineage, note_about, note_test_scored, run_settings
from .averaging import WeightAverage
from .calling import by_place
from .checks import AnyBatches, are_batches, check_parts, checked_batch, checked_metrics
from .derivation import Derivation, Loss, Watch
from .descent import Descent
from .ending import ending_of
from .epochs import train_epochs
from .half import HalfPrecision
from .looking import assessment, check_encoding, each_output
from .opening import opened, weights_of
from .plain import finite_rows
from .records import Outcome, Step
from .resuming import continue_run
from .running import Run, listening
from .scored import Scored, Validation
from .store import RunStore

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import DTypeLike

    from ..model import Model
    from ..scores import Assessment
    from .observers import Observer
    from .rehearsal import Rehearsal

__all__ = ["Training"]


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
    clip_values : float, optional
        Largest size of each element of the gradients; larger ones are cut to it.
    accumulate : int
        Batches of which the gradients make one update, as if they were one large batch.
    half : HalfPrecision, optional
        Keeps weights and gradients as float16, in float32 arithmetic.
    average : WeightAverage, optional
        A running average of the weights, by which validation is scored and which models are made of.
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
        clip_values: float | None = None,
        accumulate: int = 1,
        average: WeightAverage | None = None,
        half: HalfPrecision | None = None,
        seed: int = 0,
    ) -> None:
        if not callable(loss):
            raise SettingError(
                f"Training: loss is a {type(loss).__name__}, not a function loss(outputs, targets), such as vinestep.losses.huber."
            )
        if isinstance(accumulate, bool) or not isinstance(accumulate, int | np.integer) or accumulate < 1:
            raise SettingError(f"Training: accumulate must be a whole number of at least 1, got {accumulate!r}.")
        self.descent = Descent(
            network, optimiser=optimiser, schedule=schedule, clip=clip, clip_values=clip_values, average=average, half=half, seed=seed
        )
        self.accumulate = int(accumulate)
        self.metrics = checked_metrics(metrics)
        self.class_values: tuple[str | int | float | bool, ...] = ()
        self.encoding: Any = None
        self.scaling: Any = None
        self.preparation: tuple[Any, ...] = ()
        self.input_range: tuple[float, float] | None = None
        self.text_form: Any = None
        self.parent: dict[str, Any] = {}
        """Where the weights come from that training began with; empty if they were drawn."""
        self.lineage: dict[str, Any] = {}
        """Where the network comes from: run, settings, data; for the model that is handed on."""
        self._derivation = Derivation(self.descent, loss)
        self._record: Run | None = None
        self._described: tuple[int, dict[str, Any]] | None = None

    @property
    def loss(self) -> Loss:
        return self._derivation.loss

    @loss.setter
    def loss(self, loss: Loss) -> None:
        self._derivation.loss = loss

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
    def clip_values(self) -> float | None:
        return self.descent.clip_values

    @property
    def average(self) -> WeightAverage | None:
        return self.descent.average

    @property
    def half(self) -> HalfPrecision | None:
        return self.descent.half

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
        self,
        batch: Batch | tuple[Any, Any] | list[Batch],
        epoch: int,
        position: int,
        *,
        before_update: Any = None,
        watch: Watch | None = None,
    ) -> tuple[Step, dict[str, np.ndarray]]:
        """One update, and the counts of the metrics; for loops that count epochs.

        Parameters
        ----------
        batch : pair of inputs and targets, or list of batches
            Of several, the gradients are put together.
        epoch, position : int
            Epochs and batches of the present one that are done.
        before_update : callable, optional
            Called with loss, gradients before clipping, and their norm.
        watch : callable, optional
            Called with path and output of every layer; takes time.
        """
        begun = time.perf_counter()
        descent = self.descent
        several = [checked_batch(part) for part in batch] if type(batch) is list else [checked_batch(batch)]
        if descent.network.arena is None:
            self.initialise(several[0])
        if self.half is not None:
            self.half.begin(descent.network.arena)  # type: ignore[arg-type]  # it was just initialised
        statistics = [(array, array.copy()) for array in descent.statistics()]
        try:
            outputs, value, gradients = self.derived(several, watch)
            if descent.step_number == 0 and makes_logits(self.loss):
                note_probabilities(outputs[0])
            if before_update is not None:
                before_update(value, gradients)
            norm, rate = descent.descend(value, gradients, lambda: self.derived(several, None)[1:])
        except BaseException:
            for array, before in statistics:
                array[...] = before
            raise
        counts: dict[str, np.ndarray] = {}
        figures: dict[str, float] = {}
        for metric in self.metrics:
            for part, found in zip(several, outputs, strict=True):
                count = metric.count(held(found), np.asarray(part.targets))
                counts[metric.name] = counts[metric.name] + count if metric.name in counts else count
            figures[metric.name] = metric.conclude(counts[metric.name])
        examples = sum(len(part.targets) for part in several)
        seconds = time.perf_counter() - begun
        return Step(descent.step_number, epoch + 1, position + 1, value, figures, gradients, norm, rate, seconds, examples), counts

    def derived(self, batches: list[Batch], watch: Watch | None = None) -> tuple[list[Any], float, Gradients]:
        """Outputs of each batch, and loss and gradients as if they were one; no parameter is changed."""
        first = self.step_number * self.accumulate
        outputs, value, gradients = self._derivation(batches[0], watch, first)
        if len(batches) == 1:
            return [outputs], value, gradients
        every, summed = [outputs], reduction_of(self.loss) == "sum"
        weights = [1.0 if summed else weight_in_mean(self.loss, batch.targets, batch.weights) for batch in batches]
        total = 1.0 if summed else sum(weights)
        number = self.network.dtype.type
        flat = gradients.flat
        flat *= number(weights[0] / total)
        value *= weights[0] / total
        for i, (batch, weight) in enumerate(zip(batches[1:], weights[1:], strict=True), 1):
            outputs, part, found = self._derivation(batch, watch, first + i)
            every.append(outputs)
            value += part * weight / total
            flat += found.flat * number(weight / total)
        return every, value, gradients

    def initialise(self, batch: Batch, *, dtype: DTypeLike | None = None) -> None:
        """Draw the network's parameters for inputs of this kind, by the seed of the training."""
        inputs = by_place(self.network, batch.inputs)
        self.network.initialise(inputs if isinstance(inputs, tuple) else inputs[:1], seed=self.seed, dtype=dtype)

    # open loop

    def steps(self, batches: AnyBatches | Iterable[Batch], epochs: int = 1) -> Iterator[Step]:
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
            order = batches.epoch(epoch, seed=self.seed) if isinstance(batches, AnyBatches) else batches
            for i, group in self.grouped(order):
                yield self.make_step(group, epoch, i)[0]

    def grouped(self, batches: Iterable[Batch]) -> Iterator[tuple[int, Any]]:
        """The batches that make one update, and how many come before them."""
        if self.accumulate == 1:
            yield from enumerate(batches)
            return
        done, left = 0, iter(batches)
        while group := list(itertools.islice(left, self.accumulate)):
            yield done, group
            done += len(group)

    # a whole run

    def run(
        self,
        batches: AnyBatches,
        *,
        epochs: int | None = None,
        steps: int | None = None,
        until: str | None = None,
        validation: Validation = None,
        validate_every: int | str = 1,
        observers: Sequence[Observer] = (),
        test: AnyBatches | None = None,
        record: RunStore | str | PathLike[str] | None = None,
        name: str = "run",
        resume: RunStore | str | PathLike[str] | None = None,
        changed: Sequence[str] = (),
        plan: dict[str, Any] | None = None,
    ) -> Outcome:
        """Train until something is reached, observed and recorded.

        Parameters
        ----------
        batches : Batches
            Of any source or stream.
        validation : Batches, or mapping of name to Batches or function, optional
            What is scored after each epoch, sharing no examples with `batches`. Of several, the first judges; a function takes the
            network and returns a number or several by name, such as what generated texts score. To score a part only, give a part.
        validate_every : int or str
            Epochs from one validation to the next; the last epoch is always validated. With ``"500 steps"``, also after every 500 steps
            within an epoch: such scores are kept in ``outcome.looks`` and the record's "validation", and the best state may be one.
        until : str, optional
            When the run ends, in words: ``"60 epochs or 30 minutes or no gain for 8 epochs, not before 5 epochs"``; see
            `vinestep.training.ending.Ending`.
        epochs : int, optional
            In all, those before a resumption included.
        steps : int, optional
            In all, in place of `epochs`; for streams. Curves still have a row for each epoch that ends.
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

        ending = ending_of(epochs, steps, until)
        scored = Scored(validation, every=validate_every)
        check_parts({"training": batches, **scored.batches, "test": test})
        self._prepare(batches)
        tell(findings_of_parts(batches, scored.first, test, self.input_range))
        recorded = resume is not None or record is not None
        settings = run_settings(self, batches, ending, scored) if recorded else {}
        watchers = with_recorders([ending, *observers], recorded)
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
                epochs=ending.amount("epoch"),
                total_steps=ending.amount("step"),
                ending=ending,
                batches_per_epoch=batches.steps_an_epoch or 0,
                steps_per_epoch=self.updates_an_epoch(batches) or 0,
                better=self.directions(scored.names),
                extra=self._described_model,
                examples=scored.first or batches,
            )
            run.position.summed = reduction_of(self.loss) == "sum"
            self._record = run
            self.lineage = lineage(run, test) | ({"parent": self.parent} if self.parent else {})
            if resume is not None:
                before = continue_run(run, resume, changed).get("model") or {}
                if not self.parent and (parent := before.get("lineage", {}).get("parent")):
                    self.parent = self.lineage["parent"] = parent
            elif store is not None:
                run.save("step-00000000-epoch-0")
                run.finish_saving()
                run.record_status("")
                more = {"better": run.better, "steps": run.total_steps or run.epochs * run.steps_per_epoch}
                note_about(store, settings, self.lineage | more, self._graph(batches))
                store.begin(name, run.plan)
            self.lineage["run"] = store.label if store is not None else ""
            begun = time.perf_counter()
            with run.under_way():
                train_epochs(run, self, batches, scored)
            return run.conclude(begun)

    def _prepare(self, batches: AnyBatches) -> None:
        if self.network.arena is None:
            self.initialise(batches.sample())
        self.descent.begin()
        self.schedule.begin(self.updates_an_epoch(batches))
        self.class_values = tuple(getattr(batches.dataset, "class_values", ())) or self.class_values
        self.encoding = getattr(batches.dataset, "encoding", None) or self.encoding
        self.scaling = getattr(batches.dataset, "scaling", None) or self.scaling
        self.preparation = tuple(getattr(batches.dataset, "preparation", ())) or self.preparation
        self.input_range = range_of(batches) or self.input_range
        self.text_form = getattr(batches.dataset, "text_form", None) or self.text_form

    def _graph(self, batches: AnyBatches) -> list[dict[str, Any]]:
        """The layers of the network with their shapes, for the record; a row each."""
        sample = by_place(self.network, batches.sample().inputs)
        one = tuple(array[:1] for array in sample) if isinstance(sample, tuple) else sample[:1]
        return self.network.describe(one).rows

    def updates_an_epoch(self, batches: AnyBatches) -> int | None:
        """How many updates the batches of an epoch make; None where that is not known."""
        length = batches.steps_an_epoch
        return None if length is None else -(-length // self.accumulate)

    def directions(self, parts: Iterable[str] = ("validation",)) -> dict[str, str]:
        """Of each column of the curves that can be judged: whether "higher" or "lower" is better."""
        own = {"loss": "lower"} | {metric.name: metric.better for metric in self.metrics}
        return own | {f"{part}_{name}": better for part in parts for name, better in own.items()}

    def _described_model(self) -> dict[str, Any]:
        """What a saved state says of the model in it; the network is described anew only after it was changed."""
        model = self.model(copied=False)
        known = self._described
        if known is None or known[0] != Arena.generation:
            self._described = known = Arena.generation, model.described(opaque=True)
        average = {} if self.average is None or not self.average.count else {"average_share": self.average.share}
        return {"model": known[1] | {"lineage": model.lineage} | average}

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
        if copied and self.average is not None:
            with self.descent.averaged():
                return self._model(copy.deepcopy(self.network))
        return self._model(copy.deepcopy(self.network) if copied else self.network)

    def _model(self, network: Layer) -> Model:
        from ..model import Model

        rows = self._record.rows if self._record is not None else []
        return Model(
            network,
            self.encoding,
            self.scaling,
            self.class_values,
            self.loss,
            tuple(self.metrics),
            {**self.lineage, "step": self.step_number, "scores": finite_rows(rows[-1:])[0] if rows else {}},
            self.preparation,
            self.input_range,
            self.half is not None,
            self.text_form,
        )

    # copies and state

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {"_record": None, "_described": None}

    def state(self) -> dict[str, Any]:
        """Weights, running statistics, the optimiser's state and the counters."""
        return self.descent.state()

    def restore(self, state: Mapping[str, Any]) -> None:
        """Take back what `state` gave; see `Descent.restore`."""
        self.descent.restore(state)

    # looking

    def start_from(self, source: Any, *, pattern: str = "*", names: Any = None) -> Loaded:
        """Begin with weights of another network; where they come from is recorded with the run, and with its model.

        Parameters
        ----------
        source : path, Model, Layer, or mapping of name to array
            A model file, a state of a run, or the folder of a run, of which the best state counts, or the newest.
        pattern, names
            Which weights, and what they are called there; see `vinestep.layers.load_matching`.

        Returns
        -------
        report : Loaded
            What was loaded, what was left and why.

        Raises
        ------
        LayerError
            If the network is not initialised yet, or nothing matches.
        """
        found, parent = weights_of(source)
        report = load_matching(self.network, found, pattern=pattern, names=names)
        self.parent = {**parent, "loaded": len(report.loaded), "left": len(report.left)}
        return report

    def rehearse(
        self, train: AnyBatches, validation: AnyBatches | None = None, *, quick: bool = False, steps: int | None = None
    ) -> Rehearsal:
        """Look for what goes wrong in runs, in seconds and on a copy; see `vinestep.training.rehearse`."""
        from .rehearsal import rehearse

        return rehearse(self, train, validation, quick=quick, steps=steps)

    def assess(self, batches: AnyBatches) -> Assessment:
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
        if not are_batches(batches):
            raise DataError(f"assess: the data is a {type(batches).__name__}. Give batches: dataset.batches(256).")
        check_encoding(self.encoding, batches.dataset, "the part to assess")
        self._count_test(batches)
        return assessment(self.network, batches, self.loss, self.metrics)

    def _count_test(self, batches: AnyBatches) -> None:
        """How often the test part of a recorded run was scored is a matter of record: each look makes it less of a test."""
        store = self._record.store if self._record is not None else None
        if store is None or not self.lineage.get("test") or batches.fingerprint() != self.lineage["test"]:
            return
        note_test_scored(store)

    def outputs(self, data: Any, *, size: int = 1024) -> np.ndarray:
        """What the network puts out in inference, for a source, a stream, batches of either, or an array of inputs."""
        check_encoding(self.encoding, data.dataset if are_batches(data) else data, "the data to predict")
        if isinstance(data, Source | Stream):
            data = data.batches(size)
        if are_batches(data):
            with untracked():
                return np.concatenate([found for _, found in each_output(self.network, data)])
        return self.model(copied=False).outputs(data if isinstance(data, tuple) else np.asarray(data), size=size)

    def predict(self, data: Any) -> pd.DataFrame:
        """Predictions for a dataset, batches or an array of inputs as the network takes them; `model` takes raw rows.

        Returns
        -------
        predictions : DataFrame, one row per example
            With classes the class ``predicted``, as it stands in the data, and a probability for each; otherwise ``predicted``
            numbers.
        """
        return self.model(copied=False).readable(self.outputs(data))

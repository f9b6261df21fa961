"""A network, what it is to minimise, and how: one step after another, without a run around it."""

from __future__ import annotations

import copy
import hashlib
import itertools
import time
from collections.abc import Callable, Generator, Iterable, Iterator, Mapping, Sequence, Sized
from typing import TYPE_CHECKING, Any, ClassVar, Literal, NamedTuple

import numpy as np

from ..._loss_reduction import LossAccumulator, Reduction, declared_reduction, inferred_reduction
from ..._model import Model
from ...autodiff.gradients import Gradients
from ...autodiff.tensor import held
from ...data.batches._batch import Batch, mapped
from ...data.batches._batches import Batches
from ...data.batches._partition import Partition
from ...data.encoding._codec import Codec
from ...distributed._current import communicator
from ...distributed._settings import Ranks
from ...errors import DataError, RunError, SettingError
from ...evaluation._scores import merge_counts, metric_counts
from ...evaluation.metrics._base import Metric
from ...layers._base import Layer
from ...layers._named_inputs import inputs_in_order
from ...losses import note_probabilities
from ...optimisers._base import Optimiser
from ...schedules import Schedule
from ...storage.json_values import finite_rows
from ...storage.run_store import RunStore
from ...tasks._base import Task
from ...tasks._classes import Classes
from ...tasks._task_of import task_of
from ._averaging import WeightAverage
from ._batch_checks import (
    AnyBatches,
    checked_batch,
    checked_loss_or_task,
    checked_metrics,
)
from ._derivation import Derivation, Loss, Watch
from ._descent import Descent
from ._half_precision import HalfPrecision
from ._rank_sums import average_statistics, check_equal_batches
from ._ranks import StepCounts, distributed_derivative, no_sum_of_losses
from ._scoring import average_scores
from ._stages import whole_network
from ._step import Step

if TYPE_CHECKING:
    from numpy.typing import DTypeLike


__all__ = ["BestWeights", "TrainingBase", "digest_of"]


class BestWeights(NamedTuple):
    """Weights and running statistics of a run's best state."""

    arrays: dict[str, np.ndarray]
    row: dict[str, float]
    step: int
    after: bytes
    """The `digest_of` the network at the end of that run: with other weights it is another's."""


class _Derived(NamedTuple):
    """What a step knows before its update."""

    batches: list[Batch]
    outputs: Sequence[Any]
    value: float
    gradients: Gradients
    statistics: Sequence[tuple[np.ndarray, np.ndarray]]
    """Running statistics, which the pass has changed, and what they were before."""
    weight: float | None
    """What the batches weigh, where a plan knows it."""


def _put_back(statistics: Sequence[tuple[np.ndarray, np.ndarray]]) -> None:
    for array, before in statistics:
        array[...] = before


def digest_of(network: Layer) -> bytes:
    """Of all weights and running statistics."""
    result = hashlib.blake2b(digest_size=16)
    for path, array in (network.weights() | network.statistics()).items():
        result.update(path.encode())
        result.update(np.ascontiguousarray(array).data)
    return result.digest()


class TrainingBase:
    """What makes the steps of a `Training`: network, loss, optimiser, schedule and metrics."""

    takes_examples: ClassVar[bool] = True
    """Whether the network is called with the inputs of examples."""

    def __init__(
        self,
        network: Layer,
        *,
        loss: Loss | None = None,
        task: Task | None = None,
        optimiser: Optimiser | None = None,
        schedule: Schedule | Callable[[int], float] | None = None,
        metrics: Sequence[Metric] | Mapping[str, Sequence[Metric]] | None = None,
        clip: float | None = None,
        clip_values: float | None = None,
        accumulate: int = 1,
        average: WeightAverage | None = None,
        half: HalfPrecision | None = None,
        ranks: Ranks | None = None,
        seed: int = 0,
    ) -> None:
        loss = checked_loss_or_task(loss, task)
        if (
            isinstance(accumulate, bool)
            or not isinstance(accumulate, int | np.integer)
            or accumulate < 1
        ):
            raise SettingError(
                f"Training: accumulate must be a whole number of at least 1, got {accumulate!r}."
            )
        self.descent = Descent(
            network,
            optimiser=optimiser,
            schedule=schedule,
            clip=clip,
            clip_values=clip_values,
            average=average,
            half=half,
            ranks=ranks,
            seed=seed,
        )
        self.accumulate = int(accumulate)
        self.metrics = checked_metrics(metrics, task_of(loss), usual=task is not None)
        self.codec = Codec()
        """What turns raw rows into inputs and outputs into answers, as the data said."""
        self.parent: dict[str, Any] = {}
        """Where the weights come from that training began with; empty if they were drawn."""
        self.lineage: dict[str, Any] = {}
        """Where the network comes from: run, settings, data; for the model that is handed on."""
        self._rows: list[dict[str, float]] = []  # the curves of the last run
        self._store: RunStore | None = None  # of the last run
        self._best: BestWeights | None = None  # of the last run
        self.ended: Any = None
        """The `Status` with which the last run ended."""
        self._described: tuple[int, dict[str, Any]] | None = None
        self._derivation = Derivation(self.descent, loss)
        self.sums_losses = False
        """Whether the loss of the last batch was a sum over its examples."""
        self._known: Reduction | None = None
        self._known_for: Loss | None = None

    @property
    def loss(self) -> Loss:
        return self._derivation.loss

    @loss.setter
    def loss(self, loss: Loss) -> None:
        self._derivation.loss = loss

    @property
    def task(self) -> Task:
        """What the outputs mean, as the loss says it."""
        return task_of(self.loss)

    @property
    def network(self) -> Layer:
        return self.descent.network

    @property
    def step_metrics(self) -> Sequence[Metric]:
        """What a step counts for the curves."""
        return self.metrics

    @property
    def parts(self) -> dict[str, Any]:
        """All that has a state, by name; one alone has none."""
        return {"": self.descent}

    def settings(self) -> dict[str, Any]:
        """What a training has that others do not, for the record of a run."""
        return {}

    def scores(self, batches: AnyBatches) -> dict[str, float]:
        """Of a validation part, by name."""
        return average_scores(self.network, batches, self.loss, self.metrics, self.descent.comm)

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
    def ranks(self) -> Ranks:
        return self.descent.ranks

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
        made = self._replayed(batch) if watch is None else None
        if made is None:
            made = self._computed(batch, watch)
        several, outputs, value, gradients, statistics, weight = made
        try:
            if descent.step_number == 0 and type(self.task) is Classes and len(several[0]):
                note_probabilities(outputs[0])
            if before_update is not None:
                before_update(value, gradients)
            norm, rate = descent.descend(value, gradients, lambda: self.derived(several, None)[1:])
        except BaseException:
            _put_back(statistics)
            raise
        if weight is not None and not self.metrics:
            self.sums_losses = False
            counts, examples = {}, len(several[0])
        else:
            found = self._counted(several, outputs, value)
            if descent.comm.size > 1:
                found = StepCounts.merged(descent.comm.all_gather(found), self.metrics)
                self.sums_losses = found.summed
            counts, weight, examples = found.counts, found.weight, found.examples
        figures = {metric.name: metric.conclude(counts[metric.name]) for metric in self.metrics}
        seconds = time.perf_counter() - begun
        return Step(
            descent.step_number,
            epoch + 1,
            position + 1,
            value,
            figures,
            gradients,
            norm,
            rate,
            seconds,
            examples,
            weight,
        ), counts

    def _replayed(self, batch: Any) -> _Derived | None:
        """By a plan, if there is one for such a batch and everything is sound."""
        found = self._derivation.plans.find(batch, self.loss)
        if found is None:
            return None
        plan, whole = found
        descent = self.descent
        first = descent.step_number * self.accumulate
        made = plan(descent, whole.inputs, whole.targets, first)
        if made is None:
            return None
        outputs, value, gradients = made
        return _Derived([whole], [outputs], value, gradients, (), plan.weight)

    def _computed(self, batch: Any, watch: Watch | None) -> _Derived:
        """By the usual path."""
        descent = self.descent
        task = self.task
        several = [
            checked_batch(part, task) for part in (batch if type(batch) is list else [batch])
        ]
        if descent.network.arena is None:
            self.initialise(several[0])
        comm = descent.comm
        if communicator().size > 1:
            check_equal_batches(communicator(), several)
        if comm.size > 1:
            several = [Partition(comm.rank, comm.size).of(part) for part in several]
        descent.ready()
        statistics = [(array, array.copy()) for array in descent.statistics()]
        try:
            outputs, value, gradients = self.derived(several, watch)
            if comm.size > 1:
                average_statistics(comm, descent.statistics(), sum(map(len, several)))
        except BaseException:
            _put_back(statistics)
            raise
        return _Derived(several, outputs, value, gradients, statistics, None)

    def _counted(
        self, batches: Sequence[Batch], outputs: Sequence[Any], value: float
    ) -> StepCounts:
        """What the batches of a step add to the figures of an epoch."""
        counts: dict[str, np.ndarray] = {}
        weight, examples = 0.0, 0
        for part, found in zip(batches, outputs, strict=True):
            if not len(part):
                continue
            outputs_held = mapped(held, found)
            own = {
                m.name: metric_counts(m, self.loss, outputs_held, part.targets, part.weights)
                for m in self.metrics
            }
            merge_counts(self.metrics, counts, own)
            weight += self._reduction(part, found, value).weight(part.targets, part.weights)
            examples += len(part)
        return StepCounts(counts, weight, examples, self.sums_losses)

    def _reduction(self, batch: Batch, outputs: Any, value: float) -> Reduction:
        """How the loss brings examples together; one of the user's own is asked at the first batch
        whose loss is not 0, which says nothing.
        """
        if self._known_for is not self.loss:
            self._known, self._known_for = declared_reduction(self.loss), self.loss
        found = self._known or inferred_reduction(
            self.loss, mapped(held, outputs), batch.targets, batch.weights
        )
        if value:
            self._known = found
        self.sums_losses = found.is_sum
        return found

    def derived(
        self, batches: list[Batch], watch: Watch | None = None
    ) -> tuple[list[Any], float, Gradients]:
        """Outputs of each batch, and loss and gradients as if they were one; no parameter is
        changed.
        """
        first = self.step_number * self.accumulate
        if any(batch.rows is not None for batch in batches):
            return distributed_derivative(self._derivation, batches, watch, first)
        if len(batches) == 1:
            outputs, value, gradients = self._derivation(batches[0], watch, first)
            return [outputs], value, gradients
        total = LossAccumulator(self.loss)
        every: list[Any] = []
        flat: np.ndarray | None = None
        for i, batch in enumerate(batches):
            if total.is_empty(batch.targets, batch.weights):
                every.append(self._derivation.outputs(batch, first + i))
                continue
            outputs, value, gradients = self._derivation(batch, watch, first + i)
            every.append(outputs)
            weight = total.add(value, outputs, batch.targets, batch.weights)
            if not total.is_exact:
                raise no_sum_of_losses(self.loss, "accumulate", "Use larger batches")
            if flat is None:
                flat, whole = gradients.flat, gradients
                flat *= flat.dtype.type(weight)
            else:
                flat += gradients.flat * flat.dtype.type(weight)
        value = total.value  # refused if nothing counts
        assert flat is not None
        if not total.is_sum:
            flat /= flat.dtype.type(total.weight)
        return every, value, whole

    def initialise(self, batch: Batch, *, dtype: DTypeLike | None = None) -> None:
        """Draw the network's parameters for inputs of this kind, by the seed of the training."""
        inputs = inputs_in_order(self.network, batch.inputs)
        self.network.initialise(
            inputs if isinstance(inputs, tuple) else inputs[:1], seed=self.seed, dtype=dtype
        )

    # open loop

    def steps(self, batches: AnyBatches | Iterable[Batch], epochs: int = 1) -> Iterator[Step]:
        """Train, and yield after each update.

        Examples
        --------
        >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
        >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
        >>> [
        ...     (step.number, step.epoch, step.batch)
        ...     for step in training.steps(data.batches(4), epochs=2)
        ... ]
        [(1, 1, 1), (2, 1, 2), (3, 2, 1), (4, 2, 2)]
        """
        watched = self.schedule.watches
        if watched not in (None, "", "loss"):
            raise SettingError(
                f"steps: the schedule watches {watched}, and steps scores no validation part. "
                'Watch the training loss, by="loss", or use training.run(...).'
            )
        if epochs > 1 and iter(batches) is batches:
            raise DataError(
                f"steps: {type(batches).__name__} can be gone through once only, and {epochs} "
                "epochs were asked for. Give "
                "dataset.batches(32), a list, or any object whose __iter__ begins anew each time."
            )
        if isinstance(batches, AnyBatches):
            self.prepare(batches)
        else:
            count = len(batches) if isinstance(batches, Sized) else None
            self.schedule.begin(None if count is None else -(-count // self.accumulate))
        for epoch in range(epochs):
            order = self.epoch_of(batches, epoch) if isinstance(batches, AnyBatches) else batches
            total, weight = 0.0, 0.0
            for i, group in self.grouped(order):
                step = self.make_step(group, epoch, i)[0]
                total, weight = total + step.loss * step.weight, weight + step.weight
                yield step
            if watched is not None and weight:
                self.schedule.watch(self.step_number - 1, total / weight, "loss")

    def epoch_of(
        self, batches: AnyBatches, epoch: int, *, start: int = 0
    ) -> Generator[Batch, None, None]:
        """The batches of an epoch; of several ranks what this one needs of them."""
        if not isinstance(batches, Batches):
            return batches.epoch(epoch, seed=self.seed, start=start)
        comm = self.descent.comm
        partition = Partition(comm.rank, comm.size)
        return batches.epoch(epoch, seed=self.seed, start=start, partition=partition)

    def prepare(self, batches: AnyBatches) -> None:
        """Make the parameters, if there are none yet, and all that the steps of these batches
        need; take over how their rows are encoded.
        """
        if self.network.arena is None:
            self.initialise(batches.sample())
        self.schedule.begin(self.updates_an_epoch(batches))
        self.descent.begin()
        self.codec = self.codec.updated(Codec.of(batches.dataset, self.input_range(batches)))

    def input_range(self, batches: AnyBatches) -> tuple[float, float] | None:
        """Lowest and highest value of inputs that are pictures, for the model to check by."""
        return None

    def grouped(self, batches: Iterable[Batch]) -> Iterator[tuple[int, Any]]:
        """The batches that make one update, and how many come before them."""
        if self.accumulate == 1:
            yield from enumerate(batches)
            return
        done, left = 0, iter(batches)
        while group := list(itertools.islice(left, self.accumulate)):
            yield done, group
            done += len(group)

    def updates_an_epoch(self, batches: AnyBatches) -> int | None:
        """How many updates the batches of an epoch make; None where that is not known."""
        length = batches.steps_an_epoch
        return None if length is None else -(-length // self.accumulate)

    def directions(self, parts: Iterable[str] = ("validation",)) -> dict[str, str]:
        """Of each column of the curves that can be judged: whether "higher" or "lower" is
        better.
        """
        judged = {m.name: m.better for m in self.metrics if m.better != "neither"}
        own = {"loss": "lower"} | judged
        return own | {f"{part}_{name}": better for part in parts for name, better in own.items()}

    def model(self, state: Literal["best", "last"] | None = None, *, copied: bool = True) -> Model:
        """What was trained, to be handed on, with the encoding of its data and where it came from.

        Parameters
        ----------
        state : {"best", "last"}, optional
            After a run that was judged on a validation part, by default the best state, which
            ``outcome.best_row`` scores; otherwise, and after any further change of the weights,
            the network as it is now, which is the last.
        copied : bool
            Whether it is a copy, which training on does not change.

        Raises
        ------
        RunError
            If the best is asked for by name, and there is none.

        Examples
        --------
        >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
        >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
        >>> step = training.step((data.inputs, data.targets))
        >>> training.model().predict(np.ones((2, 2))).shape
        (2, 1)
        """
        self.network._ready_arena()
        if self._chosen(state) == "best":
            best = self._best
            assert best is not None
            network = copy.deepcopy(self.network)
            network.load(best.arrays)
            return self._model(whole_network(network), best.row, best.step, "best")
        rows, step = self._rows[-1:], self.step_number
        row = rows[0] if rows else {}
        if copied and self.average is not None:
            with self.descent.averaged():
                return self._model(whole_network(self.network), row, step, "last")
        network = whole_network(self.network) if copied else self.network
        return self._model(network, row, step, "last")

    def _chosen(self, state: str | None) -> Literal["best", "last"]:
        if state not in (None, "best", "last"):
            raise SettingError(f'state: must be "best" or "last", got {state!r}.')
        if state == "last":
            return "last"
        best = self._best
        if best is not None and best.after == digest_of(self.network):
            return "best"
        if state == "best":
            raise RunError(
                "There is no best state: "
                + (
                    "no run of this training was judged on a validation part."
                    if best is None
                    else "the weights were changed since the run that had one. Take the model "
                    "right after the run, or open it from the run's folder."
                )
            )
        return "last"

    def _model(
        self, network: Layer, row: Mapping[str, float], step: int, state: Literal["best", "last"]
    ) -> Model:
        scores = finite_rows([dict(row)])[0]
        return Model(
            network,
            self.codec,
            self.loss,
            tuple(self.metrics),
            {**self.lineage, "step": step, "scores": scores, "state": state},
            self.half is not None,
        )

    # copies and state

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {"_rows": [], "_store": None, "_described": None}

    def state(self) -> dict[str, Any]:
        """Weights, running statistics, the optimiser's state and the counters."""
        return self.descent.state()

    def restore(self, state: Mapping[str, Any]) -> None:
        """Take back what `state` gave; see `Descent.restore`."""
        self.descent.restore(state)

"""The training loop: steps, epochs, assessment and prediction."""

from __future__ import annotations

import logging
import math
import signal
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from functools import lru_cache
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, NoReturn

import numpy as np

from ..autodiff.fused import Fused
from ..autodiff.gradients import Gradients, scaled
from ..autodiff.state import STATE, untracked
from ..autodiff.sweep import sweep
from ..autodiff.tensor import Tensor, held
from ..data.dataset import Batch, Batches, Dataset, same_scaling
from ..errors import CheckpointError, DataError, DifferentiationError, NotFiniteError, RunError, SettingError, ShapeError, did_you_mean
from ..layers.arena import Arena
from ..layers.base import Layer
from ..layers.chain import dense_chain
from ..layers.containers import DenseRun, single_run
from ..layers.context import PASS, learning
from ..losses import makes_logits, note_probabilities, reduction_of, straight_form
from ..metrics import Metric
from ..optimisers import SGD, Adam, Optimiser
from ..parts.describing import describe
from ..schedules import Schedule, as_schedule
from . import checkpoints
from .buffers import GradientBuffer, GradientBuffers
from .guard import is_library_code
from .plain import finite, finite_rows, rows_with_nan, with_nan
from .settings import differences
from .status import Status, moved

if TYPE_CHECKING:
    import pandas as pd

    from .observers import Observer

__all__ = ["Outcome", "Position", "Run", "Step", "Training"]

log = logging.getLogger("vinestep")
HEADROOM = 1e-4  # of the root of the largest number: gradients and updates below it leave everything finite


class Step(NamedTuple):
    """One update, as it was made.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> step = training.step((data.inputs, data.targets))
    >>> step.number, step.examples, step.rate
    (1, 8, 0.001)
    >>> step
    Step(number=1, epoch=1, batch=1, loss=..., rate=0.001, norm=..., examples=8)
    """

    number: int
    """Counted from 1."""
    epoch: int
    """Counted from 1."""
    batch: int
    """Position in the epoch, counted from 1."""
    loss: float
    metrics: dict[str, float]
    """Of this batch, before the update."""
    gradients: Gradients
    """After clipping. Kept safe for as long as somebody holds it."""
    norm: float
    """Euclidean norm of all gradients together, before clipping."""
    rate: float
    seconds: float
    examples: int

    def __repr__(self) -> str:
        return (
            f"Step(number={self.number}, epoch={self.epoch}, batch={self.batch}, loss={self.loss:.6g}, rate={self.rate:.6g}, "
            f"norm={self.norm:.6g}, examples={self.examples})"
        )


@dataclass(slots=True)
class Position:
    """How far a run has come, and the sums of the epoch under way."""

    epoch: int = 0
    """Epochs completed."""
    batch: int = 0
    """Batches of the current epoch done."""
    step: int = 0
    """Updates done."""
    loss_sum: float = 0.0
    examples: int = 0
    counts: dict[str, list[float]] = field(default_factory=dict)
    summed: bool = False
    """Whether the loss of a batch is a sum over its examples, rather than their mean."""

    @property
    def loss(self) -> float:
        """Of the epoch so far: the mean over its examples, or their sum if that is what the loss is."""
        return self.loss_sum if self.summed else self.loss_sum / max(self.examples, 1)

    def add(self, loss: float, n: int, counts: Mapping[str, np.ndarray]) -> None:
        self.loss_sum += loss if self.summed else loss * n
        self.examples += n
        for name, count in counts.items():
            known = self.counts.get(name)
            if known is not None and np.shape(known) != np.shape(count):
                raise RunError(f"The counts of {name} have shape {np.shape(count)}, those of the epoch so far {np.shape(known)}.")
            self.counts[name] = count.tolist() if known is None else (np.asarray(known) + count).tolist()

    def next_epoch(self) -> None:
        self.epoch += 1
        self.batch = 0
        self.loss_sum, self.examples, self.counts = 0.0, 0, {}

    def as_dict(self) -> dict[str, Any]:
        return {name: getattr(self, name) for name in self.__slots__}


@dataclass(slots=True)
class Outcome:
    """How a run ended.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> outcome = training.run(data.batches(4), epochs=3)
    >>> outcome.reason, list(outcome.curves)
    ('All 3 epochs done, 6 steps.', ['epoch', 'step', 'rate', 'loss'])
    >>> outcome.best("loss")["epoch"]
    3
    """

    rows: list[dict[str, float]]
    status: Status
    reason: str
    """Why it ended, and if it can be continued, how."""
    folder: Path | None
    seconds: float
    better: dict[str, str] = field(default_factory=lambda: {"loss": "lower", "validation_loss": "lower"})
    """Of each column of the curves that can be judged: whether "higher" or "lower" is better."""

    def __repr__(self) -> str:
        last = "  ".join(f"{name} {value:.4g}" for name, value in self.rows[-1].items()) if self.rows else "no epoch done"
        place = f"  in {self.folder}" if self.folder is not None else ""
        return f"<Outcome {self.status.value}: {self.reason} Last: {last}{place}>"

    @property
    def curves(self) -> pd.DataFrame:
        """One row an epoch: epoch, step, rate, loss and metrics, and those of the validation part."""
        import pandas as pd

        return pd.DataFrame(self.rows)

    def best(self, quantity: str = "validation_loss") -> dict[str, float]:
        """The row of the epoch that was best in a quantity."""
        rows = [row for row in self.rows if quantity in row]
        if not rows:
            raise RunError(f"The curves have no column {quantity!r}; they have {', '.join(self.rows[0]) if self.rows else 'none'}.")
        sign = 1 if direction(self.better, quantity) == "lower" else -1
        judged = [row for row in rows if not math.isnan(row[quantity])]
        if not judged:
            raise RunError(f"{quantity} was NaN in every epoch, so none is best.")
        return min(judged, key=lambda row: sign * row[quantity])


def direction(better: Mapping[str, str], quantity: str) -> str:
    """Whether "higher" or "lower" is better.

    Raises
    ------
    RunError
        If nobody said so.
    """
    if quantity not in better:
        raise RunError(f"Whether more or less of {quantity!r} is better is not known. {did_you_mean(quantity, better)}")
    return better[quantity]


@dataclass(slots=True)
class Run:
    """A run under way, as its observers see it."""

    training: Training
    epochs: int
    batches: Batches
    folder: Path | None
    name: str
    plan: dict[str, Any]
    position: Position
    rows: list[dict[str, float]]
    observers: Sequence[Observer]
    settings: dict[str, Any] = field(default_factory=dict)
    """What takes part, described: a run that goes on is held against it."""
    status: Status = Status.READY
    stop_reason: str = ""
    resumable: bool = True

    def stop(self, reason: str, *, resumable: bool = False) -> None:
        """Ask the run to end after the present step; the reason is recorded."""
        self.stop_reason, self.resumable = reason, resumable

    def directions(self) -> dict[str, str]:
        """Of each column of the curves that can be judged: whether "higher" or "lower" is better."""
        return self.training.directions()

    def better(self, quantity: str) -> str:
        """Whether "higher" or "lower" is better."""
        return direction(self.directions(), quantity)

    def meta(self) -> dict[str, Any]:
        """What a checkpoint says besides arrays."""
        return {
            "position": finite(self.position.as_dict()),
            "curves": finite_rows(self.rows),
            "epochs": self.epochs,
            "name": self.name,
            "plan": self.plan,
            "settings": self.settings,
            "observers": {key: observer.state() for key, observer in self.keyed_observers().items()},
            "stop_reason": "" if self.resumable else self.stop_reason,
            **self.training.meta(),
        }

    def keyed_observers(self) -> dict[str, Observer]:
        """Observers by class and a running number, under which their states are saved."""
        seen: Counter[str] = Counter()
        keyed = {}
        for observer in self.observers:
            name = type(observer).__name__
            seen[name] += 1
            keyed[f"{name} {seen[name]}"] = observer
        return keyed

    def save(self, path: Path) -> Path:
        """Write a checkpoint of the whole run."""
        return checkpoints.write(path, self.training.arrays(), self.meta(), make_folder=False)


Loss = Callable[[Any, Any], Any]


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
        schedule: Schedule | None = None,
        metrics: Sequence[Metric] = (),
        clip: float | None = None,
        seed: int = 0,
    ) -> None:
        if not isinstance(network, Layer):
            raise SettingError(f"Training: network is a {type(network).__name__}, not a layer. Wrap functions: vinestep.Stack(f).")
        if not callable(loss):
            raise SettingError(
                f"Training: loss is a {type(loss).__name__}, not a function loss(outputs, targets), such as vinestep.losses.huber."
            )
        if clip is not None and not (isinstance(clip, int | float | np.floating) and math.isfinite(clip) and clip > 0):
            raise SettingError(f"Training: clip must be a positive number, got {clip!r}.")
        self.network = network
        self.loss = loss
        self.optimiser = _optimiser(optimiser)
        self.schedule = as_schedule(schedule)
        self.metrics = _metrics(metrics)
        self.clip = None if clip is None else float(clip)
        self.seed = _seed(seed)
        self.class_values: tuple[str | int | float | bool, ...] = ()
        self.encoding: Any = None
        self.optimiser.belong_to(self)
        self.step_number = 0
        self._buffers: GradientBuffers | None = None
        self._straight: tuple[DenseRun, Any, Fused] | None = None
        self._guarded = True
        self._known: tuple[Any, ...] = ()
        self._statistic_arrays: list[np.ndarray] = []
        self._statistics_for: int | None = None

    # one step

    def step(self, batch: Batch | tuple[Any, Any]) -> Step:
        """One update on one batch.

        Raises
        ------
        NotFiniteError
            If the loss is NaN or infinite; nothing has been changed then.
        """
        return self._step(batch, 0, 0)[0]

    def _step(self, batch: Batch | tuple[Any, Any], epoch: int, position: int) -> tuple[Step, dict[str, np.ndarray]]:
        begun = time.perf_counter()
        inputs, targets = _checked_batch(batch)
        if self.network.arena is None:
            self.network.initialise(inputs if isinstance(inputs, tuple) else inputs[:1], seed=self.seed)
        statistics = [(array, array.copy()) for array in self._statistics()]
        try:
            outputs, value, gradients = self._derive(inputs, targets)
            if self.step_number == 0 and makes_logits(self.loss):
                note_probabilities(outputs)
            norm = gradients.norm()
            if not math.isfinite(norm):
                raise self._bad_gradients(value, gradients)
            if self.clip is not None and norm > self.clip:
                scaled(gradients.flat, self.clip / norm, out=gradients.flat)
            rate = self.optimiser.rate * self.schedule(self.step_number)
            self._update(gradients, norm, rate)
        except BaseException:
            for array, before in statistics:
                array[...] = before
            raise
        self.step_number += 1
        counts: dict[str, np.ndarray] = {}
        figures: dict[str, float] = {}
        for metric in self.metrics:
            counts[metric.name] = metric.count(held(outputs), np.asarray(targets))
            figures[metric.name] = metric.conclude(counts[metric.name])
        seconds = time.perf_counter() - begun
        n = len(targets)
        return Step(self.step_number, epoch + 1, position + 1, value, figures, gradients, norm, rate, seconds, n), counts

    def _statistics(self) -> list[np.ndarray]:
        """The arrays that a learning pass changes by itself."""
        if self._statistics_for != Arena.generation:
            self._statistic_arrays, self._statistics_for = list(self.network.statistics().values()), Arena.generation
        return self._statistic_arrays

    def _update(self, gradients: Gradients, norm: float, rate: float) -> None:
        """One step of the optimiser. Where something might become infinite, the state before is kept until it has not."""
        arena = self.network.arena
        assert arena is not None
        if (
            norm * max(1.0, rate) < _safe_norm(arena.dtype)
            and rate * self.optimiser.weight_decay <= 1
            and type(self.optimiser) in (Adam, SGD)
        ):
            self.optimiser.update(arena.flat, gradients.flat, rate)
            return
        kept, count = [(array, array.copy()) for array in (arena.flat, *self.optimiser.state.values())], self.optimiser.count
        with np.errstate(over="ignore", invalid="ignore"):
            self.optimiser.update(arena.flat, gradients.flat, rate)
        if all(np.isfinite(array).all() for array, _ in kept):
            return
        for array, before in kept:
            array[...] = before
        self.optimiser.count = count
        raise NotFiniteError(
            f"Step {self.step_number + 1}: the update by {type(self.optimiser).__name__} at rate {rate:.3g}, with gradients of norm "
            f"{norm:.3g}, would make weights or its state NaN or infinite. Nothing has been changed. Use a smaller rate, clip=, or float64."
        )

    def _bad_gradients(self, value: float, gradients: Gradients) -> NotFiniteError:
        bad = [path for path, g in gradients.items() if not np.isfinite(g).all()]
        return NotFiniteError(
            f"Step {self.step_number + 1}: the loss is {value:.6g}, but the gradients of {', '.join(bad[:3])}"
            f"{f' and {len(bad) - 3} more' if len(bad) > 3 else ''} are NaN or infinite. Nothing has been changed. A root, logarithm or "
            "division has no derivative where it stands: vinestep.differentiate(loss, network, must_be_finite=True) names it."
        )

    def _derive(self, inputs: Any, targets: Any) -> tuple[Any, float, Gradients]:
        """Outputs, loss and gradients of a learning pass."""
        if straight := self._straight_path(inputs):
            run, checked, loss = straight
            return self._derive_straight(run, checked, loss, inputs, targets)
        return self._derive_recorded(inputs, targets)

    def _derive_recorded(self, inputs: Any, targets: Any) -> tuple[Any, float, Gradients]:
        outputs, loss = self._learning_pass(inputs, targets)
        if not isinstance(loss, Tensor):
            raise DifferentiationError(
                f"Training: the loss is a {type(loss).__name__}, not a Tensor: nothing trainable went into it. Is every "
                "parameter frozen, or did the loss lose the record?"
            )
        if loss.size != 1:
            raise ShapeError(f'Training: the loss has shape {loss.shape}, and has to be one number. Use reduction="mean".')
        value = loss.item()
        if not math.isfinite(value):
            self._refuse(value, inputs)
        return outputs, value, self._gradients(loss)

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
        gradients, buffer = self._buffer()
        if buffer.into_for is not run:
            buffer.into, buffer.into_for = [None, *(buffer.places[weight.origin] for weight in run.weights)], run
        (g, _) = loss.kernel_adjoint(1.0, slopes, (outputs, labels), {}, (True, False), (None, None))
        dense_chain.kernel_adjoint(g, saved, (x, *run.arrays), {"plan": run.plan}, run.wanted, buffer.into)
        return outputs, number, gradients

    def _learning_pass(self, inputs: Any, targets: Any) -> tuple[Any, Any]:
        now, here = STATE.now, PASS
        before = now.recording, now.sealing, now.tracing, here.learning, here.seed, here.step, here.merged
        now.recording, now.sealing, now.tracing = True, self._guarded, now.tracing + 1
        here.learning, here.seed, here.step, here.merged = True, self.seed, self.step_number, True
        try:
            outputs = self.network(*inputs) if isinstance(inputs, tuple) else self.network(inputs)
            return outputs, self.loss(outputs, targets)
        finally:
            now.recording, now.sealing, now.tracing, here.learning, here.seed, here.step, here.merged = before

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

    def _gradients(self, loss: Tensor) -> Gradients:
        gradients, buffer = self._buffer()
        places = buffer.places
        seed = np.ones(loss.shape, loss.dtype) if loss.shape else loss.dtype.type(1)
        found = sweep(loss, seed, places, release=True, destinations=places)
        if len(found) != len(places):
            unused = [origin.name for origin in places if origin not in found]
            raise DifferentiationError(
                f"The loss never used {', '.join(unused[:5])}. Leave out what is not used, or freeze it: network.freeze({unused[0]!r})."
            )
        for origin, cotangent in found.items():
            if cotangent is not places[origin]:
                places[origin][...] = cotangent
        return gradients

    def _buffer(self) -> tuple[Gradients, GradientBuffer]:
        """A gradient array that nobody outside holds."""
        arena = self.network.arena
        assert arena is not None
        if self._buffers is None or self._buffers.layout is not arena.layout:
            self._buffers = GradientBuffers(arena.layout, arena.dtype, arena.trainable)
            self.optimiser.begin(arena.layout, arena.dtype)
        return self._buffers.lend()

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
                yield self._step(batch, epoch, i)[0]

    # a whole run

    def run(
        self,
        batches: Batches,
        *,
        epochs: int,
        validation: Batches | None = None,
        observers: Sequence[Observer] = (),
        record: str | PathLike[str] | None = None,
        name: str = "run",
        resume: str | PathLike[str] | None = None,
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
        record : path, optional
            Folder for runs; a numbered folder is made in it with plan, curves, log and checkpoints.
        name : str
            Second part of that folder's name.
        resume : path, optional
            Folder of a run to continue from its newest sound checkpoint.
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
            If training and validation share examples, or encode them differently.
        NotFiniteError
            If the loss becomes NaN or infinite.
        RunError
            If the run to resume does not exist, is finished or running, or was set up differently: how.
        """
        from .folders import RunFolder
        from .observers import with_recorders

        if not isinstance(epochs, int | np.integer) or epochs < 1:
            raise SettingError(f"run: epochs must be a whole number of at least 1, got {epochs!r}.")
        self._check_parts(batches, validation)
        self._prepare(batches)
        recorded = resume is not None or record is not None
        settings = self.settings(batches, int(epochs), validation) if recorded else {}
        asked = plan if plan is not None else settings
        watchers = with_recorders(observers, recorded)
        with ExitStack() as stack:
            stack.enter_context(_listening(watchers))
            folder = None
            if resume is not None:
                folder = stack.enter_context(RunFolder.open(resume).held())
            elif record is not None:
                folder = stack.enter_context(RunFolder.new(record, name))
            run = Run(self, int(epochs), batches, folder.path if folder else None, name, asked, Position(), [], watchers, settings)
            run.position.summed = reduction_of(self.loss) == "sum"
            if folder is not None and resume is not None:
                self._continue(run, folder, changed)
            elif folder is not None:
                folder.write_plan(asked)
                run.save(folder.path / "checkpoints" / "step-00000000.npz")
                folder.record_status(run, "")
                folder.publish()
                run.folder = folder.path
            return self._observed_run(run, folder, validation)

    def _observed_run(self, run: Run, folder: Any, validation: Batches | None) -> Outcome:
        begun = time.perf_counter()
        run.status = moved(run.status, Status.RUNNING)
        if folder is not None:
            folder.record_change(run, "")
        try:
            with _stoppable(run):
                for observer in run.observers:
                    observer.before_run(run)
                self._epochs(run, validation, folder)
        except BaseException as error:
            run.status = moved(run.status, Status.FAILED)
            if folder is not None:
                try:
                    folder.record_change(run, f"{type(error).__name__}: {error}")
                except RunError as second:  # the disk is full, or the folder gone: the first error says more
                    log.warning("%s", second)
            for observer in run.observers:
                observer.after_failure(run)
            raise
        outcome = self._outcome(run, time.perf_counter() - begun)
        for observer in run.observers:
            observer.after_run(run, outcome)
        if folder is not None:
            folder.record_change(run, outcome.reason)
        if run.status is Status.INTERRUPTED:
            log.warning(outcome.reason)
        return outcome

    def _outcome(self, run: Run, seconds: float) -> Outcome:
        interrupted = bool(run.stop_reason) and run.resumable
        run.status = moved(run.status, Status.INTERRUPTED if interrupted else Status.FINISHED)
        done = f"after epoch {run.position.epoch} of {run.epochs}, step {run.position.step}"
        reason = f"{run.stop_reason}, {done}." if run.stop_reason else f"All {run.epochs} epochs done, {run.position.step} steps."
        if interrupted and run.folder is not None:
            reason += f" To continue: vinestep resume {run.folder}, or in Python training.run(..., resume={str(run.folder)!r})."
        return Outcome(run.rows, run.status, reason, run.folder, seconds, self.directions())

    def _epochs(self, run: Run, validation: Batches | None, folder: Any) -> None:
        position = run.position
        while position.epoch < run.epochs and not run.stop_reason:
            for batch in run.batches.epoch(position.epoch, seed=self.seed, start=position.batch):
                step, counts = self._step(batch, position.epoch, position.batch)
                position.add(step.loss, step.examples, counts)
                position.batch += 1
                position.step = self.step_number
                for observer in run.observers:
                    observer.after_step(run, step)
                del step
                if run.stop_reason:
                    break
            if position.batch < len(run.batches):
                break
            row = self._row(position, validation)
            run.rows.append(row)
            position.next_epoch()
            for observer in run.observers:
                observer.after_epoch(run, row)
            if folder is not None:
                folder.record_progress(run)

    def _row(self, position: Position, validation: Batches | None) -> dict[str, float]:
        row: dict[str, float] = {
            "epoch": position.epoch + 1,
            "step": position.step,
            "rate": self.optimiser.rate * self.schedule(self.step_number - 1),
            "loss": position.loss,
        }
        for metric in self.metrics:
            row[metric.name] = metric.conclude(np.asarray(position.counts[metric.name]))
        if validation is not None:
            row |= {f"validation_{key}": value for key, value in self.assess(validation).items()}
        return row

    def _check_parts(self, batches: Batches, validation: Batches | None) -> None:
        for part, role in ((batches, "training"), (validation, "validation")):
            if part is not None and not isinstance(part, Batches):
                raise DataError(f"run: the {role} data is a {type(part).__name__}. Give batches: dataset.batches(32).")
        if validation is None:
            return
        self._check_encoding(batches.dataset, validation.dataset, "the validation part")
        shared = batches.dataset.shared_rows(validation.dataset)
        if shared:
            raise DataError(
                f"run: {shared} of {len(validation.dataset)} validation examples are training examples too, so their loss says "
                "nothing about new data. Take both from one split: train, validation = data.split(0.8, 0.2)."
            )

    def _prepare(self, batches: Batches) -> None:
        if self.network.arena is None:
            self.network.initialise(batches.dataset.inputs[:1], seed=self.seed)
        arena = self.network.arena
        assert arena is not None
        self.optimiser.begin(arena.layout, arena.dtype)
        self.class_values = tuple(getattr(batches.dataset, "class_values", ())) or self.class_values
        self.encoding = getattr(batches.dataset, "encoding", None) or self.encoding

    @staticmethod
    def _check_encoding(first: Any, second: Any, what: str) -> None:
        """Refuse parts whose numbers mean different things."""
        ours, theirs = getattr(first, "encoding", first), getattr(second, "encoding", None)
        if ours is None or theirs is None or isinstance(ours, Dataset):
            return
        if ours != theirs:
            raise DataError(
                f"The training part and {what} are encoded differently: {'; '.join(ours.differences(theirs))}. Split one table into parts, "
                "so that they share one encoding."
            )
        if isinstance(first, Dataset) and not same_scaling(first, second):
            raise DataError(
                f"The training part and {what} are scaled differently. Scale them together: vinestep.data.scaled(train, other)."
            )

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

    # copies

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {"_buffers": None, "_straight": None, "_known": (), "_statistic_arrays": [], "_statistics_for": None}

    def __setstate__(self, state: dict[str, Any]) -> None:
        vars(self).update(state)
        self.optimiser.belong_to(self)  # a copy of the optimiser, which nobody owns yet

    # state, for checkpoints

    def arrays(self) -> dict[str, np.ndarray]:
        """All that a checkpoint holds in arrays: weights, statistics, optimiser state."""
        named = {f"weights/{path}": a for path, a in self.network.weights().items()}
        named |= {f"statistics/{path}": a for path, a in self.network.statistics().items()}
        return named | {f"optimiser/{name}": a for name, a in self.optimiser.state.items()}

    def meta(self) -> dict[str, Any]:
        arena = self.network._ready_arena()
        return {
            "seed": self.seed,
            "step": self.step_number,
            "updates": self.optimiser.count,
            "optimiser": self.optimiser.settings(),
            "trainable": arena.layout.paths,
            "frozen": sorted(arena.frozen_paths),
            "class_values": list(self.class_values),
        }

    def restore(self, checkpoint: checkpoints.Checkpoint) -> None:
        """Take weights, statistics, optimiser state and counters from a checkpoint. Everything is checked before anything
        is changed.

        Raises
        ------
        CheckpointError
            If it was made by another network or optimiser.
        """
        arena = self.network._ready_arena()
        meta = checkpoint.meta
        weights, statistics, state = (checkpoint.group(g) for g in ("weights", "statistics", "optimiser"))
        expected = self.arrays()
        problems = [
            f"{name}: {checkpoint.arrays[name].shape if name in checkpoint.arrays else 'missing'} against {a.shape}"
            for name, a in expected.items()
            if name not in checkpoint.arrays or checkpoint.arrays[name].shape != a.shape
        ]
        problems += [f"{name}: not part of this training" for name in checkpoint.arrays if name not in expected]
        problems += [] if meta["trainable"] == arena.layout.paths else ["other parameters are frozen"]
        problems += [] if meta["seed"] == self.seed else [f"seed {meta['seed']} against {self.seed}"]
        if problems:
            raise CheckpointError(
                f"{checkpoint.path}: made by another network, optimiser or seed than this training: {'; '.join(problems[:3])}. "
                "Set the training up as it was; the run's plan.toml says how."
            )
        self.network.load(weights | statistics)
        for name, array in state.items():
            self.optimiser.state[name][...] = array
        self.optimiser.count = meta["updates"]
        self.step_number = meta["step"]
        self.class_values = tuple(meta["class_values"])

    def _continue(self, run: Run, folder: Any, changed: Sequence[str]) -> None:
        from .states import checked_meta

        def accept(checkpoint: checkpoints.Checkpoint) -> None:
            checked_meta(checkpoint)
            for key, observer in run.keyed_observers().items():
                observer.restore(checkpoint.meta["observers"].get(key, {}))

        folder.check_resumable()
        checkpoint, refused = checkpoints.newest_sound(folder.path / "checkpoints", accept)
        for reason in refused:
            log.warning("%s The sound one before it is used: %s.", reason, checkpoint.path.name)
            folder.note(f"{reason} The sound one before it is used: {checkpoint.path.name}.")
        self._check_settings(run, folder, checkpoint, changed)
        self.restore(checkpoint)
        for file in (folder.path / "checkpoints").glob("step-*.npz"):
            if checkpoints.step_of(file) > checkpoints.step_of(checkpoint.path):
                file.rename(file.with_name(f"{file.name}.refused"))
        run.position = Position(**with_nan(checkpoint.meta["position"]))
        run.rows[:] = rows_with_nan(checkpoint.meta["curves"])
        run.name = checkpoint.meta["name"]
        if checkpoint.meta["stop_reason"]:
            run.stop(checkpoint.meta["stop_reason"])
        for key, observer in run.keyed_observers().items():
            observer.restore(checkpoint.meta["observers"].get(key, {}))

    def _check_settings(self, run: Run, folder: Any, checkpoint: checkpoints.Checkpoint, changed: Sequence[str]) -> None:
        """A run goes on as it was set up, but for what is named as meant."""
        found = differences(checkpoint.meta["settings"], run.settings)
        found = {name: what for name, what in found.items() if name.split(".")[0] not in ("epochs", "written_by")}
        meant = {name for name in found if any(name == own or name.startswith(f"{own}.") for own in changed)}
        strange = [own for own in changed if not any(name == own or name.startswith(f"{own}.") for name in found)]
        if strange:
            raise RunError(f"{folder.path}: {strange[0]!r} was named as changed, and is not. {did_you_mean(strange[0], found)}")
        if left := [f"{name}: {what}" for name, what in found.items() if name not in meant]:
            listed = "".join(f"\n  {text}" for text in left[:12]) + (f"\n  and {len(left) - 12} more" if len(left) > 12 else "")
            raise RunError(
                f"{folder.path}: this run was set up differently:{listed}\nSet it up as it was, or name what is meant: "
                f"changed={sorted({text.partition(':')[0].split('.')[0] for text in left})}. It is recorded then."
            )
        if "batches.size" in meant and checkpoint.meta["position"]["batch"]:
            raise RunError(f"{folder.path}: the size of batches can change between epochs only, and the run stands within one.")
        if meant:
            words = [f"{name}: {found[name]}" for name in sorted(meant)]
            folder.record_status(run, "", changes=words)
            folder.note(f"Continued with changes: {'; '.join(words)}.")

    # looking

    def assess(self, batches: Batches) -> dict[str, float]:
        """Loss and metrics over all examples, in inference; each example counts once.

        Examples
        --------
        >>> data = vs.data.Dataset(np.ones((5, 2)), np.zeros((5, 1)))
        >>> training = vs.Training(vs.Dense(1, initialiser=vs.initialisers.ones), loss=vs.losses.squared_error)
        >>> training.network.initialise(data.inputs) is training.network
        True
        >>> training.assess(data.batches(2))
        {'loss': 4.0}
        """
        if not isinstance(batches, Batches):
            raise DataError(f"assess: the data is a {type(batches).__name__}. Give batches: dataset.batches(256).")
        self._check_encoding(self.encoding, batches.dataset, "the part to assess")
        total, n, summed = 0.0, 0, reduction_of(self.loss) == "sum"
        counts: dict[str, np.ndarray] = {}
        with untracked():
            for inputs, targets in batches.in_order():
                outputs = held(self.network(*inputs) if isinstance(inputs, tuple) else self.network(inputs))
                value = held(self.loss(outputs, targets))
                if np.size(value) != 1:
                    raise ShapeError(f'assess: the loss has shape {np.shape(value)}, and has to be one number. Use reduction="mean".')
                total += float(np.reshape(value, ())) * (1 if summed else len(targets))
                n += len(targets)
                for metric in self.metrics:
                    count = metric.count(outputs, targets)
                    counts[metric.name] = counts[metric.name] + count if metric.name in counts else count
        return {"loss": total if summed else total / n} | {m.name: m.conclude(counts[m.name]) for m in self.metrics}

    def outputs(self, data: Any, *, size: int = 1024) -> np.ndarray:
        """What the network puts out in inference, for a dataset, batches or an array of inputs."""
        dataset = data.dataset if isinstance(data, Batches) else data
        if isinstance(dataset, Dataset):
            self._check_encoding(self.encoding, dataset, "the data to predict")
        inputs = dataset.inputs if isinstance(dataset, Dataset) else np.asarray(dataset)
        if not inputs.ndim or not len(inputs):
            raise DataError(f"There are no inputs: shape {inputs.shape}. Give a batch of at least one.")
        with untracked():
            parts = [held(self.network(inputs[i : i + size])) for i in range(0, len(inputs), size)]
        return np.concatenate(parts)

    def predict(self, data: Any) -> pd.DataFrame:
        """Predictions for a dataset, batches or an array of inputs.

        Returns
        -------
        predictions : DataFrame, one row an example
            With cross-entropy one column of probabilities for each class and the class ``decided``, as it stands in the data: a text or
            a number; otherwise the outputs as ``prediction``, numbered if there are several.
        """
        import pandas as pd

        from ..activations import softmax

        outputs = self.outputs(data)
        if not makes_logits(self.loss):
            flat = outputs.reshape(len(outputs), -1)
            names = ["prediction"] if flat.shape[1] == 1 else [f"prediction {i}" for i in range(flat.shape[1])]
            return pd.DataFrame(flat, columns=names)
        if outputs.ndim != 2:
            raise ShapeError(f"predict: outputs of shape {outputs.shape} are no logits of one example a row. Use training.outputs(data).")
        known = self.class_values if len(self.class_values) == outputs.shape[1] else ()
        names = [str(value) for value in known] or [f"class {i}" for i in range(outputs.shape[1])]
        frame = pd.DataFrame(softmax(outputs.astype(np.float64)), columns=names)
        decided = outputs.argmax(axis=1)
        frame["decided"] = pd.Series([known[i] for i in decided]).to_numpy() if known else decided
        return frame


@contextmanager
def _listening(observers: Sequence[Observer]) -> Iterator[None]:
    """Let observers begin anew, and belong to one run until it ends."""
    for observer in observers:
        if observer.busy:
            raise RunError(
                f"The {type(observer).__name__} listens to another run, which has not ended. Give each run observers of its own."
            )
    for observer in observers:
        observer.begin()
        observer.busy = True
    try:
        yield
    finally:
        for observer in observers:
            observer.busy = False


def _optimiser(optimiser: Any) -> Optimiser:
    if optimiser is None:
        return Adam()
    if not isinstance(optimiser, Optimiser):
        given = optimiser.__name__ if isinstance(optimiser, type) else f"a {type(optimiser).__name__}"
        raise SettingError(f"Training: optimiser is {given}. Give one, such as vinestep.optimisers.Adam(rate=1e-3).")
    return optimiser


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


def _seed(seed: Any) -> int:
    if isinstance(seed, bool) or not isinstance(seed, int | np.integer) or not 0 <= seed < 2**63:
        raise SettingError(f"Training: seed must be a whole number from 0 to 2**63 - 1, got {seed!r}.")
    return int(seed)


@lru_cache
def _safe_norm(dtype: np.dtype[Any]) -> float:
    return math.sqrt(float(np.finfo(dtype).max)) * HEADROOM


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


@contextmanager
def _stoppable(run: Run) -> Iterator[None]:
    """Let Ctrl-C and a termination request end the step and the run; a second one ends the program at once."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM)}

    def ask_to_stop(number: int, frame: Any) -> None:
        for known, handler in before.items():
            signal.signal(known, handler)
        run.stop("Stopped by Ctrl-C" if number == signal.SIGINT else "Stopped by a termination request", resumable=True)

    for number in before:
        signal.signal(number, ask_to_stop)
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)

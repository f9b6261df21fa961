"""The training loop: steps, epochs, assessment and prediction."""

from __future__ import annotations

import logging
import math
import signal
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from os import PathLike
from pathlib import Path
from sys import getrefcount
from typing import TYPE_CHECKING, Any, NamedTuple, NoReturn

import numpy as np

from ..autodiff.fused import Fused
from ..autodiff.gradients import Gradients, Layout
from ..autodiff.state import STATE, untracked
from ..autodiff.sweep import sweep
from ..autodiff.tensor import Origin, Tensor, held
from ..data.dataset import Batch, Batches, Dataset
from ..errors import CheckpointError, DataError, DifferentiationError, NotFiniteError, RunError, VineStepError
from ..layers.arena import Arena
from ..layers.base import Layer
from ..layers.chain import dense_chain
from ..layers.containers import DenseRun, single_run
from ..layers.context import PASS, learning
from ..losses import makes_logits, note_probabilities, straight_form
from ..metrics import Metric
from ..optimisers import Adam, Optimiser
from ..schedules import Schedule, constant
from . import checkpoints
from .status import Status, moved

if TYPE_CHECKING:
    import pandas as pd

    from .observers import Observer

__all__ = ["Outcome", "Position", "Run", "Step", "Training"]

log = logging.getLogger("vinestep")
OWN_HOLDERS = 3  # references to a gradient buffer that are ours: the pool, the loop variable, the question itself


class Step(NamedTuple):
    """One update, as it was made.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> step = training.step((data.inputs, data.targets))
    >>> step.number, step.examples, step.rate
    (1, 8, 0.001)
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
    rate: float
    seconds: float
    examples: int


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

    def add(self, loss: float, n: int, counts: Mapping[str, np.ndarray]) -> None:
        self.loss_sum += loss * n
        self.examples += n
        for name, count in counts.items():
            known = self.counts.get(name)
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
        return min(rows, key=lambda row: row[quantity] if quantity.endswith(("loss", "error")) else -row[quantity])


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
    status: Status = Status.READY
    stop_reason: str = ""
    resumable: bool = True

    def stop(self, reason: str, *, resumable: bool = False) -> None:
        """Ask the run to end after the present step; the reason is recorded."""
        self.stop_reason, self.resumable = reason, resumable

    def meta(self) -> dict[str, Any]:
        """What a checkpoint says besides arrays."""
        return {
            "position": self.position.as_dict(),
            "curves": self.rows,
            "epochs": self.epochs,
            "name": self.name,
            "plan": self.plan,
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
        return checkpoints.write(path, self.training.arrays(), self.meta())


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
            raise VineStepError(f"Training: network is a {type(network).__name__}, not a layer. Wrap functions: vinestep.Stack(f).")
        if clip is not None and not clip > 0:
            raise ValueError(f"Training: clip must be positive, got {clip!r}.")
        self.network = network
        self.loss = loss
        self.optimiser = optimiser if optimiser is not None else Adam()
        self.schedule = schedule if schedule is not None else constant()
        self.metrics = list(metrics)
        self.clip = clip
        self.seed = seed
        self.class_names: tuple[str, ...] = ()
        self.step_number = 0
        self._buffers: list[tuple[Gradients, dict[Origin, np.ndarray]]] = []
        self._buffer_layout: Layout | None = None
        self._straight: tuple[DenseRun, Any, Fused] | None = None
        self._straight_generation = -1

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
        inputs, targets = batch
        if self.network.arena is None:
            self.network.initialise(inputs if isinstance(inputs, tuple) else inputs[:1], seed=self.seed)
        outputs, value, gradients = self._derive(inputs, targets)
        if self.step_number == 0 and makes_logits(self.loss):
            note_probabilities(outputs)
        if self.clip is not None:
            self._shorten(gradients)
        arena = self.network.arena
        assert arena is not None
        rate = self.optimiser.rate * self.schedule(self.step_number)
        self.optimiser.update(arena.flat, gradients.flat, rate)
        self.step_number += 1
        counts: dict[str, np.ndarray] = {}
        figures: dict[str, float] = {}
        for metric in self.metrics:
            counts[metric.name] = metric.count(held(outputs), np.asarray(targets))
            figures[metric.name] = metric.conclude(counts[metric.name])
        seconds = time.perf_counter() - begun
        n = len(targets)
        return Step(self.step_number, epoch + 1, position + 1, value, figures, gradients, rate, seconds, n), counts

    def _derive(self, inputs: Any, targets: Any) -> tuple[Any, float, Gradients]:
        """Outputs, loss and gradients of a learning pass."""
        if straight := self._straight_path(inputs):
            run, checked, loss = straight
            return self._derive_straight(run, checked, loss, inputs, targets)
        outputs, loss = self._learning_pass(inputs, targets)
        if not isinstance(loss, Tensor):
            raise DifferentiationError(
                f"Training: the loss is a {type(loss).__name__}, not a Tensor: nothing trainable went into it. Is every "
                "parameter frozen, or did the loss lose the record?"
            )
        value = loss.item()
        if not math.isfinite(value):
            self._refuse(value, inputs)
        return outputs, value, self._gradients(loss)

    def _straight_path(self, inputs: Any) -> tuple[DenseRun, Any, Fused] | None:
        """What is needed to do without a record, where network and loss are one fused operation each."""
        if self._straight_generation != Arena.generation:
            self._straight_generation = Arena.generation
            run, loss = single_run(self.network), straight_form(self.loss)
            self._straight = (run, *loss) if run is not None and loss is not None else None
        return self._straight if type(inputs) is np.ndarray and inputs.ndim == 2 else None

    def _derive_straight(self, run: DenseRun, checked: Any, loss: Fused, inputs: np.ndarray, targets: Any) -> tuple[Any, float, Gradients]:
        x = inputs if inputs.dtype == run.arrays[0].dtype else inputs.astype(run.arrays[0].dtype)
        run.first.check_input(x)
        outputs, saved = dense_chain.kernel_forward(x, *run.arrays, plan=run.plan)
        labels = checked(targets, outputs)
        value, slopes = loss.kernel_forward(outputs, labels)
        number = float(value)
        if not math.isfinite(number):
            self._refuse(number, inputs)
        gradients, places = self._buffer()
        (g, _) = loss.kernel_adjoint(1.0, slopes, (outputs, labels), {}, (True, False), (None, None))
        into = [None, *(places[weight.origin] for weight in run.weights)]
        dense_chain.kernel_adjoint(g, saved, (x, *run.arrays), {"plan": run.plan}, run.wanted, into)
        return outputs, number, gradients

    def _learning_pass(self, inputs: Any, targets: Any) -> tuple[Any, Any]:
        now, here = STATE.now, PASS
        before = now.recording, now.sealing, here.learning, here.seed, here.step, here.merged
        now.recording, now.sealing = True, False
        here.learning, here.seed, here.step, here.merged = True, self.seed, self.step_number, True
        try:
            outputs = self.network(*inputs) if isinstance(inputs, tuple) else self.network(inputs)
            return outputs, self.loss(outputs, targets)
        finally:
            now.recording, now.sealing, here.learning, here.seed, here.step, here.merged = before

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
        gradients, places = self._buffer()
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

    def _buffer(self) -> tuple[Gradients, dict[Origin, np.ndarray]]:
        """A gradient array that nobody outside holds."""
        arena = self.network.arena
        assert arena is not None
        if self._buffer_layout is not arena.layout:
            self._buffers, self._buffer_layout = [], arena.layout
            self.optimiser.begin(arena.layout, arena.dtype)
        for buffer in self._buffers:
            gradients = buffer[0]
            if getrefcount(gradients) <= OWN_HOLDERS and getrefcount(gradients.flat) <= len(buffer[1]) + 2:
                return buffer
        gradients = Gradients(arena.layout, np.empty(arena.layout.size, arena.dtype))
        places = {t.origin: gradients[path] for path, t in arena.trainable.items()}
        self._buffers = [*self._buffers[-2:], (gradients, places)]
        return gradients, places

    def _shorten(self, gradients: Gradients) -> None:
        assert self.clip is not None
        norm = gradients.norm()
        if norm > self.clip:
            gradients.flat *= gradients.flat.dtype.type(self.clip / norm)

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
        plan : dict, optional
            What was asked for, to be recorded; by default the settings of everything that takes part.

        Returns
        -------
        outcome : Outcome

        Raises
        ------
        DataError
            If training and validation share examples.
        NotFiniteError
            If the loss becomes NaN or infinite.
        RunError
            If the run to resume does not exist, or is finished.
        """
        from .folders import RunFolder
        from .observers import with_recorders

        self._check_parts(batches, validation)
        self._prepare(batches)
        settings = plan if plan is not None else self.settings(batches, epochs)
        folder = RunFolder.open(resume) if resume is not None else RunFolder.create(record, name) if record is not None else None
        watchers = with_recorders(observers, folder is not None)
        run = Run(self, epochs, batches, folder.path if folder else None, name, settings, Position(), [], watchers)
        if resume is not None and folder is not None:
            self._continue(run, folder)
        elif folder is not None:
            folder.write_plan(settings)
        return self._observed_run(run, folder, validation)

    def _observed_run(self, run: Run, folder: Any, validation: Batches | None) -> Outcome:
        begun = time.perf_counter()
        run.status = moved(run.status, Status.RUNNING)
        if folder is not None:
            folder.record_status(run, "")
        try:
            with _stoppable(run):
                for observer in run.observers:
                    observer.before_run(run)
                self._epochs(run, validation)
        except BaseException as error:
            run.status = moved(run.status, Status.FAILED)
            if folder is not None:
                folder.record_status(run, f"{type(error).__name__}: {error}")
            for observer in run.observers:
                observer.after_failure(run)
            raise
        outcome = self._outcome(run, time.perf_counter() - begun)
        for observer in run.observers:
            observer.after_run(run, outcome)
        if folder is not None:
            folder.record_status(run, outcome.reason)
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
        return Outcome(run.rows, run.status, reason, run.folder, seconds)

    def _epochs(self, run: Run, validation: Batches | None) -> None:
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

    def _row(self, position: Position, validation: Batches | None) -> dict[str, float]:
        row: dict[str, float] = {
            "epoch": position.epoch + 1,
            "step": position.step,
            "rate": self.optimiser.rate * self.schedule(self.step_number - 1),
            "loss": position.loss_sum / position.examples,
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
        self.class_names = getattr(batches.dataset, "class_names", ()) or self.class_names

    def settings(self, batches: Batches, epochs: int) -> dict[str, Any]:
        """What takes part in a run and how it is set, for the record."""
        return {
            "written_by": "Training.run",
            "seed": self.seed,
            "epochs": epochs,
            "clip": self.clip if self.clip is not None else "none",
            "loss": getattr(self.loss, "__name__", repr(self.loss)),
            "metrics": [metric.name for metric in self.metrics],
            "optimiser": self.optimiser.settings(),
            "schedule": self.schedule.settings,
            "batches": batches.settings(),
            "network": {path: list(a.shape) for path, a in self.network.weights().items()},
        }

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
            "class_names": list(self.class_names),
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
        self.class_names = tuple(meta["class_names"])

    def _continue(self, run: Run, folder: Any) -> None:
        folder.check_resumable()
        checkpoint, refused = checkpoints.newest_sound(folder.path / "checkpoints")
        for reason in refused:
            log.warning("%s The sound one before it is used: %s.", reason, checkpoint.path.name)
            folder.note(f"{reason} The sound one before it is used: {checkpoint.path.name}.")
        self.restore(checkpoint)
        run.position = Position(**checkpoint.meta["position"])
        run.rows[:] = checkpoint.meta["curves"]
        run.name = checkpoint.meta["name"]
        if checkpoint.meta["stop_reason"]:
            run.stop(checkpoint.meta["stop_reason"])
        for key, observer in run.keyed_observers().items():
            observer.restore(checkpoint.meta["observers"].get(key, {}))

    # looking

    def assess(self, batches: Batches) -> dict[str, float]:
        """Loss and metrics over all examples, in inference; each example counts once.

        Examples
        --------
        >>> data = vs.data.Dataset(np.ones((5, 2)), np.zeros((5, 1)))
        >>> training = vs.Training(vs.Dense(1, weights=vs.initialisers.ones), loss=vs.losses.squared_error)
        >>> training.network.initialise(data.inputs) is training.network
        True
        >>> training.assess(data.batches(2))
        {'loss': 4.0}
        """
        total, n = 0.0, 0
        counts: dict[str, np.ndarray] = {}
        with untracked():
            for inputs, targets in batches.in_order():
                outputs = held(self.network(*inputs) if isinstance(inputs, tuple) else self.network(inputs))
                total += float(held(self.loss(outputs, targets))) * len(targets)
                n += len(targets)
                for metric in self.metrics:
                    count = metric.count(outputs, targets)
                    counts[metric.name] = counts[metric.name] + count if metric.name in counts else count
        return {"loss": total / n} | {m.name: m.conclude(counts[m.name]) for m in self.metrics}

    def outputs(self, data: Any, *, size: int = 1024) -> np.ndarray:
        """What the network puts out in inference, for a dataset, batches or an array of inputs."""
        inputs = data.dataset.inputs if isinstance(data, Batches) else data.inputs if isinstance(data, Dataset) else np.asarray(data)
        with untracked():
            parts = [held(self.network(inputs[i : i + size])) for i in range(0, len(inputs), size)]
        return np.concatenate(parts)

    def predict(self, data: Any) -> pd.DataFrame:
        """Predictions for a dataset, batches or an array of inputs.

        Returns
        -------
        predictions : DataFrame, one row an example
            With cross-entropy one column of probabilities for each class and the class ``decided``; otherwise the outputs
            as ``prediction``, numbered if there are several.
        """
        import pandas as pd

        from ..activations import softmax

        outputs = self.outputs(data)
        if not makes_logits(self.loss):
            flat = outputs.reshape(len(outputs), -1)
            names = ["prediction"] if flat.shape[1] == 1 else [f"prediction {i}" for i in range(flat.shape[1])]
            return pd.DataFrame(flat, columns=names)
        names = list(self.class_names) or [f"class {i}" for i in range(outputs.shape[1])]
        frame = pd.DataFrame(softmax(outputs.astype(np.float64)), columns=names)
        frame["decided"] = np.asarray(names, dtype=object)[outputs.argmax(axis=1)]
        return frame


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

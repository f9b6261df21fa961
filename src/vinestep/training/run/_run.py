"""A run: parts with state that change together, observers that listen, and a store that keeps what
they say.
"""

from __future__ import annotations

import logging
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from ...autodiff.gradients import Gradients
from ...distributed._current import communicator
from ...distributed._launch import note_run
from ...errors import RunError
from ...kernels.machinery.blas_threads import one_blas_thread
from ...storage.json_values import finite_or_none, finite_rows
from ...storage.lineage import now
from ...storage.run_store import RunStore
from ...tasks._base import Task
from ..step._state import HasState, divides_state, joined_state, split_state
from ..step._step import Step
from ._attachments import Attachments
from ._results import Outcome, Position, direction
from ._signals import console_recorded, stop_on_signals
from ._status import Status, moved

if TYPE_CHECKING:
    from ..step._batch_checks import AnyBatches

__all__ = ["Observer", "Run", "observers_attached"]

log = logging.getLogger("vinestep")
LARGE = 4 << 20  # bytes of a state: a smaller one is written at once
# in memory, of a loop of one's own that is recorded: beyond it every second is dropped; the record
# has all
MOST_ROWS = 10_000
STATUS_SECONDS = 0.5  # at least between two notes of how far a run is
ASKED_SECONDS = 0.5  # at least between two looks at what somebody outside asks


class Observer:
    """Base of all observers; any of the methods may be left out.

    Examples
    --------
    >>> class Loud(vs.observers.Observer):
    ...     def after_epoch(self, run, row):
    ...         print(f"epoch {row['epoch']}")
    >>> data = vs.data.Dataset(np.ones((4, 2)), np.zeros((4, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, observers=[Loud()]
    ... )
    epoch 1
    epoch 2
    """

    part_family = "observer"
    order = 0
    """Observers are told in this order; checkpoints come last, since they save what the others
    know.
    """

    ends_run = False
    """Whether a failure of the observer ends the run; otherwise it is reported, and the observer is
    not told any more.
    """

    on_every_rank = True
    """Whether each of several ranks has it, or the first alone, as what records and draws."""

    calls_network = False
    """Whether it computes with the network, or has its layers watched: which ranks do together
    that divide its layers.
    """

    saves_states = False
    """Whether it saves the run, of which each of several ranks may have a part."""

    busy = False
    """Whether it is listening to a run; it cannot listen to two at once."""

    def begin(self) -> None:
        """Before each run: forget what an earlier one left. What a run that is continued knew is
        restored afterwards.
        """

    def before_run(self, run: Run) -> None:
        """Once, before the first step."""

    def before_step(self, run: Run, number: int) -> None:
        """Before each step, with its number."""

    def before_update(self, run: Run, loss: float, gradients: Gradients) -> None:
        """After derivation, before clipping and the update."""

    def wants_activations(self, number: int) -> bool:
        """Whether `activation` is to be called in a step; it costs time, since layers are then
        computed one by one.
        """
        return True

    def activation(self, run: Run, path: str, output: np.ndarray) -> None:
        """The output of each layer in a learning pass, for observers that supply this method."""

    def after_step(self, run: Run, step: Step) -> None:
        """After each update; in a loop of one's own `step` is None."""

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        """After each epoch, with its row of the curves."""

    def after_validation(self, run: Run, row: dict[str, float]) -> None:
        """After a validation within an epoch, with its scores; what ends an epoch is told by
        `after_epoch`.
        """

    def said(self, run: Run, text: str) -> None:
        """When something was done that the user should know of, such as lowering the rate."""

    def after_run(self, run: Run, outcome: Outcome) -> None:
        """Once, when the run has ended."""

    def after_failure(self, run: Run) -> None:
        """Once, when the run was ended by an error."""

    def state(self) -> dict[str, Any]:
        """What has to be known to continue, as JSON can hold it."""
        return {}

    def restore(self, state: dict[str, Any]) -> None:
        """Take back what `state` gave."""


@dataclass
class Run(Attachments):
    """A run under way, as its observers and the loop of its user see it.

    Attributes
    ----------
    parts : dict of name to what has a state
    position : Position
        How far it has come.
    rows : list of dict
        The curves so far: a row for each epoch, or for each step whose numbers were recorded.
    store : RunStore or None

    Examples
    --------
    >>> noise = vs.RandomStream(0)
    >>> run = vs.Run({"noise": noise}, total_steps=3)
    >>> for number in run.steps():
    ...     run.numbers(draw=noise.rng.random())
    >>> run.position.step, len(run.rows)
    (3, 3)
    """

    parts: dict[str, HasState]
    observers: Sequence[Observer] = ()
    store: RunStore | None = None
    name: str = "run"
    plan: dict[str, Any] = field(default_factory=dict)
    settings: dict[str, Any] = field(default_factory=dict)
    """What takes part, described: a run that goes on is held against it."""
    epochs: int = 0
    """In all; 0 if the run is counted in steps."""
    batches_per_epoch: int = 0
    steps_per_epoch: int = 0
    total_steps: int = 0
    ends_itself: bool = False
    """Whether it ends by something else than a number of epochs or steps."""
    validated: bool = True
    """Whether the last row of the curves was validated."""
    better: dict[str, str] = field(default_factory=dict)
    """Of each column of the curves that can be judged: whether "higher" or "lower" is better."""
    extra: Any = None
    """Called for what else stands in a saved state."""
    position: Position = field(default_factory=Position)
    rows: list[dict[str, float]] = field(default_factory=list)
    examples: AnyBatches | None = None
    """Of which observers show some: the validation part, or what is trained on."""
    training_examples: AnyBatches | None = None
    """What is trained on."""
    task: Task | None = None
    """What the outputs mean."""
    model: Callable[[], Any] | None = None
    """Makes the model of the best state so far, or of the last where none was judged; of a run of
    a `Training`.
    """
    looks: list[dict[str, float]] = field(default_factory=list)
    """Scores of validation within epochs, by step."""
    status: Status = Status.READY
    stop_reason: str = ""
    resumable: bool = True

    def __post_init__(self) -> None:
        self._listeners: dict[str, list[Observer]] = {}
        self._dropped: list[Observer] = []
        self._writer: ThreadPoolExecutor | None = None
        self._saving: Future[None] | None = None
        self._noted = self._looked = 0.0
        self._step_numbers: dict[str, float] = {}
        self._unwritten: dict[str, list[dict[str, float]]] = {}

    @property
    def folder(self) -> Path | None:
        """Where the run is recorded, if that is a folder."""
        return getattr(self.store, "path", None)

    @property
    def is_custom_loop(self) -> bool:
        """Whether its rows are steps, of a loop of one's own."""
        return not self.epochs and not self.ends_itself

    @property
    def series(self) -> str:
        """Of what the rows are."""
        return "epochs" if self.epochs else "steps"

    def agree(self) -> None:
        """Of several ranks: what one was asked, all do; their clock is that of the first."""
        comm = communicator()
        if comm.size == 1:
            return
        asked = comm.all_gather((self.stop_reason, self.resumable, self.position.seconds))
        for reason, resumable, _ in asked:
            if reason:
                self.stop_reason, self.resumable = reason, resumable
                break
        self.position.seconds = asked[0][2]

    # what observers and users call

    def stop(self, reason: str, *, resumable: bool = False) -> None:
        """Ask the run to end after the present step; the reason is recorded."""
        self.stop_reason, self.resumable = reason, resumable

    def say(self, text: str) -> None:
        """Tell the user something, on the console of the record too."""
        if self.store is not None:
            self.store.write_console(text)
        self.tell("said", text)

    def direction(self, quantity: str) -> str:
        """Whether "higher" or "lower" is better."""
        return direction(self.better, quantity)

    def numbers(self, **figures: float) -> None:
        """Record figures of the present step, in the series "steps"."""
        self._step_numbers |= {name: float(value) for name, value in figures.items()}

    @property
    def step_figures(self) -> dict[str, float]:
        """The figures of the present step of a loop of one's own."""
        return dict(self._step_numbers)

    def add_row(self, series: str, row: dict[str, float]) -> None:
        """Add a row, with its ``step``, to a series of the record; it is written within a
        second.
        """
        if self.store is not None:
            self._unwritten.setdefault(series, []).append(row)

    def write_rows(self) -> None:
        """Write what was added to series and is not written yet."""
        waiting, self._unwritten = self._unwritten, {}
        for series, rows in waiting.items():
            self.store.append_series(series, rows)  # type: ignore[union-attr]  # rows are kept for a store only

    def end_step(self) -> None:
        """The figures of the present step are complete."""
        if not self._step_numbers:
            return
        row = {"step": self.position.step, **self._step_numbers}
        self._step_numbers = {}
        self.add_row("steps", row)
        if self.is_custom_loop:
            self.rows.append(row)
            if self.store is not None and len(self.rows) > MOST_ROWS:
                del self.rows[1::2]

    def listeners(self, event: str) -> list[Observer]:
        """The observers that want to be told of an event, in order."""
        if event not in self._listeners:
            observers_attached = [
                o for o in self.observers if not any(o is dropped for dropped in self._dropped)
            ]
            self._listeners[event] = [
                o
                for o in observers_attached
                if getattr(type(o), event) is not getattr(Observer, event)
            ]
        return self._listeners[event]

    def tell(self, event: str, *details: Any) -> None:
        """Tell the observers of an event."""
        self.tell_some(self.listeners(event), event, *details)

    def tell_some(self, observers: Iterable[Observer], event: str, *details: Any) -> None:
        """Tell these observers of an event; one that fails is not told any more."""
        for observer in observers:
            try:
                getattr(observer, event)(self, *details)
            except Exception as error:
                if observer.ends_run:
                    raise
                self._drop(observer, event, error)

    def _drop(self, observer: Observer, event: str, error: Exception) -> None:
        """Report an observer that failed, and go on without it."""
        name = type(observer).__name__
        told = (
            f"The observer {name} failed in {event} at step {self.position.step}: "
            f"{type(error).__name__}: {error}"
        )
        told += ". The run goes on without it; with ends_run = True it would have ended."
        log.warning("%s", told, exc_info=log.isEnabledFor(logging.DEBUG))
        self._dropped.append(observer)
        self._listeners = {}
        if self.store is not None:
            self.store.write_console(told)

    # states

    def _parted(self) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
        """All arrays of the parts, those of the part without a name by their own paths; and what is
        left of their states.
        """
        arrays: dict[str, np.ndarray] = {}
        described = {}
        for name, part in self.parts.items():
            own, described[name] = split_state(part.state(), f"{name}/" if name else "")
            arrays |= own
        return arrays, described

    def _meta(self, parts: dict[str, Any]) -> dict[str, Any]:
        """What a saved state says besides arrays."""
        return {
            "position": finite_or_none(self.position.as_dict()),
            "curves": finite_rows(self.rows) if self.epochs else [],
            "looks": finite_rows(self.looks),
            "epochs": self.epochs,
            "name": self.name,
            "plan": self.plan,
            "settings": self.settings,
            "observers": {
                key: observer.state() for key, observer in self.keyed_observers().items()
            },
            "stop_reason": "" if self.resumable else self.stop_reason,
            "parts": parts,
            **(self.extra() if self.extra is not None else {}),
        }

    def part_states(
        self, arrays: Mapping[str, np.ndarray], described: Mapping[str, Any]
    ) -> dict[str, dict[str, Any]]:
        """States of the parts from what a saved state holds."""
        return {
            name: joined_state(arrays, described.get(name, {}), f"{name}/" if name else "")
            for name in self.parts
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

    def save(self, name: str, then: Callable[[], object] = lambda: None) -> None:
        """Save a state to continue from; a large one is copied, and written by another thread while
        the run goes on.

        Parameters
        ----------
        name : str
        then : callable
            Called when it is written.

        Raises
        ------
        RunError
            If the run is not recorded.
        ArchiveError
            If the disk does not take this state, or did not take the one before.
        """
        if self.store is None:
            raise RunError(
                "The run is not recorded, so its state cannot be saved: say record='records'."
            )
        self.end_step()
        self.write_rows()
        arrays, parts = self._parted()
        meta, store = self._meta(parts), self.store
        self.finish_saving()
        if not store.keeps:
            return
        if sum(array.nbytes for array in arrays.values()) < LARGE:
            store.save_state(name, arrays, meta)
            then()
            return
        copies = {path: array.copy() for path, array in arrays.items()}

        def write() -> None:
            store.save_state(name, copies, meta)
            then()

        if self._writer is None:
            self._writer = ThreadPoolExecutor(1, thread_name_prefix="vinestep states")
        self._saving = self._writer.submit(write)

    def agreed(self, due: bool) -> bool:
        """What the first rank says, if states are saved by all together."""
        return communicator().broadcast(due) if divides_state(self.parts) else due  # type: ignore[no-any-return]

    def finish_saving(self) -> None:
        """Wait until the state under way is written; raises what went wrong."""
        saving, self._saving = self._saving, None
        if saving is not None:
            saving.result()

    # the course of a run

    @contextmanager
    def under_way(self) -> Iterator[Run]:
        """Between the first and the last step: signals ask it to stop, failures are recorded,
        observers told.
        """
        self.status = moved(self.status, Status.RUNNING)
        if self.folder is not None and communicator().rank == 0:
            note_run(self.folder)
        self.record_change("")
        with console_recorded(self.store), one_blas_thread():
            try:
                with stop_on_signals(self.stop):
                    self.tell("before_run")
                    yield self
            except BaseException as error:
                self._close_writer()
                self.status = moved(self.status, Status.FAILED)
                try:
                    self.record_change(f"{type(error).__name__}: {error}")
                except (
                    RunError
                ) as second:  # the disk is full, or the folder gone: the first error says more
                    log.warning("%s", second)
                self.tell("after_failure")
                raise

    def _close_writer(self) -> None:
        """After a failure: what is being written is finished, and what went wrong with it is not
        the first error.
        """
        try:
            self.finish_saving()
        except Exception as second:
            log.warning("%s", second)

    def conclude(self, begun: float) -> Outcome:
        """Decide how the run ended, and record it."""
        self.finish_saving()
        interrupted = bool(self.stop_reason) and self.resumable
        self.status = moved(self.status, Status.INTERRUPTED if interrupted else Status.FINISHED)
        at = self.position
        whole = (
            f"All {self.epochs} epochs done, {at.step} steps."
            if self.epochs
            else f"All {at.step} steps done."
        )
        reason = f"{self.stop_reason}, after {self.where()}." if self.stop_reason else whole
        if interrupted and self.folder is not None:
            reason += (
                f" To continue: vinestep resume {self.folder}, or in Python with "
                f"resume={str(self.folder)!r}."
            )
        outcome = Outcome(
            self.rows,
            self.status,
            reason,
            self.folder,
            time.perf_counter() - begun,
            self.better,
            self.store,
            self.looks,
        )
        self.tell("after_run", outcome)
        self.finish_saving()
        if self._writer is not None:
            self._writer.shutdown()
            self._writer = None
        self.record_change(outcome.reason)
        if self.status is Status.INTERRUPTED and communicator().rank == 0:
            log.warning(outcome.reason)
        return outcome

    def record_change(self, reason: str) -> None:
        """Write down where the run stands, on the console of the record too."""
        if self.store is None:
            return
        self.record_status(reason)
        self.write_rows()
        where = self.where()
        self.store.write_console(f"{now()}  {self.status.value}: {where}. {reason}".rstrip())

    def where(self) -> str:
        """How far the run is, in words."""
        at = self.position
        if self.epochs:
            return f"epoch {at.epoch} of {self.epochs}, step {at.step}"
        return (
            f"step {at.step} of {self.total_steps}"
            if self.total_steps
            else f"epoch {at.epoch}, step {at.step}"
        )

    def record_status(self, reason: str, **more: Any) -> None:
        """Write down where the run stands."""
        if self.store is None:
            return
        self.store.write_status(
            {
                "name": self.name,
                "status": self.status.value,
                "reason": reason,
                "epoch": self.position.epoch,
                "epochs": self.epochs,
                "step": self.position.step,
                "last": finite_rows(self.rows[-1:])[0] if self.rows else {},
                **more,
            }
        )
        self._noted = time.monotonic()

    def look_around(self) -> None:
        """Between steps, now and then: write down how far the run is, and do what somebody outside
        asks.
        """
        now = time.monotonic()
        if self.store is None or now - self._looked < ASKED_SECONDS:
            return
        self._looked = now
        self.write_rows()
        for request in self.store.requests():
            if request.what == "note":
                self.store.write_console(f"note: {request.text}")
            else:
                words = "Told to finish" if request.what == "finish" else "Told to stop"
                self.stop(
                    f"{words}: {request.text}" if request.text else words,
                    resumable=request.what == "stop",
                )
        if now - self._noted >= STATUS_SECONDS:
            self.record_status("")

    def steps(self) -> Iterator[int]:
        """The numbers of the steps that are left, counted from 1; what is done between two of them
        is a step of the run.

        Examples
        --------
        >>> line = vs.Descent(vs.Dense(1).initialise(np.ones((1, 1))))
        >>> with vs.recorded_run({"line": line}, steps=3) as run:
        ...     for number in run.steps():
        ...         step = line.step(lambda: np.sum(line.network(np.ones((1, 1), np.float32)) ** 2))
        ...         run.numbers(loss=step.loss)
        >>> [row["step"] for row in run.rows]
        [1, 2, 3]
        """
        if not self.total_steps:
            raise RunError("steps: this run is counted in epochs.")
        while self.position.step < self.total_steps and not self.stop_reason:
            number = self._step_under_way = self.position.step + 1
            self.tell("before_step", number)
            yield number
            self.position.step, self._step_under_way = number, None
            self.tell("after_step", None)
            self.end_step()
            self.look_around()
            self.agree()


@contextmanager
def observers_attached(observers: Iterable[Observer]) -> Iterator[None]:
    """Let observers begin anew, and belong to one run until it ends."""
    observers = list(observers)
    for observer in observers:
        if observer.busy:
            raise RunError(
                f"The {type(observer).__name__} listens to another run, which has not ended. Give "
                "each run observers of its own."
            )
    for observer in observers:
        observer.begin()
        observer.busy = True
    try:
        yield
    finally:
        for observer in observers:
            observer.busy = False

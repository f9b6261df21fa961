"""Observers: what listens to a run. The loop prints nothing and writes nothing; they do."""

from __future__ import annotations

import logging
import math
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from ..errors import CheckpointError, RunError, did_you_mean, names_of
from ..parts import part
from .checkpoints import step_of
from .folders import write_text
from .plain import integer, number

if TYPE_CHECKING:
    from rich.console import Console

    from .loop import Outcome, Run, Step

__all__ = ["Checkpoints", "Curves", "Observer", "Patience", "Progress"]

log = logging.getLogger("vinestep")


class Observer:
    """Base of all observers; any of the methods may be left out.

    Examples
    --------
    >>> class Loud(vs.observers.Observer):
    ...     def after_epoch(self, run, row):
    ...         print(f"epoch {row['epoch']}")
    >>> data = vs.data.Dataset(np.ones((4, 2)), np.zeros((4, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(data.batches(4), epochs=2, observers=[Loud()])
    epoch 1
    epoch 2
    """

    part_family = "observer"
    order = 0
    """Observers are told in this order; checkpoints come last, since they save what the others know."""

    busy = False
    """Whether it is listening to a run; it cannot listen to two at once."""

    def begin(self) -> None:
        """Before each run: forget what an earlier one left. What a run that is continued knew is restored afterwards."""

    def before_run(self, run: Run) -> None:
        """Once, before the first step."""

    def after_step(self, run: Run, step: Step) -> None:
        """After each update."""

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        """After each epoch, with its row of the curves."""

    def after_run(self, run: Run, outcome: Outcome) -> None:
        """Once, when the run has ended."""

    def after_failure(self, run: Run) -> None:
        """Once, when the run was ended by an error."""

    def state(self) -> dict[str, Any]:
        """What has to be known to continue, as JSON can hold it."""
        return {}

    def restore(self, state: dict[str, Any]) -> None:
        """Take back what `state` gave."""


def _score(run: Run, name: str, value: float) -> float:
    """The smaller the better; NaN is worse than anything."""
    if math.isnan(value):
        return math.inf
    return value if run.better(name) == "lower" else -value


def _value(row: dict[str, float], quantity: str | None) -> tuple[str, float]:
    """The quantity to judge by; the validation loss if there is one, else the loss."""
    name = quantity or ("validation_loss" if "validation_loss" in row else "loss")
    if name not in row:
        raise RunError(f"The curves have no {name!r}. {did_you_mean(name, row)}")
    return name, row[name]


@part("patience", "observer")
class Patience(Observer):
    """Ends a run after so many epochs without a gain on the best value so far.

    Parameters
    ----------
    epochs : int
        How many epochs to wait for a gain.
    least_gain : float
        What counts as one: the best value has to be beaten by more than this.
    by : str, optional
        Column of the curves; by default the validation loss, or the loss if nothing is validated.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> training.run(data.batches(4), epochs=50, observers=[vs.observers.Patience(2, least_gain=1.0)]).reason
    'No gain in loss for 2 epochs, after epoch 3 of 50, step 6.'
    """

    order = 1

    def __init__(self, epochs: int, *, least_gain: float = 0.0, by: str | None = None) -> None:
        if epochs < 1:
            raise ValueError(f"Patience: epochs must be at least 1, got {epochs}.")
        if least_gain < 0:
            raise ValueError(f"Patience: least_gain must not be negative, got {least_gain}.")
        self.epochs = epochs
        self.least_gain = least_gain
        self.by = by
        self.begin()

    def begin(self) -> None:
        self.best = math.inf
        self.waited = 0

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        name, value = _value(row, self.by)
        score = _score(run, name, value)
        if score < self.best - self.least_gain:
            self.best, self.waited = score, 0
            return
        self.waited += 1
        if self.waited >= self.epochs:
            run.stop(f"No gain in {name} for {self.waited} epochs")

    def state(self) -> dict[str, Any]:
        return {"best": self.best if math.isfinite(self.best) else None, "waited": self.waited}

    def restore(self, state: dict[str, Any]) -> None:
        best = number(state, "best")
        self.best, self.waited = math.inf if best is None else best, integer(state, "waited")


@part("checkpoints", "observer")
class Checkpoints(Observer):
    """Saves the run: the newest states to continue from and, if asked for, the best ones.

    Parameters
    ----------
    what : {"newest", "best"}
        "best" keeps the best states as well as the newest.
    by : str, optional
        Column of the curves that says what is best; by default the validation loss, or the loss.
    every : int, optional
        Save after every so many steps, besides after each epoch.
    keep : int
        How many of each kind to keep.

    Examples
    --------
    >>> import tempfile
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> keeper = vs.observers.Checkpoints("best", by="loss", keep=1)
    >>> outcome = training.run(data.batches(4), epochs=3, observers=[keeper], record=tempfile.mkdtemp())
    >>> sorted(file.name for file in (outcome.folder / "checkpoints").iterdir())
    ['best-00000006.npz', 'step-00000006.npz']
    """

    order = 9

    def __init__(
        self, what: Literal["newest", "best"] = "newest", *, by: str | None = None, every: int | None = None, keep: int = 2
    ) -> None:
        if what not in ("newest", "best"):
            raise ValueError(f'Checkpoints: what must be "newest" or "best", got {what!r}.')
        if keep < 1 or (every is not None and every < 1):
            raise ValueError(f"Checkpoints: keep and every must be at least 1, got {keep} and {every}.")
        self.what = what
        self.by = by
        self.every = every
        self.keep = keep
        self.begin()

    def begin(self) -> None:
        self.scores: list[tuple[float, int]] = []
        """Score and step of the best so far, best first."""

    def before_run(self, run: Run) -> None:
        if run.folder is None:
            raise RunError("Checkpoints need a place: training.run(..., record='runs').")

    def after_step(self, run: Run, step: Step) -> None:
        if self.every is not None and step.number % self.every == 0 and run.position.batch < len(run.batches):
            self._save(run)

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        if self.what == "best":
            self._save_if_best(run, row)
        self._save(run)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        self._save(run)

    def best_file(self, run: Run | Outcome) -> Path | None:
        """The best checkpoint of a run, if there is one yet."""
        return self._folder(run) / _best_name(self.scores[0][1]) if self.scores else None

    @staticmethod
    def _folder(run: Run | Outcome) -> Path:
        assert run.folder is not None
        return run.folder / "checkpoints"

    def _save(self, run: Run) -> None:
        run.save(self._folder(run) / f"step-{run.position.step:08d}.npz")
        for old in sorted(self._folder(run).glob("step-*.npz"), key=step_of)[: -self.keep]:
            old.unlink(missing_ok=True)

    def _save_if_best(self, run: Run, row: dict[str, float]) -> None:
        name, value = _value(row, self.by)
        score = _score(run, name, value)
        if not math.isfinite(score) or (len(self.scores) >= self.keep and not score < self.scores[-1][0]):
            return
        step = run.position.step
        self.scores = sorted([*self.scores, (score, step)], key=lambda item: item[0])
        dropped, self.scores = self.scores[self.keep :], self.scores[: self.keep]
        run.save(self._folder(run) / _best_name(step))
        for _, old in dropped:
            (self._folder(run) / _best_name(old)).unlink(missing_ok=True)

    def state(self) -> dict[str, Any]:
        return {"scores": [{"score": score, "step": step} for score, step in self.scores]}

    def restore(self, state: dict[str, Any]) -> None:
        found = state.get("scores", [])
        if not isinstance(found, list) or not all(isinstance(entry, dict) for entry in found):
            raise CheckpointError(f"The state of Checkpoints holds {str(found)[:40]!r} where its scores should be.")
        self.scores = [(number(entry, "score") or 0.0, integer(entry, "step")) for entry in found]


def _best_name(step: int) -> str:
    return f"best-{step:08d}.npz"


@part("curves", "observer")
class Curves(Observer):
    """Writes the curves of a recorded run as CSV after each epoch, and as PNG as it goes.

    Parameters
    ----------
    seconds : float
        At least so long between two drawings; the last is always drawn.

    Examples
    --------
    >>> import tempfile
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> outcome = training.run(data.batches(4), epochs=2, observers=[vs.observers.Curves()], record=tempfile.mkdtemp())
    >>> sorted(file.name for file in outcome.folder.glob("curves.*"))
    ['curves.csv', 'curves.png']
    """

    order = 2

    def __init__(self, *, seconds: float = 5.0) -> None:
        self.seconds = seconds
        self._drawn = time.monotonic()

    def before_run(self, run: Run) -> None:
        self._write(run)

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        self._write(run)
        if time.monotonic() - self._drawn >= self.seconds:
            self._draw(run)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        self._write(run)
        self._draw(run)

    @staticmethod
    def _write(run: Run) -> None:
        import pandas as pd

        if run.folder is None:
            raise RunError("Curves need a place: training.run(..., record='runs').")
        if run.rows:
            write_text(run.folder / "curves.csv", pd.DataFrame(run.rows).to_csv(index=False))

    def _draw(self, run: Run) -> None:
        from ..figures import curves, save

        if run.rows and run.folder is not None:
            try:
                save(curves(run.rows, title=run.folder.name, better=run.directions()), run.folder / "curves.png")
            except OSError as error:
                raise RunError(f"{run.folder / 'curves.png'}: could not be written: {error.strerror or error}.") from error
        self._drawn = time.monotonic()


@part("progress", "observer")
class Progress(Observer):
    """A progress bar with loss, rate, examples a second and time left; without a terminal, a line now and then.

    Parameters
    ----------
    console : rich.console.Console, optional

    Examples
    --------
    >>> from rich.console import Console
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> outcome = training.run(data.batches(8), epochs=1, observers=[vs.observers.Progress(Console())])
    epoch 1/1  rate 0.001  loss ...
    """

    def __init__(self, console: Console | None = None) -> None:
        self.console = console
        self._console: Any = None
        self._bar: Any = None
        self._task: Any = None
        self._told = 0.0

    def before_run(self, run: Run) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

        self._console = self.console or Console(stderr=True)
        self._total = run.epochs * len(run.batches)
        self._begun, self._examples = time.perf_counter(), 0
        if not self._console.is_terminal:
            return
        self._bar = Progress(
            TextColumn("epoch {task.fields[epoch]}"),
            BarColumn(bar_width=24),
            TextColumn("{task.percentage:>3.0f}%"),
            TextColumn("loss {task.fields[loss]}  rate {task.fields[rate]}  {task.fields[speed]} examples/s"),
            TimeRemainingColumn(compact=True),
            TextColumn("left"),
            console=self._console,
            refresh_per_second=5,
        )
        first = f"{run.position.epoch + 1}/{run.epochs}"
        self._task = self._bar.add_task("", total=self._total, completed=run.position.step, epoch=first, loss="-", rate="-", speed="-")
        self._bar.start()

    def after_step(self, run: Run, step: Step) -> None:
        self._examples += step.examples
        now = time.perf_counter()
        if self._bar is None or now - self._told < 0.1:
            return
        self._told = now
        self._bar.update(
            self._task,
            completed=step.number,
            epoch=f"{step.epoch}/{run.epochs}",
            loss=f"{run.position.loss:.4f}",
            rate=f"{step.rate:.2e}",
            speed=f"{self._examples / max(now - self._begun, 1e-9):,.0f}",
        )

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        epoch = int(row["epoch"])
        if self._bar is None and self._console is not None and epoch % max(1, run.epochs // 10) == 0:
            figures = "  ".join(f"{k} {v:.4g}" for k, v in row.items() if k not in ("epoch", "step"))
            self._console.print(f"epoch {epoch}/{run.epochs}  {figures}", highlight=False, soft_wrap=True)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        if self._bar is not None:
            done = self._total if not run.stop_reason else run.position.step
            last = run.rows[-1] if run.rows else {}
            self._bar.update(
                self._task,
                completed=done,
                epoch=f"{run.position.epoch}/{run.epochs}",
                loss=f"{last['loss']:.4f}" if last else "-",
                rate=f"{last['rate']:.2e}" if last else "-",
                speed=f"{self._examples / max(outcome.seconds, 1e-9):,.0f}",
            )
        self._stop()

    def after_failure(self, run: Run) -> None:
        self._stop()

    def _stop(self) -> None:
        if self._bar is not None:
            self._bar.stop()
            self._bar = None


def with_recorders(observers: Sequence[Observer], recorded: bool) -> list[Observer]:
    """The observers in their order; a recorded run always has its curves written and its state saved."""
    result = list(observers)
    if recorded:
        for kind in (Curves, Checkpoints):
            if not any(isinstance(observer, kind) for observer in result):
                result.append(kind())
    return sorted(result, key=lambda observer: observer.order)


__getattr__ = names_of(__name__, __all__)

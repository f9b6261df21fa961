"""How far a run is, in the terminal."""

from __future__ import annotations

import math
import time
from typing import TYPE_CHECKING, Any

from ...parts._registry import part
from ..run._run import Observer
from ._notebook import InCell, in_notebook

if TYPE_CHECKING:
    from rich.console import Console

    from ..run._results import Outcome
    from ..run._run import Run
    from ..step._step import Step

__all__ = ["Progress"]


@part("progress", "observer")
class Progress(Observer):
    """A progress bar with loss, rate, examples a second and time left; without a terminal, a line
    now and then; in a notebook, `InCell`.

    Parameters
    ----------
    console : rich.console.Console, optional

    Examples
    --------
    >>> from rich.console import Console
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> outcome = training.run(
    ...     data.batches(8), epochs=1, observers=[vs.observers.Progress(Console())]
    ... )
    epoch 1/1  rate 0.001  loss ...
    """

    on_every_rank = False

    ends_run = True

    def __init__(self, console: Console | None = None) -> None:
        self.console = console
        self._console: Any = None
        self._bar: Any = None
        self._task: Any = None
        self._told = 0.0
        self.begin()

    def begin(self) -> None:
        self._cell = InCell() if self.console is None and in_notebook() else None

    def before_run(self, run: Run) -> None:
        if self._cell is not None:
            self._cell.before_run(run)
            return
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

        self._console = self.console or Console(stderr=True)
        self._total = run.epochs * run.steps_per_epoch or run.total_steps
        self._begun, self._examples = time.perf_counter(), 0
        if not self._console.is_terminal:
            return
        self._bar = Progress(
            TextColumn("epoch {task.fields[epoch]}"),
            BarColumn(bar_width=24),
            TextColumn("{task.percentage:>3.0f}%"),
            TextColumn(
                "loss {task.fields[loss]}  rate {task.fields[rate]}  {task.fields[speed]} "
                "examples/s"
            ),
            TimeRemainingColumn(compact=True),
            TextColumn("left"),
            console=self._console,
            refresh_per_second=5,
        )
        first = f"{run.position.epoch + 1}/{run.epochs}"
        self._task = self._bar.add_task(
            "",
            total=self._total,
            completed=run.position.step,
            epoch=first,
            loss="-",
            rate="-",
            speed="-",
        )
        self._bar.start()

    def after_step(self, run: Run, step: Step) -> None:
        if self._cell is not None:
            self._cell.after_step(run, step)
            return
        if step is None:
            self._after_own_step(run)
            return
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

    def _after_own_step(self, run: Run) -> None:
        """Of a loop of one's own: the figures of the step."""
        at, now = run.position.step, time.perf_counter()
        row = run.step_figures
        if self._bar is not None:
            if now - self._told >= 0.1:
                self._told = now
                self._bar.update(
                    self._task,
                    completed=at,
                    epoch=f"step {at}/{self._total}",
                    loss=f"{next(iter(row.values()), math.nan):.4g}",
                    speed=f"{at / max(now - self._begun, 1e-9):,.0f}",
                )
        elif self._console is not None and at % max(1, self._total // 10) == 0:
            figures = "  ".join(f"{k} {v:.4g}" for k, v in row.items())
            self._console.print(
                f"step {at}/{self._total}  {figures}", highlight=False, soft_wrap=True
            )

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        if self._cell is not None:
            return
        epoch = int(row["epoch"])
        if (
            self._bar is None
            and self._console is not None
            and epoch % max(1, run.epochs // 10) == 0
        ):
            figures = "  ".join(
                f"{k} {v:.4g}" for k, v in row.items() if k not in ("epoch", "step")
            )
            self._console.print(
                f"epoch {epoch}/{run.epochs}  {figures}", highlight=False, soft_wrap=True
            )

    def said(self, run: Run, text: str) -> None:
        if self._cell is not None:
            self._cell.said(run, text)
            return
        console = self._bar.console if self._bar is not None else self._console
        if console is not None:
            console.print(text, highlight=False, soft_wrap=True)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        if self._cell is not None:
            self._cell.after_run(run, outcome)
        if self._bar is not None:
            done = self._total if not run.stop_reason else run.position.step
            last = run.rows[-1] if run.rows else {}
            at = f"{run.position.epoch}/{run.epochs}"
            self._bar.update(
                self._task,
                completed=done,
                epoch=at if not run.is_custom_loop else f"step {done}/{self._total}",
                loss=f"{last['loss']:.4f}" if "loss" in last else "-",
                rate=f"{last['rate']:.2e}" if "rate" in last else "-",
                speed=f"{self._examples / max(outcome.seconds, 1e-9):,.0f}",
            )
        self._stop()

    def after_failure(self, run: Run) -> None:
        if self._cell is not None:
            self._cell.after_failure(run)
        self._stop()

    def _stop(self) -> None:
        if self._bar is not None:
            self._bar.stop()
            self._bar = None

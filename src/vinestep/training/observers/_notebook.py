"""How far a run is, in the cell of a notebook."""

from __future__ import annotations

import sys
import time
from html import escape
from importlib import import_module
from typing import TYPE_CHECKING, Any

from ..._notebook_html import html_curve, html_table
from ...parts._registry import part
from ..run._run import Observer

if TYPE_CHECKING:
    from ..run._results import Outcome
    from ..run._run import Run
    from ..step._step import Step

__all__ = ["InCell", "in_notebook"]

MOST_ROWS = 6


def in_notebook() -> bool:
    """Whether the process is the kernel of a notebook."""
    shell = sys.modules.get("IPython")
    result = shell.get_ipython() if shell is not None else None
    return result is not None and type(result).__name__ == "ZMQInteractiveShell"


@part("in_cell", "observer")
class InCell(Observer):
    """A bar, the curves as they grow, and the last rows, in the cell of a notebook that runs the
    training.

    Parameters
    ----------
    seconds : float
        At least so long between two drawings.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> cell = vs.observers.InCell()
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, observers=[cell]
    ... )
    >>> "<progress" in cell.html
    True
    """

    on_every_rank = False

    def __init__(self, *, seconds: float = 0.5) -> None:
        self.seconds = seconds
        self.begin()

    def begin(self) -> None:
        self.html = ""
        """What stands in the cell."""
        self._handle: Any = None
        self._drawn = 0.0
        self._said: list[str] = []

    def before_run(self, run: Run) -> None:
        if in_notebook():
            shown: Any = import_module("IPython.display")
            self._handle = shown.display(shown.HTML(""), display_id=True)
        self._draw(run, "")

    def after_step(self, run: Run, step: Step | None) -> None:
        if time.monotonic() - self._drawn >= self.seconds:
            self._draw(run, "")

    def said(self, run: Run, text: str) -> None:
        self._said.append(text)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        self._draw(run, outcome.reason)

    def after_failure(self, run: Run) -> None:
        self._draw(run, "It ended with an error.")

    def _draw(self, run: Run, reason: str) -> None:
        self._drawn = time.monotonic()
        at, total = run.position, run.epochs * run.steps_per_epoch or run.total_steps
        bar = f'<progress value="{at.step}" max="{max(total, 1)}" style="width:100%"></progress>'
        told = "".join(f"<div>{escape(text)}</div>" for text in self._said[-3:])
        names = [
            name
            for name in (run.rows[0] if run.rows else {})
            if name in ("loss", "validation_loss") or name.endswith("accuracy")
        ]
        recent = run.rows[-MOST_ROWS:]
        table = (
            html_table("", list(recent[0]), [list(row.values()) for row in recent])
            if recent
            else ""
        )
        against = "epoch" if run.epochs else "step"
        self.html = (
            f"<div>{bar}<div>{escape(run.where())}. "
            f"{escape(reason)}</div>{told}{html_curve(run.rows, names, against)}{table}</div>"
        )
        if self._handle is not None:
            shown: Any = import_module("IPython.display")
            self._handle.update(shown.HTML(self.html))

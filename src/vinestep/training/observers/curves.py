"""Curves written and drawn as a run goes."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

from ...errors import RunError
from ...parts import part
from .base import Observer

if TYPE_CHECKING:
    from ..records import Outcome
    from ..running import Run

__all__ = ["Curves"]


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
    ends_run = True

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
        if run.store is None:
            raise RunError("Curves need a place: training.run(..., record='records').")
        run.store.numbers(run.series, run.rows)

    def _draw(self, run: Run) -> None:
        from ...figures import as_png, curves

        if run.rows and run.store is not None:
            run.store.file("curves.png", as_png(curves(run.rows, title=Path(run.store.label).name, better=run.better)))
        self._drawn = time.monotonic()

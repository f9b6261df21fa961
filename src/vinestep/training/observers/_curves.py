"""Curves written and drawn as a run goes."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ...errors import RunError
from ...parts._registry import part
from ..run._run import Observer

if TYPE_CHECKING:
    from ..run._results import Outcome
    from ..run._run import Run
    from ._plot_worker import PlotWorker

__all__ = ["Curves"]


@part("curves", "observer")
class Curves(Observer):
    """Writes the curves of a recorded run as CSV after each epoch, and as PNG as it goes; of a loop
    of one's own, whose figures are written step by step, as PNG.

    Parameters
    ----------
    seconds : float
        At least so long between two drawings; the last is always drawn.

    Examples
    --------
    >>> import tempfile
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> outcome = training.run(
    ...     data.batches(4),
    ...     epochs=2,
    ...     observers=[vs.observers.Curves()],
    ...     record=tempfile.mkdtemp(),
    ... )
    >>> sorted(file.name for file in outcome.folder.glob("curves.*"))
    ['curves.csv', 'curves.png']
    """

    on_every_rank = False

    order = 2
    ends_run = True

    def __init__(self, *, seconds: float = 5.0) -> None:
        self.seconds = seconds
        self._drawn = time.monotonic()
        self._drawer: PlotWorker | None = None
        self._ticket: int | None = None

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {"_drawer": None, "_ticket": None}

    def before_run(self, run: Run) -> None:
        self._write(run)
        self._drawn, self._ticket = time.monotonic(), None
        from ._plot_worker import PlotWorker

        try:
            self._drawer = PlotWorker.shared()
        except OSError:  # no more processes: the last drawing is made here
            self._drawer = None

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        self._write(run)
        self._draw_now_and_then(run)

    def after_step(self, run: Run, step: Any) -> None:
        if run.is_custom_loop and time.monotonic() - self._drawn >= self.seconds:
            self._draw_now_and_then(run)

    def _draw_now_and_then(self, run: Run) -> None:
        if self._drawer is None or not run.rows:
            return
        if self._ticket is not None and self._drawer.is_drawn(self._ticket):
            self._keep(run, self._drawer.drawn(self._ticket))
            self._ticket = None
        if self._ticket is None and time.monotonic() - self._drawn >= self.seconds:
            self._ask(run)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        self._write(run)
        if not run.rows:
            return
        png = None
        if self._drawer is not None:
            self._ask(run)
            png = self._drawer.drawn(self._ticket)  # type: ignore[arg-type]  # it was just asked for
        if png is None:
            from ...figures._curves import curves
            from ...figures._style import as_png

            png = as_png(curves(run.rows, title=self._title(run), better=run.better))
        self._keep(run, png)

    @staticmethod
    def _write(run: Run) -> None:
        if run.store is None:
            raise RunError("Curves need a place: training.run(..., record='records').")
        if not run.is_custom_loop:
            run.store.write_series(run.series, run.rows)

    def _ask(self, run: Run) -> None:
        self._drawn = time.monotonic()
        assert self._drawer is not None
        self._ticket = self._drawer.ask(run.rows, self._title(run), run.better)

    @staticmethod
    def _title(run: Run) -> str:
        assert run.store is not None
        return Path(run.store.label).name

    @staticmethod
    def _keep(run: Run, png: bytes | None) -> None:
        assert run.store is not None
        if png is not None:
            run.store.write_file("curves.png", png)

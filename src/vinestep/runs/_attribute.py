"""What mattered to the model of a recorded run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from .._model import open_model
from ..attribution._overview import Overview, overview
from ..errors import PlanError, RunError
from ..figures._style import as_png
from ..storage.checkpoint_schema import step_of
from ..training.plans._plan import read_plan
from ..training.plans._planned_run import PlannedRun

if TYPE_CHECKING:
    from ..storage.run_folder import RunFolder
    from ._query import RunRecord

__all__ = ["attribute"]


def attribute(
    run: RunRecord, rows: Any = None, *, own: Sequence[Any] = (), count: int = 6
) -> Overview:
    """What mattered to the best model of a run, put into its record, where the page shows it; see
    `vinestep.attribution.overview`.

    Parameters
    ----------
    run : RunRecord
    rows : DataFrame, file, Source or batches, optional
        With their target; by default the validation part of the run's plan.
    own : sequence of classes and functions
        Parts of your own.
    count : int
        How many single examples are shown.

    Returns
    -------
    found : Overview

    Raises
    ------
    RunError
        If its folder is not on this machine, it has no state, or no plan says which rows.

    Examples
    --------
    >>> import tempfile
    >>> root, x = tempfile.mkdtemp(), np.random.default_rng(0).normal(size=(40, 2))
    >>> training = vs.Training(vs.Dense(1), task=vs.tasks.Numbers())
    >>> data = vs.data.Dataset(x, x[:, :1])
    >>> outcome = training.run(data.batches(8), epochs=5, record=root)
    >>> found = vs.runs.attribute(vs.runs.open(root)["run-1"], data)
    >>> found.tables["importances"]["column"].tolist()
    ['0', '1']
    """
    folder = run.folder
    if folder is None:
        raise RunError(f"{run.label}: do this on the machine that has the folder of the run.")
    states = folder.states()
    if not states:
        raise RunError(f"{run.label}: it has no state, and so no model.")
    state = folder.best_state() or states[-1]
    model = open_model(folder.state_path(state), own=own)
    known = None
    if rows is None:
        planned = _planned(run, folder, own)
        rows = planned.scored_batches(planned.validation)
        known = planned.scored_batches(planned.train)
    found = overview(model, rows, train=known, count=count)
    found.record(_At(folder, step_of(state)))
    run.refresh()
    return found


def _planned(run: RunRecord, folder: RunFolder, own: Sequence[Any]) -> PlannedRun:
    try:
        plan = read_plan(folder.path / "plan.toml", own=own)
    except PlanError as error:
        raise RunError(
            f"{run.label}: no plan says on which rows it was trained, since it was run from "
            f"Python. Give rows with their target. ({error})"
        ) from error
    return PlannedRun(plan, folder.path, own=own, resuming=True)


class _At:
    """A step of a run that has ended, to which tables and pictures are added."""

    def __init__(self, folder: RunFolder, step: int) -> None:
        self.folder, self.step = folder, step

    def table(self, name: str, rows: Any) -> None:
        self.folder.table(name, self.step, rows)

    def picture(self, name: str, made: Any) -> None:
        self.folder.picture(name, self.step, as_png(made))

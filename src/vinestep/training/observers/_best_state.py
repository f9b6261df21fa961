"""The best state of a run with a validation part."""

from __future__ import annotations

import logging
import math
from typing import TYPE_CHECKING, Any

import numpy as np

from ...distributed._current import communicator
from ...errors import ArchiveError, CheckpointError
from ...storage.archive import model_arrays
from ...storage.checkpoint_schema import step_of
from ...storage.json_values import finite_or_none, integer, nan_for_none, number
from ..run._criteria import judged_quantity, score_of
from ..run._run import Observer
from ._checkpoints import Checkpoints

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..run._results import Outcome
    from ..run._run import Run
    from ..step._base import TrainingBase

__all__ = ["BestState"]

log = logging.getLogger("vinestep")


class BestState(Observer):
    """Holds the weights and running statistics with the best validation score so far.

    Parameters
    ----------
    training : TrainingBase
    by : str, optional
        Column of the curves by which states are compared; by default the validation loss.

    Attributes
    ----------
    row : dict
        The scores of that state; empty as long as there is none.
    arrays : dict of path to ndarray
    """

    order = 8  # before states are saved, which say what the best one is
    ends_run = True

    def __init__(self, training: TrainingBase, by: str | None = None) -> None:
        self.training, self.by = training, by
        self.score, self.step = math.inf, 0
        self.row: dict[str, float] = {}
        self.arrays: dict[str, np.ndarray] = {}

    @classmethod
    def for_observers(cls, training: TrainingBase, observers: Sequence[Observer]) -> BestState:
        """One that compares by the quantity by which `Checkpoints` keeps the best states."""
        keepers = [o for o in observers if isinstance(o, Checkpoints) and o.what == "best"]
        return cls(training, keepers[0].by if keepers else None)

    def before_run(self, run: Run) -> None:
        comm = communicator()
        if comm.rank == 0:
            if not self.row:
                self._find_in_checkpoints(run)
            if self.row and not self.arrays:
                self._restore_arrays(run)
        known = (self.score, self.step, self.row, self.arrays)
        self.score, self.step, self.row, arrays = comm.broadcast(known)
        own = self.training.network.weights() | self.training.network.statistics()
        self.arrays = {path: array for path, array in arrays.items() if path in own}

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        if run.validated:
            self._compare(run, row)

    def after_validation(self, run: Run, row: dict[str, float]) -> None:
        self._compare(run, row)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        outcome.best_row = dict(self.row)

    def _compare(self, run: Run, row: dict[str, float]) -> None:
        name, value = judged_quantity(row, self.by)
        if self.by is None and name != "validation_loss":
            return
        score = score_of(run, name, value)
        if score < self.score and math.isfinite(score):
            self.score, self.step, self.row = score, run.position.step, dict(row)
            with self.training.descent.averaged():
                network = self.training.network
                known = network.weights() | network.statistics()
                self.arrays = {path: np.array(array) for path, array in known.items()}

    def state(self) -> dict[str, Any]:
        score = None if math.isinf(self.score) else self.score
        return {"score": score, "step": self.step, "row": finite_or_none(self.row)}

    def restore(self, state: dict[str, Any]) -> None:
        score, row = number(state, "score"), state.get("row", {})
        if not isinstance(row, dict) or not all(
            value is None or type(value) in (int, float) for value in row.values()
        ):
            raise CheckpointError(
                f"The best state of a run has the scores {str(row)[:40]!r}, which are none."
            )
        self.score = math.inf if score is None else score
        self.step, self.row, self.arrays = integer(state, "step"), nan_for_none(row), {}

    def _find_in_checkpoints(self, run: Run) -> None:
        """The best state of a run that an earlier version began: `Checkpoints` alone knew it."""
        for keeper in run.observers:
            if isinstance(keeper, Checkpoints) and keeper.scores:
                score, step = keeper.scores[0]
                row = next((row for row in run.rows if row["step"] == step), None)
                if row is not None and "validation_loss" in row:
                    self.score, self.step, self.row = score, step, dict(row)

    def _restore_arrays(self, run: Run) -> None:
        """Of a run that is resumed: read the arrays from the state that was saved."""
        assert run.store is not None
        for name in run.store.states():
            if step_of(name) == self.step:
                try:
                    saved = run.store.read_state(name)
                    share = (saved.meta.get("model") or {}).get("average_share")
                    self.arrays = model_arrays(saved.arrays, share)
                    return
                except ArchiveError:
                    break
        log.warning(
            "The best state so far, %s, was not kept: what comes out of this run is the best from "
            "here on. To keep it: observers=[vinestep.observers.Checkpoints('best')].",
            f"epoch {self.row['epoch']:.0f}" if "epoch" in self.row else f"step {self.step}",
        )
        self.score, self.step, self.row = math.inf, 0, {}

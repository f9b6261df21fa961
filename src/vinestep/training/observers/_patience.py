"""Ending a run that gets no better."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from ...errors import SettingError
from ...parts._registry import part
from ...storage.json_values import integer, number
from ..run._criteria import judged_quantity, score_of
from ..run._run import Observer

if TYPE_CHECKING:
    from ..run._run import Run

__all__ = ["Patience"]


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
    >>> training.run(
    ...     data.batches(4), epochs=50, observers=[vs.observers.Patience(2, least_gain=1.0)]
    ... ).reason
    'No gain in loss for 2 epochs, after epoch 3 of 50, step 6.'
    """

    order = 1
    ends_run = True

    def __init__(self, epochs: int, *, least_gain: float = 0.0, by: str | None = None) -> None:
        if epochs < 1:
            raise SettingError(f"Patience: epochs must be at least 1, got {epochs}.")
        if least_gain < 0:
            raise SettingError(f"Patience: least_gain must not be negative, got {least_gain}.")
        self.epochs = epochs
        self.least_gain = least_gain
        self.by = by
        self.begin()

    def begin(self) -> None:
        self.best = math.inf
        self.waited = 0

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        if not run.validated:
            return
        name, value = judged_quantity(row, self.by)
        score = score_of(run, name, value)
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

"""What an observer is."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ...autodiff.gradients import Gradients

if TYPE_CHECKING:
    from ..records import Outcome, Step
    from ..running import Run

__all__ = ["Observer"]


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

    ends_run = False
    """Whether a failure of the observer ends the run; otherwise it is reported, and the observer is not told any more."""

    busy = False
    """Whether it is listening to a run; it cannot listen to two at once."""

    def begin(self) -> None:
        """Before each run: forget what an earlier one left. What a run that is continued knew is restored afterwards."""

    def before_run(self, run: Run) -> None:
        """Once, before the first step."""

    def before_step(self, run: Run, number: int) -> None:
        """Before each step, with its number."""

    def before_update(self, run: Run, loss: float, gradients: Gradients) -> None:
        """After derivation, before clipping and the update."""

    def wants_activations(self, number: int) -> bool:
        """Whether `activation` is to be called in a step; it costs time, since layers are then computed one by one."""
        return True

    def activation(self, run: Run, path: str, output: np.ndarray) -> None:
        """The output of each layer in a learning pass, for observers that supply this method."""

    def after_step(self, run: Run, step: Step) -> None:
        """After each update; in a loop of one's own `step` is None."""

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        """After each epoch, with its row of the curves."""

    def after_validation(self, run: Run, row: dict[str, float]) -> None:
        """After a validation within an epoch, with its scores; what ends an epoch is told by `after_epoch`."""

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

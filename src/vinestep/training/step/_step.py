"""What is known of a step."""

from __future__ import annotations

from typing import NamedTuple

from ...autodiff.gradients import Gradients

__all__ = ["Step"]


class Step(NamedTuple):
    """One update, as it was made.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> step = training.step((data.inputs, data.targets))
    >>> step.number, step.examples, step.rate
    (1, 8, 0.001)
    >>> step
    Step(number=1, epoch=1, batch=1, loss=..., rate=0.001, norm=..., examples=8)
    """

    number: int
    """Counted from 1."""
    epoch: int
    """Counted from 1."""
    batch: int
    """Position in the epoch, counted from 1."""
    loss: float
    metrics: dict[str, float]
    """Of this batch, before the update."""
    gradients: Gradients
    """After clipping. Kept safe for as long as somebody holds it."""
    norm: float
    """Euclidean norm of all gradients together, before clipping."""
    rate: float
    seconds: float
    examples: int
    weight: float
    """What the loss of the batch weighs in a mean over several."""

    def __repr__(self) -> str:
        return (
            f"Step(number={self.number}, epoch={self.epoch}, batch={self.batch}, "
            f"loss={self.loss:.6g}, rate={self.rate:.6g}, "
            f"norm={self.norm:.6g}, examples={self.examples})"
        )

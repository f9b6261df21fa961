"""Several trained networks as one, for predicting."""

from __future__ import annotations

from typing import Any

import numpy as np

from .autodiff.tensor import held
from .errors import ModelError
from .layers._base import Layer
from .parts._registry import part
from .tasks._base import Task
from .tasks._several import Several

__all__ = ["Ensemble", "averaged"]


@part("ensemble", "layer")
class Ensemble(Layer):
    """Networks of one task, whose predictions are averaged: probabilities of classes, estimates of
    numbers, and of distributions mean and variance of the mixture.

    Parameters
    ----------
    *members : Layer
    task : Task
        What their outputs mean.

    Examples
    --------
    >>> one, two = (vs.Dense(1).initialise(np.ones((1, 2)), seed) for seed in (0, 1))
    >>> both = vs.Model.joined([vs.Model(one), vs.Model(two)]).network
    >>> x = np.ones((3, 2), np.float32)
    >>> np.allclose(both(x), (vs.held(one(x)) + vs.held(two(x))) / 2)
    True
    """

    def __init__(self, *members: Layer, task: Task) -> None:
        if not members:
            raise ModelError("Ensemble: there are no networks.")
        self.members, self.task = list(members), task

    def compute(self, *inputs: Any, **options: Any) -> Any:
        """
        Parameters
        ----------
        *inputs : arrays
            As each network takes them.
        """
        return averaged(self.task, [member(*inputs, **options) for member in self.members])


def averaged(task: Task, outputs: list[Any]) -> Any:
    """Outputs of several networks, or passes, as those of one."""
    if isinstance(task, Several):
        every = [task.by_name(found, "output") for found in outputs]
        return {
            name: averaged(own, [one[name] for one in every]) for name, own in task.tasks.items()
        }
    stacked = np.stack([np.asarray(held(found)) for found in outputs])
    return np.asarray(task.averaged(stacked), stacked.dtype)

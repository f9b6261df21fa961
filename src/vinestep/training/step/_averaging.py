"""Running averages of weights, which often score better than the last ones."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np

from ..._ownership import Owned
from ...autodiff.gradients import Layout
from ...errors import SettingError
from ...layers._arena import Arena

__all__ = ["WeightAverage"]


class WeightAverage(Owned):
    """A running average of a network's trainable parameters, for evaluation.

    With `decay`, ``average = decay * average + (1 - decay) * theta`` after each step, divided by
    ``1 - decay**t``; without, the mean of all since `after` [1]_.

    Parameters
    ----------
    decay : float, optional
        From 0 up to but not including 1, such as 0.999.
    after : int
        Steps that are left out at the beginning.

    References
    ----------
    .. [1] B. T. Polyak and A. B. Juditsky, "Acceleration of Stochastic Approximation by Averaging",
       SIAM Journal on Control and Optimization 30(4), 1992.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(
    ...     vs.Dense(1), loss=vs.losses.squared_error, average=vs.WeightAverage(0.9)
    ... )
    >>> outcome = training.run(data.batches(4), epochs=3)
    >>> training.average.count
    6
    """

    def __init__(self, decay: float | None = None, *, after: int = 0) -> None:
        if decay is not None and not (isinstance(decay, int | float) and 0 <= decay < 1):
            raise SettingError(
                f"WeightAverage: decay must be from 0 up to but not including 1, got {decay!r}."
            )
        if not isinstance(after, int) or after < 0:
            raise SettingError(
                f"WeightAverage: after must be a whole number of steps, got {after!r}."
            )
        self.decay, self.after = decay, after
        self.sums: np.ndarray | None = None
        self._layout: Layout | None = None
        self.count = 0
        """How many steps are in it."""

    def settings(self) -> dict[str, Any]:
        return {"decay": self.decay, "after": self.after}

    def begin(self, arena: Arena) -> None:
        """Keep sums of these trainable parameters. Those that are frozen since keep the value they
        have; those that were frozen so far had theirs in all steps that count.
        """
        before, known, layout = self._layout, self.sums, arena.layout
        if known is not None and before is layout:
            return
        sums = arena.values * arena.dtype.type(self.share)
        if known is not None and before is not None:
            for slot, former in layout.common(before):
                layout.view(sums, slot)[...] = before.view(known, former)
        self.sums, self._layout = sums, layout

    def add(self, theta: np.ndarray, step: int) -> None:
        """After a step with this number."""
        if step <= self.after or self.sums is None:
            return
        self.count += 1
        number = theta.dtype.type
        if self.decay is None:
            self.sums += (theta - self.sums) * number(1 / self.count)
        else:
            self.sums *= number(self.decay)
            self.sums += number(1 - self.decay) * theta

    def arrays(self, arena: Arena) -> dict[str, np.ndarray]:
        """What is kept, by the paths of the parameters."""
        return (
            {}
            if self.sums is None
            else {slot.path: arena.layout.view(self.sums, slot) for slot in arena.layout}
        )

    @property
    def share(self) -> float:
        """What the average is divided by to be one."""
        if not self.count:
            return 0.0
        return 1.0 if self.decay is None else 1 - self.decay**self.count

    def values(self) -> np.ndarray | None:
        """The average; None before the first step that counts."""
        if self.sums is None or not self.count:
            return None
        average: np.ndarray = self.sums / self.sums.dtype.type(self.share)
        return average

    @contextmanager
    def in_place(self, arena: Arena) -> Iterator[None]:
        """The network computes with the average, and with its own weights again afterwards."""
        average = self.values()
        if average is None:
            yield
            return
        kept = arena.values.copy()
        arena.memory.written()
        arena.values[...] = average
        try:
            yield
        finally:
            arena.memory.written()
            arena.values[...] = kept

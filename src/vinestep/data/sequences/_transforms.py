"""Sequences: transforms of arrays (n, time, features), and windows of a long series."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ...errors import DataError, SettingError
from ...parts._registry import part
from ..batches._counter_rng import CounterRandom
from ..batches._transforms import Transform
from ..sources._dataset import Dataset

__all__ = ["CropTime", "Difference", "Lags", "windows"]


def windows(
    series: Any,
    length: int,
    *,
    ahead: int | Sequence[int] = 1,
    step: int = 1,
    target: int | None = None,
    known: Any = None,
) -> Dataset:
    """Windows of a series and what follows each: the value so many steps ahead of its end, or those
    of several steps.

    Parameters
    ----------
    series : array, shape (time, features)
    length : int
        Of a window.
    ahead : int, or sequence of int
        How far behind a window's last place its target lies; of several, targets are ``(n, steps,
        features)``.
    step : int
        From one window's begin to the next one's.
    target : int, optional
        Which feature is to be foretold; by default all.
    known : array, shape (time, more), optional
        What is known ahead of time, such as the calendar: inputs are then a pair, the window and
        what is known of the places that are foretold, ``(n, steps, more)``.

    Raises
    ------
    DataError
        If the series is too short, or what is known is of another length.

    Examples
    --------
    >>> found = windows(np.arange(6.0)[:, None], 3, ahead=2)
    >>> found.inputs[:, :, 0].tolist(), found.targets.ravel().tolist()
    ([[0.0, 1.0, 2.0], [1.0, 2.0, 3.0]], [4.0, 5.0])
    >>> windows(np.arange(6.0)[:, None], 3, ahead=[1, 2]).targets[:, :, 0].tolist()
    [[3.0, 4.0], [4.0, 5.0]]
    """
    array = np.asarray(series)
    steps = list(ahead) if isinstance(ahead, Sequence | np.ndarray) else [ahead]
    for name, number in (("length", length), ("step", step), *(("ahead", n) for n in steps)):
        if isinstance(number, bool) or not isinstance(number, int | np.integer) or number < 1:
            raise SettingError(
                f"windows: {name} must be a whole number of at least 1, got {number!r}."
            )
    if not steps:
        raise SettingError("windows: ahead names no step.")
    count = (len(array) - length - max(steps)) // step + 1 if array.ndim == 2 else 0
    if count < 1:
        raise DataError(
            f"windows: a series (time, features) of {length + max(steps)} places at least is "
            f"wanted, got shape {array.shape}."
        )
    begins = np.arange(count) * step
    inputs: Any = array[begins[:, None] + np.arange(length)]
    places = begins[:, None] + length - 1 + np.array(steps)
    targets = array[places] if target is None else array[places][..., target : target + 1]
    if known is not None:
        more = np.asarray(known)
        if more.ndim != 2 or len(more) != len(array):
            raise DataError(
                f"windows: what is known has shape {more.shape}, expected ({len(array)}, features)."
            )
        inputs = (inputs, more[places])
    return Dataset(inputs, targets if isinstance(ahead, Sequence | np.ndarray) else targets[:, 0])


def _sequences(x: Any, what: Transform) -> np.ndarray:
    array = np.asarray(x)
    if array.ndim != 3:
        raise DataError(f"{what!r}: sequences are (n, time, features), got shape {array.shape}.")
    return array


@part("difference")
class Difference(Transform):
    """From each place the one before it is taken away; the first becomes 0, so that the length
    stays.

    Examples
    --------
    >>> Difference()(np.array([[[1.0], [3.0], [2.0]]])).ravel().tolist()
    [0.0, 2.0, -1.0]
    """

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _sequences(x, self)
        return np.diff(x, axis=1, prepend=x[:, :1])


@part("lags")
class Lags(Transform):
    """Each place with those so many steps before it beside it, as further features; before the
    begin the first value stands.

    Parameters
    ----------
    steps : sequence of int

    Examples
    --------
    >>> Lags([1])(np.array([[[1.0], [3.0], [2.0]]]))[0].tolist()
    [[1.0, 1.0], [3.0, 1.0], [2.0, 3.0]]
    """

    def __init__(self, steps: Sequence[int]) -> None:
        self.steps = [int(step) for step in np.atleast_1d(steps)]
        if min(self.steps) < 1:
            raise SettingError(f"Lags: steps have to be at least 1, got {self.steps}.")

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _sequences(x, self)
        places = np.arange(x.shape[1])
        return np.concatenate(
            [x, *(x[:, np.maximum(places - step, 0)] for step in self.steps)], axis=2
        )


@part("crop_time")
class CropTime(Transform):
    """A stretch of each sequence, from a random place on.

    Parameters
    ----------
    length : int

    Examples
    --------
    >>> CropTime(2)(np.zeros((4, 5, 1)), CounterRandom(0, 0, range(4))).shape
    (4, 2, 1)
    """

    random = True

    def __init__(self, length: int) -> None:
        if length < 1:
            raise SettingError(f"CropTime: length must be at least 1, got {length}.")
        self.length = length

    def __call__(self, x: Any, draws: CounterRandom | None = None) -> Any:
        x = _sequences(x, self)
        if x.shape[1] < self.length:
            raise DataError(
                f"CropTime: {self.length} places were asked for, of sequences of {x.shape[1]}."
            )
        begins = (self.drawn(draws).uniform() * (x.shape[1] - self.length + 1)).astype(int)
        return x[np.arange(len(x))[:, None], begins[:, None] + np.arange(self.length)]

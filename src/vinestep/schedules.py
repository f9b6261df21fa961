"""Schedules: the learning rate as a function of the step, as a factor of the optimiser's rate."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from typing import Any

from .errors import SettingError, names_of

__all__ = ["Schedule", "as_schedule", "constant", "cosine", "step_decay", "warmup"]


class Schedule:
    """A factor for each step, counted from 0.

    Parameters
    ----------
    factor : callable
        ``factor(step)``.
    steps : int or None
        After how many steps another schedule may take over; None if it goes on for ever.
    settings : dict
        How it was made, for the record.

    Examples
    --------
    >>> schedule = vs.schedules.warmup(4).then(vs.schedules.cosine(100))
    >>> [schedule(0), schedule(3), schedule(4), round(schedule(54), 6), schedule(104)]
    [0.25, 1.0, 1.0, 0.5, 0.0]
    """

    def __init__(self, factor: Callable[[int], float], steps: int | None, settings: dict[str, Any]) -> None:
        self._factor = factor
        self.steps = steps
        self.settings = settings

    def __call__(self, step: int) -> float:
        return float(self._factor(step))

    def then(self, following: Schedule) -> Schedule:
        """This schedule, and after its last step another, which begins at its own step 0.

        Raises
        ------
        ValueError
            If this schedule has no end.
        """
        first = self.steps
        if first is None:
            raise ValueError(f"{self!r} has no end, so nothing can follow it. Give it a number of steps.")
        return Schedule(
            partial(_one_after_another, self, first, following),
            None if following.steps is None else first + following.steps,
            {"then": [*_parts(self), *_parts(following)]},
        )

    def __repr__(self) -> str:
        return ".then(".join(_call(part) for part in _parts(self)) + ")" * (len(_parts(self)) - 1)


def _one_after_another(earlier: Schedule, first: int, later: Schedule, step: int) -> float:
    return earlier(step) if step < first else later(step - first)


def as_schedule(schedule: Any) -> Schedule:
    """A schedule, or a plain function of the step that is to be one; constant if there is none.

    Examples
    --------
    >>> as_schedule(lambda step: 1 / (1 + step))(1)
    0.5
    """
    if schedule is None:
        return constant()
    if isinstance(schedule, Schedule):
        return schedule
    if callable(schedule) and not isinstance(schedule, type):
        return Schedule(schedule, None, {"kind": "function", "function": schedule})
    raise SettingError(f"schedule is {schedule!r}. Give one, such as vinestep.schedules.cosine(1000), or a function of the step.")


def _parts(schedule: Schedule) -> list[dict[str, Any]]:
    parts: list[dict[str, Any]] = schedule.settings.get("then", [schedule.settings])
    return parts


def _call(settings: dict[str, Any]) -> str:
    arguments = ", ".join(f"{key}={value}" for key, value in settings.items() if key != "kind")
    return f"{settings['kind']}({arguments})"


def _steps(steps: int, name: str) -> int:
    if not isinstance(steps, int) or steps < 1:
        raise ValueError(f"{name}: steps must be a whole number of at least 1, got {steps!r}.")
    return steps


def _share(value: float, name: str) -> float:
    if not 0 <= value <= 1:
        raise ValueError(f"{name} must be from 0 to 1, got {value!r}.")
    return float(value)


def constant(steps: int | None = None) -> Schedule:
    """The optimiser's own rate.

    Examples
    --------
    >>> constant()(1000)
    1.0
    """
    return Schedule(
        _one,
        None if steps is None else _steps(steps, "constant"),
        {"kind": "constant"} | ({"steps": steps} if steps else {}),
    )


def _one(step: int) -> float:
    return 1.0


def step_decay(every: int, factor: float = 0.5) -> Schedule:
    """Multiplied by `factor` after every so many steps.

    Examples
    --------
    >>> [step_decay(10)(step) for step in (9, 10, 25)]
    [1.0, 0.5, 0.25]
    """
    _steps(every, "step_decay")
    _share(factor, "step_decay: factor")
    return Schedule(partial(_decayed, every, factor), None, {"kind": "step_decay", "every": every, "factor": factor})


def _decayed(every: int, factor: float, step: int) -> float:
    return float(factor ** (step // every))


def cosine(steps: int, floor: float = 0.0) -> Schedule:
    """From 1 down to `floor` along half a cosine, and `floor` from then on.

    I. Loshchilov and F. Hutter, "SGDR: Stochastic Gradient Descent with Warm Restarts", ICLR 2017, equation 5.

    Examples
    --------
    >>> [round(cosine(100)(step), 3) for step in (0, 50, 100, 200)]
    [1.0, 0.5, 0.0, 0.0]
    """
    _steps(steps, "cosine")
    _share(floor, "cosine: floor")
    return Schedule(
        partial(_half_cosine, steps, floor),
        steps,
        {"kind": "cosine", "steps": steps, "floor": floor},
    )


def _half_cosine(steps: int, floor: float, step: int) -> float:
    return floor + (1 - floor) * 0.5 * (1 + math.cos(math.pi * min(step, steps) / steps))


def warmup(steps: int, start: float = 0.0) -> Schedule:
    """Up to 1 in equal strides; the last of the steps is at 1.

    P. Goyal et al., "Accurate, Large Minibatch SGD", 2017, section 2.2.

    Examples
    --------
    >>> [warmup(4)(step) for step in range(5)]
    [0.25, 0.5, 0.75, 1.0, 1.0]
    """
    _steps(steps, "warmup")
    _share(start, "warmup: start")
    return Schedule(
        partial(_rising, steps, start),
        steps,
        {"kind": "warmup", "steps": steps, "start": start},
    )


def _rising(steps: int, start: float, step: int) -> float:
    return start + (1 - start) * min(step + 1, steps) / steps


__getattr__ = names_of(__name__, __all__)

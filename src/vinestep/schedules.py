"""Schedules: the learning rate as a function of the step, as a factor of the optimiser's rate."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from typing import Any

from .errors import SettingError, names_of
from .parts import maker, part
from .parts.registry import made_by

__all__ = ["Schedule", "as_schedule", "constant", "cosine", "in_turn", "step_decay", "warmup"]


@part("schedule", "schedule")
class Schedule:
    """A factor for each step, counted from 0.

    Parameters
    ----------
    factor : callable
        ``factor(step)``.
    steps : int or None
        After how many steps another schedule may take over; None if it goes on for ever.

    Examples
    --------
    >>> schedule = vs.schedules.warmup(4).then(vs.schedules.cosine(100))
    >>> [schedule(0), schedule(3), schedule(4), round(schedule(54), 6), schedule(104)]
    [0.25, 1.0, 1.0, 0.5, 0.0]
    """

    def __init__(self, factor: Callable[[int], float], steps: int | None = None) -> None:
        self.factor = factor
        self.steps = steps

    def __call__(self, step: int) -> float:
        return float(self.factor(step))

    def then(self, following: Schedule) -> Schedule:
        """This schedule, and after its last step another, which begins at its own step 0.

        Raises
        ------
        ValueError
            If this schedule has no end.
        """
        return in_turn(*_parts(self), *_parts(following))

    def __repr__(self) -> str:
        return ".then(".join(map(_call, _parts(self))) + ")" * (len(_parts(self)) - 1)


@maker("in_turn", "schedule")
def in_turn(*schedules: Schedule) -> Schedule:
    """One schedule after another, each beginning at its own step 0 when the one before it has ended.

    Parameters
    ----------
    *schedules : Schedule
        All but the last have a number of steps.

    Raises
    ------
    ValueError
        If one that has no end is followed by another.

    Examples
    --------
    >>> schedule = in_turn(warmup(2), constant(3), cosine(10))
    >>> schedule.steps, schedule(1), schedule(4), schedule(5)
    (15, 1.0, 1.0, 1.0)
    """
    if not schedules:
        raise ValueError("in_turn: give at least one schedule.")
    for schedule in schedules[:-1]:
        if schedule.steps is None:
            raise ValueError(f"{schedule!r} has no end, so nothing can follow it. Give it a number of steps.")
    ends = [schedule.steps for schedule in schedules]
    return Schedule(partial(_one_after_another, schedules), None if ends[-1] is None else sum(ends))  # type: ignore[arg-type]


def _one_after_another(schedules: tuple[Schedule, ...], step: int) -> float:
    for schedule in schedules[:-1]:
        assert schedule.steps is not None
        if step < schedule.steps:
            return schedule(step)
        step -= schedule.steps
    return schedules[-1](step)


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
        return Schedule(schedule)
    raise SettingError(f"schedule is {schedule!r}. Give one, such as vinestep.schedules.cosine(1000), or a function of the step.")


def _parts(schedule: Schedule) -> tuple[Schedule, ...]:
    made = made_by(schedule)
    return made[1] if made is not None and made[0].name == "in_turn" else (schedule,)


def _call(schedule: Schedule) -> str:
    made = made_by(schedule)
    if made is None:
        return f"Schedule({schedule.factor!r})"
    kind, arguments, options = made
    return f"{kind.name}({', '.join([*map(repr, arguments), *(f'{key}={value}' for key, value in options.items())])})"


def _steps(steps: int, name: str) -> int:
    if not isinstance(steps, int) or steps < 1:
        raise ValueError(f"{name}: steps must be a whole number of at least 1, got {steps!r}.")
    return steps


def _fraction(value: float, name: str) -> float:
    if not 0 <= value <= 1:
        raise ValueError(f"{name} must be from 0 to 1, got {value!r}.")
    return float(value)


@maker("constant", "schedule")
def constant(steps: int | None = None) -> Schedule:
    """The optimiser's own rate.

    Examples
    --------
    >>> constant()(1000)
    1.0
    """
    return Schedule(_one, None if steps is None else _steps(steps, "constant"))


def _one(step: int) -> float:
    return 1.0


@maker("step_decay", "schedule")
def step_decay(every: int, factor: float = 0.5) -> Schedule:
    """Multiplied by `factor` after every so many steps.

    Examples
    --------
    >>> [step_decay(10)(step) for step in (9, 10, 25)]
    [1.0, 0.5, 0.25]
    """
    _steps(every, "step_decay")
    _fraction(factor, "step_decay: factor")
    return Schedule(partial(_decayed, every, factor))


def _decayed(every: int, factor: float, step: int) -> float:
    return float(factor ** (step // every))


@maker("cosine", "schedule")
def cosine(steps: int, floor: float = 0.0) -> Schedule:
    """From 1 down to `floor` along half a cosine, and `floor` from then on.

    I. Loshchilov and F. Hutter, "SGDR: Stochastic Gradient Descent with Warm Restarts", ICLR 2017, equation 5.

    Examples
    --------
    >>> [round(cosine(100)(step), 3) for step in (0, 50, 100, 200)]
    [1.0, 0.5, 0.0, 0.0]
    """
    _steps(steps, "cosine")
    _fraction(floor, "cosine: floor")
    return Schedule(partial(_half_cosine, steps, floor), steps)


def _half_cosine(steps: int, floor: float, step: int) -> float:
    return floor + (1 - floor) * 0.5 * (1 + math.cos(math.pi * min(step, steps) / steps))


@maker("warmup", "schedule")
def warmup(steps: int, start: float = 0.0) -> Schedule:
    """Up to 1 in equal strides; the last of the steps is at 1.

    P. Goyal et al., "Accurate, Large Minibatch SGD", 2017, section 2.2.

    Examples
    --------
    >>> [warmup(4)(step) for step in range(5)]
    [0.25, 0.5, 0.75, 1.0, 1.0]
    """
    _steps(steps, "warmup")
    _fraction(start, "warmup: start")
    return Schedule(partial(_rising, steps, start), steps)


def _rising(steps: int, start: float, step: int) -> float:
    return start + (1 - start) * min(step + 1, steps) / steps


__getattr__ = names_of(__name__, __all__)

"""Schedules: the learning rate as a function of the step, as a factor of the optimiser's rate.

All but `plateau` are pure functions of the step, so that a continued run goes on exactly.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from typing import Any

from ._public_names import own_names
from .errors import CheckpointError, SettingError
from .parts._registry import made_by, maker, part

__all__ = [
    "Schedule",
    "as_schedule",
    "by_epoch",
    "constant",
    "cosine",
    "cosine_restarts",
    "exponential",
    "in_turn",
    "inverse_root",
    "one_cycle",
    "plateau",
    "polynomial",
    "step_decay",
    "warmup",
]


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

    within: tuple[Schedule, ...] = ()
    """The schedules that it is made of."""
    _restarts: Callable[[int], bool] | None = None

    def __init__(self, factor: Callable[[int], float], steps: int | None = None) -> None:
        self.factor = factor
        self.steps = steps

    def __call__(self, step: int) -> float:
        return float(self.factor(step))

    def at(self, step: int) -> tuple[Schedule, int]:
        """The schedule that counts at a step, and which of its own steps that is."""
        return self, step

    def forgets(self, step: int) -> bool:
        """Whether the optimiser is to forget its state before this step."""
        schedule, own = self.at(step)
        return schedule._restarts is not None and schedule._restarts(own)

    # schedules that count epochs, or watch

    def begin(self, steps_per_epoch: int | None) -> None:
        """Before each run: forget what was watched, and learn how long an epoch is."""
        for schedule in self.within:
            schedule.begin(steps_per_epoch)

    def watch(self, step: int, value: float, name: str) -> str:
        """After each epoch: the value that is watched, less being better; returns what was done
        about it, if anything.
        """
        return ""

    @property
    def watches(self) -> str | None:
        """The column of the curves that it watches; empty for the validation loss, or the loss;
        None if it watches nothing.
        """
        return next(
            (schedule.watches for schedule in self.within if schedule.watches is not None), None
        )

    @property
    def has_begun(self) -> bool:
        """Whether somebody has begun to tell it what it watches."""
        return all(schedule.has_begun for schedule in self.within)

    def state(self) -> dict[str, Any]:
        """What a run has to know to go on with it, as JSON can hold it; nothing of a pure function
        of the step.
        """
        result = {str(i): schedule.state() for i, schedule in enumerate(self.within)}
        return result if any(result.values()) else {}

    def restore(self, state: dict[str, Any]) -> None:
        """Take back what `state` gave.

        Raises
        ------
        CheckpointError
            If it belongs to another schedule.
        """
        if set(state) - {str(i) for i in range(len(self.within))}:
            raise CheckpointError(
                f"The state of the schedule holds {', '.join(state)[:60]}, which {self!r} knows "
                "nothing of."
            )
        for i, schedule in enumerate(self.within):
            schedule.restore(state.get(str(i), {}))

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
    """One schedule after another, each beginning at its own step 0 when the one before it has
    ended.

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
        raise SettingError("in_turn: give at least one schedule.")
    for schedule in schedules[:-1]:
        if schedule.steps is None:
            raise SettingError(
                f"{schedule!r} has no end, so nothing can follow it. Give it a number of steps."
            )
    return _InTurn(schedules)


class _InTurn(Schedule):
    def __init__(self, schedules: tuple[Schedule, ...]) -> None:
        self.within = schedules
        super().__init__(self._factor)

    @property
    def steps(self) -> int | None:  # type: ignore[override]  # of a schedule by epochs it is known when the run begins
        ends = [schedule.steps for schedule in self.within]
        return None if ends[-1] is None else sum(ends)  # type: ignore[arg-type]

    @steps.setter
    def steps(self, steps: int | None) -> None:
        pass

    def _factor(self, step: int) -> float:
        schedule, own = self.at(step)
        return schedule(own)

    def at(self, step: int) -> tuple[Schedule, int]:
        for schedule in self.within[:-1]:
            if step < (schedule.steps or 0):
                return schedule.at(step)
            step -= schedule.steps or 0
        return self.within[-1].at(step)

    def watch(self, step: int, value: float, name: str) -> str:
        schedule, own = self.at(step)
        return schedule.watch(own, value, name)


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
    raise SettingError(
        f"schedule is {schedule!r}. Give one, such as vinestep.schedules.cosine(1000), or a "
        "function of the step."
    )


def _parts(schedule: Schedule) -> tuple[Schedule, ...]:
    made = made_by(schedule)
    return made[1] if made is not None and made[0].name == "in_turn" else (schedule,)


def _call(schedule: Schedule) -> str:
    made = made_by(schedule)
    if made is None:
        return f"Schedule({schedule.factor!r})"
    kind, arguments, options = made
    given = [*map(repr, arguments), *(f"{key}={value}" for key, value in options.items())]
    return f"{kind.name}({', '.join(given)})"


def _steps(steps: int, name: str) -> int:
    if not isinstance(steps, int) or steps < 1:
        raise SettingError(f"{name}: steps must be a whole number of at least 1, got {steps!r}.")
    return steps


def _fraction(value: float, name: str) -> float:
    if not 0 <= value <= 1:
        raise SettingError(f"{name} must be from 0 to 1, got {value!r}.")
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

    I. Loshchilov and F. Hutter, "SGDR: Stochastic Gradient Descent with Warm Restarts", ICLR 2017,
    equation 5.

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


@maker("exponential", "schedule")
def exponential(steps: int, factor: float = 0.1) -> Schedule:
    """Multiplied by `factor` in the course of every so many steps, a little at each.

    Examples
    --------
    >>> [round(exponential(10, 0.25)(step), 4) for step in (0, 5, 10, 20)]
    [1.0, 0.5, 0.25, 0.0625]
    """
    _steps(steps, "exponential")
    _fraction(factor, "exponential: factor")
    return Schedule(partial(_exponential, steps, factor))


def _exponential(steps: int, factor: float, step: int) -> float:
    return float(factor ** (step / steps))


@maker("inverse_root", "schedule")
def inverse_root(steps: int) -> Schedule:
    """Up to 1 in so many steps, then down as the inverse root of the step.

    A. Vaswani et al., "Attention Is All You Need", NeurIPS 2017, equation 3, scaled to a peak of 1.

    Examples
    --------
    >>> [inverse_root(4)(step) for step in (0, 3, 15)]
    [0.25, 1.0, 0.5]
    """
    _steps(steps, "inverse_root")
    return Schedule(partial(_inverse_root, steps))


def _inverse_root(steps: int, step: int) -> float:
    return min((step + 1) / steps, math.sqrt(steps / (step + 1)))


@maker("polynomial", "schedule")
def polynomial(steps: int, power: float = 1.0, floor: float = 0.0) -> Schedule:
    """From 1 down to `floor` as a power of what is left of the steps; in a straight line for power
    1.

    Examples
    --------
    >>> [polynomial(10, power=2)(step) for step in (0, 5, 10, 20)]
    [1.0, 0.25, 0.0, 0.0]
    """
    _steps(steps, "polynomial")
    _fraction(floor, "polynomial: floor")
    if not power > 0:
        raise SettingError(f"polynomial: power must be above 0, got {power!r}.")
    return Schedule(partial(_polynomial, steps, power, floor), steps)


def _polynomial(steps: int, power: float, floor: float, step: int) -> float:
    return float(floor + (1 - floor) * (1 - min(step, steps) / steps) ** power)


@maker("cosine_restarts", "schedule")
def cosine_restarts(
    steps: int, longer: float = 2.0, floor: float = 0.0, forget: bool = False
) -> Schedule:
    """Down from 1 to `floor` along half a cosine, and again from 1, each time `longer` times as
    many steps.

    I. Loshchilov and F. Hutter, "SGDR: Stochastic Gradient Descent with Warm Restarts", ICLR 2017,
    equation 5.

    Parameters
    ----------
    steps : int
        Of the first descent.
    longer : float
        At least 1.
    floor : float
    forget : bool
        Let the optimiser forget its state at each restart.

    Examples
    --------
    >>> [round(cosine_restarts(10)(step), 3) for step in (0, 5, 9, 10, 20, 29, 30)]
    [1.0, 0.5, 0.024, 1.0, 0.5, 0.006, 1.0]
    """
    _steps(steps, "cosine_restarts")
    _fraction(floor, "cosine_restarts: floor")
    if not longer >= 1:
        raise SettingError(f"cosine_restarts: longer must be at least 1, got {longer!r}.")
    schedule = Schedule(partial(_restarting, steps, longer, floor))
    if forget:
        schedule._restarts = partial(_is_restart, steps, longer)
    return schedule


def _within_cycle(steps: int, longer: float, step: int) -> tuple[int, int]:
    """The step within the present descent, and how long that is."""
    length = steps
    while step >= length:
        step -= length
        length = max(1, round(length * longer))
    return step, length


def _restarting(steps: int, longer: float, floor: float, step: int) -> float:
    own, length = (step % steps, steps) if longer == 1 else _within_cycle(steps, longer, step)
    return _half_cosine(length, floor, own)


def _is_restart(steps: int, longer: float, step: int) -> bool:
    return (
        step > 0 and (step % steps if longer == 1 else _within_cycle(steps, longer, step)[0]) == 0
    )


@maker("one_cycle", "schedule")
def one_cycle(
    steps: int, rising: float = 0.3, start: float = 0.04, floor: float = 0.0001
) -> Schedule:
    """Up from `start` to 1 and down to `floor`, each along half a cosine.

    L. N. Smith and N. Topin, "Super-Convergence: Very Fast Training of Neural Networks Using Large
    Learning Rates", 2018, section 3.

    Parameters
    ----------
    steps : int
        In all.
    rising : float
        Share of the steps that go up.
    start, floor : float

    Examples
    --------
    >>> [round(one_cycle(100)(step), 4) for step in (0, 30, 65, 100)]
    [0.04, 1.0, 0.5, 0.0001]
    """
    _steps(steps, "one_cycle")
    for name, value in (("rising", rising), ("start", start), ("floor", floor)):
        _fraction(value, f"one_cycle: {name}")
    return Schedule(partial(_one_cycle, steps, rising, start, floor), steps)


def _one_cycle(steps: int, rising: float, start: float, floor: float, step: int) -> float:
    top = rising * steps
    if step < top:
        return 1 - (1 - start) * 0.5 * (1 + math.cos(math.pi * step / top))
    return (
        floor
        + (1 - floor) * 0.5 * (1 + math.cos(math.pi * min(step - top, steps - top) / (steps - top)))
        if steps > top
        else 1.0
    )


@maker("by_epoch", "schedule")
def by_epoch(schedule: Schedule) -> Schedule:
    """A schedule that counts epochs in the place of steps: `cosine(60)` takes 60 epochs, and the
    rate changes between epochs.

    For runs, which know how long an epoch is.

    Examples
    --------
    >>> schedule = by_epoch(step_decay(2))
    >>> schedule.begin(10)
    >>> [schedule(step) for step in (0, 19, 20, 45)]
    [1.0, 1.0, 0.5, 0.25]
    """
    return _ByEpoch(schedule)


class _ByEpoch(Schedule):
    def __init__(self, schedule: Schedule) -> None:
        self.within = (schedule,)
        self._length: int | None = None
        super().__init__(self._factor)

    @property
    def steps(self) -> int | None:  # type: ignore[override]
        epochs = self.within[0].steps
        return None if epochs is None else epochs * (self._length or 0)

    @steps.setter
    def steps(self, steps: int | None) -> None:
        pass

    def begin(self, steps_per_epoch: int | None) -> None:
        super().begin(None)
        self._length = steps_per_epoch

    def _factor(self, step: int) -> float:
        if not self._length:
            raise SettingError(
                "by_epoch: how long an epoch is is known in a run only. Count steps, or use "
                "training.run(..., epochs=)."
            )
        return self.within[0](step // self._length)


@maker("plateau", "schedule")
def plateau(
    epochs: int, least_gain: float = 0.0, factor: float = 0.5, floor: float = 0.001, by: str = ""
) -> Schedule:
    """1, and lower by `factor` each time a quantity got no better for so many epochs.

    Judged on the best value so far. Its state is saved with the run.

    Parameters
    ----------
    epochs : int
        How many to wait for a gain.
    least_gain : float
        What counts as one: the best value has to be beaten by more than this.
    factor : float
        From 0 to 1.
    floor : float
        As low as it goes.
    by : str
        Column of the curves; by default the validation loss, or the loss if nothing is validated.

    Examples
    --------
    >>> schedule = plateau(2)
    >>> [schedule.watch(0, loss, "loss") for loss in (1.0, 0.8, 0.9)]
    ['', '', '']
    >>> schedule.watch(0, 0.85, "loss"), schedule(0)
    ('No gain in loss for 2 epochs: the rate is 0.5 of what it was.', 0.5)
    """
    return _Plateau(epochs, least_gain, factor, floor, by)


class _Plateau(Schedule):
    """What `plateau` makes."""

    def __init__(
        self, epochs: int, least_gain: float, factor: float, floor: float, by: str
    ) -> None:
        _steps(epochs, "plateau: epochs")
        _fraction(factor, "plateau: factor")
        _fraction(floor, "plateau: floor")
        if not least_gain >= 0:
            raise SettingError(f"plateau: least_gain must not be negative, got {least_gain!r}.")
        self._settings = int(epochs), float(least_gain), float(factor), float(floor), by
        super().__init__(self._factor)
        self.begin(None)
        self._begun = False

    @property
    def has_begun(self) -> bool:
        return self._begun

    def _factor(self, step: int) -> float:
        return self._now

    @property
    def watches(self) -> str | None:
        return self._settings[4]

    def begin(self, steps_per_epoch: int | None) -> None:
        self._now, self._best, self._waited = 1.0, math.inf, 0
        self._begun = True

    def watch(self, step: int, value: float, name: str) -> str:
        epochs, least_gain, factor, floor, _ = self._settings
        self._begun = True
        if value < self._best - least_gain:
            self._best, self._waited = value, 0
            return ""
        self._waited += 1
        if self._waited < epochs or self._now <= floor:
            return ""
        self._now, self._waited = max(self._now * factor, floor), 0
        return f"No gain in {name} for {epochs} epochs: the rate is {self._now:.4g} of what it was."

    def state(self) -> dict[str, Any]:
        return {
            "now": self._now,
            "best": self._best if math.isfinite(self._best) else None,
            "waited": self._waited,
        }

    def restore(self, state: dict[str, Any]) -> None:
        now, best, waited = state.get("now"), state.get("best"), state.get("waited")
        numbers = [value for value in (now, best) if value is not None]
        if (
            now is None
            or type(waited) is not int
            or not all(isinstance(x, int | float) and math.isfinite(x) for x in numbers)
        ):
            raise CheckpointError(
                f"The state of the schedule plateau holds {str(state)[:60]}, which is none."
            )
        self._now, self._best, self._waited = (
            float(now),
            math.inf if best is None else float(best),
            waited,
        )
        self._begun = True


__getattr__, __dir__ = own_names(__name__, __all__)

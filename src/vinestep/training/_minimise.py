"""Minimising any function of arrays, Tensors or networks."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from os import PathLike
from typing import TYPE_CHECKING, Any

import numpy as np

from ..autodiff.tensor import Tensor, held
from ..errors import DataError, SettingError
from ..layers._base import Layer
from ..optimisers._base import Optimiser
from ..optimisers._quasi_newton import LBFGS
from ..storage.run_store import RunStore
from ._custom_loop import recorded_run
from .step._descent import Descent

if TYPE_CHECKING:
    from pathlib import Path

    import pandas as pd

    from .run._run import Observer

__all__ = ["Minimum", "minimise"]

STALLED = 30  # steps without a decrease worth the name
NEAR = 1e-5  # a gradient as small as this, where nothing decreases any more, is one of a minimum
INSIDE = 1e-3  # of the width: how far from a bound a variable begins, at which its slope is 0


@dataclass
class Minimum:
    """Where a minimisation ended.

    Examples
    --------
    >>> found = vs.minimise(lambda x: np.sum((x - 2.0) ** 2), np.zeros(3))
    >>> found.x.round(6), found.converged
    (array([2., 2., 2.]), True)
    """

    x: Any
    """As `start` was given: an array, arrays by name, Tensors, or the network."""
    value: float
    gradient: float
    """Largest size of a slope there."""
    steps: int
    converged: bool
    reason: str
    rows: list[dict[str, float]] = field(default_factory=list)
    """Value and largest slope before each step."""
    folder: Path | None = None

    def __repr__(self) -> str:
        return (
            f"<Minimum {self.value:.8g} after {self.steps} steps, largest slope "
            f"{self.gradient:.2g}: {self.reason}>"
        )

    @property
    def curves(self) -> pd.DataFrame:
        """One row a step."""
        import pandas as pd

        return pd.DataFrame(self.rows)


def minimise(
    function: Callable[[Any], Any],
    start: Any,
    optimiser: Optimiser | None = None,
    *,
    steps: int = 1000,
    tolerance: float = 1e-9,
    bounds: Any = None,
    schedule: Any = None,
    clip: float | None = None,
    seed: int = 0,
    observers: Sequence[Observer] = (),
    record: RunStore | str | PathLike[str] | None = None,
    name: str = "minimum",
    resume: RunStore | str | PathLike[str] | None = None,
) -> Minimum:
    """Look for the least value of a function, by its gradient.

    Parameters
    ----------
    function : callable
        Takes what `start` is, as Tensors, and returns one number.
    start : array_like, dict of array_like, Tensor, list or dict of Tensors, or Layer
        Where to begin. Arrays are not changed; Tensors and the parameters of a network are.
    optimiser : Optimiser, optional
        L-BFGS by default, which wants the same value for the same place; for functions with noise
        another one, such as Adam.
    steps : int
        At most.
    tolerance : float
        It ends where every slope is at most this, times the size of the value if that is above 1,
        or where 30 steps decrease the value by less than this share.
    bounds : pair, or mapping of name to pair, optional
        Lowest and highest value, None for an open side: ``(0, None)`` is positive. Of arrays only.
        Variables are transformed, so that the function is never asked outside.
    schedule, clip, seed
        As for `Descent`.
    observers : sequence of Observer
        Such as `observers.Progress` and `observers.Curves`.
    record, name, resume
        As for `recorded_run`.

    Returns
    -------
    found : Minimum

    Raises
    ------
    SettingError
        If bounds are no bounds, or `start` lies outside of them.
    NotFiniteError
        If value or slope are not finite where a step begins.

    References
    ----------
    The transformations are those of F. James and M. Roos, "Minuit", Comput. Phys. Commun. 10,
    343-367, 1975, section 2: a sine between two bounds, a hyperbola beside one.

    Examples
    --------
    >>> found = vs.minimise(
    ...     lambda p: (p["a"] - 3.0) ** 2 + np.sum((p["b"] + 1.0) ** 2),
    ...     {"a": 1.0, "b": np.ones(2)},
    ...     bounds={"b": (0, None)},
    ... )
    >>> float(found.x["a"].round(6)), found.x["b"].round(6).tolist(), round(found.value, 6)
    (3.0, [0.0, 0.0], 2.0)
    """
    if not isinstance(tolerance, int | float) or not 0 <= tolerance < 1:
        raise SettingError(f"minimise: tolerance lies from 0 to 1, got {tolerance!r}.")
    variables = _variables(start, bounds)
    descent = Descent(
        variables.leaves,
        optimiser=optimiser if optimiser is not None else LBFGS(),
        schedule=schedule,
        clip=clip,
        seed=seed,
    )
    convergence = _Convergence(tolerance)
    parts, asked = {"descent": descent}, {"tolerance": tolerance, "steps": steps, "seed": seed}
    with recorded_run(
        parts,
        steps=steps,
        observers=observers,
        record=record,
        name=name,
        resume=resume,
        plan={"written_by": "minimise", **asked},
        better={"value": "lower"},
    ) as run:
        for _ in run.steps():
            made = descent.step(lambda: function(variables.arguments()))
            slope = float(np.abs(made.gradients.flat).max())
            run.numbers(value=made.loss, gradient=slope)
            if convergence.is_over(made.loss, slope):
                run.stop(convergence.reason)
    value, slope = _looked(descent, lambda: function(variables.arguments()))
    return Minimum(
        variables.result(),
        value,
        slope,
        descent.step_number,
        convergence.converged,
        convergence.reason or f"all {steps} steps are done",
        run.rows,
        run.folder,
    )


def _looked(descent: Descent, function: Callable[[], Any]) -> tuple[float, float]:
    """Value and largest slope where the variables are now."""
    value, gradients = descent._derived(function, None, release=True)
    return value, float(np.abs(gradients.flat).max())


class _Convergence:
    """When to end."""

    def __init__(self, tolerance: float) -> None:
        self.tolerance, self.best, self.idle = tolerance, math.inf, 0
        self.reason, self.converged = "", False

    def is_over(self, value: float, slope: float) -> bool:
        scale = max(1.0, abs(value))
        if slope <= self.tolerance * scale:
            self.reason, self.converged = "every slope is within the tolerance", True
            return True
        if value < self.best - self.tolerance * scale:
            self.best, self.idle = value, 0
            return False
        self.best, self.idle = min(self.best, value), self.idle + 1
        if self.idle < STALLED:
            return False
        self.reason = f"{STALLED} steps decreased the value by less than the tolerance"
        self.converged = slope <= NEAR * scale
        return True


class _InPlace:
    """A network, or Tensors, that are moved as they are."""

    def __init__(self, start: Any) -> None:
        self.start = self.leaves = start

    def arguments(self) -> Any:
        return self.start

    def result(self) -> Any:
        return self.start


class _Arrays:
    """Arrays, by name if they were given so; within bounds the variables behind them move."""

    def __init__(self, start: Any, bounds: Any) -> None:
        self.named = isinstance(start, Mapping)
        arrays = dict(start) if self.named else {"x": start}
        limits = _limits(bounds, list(arrays), self.named)
        self.leaves: dict[str, Tensor] = {}
        self.transformations: dict[str, _Transformation] = {}
        for name, values in arrays.items():
            given = np.asarray(values)
            if given.dtype.kind not in "fiu" or not np.isfinite(given).all():
                raise DataError(
                    f"minimise: {name} is of {given.dtype}, or not finite. Give real numbers."
                )
            self.transformations[name] = transformation = _Transformation(
                name, *limits.get(name, (None, None))
            )
            kind = np.float32 if given.dtype == np.float32 else np.float64
            free = transformation.unbounded(given.astype(np.float64))
            self.leaves[name] = Tensor(np.array(free, kind), name=name)

    def arguments(self) -> Any:
        result = {
            name: self.transformations[name].bounded(tensor) for name, tensor in self.leaves.items()
        }
        return result if self.named else result["x"]

    def result(self) -> Any:
        result = {
            name: np.array(self.transformations[name].bounded(held(tensor)))
            for name, tensor in self.leaves.items()
        }
        return result if self.named else result["x"]


class _Transformation:
    """From a variable without bounds to one within them, and back."""

    def __init__(self, name: str, low: float | None, high: float | None) -> None:
        self.name, self.low, self.high = name, low, high

    def bounded(self, u: Any) -> Any:
        low, high = self.low, self.high
        if low is not None and high is not None:
            return (np.sin(u) + 1.0) * ((high - low) / 2) + low
        if low is not None:
            return np.sqrt(np.square(u) + 1.0) + (low - 1.0)
        return u if high is None else (high + 1.0) - np.sqrt(np.square(u) + 1.0)

    def unbounded(self, x: np.ndarray) -> np.ndarray:
        low, high = self.low, self.high
        outside = np.zeros(x.shape, bool)
        if low is not None:
            outside |= x < low
        if high is not None:
            outside |= x > high
        if outside.any():
            raise SettingError(
                f"minimise: {self.name} begins at {x[outside].flat[0]:g}, outside of its bounds "
                f"{low} and {high}."
            )
        if low is not None and high is not None:
            share = np.clip((x - low) / (high - low), INSIDE, 1 - INSIDE)
            return np.asarray(np.arcsin(2 * share - 1))
        if low is None and high is None:
            return x
        away = np.maximum(x - low if low is not None else high - x, INSIDE)  # type: ignore[operator]
        return np.asarray(np.sqrt(np.square(away + 1) - 1))


def _variables(start: Any, bounds: Any) -> Any:
    """What is moved, and how the function sees it."""
    several = start.values() if isinstance(start, Mapping) else start
    tensors = isinstance(start, Tensor) or (
        isinstance(several, Sequence | type({}.values()))
        and len(several) > 0
        and all(isinstance(one, Tensor) for one in several)
    )
    if isinstance(start, Layer) or tensors:
        if bounds is not None:
            raise SettingError("minimise: bounds are for arrays. Give arrays, or leave them out.")
        return _InPlace(start)
    return _Arrays(start, bounds)


def _limits(
    bounds: Any, names: Sequence[str], named: bool
) -> dict[str, tuple[float | None, float | None]]:
    if bounds is None:
        return {}
    given = dict(bounds) if isinstance(bounds, Mapping) else dict.fromkeys(names, bounds)
    for name, pair in given.items():
        if name not in names:
            raise SettingError(
                f"minimise: there are bounds of {name!r}, and no such variable. There are "
                f"{', '.join(names)}."
            )
        sides = list(pair) if isinstance(pair, Sequence) and not isinstance(pair, str) else []
        numbers = [side for side in sides if side is not None]
        if (
            len(sides) != 2
            or not all(isinstance(side, int | float) and math.isfinite(side) for side in numbers)
            or (len(numbers) == 2 and not numbers[0] < numbers[1])
        ):
            raise SettingError(
                f"minimise: bounds are a lowest and a highest value, None where there is none; got "
                f"{pair!r}."
            )
    return {name: (pair[0], pair[1]) for name, pair in given.items()}

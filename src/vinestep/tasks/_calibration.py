"""What is learned of a trained network's outputs on examples it was not trained on: calibration,
and intervals and sets that hold the truth as often as is asked.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np
import scipy

from ..autodiff.tensor import held
from ..errors import DataError, SettingError
from ..parts._registry import part
from ._base import Back, Task, numbered_columns
from ._classes import Binary, Classes, Labels, Ordered
from ._numbers import Counts, Gaussian, Numbers, Quantiles

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Calibration", "Conformal", "Isotonic", "Temperature", "calibration_of", "conformal_of"]

COOLEST, HOTTEST = -5.0, 5.0  # logarithms of temperatures
LEAST_CHANCE = 1e-6  # of isotonic probabilities, whose logarithm is taken
FEWEST = 10  # examples


class Calibration:
    """Base of what turns outputs of a network into better ones of the same kind."""

    part_family: ClassVar[str] = "calibration"

    def __call__(self, outputs: np.ndarray) -> np.ndarray:
        raise NotImplementedError


@part("temperature", "calibration")
class Temperature(Calibration):
    """Logits divided by one number: C. Guo et al., "On Calibration of Modern Neural Networks", ICML
    2017, section 4.2. Decisions stay as they are.

    Parameters
    ----------
    temperature : float
        Above 1 the network was too sure.

    Examples
    --------
    >>> Temperature(2.0)(np.array([[3.0, 1.0]])).tolist()
    [[1.5, 0.5]]
    """

    def __init__(self, temperature: float) -> None:
        if not 0 < temperature < np.inf:
            raise SettingError(f"Temperature: it must be positive, got {temperature!r}.")
        self.temperature = float(temperature)

    def __repr__(self) -> str:
        return f"Temperature({self.temperature:.4g})"

    def __call__(self, outputs: np.ndarray) -> np.ndarray:
        return np.asarray(outputs / outputs.dtype.type(self.temperature))


@part("isotonic", "calibration")
class Isotonic(Calibration):
    """Probabilities through a rising staircase, one of each class, which are then brought to add up
    to 1: B. Zadrozny and C. Elkan, KDD 2002.

    Parameters
    ----------
    steps : list of pairs of lists
        For each class, or each label, the probabilities where the staircase bends, and its values
        there.
    exclusive : bool
        Whether one class is true, and not each label by itself.

    Examples
    --------
    >>> stairs = Isotonic([[[0.0, 1.0], [0.2, 0.8]]], exclusive=False)
    >>> stairs(np.array([[0.0]])).round(3).tolist()
    [[0.0]]
    """

    def __init__(self, steps: list[list[list[float]]], exclusive: bool = True) -> None:
        self.steps = [[list(map(float, x)), list(map(float, y))] for x, y in steps]
        self.exclusive = exclusive
        for x, y in self.steps:
            if len(x) != len(y) or not x or x != sorted(x) or y != sorted(y):
                raise SettingError("Isotonic: a staircase is as many rising places as values.")

    def __call__(self, outputs: np.ndarray) -> np.ndarray:
        values = outputs.astype(np.float64)
        chances = (
            scipy.special.softmax(values, axis=-1)
            if self.exclusive
            else scipy.special.expit(values)
        )
        if chances.shape[-1] != len(self.steps):
            raise DataError(
                f"Isotonic: it knows {len(self.steps)} classes, and the outputs have "
                f"{chances.shape[-1]}."
            )
        found = np.stack(
            [np.interp(chances[..., i], x, y) for i, (x, y) in enumerate(self.steps)], axis=-1
        )
        found = np.clip(found, LEAST_CHANCE, 1 - LEAST_CHANCE)
        if not self.exclusive:
            return np.asarray(scipy.special.logit(found), outputs.dtype)
        return np.asarray(np.log(found / found.sum(axis=-1, keepdims=True)), outputs.dtype)


def calibration_of(task: Task, outputs: Any, targets: Any, how: str) -> Calibration:
    """The calibration that examples ask for.

    Raises
    ------
    DataError
        If outputs of this task are no probabilities, or there are too few examples.
    SettingError
        If `how` is unknown.
    """
    logits, wanted = np.asarray(held(outputs)), np.asarray(held(targets))
    if how not in ("temperature", "isotonic"):
        raise SettingError(f'calibrated: how is "temperature" or "isotonic", got {how!r}.')
    fits = Classes | Binary | Ordered if how == "temperature" else Classes | Binary
    if not isinstance(task, fits):
        raise DataError(
            f"calibrated: {how} is for outputs that become probabilities; {task!r} has others."
        )
    if task.gaps:
        known = task.known(wanted).reshape(len(wanted), -1).any(axis=1)
        logits, wanted = logits[known], wanted[known]
    if len(wanted) < FEWEST:
        raise DataError(
            f"calibrated: {len(wanted)} examples with targets; {FEWEST} are needed at least."
        )
    if how == "temperature":
        precise = logits.astype(np.float64)
        from scipy.optimize import minimize_scalar

        found = minimize_scalar(
            lambda log: float(task(precise / math.exp(log), wanted)),
            bounds=(COOLEST, HOTTEST),
            method="bounded",
            options={"xatol": 1e-6},
        )
        return Temperature(math.exp(float(found.x)))
    exclusive = not isinstance(task, Binary)
    flat = logits.reshape(-1, logits.shape[-1] if logits.ndim > 1 else 1).astype(np.float64)
    chances = scipy.special.softmax(flat, axis=1) if exclusive else scipy.special.expit(flat)
    labels = wanted.reshape(-1) if exclusive else wanted.reshape(chances.shape)
    steps = []
    for i in range(chances.shape[1]):
        true = labels == i if exclusive else labels[:, i] == 1
        there = labels != -1 if exclusive else np.isin(labels[:, i], (0, 1))
        steps.append(_stairs(chances[there, i], true[there]))
    return Isotonic(steps, exclusive)


def _stairs(chances: np.ndarray, true: np.ndarray) -> list[list[float]]:
    from scipy.optimize import isotonic_regression

    order = np.argsort(chances, kind="stable")
    x, y = chances[order], isotonic_regression(true[order].astype(float)).x
    bends = np.flatnonzero(np.diff(y)) + 1
    keep = np.unique(np.r_[0, bends - 1, bends, len(x) - 1])
    return [x[keep].tolist(), y[keep].tolist()]


@part("conformal", "calibration")
class Conformal:
    """Intervals of numbers and sets of classes that hold the truth as often as is asked, whatever
    the network: of examples drawn as those were that it was learned on.

    Split conformal prediction (V. Vovk, A. Gammerman and G. Shafer, Algorithmic Learning in a
    Random World, 2005, section 4.1): by the distance of numbers, of normal distributions in
    deviations, of quantiles by how far outside (Y. Romano, E. Patterson and E. Candes, NeurIPS
    2019, equation 6), of classes by one less their probability (M. Sadinle, J. Lei and L.
    Wasserman, J. Am. Stat. Assoc. 114, 2019).

    Parameters
    ----------
    coverage : float
        How often, from 0 to 1.
    quantiles : list of float
        Learned: of the distances of the truth, the one that so many do not exceed; one for each
        number, or one.

    Examples
    --------
    >>> Conformal(0.9, [1.5]).columns(vs.tasks.Numbers(), np.array([[3.0]])).to_dict("list")
    {'low': [1.5], 'high': [4.5]}
    """

    part_family: ClassVar[str] = "calibration"

    def __init__(self, coverage: float, quantiles: list[float]) -> None:
        if not 0 < coverage < 1:
            raise SettingError(f"Conformal: coverage lies between 0 and 1, got {coverage!r}.")
        self.coverage, self.quantiles = float(coverage), [float(value) for value in quantiles]

    def __repr__(self) -> str:
        return f"Conformal({self.coverage:g}, {self.quantiles})"

    def bounds(self, task: Task, outputs: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value, shape (n, k)."""
        low, high, scale = _interval(task, outputs.reshape(len(outputs), -1).astype(np.float64))
        reach = np.array(self.quantiles) * scale
        return low - reach, high + reach

    def sets(self, task: Task, outputs: np.ndarray) -> np.ndarray:
        """Which classes are in the set of each example, shape (n, n_classes)."""
        return np.asarray(1 - _chances(task, outputs) <= self.quantiles[0])

    def columns(
        self,
        task: Task,
        outputs: np.ndarray,
        classes: Sequence[Any] = (),
        back: Back | None = None,
    ) -> pd.DataFrame:
        """What stands beside the answers: ``low`` and ``high``, or the ``set`` of classes."""
        import pandas as pd

        if isinstance(task, Classes | Binary | Ordered):
            inside = self.sets(task, outputs)
            known = classes if len(classes) == inside.shape[1] else range(inside.shape[1])
            cells = [
                ", ".join(str(value) for value, there in zip(known, row, strict=True) if there)
                for row in inside
            ]
            return pd.DataFrame({"set": cells})
        low, high = self.bounds(task, outputs)
        turn = back or (lambda values: values)
        return numbered_columns({"low": turn(low), "high": turn(high)})

    def covered(self, task: Task, outputs: np.ndarray, targets: np.ndarray) -> np.ndarray:
        """Whether the truth of each example, or of each number of it, is held."""
        if isinstance(task, Classes | Binary | Ordered):
            inside = self.sets(task, outputs)
            return np.asarray(inside[np.arange(len(inside)), _labels(task, outputs, targets)])
        low, high = self.bounds(task, outputs)
        wanted = targets.reshape(low.shape)
        return np.asarray((low <= wanted) & (wanted <= high))


def conformal_of(task: Task, outputs: Any, targets: Any, coverage: float) -> Conformal:
    """The intervals or sets that examples ask for.

    Raises
    ------
    DataError
        If there are too few examples for this coverage, or the task has no intervals.
    """
    if not 0 < coverage < 1:
        raise SettingError(f"conformal: coverage lies between 0 and 1, got {coverage!r}.")
    values, wanted = np.asarray(held(outputs)), np.asarray(held(targets))
    scores = _scores(task, values, wanted)
    reach = []
    for column in scores.T:
        own = np.sort(column[~np.isnan(column)])
        place = _place(len(own), coverage)
        if place > len(own):
            least = next(n for n in itertools.count(1) if _place(n, coverage) <= n)
            raise DataError(
                f"conformal: {len(own)} examples with targets are too few for a coverage of "
                f"{coverage:g}; {least} are needed at least."
            )
        reach.append(float(own[place - 1]))
    return Conformal(coverage, reach)


def _place(n: int, coverage: float) -> int:
    """Which of n scores in order, from 1, a further one is below as often as is asked."""
    return math.ceil(round((n + 1) * coverage, 9))


def _scores(task: Task, outputs: np.ndarray, targets: np.ndarray) -> np.ndarray:
    """How far each truth lies, shape (n, k); NaN where there is none."""
    if isinstance(task, Labels):
        raise DataError("conformal: of several labels at once there is no set of classes.")
    if isinstance(task, Classes | Binary | Ordered) and targets.ndim == 1:
        labels = _labels(task, outputs, targets)
        chances = _chances(task, outputs)[np.arange(len(labels)), labels]
        known = task.known(targets).reshape(len(targets), -1).all(axis=1)
        return np.asarray(np.where(known, 1 - chances, np.nan))[:, None]
    flat, wanted = (x.reshape(len(x), -1).astype(np.float64) for x in (outputs, targets))
    if isinstance(task, Numbers | Counts | Gaussian | Quantiles):
        low, high, scale = _interval(task, flat)
        if isinstance(task, Quantiles) or low.shape == wanted.shape:
            return np.asarray(np.maximum(low - wanted, wanted - high) / scale)
    raise DataError(f"conformal: outputs of {task!r} have no intervals or sets.")


def _interval(task: Task, outputs: np.ndarray) -> tuple[np.ndarray, np.ndarray, Any]:
    """What a task says by itself of each number, shape (n, k): bounds, which are equal where it
    has one estimate, and the unit in which distances from them are measured.
    """
    if isinstance(task, Gaussian):
        k = outputs.shape[1] // 2
        return outputs[:, :k], outputs[:, :k], np.exp(outputs[:, k:] / 2)
    if isinstance(task, Quantiles):
        rising = np.sort(outputs, axis=1)
        return rising[:, :1], rising[:, -1:], 1.0
    estimates = np.asarray(task.as_values(outputs, outputs)[0])
    return estimates, estimates, 1.0


def _labels(task: Task, outputs: np.ndarray, targets: np.ndarray) -> np.ndarray:
    labels = task.as_classes(outputs, targets)[1]
    return np.asarray(np.where(labels < 0, 0, labels)).astype(np.int64)


def _chances(task: Task, outputs: np.ndarray) -> np.ndarray:
    logits = task.as_classes(outputs, np.zeros(len(outputs), np.int64))[0]
    return np.asarray(np.exp(scipy.special.log_softmax(logits.astype(np.float64), axis=1)))

"""Tasks whose targets are numbers."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import numpy as np
import scipy

from .. import losses
from ..autodiff.tensor import held
from ..errors import DataError, SettingError, ShapeError
from ..parts._registry import part
from ._base import PREDICTED, Back, Task, in_rows, log_mean_exp, numbered_columns

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Counts", "Gaussian", "Numbers", "Quantiles"]

LOSSES: dict[str, Callable[..., Any]] = {
    "squared": losses.squared_error,
    "absolute": losses.absolute_error,
    "huber": losses.huber,
}
CONFIDENCE = 0.95
LOWEST_LOG_VARIANCE = -20.0  # below, a deviation is no number that float32 can square
MEDIAN = 0.5


@part("numbers", "task")
class Numbers(Task):
    """Numbers: outputs and targets of one shape, ``(n, k)``; pictures and series too.

    Parameters
    ----------
    error : {"squared", "absolute", "huber"}
        What is minimised; see `vinestep.losses`.
    gaps : bool
        Whether targets may be NaN, which do not count.

    Examples
    --------
    >>> task = vs.tasks.Numbers(gaps=True)
    >>> task(np.zeros((2, 2)), np.array([[1.0, np.nan], [3.0, np.nan]]))
    np.float64(5.0)
    """

    usual_metrics: ClassVar[tuple[str, ...]] = ("absolute_error",)

    def __init__(
        self, error: Literal["squared", "absolute", "huber"] = "squared", *, gaps: bool = False
    ) -> None:
        super().__init__(gaps=gaps)
        if error not in LOSSES:
            raise SettingError(f"Numbers: error is one of {', '.join(LOSSES)}, got {error!r}.")
        self.error = error

    @property
    def plain(self) -> Callable[..., Any] | None:
        return LOSSES[self.error]

    def losses(self, outputs: Any, targets: Any) -> Any:
        return LOSSES[self.error](outputs, targets, reduction="none")

    def baseline(self, targets: np.ndarray, width: int) -> np.ndarray | None:
        flat = _in_columns(targets, width)
        middle = np.nanmean if self.error == "squared" else np.nanmedian
        return None if flat is None else np.asarray(middle(flat, axis=0))


@part("counts", "task")
class Counts(Task):
    """Counts, from 0: outputs are the logarithms of expected counts, of the shape of the targets.

    The loss is the negative logarithm of Poisson's probability.

    Parameters
    ----------
    gaps : bool
        Whether targets may be NaN, which do not count.

    Examples
    --------
    >>> vs.tasks.Counts()(np.log([[2.0]]), np.array([[2.0]])).round(4)
    np.float64(1.3069)
    """

    usual_metrics: ClassVar[tuple[str, ...]] = ("absolute_error",)

    def __init__(self, *, gaps: bool = False) -> None:
        super().__init__(gaps=gaps)

    def losses(self, outputs: Any, targets: Any) -> Any:
        counts = _beside(self, outputs, targets)
        if (counts < 0).any():
            raise DataError(f"Counts: a target is {counts.min():.4g}; counts are not negative.")
        rest = np.asarray(scipy.special.gammaln(counts + 1.0), counts.dtype)
        return np.exp(outputs) - outputs * counts + rest

    def as_values(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any]:
        with np.errstate(over="ignore"):
            return np.exp(outputs.astype(np.float64)), targets

    def baseline(self, targets: np.ndarray, width: int) -> np.ndarray | None:
        flat = _in_columns(targets, width)
        return None if flat is None else np.log(np.maximum(np.nanmean(flat, axis=0), 1e-6))

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        if back is not None:
            raise DataError("Counts: the outputs are logarithms already. Leave out log_target.")
        return in_rows(self.as_values(outputs, outputs)[0])

    def averaged(self, outputs: np.ndarray) -> np.ndarray:
        return log_mean_exp(outputs.astype(np.float64))


@part("quantiles", "task")
class Quantiles(Task):
    """Quantiles of one number: outputs ``(n, len(levels))`` of targets ``(n, 1)`` or ``(n,)``.

    The loss is the pinball loss, mean over the levels: R. Koenker and G. Bassett, Econometrica
    46(1), 33-50, 1978, equation 3.

    Parameters
    ----------
    levels : sequence of float
        Between 0 and 1, rising.
    gaps : bool
        Whether targets may be NaN, which do not count.

    Examples
    --------
    >>> task = vs.tasks.Quantiles([0.1, 0.5, 0.9])
    >>> task(np.zeros((1, 3)), np.array([[1.0]])).round(4)
    np.float64(0.5)
    """

    usual_metrics: ClassVar[tuple[str, ...]] = ("absolute_error", "coverage")

    def __init__(self, levels: Sequence[float] = (0.05, 0.5, 0.95), *, gaps: bool = False) -> None:
        super().__init__(gaps=gaps)
        self.levels = list(map(float, levels))
        rising = all(a < b for a, b in zip(self.levels, self.levels[1:], strict=False))
        if not self.levels or not rising or not 0 < self.levels[0] <= self.levels[-1] < 1:
            raise SettingError(
                f"Quantiles: levels lie between 0 and 1, in rising order; got {levels!r}."
            )

    def places(self, targets: Any) -> tuple[int, ...]:
        return (len(held(targets)),)

    def known(self, targets: Any) -> np.ndarray:
        array = np.asarray(held(targets), np.float64)
        return np.asarray(~np.isnan(array.reshape(len(array), -1)).any(axis=1))

    def _column(self, outputs: Any, targets: Any) -> np.ndarray:
        array = np.asarray(held(targets)).astype(held(outputs).dtype)
        n = len(array)
        if array.size != n or np.shape(outputs) != (n, len(self.levels)):
            raise ShapeError(
                f"Quantiles: outputs have shape {np.shape(outputs)}, targets {array.shape}. "
                f"Expected (n, {len(self.levels)}), a column for each level, and (n, 1)."
            )
        return array.reshape(n, 1)

    def losses(self, outputs: Any, targets: Any) -> Any:
        rest = self._column(outputs, targets) - outputs
        levels = np.asarray(self.levels, held(outputs).dtype)
        return np.mean(np.where(held(rest) > 0, rest * levels, rest * (levels - 1)), axis=1)

    def as_values(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any]:
        middle = np.sort(outputs, axis=1)[:, self._middle : self._middle + 1]
        return middle, middle if targets is outputs else self._column(outputs, targets)

    @property
    def _middle(self) -> int:
        return int(np.argmin(np.abs(np.array(self.levels) - MEDIAN)))

    def baseline(self, targets: np.ndarray, width: int) -> np.ndarray | None:
        return np.asarray(np.nanquantile(np.asarray(targets, np.float64), self.levels))

    def bounds(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any, Any, float]:
        """The lowest and the highest quantile, the targets, and the share that lies between."""
        rising = np.sort(outputs, axis=1)
        share = self.levels[-1] - self.levels[0]
        return rising[:, 0], rising[:, -1], self._column(outputs, targets)[:, 0], share

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        rising = np.sort(outputs.reshape(len(outputs), -1), axis=1)
        rising = rising if back is None else back(rising)
        result = in_rows(rising[:, self._middle : self._middle + 1])
        for i, level in enumerate(self.levels):
            result[f"quantile {level:g}"] = rising[:, i]
        return result

    def width(self, classes: int) -> int:
        return len(self.levels)


@part("gaussian", "task")
class Gaussian(Task):
    """A normal distribution of each number: for targets ``(n, k)`` outputs ``(n, 2 k)``, the means
    and then the logarithms of the variances.

    The loss is the negative logarithm of the density: D. A. Nix and A. S. Weigend, ICNN 1994,
    equation 3.

    Parameters
    ----------
    gaps : bool
        Whether targets may be NaN, which do not count.

    Examples
    --------
    >>> vs.tasks.Gaussian()(np.zeros((1, 2)), np.array([[0.0]])).round(4)
    np.float64(0.9189)
    """

    usual_metrics: ClassVar[tuple[str, ...]] = ("absolute_error", "coverage")

    def __init__(self, *, gaps: bool = False) -> None:
        super().__init__(gaps=gaps)

    def _halves(self, outputs: Any) -> tuple[Any, Any]:
        k = np.shape(outputs)[-1] // 2
        logs = outputs[..., k:]
        return outputs[..., :k], np.where(
            held(logs) < LOWEST_LOG_VARIANCE, LOWEST_LOG_VARIANCE, logs
        )

    def losses(self, outputs: Any, targets: Any) -> Any:
        wanted = np.asarray(held(targets))
        if np.shape(outputs) != (*wanted.shape[:-1], 2 * wanted.shape[-1]):
            raise ShapeError(
                f"Gaussian: outputs have shape {np.shape(outputs)}, targets {wanted.shape}. "
                "Expected (n, 2 k), the means and then the logarithms of the variances, and "
                "(n, k)."
            )
        mean, logs = self._halves(outputs)
        rest = mean - wanted.astype(held(outputs).dtype)
        return (np.square(rest) * np.exp(-logs) + logs + math.log(2 * math.pi)) * 0.5

    def as_values(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any]:
        return self._halves(outputs)[0], targets

    def baseline(self, targets: np.ndarray, width: int) -> np.ndarray | None:
        flat = _in_columns(targets, width // 2)
        if flat is None:
            return None
        spread = np.log(np.maximum(np.nanvar(flat, axis=0), 1e-12))
        return np.concatenate([np.nanmean(flat, axis=0), spread])

    def bounds(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any, Any, float]:
        """The bounds between which 95 % lie, the targets, and that share."""
        mean, logs = self._halves(outputs)
        reach = float(scipy.special.ndtri((1 + CONFIDENCE) / 2)) * np.exp(logs / 2)
        return mean - reach, mean + reach, targets, CONFIDENCE

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        turn = back or (lambda values: values)
        mean, logs = self._halves(outputs.reshape(len(outputs), -1).astype(np.float64))
        low, high, _, _ = self.bounds(np.concatenate([mean, logs], axis=1), mean)
        columns = {PREDICTED: turn(mean), "quantile 0.025": turn(low), "quantile 0.975": turn(high)}
        if back is None:
            columns["deviation"] = np.exp(logs / 2)
        return numbered_columns(columns)

    def width(self, classes: int) -> int:
        return 2

    def averaged(self, outputs: np.ndarray) -> np.ndarray:
        mean, logs = self._halves(outputs.astype(np.float64))
        middle = mean.mean(axis=0)
        variance = (np.exp(logs) + (mean - middle) ** 2).mean(axis=0)
        return np.concatenate([middle, np.log(variance)], axis=-1)


def _in_columns(targets: np.ndarray, width: int) -> np.ndarray | None:
    """Every place's targets in a row."""
    if not targets.size or targets.size % width:
        return None
    return np.asarray(targets, np.float64).reshape(-1, width)


def _beside(task: Task, outputs: Any, targets: Any) -> np.ndarray:
    """Targets of the shape and precision of the outputs."""
    array = np.asarray(held(targets)).astype(held(outputs).dtype)
    if array.shape != np.shape(outputs):
        raise ShapeError(
            f"{type(task).__name__}: outputs have shape {np.shape(outputs)}, targets "
            f"{array.shape}. They have to agree."
        )
    return array

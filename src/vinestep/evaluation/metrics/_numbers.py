"""Metrics of numbers."""

from __future__ import annotations

import math
from functools import partial
from typing import Any

import numpy as np

from ...errors import DataError, SettingError
from ...parts._registry import maker, register
from ._base import Counts, Metric, checked_pair, ratio
from ._exact_sums import COLUMNS, as_fraction, exact_sum, exact_sum_of_squares

__all__ = [
    "absolute_error",
    "correlation",
    "coverage",
    "quantile_loss",
    "r_squared",
    "root_mean_squared_error",
    "squared_error",
]

LARGEST_TARGET = 1e150  # of which the square is a number


def _absolute(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    checked_pair("absolute_error", outputs, targets)
    return np.array([np.sum(np.abs(outputs.astype(np.float64) - targets)), targets.size])


absolute_error = Metric(
    "absolute_error", _absolute, ratio, better="lower", elementwise=True, of="values"
)


def _squared(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    checked_pair("squared_error", outputs, targets)
    return np.array([np.sum(np.square(outputs.astype(np.float64) - targets)), targets.size])


def _spread(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    """Residual squares, how many, and the exact sums of targets and of their squares, since the
    squares around a mean far from 0 are a small difference of large numbers.
    """
    checked_pair("r_squared", outputs, targets)
    t = targets.astype(np.float64)
    residual = np.sum(np.square(outputs.astype(np.float64) - t))
    if not (np.abs(t) < LARGEST_TARGET).all():
        residual, t = np.nan, t[:0]
    return np.concatenate([[residual, targets.size], exact_sum(t), exact_sum_of_squares(t)])


def _r_squared(counts: Counts) -> float:
    residual, n = counts[:2]
    if not n or not np.isfinite(residual):
        return float("nan")
    total, squares = as_fraction(counts[2 : 2 + COLUMNS]), as_fraction(counts[2 + COLUMNS :])
    around_mean = float(squares - total**2 / int(n))
    return float(1 - residual / around_mean) if around_mean > 0 else float("nan")


squared_error = Metric(
    "squared_error", _squared, ratio, better="lower", elementwise=True, of="values"
)
r_squared = Metric("r_squared", _spread, _r_squared, better="higher", elementwise=True, of="values")


def _root(counts: Counts) -> float:
    return math.sqrt(ratio(counts)) if counts[0] >= 0 else math.nan


root_mean_squared_error = Metric(
    "root_mean_squared_error", _squared, _root, better="lower", elementwise=True, of="values"
)
"""Root of the mean squared error, in the unit of the target."""


@maker("quantile_loss", "metric")
def quantile_loss(level: float = 0.5) -> Metric:
    """Mean pinball loss of an estimate of a quantile: ``level * r`` where the target lies above it
    by r, ``(level - 1) * r`` where below.

    R. Koenker and G. Bassett, Econometrica 46(1), 33-50, 1978, equation 3.

    Examples
    --------
    >>> vs.metrics.quantile_loss(0.75)(np.zeros((2, 1)), np.array([[1.0], [-1.0]]))
    0.5
    """
    if not 0 < level < 1:
        raise SettingError(f"quantile_loss: level lies between 0 and 1, got {level!r}.")
    return Metric(
        f"quantile_loss_{level:g}",
        partial(_pinball, level=float(level)),
        ratio,
        better="lower",
        elementwise=True,
        of="values",
    )


def _pinball(outputs: np.ndarray, targets: np.ndarray, *, level: float) -> Counts:
    checked_pair("quantile_loss", outputs, targets)
    rest = targets.astype(np.float64) - outputs
    return np.array([np.sum(np.maximum(level * rest, (level - 1) * rest)), targets.size])


def _moments(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    """How many, both means, and the sums of squares and products about them."""
    checked_pair("correlation", outputs, targets)
    x, y = outputs.astype(np.float64).ravel(), targets.astype(np.float64).ravel()
    if not x.size:
        return np.zeros(6)
    dx, dy = x - x.mean(), y - y.mean()
    return np.array([x.size, x.mean(), y.mean(), dx @ dx, dy @ dy, dx @ dy])


def _merged_moments(a: Counts, b: Counts) -> Counts:
    """T. F. Chan, G. H. Golub and R. J. LeVeque, Am. Stat. 37(3), 242-247, 1983."""
    n = a[0] + b[0]
    if not a[0] or not b[0]:
        return b if not a[0] else a
    dx, dy = b[1] - a[1], b[2] - a[2]
    both = a[0] * b[0] / n
    means = a[1] + dx * b[0] / n, a[2] + dy * b[0] / n
    added = np.array([dx * dx, dy * dy, dx * dy]) * both
    return np.array([n, *means, *(a[3:] + b[3:] + added)])


def _correlation(counts: Counts) -> float:
    n, across = counts[0], math.sqrt(max(counts[3], 0)) * math.sqrt(max(counts[4], 0))
    least = np.finfo(np.float64).eps * n * np.abs(counts[1:3]).max(initial=0) ** 2
    if n < 2 or not counts[3] > least * 1e-15 or not counts[4] > least * 1e-15 or not across:
        return math.nan
    return float(np.clip(counts[5] / across, -1, 1))


correlation = Metric(
    "correlation",
    _moments,
    _correlation,
    better="higher",
    elementwise=True,
    of="values",
    merge=_merged_moments,
)
"""Pearson's correlation of outputs and targets; NaN where one of the two never varies."""


def _inside(outputs: Any, targets: Any, task: Any, weights: Any) -> Counts:
    if not hasattr(task, "bounds"):
        raise DataError(
            f"coverage: the outputs of {task!r} have no bounds. It is a metric of Quantiles and "
            "Gaussian."
        )
    low, high, wanted, _ = task.bounds(np.asarray(outputs), np.asarray(targets))
    counts = task.place_weights(targets, weights) > 0
    inside = (low <= wanted) & (wanted <= high)
    return np.array([np.count_nonzero(inside & counts), np.count_nonzero(counts)], np.float64)


coverage = Metric("coverage", _inside, ratio, better="neither", is_fraction=True, of="task")
"""Share of targets between the lowest and the highest quantile, or the bounds of 95 %."""

for _metric in (
    absolute_error,
    squared_error,
    root_mean_squared_error,
    r_squared,
    correlation,
    coverage,
):
    register(_metric.name, _metric, "metric", form="object")

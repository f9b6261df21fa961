"""Metrics of probabilities: how far they are from what happens."""

from __future__ import annotations

from functools import partial

import numpy as np
import scipy

from ...errors import SettingError
from ...parts._registry import maker, register
from ._base import Counts, Metric, classified, ratio

__all__ = ["brier_score", "calibration_error", "log_loss"]

BINARY = 2


def _squares(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    rows, labels = classified("brier_score", outputs, targets)
    chances = scipy.special.softmax(rows.astype(np.float64), axis=1)
    chances[np.arange(len(labels)), labels] -= 1
    each = np.sum(chances**2, axis=1)
    return np.array([each.sum() / (2 if rows.shape[1] == BINARY else 1), labels.size])


brier_score = Metric("brier_score", _squares, ratio, better="lower", elementwise=True, of="classes")
"""Mean squared distance of probabilities from what happened: G. W. Brier, Mon. Weather Rev. 78(1),
1-3, 1950. Of two classes that of one of them, from 0 to 1; of more the sum over classes."""


def _logarithms(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    rows, labels = classified("log_loss", outputs, targets)
    logs = scipy.special.log_softmax(rows.astype(np.float64), axis=1)[
        np.arange(len(labels)), labels
    ]
    return np.array([-logs.sum(), labels.size])


log_loss = Metric("log_loss", _logarithms, ratio, better="lower", elementwise=True, of="classes")
"""Mean negative logarithm of the probability of the true class."""


@maker("calibration_error", "metric")
def calibration_error(bins: int = 15) -> Metric:
    """Expected calibration error: how far the probability of the decided class is from how often
    that is the true one, mean over bins of equal width by their numbers of examples.

    C. Guo et al., "On Calibration of Modern Neural Networks", ICML 2017, equation 3.

    Examples
    --------
    >>> logits = np.log(np.array([[0.8, 0.2], [0.8, 0.2]]))
    >>> round(vs.metrics.calibration_error()(logits, np.array([0, 1])), 4)
    0.3
    """
    if isinstance(bins, bool) or not isinstance(bins, int | np.integer) or bins < 1:
        raise SettingError(
            f"calibration_error: bins must be a whole number of at least 1, got {bins!r}."
        )
    return Metric(
        "calibration_error" if bins == DEFAULT_BINS else f"calibration_error_{bins}",
        partial(_binned, bins=int(bins)),
        _apart,
        better="lower",
        elementwise=True,
        of="classes",
    )


DEFAULT_BINS = 15


def _binned(outputs: np.ndarray, targets: np.ndarray, *, bins: int) -> Counts:
    """Of each bin how many examples, the sum of their probabilities, and how many are right."""
    rows, labels = classified("calibration_error", outputs, targets)
    chances = scipy.special.softmax(rows.astype(np.float64), axis=1)
    best = chances.argmax(axis=1)
    sure = chances[np.arange(len(best)), best]
    if np.isnan(sure).any():
        return np.full((bins, 3), np.nan)
    place = np.clip(np.ceil(sure * bins).astype(int) - 1, 0, bins - 1)
    found = [np.ones(len(sure)), sure, (best == labels).astype(float)]
    return np.column_stack([np.bincount(place, each, bins) for each in found])


def _apart(counts: Counts) -> float:
    n = counts[:, 0].sum()
    return float(np.abs(counts[:, 1] - counts[:, 2]).sum() / n) if n else float("nan")


for _metric in (brier_score, log_loss):
    register(_metric.name, _metric, "metric", form="object")

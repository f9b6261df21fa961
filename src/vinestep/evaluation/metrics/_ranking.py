"""Metrics of how well scores put examples in order: areas under curves over all thresholds."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
import scipy

from ...autodiff.tensor import held
from ...errors import DataError, SettingError, ShapeError
from ...parts._registry import maker
from ._base import Counts, Metric, classified

__all__ = [
    "area_under_precision_recall",
    "area_under_roc",
    "average_precision",
    "roc_area",
]

BINARY = 2
AVERAGES = ("macro", "weighted")


def roc_area(scores: Any, labels: Any) -> float:
    """Area under the receiver operating characteristic: how likely a positive example scores above
    a negative one, ties half.

    By ranks, as the statistic of H. B. Mann and D. R. Whitney, 1947. Not additive over batches:
    give all scores at once.

    Parameters
    ----------
    scores : array_like, shape (n,)
    labels : array_like of 0 and 1, shape (n,)

    Returns
    -------
    area : float
        NaN if there is but one kind of label, or a score is NaN.

    Raises
    ------
    ShapeError
        If there are not as many scores as labels.
    DataError
        If a label is neither 0 nor 1.

    Examples
    --------
    >>> vs.metrics.roc_area([0.1, 0.4, 0.35, 0.8], [0, 0, 1, 1])
    0.75
    """
    from scipy.stats import rankdata

    values, given = np.asarray(held(scores)).ravel(), np.asarray(held(labels)).ravel()
    if values.shape != given.shape:
        raise ShapeError(f"roc_area: {values.size} scores for {given.size} labels.")
    if given.dtype.kind not in "biuf" or not np.isin(given, (0, 1)).all():
        odd = given[~np.isin(given, (0, 1))] if given.dtype.kind in "biuf" else given
        raise DataError(
            f"roc_area: labels are 0 or 1, got {odd[0]!r}. Of several classes compare one with the "
            "rest: labels == 2."
        )
    marks = given.astype(bool)
    positive = int(marks.sum())
    negative = marks.size - positive
    if not positive or not negative:
        return float("nan")
    return float(
        (rankdata(values)[marks].sum() - positive * (positive + 1) / 2) / (positive * negative)
    )


# counts are a row for each class and score: class, score, and how many there are of the class and
# of the others


def _by_score(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    """The score of a class is its logarithmic odds against the others together."""
    rows, labels = classified("the area", outputs, targets)
    values, k = rows.astype(np.float64), rows.shape[1]
    tables = []
    for c in range(k):
        if k == BINARY:
            odds = values[:, c] - values[:, 1 - c]
        else:
            odds = values[:, c] - scipy.special.logsumexp(np.delete(values, c, axis=1), axis=1)
        own = labels == c
        tables.append(np.column_stack([np.full(len(odds), c), odds, own, ~own]))
    return _summed(np.concatenate(tables))


def _summed(rows: Counts) -> Counts:
    """One row for each class and score, in order."""
    if not len(rows):
        return rows
    order = np.lexsort((rows[:, 1], rows[:, 0]))
    rows = rows[order]
    same = (rows[1:, 0] == rows[:-1, 0]) & (rows[1:, 1] == rows[:-1, 1])
    starts = np.flatnonzero(np.concatenate([[True], ~same]))
    sums = np.add.reduceat(rows[:, 2:], starts, axis=0)
    return np.column_stack([rows[starts, :2], sums])


def _merged(counts: Counts, more: Counts) -> Counts:
    return _summed(np.concatenate([counts, more]))


Area = Callable[[np.ndarray, np.ndarray], float]


def _over(counts: Counts, *, name: str, area: Area, over: str | int | None) -> float:
    """The area of one class, or a mean over those of which there are examples and counterexamples;
    NaN if there is none, or a score is NaN.
    """
    if not len(counts) or np.isnan(counts[:, 1]).any():
        return float("nan")
    classes = int(counts[:, 0].max()) + 1
    if over is None:
        over = 1 if classes == BINARY else "macro"
    if isinstance(over, int) and not 0 <= over < classes:
        raise SettingError(f"{name}({over}): there are classes 0 to {classes - 1}.")
    areas, shares = [], []
    for c in range(classes) if isinstance(over, str) else [over]:
        own = counts[counts[:, 0] == c]
        there, others = own[:, 2], own[:, 3]
        if there.sum() and others.sum():
            areas.append(area(there, others))
            shares.append(there.sum())
    if not areas:
        return float("nan")
    return float(np.average(areas, weights=shares if over == "weighted" else None))


def _made(name: str, area: Area, over: str | int | None) -> Metric:
    if isinstance(over, bool) or not (over is None or over in AVERAGES or isinstance(over, int)):
        raise SettingError(
            f"{name}: over must be {', '.join(AVERAGES)} or the number of a class, got {over!r}."
        )
    return Metric(
        name if over is None else f"{name}_{over}",
        _by_score,
        partial(_over, name=name, area=area, over=over),
        better="higher",
        elementwise=True,
        of="classes",
        merge=_merged,
    )


@maker("area_under_roc", "metric")
def area_under_roc(over: str | int | None = None) -> Metric:
    """Area under the receiver operating characteristic of a class against the others: how likely an
    example of it scores above another one, ties half.

    Exact, over all examples of an epoch; kept are the different scores, with how often they occur.
    `roc_area` is the same of plain scores.

    Parameters
    ----------
    over : {"macro", "weighted"} or int, optional
        The mean over classes, by how many examples they have, or one class; by default class 1 of
        two, and the mean of more. Classes without examples, or without others, are left out.

    Examples
    --------
    >>> logits = np.array([[0.0, 0.1], [0.0, 0.4], [0.0, 0.35], [0.0, 0.8]])
    >>> vs.metrics.area_under_roc()(logits, np.array([0, 0, 1, 1]))
    0.75
    """
    return _made("area_under_roc", _roc, over)


def _roc(there: np.ndarray, others: np.ndarray) -> float:
    below = np.concatenate([[0.0], np.cumsum(others)[:-1]])
    return float(np.sum(there * (below + others / 2)) / (there.sum() * others.sum()))


@maker("average_precision", "metric")
def average_precision(over: str | int | None = None) -> Metric:
    """Mean of the precisions at every threshold, each by the recall that it adds; see
    `area_under_roc`.

    Examples
    --------
    >>> logits = np.array([[0.0, 0.1], [0.0, 0.4], [0.0, 0.35], [0.0, 0.8]])
    >>> round(vs.metrics.average_precision()(logits, np.array([0, 0, 1, 1])), 4)
    0.8333
    """
    return _made("average_precision", _average_precision, over)


def _average_precision(there: np.ndarray, others: np.ndarray) -> float:
    right, all_ = np.cumsum(there[::-1]), np.cumsum((there + others)[::-1])
    return float(np.sum(there[::-1] * right / all_) / there.sum())


@maker("area_under_precision_recall", "metric")
def area_under_precision_recall(over: str | int | None = None) -> Metric:
    """Area under the curve of precision against recall, between its points as thresholds would fall
    at random: J. Davis and M. Goadrich, ICML 2006, section 3; see `area_under_roc`.

    Examples
    --------
    >>> logits = np.array([[0.0, 0.1], [0.0, 0.4], [0.0, 0.35], [0.0, 0.8]])
    >>> round(vs.metrics.area_under_precision_recall()(logits, np.array([0, 0, 1, 1])), 4)
    0.7973
    """
    return _made("area_under_precision_recall", _precision_recall, over)


def _precision_recall(there: np.ndarray, others: np.ndarray) -> float:
    """With false positives linear in true ones, ``t / (a + b t)`` is integrated in closed form."""
    area, right, wrong = 0.0, 0.0, 0.0
    for more, false in zip(there[::-1], others[::-1], strict=True):
        if more:
            slope = false / more
            a, b = wrong - slope * right, 1 + slope
            area += more / b
            if a:
                area -= a / b**2 * np.log((a + b * (right + more)) / (a + b * right))
        right, wrong = right + more, wrong + false
    return float(area / there.sum())

"""Metrics of classes, by counts of a confusion matrix."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np

from ...autodiff.tensor import held
from ...errors import NotFiniteError, SettingError, ShapeError
from ...parts._registry import maker, register
from ._base import Counts, Metric, classified, ratio

__all__ = [
    "accuracy",
    "confusion",
    "f1",
    "f_measure",
    "intersection_over_union",
    "kappa",
    "matthews_correlation",
    "precision",
    "rank_error",
    "recall",
    "top",
]

AVERAGES = ("macro", "micro", "weighted")


def _right(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    rows, labels = classified("accuracy", outputs, targets)
    decided = (rows.argmax(axis=1) == labels) & ~np.isnan(rows).any(axis=1)
    return np.array([np.count_nonzero(decided), labels.size], dtype=np.float64)


accuracy = Metric(
    "accuracy",
    _right,
    ratio,
    better="higher",
    is_fraction=True,
    elementwise=True,
    of="classes",
)


@maker("top", "metric")
def top(k: int) -> Metric:
    """Share of examples whose class is among the `k` with the highest outputs; of equal outputs the
    first class counts as the higher, as in accuracy, and NaN decides nothing.

    Examples
    --------
    >>> vs.metrics.top(2)(np.array([[0.1, 0.9, 0.5], [0.8, 0.2, 0.1]]), np.array([2, 2]))
    0.5
    """

    if isinstance(k, bool) or not isinstance(k, int | np.integer) or k < 1:
        raise SettingError(f"top: k must be a whole number of at least 1, got {k!r}.")
    return Metric(
        f"top_{k}",
        partial(_among_highest, k=int(k)),
        ratio,
        better="higher",
        is_fraction=True,
        of="classes",
    )


def _among_highest(outputs: np.ndarray, targets: np.ndarray, *, k: int) -> Counts:
    rows, labels = classified(f"top({k})", outputs, targets)
    if k > rows.shape[1]:
        raise ShapeError(f"top({k}): there are {rows.shape[1]} classes.")
    own = rows[np.arange(len(labels)), labels][:, None]
    before = np.arange(rows.shape[1]) < labels[:, None]
    higher = np.sum((rows > own) | ((rows == own) & before), axis=1)
    among = (higher < k) & ~np.isnan(rows).any(axis=1)
    return np.array([np.count_nonzero(among), len(labels)], dtype=np.float64)


# counts of a confusion matrix, and what is worked out from them


def _confusion(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    """How often each true class, a row, was decided to be which, a column."""
    rows, labels = classified("confusion", outputs, targets)
    k = rows.shape[1]
    pairs = labels * k + rows.argmax(axis=1)
    counts = np.bincount(pairs, minlength=k * k).reshape(k, k).astype(np.float64)
    return np.full_like(counts, np.nan) if np.isnan(rows).any() else counts


def confusion(outputs: Any, targets: Any) -> np.ndarray:
    """Confusion matrix, shape (n_classes, n_classes): true classes in rows, decided ones in
    columns. Adds up over batches.

    Examples
    --------
    >>> vs.metrics.confusion(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1]))
    array([[1, 1],
           [0, 1]])
    """
    counts = _confusion(np.asarray(held(outputs)), np.asarray(held(targets)))
    if np.isnan(counts).any():
        raise NotFiniteError("confusion: some outputs are NaN, which decides nothing.")
    return counts.astype(int)


def _divided(a: Any, b: Any) -> Any:
    """0 where there is nothing to divide by: a class never decided, or never there."""
    return np.divide(a, b, out=np.zeros_like(np.asarray(a, dtype=float)), where=np.asarray(b) != 0)


def _precisions(matrix: Counts) -> Any:
    return _divided(np.diag(matrix), matrix.sum(axis=0))


def _recalls(matrix: Counts) -> Any:
    return _divided(np.diag(matrix), matrix.sum(axis=1))


def _by_class(name: str, figures: Callable[[Counts], Any], over: str | int) -> Metric:
    if over not in AVERAGES and (isinstance(over, bool) or not isinstance(over, int)):
        raise SettingError(
            f"{name}: over must be {', '.join(AVERAGES)} or the number of a class, got {over!r}."
        )
    return Metric(
        f"{name}_{over}",
        _confusion,
        partial(_over_classes, name=name, figures=figures, over=over),
        better="higher",
        elementwise=True,
        of="classes",
    )


def _over_classes(
    matrix: Counts, *, name: str, figures: Callable[[Counts], Any], over: str | int
) -> float:
    if over == "macro":
        return float(np.mean(figures(matrix)))
    if over == "weighted":
        return float(np.sum(figures(matrix) * matrix.sum(axis=1)) / max(matrix.sum(), 1))
    if over == "micro":
        return float(np.trace(matrix) / max(matrix.sum(), 1))
    if not 0 <= int(over) < len(matrix):
        raise SettingError(f"{name}({over}): there are classes 0 to {len(matrix) - 1}.")
    return float(figures(matrix)[over])


@maker("precision", "metric")
def precision(over: str | int = "macro") -> Metric:
    """Of those decided to be of a class, the share that is: the mean over classes ("macro"), by how
    many examples they have ("weighted"), over examples ("micro"), or one class.

    A class never decided counts as 0.

    Examples
    --------
    >>> vs.metrics.precision(1)(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1]))
    0.5
    """
    return _by_class("precision", _precisions, over)


@maker("recall", "metric")
def recall(over: str | int = "macro") -> Metric:
    """Of those of a class, the share that was found; see `precision`.

    Examples
    --------
    >>> vs.metrics.recall(1)(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1]))
    1.0
    """
    return _by_class("recall", _recalls, over)


@maker("f1", "metric")
def f1(over: str | int = "macro") -> Metric:
    """Harmonic mean of precision and recall; see `precision`.

    Examples
    --------
    >>> round(vs.metrics.f1(1)(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1])), 4)
    0.6667
    """
    return _by_class("f1", partial(_f_measures, beta=1.0), over)


@maker("f_measure", "metric")
def f_measure(beta: float = 1.0, over: str | int = "macro") -> Metric:
    """Weighted harmonic mean of precision and recall, ``(1 + beta**2) p r / (beta**2 p + r)``; see
    `precision`.

    C. J. van Rijsbergen, Information Retrieval, 1979, chapter 7.

    Examples
    --------
    >>> round(vs.metrics.f_measure(2.0, over=1)(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1])), 4)
    0.8333
    """
    if not 0 < beta < np.inf:
        raise SettingError(f"f_measure: beta must be positive, got {beta!r}.")
    return _by_class(f"f{beta:g}_measure", partial(_f_measures, beta=float(beta)), over)


def _f_measures(matrix: Counts, *, beta: float) -> Any:
    decided, there = matrix.sum(axis=0), matrix.sum(axis=1)
    return _divided((1 + beta**2) * np.diag(matrix), decided + beta**2 * there)


@maker("intersection_over_union", "metric")
def intersection_over_union(over: str | int = "macro") -> Metric:
    """Of the places that are of a class or decided to be, the share that is both; see `precision`.
    A class that is neither there nor decided is left out of the mean.

    P. Jaccard, Bull. Soc. Vaud. Sci. Nat. 37, 241-272, 1901.

    Examples
    --------
    >>> vs.metrics.intersection_over_union(1)(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1]))
    0.5
    """
    if over != "macro":
        return _by_class("intersection_over_union", _unions, over)
    return Metric(
        "intersection_over_union",
        _confusion,
        _mean_union,
        better="higher",
        elementwise=True,
        of="classes",
    )


def _unions(matrix: Counts) -> Any:
    both = np.diag(matrix)
    return _divided(both, matrix.sum(axis=0) + matrix.sum(axis=1) - both)


def _mean_union(matrix: Counts) -> float:
    there = (matrix.sum(axis=0) + matrix.sum(axis=1)) > 0
    return float(np.mean(_unions(matrix)[there])) if there.any() else float("nan")


def _kappa(matrix: Counts) -> float:
    n = matrix.sum()
    if not n:
        return float("nan")
    agreed, expected = np.trace(matrix) / n, float(matrix.sum(axis=0) @ matrix.sum(axis=1)) / n**2
    return float((agreed - expected) / (1 - expected)) if expected < 1 else float("nan")


kappa = Metric("kappa", _confusion, _kappa, better="higher", elementwise=True, of="classes")
"""Agreement beyond chance; J. Cohen, Educ. Psychol. Meas. 20(1), 37-46, 1960."""


def _matthews(matrix: Counts) -> float:
    n = matrix.sum()
    there, decided = matrix.sum(axis=1), matrix.sum(axis=0)
    spread = (n**2 - decided @ decided) * (n**2 - there @ there)
    if not spread > 0:
        return float("nan")
    return float((np.trace(matrix) * n - there @ decided) / np.sqrt(spread))


matthews_correlation = Metric(
    "matthews_correlation",
    _confusion,
    _matthews,
    better="higher",
    elementwise=True,
    of="classes",
)
"""Correlation of decisions and labels: B. W. Matthews, 1975; of several classes J. Gorodkin,
Comput. Biol. Chem. 28, 367-374, 2004, equation 8. NaN where one of the two never varies."""


def _ranks(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    rows, labels = classified("rank_error", outputs, targets)
    away = np.abs(rows.argmax(axis=1) - labels).astype(np.float64)
    return np.array([np.nan if np.isnan(rows).any() else away.sum(), labels.size])


rank_error = Metric("rank_error", _ranks, ratio, better="lower", elementwise=True, of="classes")
"""By how many classes decisions are off, of classes with an order."""

for _metric in (accuracy, kappa, matthews_correlation, rank_error):
    register(_metric.name, _metric, "metric", form="object")

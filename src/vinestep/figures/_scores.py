"""How good decisions and predictions are: confusion, ROC, precision and recall, calibration,
predictions against truth.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import scipy
from matplotlib.figure import Figure

from ..errors import DataError
from ._style import (
    COLOURS,
    INK,
    figure,
    tidy,
)

__all__ = ["against_truth", "calibration", "confusion", "precision_recall", "roc"]

BINS = 10
MOST_POINTS = 5000


def confusion(actual: Any, predicted: Any, names: Sequence[str], *, title: str = "") -> Figure:
    """The confusion matrix: a row for each true class, coloured by its share of the row, numbered
    by examples.

    Parameters
    ----------
    actual, predicted : array of int, shape (n,)
    names : sequence of str
        Of the classes.

    Examples
    --------
    >>> vs.figures.confusion([0, 1, 1], [0, 1, 0], ["sound", "stuck"]).axes[0].get_xlabel()
    'decided'
    """
    actual, predicted = np.asarray(actual), np.asarray(predicted)
    if actual.shape != predicted.shape or actual.ndim != 1 or not len(actual):
        raise DataError(
            "confusion: actual and predicted are class numbers of one shape (n,); got "
            f"{actual.shape} and {predicted.shape}."
        )
    counts = np.zeros((len(names), len(names)), int)
    np.add.at(counts, (actual, predicted), 1)
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    share = counts / np.maximum(counts.sum(axis=1, keepdims=True), 1)
    axis.imshow(share, cmap="Purples", vmin=0, vmax=1)
    size = max(6.0, min(14.0, 160 / len(names)))
    for i in range(len(names)):
        for j in range(len(names)):
            if counts[i, j] or len(names) <= 12:
                axis.text(
                    j,
                    i,
                    f"{counts[i, j]:,}",
                    ha="center",
                    va="center",
                    fontsize=size,
                    color="white" if share[i, j] > 0.55 else INK,
                )
    axis.set_xticks(range(len(names)), names, rotation=0 if sum(map(len, names)) < 60 else 90)
    axis.set_yticks(range(len(names)), names)
    tidy(axis, x="decided", y="true")
    axis.grid(False)
    return made


def _ranked(
    actual: Any, scores: Any, names: Sequence[str] | None, what: str
) -> tuple[np.ndarray, np.ndarray, list[str]]:
    actual, scores = np.asarray(actual), np.asarray(scores, float)
    if scores.ndim == 1:
        scores = np.stack([-scores, scores], axis=1)
        names = list(names) if names is not None else ["0", "1"]
    if actual.ndim != 1 or len(actual) != len(scores) or not len(actual):
        raise DataError(
            f"{what}: class numbers (n,) and scores (n, classes) are wanted; got {actual.shape} "
            f"and {scores.shape}."
        )
    return (
        actual,
        scores,
        list(names) if names is not None else [str(i) for i in range(scores.shape[1])],
    )


def _counts(right: np.ndarray, score: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Right and wrong ones among those of highest score, at each value that the score has."""
    order = np.argsort(-score, kind="stable")
    right, score = right[order], score[order]
    ends = np.flatnonzero(np.diff(score, append=np.nan) != 0)
    return np.cumsum(right)[ends], np.cumsum(~right)[ends]


def roc(actual: Any, scores: Any, names: Sequence[str] | None = None, *, title: str = "") -> Figure:
    """True against false positives at every threshold, each class against the rest, with the area
    below.

    Parameters
    ----------
    actual : array of int, shape (n,)
    scores : array, shape (n, classes), or (n,) for two classes
        Probabilities, or anything that rises with them.
    names : sequence of str, optional

    Examples
    --------
    >>> vs.figures.roc([0, 0, 1, 1], [0.1, 0.4, 0.35, 0.8]).axes[0].get_legend_handles_labels()[
    ...     1
    ... ]
    ['1: area 0.750']
    """
    actual, scores, names = _ranked(actual, scores, names, "roc")
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    for k in (
        range(scores.shape[1] - 1 if scores.shape[1] == 2 else 0, scores.shape[1])
        if scores.shape[1] == 2
        else range(scores.shape[1])
    ):
        right, wrong = _counts(actual == k, scores[:, k])
        if not right[-1] or not wrong[-1]:
            continue
        x, y = np.r_[0, wrong / wrong[-1]], np.r_[0, right / right[-1]]
        axis.plot(
            x,
            y,
            color=COLOURS[k % len(COLOURS)],
            linewidth=2,
            label=f"{names[k]}: area {np.trapezoid(y, x):.3f}",
        )
    axis.plot([0, 1], [0, 1], color=COLOURS[5], linewidth=0.8, linestyle="--")
    axis.set_aspect("equal")
    tidy(axis, x="false positives, share of all others", y="true positives, share of the class")
    axis.legend(frameon=False, fontsize=11, loc="lower right")
    return made


def precision_recall(
    actual: Any, scores: Any, names: Sequence[str] | None = None, *, title: str = ""
) -> Figure:
    """Precision against recall at every threshold, each class against the rest, with the average
    precision.

    Parameters
    ----------
    actual : array of int, shape (n,)
    scores : array, shape (n, classes), or (n,) for two classes
    names : sequence of str, optional

    Examples
    --------
    >>> vs.figures.precision_recall([0, 0, 1, 1], [0.1, 0.4, 0.35, 0.8]).axes[
    ...     0
    ... ].get_legend_handles_labels()[1]
    ['1: average precision 0.833']
    """
    actual, scores, names = _ranked(actual, scores, names, "precision_recall")
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    for k in [1] if scores.shape[1] == 2 else range(scores.shape[1]):
        right, wrong = _counts(actual == k, scores[:, k])
        if not right[-1]:
            continue
        recall, precision = right / right[-1], right / (right + wrong)
        average = float(np.sum(np.diff(np.r_[0, recall]) * precision))
        axis.step(
            np.r_[0, recall],
            np.r_[precision[0], precision],
            where="pre",
            color=COLOURS[k % len(COLOURS)],
            linewidth=2,
            label=f"{names[k]}: average precision {average:.3f}",
        )
    axis.set_ylim(0, 1.02)
    tidy(axis, x="recall", y="precision")
    axis.legend(frameon=False, fontsize=11, loc="lower left")
    return made


def calibration(actual: Any, probabilities: Any, *, title: str = "") -> Figure:
    """How often decisions are right against how sure they were, with intervals of 95 % (Wilson's),
    and how many were so sure.

    Parameters
    ----------
    actual : array of int, shape (n,)
    probabilities : array, shape (n, classes)

    Examples
    --------
    >>> len(vs.figures.calibration([0, 1], [[0.9, 0.1], [0.2, 0.8]]).axes)
    2
    """
    actual, probabilities = np.asarray(actual), np.asarray(probabilities, float)
    if probabilities.ndim != 2 or actual.shape != probabilities.shape[:1] or not len(actual):
        raise DataError(
            f"calibration: class numbers (n,) and probabilities (n, classes); got {actual.shape} "
            f"and {probabilities.shape}."
        )
    if probabilities.min() < -1e-6 or probabilities.max() > 1 + 1e-6:
        raise DataError(
            "calibration: probabilities lie between 0 and 1; these do not. Take a softmax first."
        )
    sure, right = probabilities.max(axis=1), probabilities.argmax(axis=1) == actual
    edges = np.linspace(1 / probabilities.shape[1], 1, BINS + 1)
    place = np.clip(np.digitize(sure, edges) - 1, 0, BINS - 1)
    n = np.bincount(place, minlength=BINS)
    made, axes = figure(2, 1, title=title, sharex=True, height_ratios=[3, 1])
    axis = axes[0, 0]
    axis.plot(
        [edges[0], 1],
        [edges[0], 1],
        color=COLOURS[5],
        linewidth=0.8,
        linestyle="--",
        label="right as often as it is sure",
    )
    has = n > 0
    means = np.array(
        [[sure[place == i].mean(), right[place == i].mean()] for i in np.flatnonzero(has)]
    )
    error = float(np.sum(n[has] * np.abs(means[:, 0] - means[:, 1])) / len(actual))
    bounds = np.array(
        [
            scipy.stats.binomtest(int(right[place == i].sum()), int(n[i])).proportion_ci(
                method="wilson"
            )[:2]
            for i in np.flatnonzero(has)
        ]
    )
    spread = np.abs(bounds.T - means[:, 1])
    axis.errorbar(
        means[:, 0],
        means[:, 1],
        yerr=spread,
        color=COLOURS[0],
        marker="o",
        capsize=3,
        linewidth=1.8,
        label=f"mean distance {error:.3f}",
    )
    tidy(axis, y="share that is right")
    axis.legend(frameon=False, fontsize=11, loc="upper left")
    axes[1, 0].bar(
        (edges[:-1] + edges[1:]) / 2, n, width=np.diff(edges) * 0.9, color=COLOURS[0], alpha=0.5
    )
    tidy(axes[1, 0], x="probability of the decision", y="examples")
    return made


def against_truth(actual: Any, predicted: Any, *, name: str = "value", title: str = "") -> Figure:
    """Predicted numbers against true ones, and how the errors are spread.

    Parameters
    ----------
    actual, predicted : array, shape (n,)
    name : str
        What is predicted, with its unit.

    Examples
    --------
    >>> vs.figures.against_truth([1.0, 2.0], [1.1, 1.9], name="tonnes").axes[0].get_ylabel()
    'predicted tonnes'
    """
    actual, predicted = (
        np.asarray(actual, float).reshape(-1),
        np.asarray(predicted, float).reshape(-1),
    )
    if actual.shape != predicted.shape or not len(actual):
        raise DataError(
            f"against_truth: as many predictions as true values; got {predicted.shape} and "
            f"{actual.shape}."
        )
    made, axes = figure(1, 2, title=title, width_ratios=[3, 2])
    axis, beside = axes[0]
    kept = np.linspace(0, len(actual) - 1, min(len(actual), MOST_POINTS)).astype(int)
    axis.plot(actual[kept], predicted[kept], "o", color=COLOURS[0], markersize=4, alpha=0.4)
    ends = [min(actual.min(), predicted.min()), max(actual.max(), predicted.max())]
    axis.plot(ends, ends, color=COLOURS[5], linewidth=0.8, linestyle="--")
    tidy(axis, x=f"true {name}", y=f"predicted {name}")
    errors = predicted - actual
    beside.hist(errors, bins=min(60, max(10, len(errors) // 20)), color=COLOURS[0], alpha=0.5)
    beside.axvline(0, color=INK, linewidth=0.8)
    beside.axvline(
        errors.mean(),
        color=COLOURS[2],
        linewidth=1.8,
        label=f"mean {errors.mean():.3g}, spread {errors.std():.3g}",
    )
    beside.legend(frameon=False, fontsize=11)
    tidy(beside, x=f"error, {name}", y="examples")
    return made

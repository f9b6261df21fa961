"""Metrics: how good outputs are, in figures people read.

A metric turns each batch into additive counts, and the counts into a figure at the end, so that
batches of unequal size weigh as much as they should.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import numpy as np

from .._public_names import own_names
from ..autodiff.tensor import held
from ..errors import DataError, NotFiniteError, SettingError, ShapeError
from ..parts._registry import maker, register
from ._exact_sums import COLUMNS, as_fraction, exact_sum, exact_sum_of_squares

__all__ = [
    "Metric",
    "absolute_error",
    "accuracy",
    "character_error_rate",
    "confusion",
    "edit_distance",
    "f1",
    "kappa",
    "perplexity",
    "precision",
    "r_squared",
    "recall",
    "roc_area",
    "squared_error",
    "top",
    "word_error_rate",
]

Counts = np.ndarray
LARGEST_TARGET = 1e150  # of which the square is a number


class Metric:
    """A figure over examples.

    Parameters
    ----------
    name : str
        Column of the curves.
    count : callable
        ``count(outputs, targets)`` to a float64 array of counts, which add up over batches.
    conclude : callable
        ``conclude(counts)`` to the figure.
    better : {"higher", "lower"}
    is_fraction : bool
        Whether the counts are (k, n) and the figure k of n, as accuracy is: its interval is then
        Wilson's.
    elementwise : bool
        Whether places of sequences are counted one by one; `count` then sees only those that are
        not padding, in one row.
    classification : bool
        Whether `count` takes logits of classes and labels. Binary logits are then given to it as
        those of two classes.

    Examples
    --------
    >>> accuracy(np.array([[0.1, 0.9], [0.8, 0.2]]), np.array([1, 1]))
    0.5
    """

    def __init__(
        self,
        name: str,
        count: Callable[[Any, Any], Counts],
        conclude: Callable[[Counts], float],
        *,
        better: str,
        is_fraction: bool = False,
        elementwise: bool = False,
        classification: bool = False,
    ) -> None:
        if better not in ("higher", "lower"):
            raise SettingError(
                f'Metric {name}: better must be "higher" or "lower", got {better!r}.'
            )
        self.name = name
        self.count = count
        self.conclude = conclude
        self.better = better
        self.is_fraction = is_fraction
        self.elementwise = elementwise
        self.classification = classification

    def __deepcopy__(self, memo: dict[int, Any]) -> Metric:
        """Itself: it never changes, and is known by what it is."""
        return self

    def __call__(self, outputs: Any, targets: Any) -> float:
        return self.conclude(self.count(np.asarray(held(outputs)), np.asarray(held(targets))))

    def __repr__(self) -> str:
        return f"<metric {self.name}>"


def _ratio(counts: Counts) -> float:
    return float(counts[0] / counts[1]) if counts[1] else float("nan")


def _classified(
    name: str, outputs: np.ndarray, targets: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Outputs ``(n, n_classes)`` and labels ``(n,)``, of examples, or of all times of sequences
    whose label is not -1, as padding has.
    """
    if outputs.ndim < 2 or targets.shape != outputs.shape[:-1] or not outputs.shape[-1]:
        raise ShapeError(
            f"{name}: expected outputs of shape (n, n_classes) and labels of shape (n,), or "
            f"sequences of them, got {outputs.shape} and "
            f"{targets.shape}."
        )
    if targets.dtype.kind not in "iub":
        raise DataError(
            f"{name}: labels have to be whole numbers, got {targets.dtype}. Use labels.astype(int)."
        )
    if targets.ndim > 1 and (targets < 0).any():
        there = targets != -1
        outputs, targets = outputs[there], targets[there]
    classes, labels = outputs.shape[-1], targets.reshape(-1).astype(np.int64)
    if labels.size and (labels.min() < 0 or labels.max() >= classes):
        bad = labels[(labels < 0) | (labels >= classes)][0]
        raise DataError(
            f"{name}: label {bad} is out of range: outputs of {classes} classes allow labels 0 to "
            f"{classes - 1}."
        )
    return outputs.reshape(-1, classes), labels


def _right(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    rows, labels = _classified("accuracy", outputs, targets)
    decided = (rows.argmax(axis=1) == labels) & ~np.isnan(rows).any(axis=1)
    return np.array([np.count_nonzero(decided), labels.size], dtype=np.float64)


def _absolute(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    _same_shape("absolute_error", outputs, targets)
    return np.array([np.sum(np.abs(outputs.astype(np.float64) - targets)), targets.size])


accuracy = Metric(
    "accuracy",
    _right,
    _ratio,
    better="higher",
    is_fraction=True,
    elementwise=True,
    classification=True,
)
absolute_error = Metric("absolute_error", _absolute, _ratio, better="lower", elementwise=True)


def _squared(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    _same_shape("squared_error", outputs, targets)
    return np.array([np.sum(np.square(outputs.astype(np.float64) - targets)), targets.size])


def _same_shape(name: str, outputs: np.ndarray, targets: np.ndarray) -> None:
    if outputs.shape != targets.shape:
        raise ShapeError(
            f"{name}: outputs have shape {outputs.shape}, targets {targets.shape}. They have to "
            "agree."
        )
    for values, what in ((outputs, "outputs"), (targets, "targets")):
        if values.dtype.kind not in "fiub":
            raise DataError(f"{name}: {what} have to be real numbers, got {values.dtype}.")


def _spread(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    """Residual squares, how many, and the exact sums of targets and of their squares, since the
    squares around a mean far from 0 are a small difference of large numbers.
    """
    _same_shape("r_squared", outputs, targets)
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


squared_error = Metric("squared_error", _squared, _ratio, better="lower", elementwise=True)
r_squared = Metric("r_squared", _spread, _r_squared, better="higher", elementwise=True)


@maker("top", "metric")
def top(k: int) -> Metric:
    """Share of examples whose class is among the `k` with the highest outputs; of equal outputs the
    first class counts as the higher, as in accuracy, and NaN decides nothing.

    Examples
    --------
    >>> top(2)(np.array([[0.1, 0.9, 0.5], [0.8, 0.2, 0.1]]), np.array([2, 2]))
    0.5
    """

    if isinstance(k, bool) or not isinstance(k, int | np.integer) or k < 1:
        raise SettingError(f"top: k must be a whole number of at least 1, got {k!r}.")
    return Metric(
        f"top_{k}",
        partial(_among_highest, k=int(k)),
        _ratio,
        better="higher",
        is_fraction=True,
        classification=True,
    )


def _among_highest(outputs: np.ndarray, targets: np.ndarray, *, k: int) -> Counts:
    rows, labels = _classified(f"top({k})", outputs, targets)
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
    rows, labels = _classified("confusion", outputs, targets)
    k = rows.shape[1]
    pairs = labels * k + rows.argmax(axis=1)
    counts = np.bincount(pairs, minlength=k * k).reshape(k, k).astype(np.float64)
    return np.full_like(counts, np.nan) if np.isnan(rows).any() else counts


def confusion(outputs: Any, targets: Any) -> np.ndarray:
    """Confusion matrix, shape (n_classes, n_classes): true classes in rows, decided ones in
    columns. Adds up over batches.

    Examples
    --------
    >>> confusion(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1]))
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


def _f1s(matrix: Counts) -> Any:
    return _divided(2 * np.diag(matrix), matrix.sum(axis=0) + matrix.sum(axis=1))


def _by_class(name: str, figures: Callable[[Counts], Any], over: str | int) -> Metric:
    if over not in ("macro", "micro") and (isinstance(over, bool) or not isinstance(over, int)):
        raise SettingError(
            f'{name}: over must be "macro", "micro" or the number of a class, got {over!r}.'
        )
    return Metric(
        f"{name}_{over}",
        _confusion,
        partial(_over_classes, name=name, figures=figures, over=over),
        better="higher",
        elementwise=True,
        classification=True,
    )


def _over_classes(
    matrix: Counts, *, name: str, figures: Callable[[Counts], Any], over: str | int
) -> float:
    if over == "macro":
        return float(np.mean(figures(matrix)))
    if over == "micro":
        return float(np.trace(matrix) / max(matrix.sum(), 1))
    if not 0 <= int(over) < len(matrix):
        raise SettingError(f"{name}({over}): there are classes 0 to {len(matrix) - 1}.")
    return float(figures(matrix)[over])


@maker("precision", "metric")
def precision(over: str | int = "macro") -> Metric:
    """Of those decided to be of a class, the share that is: the mean over classes ("macro"), over
    examples ("micro"), or one class.

    A class never decided counts as 0.

    Examples
    --------
    >>> precision(1)(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1]))
    0.5
    """
    return _by_class("precision", _precisions, over)


@maker("recall", "metric")
def recall(over: str | int = "macro") -> Metric:
    """Of those of a class, the share that was found; see `precision`.

    Examples
    --------
    >>> recall(1)(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1]))
    1.0
    """
    return _by_class("recall", _recalls, over)


@maker("f1", "metric")
def f1(over: str | int = "macro") -> Metric:
    """Harmonic mean of precision and recall; see `precision`.

    Examples
    --------
    >>> round(f1(1)(np.eye(2)[[0, 1, 1]], np.array([0, 0, 1])), 4)
    0.6667
    """
    return _by_class("f1", _f1s, over)


def _kappa(matrix: Counts) -> float:
    n = matrix.sum()
    if not n:
        return float("nan")
    agreed, expected = np.trace(matrix) / n, float(matrix.sum(axis=0) @ matrix.sum(axis=1)) / n**2
    return float((agreed - expected) / (1 - expected)) if expected < 1 else float("nan")


kappa = Metric("kappa", _confusion, _kappa, better="higher", elementwise=True, classification=True)
"""Agreement beyond chance; J. Cohen, Educ. Psychol. Meas. 20(1), 37-46, 1960."""


def _per_token(outputs: np.ndarray, targets: np.ndarray) -> Counts:
    rows, labels = _classified("perplexity", outputs, targets)
    flat = rows.astype(np.float64)
    top_ = flat.max(axis=1)
    logs = np.log(np.exp(flat - top_[:, None]).sum(axis=1)) + top_
    return np.array([np.sum(logs - flat[np.arange(len(labels)), labels]), len(labels)])


def _exponential(counts: Counts) -> float:
    with np.errstate(over="ignore"):
        return float(np.exp(_ratio(counts)))


perplexity = Metric("perplexity", _per_token, _exponential, better="lower", elementwise=True)
"""Exponential of the mean cross-entropy a token."""


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
    >>> roc_area([0.1, 0.4, 0.35, 0.8], [0, 0, 1, 1])
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


def edit_distance(found: Sequence[Any], true: Sequence[Any]) -> int:
    """Fewest insertions, deletions and replacements that make one sequence of the other.

    R. A. Wagner and M. J. Fischer, J. ACM 21(1), 168-173, 1974.

    Examples
    --------
    >>> edit_distance("merlot", "malbec")
    5
    """
    from rapidfuzz.distance import Levenshtein

    return Levenshtein.distance(found, true)


def character_error_rate(found: Sequence[str], true: Sequence[str]) -> float:
    """Edits a character of the true texts, all texts together.

    Examples
    --------
    >>> round(character_error_rate(["merlo", "1998"], ["merlot", "1998"]), 2)
    0.1
    """
    return _error_rate(found, true)


def word_error_rate(found: Sequence[str], true: Sequence[str]) -> float:
    """Edits a word of the true texts, all texts together.

    Examples
    --------
    >>> word_error_rate(["a dry white"], ["a dry red wine"])
    0.5
    """
    return _error_rate([text.split() for text in found], [text.split() for text in true])


def _error_rate(found: Sequence[Any], true: Sequence[Any]) -> float:
    if len(found) != len(true):
        raise ShapeError(f"error rate: {len(found)} texts found for {len(true)} true ones.")
    length = sum(len(text) for text in true)
    edits = sum(edit_distance(a, b) for a, b in zip(found, true, strict=True))
    return edits / length if length else float("nan")


for _metric in (accuracy, absolute_error, squared_error, r_squared, kappa, perplexity):
    register(_metric.name, _metric, "metric", form="object")

__getattr__, __dir__ = own_names(__name__, __all__)

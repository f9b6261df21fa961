"""Whether inputs tell of targets: a quick model on examples that are left out, held against the
same with permuted targets.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
import scipy

from ...data.batches._batch import Batch, arrays_of

__all__ = [
    "MOST_COLUMNS",
    "PermutationTest",
    "correlation_across",
    "correlations_across",
    "features_of",
    "nearest_others",
    "permutation_test",
    "subsample",
    "targets_in_columns",
]

PERMUTATIONS = 199
MOST_EXAMPLES = 800
MOST_FEATURES = 256
MOST_COLUMNS = 40  # of targets
MOST_TOKENS = 4000
NEIGHBOURS = 5
LEAST = 20  # examples


class PermutationTest(NamedTuple):
    """How well left-out targets are told by a quick model.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(100, 2))
    >>> found = permutation_test(x, x[:, :1])
    >>> bool(found.p < 0.01), found.correlation > 0.9
    (True, True)
    """

    p: float
    """How likely as much would be told if targets were dealt out at random."""
    correlation: float
    """Of left-out answers and targets, of the best of the models."""
    by_chance: float
    """The same with permuted targets, 99 % of the time at most."""
    examples: int


def permutation_test(x: np.ndarray, y: np.ndarray) -> PermutationTest:
    """Linear and Gaussian kernels and nearest neighbours, each example answered by the others; the
    best of them is compared with the best of them on permuted targets, so that the choice among
    them costs nothing.

    Parameters
    ----------
    x : ndarray, shape (n, d)
    y : ndarray, shape (n, k)
    """
    n = len(x)
    y = y - y.mean(axis=0)
    y = y / np.where(y.std(axis=0) > 0, y.std(axis=0), 1)
    rng = np.random.default_rng(0)
    orders = np.array([rng.permutation(n) for _ in range(PERMUTATIONS)])
    dealt = y[orders].transpose(1, 0, 2).reshape(n, -1)
    k = y.shape[1]
    scores, references = [], []
    for smoother in _smoothers(x):
        scores.append(_score(smoother @ y, y))
        told = (smoother @ dealt).reshape(n, PERMUTATIONS, k)
        given = dealt.reshape(n, PERMUTATIONS, k)
        references.append(
            np.sum(told * given, axis=(0, 2))
            / np.sqrt(np.sum(told**2, axis=(0, 2)) * np.sum(given**2, axis=(0, 2)) + 1e-300)
        )
    table = np.array(references)
    middle, spread = table.mean(axis=1), table.std(axis=1) + 1e-12
    best = np.max((np.array(scores) - middle) / spread)
    by_chance = np.max((table - middle[:, None]) / spread[:, None], axis=0)
    p = (1 + int(np.sum(by_chance >= best))) / (1 + PERMUTATIONS)
    return PermutationTest(p, max(scores), float(np.quantile(table.max(axis=0), 0.99)), n)


def _score(told: np.ndarray, true: np.ndarray) -> float:
    size = math.sqrt(float(np.sum(told**2)) * float(np.sum(true**2)))
    return float(np.sum(told * true)) / size if size > 0 else 0.0


def _smoothers(x: np.ndarray) -> list[np.ndarray]:
    """Matrices that make of all targets an answer to each example by the others."""
    n, d = x.shape
    squares = scipy.spatial.distance.cdist(x, x, "sqeuclidean")
    width = _width(squares)
    found = []
    for kernel, ridge in (
        (x @ x.T / d, 1.0),
        (np.exp(-squares / width), 0.3),
        (np.exp(-4 * squares / width), 0.3),
    ):
        found.append(_leave_one_out(kernel, kernel + ridge * np.eye(n)))
    nearest = nearest_others(squares, NEIGHBOURS)
    votes = np.zeros((n, n))
    votes[np.arange(n)[:, None], nearest] = 1 / NEIGHBOURS
    return [*found, votes]


def nearest_others(squares: np.ndarray, count: int) -> np.ndarray:
    """Of each example the places of so many others that are nearest, by squared distances, of
    which the diagonal is overwritten.
    """
    np.fill_diagonal(squares, np.inf)
    return np.asarray(np.argpartition(squares, count, axis=1)[:, :count])


def _leave_one_out(kernel: np.ndarray, regular: np.ndarray) -> np.ndarray:
    """The matrix of ridge regression that answers each example by the others."""
    hat = np.linalg.solve(regular, kernel).T
    own = np.diag(hat).copy()
    np.fill_diagonal(hat, 0.0)
    return np.asarray(hat / np.maximum(1 - own, 1e-6)[:, None])


def _width(squares: np.ndarray) -> float:
    """Of a Gaussian kernel: the median squared distance."""
    return float(np.median(squares[~np.eye(len(squares), dtype=bool)])) or 1.0


def correlations_across(
    x: np.ndarray, y: np.ndarray, other_x: np.ndarray, other_y: np.ndarray
) -> tuple[float, float]:
    """Correlations of predictions and targets: on left-out examples of one part, and on another
    one. Predictions are those of ridge regression with a linear and a Gaussian kernel.
    """
    kernel, regular, _ = _kernel_of(x)
    y_centred = y - y.mean(axis=0)
    here = _score(_leave_one_out(kernel, regular) @ y_centred, y_centred)
    return here, correlation_across(x, y, other_x, other_y)


def correlation_across(
    x: np.ndarray, y: np.ndarray, other_x: np.ndarray, other_y: np.ndarray
) -> float:
    """The second of `correlations_across`."""
    middle = y.mean(axis=0)
    _, regular, width = _kernel_of(x)
    across = (
        np.exp(-scipy.spatial.distance.cdist(other_x, x, "sqeuclidean") / width)
        + other_x @ x.T / x.shape[1]
    )
    weights = scipy.linalg.solve(regular, y - middle, assume_a="pos", check_finite=False)
    return _score(across @ weights, other_y - middle)


def _kernel_of(x: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """A linear and a Gaussian kernel, the same regularised, and the width of the Gaussian."""
    squares = scipy.spatial.distance.cdist(x, x, "sqeuclidean")
    width = _width(squares)
    kernel = np.exp(-squares / width) + x @ x.T / x.shape[1]
    return kernel, kernel + 0.5 * np.eye(len(x)), width


def features_of(batch: Batch, other: Batch | None = None) -> list[np.ndarray] | None:
    """Examples as rows of features of one scale, of a part and another one: numbers as they are,
    the main directions of many, counts of tokens.
    """
    parts = [batch, *([other] if other is not None else [])]
    columns: list[list[np.ndarray]] = [[] for _ in parts]
    for arrays in zip(*(arrays_of(part.inputs) for part in parts), strict=True):
        given = [np.asarray(array) for array in arrays]
        if given[0].ndim == 2 and given[0].dtype.kind in "iu":
            made = _token_counts(given)
        elif given[0].dtype.kind in "fu" and given[0].ndim > 1:
            if any(array.shape[1:] != given[0].shape[1:] for array in given):
                return None
            made = [array.reshape(len(array), -1).astype(np.float64) for array in given]
        else:
            return None
        for column, array in zip(columns, made, strict=True):
            column.append(array)
    if not columns[0]:
        return None
    whole = [np.concatenate(column, axis=1) for column in columns]
    if any(not np.isfinite(array).all() for array in whole):
        return None
    first = whole[0]
    middle, spread = first.mean(axis=0), first.std(axis=0)
    used = spread > 1e-6 * max(float(spread.max(initial=0)), 1e-30)
    if not used.any():
        return None
    whole = [(array[:, used] - middle[used]) / spread[used] for array in whole]
    if whole[0].shape[1] > MOST_FEATURES:
        _, _, v = np.linalg.svd(whole[0][:MOST_EXAMPLES], full_matrices=False)
        whole = [array @ v[:64].T for array in whole]
        size = whole[0].std(axis=0).max()
        whole = [array / (size or 1.0) for array in whole]
    return [np.clip(array, -8, 8) for array in whole]


def _token_counts(given: list[np.ndarray]) -> list[np.ndarray]:
    """How often each of the more frequent tokens occurs."""
    most = int(max(array.max(initial=0) for array in given))
    width = min(most + 1, MOST_TOKENS)
    made = []
    for array in given:
        counts = np.zeros((len(array), width))
        for row, tokens in zip(counts, array, strict=True):
            np.add.at(row, tokens[(tokens >= 0) & (tokens < width)], 1.0)
        made.append(np.log1p(counts))
    frequent = np.argsort(-made[0].sum(axis=0), kind="stable")[:MOST_FEATURES]
    return [array[:, frequent] for array in made]


def targets_in_columns(targets: Any) -> tuple[np.ndarray, np.ndarray] | None:
    """Targets as columns of numbers, and which examples have them; None where each example has many
    places.
    """
    array = np.asarray(targets)
    if array.dtype.kind in "iub" and array.ndim == 1:
        known = array >= 0
        values = np.unique(array[known])
        if not 1 < len(values) <= MOST_COLUMNS:
            return None
        return (array[:, None] == values).astype(np.float64), np.asarray(known)
    if array.dtype.kind in "iuf" and (array.ndim == 1 or array[0].size <= MOST_COLUMNS):
        flat = array.reshape(len(array), -1).astype(np.float64)
        if array.ndim > 2:
            return None
        return flat, np.asarray(np.isfinite(flat).all(axis=1))
    return None


def subsample(n: int, most: int = MOST_EXAMPLES) -> np.ndarray:
    """Some of so many, the same each time."""
    if n <= most:
        return np.arange(n)
    return np.sort(np.random.default_rng(0).choice(n, most, replace=False))

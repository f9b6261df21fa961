"""How a network sees its examples: maps of what layers put out, and which examples are near."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import scipy

from .._arguments import checked_seed
from .._model import Model
from ..autodiff.tensor import Tensor, held
from ..errors import DataError, SettingError
from ..layers._base import Layer
from ..optimisers._sgd import SGD
from ..training.step._descent import Descent
from ._saliency import _network, placed

__all__ = ["Neighbours", "nearest_examples", "principal_components", "stochastic_neighbours"]

MOST_POINTS = 5000
EXAGGERATED, EXAGGERATION = 250, 12.0  # steps in which attraction is so many times as strong
SEARCHES = 64  # halvings for the width of a neighbourhood
TINY = 1e-12


def _rows(values: Any) -> np.ndarray:
    array = np.asarray(held(values), np.float64)
    if array.ndim < 2 or len(array) < 2 or not np.isfinite(array).all():
        raise DataError(
            f"Examples are rows of finite numbers, at least two; got shape {array.shape}."
        )
    return array.reshape(len(array), -1)


def principal_components(values: Any, count: int = 2) -> tuple[np.ndarray, np.ndarray]:
    """Where examples lie along the directions in which they differ most.

    K. Pearson, Phil. Mag. 2, 559-572, 1901; by the singular value decomposition.

    Parameters
    ----------
    values : array_like, shape (n, ...)
        Such as what a layer puts out, ``network.outputs_of(path, inputs)``.
    count : int

    Returns
    -------
    points : ndarray, shape (n, count)
    shares : ndarray, shape (count,)
        Of the variance.

    Examples
    --------
    >>> points, shares = vs.attribution.principal_components([[0.0, 0.0], [2.0, 2.0]], 1)
    >>> np.abs(points).round(4).ravel().tolist(), shares.tolist()
    ([1.4142, 1.4142], [1.0])
    """
    rows = _rows(values)
    if not 1 <= count <= min(rows.shape):
        raise SettingError(
            f"principal_components: count lies from 1 to {min(rows.shape)}, got {count!r}."
        )
    u, s, v = np.linalg.svd(rows - rows.mean(axis=0), full_matrices=False)
    signs = np.sign(v[np.arange(len(v)), np.abs(v).argmax(axis=1)])
    points = (u * (s * signs))[:, :count]
    whole = float(np.sum(s**2))
    return points, s[:count] ** 2 / (whole or 1.0)


def stochastic_neighbours(
    values: Any, *, perplexity: float = 30.0, steps: int = 500, seed: int = 0
) -> np.ndarray:
    """A map in two dimensions on which near examples stay near.

    L. van der Maaten and G. Hinton, JMLR 9, 2579-2605, 2008, by gradient descent with momentum.
    Distances between groups mean little.

    Parameters
    ----------
    values : array_like, shape (n, ...)
        At most 5,000 examples.
    perplexity : float
        How many neighbours each example has, about; less than a third of the examples.
    steps : int
    seed : int

    Returns
    -------
    points : ndarray, shape (n, 2)

    Examples
    --------
    >>> x = np.concatenate([np.zeros((10, 3)), np.ones((10, 3)) * 9])
    >>> x += np.random.default_rng(0).normal(size=x.shape)
    >>> points = vs.attribution.stochastic_neighbours(x, perplexity=5, steps=300)
    >>> points.shape
    (20, 2)
    """
    rows = _rows(values)
    n = len(rows)
    if n > MOST_POINTS:
        raise DataError(f"stochastic_neighbours: {n} examples; take {MOST_POINTS} of them.")
    if not 1 < perplexity < n / 3:
        raise SettingError(
            f"stochastic_neighbours: perplexity lies from 1 to a third of the {n} examples, got "
            f"{perplexity!r}."
        )
    rng = np.random.default_rng(checked_seed(seed, "stochastic_neighbours"))
    near = _neighbourhoods(rows, perplexity)
    near = np.maximum((near + near.T) / (2 * n), TINY)
    first = principal_components(rows, 2)[0] if min(rows.shape) >= 2 else rng.normal(size=(n, 2))
    points = Tensor(1e-4 * first / (first.std() or 1.0) + 1e-6 * rng.normal(size=(n, 2)))
    rate = max(n / EXAGGERATION / 4, 50.0)
    descent = Descent(points, optimiser=SGD(rate, momentum=0.5))
    others = ~np.eye(n, dtype=bool)
    for step in range(steps):
        strength = EXAGGERATION if step < min(EXAGGERATED, steps // 2) else 1.0
        if step == min(EXAGGERATED, steps // 2):
            descent.optimiser.momentum = 0.8  # type: ignore[attr-defined]
        descent.step(lambda p=near * strength: _divergence(points, p, others))  # type: ignore[misc]
    result = np.array(held(points))
    return np.asarray(result - result.mean(axis=0))


def _divergence(points: Tensor, near: np.ndarray, others: np.ndarray) -> Any:
    """Kullback and Leibler's, but for what does not depend on the points."""
    squares = np.sum(np.square(points), axis=1)
    apart = squares[:, None] + squares[None] - 2.0 * (points @ np.swapaxes(points, 0, 1))
    log_close = -np.log1p(np.maximum(apart, 0.0))
    whole = np.sum(np.exp(log_close) * others)
    return -np.sum(log_close * near * others) + np.log(whole) * float(near[others].sum())


def _neighbourhoods(rows: np.ndarray, perplexity: float) -> np.ndarray:
    """How likely each example is to pick each other one, by widths that give the perplexity."""
    squares = np.sum(rows**2, axis=1)
    apart = np.maximum(squares[:, None] + squares[None] - 2 * rows @ rows.T, 0.0)
    np.fill_diagonal(apart, np.inf)
    low, high = np.zeros(len(rows)), np.full(len(rows), np.inf)
    precision = np.full(len(rows), 1 / max(float(np.median(apart[np.isfinite(apart)])), TINY))
    nearest = apart.min(axis=1)
    for _ in range(SEARCHES):
        weights = np.exp(-(apart - nearest[:, None]) * precision[:, None])
        chances = weights / weights.sum(axis=1, keepdims=True)
        with np.errstate(divide="ignore", invalid="ignore"):
            entropy = -np.nansum(np.where(chances > 0, chances * np.log(chances), 0.0), axis=1)
        wide = entropy > np.log(perplexity)
        low, high = np.where(wide, precision, low), np.where(wide, high, precision)
        precision = np.where(np.isinf(high), precision * 2, (low + high) / 2)
    return np.asarray(chances)


class Neighbours(NamedTuple):
    """The examples that a network sees nearest to others.

    Examples
    --------
    >>> network = vs.Dense(2).initialise(np.ones((1, 2)))
    >>> x = np.eye(2, dtype=np.float32)
    >>> vs.attribution.nearest_examples(network, x, x, count=1).rows.tolist()
    [[0], [1]]
    """

    rows: np.ndarray
    """Numbers of the known examples, the nearest first, shape (n, count)."""
    distance: np.ndarray


def nearest_examples(
    model: Model | Layer, known: Any, inputs: Any, *, path: str = "", count: int = 5
) -> Neighbours:
    """Which of the examples trained on are nearest to others, by what a layer puts out for them.

    Parameters
    ----------
    model : Model or Layer
    known, inputs : array_like
        As the network takes them: those trained on, and those that were decided.
    path : str
        Of the layer; by default the network's outputs.
    count : int

    Returns
    -------
    found : Neighbours

    Examples
    --------
    >>> network = vs.Dense(1, initialiser=vs.initialisers.ones).initialise(np.ones((1, 1)))
    >>> train = np.array([[0.0], [1.0], [5.0]], np.float32)
    >>> vs.attribution.nearest_examples(network, train, train[:1], count=2).rows.tolist()
    [[0, 1]]
    """
    network = _network(model)
    seen = [
        _rows_of(network.outputs_of(path, *(np.asarray(held(a)) for a in placed(network, x))))
        for x in (known, inputs)
    ]
    if not 1 <= count <= len(seen[0]):
        raise SettingError(f"nearest_examples: count lies from 1 to {len(seen[0])}, got {count!r}.")
    return nearest_rows(seen[0], seen[1], count)


def nearest_rows(known: np.ndarray, rows: np.ndarray, count: int) -> Neighbours:
    """The nearest of the known rows of numbers to others, at most all of them."""
    distance, index = scipy.spatial.cKDTree(known).query(
        rows, k=range(1, min(count, len(known)) + 1)
    )
    return Neighbours(np.asarray(index), np.asarray(distance))


def _rows_of(values: Any) -> np.ndarray:
    if isinstance(values, dict):
        values = np.concatenate([v.reshape(len(v), -1) for v in values.values()], axis=1)
    array = np.asarray(values, np.float64)
    return array.reshape(len(array), -1)

"""Scores of what a network makes: held against examples that it was not trained on."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Literal, NamedTuple

import numpy as np
import scipy

from .._arguments import checked_seed
from .._findings import Finding
from ..autodiff.tensor import held
from ..data.batches._batch import first_of
from ..errors import DataError, SettingError

__all__ = [
    "SampleScores",
    "TwoSampleTest",
    "coverage",
    "data_copying",
    "energy_distance",
    "frechet_distance",
    "maximum_mean_discrepancy",
    "nearest_neighbours",
    "precision_and_recall",
    "sample_finding",
    "sample_trouble",
    "two_sample_test",
]

NEIGHBOURS = 5
MOST_DIRECTIONS = 32
PERMUTATIONS = 199
MOST = 512  # examples of each kind, which are held against one another


def _in_rows(values: Any) -> np.ndarray:
    array = np.asarray(held(values), np.float64)
    if array.ndim < 2 or not len(array):
        raise DataError(
            f"Samples are compared by their first axis, the examples; got shape {array.shape}."
        )
    return array.reshape(len(array), -1)


def frechet_distance(first: Any, second: Any) -> float:
    """Distance of two samples of features, as if both were normal: ``|m1 - m2|**2 + trace(C1 + C2 -
    2 (C1 C2)**(1/2))``.

    M. Heusel et al., NIPS 2017, equation 6.

    Parameters
    ----------
    first, second : array, shape (n, d) and (m, d)

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(200, 2))
    >>> round(vs.generation.frechet_distance(x, x + 3), 6)
    18.0
    """
    a, b = _in_rows(first), _in_rows(second)
    _check_width(a, b)
    middle = a.mean(axis=0) - b.mean(axis=0)
    c, d = (np.atleast_2d(np.cov(x, rowvar=False)) for x in (a, b))
    values, vectors = np.linalg.eigh(c)
    root = (vectors * np.sqrt(np.maximum(values, 0))) @ vectors.T
    # the trace of the root of the product is that of this symmetric one
    inner = np.sqrt(np.maximum(np.linalg.eigvalsh(root @ d @ root), 0)).sum()
    return float(middle @ middle + np.trace(c) + np.trace(d) - 2 * inner)


def _check_width(a: np.ndarray, b: np.ndarray) -> None:
    if a.shape[1] != b.shape[1]:
        raise DataError(f"Samples of {a.shape[1]} and of {b.shape[1]} values cannot be compared.")
    if min(len(a), len(b)) < 2:
        raise DataError("Two examples of each kind are needed at least.")


def _distances(a: np.ndarray, b: np.ndarray, metric: str = "euclidean") -> np.ndarray:
    return np.asarray(scipy.spatial.distance.cdist(a, b, metric))


def energy_distance(first: Any, second: Any) -> float:
    """``2 E|x - y| - E|x - x'| - E|y - y'|``, which is 0 if and only if both are distributed alike.

    G. J. Szekely and M. L. Rizzo, Journal of Statistical Planning and Inference 143, 2013, equation
    5, without the pairs of an example with itself, so that it is 0 on average if they are.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(200, 2))
    >>> vs.generation.energy_distance(x[:100], x[100:] + 2) > 1
    True
    """
    a, b = _in_rows(first), _in_rows(second)
    _check_width(a, b)
    return float(
        2 * _distances(a, b).mean() - _within(_distances(a, a)) - _within(_distances(b, b))
    )


def _within(distances: np.ndarray) -> float:
    n = len(distances)
    return float(distances.sum() / (n * (n - 1)))


def maximum_mean_discrepancy(first: Any, second: Any, *, width: float | None = None) -> float:
    """Squared maximum mean discrepancy with a Gaussian kernel, without bias.

    A. Gretton et al., JMLR 13, 723-773, 2012, equation 3.

    Parameters
    ----------
    width : float, optional
        Of the kernel; by default the median distance.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(200, 2))
    >>> abs(vs.generation.maximum_mean_discrepancy(x[:100], x[100:])) < 0.02
    True
    """
    a, b = _in_rows(first), _in_rows(second)
    _check_width(a, b)
    kernel = _kernel(np.concatenate([a, b]), width)
    return _discrepancy(kernel, len(a))


def _kernel(both: np.ndarray, width: float | None) -> np.ndarray:
    squares = _distances(both, both, "sqeuclidean")
    if width is None:
        width = float(np.sqrt(np.median(squares[np.triu_indices(len(both), 1)]))) or 1.0
    return np.asarray(np.exp(-squares / (2 * width**2)))


def _discrepancy(kernel: np.ndarray, n: int) -> float:
    return float(
        _within(kernel[:n, :n] - np.eye(n))
        + _within(kernel[n:, n:] - np.eye(len(kernel) - n))
        - 2 * kernel[:n, n:].mean()
    )


class TwoSampleTest(NamedTuple):
    """Whether two samples come from one distribution.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(60, 2))
    >>> vs.generation.two_sample_test(x[:30], x[30:] + 3).p
    0.005
    """

    p: float
    """How likely as large a discrepancy would be if they did."""
    discrepancy: float


def two_sample_test(first: Any, second: Any, *, seed: int = 0) -> TwoSampleTest:
    """A permutation test with the maximum mean discrepancy (A. Gretton et al., JMLR 13, 2012).

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(60, 2))
    >>> vs.generation.two_sample_test(x[:30], x[30:]).p > 0.01
    True
    """
    a, b = _in_rows(first), _in_rows(second)
    _check_width(a, b)
    kernel, n = _kernel(np.concatenate([a, b]), None), len(a)
    found = _discrepancy(kernel, n)
    rng = np.random.default_rng(checked_seed(seed, "two_sample_test"))
    beyond = 0
    for _ in range(PERMUTATIONS):
        order = rng.permutation(len(kernel))
        beyond += _discrepancy(kernel[np.ix_(order, order)], n) >= found
    return TwoSampleTest((1 + beyond) / (1 + PERMUTATIONS), found)


def _radii(x: np.ndarray, neighbours: int) -> np.ndarray:
    """Of each example the distance of its so many-th neighbour."""
    if len(x) <= neighbours:
        raise DataError(f"{neighbours} neighbours want more than {len(x)} examples.")
    return np.asarray(np.partition(_distances(x, x), neighbours, axis=1)[:, neighbours])


def precision_and_recall(real: Any, made: Any, *, neighbours: int = 3) -> tuple[float, float]:
    """How much of what is made lies among real examples, and how much of what is real lies among
    those made.

    T. Kynkaanniemi et al., NeurIPS 2019, equations 1 and 2.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(200, 2))
    >>> vs.generation.precision_and_recall(x[:100], x[100:] + 50)
    (0.0, 0.0)
    """
    a, b = _in_rows(real), _in_rows(made)
    _check_width(a, b)
    between = _distances(a, b)
    precise = (between <= _radii(a, neighbours)[:, None]).any(axis=0).mean()
    recalled = (between <= _radii(b, neighbours)[None, :]).any(axis=1).mean()
    return float(precise), float(recalled)


def coverage(real: Any, made: Any, *, neighbours: int = NEIGHBOURS) -> float:
    """Share of real examples near which something is made: within the distance of their so many-th
    real neighbour.

    M. F. Naeem et al., ICML 2020, equation 9.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(200, 2))
    >>> vs.generation.coverage(x[:100], x[100:]) > 0.9, vs.generation.coverage(x, x[:1] + 50)
    (True, 0.0)
    """
    a, b = _in_rows(real), _in_rows(made)
    return float((_distances(a, b).min(axis=1) <= _radii(a, neighbours)).mean())


def data_copying(train: Any, real: Any, made: Any) -> float:
    """Whether what is made lies nearer to examples of the training than real examples do that were
    not trained on: a normal deviate of the rank test, far below 0 if it does.

    C. Meehan, K. Chaudhuri and S. Dasgupta, AISTATS 2020, section 4, with one cell.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(300, 2))
    >>> vs.generation.data_copying(x[:100], x[100:200], x[:100] + 1e-3) < -5
    True
    """
    rows, a, b = _in_rows(train), _in_rows(real), _in_rows(made)
    theirs = _distances(a, rows).min(axis=1)
    ours = _distances(b, rows).min(axis=1)
    n, m = len(ours), len(theirs)
    ranks = scipy.stats.rankdata(np.concatenate([ours, theirs]))
    u = ranks[:n].sum() - n * (n + 1) / 2
    return float((u - n * m / 2) / np.sqrt(n * m * (n + m + 1) / 12))


def nearest_neighbours(train: Any, made: Any) -> tuple[np.ndarray, np.ndarray]:
    """Of each made example the place and the distance of the nearest one in the training.

    Examples
    --------
    >>> places, distances = vs.generation.nearest_neighbours(np.eye(3), np.eye(3)[1:] * 2)
    >>> places.tolist(), distances.tolist()
    ([1, 2], [1.0, 1.0])
    """
    distances = _distances(_in_rows(made), _in_rows(train))
    places = distances.argmin(axis=1)
    return places, distances[np.arange(len(places)), places]


class SampleScores:
    """What a network makes, held against examples that it was not trained on; called with the
    network, it gives scores by name. As a validation part of a run it scores every epoch:
    ``validation={"made": SampleScores(...)}``.

    ``distance`` is the `energy_distance` of features; beside it are ``precision``, ``recall``,
    ``coverage``, and with training examples ``data_copying`` and ``real_coverage``: the coverage
    that as many of these have as are precise among the samples.

    Parameters
    ----------
    real : Source, Batches or array
        Of a validation part.
    train : Source, Batches or array, optional
    count : int
        How many are made.
    features : callable, optional
        From examples to rows of features, such as those of a trained classifier:
        ``lambda x: model.network.outputs_of("0", x)``. By default the main directions of the
        examples, and how far they lie beside these. With it, ``feature_distance`` is the
        `frechet_distance`.
    labels : sequence of int, optional
        Classes to be asked for, over and over.
    seed : int
    **settings
        For `sample`.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(300, 2)).astype(np.float32)
    >>> network = vs.generation.Diffusion(vs.layers.ConditionedDense(2, width=8, depth=1))
    >>> scores = vs.generation.SampleScores(x[:100], x[100:], count=50, steps=3)
    >>> sorted(scores(network.initialise(x)))
    ['coverage', 'data_copying', 'distance', 'precision', 'real_coverage', 'recall']
    """

    def __init__(
        self,
        real: Any,
        train: Any = None,
        *,
        count: int = 256,
        features: Callable[[Any], Any] | None = None,
        labels: Any = None,
        seed: int = 0,
        **settings: Any,
    ) -> None:
        if count <= NEIGHBOURS:
            raise SettingError(f"SampleScores: count must be above {NEIGHBOURS}, got {count}.")
        self.count, self.features, self.seed = count, features, seed
        self.labels, self.settings = labels, settings
        self._real = examples_of(real)
        self._train = None if train is None else examples_of(train)
        self._directions: tuple[np.ndarray, np.ndarray, float] | None = None
        if features is None:
            basis = self._real if self._train is None else self._train
            self._directions = _main_directions(_in_rows(basis))

    @property
    def size(self) -> int:
        """How many real examples are held against those made."""
        return len(self._real)

    def __call__(self, network: Any, *, seed: int | None = None) -> dict[str, float]:
        labels = None if self.labels is None else np.resize(np.asarray(self.labels), self.count)
        own = self.seed if seed is None else seed
        made = network.sample(self.count, seed=own, labels=labels, **self.settings)
        return self.of(made)

    def of(self, made: Any) -> dict[str, float]:
        """Scores of examples that were made."""
        real, ours = self._of_features(self._real), self._of_features(np.asarray(made))
        if not np.isfinite(ours).all():
            raise DataError("SampleScores: what was made holds NaN or infinite values.")
        precise, recalled = precision_and_recall(real, ours)
        result = {
            "distance": energy_distance(real, ours),
            "precision": precise,
            "recall": recalled,
            "coverage": coverage(real, ours),
        }
        if self._directions is not None and real.shape[1] > len(self._directions[1]):
            result["directions"] = float(len(self._directions[1]))
        if self.features is not None:
            result["feature_distance"] = frechet_distance(real, ours)
        if self._train is not None:
            rows = self._of_features(self._train)
            result["data_copying"] = data_copying(rows, real, ours)
            precise = max(1, round(result["precision"] * len(ours)))
            result["real_coverage"] = coverage(real, rows[np.arange(precise) % len(rows)])
        return result

    def _of_features(self, x: np.ndarray) -> np.ndarray:
        if self.features is not None:
            return _in_rows(self.features(x))
        assert self._directions is not None
        middle, directions, size = self._directions
        centred = _in_rows(x) - middle
        along = centred @ directions.T
        if len(directions) == centred.shape[1]:
            return np.asarray(along / size)
        # noise lies beside the directions of the examples, and near their middle along them
        beside = np.sqrt(np.maximum(np.sum(centred**2, axis=1) - np.sum(along**2, axis=1), 0))
        return np.column_stack([along, beside]) / size


def examples_of(source: Any, most: int = MOST) -> np.ndarray:
    """Inputs of some examples of a source, from begin to end."""
    if not hasattr(source, "dataset") and hasattr(source, "batches"):
        source = source.batches(most)
    if hasattr(source, "dataset"):
        examples = source.dataset
        if not hasattr(examples, "gathered"):  # a stream
            return np.asarray(first_of(next(iter(source.in_order())).inputs))[:most]
        n = len(examples)
        index = np.unique(np.linspace(0, n - 1, min(n, most)).astype(int))
        return np.asarray(first_of(examples.gathered(index, source.join).inputs))
    array = np.asarray(held(source))
    if len(array) > most:
        array = array[np.linspace(0, len(array) - 1, most).astype(int)]
    return array


def _main_directions(rows: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
    """Middle, directions and size of what features are made of."""
    middle = rows.mean(axis=0)
    if rows.shape[1] <= MOST_DIRECTIONS:
        directions = np.eye(rows.shape[1])
    else:
        _, _, v = np.linalg.svd(rows - middle, full_matrices=False)
        directions = v[:MOST_DIRECTIONS]
    size = float(np.sqrt(((rows - middle) ** 2).sum(axis=1).mean())) or 1.0
    return middle, directions, size


COPIES = -3.0  # standard deviations of the rank test
COLLAPSED = 0.5  # of the coverage that as many real examples have
RARELY, ALIKE, FALLEN = 0.2, 0.6, 0.7
SUBJECT = "what is made"


def _reach(scores: Mapping[str, float]) -> float:
    """The coverage that real examples have, as many as are precise among the samples."""
    return scores.get("real_coverage", 0.9)


def sample_trouble(
    scores: Mapping[str, float],
) -> Literal["copying", "collapse", "noise", ""]:
    """Of which kind the trouble with samples is; empty if there is none."""
    precision = scores["precision"]
    if scores.get("data_copying", 0.0) < COPIES and precision > RARELY:
        return "copying"
    if precision > RARELY and scores["coverage"] < COLLAPSED * _reach(scores):
        return "collapse"
    return "noise" if precision < ALIKE else ""


def sample_finding(
    scores: Mapping[str, float], first: Mapping[str, float] | None = None
) -> Finding:
    """What scores say in words: learned by heart, collapsed to few kinds, noise, or well.

    Parameters
    ----------
    scores : mapping
        Of `SampleScores` with training examples.
    first : mapping, optional
        Those before training.

    Returns
    -------
    finding : Finding

    Examples
    --------
    >>> scores = {"distance": 0.2, "precision": 0.9, "recall": 0.1, "coverage": 0.1}
    >>> sample_finding(scores | {"real_coverage": 0.95, "data_copying": 0.1}).verdict
    'suspicious'
    """
    words = (
        f"{scores['precision']:.0%} of what is made lies among real examples; near "
        f"{scores['coverage']:.0%} of the real ones something was made, where as many training "
        f"examples reach {_reach(scores):.0%}; the distance of both is {scores['distance']:.3g}"
    )
    if first is not None:
        words += f", {first['distance']:.3g} before training"
    if "directions" in scores:
        words += (
            f". It was judged by {scores['directions']:.0f} main directions of the examples; finer "
            "structure by features of a classifier alone: SampleScores(features=...)"
        )
    trouble = sample_trouble(scores)
    if trouble == "copying":
        said = (
            "it is learned by heart: what is made lies nearer to the training examples than new "
            f"real ones do (rank test, {scores['data_copying']:.1f} standard deviations). {words}."
        )
        cure = "Fewer epochs, a smaller network, dropout, or more examples."
        return Finding(SUBJECT, "suspicious", said, cure)
    if trouble == "collapse":
        said = f"it makes few kinds only, over and over: {words}."
        cure = (
            "Of adversarial pairs: more critic steps, minibatch deviation, another loss, a smaller "
            "rate. Of others: train longer."
        )
        return Finding(SUBJECT, "suspicious", said, cure)
    if trouble == "noise":
        fallen = first is not None and scores["distance"] < FALLEN * first["distance"]
        said = f"it does not look like the examples yet: {words}."
        cure = (
            "Train longer: the distance has fallen."
            if fallen
            else "See whether the loss falls at all, and what is made of the noise."
        )
        return Finding(SUBJECT, "unclear" if fallen else "suspicious", said, cure)
    return Finding(SUBJECT, "sound", f"{words}.")

"""What near examples say of the data: labels that contradict those around them, and whether more
examples would tell more.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from scipy.spatial.distance import cdist
from scipy.stats import beta

from ..._findings import Finding
from ._permutation_test import (
    MOST_COLUMNS,
    correlation_across,
    nearest_others,
    permutation_test,
    subsample,
    targets_in_columns,
)
from ._stage import Stage, by_name, subject_of

__all__ = ["amount_of_data", "contradicting_labels"]

NEIGHBOURS = 8
FEWEST_AGREED = 25  # examples of a class whose neighbours agree
CONTRADICTED = 0.03  # of them: so many at least, with the level below
LEVEL = 0.05
SHOWN = 5
LEAST, MOST = 160, 1000  # examples of a learning curve
REPEATS = 8
TOLD = 0.01
SIGNIFICANT = 2.0  # standard errors


def contradicting_labels(stage: Stage) -> Iterator[Finding]:
    """Labels that differ from those of all examples around them, which agree with one another.

    Near the border of two classes neighbours do not agree, so what is counted there says nothing
    of the labels. Away from it, a label that contradicts is an error or chance; of chance two
    classes at least would have to be full, and one that is rare anyhow does not count.
    """
    features, index = stage.features, stage.sample_index
    if features is None or index is None:
        return
    for name, targets in by_name(stage.sample.targets).items():
        labels = np.asarray(targets)
        if labels.dtype.kind not in "iu" or labels.ndim != 1:
            continue
        rows = np.flatnonzero(labels >= 0)
        if len(rows) < LEAST or not 2 <= len(np.unique(labels[rows])) <= MOST_COLUMNS:
            continue
        squares = cdist(features[rows], features[rows], "sqeuclidean")
        around, own = labels[rows][nearest_others(squares, NEIGHBOURS)], labels[rows]
        agreed = (around == around[:, :1]).all(axis=1)
        odd = agreed & (own != around[:, 0])
        by_class = [
            (int(np.sum(agreed & (around[:, 0] == one))), int(np.sum(odd & (around[:, 0] == one))))
            for one in np.unique(own)
        ]
        full = [(n, k) for n, k in by_class if n >= FEWEST_AGREED]
        beyond = [k > 0 and beta.ppf(LEVEL, k, n - k + 1) > CONTRADICTED for n, k in full]
        if sum(beyond) < 2:
            continue
        words = (
            f"of {int(agreed.sum())} examples whose {NEIGHBOURS} nearest carry one label, "
            f"{int(odd.sum())} carry another ({odd.sum() / agreed.sum():.0%}), in "
            f"{sum(beyond)} classes beyond chance; the first of the training part are "
            f"{', '.join(str(int(index[row])) for row in rows[odd][:SHOWN])}"
        )
        cure = "Look at these: labels may be mixed up. What contradicts itself is not learned."
        yield Finding(subject_of("the labels", name), "suspicious", f"{words}.", cure)


def amount_of_data(stage: Stage) -> Iterator[Finding]:
    """The slope of a learning curve: what twice the examples brought to a quick model."""
    features, index = stage.features, stage.sample_index
    if features is None or index is None or len(index) != len(stage.train.dataset):
        return
    for name, targets in by_name(stage.sample.targets).items():
        columns = targets_in_columns(targets)
        if columns is None:
            continue
        rows = np.flatnonzero(columns[1])
        rows = rows[subsample(len(rows), MOST)]
        if len(rows) < LEAST:
            continue
        x, y = features[rows], columns[0][rows]
        few = subsample(len(x))
        if permutation_test(x[few], y[few]).p > TOLD:
            continue
        half, full = _scores(x, y)
        gained = full - half
        error = float(gained.std(ddof=1)) / np.sqrt(REPEATS / 2)  # draws share examples
        words = (
            f"trained on {int(len(x) * 0.75 / 2)} examples a quick model's answers correlate "
            f"{half.mean():.3f} with targets that it was not given, on {int(len(x) * 0.75)} "
            f"{full.mean():.3f} ({gained.mean():+.3f}, give or take {SIGNIFICANT * error:.3f})"
        )
        rising = gained.mean() > SIGNIFICANT * error and gained.mean() > 0.01 * (1 - half.mean())
        cure = (
            "Twice the examples are likely to bring about half as much again."
            if rising
            else "More examples of the same kind would bring a model like it little."
        )
        yield Finding(subject_of("the amount of data", name), "sound", f"{words}.", cure)


def _scores(x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Correlations on a quarter that is left out, trained on half the others and on all."""
    n, rng = len(x), np.random.default_rng(0)
    scores = np.empty((REPEATS, 2))
    for row in scores:
        order = rng.permutation(n)
        test, rest = order[: n // 4], order[n // 4 :]
        for place, train in enumerate((rest[: len(rest) // 2], rest)):
            row[place] = correlation_across(x[train], y[train], x[test], y[test])
    return scores[:, 0], scores[:, 1]

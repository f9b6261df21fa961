"""Whether more examples would tell more: a learning curve of a quick model."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..._findings import Finding
from ._permutation_test import (
    correlation_across,
    permutation_test,
    subsample,
    targets_in_columns,
)
from ._stage import Stage, by_name, subject_of

__all__ = ["learning_curve"]

LEAST, MOST = 160, 1000  # examples
REPEATS = 8
TOLD = 0.01
SIGNIFICANT = 2.0  # standard errors


def learning_curve(stage: Stage) -> Iterator[Finding]:
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

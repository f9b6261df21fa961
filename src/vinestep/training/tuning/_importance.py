"""Which settings of a search mattered."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import accumulate
from typing import TYPE_CHECKING, Any

import numpy as np
import scipy

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["COLUMNS", "holm", "importance", "importance_of_trials"]

COLUMNS = ["setting", "share", "low", "high", "p", "matters"]
DRAWS = 2000  # permutations
RESAMPLES = 200
LEVEL = 0.05
LEAST = 6  # trials
LEAST_DIFFERENT = 3  # values of a number that may have its best in the middle


def importance_of_trials(
    trials: Sequence[tuple[dict[str, Any], int, float | None]],
) -> pd.DataFrame:
    """Which settings mattered among the trials that went furthest.

    Parameters
    ----------
    trials : sequence of (settings, epochs, score)
        The lower a score the better; None of one that is not known.

    Returns
    -------
    found : DataFrame
        As `importance`; empty of fewer than 6 trials.

    Examples
    --------
    >>> importance_of_trials([({"rate": 0.1}, 5, 1.0)]).empty
    True
    """
    import pandas as pd

    most = max((epochs for _, epochs, _ in trials), default=0)
    done = [
        (settings, score)
        for settings, epochs, score in trials
        if score is not None and epochs == most
    ]
    scores = np.array([score for _, score in done], float)
    rows = importance(
        [settings for settings, _ in done], np.where(np.isfinite(scores), scores, np.inf)
    )
    return pd.DataFrame(rows, columns=COLUMNS)


def importance(settings: Sequence[dict[str, Any]], scores: np.ndarray) -> list[dict[str, Any]]:
    """Of each setting the share of the differences between trials that it explains, with an
    interval, and how likely as much would be if it did nothing.

    Scores are taken by their ranks. Explained is, of numbers, what a parabola through their ranks
    does, of words what their means do. The p-values are those of permuted scores, and are raised
    for as many settings as were tried (S. Holm, Scand. J. Stat. 6, 65-70, 1979).

    Returns
    -------
    rows : list of dict
        setting, share, low, high, p, matters; the surest first.

    Examples
    --------
    >>> rng = np.random.default_rng(0)
    >>> drawn = [{"rate": float(rng.random()), "seed": float(rng.random())} for _ in range(30)]
    >>> found = importance(drawn, np.array([one["rate"] for one in drawn]))
    >>> found[0]["setting"], found[0]["matters"], found[1]["matters"]
    ('rate', True, False)
    """
    names = list(dict.fromkeys(name for one in settings for name in one))
    ranks = scipy.stats.rankdata(scores)
    if len(ranks) < LEAST:
        return []
    rng = np.random.default_rng(0)
    drawn = rng.permuted(np.tile(ranks, (DRAWS, 1)), axis=1)
    kept = rng.integers(len(ranks), size=(RESAMPLES, len(ranks)))
    rows = []
    for name in names:
        design = _design([one.get(name) for one in settings])
        if design.shape[1] < 2:
            continue
        share = _explained(design, ranks[None])[0]
        as_much = float(np.mean(_explained(design, drawn) >= share - 1e-12))
        again = _explained(design[kept], ranks[kept][:, None])[:, 0]
        low, high = np.percentile(again, [2.5, 97.5])
        p = (as_much * DRAWS + 1) / (DRAWS + 1)
        rows.append({"setting": name, "share": share, "low": low, "high": high, "p": p})
    rows.sort(key=lambda row: (row["p"], -row["share"]))
    for row, p in zip(rows, holm([row["p"] for row in rows]), strict=True):
        row["p"], row["matters"] = p, p <= LEVEL
    return [
        {k: float(v) if k in ("share", "low", "high", "p") else v for k, v in row.items()}
        for row in rows
    ]


def holm(p_values: Sequence[float]) -> list[float]:
    """P-values in rising order, raised for as many tests as there are.

    S. Holm, Scand. J. Stat. 6, 65-70, 1979.

    Examples
    --------
    >>> holm([0.01, 0.03, 0.04])
    [0.03, 0.06, 0.06]
    """
    raised = [min(1.0, p * (len(p_values) - i)) for i, p in enumerate(p_values)]
    return list(accumulate(raised, max))


def _design(values: Sequence[Any]) -> np.ndarray:
    """Columns that span what a setting can explain, the first constant."""
    ones = np.ones((len(values), 1))
    numbers = all(
        isinstance(value, int | float) and not isinstance(value, bool) for value in values
    )
    if numbers and len(set(values)) >= LEAST_DIFFERENT:
        ranks = scipy.stats.rankdata(values)
        x = (ranks - ranks.mean()) / (ranks.std() or 1.0)
        return np.column_stack([ones, x, x**2])
    words = [str(value) for value in values]
    groups = sorted(set(words))
    return np.column_stack([ones, *(np.array([w == g for w in words], float) for g in groups[1:])])


def _explained(design: np.ndarray, ranks: np.ndarray) -> np.ndarray:
    """The share of the variance of each row of ranks, shape (..., m, n), that columns of a design,
    shape (..., n, k), explain.
    """
    centred = ranks - ranks.mean(axis=-1, keepdims=True)
    whole = np.sum(centred**2, axis=-1)
    fitted = (centred @ design) @ np.linalg.pinv(design)
    inside = np.sum(fitted * centred, axis=-1)
    return np.asarray(np.where(whole > 0, inside / np.where(whole > 0, whole, 1), 0.0))

"""What each setting does to a score, over many runs."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from ..errors import RunError

if TYPE_CHECKING:
    import pandas as pd

    from ._query import Runs

__all__ = ["effects"]

DRAWS = 400
LEAST_RUNS = 4
WIDE = 20.0  # highest by lowest value: from there on a setting is looked at by its logarithm


def effects(
    runs: Runs, quantity: str = "best validation_loss", labels: list[str] | None = None
) -> pd.DataFrame:
    """How a score changes from the lowest to the highest value of each setting, ranked by how sure
    that is.

    Of a number by the straight line through all runs, by its logarithm where values differ by much;
    of a word by the means of the best and the worst. Intervals hold 95 % of what drawing the runs
    anew gives. Settings that change together cannot be told apart.

    Parameters
    ----------
    runs : Runs
    quantity : str
        A score of the runs.
    labels : list of str, optional
        Which runs; by default all that have the score.

    Returns
    -------
    found : DataFrame
        setting, values, runs, effect, low, high.

    Raises
    ------
    RunError
        If fewer than 4 runs have the score.

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> for rate in (0.01, 0.02, 0.04, 0.08):
    ...     training = vs.Training(
    ...         vs.Dense(1), loss=vs.losses.squared_error, optimiser=vs.optimisers.SGD(rate)
    ...     )
    ...     outcome = training.run(data.batches(4), epochs=3, record=root)
    >>> found = vs.runs.effects(vs.runs.open(root), "best loss")
    >>> found["setting"][0], bool(found["effect"][0] < 0)
    ('optimiser.rate', True)
    """
    import pandas as pd

    table = runs.table()
    if quantity not in table:
        raise RunError(f"effects: no run has the score {quantity!r}.")
    table = table[
        table[quantity].notna() & (table["run"].isin(labels) if labels is not None else True)
    ]
    if len(table) < LEAST_RUNS:
        raise RunError(
            f"effects: {len(table)} runs have the score {quantity!r}; {LEAST_RUNS} are needed."
        )
    settings = runs.settings(list(table["run"])).reindex(table["run"])
    y = table[quantity].to_numpy(float)
    rows = []
    for name in settings:
        values = settings[name]
        if (
            values.isna().any()
            or values.nunique() < 2
            or (values.nunique() == len(values) > 2 and not _is_number(values))
        ):
            continue
        found = (
            _of_number(values.to_numpy(float), y)
            if _is_number(values)
            else _of_words(values.astype(str).to_numpy(), y)
        )
        shown = ", ".join(
            f"{value:g}" if isinstance(value, float) else str(value)
            for value in sorted(values.unique())[:6]
        )
        rows.append(
            {
                "setting": name,
                "values": shown,
                "runs": len(y),
                "effect": found[0],
                "low": found[1],
                "high": found[2],
            }
        )
    frame = pd.DataFrame(rows, columns=["setting", "values", "runs", "effect", "low", "high"])
    sure = frame["effect"].abs() / (frame["high"] - frame["low"]).clip(lower=1e-12)
    return (
        frame.assign(sure=sure)
        .sort_values("sure", ascending=False, ignore_index=True)
        .drop(columns="sure")
    )


def _is_number(values: pd.Series) -> bool:
    return all(isinstance(value, int | float) and not isinstance(value, bool) for value in values)


def _of_number(x: np.ndarray, y: np.ndarray) -> tuple[float, float, float]:
    if x.min() > 0 and x.max() / x.min() >= WIDE:
        x = np.log(x)
    x = (x - x.min()) / (x.max() - x.min())
    return _with_interval(len(y), lambda kept: _slope(x[kept], y[kept]))


def _slope(x: np.ndarray, y: np.ndarray) -> float:
    spread = float(((x - x.mean()) ** 2).sum())
    return float(((x - x.mean()) * (y - y.mean())).sum() / spread) if spread else np.nan


def _of_words(words: np.ndarray, y: np.ndarray) -> tuple[float, float, float]:
    means = {word: y[words == word].mean() for word in np.unique(words)}
    low, high = min(means, key=lambda word: means[word]), max(means, key=lambda word: means[word])

    def difference(kept: np.ndarray) -> float:
        a, b = y[kept][words[kept] == low], y[kept][words[kept] == high]
        return float(b.mean() - a.mean()) if len(a) and len(b) else np.nan

    return _with_interval(len(y), difference)


def _with_interval(n: int, figure: Callable[[np.ndarray], float]) -> tuple[float, float, float]:
    rng = np.random.default_rng(0)
    value = figure(np.arange(n))
    drawn = np.array([figure(rng.integers(n, size=n)) for _ in range(DRAWS)])
    drawn = drawn[np.isfinite(drawn)]
    low, high = np.percentile(drawn, [2.5, 97.5]) if len(drawn) else (value, value)
    return float(value), float(low), float(high)

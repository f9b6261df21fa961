"""What each setting does to a score, over many runs."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from ..errors import RunError

if TYPE_CHECKING:
    import pandas as pd

    from ._query import Runs

__all__ = ["effects"]

DRAWS = 400
LEAST_RUNS = 4
LEVEL = 0.05
WIDE = 20.0  # highest by lowest value: from there on a setting is looked at by its logarithm


def effects(
    runs: Runs, quantity: str = "best validation_loss", labels: list[str] | None = None
) -> pd.DataFrame:
    """How a score changes from the lowest to the highest value of each setting, ranked by how sure
    that is.

    Of a number by the straight line through all runs, by its logarithm where values differ by much;
    of a word by the means of the best and the worst. Intervals hold 95 % of what drawing the runs
    anew gives. The p-values are those of the line's slope, or of an analysis of variance of the
    words, raised for as many settings as there are (S. Holm, Scand. J. Stat. 6, 65-70, 1979).
    Settings that change together cannot be told apart. Only runs that ended as they should and were
    judged on the same rows count; ``found.attrs["left_out"]`` says how many did not.

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
        setting, values, runs, effect, low, high, p, matters.

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

    from ..training.tuning._importance import holm

    table = runs.table(columns=["uid"])
    if quantity not in table:
        raise RunError(f"effects: no run has the score {quantity!r}.")
    table = table[
        table[quantity].notna()
        & ((table["run"].isin(labels) | table["uid"].isin(labels)) if labels is not None else True)
    ]
    if len(table) < LEAST_RUNS:
        raise RunError(
            f"effects: {len(table)} runs have the score {quantity!r}; {LEAST_RUNS} are needed."
        )
    settings = runs.settings(list(table["uid"]), by="uid").reindex(table["uid"])
    table, settings, left_out = _comparable(table, settings)
    if len(table) < LEAST_RUNS:
        raise RunError(
            f"effects: {len(table)} runs with the score {quantity!r} were judged on the same rows "
            f"and ended as they should; {LEAST_RUNS} are needed."
        )
    y = table[quantity].to_numpy(float)
    rows: list[dict[str, Any]] = []
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
        p = (
            _p_of_slope(values.to_numpy(float), y)
            if _is_number(values)
            else _p_of_words(values.astype(str).to_numpy(), y)
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
                "p": p,
            }
        )
    rows.sort(key=lambda row: row["p"])
    for row, p in zip(rows, holm([row["p"] for row in rows]), strict=True):
        row["p"], row["matters"] = p, p < LEVEL
    names = ["setting", "values", "runs", "effect", "low", "high", "p", "matters"]
    frame = pd.DataFrame(rows, columns=names)
    frame.attrs["left_out"] = left_out
    return frame


def _comparable(
    table: pd.DataFrame, settings: pd.DataFrame
) -> tuple[pd.DataFrame, pd.DataFrame, int]:
    """Runs that ended as they should, judged on the rows on which most were."""
    kept = table["status"].to_numpy() != "failed"
    if "validation.data" in settings:
        judged = settings["validation.data"].astype(str).to_numpy()
        values, counts = np.unique(judged[kept], return_counts=True)
        if len(values) > 1:
            kept &= judged == values[counts.argmax()]
    return table[kept], settings[kept], int((~kept).sum())


def _p_of_slope(x: np.ndarray, y: np.ndarray) -> float:
    from scipy.stats import linregress

    if x.min() > 0 and x.max() / x.min() >= WIDE:
        x = np.log(x)
    if len(y) < LEAST_RUNS or np.ptp(y) == 0:
        return 1.0
    return float(np.nan_to_num(linregress(x, y).pvalue, nan=1.0))


def _p_of_words(words: np.ndarray, y: np.ndarray) -> float:
    """Of an analysis of variance; R. A. Fisher, Statistical Methods for Research Workers, 1925."""
    from scipy.stats import f_oneway

    groups = [y[words == word] for word in np.unique(words)]
    if len(y) <= len(groups) or all(np.ptp(group) == 0 for group in groups):
        return 1.0
    return float(f_oneway(*groups).pvalue)


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

"""Scores of many runs by their settings, and their means over seeds."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

from ..errors import RunError
from ._difference import is_hyperparameter, mean_interval

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd

    from ._query import Runs

__all__ = ["ScoresBySettings", "scores_by_settings", "seed_means"]


class ScoresBySettings(NamedTuple):
    """A score of runs beside the settings in which they differ.

    Examples
    --------
    >>> import pandas as pd
    >>> rows = pd.DataFrame({"run": ["a"], "score": [0.5], "optimiser.rate": [0.1]})
    >>> ScoresBySettings(rows, ["optimiser.rate"]).settings
    ['optimiser.rate']
    """

    rows: pd.DataFrame
    """run, uid, status, score, and a column for each setting; a row for each run."""
    settings: list[str]
    """In which the runs differ, but for the seed."""

    def means(self) -> pd.DataFrame:
        """The mean over the runs that are equal in all settings; see `seed_means`."""
        import pandas as pd

        rows, settings = self
        grouped = rows.groupby(settings, dropna=False, sort=True) if settings else [((), rows)]
        found: list[dict[str, Any]] = []
        for key, group in grouped:
            values = group["score"].to_numpy(float)
            low, high = mean_interval(values)
            own = dict(zip(settings, key if isinstance(key, tuple) else (key,), strict=True))
            found.append(
                own | {"runs": len(values), "mean": float(values.mean()), "low": low, "high": high}
            )
        return pd.DataFrame(found, columns=[*settings, "runs", "mean", "low", "high"])


def scores_by_settings(
    runs: Runs, quantity: str, *, where: Sequence[str] = (), text: Sequence[str] = ()
) -> ScoresBySettings:
    """A score of runs beside the settings in which they differ.

    Parameters
    ----------
    runs : Runs
    quantity : str
        A score, such as ``"best validation_loss"``.
    where, text : sequence of str
        Which runs, as `Runs.table` has it.

    Raises
    ------
    RunError
        If no run has the score.

    Examples
    --------
    >>> runs = vs.runs.Runs(vs.runs.Ledger("sqlite://"), None)
    >>> scores_by_settings(runs, "best loss")
    Traceback (most recent call last):
    vinestep.errors.RunError: No run has the score 'best loss'.
    """
    table = runs.table(where=where, text=text, columns=["uid"])
    if quantity not in table or not table[quantity].notna().any():
        raise RunError(f"No run has the score {quantity!r}.")
    table = table[table[quantity].notna()]
    own = runs.settings(list(table["uid"]), by="uid").reindex(table["uid"])
    differ = [str(name) for name in own if _differs(own[name])]
    rows = table[["run", "uid", "status", quantity]].rename(columns={quantity: "score"})
    for name in differ:
        rows[name] = own[name].to_numpy()
    # shapes of weights follow from what else differs
    chosen = [
        name for name in differ if is_hyperparameter(name) and not name.startswith("weights.")
    ]
    return ScoresBySettings(rows.reset_index(drop=True), chosen)


def _differs(column: pd.Series) -> bool:
    return column.nunique(dropna=False) > 1


def seed_means(
    runs: Runs, quantity: str, *, where: Sequence[str] = (), text: Sequence[str] = ()
) -> pd.DataFrame:
    """The mean of a score over runs that are equal but for their seed, with its 95 % interval by
    Student's t.

    Parameters
    ----------
    runs : Runs
    quantity : str
        A score, such as ``"best validation_loss"``.
    where, text : sequence of str
        Which runs, as `Runs.table` has it.

    Returns
    -------
    means : DataFrame
        A column for each setting in which the groups differ, then runs, mean, low, high; of one run
        low and high are NaN.

    Raises
    ------
    RunError
        If no run has the score.

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> for rate in (0.01, 0.05):
    ...     for seed in (1, 2, 3):
    ...         training = vs.Training(
    ...             vs.Dense(1),
    ...             loss=vs.losses.squared_error,
    ...             optimiser=vs.optimisers.SGD(rate),
    ...             seed=seed,
    ...         )
    ...         outcome = training.run(data.batches(4), epochs=2, record=root)
    >>> vs.runs.seed_means(vs.runs.open(root), "best loss")[["optimiser.rate", "runs"]]
       optimiser.rate  runs
    0            0.01     3
    1            0.05     3
    """
    return scores_by_settings(runs, quantity, where=where, text=text).means()

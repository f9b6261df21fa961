"""Which columns matter to a model of tables."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pandas as pd

from .._arguments import checked_seed
from .._model import Model
from ..data._table_files import read_frame
from ..data.sources._dataset import Dataset
from ..errors import DataError, ModelError, SettingError

__all__ = ["partial_dependence", "permutation_importance"]


def permutation_importance(
    model: Model,
    rows: Any,
    targets: Any = None,
    *,
    score: str = "loss",
    repeats: int = 10,
    seed: int = 0,
) -> pd.DataFrame:
    """By how much a score gets worse when a column is dealt out anew: what the model could not do
    without it. Columns that say the same stand in for one another.

    L. Breiman, Machine Learning 45, 5-32, 2001, section 10.

    Parameters
    ----------
    model : Model
    rows : DataFrame or file with the target, array, or Dataset
        That the network was not trained on.
    targets : array_like, optional
        Of arrays.
    score : str
        The loss, or a metric of the model.
    repeats : int
    seed : int

    Returns
    -------
    found : DataFrame
        column, importance (above 0 if the column helps), low and high (95 % of what further deals
        would give their mean), the most important first.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(50, 2))
    >>> network = vs.Dense(1).initialise(x)
    >>> _ = network.load({"weight": np.array([[1.0], [0.0]]), "bias": np.zeros(1)})
    >>> model = vs.Model(network, loss=vs.losses.squared_error)
    >>> vs.attribution.permutation_importance(model, x, x[:, :1])["column"].tolist()
    ['0', '1']
    """
    if isinstance(repeats, bool) or not isinstance(repeats, int) or repeats < 2:
        raise SettingError(f"permutation_importance: repeats is at least 2, got {repeats!r}.")
    rng = np.random.default_rng(checked_seed(seed, "permutation_importance"))
    table = _Columns(model, rows, targets)
    before = table.scored()
    if score not in before:
        raise ModelError(
            f"permutation_importance: there is no score {score!r}. There are {', '.join(before)}."
        )
    sign = -1.0 if _is_better_higher(model, score) else 1.0
    found = []
    for column in table.names:
        worse = np.array(
            [
                sign * (table.scored({column: rng.permutation(table.n)})[score] - before[score])
                for _ in range(repeats)
            ]
        )
        reach = 1.96 * worse.std(ddof=1) / np.sqrt(repeats)
        found.append([column, worse.mean(), worse.mean() - reach, worse.mean() + reach])
    frame = pd.DataFrame(found, columns=["column", "importance", "low", "high"])
    return frame.sort_values("importance", ascending=False, ignore_index=True)


def _is_better_higher(model: Model, score: str) -> bool:
    return any(metric.name == score and metric.better == "higher" for metric in model.metrics)


class _Columns:
    """Rows of a table, or of an array, of which columns can be dealt out anew."""

    def __init__(self, model: Model, rows: Any, targets: Any = None) -> None:
        self.model, self.targets = model, targets
        if isinstance(rows, Dataset):
            if not isinstance(rows.inputs, np.ndarray) or rows.inputs.ndim != 2:
                raise DataError("Columns are those of a table: inputs of shape (n, columns).")
            self.frame = pd.DataFrame(rows.inputs)
            self.array, self.targets = True, rows.targets
            names = getattr(rows, "feature_names", None)
            self.names = list(names) if names else list(map(str, range(self.frame.shape[1])))
        elif isinstance(rows, np.ndarray):
            if rows.ndim != 2:
                raise DataError("Columns are those of a table: inputs of shape (n, columns).")
            self.frame, self.array = pd.DataFrame(rows), True
            self.names = list(map(str, range(rows.shape[1])))
        else:
            encoding = model.codec.encoding
            if encoding is None:
                raise DataError("This model knows nothing of columns. Give arrays and targets.")
            self.frame, _ = read_frame(rows, texts=encoding.texts_of_files)
            self.array = False
            used = [*encoding.numeric, *encoding.categories, *encoding.feature_hashing]
            self.names = [name for name in used if name in self.frame.columns]
        self.n = len(self.frame)

    def with_values(self, changed: dict[str, Any]) -> Any:
        frame = self.frame.copy()
        for name, values in changed.items():
            at = self.names.index(name) if self.array else name
            frame[at] = values
        return frame.to_numpy() if self.array else frame

    def scored(self, dealt: dict[str, np.ndarray] | None = None) -> dict[str, float]:
        """Scores with columns in another order of their rows."""
        changed = {
            name: self.frame[self.names.index(name) if self.array else name].to_numpy()[order]
            for name, order in (dealt or {}).items()
        }
        rows = self.with_values(changed)
        return dict(self.model._assessed(rows, self.targets, told=False))


def partial_dependence(
    model: Model, rows: Any, column: str, *, values: Sequence[Any] | None = None, points: int = 20
) -> pd.DataFrame:
    """The mean answer over all rows, if a column had one value throughout, value by value.

    J. H. Friedman, Ann. Stat. 29(5), 1189-1232, 2001, equation 53.

    Parameters
    ----------
    model : Model
    rows : DataFrame, file, array, or Dataset
    column : str
    values : sequence, optional
        By default so many quantiles of a column of numbers, or all values of another one.
    points : int

    Returns
    -------
    found : DataFrame
        A row for each value: the value, and the mean of every number of the answers, such as
        ``predicted`` or ``probability sound``.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(50, 2))
    >>> network = vs.Dense(1).initialise(x)
    >>> _ = network.load({"weight": np.array([[2.0], [0.0]]), "bias": np.zeros(1)})
    >>> model = vs.Model(network, loss=vs.losses.squared_error)
    >>> vs.attribution.partial_dependence(model, x, "0", values=[0.0, 1.0])[
    ...     "predicted"
    ... ].tolist()
    [0.0, 2.0]
    """
    table = _Columns(model, rows)
    if column not in table.names:
        raise DataError(
            f"partial_dependence: there is no column {column!r}. There are "
            f"{', '.join(table.names)}."
        )
    own = table.frame[table.names.index(column) if table.array else column]
    if values is None:
        if own.dtype.kind in "fiu":
            known = own.dropna().to_numpy()
            values = np.unique(np.quantile(known, np.linspace(0, 1, points))).tolist()
        else:
            values = sorted(own.dropna().unique().tolist(), key=str)
    found = []
    for value in values:
        given = model._inputs(table.with_values({column: value}))
        answers = model.answers(model.outputs(given.inputs))
        numbers = answers.select_dtypes(["number", "bool"]).mean()
        found.append({column: value, **numbers.to_dict()})
    return pd.DataFrame(found)

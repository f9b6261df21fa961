"""Which columns matter to a model of tables."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pandas as pd

from .._arguments import checked_seed
from .._model import Model
from ..data._table_files import read_frame
from ..data.batches._batching import Batching
from ..data.sources._dataset import Dataset
from ..data.tabular._table import Table
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
    rows : DataFrame or file with the target, array, Dataset, Table, or batches of one
        That the network was not trained on. What became several features of a table is dealt out
        together.
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
    table = _columns_of(model, rows, targets)
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
                sign
                * (
                    table.scored(table.dealt(column, rng.permutation(table.n)))[score]
                    - before[score]
                )
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

    def values_of(self, column: str) -> pd.Series:
        """As they stand in the rows."""
        return self.frame[self.names.index(column) if self.array else column]

    def with_values(self, changed: dict[str, Any]) -> Any:
        """The rows with other values in some columns."""
        frame = self.frame.copy()
        for name, values in changed.items():
            frame[self.names.index(name) if self.array else name] = values
        return frame.to_numpy() if self.array else frame

    def dealt(self, column: str, order: np.ndarray) -> Any:
        """The rows with a column in another order."""
        return self.with_values({column: self.values_of(column).to_numpy()[order]})

    def scored(self, rows: Any = None) -> dict[str, float]:
        """Scores of the rows, or of others in their place."""
        given = self.with_values({}) if rows is None else rows
        return dict(self.model._assessed(given, self.targets, told=False))


class _EncodedColumns(_Columns):
    """Rows of a table that is encoded: a column may be several features."""

    def __init__(self, model: Model, table: Table) -> None:
        self.model, self.table, self.targets = model, table, None
        self.places = table.encoding.feature_places(table.scaling)
        self.names, self.n = list(self.places), len(table)

    def _with(self, inputs: np.ndarray) -> Table:
        return self.table.with_inputs(inputs)

    def values_of(self, column: str) -> pd.Series:
        """Numbers in the unit of the table, a gap where one was filled; names of categories."""
        encoding, scaling = self.table.encoding, self.table.scaling
        places, inputs = self.places[column], self.table.inputs
        if column not in encoding.numeric:
            names = [encoding.columns[i].removeprefix(f"{column}=") for i in places]
            found = inputs[:, places]
            texts = np.array(names, object)[found.argmax(axis=1)]
            return pd.Series(np.where(found.any(axis=1), texts, None))
        values = inputs[:, places[0]].astype(np.float64)
        if scaling is not None:
            values = values * scaling.spreads[places[0]] + scaling.centres[places[0]]
        if len(places) > 1:
            values = np.where(inputs[:, places[1]] > 0, np.nan, values)
        if column in encoding.ordered:
            steps = encoding.ordered[column]
            named = [None if np.isnan(v) else steps[round(v)] for v in values.tolist()]
            return pd.Series(named, dtype=object)
        return pd.Series(values)

    def with_values(self, changed: dict[str, Any]) -> Any:
        encoding, scaling = self.table.encoding, self.table.scaling
        inputs = self.table.inputs.copy()
        for column, value in changed.items():
            places = self.places[column]
            inputs[:, places] = 0
            if column in encoding.numeric:
                ordered = encoding.ordered.get(column)
                number = float(value if ordered is None else ordered.index(value))
                if scaling is not None:
                    number = (number - scaling.centres[places[0]]) / scaling.spreads[places[0]]
                inputs[:, places[0]] = number
            else:
                inputs[:, encoding.columns.index(f"{column}={value}")] = 1
        return self._with(inputs)

    def dealt(self, column: str, order: np.ndarray) -> Any:
        inputs, places = self.table.inputs.copy(), self.places[column]
        inputs[:, places] = inputs[order][:, places]
        return self._with(inputs)


def _columns_of(model: Model, rows: Any, targets: Any = None) -> _Columns:
    if isinstance(rows, Batching):
        rows = rows.dataset
    if isinstance(rows, Table) and model.codec.encoding is not None:
        return _EncodedColumns(model, rows)
    return _Columns(model, rows, targets)


def partial_dependence(
    model: Model, rows: Any, column: str, *, values: Sequence[Any] | None = None, points: int = 20
) -> pd.DataFrame:
    """The mean answer over all rows, if a column had one value throughout, value by value.

    J. H. Friedman, Ann. Stat. 29(5), 1189-1232, 2001, equation 53.

    Parameters
    ----------
    model : Model
    rows : DataFrame, file, array, Dataset, Table, or batches of one
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
    table = _columns_of(model, rows)
    if column not in table.names:
        raise DataError(
            f"partial_dependence: there is no column {column!r}. There are "
            f"{', '.join(table.names)}."
        )
    own = table.values_of(column)
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

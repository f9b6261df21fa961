"""Tables: examples from a DataFrame or CSV, and the scaling learned on the training part."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import count
from os import PathLike
from pathlib import Path
from typing import Self

import numpy as np
import pandas as pd
from pandas.api.types import is_bool_dtype, is_numeric_dtype

from ..errors import DataError, did_you_mean
from .dataset import Batches, Dataset, Origin

__all__ = ["Encoding", "Scaling", "Table", "scaled"]

_next_source = count(1).__next__
MOSTLY_NUMBERS = 0.5  # a text column that is numeric to this share is a numeric one with slips in it
FEW_DISTINCT = 50  # more different texts than this in a column are no categories


@dataclass(frozen=True, slots=True, kw_only=True)
class Encoding:
    """How the columns of a table became numbers, and the target's values class numbers."""

    numeric: tuple[str, ...]
    categories: dict[str, tuple[str, ...]]
    target: str
    class_names: tuple[str, ...]
    """Empty if the target is a number."""

    @property
    def columns(self) -> list[str]:
        """Names of the features, in order."""
        one_hot = [f"{name}={value}" for name, values in self.categories.items() for value in values]
        return [*self.numeric, *one_hot]


@dataclass(frozen=True, slots=True, kw_only=True)
class Scaling:
    """Means and spreads of the numeric columns, learned on one part."""

    means: np.ndarray
    spreads: np.ndarray
    missing: tuple[int, ...]
    """Numeric columns that had missing readings and got a column that says so."""


class Table(Dataset):
    """Examples from a table: numeric columns as they are, categories one-hot, the target as classes or numbers.

    Missing numbers stay missing until `scaled` fills them. A missing category is a category of its own.

    Parameters
    ----------
    source : DataFrame, str or path
        A DataFrame, or a CSV file with a header.
    target : str
        Column to learn. Text, booleans and categories make classes; numbers are numbers unless ``classes=True``.
    classes : bool, optional
        Whether the target's values are classes.
    leave_out : sequence of str
        Columns that are not to be used.

    Raises
    ------
    DataError
        If the target is missing, has missing values or one class only, or a text stands in a numeric column.

    Examples
    --------
    >>> frame = pd.DataFrame({"pH": [3.1, 3.5], "cooper": ["Alder", "Brun"], "state": ["sound", "stuck"]})
    >>> table = vs.data.Table(frame, target="state")
    >>> table.feature_names
    ['pH', 'cooper=Alder', 'cooper=Brun']
    >>> table.class_names, table.classes
    (('sound', 'stuck'), 2)
    """

    def __init__(
        self,
        source: pd.DataFrame | str | PathLike[str],
        *,
        target: str,
        classes: bool | None = None,
        leave_out: Sequence[str] = (),
    ) -> None:
        frame, name = _read(source)
        if len(frame) == 0:
            raise DataError(f"{name}: the table has no rows.")
        for column in (target, *leave_out):
            if column not in frame.columns:
                raise DataError(f"{name}: there is no column {column!r}. {did_you_mean(str(column), map(str, frame.columns))}")
        frame = frame.drop(columns=list(leave_out))
        labels, class_names = _targets(frame[target], name, classes)
        features = frame.drop(columns=[target])
        numeric = tuple(str(c) for c in features.columns if _is_numeric(features[c], name))
        categories = {str(c): _categories(features[c], name) for c in features.columns if str(c) not in numeric}
        if not numeric and not categories:
            raise DataError(f"{name}: no column is left beside the target {target!r}.")
        self.encoding = Encoding(numeric=numeric, categories=categories, target=target, class_names=class_names)
        self.scaling: Scaling | None = None
        super().__init__(_encoded(features, self.encoding), labels, origin=Origin(-_next_source(), np.arange(len(frame))))

    @classmethod
    def _of(cls, inputs: np.ndarray, targets: np.ndarray, origin: Origin, encoding: Encoding, scaling: Scaling | None) -> Self:
        table = cls.__new__(cls)
        Dataset.__init__(table, inputs, targets, origin=origin)
        table.encoding = encoding
        table.scaling = scaling
        return table

    def rows(self, index: np.ndarray) -> Self:
        return self._of(self.inputs[index], self.targets[index], self._origin_of(index), self.encoding, self.scaling)

    @property
    def classes(self) -> int:
        """Number of classes of the target; 1 if it is a number, for the width of a last layer."""
        return len(self.encoding.class_names) or 1

    @property
    def class_names(self) -> tuple[str, ...]:
        return self.encoding.class_names

    @property
    def feature_names(self) -> list[str]:
        extra = [f"{self.encoding.numeric[i]} missing" for i in self.scaling.missing] if self.scaling else []
        return [*self.encoding.columns, *extra]

    @property
    def missing(self) -> dict[str, int]:
        """Missing readings by numeric column."""
        counts = np.isnan(self.inputs[:, : len(self.encoding.numeric)]).sum(axis=0)
        return {name: int(n) for name, n in zip(self.encoding.numeric, counts, strict=True) if n}

    def batches(self, size: int, *, shuffled: bool = True, seed: int | None = None, drop_partial: bool = False) -> Batches:
        """Minibatches; see `Batches`. Refused while readings are missing."""
        missing = self.missing
        if missing:
            listed = ", ".join(f"{name} ({n})" for name, n in missing.items())
            raise DataError(
                f"Table: readings are missing in {listed}, and a network can not compute with them. Fill them by "
                "vinestep.data.scaled(train, ...), or drop the rows before making the table."
            )
        return super().batches(size, shuffled=shuffled, seed=seed, drop_partial=drop_partial)


def _read(source: pd.DataFrame | str | PathLike[str]) -> tuple[pd.DataFrame, str]:
    if isinstance(source, pd.DataFrame):
        return source.reset_index(drop=True), "The table"
    path = Path(source)
    if not path.is_file():
        raise DataError(f"{path}: there is no such file.")
    try:
        return pd.read_csv(path), str(path)
    except (pd.errors.EmptyDataError, pd.errors.ParserError, UnicodeDecodeError) as error:
        raise DataError(f"{path}: not a readable CSV file: {error}") from error


def _line(name: str, row: int) -> str:
    """Rows are counted from 1; a file has its header in line 1."""
    return f"row {row + 1}" if name == "The table" else f"row {row + 1} (line {row + 2} of the file)"


def _is_numeric(column: pd.Series, name: str) -> bool:
    if is_bool_dtype(column):
        return False
    if is_numeric_dtype(column):
        infinite = np.flatnonzero(np.isinf(column.to_numpy(dtype=float, na_value=np.nan)))
        if infinite.size:
            raise DataError(f"{name}: {_line(name, int(infinite[0]))}, column {column.name!r}: the value is infinite.")
        return True
    if column.dtype.kind == "M":
        raise DataError(f"{name}: column {column.name!r} holds dates. Turn them into numbers, such as days since a start.")
    numbers = pd.to_numeric(column, errors="coerce")
    given = column.notna()
    if not given.any():
        raise DataError(f"{name}: column {column.name!r} is empty. Leave it out: leave_out=[{column.name!r}].")
    slips = given & numbers.isna()
    if numbers.notna().sum() < MOSTLY_NUMBERS * given.sum() or isinstance(column.dtype, pd.CategoricalDtype):
        return False
    row = int(np.argmax(slips.to_numpy()))
    if not slips.any():
        return True
    raise DataError(
        f"{name}: {_line(name, row)}, column {column.name!r}: {column.iloc[row]!r} is not a number, as the others of this "
        "column are. Correct it, empty it, or leave the column out."
    )


def _categories(column: pd.Series, name: str) -> tuple[str, ...]:
    values = sorted({str(v) for v in column.dropna()})
    if len(values) > FEW_DISTINCT:
        raise DataError(
            f"{name}: column {column.name!r} holds {len(values)} different texts, which are no categories. "
            f"Leave it out: leave_out=[{column.name!r}]."
        )
    return tuple(values) + (("missing",) if column.isna().any() else ())


def _targets(column: pd.Series, name: str, classes: bool | None) -> tuple[np.ndarray, tuple[str, ...]]:
    absent = np.flatnonzero(column.isna().to_numpy())
    if absent.size:
        raise DataError(
            f"{name}: the target {column.name!r} is missing in {absent.size} of {len(column)} rows, first in "
            f"{_line(name, int(absent[0]))}. Rows without a target can not be learned from: drop or complete them."
        )
    as_classes = classes if classes is not None else not is_numeric_dtype(column) or is_bool_dtype(column)
    if not as_classes:
        numbers = column.to_numpy(dtype=np.float32)
        return numbers[:, None], ()
    names = column.map(str)
    values = sorted(set(names)) if not is_numeric_dtype(column) else [str(v) for v in sorted(set(column))]
    if len(values) < 2:
        raise DataError(f"{name}: the target {column.name!r} has one class only, {values[0]!r}. There is nothing to tell apart.")
    return names.map({v: i for i, v in enumerate(values)}).to_numpy(dtype=np.int64), tuple(values)


def _encoded(features: pd.DataFrame, encoding: Encoding) -> np.ndarray:
    columns = [pd.to_numeric(features[c]).to_numpy(dtype=np.float32, na_value=np.nan) for c in encoding.numeric]
    for column, values in encoding.categories.items():
        texts = features[column].map(str, na_action="ignore").fillna("missing")
        columns += [(texts == value).to_numpy(dtype=np.float32) for value in values]
    return np.stack(columns, axis=1)


def scaled(train: Table, *others: Table) -> list[Table]:
    """Numeric columns brought to mean 0 and standard deviation 1, and gaps filled; learned on the first table only.

    A gap becomes 0, the mean, and a further column says where a column had gaps. A column without spread becomes 0.

    Parameters
    ----------
    train : Table
        The part that ranges are learned on.
    *others : Table
        Parts that are scaled by what was learned.

    Returns
    -------
    tables : list of Table
        As many as were given.

    Raises
    ------
    DataError
        If a table is scaled already, or a column of the first has no reading at all.

    Examples
    --------
    >>> frame = pd.DataFrame({"pH": [3.0, 3.4, None, 3.2], "state": list("abab")})
    >>> (table,) = vs.data.scaled(vs.data.Table(frame, target="state"))
    >>> table.inputs.astype(float).round(2).tolist()
    [[-1.22, 0.0], [1.22, 0.0], [0.0, 1.0], [0.0, 0.0]]
    """
    n = len(train.encoding.numeric)
    for table in (train, *others):
        if table.scaling is not None:
            raise DataError("scaled: a table is scaled already. Scale the parts once, together, after splitting.")
        if table.encoding != train.encoding:
            raise DataError("scaled: the tables have different columns or categories. Split one table into parts, or use equal columns.")
    numbers = train.inputs[:, :n].astype(np.float64)
    empty = np.flatnonzero(np.all(np.isnan(numbers), axis=0))
    if empty.size:
        name = train.encoding.numeric[empty[0]]
        raise DataError(f"scaled: column {name!r} has no reading in the first table. Leave it out.")
    spreads = np.nanstd(numbers, axis=0)
    gaps = tuple(i for i in range(n) if any(np.isnan(t.inputs[:, i]).any() for t in (train, *others)))
    scaling = Scaling(means=np.nanmean(numbers, axis=0), spreads=np.where(spreads > 0, spreads, 1.0), missing=gaps)
    return [_apply(table, scaling) for table in (train, *others)]


def _apply(table: Table, scaling: Scaling) -> Table:
    n = len(table.encoding.numeric)
    numbers = table.inputs[:, :n]
    absent = np.isnan(numbers)
    filled = np.where(absent, 0.0, (numbers - scaling.means) / scaling.spreads)
    inputs = np.concatenate([filled, table.inputs[:, n:], absent[:, list(scaling.missing)]], axis=1)
    return table._of(inputs.astype(np.float32), table.targets, table.origin, table.encoding, scaling)

"""Tables: examples from a DataFrame or CSV, and the scaling learned on the training part."""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from os import PathLike
from pathlib import Path
from typing import Self

import numpy as np
import pandas as pd
from pandas.api.types import is_bool_dtype, is_numeric_dtype

from ..errors import DataError, did_you_mean
from .dataset import Batches, Dataset, Provenance

__all__ = ["Encoding", "Scaling", "Table", "scaled"]

LARGEST = float(np.finfo(np.float32).max)
MOSTLY_NUMBERS = 0.5  # a text column that is numeric to this share is a numeric one with slips in it
FEW_DISTINCT = 50  # more different texts than this in a column are no categories


@dataclass(frozen=True, slots=True, kw_only=True)
class Encoding:
    """How the columns of a table became numbers, and the target's values class numbers."""

    numeric: tuple[str, ...]
    categories: dict[str, tuple[str, ...]]
    gaps: tuple[str, ...]
    """Columns of categories with missing cells, which are a category of their own."""
    target: str
    class_names: tuple[str, ...]
    """Empty if the target is a number."""
    class_values: tuple[str | int | float | bool, ...]
    """The classes as they stand in the table, in the same order."""

    @property
    def columns(self) -> list[str]:
        """Names of the features, in order."""
        one_hot = [
            feature
            for name, values in self.categories.items()
            for feature in (*(f"{name}={value}" for value in values), *([f"{name}={_gap(values)}"] if name in self.gaps else []))
        ]
        return [*self.numeric, *one_hot]

    def differences(self, other: Encoding) -> list[str]:
        """In which words the other differs."""
        found = []
        if self.numeric != other.numeric:
            found.append(f"numeric columns {', '.join(self.numeric)} against {', '.join(other.numeric)}")
        for name in dict.fromkeys([*self.categories, *other.categories]):
            ours, theirs = self.categories.get(name), other.categories.get(name)
            if ours != theirs:
                found.append(f"categories of {name}: {_listed(ours)} against {_listed(theirs)}")
            elif (name in self.gaps) != (name in other.gaps):
                found.append(f"missing cells of {name} in one of them only")
        if self.target != other.target:
            found.append(f"target {self.target} against {other.target}")
        if self.class_values != other.class_values:
            found.append(f"classes {_listed(self.class_names)} against {_listed(other.class_names)}")
        return found


def _gap(values: Sequence[str]) -> str:
    """What a missing cell is called beside these categories."""
    return "missing" if "missing" not in values else "missing cell"


def _listed(names: Sequence[str] | None) -> str:
    return "none" if not names else ", ".join(names)


@dataclass(frozen=True, slots=True, kw_only=True)
class Scaling:
    """Means and deviations of the numeric columns, learned on one part."""

    means: np.ndarray
    deviations: np.ndarray
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
        frame.columns = _names(frame, name)
        target, leave_out = str(target), [str(column) for column in leave_out]
        for column in (target, *leave_out):
            if column not in frame.columns:
                raise DataError(f"{name}: there is no column {column!r}. {did_you_mean(column, frame.columns)}")
        if target in leave_out:
            raise DataError(f"{name}: the target {target!r} cannot be left out.")
        frame = frame.drop(columns=leave_out)
        labels, class_values = _targets(frame[target], name, classes)
        features = frame.drop(columns=[target])
        numeric = tuple(c for c in features.columns if _is_numeric(features[c], name))
        categories = {c: _categories(features[c], name) for c in features.columns if c not in numeric}
        if not numeric and not categories:
            raise DataError(f"{name}: no column is left beside the target {target!r}.")
        self.encoding = Encoding(
            numeric=numeric,
            categories=categories,
            gaps=tuple(c for c in categories if features[c].isna().any()),
            target=target,
            class_names=tuple(map(str, class_values)),
            class_values=class_values,
        )
        self.scaling: Scaling | None = None
        super().__init__(_encoded(features, self.encoding), labels)

    @classmethod
    def _of(cls, inputs: np.ndarray, targets: np.ndarray, provenance: Provenance, encoding: Encoding, scaling: Scaling | None) -> Self:
        table = cls.__new__(cls)
        Dataset.__init__(table, inputs, targets, provenance=provenance)
        table.encoding = encoding
        table.scaling = scaling
        return table

    def rows(self, index: np.ndarray) -> Self:
        return self._of(self.inputs[index], self.targets[index], self._provenance_of(index), self.encoding, self.scaling)

    @property
    def classes(self) -> int:
        """Number of classes of the target; 1 if it is a number, for the width of a last layer."""
        return len(self.encoding.class_names) or 1

    @property
    def class_names(self) -> tuple[str, ...]:
        return self.encoding.class_names

    @property
    def class_values(self) -> tuple[str | int | float | bool, ...]:
        return self.encoding.class_values

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
                f"Table: readings are missing in {listed}, and a network cannot compute with them. Fill them by "
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
        _check_lines(path)
        return pd.read_csv(path, index_col=False, encoding="utf-8-sig"), str(path)
    except DataError:
        raise
    except (ValueError, OverflowError, OSError, csv.Error) as error:  # among them pandas' own and those of the encoding
        raise DataError(f"{path}: not a readable CSV file: {error}") from error


def _check_lines(path: Path) -> None:
    """Refuse a header that names a column twice, and rows with more or fewer cells than it: their cells would go to wrong columns."""
    with path.open(newline="", encoding="utf-8-sig") as file:
        rows = csv.reader(file)
        header = next((row for row in rows if row), [])
        _check_unique(header, str(path))
        for row in rows:
            if row and len(row) != len(header):
                raise DataError(
                    f"{path}: line {rows.line_num} has {len(row)} cells, the header {len(header)}. Correct the line; a comma inside a "
                    'text needs quotes around it: "Alder, old".'
                )


def _names(frame: pd.DataFrame, name: str) -> list[str]:
    """The names of the columns as texts."""
    names = [str(column) for column in frame.columns]
    _check_unique(names, name)
    return names


def _check_unique(names: Sequence[str], name: str) -> None:
    twice = [column for column, n in Counter(names).items() if n > 1]
    if twice:
        raise DataError(f"{name}: there are {Counter(names)[twice[0]]} columns of the name {twice[0]!r}. Give each a name of its own.")


def _line(name: str, row: int) -> str:
    """Rows are counted from 1; a file has its header in line 1."""
    return f"row {row + 1}" if name == "The table" else f"row {row + 1} (line {row + 2} of the file)"


def _is_numeric(column: pd.Series, name: str) -> bool:
    if is_bool_dtype(column):
        return False
    if is_numeric_dtype(column):
        _check_range(column.to_numpy(dtype=float, na_value=np.nan), column, name)
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
        _check_range(numbers.to_numpy(dtype=float, na_value=np.nan), column, name)
        return True
    raise DataError(
        f"{name}: {_line(name, row)}, column {column.name!r}: {column.iloc[row]!r} is not a number, as the others of this "
        "column are. Correct it, empty it, or leave the column out."
    )


def _check_range(numbers: np.ndarray, column: pd.Series, name: str) -> None:
    """Refuse what no network can compute with: infinite values, and those that float32 does not hold."""
    bad = np.flatnonzero(np.abs(numbers) > LARGEST)
    if bad.size:
        value = numbers[bad[0]]
        kind = "infinite" if np.isinf(value) else f"{value:.3g}, larger than any number of float32"
        raise DataError(f"{name}: {_line(name, int(bad[0]))}, column {column.name!r}: the value is {kind}. Correct it, or empty it.")


def _categories(column: pd.Series, name: str) -> tuple[str, ...]:
    values = sorted({str(v) for v in column.dropna()})
    if len(values) > FEW_DISTINCT:
        raise DataError(
            f"{name}: column {column.name!r} holds {len(values)} different texts, which are no categories. "
            f"Leave it out: leave_out=[{column.name!r}]."
        )
    return tuple(values)


def _targets(column: pd.Series, name: str, classes: bool | None) -> tuple[np.ndarray, tuple[str | int | float | bool, ...]]:
    absent = np.flatnonzero(column.isna().to_numpy())
    if absent.size:
        raise DataError(
            f"{name}: the target {column.name!r} is missing in {absent.size} of {len(column)} rows, first in "
            f"{_line(name, int(absent[0]))}. Rows without a target cannot be learned from: drop or complete them."
        )
    as_classes = classes if classes is not None else not is_numeric_dtype(column) or is_bool_dtype(column)
    if not as_classes:
        try:
            numbers = pd.to_numeric(column).to_numpy(dtype=float)
        except (ValueError, TypeError) as error:
            raise DataError(
                f"{name}: the target {column.name!r} does not hold numbers only: {error}. For classes say classes=True."
            ) from error
        _check_range(numbers, column, name)
        return numbers.astype(np.float32)[:, None], ()
    natural = is_numeric_dtype(column) or is_bool_dtype(column)
    labels = column if natural else column.map(str)
    values = sorted(set(labels.tolist()))
    if len(values) < 2:
        raise DataError(f"{name}: the target {column.name!r} has one class only, {str(values[0])!r}. There is nothing to tell apart.")
    return labels.map({v: i for i, v in enumerate(values)}).to_numpy(dtype=np.int64), tuple(values)


def _encoded(features: pd.DataFrame, encoding: Encoding) -> np.ndarray:
    """In float64: scaling comes later, and large numbers close together would be one in float32."""
    columns = [pd.to_numeric(features[c]).to_numpy(dtype=np.float64, na_value=np.nan) for c in encoding.numeric]
    for column, values in encoding.categories.items():
        texts, absent = features[column].map(str, na_action="ignore"), features[column].isna().to_numpy()
        columns += [(texts == value).to_numpy(dtype=np.float64, na_value=False) * ~absent for value in values]
        columns += [absent.astype(np.float64)] if column in encoding.gaps else []
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
    >>> (table.inputs.astype(float).round(2) + 0).tolist()
    [[-1.22, 0.0], [1.22, 0.0], [0.0, 1.0], [0.0, 0.0]]
    """
    n = len(train.encoding.numeric)
    for table in (train, *others):
        if table.scaling is not None:
            raise DataError("scaled: a table is scaled already. Scale the parts once, together, after splitting.")
        if table.encoding != train.encoding:
            raise DataError(
                f"scaled: the tables are encoded differently: {'; '.join(train.encoding.differences(table.encoding))}. Split one table "
                "into parts, so that they share one encoding."
            )
    numbers = train.inputs[:, :n].astype(np.float64)
    empty = np.flatnonzero(np.all(np.isnan(numbers), axis=0))
    if empty.size:
        name = train.encoding.numeric[empty[0]]
        raise DataError(f"scaled: column {name!r} has no reading in the first table. Leave it out.")
    deviations = np.nanstd(numbers, axis=0)
    gaps = tuple(i for i in range(n) if any(np.isnan(t.inputs[:, i]).any() for t in (train, *others)))
    scaling = Scaling(means=np.nanmean(numbers, axis=0), deviations=np.where(deviations > 0, deviations, 1.0), missing=gaps)
    return [_apply(table, scaling) for table in (train, *others)]


def _apply(table: Table, scaling: Scaling) -> Table:
    n = len(table.encoding.numeric)
    numbers = table.inputs[:, :n]
    absent = np.isnan(numbers)
    filled = np.where(absent, 0.0, (numbers - scaling.means) / scaling.deviations)
    inputs = np.concatenate([filled, table.inputs[:, n:], absent[:, list(scaling.missing)]], axis=1)
    return table._of(inputs.astype(np.float32), table.targets, table.provenance, table.encoding, scaling)

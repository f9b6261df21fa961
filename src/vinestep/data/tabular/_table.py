"""Tables: examples from a DataFrame or CSV, and the scaling learned on the training part."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal, Self

import numpy as np

from ..._findings import Finding, warn_of
from ..._lazy_imports import pandas as pd
from ..._public_names import did_you_mean
from ...errors import DataError
from ...parts._registry import maker
from .._table_files import Source, line_of, read_frame
from ..batches._batch import Batch, taken
from ..batches._batches import Batches
from ..batches._joins import Example
from ..encoding._columns import (
    Encoding,
    Scaling,
    category_text,
    coded,
    numbers_of,
    target_numbers,
    targets_of,
    weights_of,
)
from ..sources._dataset import Dataset
from ..sources._source import Provenance
from ._text_formats import text_format

__all__ = ["Encoding", "Scaling", "Table", "scaled", "scaled_alike"]

MOSTLY_NUMBERS = (
    0.5  # a text column of which this fraction is numeric is a numeric one with slips in it
)
# of what lies between lowest and highest; divided by less, a number leaves the range of float32
LEAST_SPREAD = 1e-9
FEW_DISTINCT = 50  # more different texts than this in a column are no categories


class Table(Dataset):
    """Examples from a table: numeric columns as they are, categories one-hot, the target as classes
    or numbers.

    Missing numbers stay missing until `scaled` fills them. A missing category is a category of its
    own.

    Parameters
    ----------
    source : DataFrame, str or path
        A DataFrame, a CSV file with a header, or a Parquet file.
    target : str
        Column to learn. Text, booleans and categories make classes; numbers are numbers unless
        ``classes=True``.
    targets : sequence of str
        Several columns to learn, in place of `target`; they are then given to the loss by name.
    classes : bool, or sequence of str, optional
        Whether the target's values are classes; of several targets, which are.
    target_gaps : bool
        Whether targets may be missing: they are then -1, or NaN of numbers, which a task with
        ``gaps=True`` leaves out.
    weight : str
        Column that says what each row weighs in the loss; it is no feature.
    leave_out : sequence of str
        Columns that are not to be used.
    drop_missing_target : bool
        Leave out rows without a target; otherwise they are refused.
    unseen_categories : {"refuse", "zeros"}
        What becomes of a category, in rows encoded later, that does not occur here: it is refused,
        or none of the known ones.
    missing_columns : {"refuse", "gaps"}
        What becomes of rows, encoded later, that lack a column: they are refused, or all its cells
        are taken as missing.
    ordered : mapping of column to sequence, optional
        Categories with an order, from first to last; each becomes its place, from 0.
    dates : sequence of str
        Columns of texts that hold dates, such as 2026-11-25; they become days since the begin of
        1970, as columns of dates do.
    rare : int
        Categories with fewer rows than this are one category together, and so are those that do not
        occur here.
    feature_hashing : mapping of column to int, optional
        Columns of many categories; each sets one of so many features, by a hash of its text (K.
        Weinberger et al., ICML 2009). Categories that do not occur here need no rule.
    literal : sequence of str
        Columns of a CSV file in which only empty cells are missing: None, NA and the like are
        texts there.
    log_target : bool
        Learn the logarithm of a target of numbers; a model predicts in the unit of the target. Loss
        and metrics are of the logarithm.
    inputs : mapping of name to sequence of str, optional
        Several inputs by name, each of some columns, for a network that takes them by name, such
        as `MultiInput`. Columns that stand in none are left out.

    Raises
    ------
    DataError
        If the target is missing, has missing values or one class only, or a text stands in a
        numeric column.

    Examples
    --------
    >>> frame = pd.DataFrame(
    ...     {"pH": [3.1, 3.5], "cooper": ["Alder", "Brun"], "state": ["sound", "stuck"]}
    ... )
    >>> table = vs.data.Table(frame, target="state")
    >>> table.feature_names
    ['pH', 'cooper=Alder', 'cooper=Brun']
    >>> table.class_names, table.classes
    (('sound', 'stuck'), 2)
    """

    def __init__(
        self,
        source: Source,
        *,
        target: str = "",
        targets: Sequence[str] = (),
        classes: bool | Sequence[str] | None = None,
        target_gaps: bool = False,
        weight: str = "",
        leave_out: Sequence[str] = (),
        drop_missing_target: bool = False,
        unseen_categories: Literal["refuse", "zeros"] = "refuse",
        missing_columns: Literal["refuse", "gaps"] = "refuse",
        ordered: Mapping[str, Sequence[Any]] | None = None,
        dates: Sequence[str] = (),
        rare: int = 0,
        feature_hashing: Mapping[str, int] | None = None,
        literal: Sequence[str] = (),
        log_target: bool = False,
        inputs: Mapping[str, Sequence[str]] | None = None,
    ) -> None:
        frame, name = read_frame(source, literal=literal)
        wanted = _target_names(target, targets, name)
        leave_out = [str(column) for column in leave_out]
        if not isinstance(classes, bool | None):
            classes = [str(column) for column in classes]
        in_order = {
            str(column): tuple(map(category_text, values))
            for column, values in (ordered or {}).items()
        }
        codes = {str(column): n for column, n in (feature_hashing or {}).items()}
        beside = [weight] if weight else []
        named = [] if isinstance(classes, bool | None) else classes
        for column in (*wanted, *leave_out, *in_order, *dates, *codes, *literal, *beside, *named):
            if column not in frame.columns:
                raise DataError(
                    f"{name}: there is no column {column!r}. {did_you_mean(column, frame.columns)}"
                )
        for column, n in codes.items():
            if isinstance(n, bool) or not isinstance(n, int | np.integer) or n < 2:
                raise DataError(
                    f"{name}: feature_hashing says how many features {column!r} becomes, at least "
                    f"2; got {n!r}."
                )
        for column in (*wanted, *beside):
            if column in leave_out or (column == weight and column in wanted):
                raise DataError(
                    f"{name}: the column {column!r} cannot be left out, or be two things at once."
                )
        frame = frame.drop(columns=leave_out)
        if not target_gaps:
            frame = _with_targets(frame, wanted, name, drop_missing_target)
        found = {
            column: _targets(
                frame[column],
                name,
                classes if isinstance(classes, bool | None) else column in classes,
                log_target,
                target_gaps,
            )
            for column in wanted
        }
        several = {column: values for column, (_, values) in found.items()} if targets else {}
        labels: Any = {column: own for column, (own, _) in found.items()}
        class_values: tuple[Any, ...] = ()
        if not targets:
            labels, class_values = found[wanted[0]]
        features = frame.drop(columns=[*wanted, *beside])
        groups = _inputs(inputs or {}, features, name)
        if groups:
            chosen = {column for columns in groups.values() for column in columns}
            features = features[[column for column in features.columns if column in chosen]]
        days = tuple(
            str(c) for c in features.columns if c in dates or features[c].dtype.kind == "M"
        )
        numeric = tuple(
            c
            for c in features.columns
            if c not in codes and (c in days or c in in_order or _is_numeric(features[c], name))
        )
        categories = {
            c: _categories(features[c], name, rare)
            for c in features.columns
            if c not in numeric and c not in codes
        }
        if not numeric and not categories and not codes:
            raise DataError(
                f"{name}: no column is left beside the target {', '.join(map(repr, wanted))}."
            )
        self.encoding = Encoding(
            numeric=numeric,
            categories=categories,
            gaps=tuple(c for c in categories if features[c].isna().any()),
            target="" if targets else wanted[0],
            class_names=tuple(map(str, class_values)),
            class_values=class_values,
            unseen_categories=unseen_categories,
            missing_columns=missing_columns,
            ordered=in_order,
            dates=days,
            pooled=tuple(categories) if rare else (),
            log_target=log_target,
            feature_hashing={column: int(n) for column, n in codes.items()},
            literal=tuple(map(str, literal)),
            several=several,
            target_gaps=bool(target_gaps),
            weight=str(weight),
            inputs=groups,
        )
        self.drop_missing_target = drop_missing_target
        self.scaling: Scaling | None = None
        super().__init__(
            self.encoding.encode(features, name),
            labels,
            weights=weights_of(frame, weight, name) if weight else None,
            class_values=self.encoding.known_classes,
        )
        self.target_gaps = self.encoding.target_gaps

    @classmethod
    def _of(
        cls,
        inputs: np.ndarray,
        targets: Any,
        weights: np.ndarray | None,
        provenance: Provenance | None,
        encoding: Encoding,
        scaling: Scaling | None,
    ) -> Self:
        table = cls.__new__(cls)
        Dataset.__init__(
            table,
            inputs,
            targets,
            weights=weights,
            class_values=encoding.known_classes,
            provenance=provenance,
        )
        table.target_gaps = encoding.target_gaps
        table.encoding = encoding
        table.scaling = scaling
        table.drop_missing_target = False
        return table

    def take(self, index: np.ndarray) -> Batch:
        batch = super().take(index)
        return (
            batch.with_values(inputs=self.encoding.split(batch.inputs, self.scaling))
            if self.encoding.inputs
            else batch
        )

    def example(self, index: int) -> Example:
        inputs, target, weight = super().example(index)
        return self.encoding.split(inputs, self.scaling), target, weight

    def rows(self, index: np.ndarray) -> Self:
        return self._of(
            self.inputs[index],
            taken(self.targets, index),
            None if self.weights is None else self.weights[index],
            self._provenance_of(index),
            self.encoding,
            self.scaling,
        )

    def with_inputs(self, inputs: np.ndarray) -> Self:
        """The same rows with other features, of the same shape."""
        return self._of(
            inputs, self.targets, self.weights, self.provenance, self.encoding, self.scaling
        )

    def like(self, source: Source) -> Self:
        """Further rows, encoded as this table is, and scaled if it is: a part from a file of its
        own.

        Parameters
        ----------
        source : DataFrame, str or path
            With the columns of this table, the target too.

        Raises
        ------
        DataError
            If a column or target is missing, or a class or category did not occur here and was not
            settled otherwise.

        Examples
        --------
        >>> table = vs.data.Table(
        ...     pd.DataFrame({"pH": [3.1, 3.5], "state": ["sound", "stuck"]}), target="state"
        ... )
        >>> table.like(pd.DataFrame({"state": ["stuck"], "pH": [3.3]})).targets
        array([1])
        """
        encoding = self.encoding
        frame, name = read_frame(source, texts=encoding.texts_of_files, literal=encoding.literal)
        if not encoding.target_gaps:
            frame = _with_targets(frame, encoding.targets, name, self.drop_missing_target)
        inputs = encoding.encode(frame, name)
        if self.scaling is not None:
            inputs = self.scaling.scale(inputs)
        weights = weights_of(frame, encoding.weight, name) if encoding.weight else None
        targets = targets_of(frame, encoding, name)
        return self._of(inputs, targets, weights, None, encoding, self.scaling)

    def settings(self) -> dict[str, Any]:
        """What it is, for the record: kind, columns, target and classes."""
        encoding = self.encoding
        return super().settings() | {
            "kind": "table",
            "numeric": list(encoding.numeric),
            "categories": {column: list(values) for column, values in encoding.categories.items()},
            **(
                {
                    "targets": {
                        target: list(map(str, values)) or "numbers"
                        for target, values in encoding.several.items()
                    }
                }
                if encoding.several
                else {"target": encoding.target, "classes": list(encoding.class_names)}
            ),
            **({"weight": encoding.weight} if encoding.weight else {}),
            **(
                {"inputs": {name: list(columns) for name, columns in encoding.inputs.items()}}
                if encoding.inputs
                else {}
            ),
            "scaled": self.scaling is not None,
        }

    @property
    def feature_names(self) -> list[str]:
        extra = (
            [f"{self.encoding.numeric[i]} missing" for i in self.scaling.missing]
            if self.scaling
            else []
        )
        return [*self.encoding.columns, *extra]

    @property
    def missing(self) -> dict[str, int]:
        """Missing readings by numeric column."""
        counts = np.isnan(self.inputs[:, : len(self.encoding.numeric)]).sum(axis=0)
        return {name: int(n) for name, n in zip(self.encoding.numeric, counts, strict=True) if n}

    def batches(self, size: int, **options: Any) -> Batches:
        """Minibatches; see `Batches`. Refused while readings are missing."""
        missing = self.missing
        if missing:
            listed = ", ".join(f"{name} ({n})" for name, n in missing.items())
            raise DataError(
                f"Table: readings are missing in {listed}, and a network cannot compute with "
                "them. Fill them by "
                "vinestep.data.scaled(train, ...), or drop the rows before making the table."
            )
        return super().batches(size, **options)


table = maker("table", "source")(Table)


def _target_names(target: str, targets: Sequence[str], name: str) -> list[str]:
    """The columns to learn: one, or several."""
    if isinstance(targets, str):
        raise DataError(f"{name}: targets is a list of columns. For one say target={targets!r}.")
    listed = [str(column) for column in targets]
    if bool(target) == bool(listed):
        raise DataError(
            f"{name}: say which column is to be learned, target=, or which several, targets=."
        )
    if len(set(listed)) < len(listed):
        raise DataError(f"{name}: a target is named twice: {', '.join(listed)}.")
    return listed or [str(target)]


def _with_targets(
    frame: pd.DataFrame, targets: Sequence[str], name: str, drop: bool
) -> pd.DataFrame:
    """The rows that have all targets; others are dropped or refused."""
    for target in targets:
        if target not in frame.columns:
            raise DataError(
                f"{name}: there is no column {target!r}, the target. "
                f"{did_you_mean(target, map(str, frame.columns))}"
            )
        frame = _with_target(frame, target, name, drop)
    return frame


def _with_target(frame: pd.DataFrame, target: str, name: str, drop: bool) -> pd.DataFrame:
    absent = frame[target].isna().to_numpy()
    if not absent.any():
        return frame
    if drop and not absent.all():
        return frame[~absent].reset_index(drop=True)
    raise DataError(
        f"{name}: the target {target!r} is missing in {absent.sum()} of {len(frame)} rows, first "
        "in "
        f"{line_of(name, int(np.argmax(absent)))}. Rows without a target cannot be learned from: "
        "complete them, leave them out with "
        "drop_missing_target = true, or leave out what is missing only, with target_gaps = true."
    )


def _is_numeric(column: pd.Series, name: str) -> bool:
    if pd.api.types.is_bool_dtype(column):
        return False
    if pd.api.types.is_numeric_dtype(column):
        return True
    given = column.notna()
    if column.dtype == object and pd.api.types.infer_dtype(column, skipna=True) == "boolean":
        return False  # truth values with gaps
    codes, values = pd.factorize(column)
    numbers = pd.to_numeric(pd.Series(values), errors="coerce").notna().to_numpy()
    if not given.any():
        raise DataError(
            f"{name}: column {column.name!r} is empty. Leave it out: leave_out=[{column.name!r}]."
        )
    if numbers[codes[codes >= 0]].sum() < MOSTLY_NUMBERS * given.sum() or isinstance(
        column.dtype, pd.CategoricalDtype
    ):
        return False
    numbers_of(column, name)
    return True


def _categories(column: pd.Series, name: str, rare: int) -> tuple[str, ...]:
    codes, texts = coded(column)
    counts: Counter[str] = Counter()
    for text, n in zip(texts, np.bincount(codes[codes >= 0], minlength=len(texts)), strict=True):
        counts[text] += int(n)
    values = sorted(value for value, count in counts.items() if count >= rare)
    known = text_format(values)
    advice = known.advice.format(column=column.name) if known else ""
    if len(values) > FEW_DISTINCT:
        raise DataError(
            f"{name}: column {column.name!r} holds {len(values)} different texts, "
            f"{f'which look like {known.name}' if known else 'which are no categories'}. "
            f"{advice or _advice(str(column.name), counts)}"
        )
    if known:
        warn_of(
            Finding(
                f"column {column.name}",
                "suspicious",
                f"its {len(values)} texts, such as {values[0]!r}, look like {known.name}, and each "
                "is taken as a category of its own.",
                advice,
            ),
            stacklevel=4,
        )
    return tuple(values)


def _advice(column: str, counts: Counter[str]) -> str:
    """What to do about a column of more texts than categories may be."""
    frequent = sorted(counts.values(), reverse=True)
    least = frequent[FEW_DISTINCT] + 1
    kept = sum(count >= least for count in frequent)
    pool = (
        f"take those of fewer than {least} rows as one, rare={least}, which leaves {kept}; or "
        if kept
        else ""
    )
    return (
        f"If they are categories, {pool}give each one of a few features by a hash, "
        f"feature_hashing={{{column!r}: 64}}. Else leave it out: leave_out=[{column!r}]."
    )


def _targets(
    column: pd.Series, name: str, classes: bool | None, log: bool, gaps: bool
) -> tuple[np.ndarray, tuple[str | int | float | bool, ...]]:
    as_classes = (
        classes
        if classes is not None
        else not pd.api.types.is_numeric_dtype(column) or pd.api.types.is_bool_dtype(column)
    )
    if not as_classes:
        return target_numbers(column, name, log=log, gaps=gaps), ()
    if log:
        raise DataError(
            f"{name}: the target {column.name!r} is of classes, which have no logarithm. Leave "
            "out log_target."
        )
    natural = pd.api.types.is_numeric_dtype(column) or pd.api.types.is_bool_dtype(column)
    codes, found = coded(column, (lambda value: value) if natural else str)
    values = sorted(set(found))
    if len(values) < 2:
        raise DataError(
            f"{name}: the target {column.name!r} has one class only, {str(values[0])!r}. There is "
            "nothing to tell apart."
        )
    place = {value: i for i, value in enumerate(values)}
    return np.array([*(place[value] for value in found), -1], np.int64)[codes], tuple(values)


def scaled(
    train: Table,
    *others: Table,
    how: Literal["standard", "range", "robust"] = "standard",
    fill: Literal["mean", "median", "most_frequent"] = "mean",
) -> list[Table]:
    """Numeric columns brought to one scale, and gaps filled; learned on the first table only.

    A further column says where a column had gaps, if the first table has any there. A column
    without spread becomes 0. A category that the first table does not have is none of the known
    ones, since a network that never saw it has no trained weights for it.

    Parameters
    ----------
    train : Table
        The part that ranges are learned on.
    *others : Table
        Parts that are scaled by what was learned.
    how : {"standard", "range", "robust"}
        To mean 0 and standard deviation 1; to lowest 0 and highest 1; or to median 0 and distance
        of the quartiles 1, which a few wild readings do not move.
    fill : {"mean", "median", "most_frequent"}
        What a missing reading is taken for.

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
            raise DataError(
                "scaled: a table is scaled already. Scale the parts once, together, after "
                "splitting."
            )
        if table.encoding != train.encoding:
            raise DataError(
                "scaled: the tables are encoded differently: "
                f"{'; '.join(train.encoding.differences(table.encoding))}. Split one table "
                "into parts, so that they share one encoding."
            )
    numbers = train.inputs[:, :n].astype(np.float64)
    empty = np.flatnonzero(np.all(np.isnan(numbers), axis=0))
    if empty.size:
        name = train.encoding.numeric[empty[0]]
        raise DataError(f"scaled: column {name!r} has no reading in the first table. Leave it out.")
    if how not in SCALES or fill not in FILLS:
        raise DataError(
            f"scaled: how is one of {', '.join(SCALES)}, fill one of {', '.join(FILLS)}; got "
            f"{how!r} and {fill!r}."
        )
    centres, spreads = SCALES[how](numbers)
    lowest, highest = (
        np.nanmin(numbers, axis=0, initial=np.inf),
        np.nanmax(numbers, axis=0, initial=-np.inf),
    )
    gaps = tuple(np.flatnonzero(np.isnan(numbers).any(axis=0)).tolist())
    silent = n + np.flatnonzero(~train.inputs[:, n:].any(axis=0))
    scaling = Scaling(
        centres=np.where(highest == lowest, lowest, centres),
        spreads=np.where(
            (highest > lowest) & (spreads > LEAST_SPREAD * (highest - lowest)), spreads, 1.0
        ),
        fills=np.where(highest == lowest, lowest, FILLS[fill](numbers)),
        missing=gaps,
        lowest=lowest,
        highest=highest,
        gap_fractions=np.isnan(numbers).mean(axis=0),
        silent=tuple(silent.tolist()),
        rows=len(train),
    )
    return [scaled_alike(table, scaling) for table in (train, *others)]


def _most_frequent(numbers: np.ndarray) -> np.ndarray:
    """Of each column; of values that are equally frequent the smallest."""
    result = [np.unique(column[~np.isnan(column)], return_counts=True) for column in numbers.T]
    return np.array([values[np.argmax(counts)] for values, counts in result])


SCALES: dict[str, Callable[[np.ndarray], tuple[np.ndarray, np.ndarray]]] = {
    "standard": lambda x: (np.nanmean(x, axis=0), np.nanstd(x, axis=0)),
    "range": lambda x: (
        np.nanmin(x, axis=0, initial=np.inf),
        np.nanmax(x, axis=0, initial=-np.inf) - np.nanmin(x, axis=0, initial=np.inf),
    ),
    "robust": lambda x: (
        np.nanmedian(x, axis=0),
        np.subtract(*np.nanpercentile(x, [75, 25], axis=0)),
    ),
}
"""What becomes 0 of each column, and what becomes 1 from there on."""
FILLS: dict[str, Callable[[np.ndarray], np.ndarray]] = {
    "mean": lambda x: np.nanmean(x, axis=0),
    "median": lambda x: np.nanmedian(x, axis=0),
    "most_frequent": _most_frequent,
}


def scaled_alike(table: Table, scaling: Scaling) -> Table:
    """A table scaled by what was learned of another part."""
    return table._of(
        scaling.scale(table.inputs),
        table.targets,
        table.weights,
        table.provenance,
        table.encoding,
        scaling,
    )


def _inputs(
    given: Mapping[str, Sequence[str]], features: pd.DataFrame, name: str
) -> dict[str, tuple[str, ...]]:
    """Columns of several inputs, checked."""
    groups: dict[str, tuple[str, ...]] = {}
    for key, columns in given.items():
        if not isinstance(key, str) or not key.isidentifier():
            raise DataError(f"{name}: inputs have names that are words, got {key!r}.")
        if isinstance(columns, str) or not columns:
            raise DataError(f"{name}: the input {key!r} is of a list of columns, got {columns!r}.")
        for column in columns:
            if column not in features.columns:
                raise DataError(
                    f"{name}: the input {key!r} names {column!r}, which is no column of features. "
                    f"{did_you_mean(column, features.columns)}"
                )
        groups[key] = tuple(map(str, columns))
    return groups

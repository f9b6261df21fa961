"""How columns become numbers: learned once, used on every part and at prediction."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, ClassVar, Literal, Self
from zlib import crc32

import numpy as np

from ..._lazy_imports import pandas as pd
from ..._public_names import did_you_mean
from ...errors import DataError
from .._table_files import line_of

__all__ = [
    "Encoding",
    "Scaling",
    "category_text",
    "check_range",
    "class_numbers",
    "coded",
    "days_of",
    "numbers_of",
    "places_of",
    "target_numbers",
    "targets_of",
    "weights_of",
]

LARGEST = float(np.finfo(np.float32).max)
Value = str | int | float | bool


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
    class_values: tuple[Value, ...]
    """The classes as they stand in the table, in the same order."""
    unseen_categories: Literal["refuse", "zeros"] = "refuse"
    """What a category becomes that did not occur when this was learned; a missing cell where there
    was none counts as one.
    """
    missing_columns: Literal["refuse", "gaps"] = "refuse"
    """Whether a column may be missing, so that all its cells are."""
    ordered: dict[str, tuple[str, ...]] = field(default_factory=dict)
    """Numeric columns that hold categories with an order, each counted from 0."""
    dates: tuple[str, ...] = ()
    """Numeric columns that hold dates, as days since the begin of 1970."""
    pooled: tuple[str, ...] = ()
    """Columns of categories in which rare ones, and those that did not occur, are one category
    together.
    """
    log_target: bool = False
    """Whether the target is learned as its logarithm."""
    feature_hashing: dict[str, int] = field(default_factory=dict)
    """Columns of many categories, each of which sets one of so many features."""
    literal: tuple[str, ...] = ()
    """Columns of files in which only empty cells are missing: None and NA are texts there."""
    several: dict[str, tuple[Value, ...]] = field(default_factory=dict)
    """The targets by name where there are several, each with its classes; none of numbers."""
    target_gaps: bool = False
    """Whether targets may be missing."""
    weight: str = ""
    """Column that says what each row weighs, if there is one."""
    inputs: dict[str, tuple[str, ...]] = field(default_factory=dict)
    """Several inputs by name, each of some columns."""
    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    @property
    def targets(self) -> tuple[str, ...]:
        """Names of the columns that are learned."""
        return tuple(self.several) or (self.target,)

    @property
    def known_classes(self) -> Any:
        """The classes as they stand in the table; of several targets by name."""
        return dict(self.several) if self.several else self.class_values

    @property
    def columns(self) -> list[str]:
        """Names of the features, in order."""
        one_hot = [
            feature
            for name, values in self.categories.items()
            for feature in (
                *(f"{name}={value}" for value in values),
                *([f"{name}={_rare(values)}"] if name in self.pooled else []),
                *([f"{name}={_gap(values)}"] if name in self.gaps else []),
            )
        ]
        codes = [f"{name} #{i}" for name, n in self.feature_hashing.items() for i in range(n)]
        return [*self.numeric, *one_hot, *codes]

    def encode(self, frame: pd.DataFrame, name: str) -> np.ndarray:
        """Features of the rows of a table, in float64; missing numbers stay missing.

        Raises
        ------
        DataError
            If a column is missing, a category was never seen, or a text stands in a numeric column,
            unless settled otherwise.
        """
        frame = self._whole(frame, name)
        features = np.zeros((len(frame), len(self.columns)))
        for i, column in enumerate(self.numeric):
            features[:, i] = self._numbers(frame[column], name)
        at = len(self.numeric)
        for column, values in self.categories.items():
            codes, texts = coded(frame[column])
            self._check_categories(codes, texts, column, name)
            pooled, gaps = column in self.pooled, column in self.gaps
            place = {value: k for k, value in enumerate(values)}
            other = len(values) if pooled else -1
            missing = len(values) + pooled if gaps else -1
            places = [place.get(text, other) for text in texts] + [missing]
            width = len(values) + pooled + gaps
            _set_one_hot(features[:, at : at + width], np.array(places)[codes])
            at += width
        for column, n in self.feature_hashing.items():
            codes, texts = coded(frame[column])
            places = [crc32(text.encode()) % n for text in texts] + [-1]
            _set_one_hot(features[:, at : at + n], np.array(places)[codes])
            at += n
        return features

    def decode(self, features: np.ndarray, scaling: Scaling | None) -> pd.DataFrame:
        """The rows that features stand for: the counterpart of `encode`, for rows that a network
        made. Of categories the likeliest is taken; columns that were hashed cannot be told.
        """
        columns: dict[str, Any] = {}
        numbers = np.asarray(features[:, : len(self.numeric)], np.float64)
        if scaling is not None:
            numbers = numbers * scaling.spreads + scaling.centres
            for k, place in enumerate(scaling.missing):
                absent = features[:, len(self.columns) + k] > 1 / 2
                numbers[:, place] = np.where(absent, np.nan, numbers[:, place])
        for i, column in enumerate(self.numeric):
            columns[column] = self._from_numbers(column, numbers[:, i])
        at = len(self.numeric)
        for column, values in self.categories.items():
            pooled, gaps = column in self.pooled, column in self.gaps
            width = len(values) + pooled + gaps
            texts = [*values, *([_rare(values)] if pooled else []), *([None] if gaps else [])]
            chosen = features[:, at : at + width].argmax(axis=1)
            columns[column] = np.array(texts, object)[chosen]
            at += width
        return pd.DataFrame(columns)

    def _from_numbers(self, column: str, values: np.ndarray) -> Any:
        if column in self.ordered:
            known = np.array(self.ordered[column], object)
            places = np.clip(np.rint(np.nan_to_num(values)), 0, len(known) - 1).astype(int)
            return np.where(np.isnan(values), None, known[places])
        if column in self.dates:
            return pd.to_datetime(values, unit="D")
        return values

    def split(self, features: np.ndarray, scaling: Scaling | None) -> Any:
        """Features of rows as the network takes them: by the names of several inputs, or as they
        are. Scaling adds features that say where a number was missing.
        """
        if not self.inputs:
            return features
        places = self.feature_places(scaling)
        result = {}
        for name, columns in self.inputs.items():
            values = [i for c in columns for i in places[c] if i < len(self.columns)]
            flags = [i for c in columns for i in places[c] if i >= len(self.columns)]
            result[name] = features[..., values + sorted(flags)]
        return result

    def feature_places(self, scaling: Scaling | None) -> dict[str, list[int]]:
        """Which features each column became. Scaling adds some that say where a number was
        missing.
        """
        widths = dict.fromkeys(self.numeric, 1)
        for column, values in self.categories.items():
            widths[column] = len(values) + (column in self.pooled) + (column in self.gaps)
        widths |= self.feature_hashing
        result, end = {}, 0
        for column, width in widths.items():
            result[column] = list(range(end, end + width))
            end += width
        for k, number in enumerate(scaling.missing if scaling is not None else ()):
            result[self.numeric[number]].append(end + k)
        return result

    def _numbers(self, column: pd.Series, name: str) -> np.ndarray:
        if column.name in self.dates:
            return days_of(column, name)
        if column.name in self.ordered:
            return places_of(column, self.ordered[str(column.name)], name)
        return numbers_of(column, name)

    @property
    def texts_of_files(self) -> list[str]:
        """Columns that hold texts, whatever they look like in a file."""
        return [*self.categories, *self.feature_hashing]

    @staticmethod
    def texts(column: pd.Series) -> pd.Series:
        """The categories of a column as texts."""
        return column.map(category_text, na_action="ignore")

    def missing(self, frame: pd.DataFrame) -> list[str]:
        """The columns that a table does not have."""
        wanted = (*self.numeric, *self.categories, *self.feature_hashing)
        return [c for c in wanted if c not in frame.columns]

    def unseen(self, frame: pd.DataFrame) -> dict[str, dict[str, int]]:
        """How often which category occurs that did not when this was learned, by column."""
        result = {}
        for column, values in self.categories.items():
            if column in frame.columns and column not in self.pooled:
                codes, texts = coded(frame[column])
                counts = np.bincount(codes[codes >= 0], minlength=len(texts))
                new: dict[str, int] = {}
                for text, n in zip(texts, counts.tolist(), strict=True):
                    if text not in values and n:
                        new[text] = new.get(text, 0) + n
                result[column] = dict(sorted(new.items(), key=lambda item: -item[1]))
        return {column: counts for column, counts in result.items() if counts}

    def _whole(self, frame: pd.DataFrame, name: str) -> pd.DataFrame:
        missing = self.missing(frame)
        if not missing:
            return frame
        if self.missing_columns == "refuse":
            raise DataError(
                f"{name}: the column {missing[0]!r} is "
                f"missing{f', and {len(missing) - 1} more' if len(missing) > 1 else ''}. "
                f"{did_you_mean(missing[0], map(str, frame.columns))} To take all its cells as "
                "missing, train with "
                'missing_columns="gaps".'
            )
        return frame.assign(**dict.fromkeys(missing, np.nan))

    def _check_categories(
        self, codes: np.ndarray, texts: list[str], column: str, name: str
    ) -> None:
        if self.unseen_categories == "zeros":
            return
        known = self.categories[column]
        new = np.array([text not in known for text in texts] + [False], bool)
        strange = np.flatnonzero(new[codes]) if column not in self.pooled else np.empty(0, int)
        absent = codes < 0
        cure = 'To take it as none of them, train with unseen_categories="zeros".'
        if strange.size:
            raise DataError(
                f"{name}: {line_of(name, int(strange[0]))}, column {column!r}: "
                f"{texts[codes[strange[0]]]!r} did not occur in training, which "
                f"knew {_listed(known)}. {strange.size} rows hold such categories. {cure}"
            )
        if absent.any() and column not in self.gaps:
            row = int(np.argmax(absent))
            raise DataError(
                f"{name}: {line_of(name, row)}, column {column!r} is empty, and in training it "
                f"never was. {cure}"
            )

    def differences(self, other: Encoding) -> list[str]:
        """In which words the other differs."""
        result = []
        if self.numeric != other.numeric:
            result.append(
                f"numeric columns {', '.join(self.numeric)} against {', '.join(other.numeric)}"
            )
        for name in dict.fromkeys([*self.categories, *other.categories]):
            ours, theirs = self.categories.get(name), other.categories.get(name)
            if ours != theirs:
                result.append(f"categories of {name}: {_listed(ours)} against {_listed(theirs)}")
            elif (name in self.gaps) != (name in other.gaps):
                result.append(f"missing cells of {name} in one of them only")
        if self.inputs != other.inputs:
            result.append(
                f"inputs {', '.join(self.inputs) or 'one'} against "
                f"{', '.join(other.inputs) or 'one'}, or of other columns"
            )
        if self.target != other.target:
            result.append(f"target {self.target} against {other.target}")
        if self.class_values != other.class_values:
            result.append(
                f"classes {_listed(self.class_names)} against {_listed(other.class_names)}"
            )
        for setting in (
            "unseen_categories",
            "missing_columns",
            "ordered",
            "dates",
            "pooled",
            "log_target",
            "feature_hashing",
            "literal",
            "several",
            "target_gaps",
            "weight",
        ):
            if getattr(self, setting) != getattr(other, setting):
                result.append(
                    f"{setting} {getattr(self, setting)} against {getattr(other, setting)}"
                )
        return result

    def as_dict(self) -> dict[str, Any]:
        """As JSON can hold it."""
        return asdict(self)

    @classmethod
    def from_dict(cls, known: Mapping[str, Any]) -> Self:
        """What `as_dict` gave, checked.

        Raises
        ------
        DataError
            If it is something else.
        """
        from pydantic import TypeAdapter, ValidationError

        try:
            result = TypeAdapter(cls).validate_python(dict(known))
        except ValidationError as error:
            raise DataError(f"No encoding of a table: {_first(error)}") from error
        if (
            len(result.class_names) != len(result.class_values)
            or not (result.numeric or result.categories or result.feature_hashing)
            or any(n < 1 for n in result.feature_hashing.values())
        ):
            raise DataError(
                "No encoding of a table: its classes do not fit together, or it has no columns."
            )
        return result


@dataclass(frozen=True, slots=True, kw_only=True)
class Scaling:
    """What was learned of the numeric columns on the training part, one number a column."""

    centres: np.ndarray
    """What becomes 0."""
    spreads: np.ndarray
    """What becomes 1, from there on."""
    fills: np.ndarray
    """What a missing reading is taken for, in the unit of the column."""
    missing: tuple[int, ...]
    """Columns that had missing readings and got a column that says so."""
    lowest: np.ndarray
    highest: np.ndarray
    gap_fractions: np.ndarray
    """How much of each column was missing."""
    silent: tuple[int, ...] = ()
    """Features of categories that were 0 in all rows that were learned from: what is not trained
    must not act.
    """
    rows: int = 0
    """How many rows it was learned on; 0 if that was not kept."""

    def scale(self, inputs: np.ndarray) -> np.ndarray:
        """Encoded rows as the network sees them: gaps filled and told in columns of their own, then
        scaled; float32.
        """
        n = len(self.centres)
        numbers = inputs[:, :n]
        absent = np.isnan(numbers)
        scaled = np.empty((len(inputs), inputs.shape[1] + len(self.missing)), np.float32)
        scaled[:, :n] = (np.where(absent, self.fills, numbers) - self.centres) / self.spreads
        scaled[:, n : inputs.shape[1]] = inputs[:, n:]
        scaled[:, list(self.silent)] = 0
        scaled[:, inputs.shape[1] :] = absent[:, list(self.missing)]
        return scaled

    def equals(self, other: Scaling) -> bool:
        """Whether both scale alike."""
        return bool(
            self.missing == other.missing
            and self.silent == other.silent
            and all(
                np.array_equal(getattr(self, name), getattr(other, name)) for name in _LEARNED[:3]
            )
        )

    def as_dict(self) -> dict[str, Any]:
        """As JSON can hold it."""
        return {name: getattr(self, name).tolist() for name in _LEARNED} | {
            "missing": list(self.missing),
            **({"silent": list(self.silent)} if self.silent else {}),
            **({"rows": self.rows} if self.rows else {}),
        }

    @classmethod
    def from_dict(cls, known: Mapping[str, Any], columns: int) -> Self:
        """What `as_dict` gave for so many columns, checked.

        Raises
        ------
        DataError
            If it is something else.
        """
        from pydantic import NonNegativeInt, TypeAdapter, ValidationError

        known = dict(known)
        try:
            rows = TypeAdapter(NonNegativeInt).validate_python(known.pop("rows", 0))
            lists = TypeAdapter(dict[str, list[float]]).validate_python(known)
            missing, silent = (
                tuple(TypeAdapter(list[int]).validate_python(known.get(name, default)))
                for name, default in (("missing", None), ("silent", []))
            )
        except ValidationError as error:
            raise DataError(f"No scaling of a table: {_first(error)}") from error
        lists.pop("silent", None)
        if lists.keys() != {*_LEARNED, "missing"} or any(
            len(lists[name]) != columns for name in _LEARNED
        ):
            raise DataError(
                f"No scaling of a table of {columns} numeric columns: it holds "
                f"{', '.join(lists)[:80]}."
            )
        arrays = {name: np.array(lists[name], dtype=np.float64) for name in _LEARNED}
        if (
            not all(np.isfinite(a).all() for a in arrays.values())
            or not (arrays["spreads"] > 0).all()
        ):
            raise DataError(
                "No scaling of a table: a number is not finite, or a spread not positive."
            )
        if any(not 0 <= i < columns for i in missing):
            raise DataError(
                f"No scaling of a table: it tells of gaps in columns that are not there, {missing}."
            )
        if any(i < columns for i in silent):
            raise DataError(f"No scaling of a table: it silences columns of numbers, {silent}.")
        return cls(missing=missing, silent=silent, rows=rows, **arrays)


_LEARNED = ("centres", "spreads", "fills", "lowest", "highest", "gap_fractions")


def _first(error: Any) -> str:
    fault = error.errors()[0]
    return f"{'.'.join(map(str, fault['loc']))}: {fault['msg']}"


def _gap(values: Sequence[str]) -> str:
    """What a missing cell is called beside these categories."""
    return "missing" if "missing" not in values else "missing cell"


def _rare(values: Sequence[str]) -> str:
    """What rare categories together are called beside these."""
    return "rare" if "rare" not in values else "rare ones"


def _listed(names: Sequence[str] | None) -> str:
    return "none" if not names else ", ".join(names)


def category_text(value: Any) -> str:
    """A category as a text; whole numbers that gaps turned into floats as whole numbers.

    Examples
    --------
    >>> category_text(3.0), category_text("3"), category_text(True)
    ('3', '3', 'True')
    """
    if isinstance(value, float | np.floating) and float(value).is_integer():
        return str(int(value))
    return str(value)


def _set_one_hot(features: np.ndarray, places: np.ndarray) -> None:
    """Set the feature at each row's place; none where it is -1."""
    rows = np.flatnonzero(places >= 0)
    features[rows, places[rows]] = 1


def coded(
    column: pd.Series, told: Callable[[Any], Any] = category_text
) -> tuple[np.ndarray, list[Any]]:
    """Which value each cell holds, -1 where it is empty, and what is told of each: the category as
    a text.
    """
    if column.dtype == object and pd.api.types.infer_dtype(column, skipna=True) not in (
        "string",
        "boolean",
    ):
        column = column.map(told, na_action="ignore")  # among them True, which equals 1
    codes, values = pd.factorize(column)
    return np.asarray(codes), [told(value) for value in values.tolist()]


def numbers_of(column: pd.Series, name: str) -> np.ndarray:
    """A numeric column in float64, NaN where a cell is empty; times that have passed in seconds.

    Raises
    ------
    DataError
        If a cell holds something else, is infinite, or larger than float32 can hold.
    """
    if column.dtype.kind == "m":
        seconds = column.dt.total_seconds()
        return np.asarray(seconds.to_numpy(dtype=np.float64, na_value=np.nan))
    numbers = pd.to_numeric(column, errors="coerce").to_numpy(dtype=np.float64, na_value=np.nan)
    slips = np.flatnonzero(column.notna().to_numpy() & np.isnan(numbers))
    if slips.size:
        row = int(slips[0])
        raise DataError(
            f"{name}: {line_of(name, row)}, column {column.name!r}: {column.iloc[row]!r} is not a "
            "number, as the others of this "
            "column are. Correct it, empty it, or leave the column out."
        )
    check_range(numbers, column, name)
    return numbers


def days_of(column: pd.Series, name: str) -> np.ndarray:
    """Dates as days since the begin of 1970, with fractions; NaN where a cell is empty.

    Raises
    ------
    DataError
        If a cell holds no date.
    """
    texts = column.dtype.kind != "M"
    moments = pd.to_datetime(column, errors="coerce", utc=True, format="ISO8601" if texts else None)
    slips = np.flatnonzero(column.notna().to_numpy() & moments.isna().to_numpy())
    if slips.size:
        row = int(slips[0])
        raise DataError(
            f"{name}: {line_of(name, row)}, column {column.name!r}: {column.iloc[row]!r} is no "
            "date. Write dates as 2026-11-25, with the "
            "time behind it if there is one: 2026-11-25T14:30."
        )
    days: np.ndarray = ((moments - pd.Timestamp(0, tz="UTC")) / pd.Timedelta(days=1)).to_numpy(
        dtype=np.float64, na_value=np.nan
    )
    return days


def places_of(column: pd.Series, values: Sequence[str], name: str) -> np.ndarray:
    """Categories with an order as their places in it, from 0; NaN where a cell is empty.

    Raises
    ------
    DataError
        If a cell holds another category.
    """
    texts = Encoding.texts(column)
    strange = np.flatnonzero((texts.notna() & ~texts.isin(values)).to_numpy())
    if strange.size:
        row = int(strange[0])
        raise DataError(
            f"{name}: {line_of(name, row)}, column {column.name!r}: {texts.iloc[row]!r} is none "
            f"of {_listed(values)}, in order."
        )
    places: np.ndarray = texts.map({value: i for i, value in enumerate(values)}).to_numpy(
        dtype=np.float64, na_value=np.nan
    )
    return places


def check_range(numbers: np.ndarray, column: pd.Series, name: str) -> None:
    """Refuse what no network can compute with: infinite values, and those that float32 does not
    hold.
    """
    bad = np.flatnonzero(np.abs(numbers) > LARGEST)
    if bad.size:
        value = numbers[bad[0]]
        kind = "infinite" if np.isinf(value) else f"{value:.3g}, larger than any number of float32"
        raise DataError(
            f"{name}: {line_of(name, int(bad[0]))}, column {column.name!r}: the value is {kind}. "
            "Correct it, or empty it."
        )


def targets_of(frame: pd.DataFrame, encoding: Encoding, name: str) -> Any:
    """The targets of further rows as the loss takes them; several by name.

    Raises
    ------
    DataError
        If a target is missing, is no number where numbers were learned, or a class that did not
        occur in training.
    """
    for target in encoding.targets:
        if target not in frame.columns:
            raise DataError(
                f"{name}: there is no column {target!r}, the target. "
                f"{did_you_mean(target, map(str, frame.columns))}"
            )
    found = {
        target: class_numbers(
            frame[target], encoding, name, encoding.several.get(target, encoding.class_values)
        )
        for target in encoding.targets
    }
    return found if encoding.several else found[encoding.target]


def weights_of(frame: pd.DataFrame, column: str, name: str) -> np.ndarray:
    """What each row weighs, by a column, shape (n,).

    Raises
    ------
    DataError
        If a cell is empty, negative, or no number.
    """
    if column not in frame.columns:
        raise DataError(
            f"{name}: there is no column {column!r}, which says what each row weighs. "
            f"{did_you_mean(column, map(str, frame.columns))}"
        )
    weights = numbers_of(frame[column], name)
    bad = np.flatnonzero(~(weights >= 0))
    if bad.size:
        row = int(bad[0])
        raise DataError(
            f"{name}: {line_of(name, row)}, column {column!r}: {frame[column].iloc[row]!r} is no "
            "weight, which is a number of at least 0."
        )
    if not weights.any():
        raise DataError(f"{name}: all weights in column {column!r} are 0.")
    return weights.astype(np.float32)


def class_numbers(
    column: pd.Series, encoding: Encoding, name: str, classes: Sequence[Value]
) -> np.ndarray:
    """One target of further rows: class numbers ``(n,)``, or numbers ``(n, 1)``."""
    gaps = encoding.target_gaps
    if not classes:
        return target_numbers(column, name, log=encoding.log_target, gaps=gaps)
    natural = pd.api.types.is_numeric_dtype(column) or pd.api.types.is_bool_dtype(column)
    known = {value if natural else str(value): i for i, value in enumerate(classes)}
    labels = column if natural else column.map(str, na_action="ignore")
    missing = column.isna().to_numpy() if gaps else np.zeros(len(column), bool)
    strange = np.flatnonzero(~labels.isin(list(known)).to_numpy() & ~missing)
    if strange.size:
        row = int(strange[0])
        raise DataError(
            f"{name}: {line_of(name, row)}, target {column.name!r}: {column.iloc[row]!r} is no "
            "class that occurred in training, which knew "
            f"{_listed([str(value) for value in classes])}."
        )
    return labels.map(known).fillna(-1).to_numpy(dtype=np.int64)


def target_numbers(
    column: pd.Series, name: str, *, log: bool = False, gaps: bool = False
) -> np.ndarray:
    """A target of numbers, or of their logarithms, shape ``(n, 1)``, in float32; with gaps, NaN
    where there is none.

    Raises
    ------
    DataError
        If a cell holds something else.
    """
    try:
        numbers = pd.to_numeric(column).to_numpy(dtype=float, na_value=np.nan)
    except (ValueError, TypeError) as error:
        raise DataError(
            f"{name}: the target {column.name!r} does not hold numbers only: {error}. For classes "
            "say classes=True."
        ) from error
    check_range(numbers, column, name)
    if log:
        fit = (numbers > 0) | (np.isnan(numbers) & gaps)
        if not fit.all():
            row = int(np.argmin(fit))
            raise DataError(
                f"{name}: {line_of(name, row)}, target {column.name!r}: {numbers[row]:g} has no "
                "logarithm. Leave out log_target."
            )
        numbers = np.log(numbers, where=fit & ~np.isnan(numbers), out=np.full_like(numbers, np.nan))
    return numbers.astype(np.float32)[:, None]

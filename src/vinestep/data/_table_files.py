"""CSV and Parquet files and DataFrames read with care: what would put cells into wrong columns is
refused.
"""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from os import PathLike
from pathlib import Path
from typing import Any, Union

import numpy as np

from .._arguments import checked_path
from .._lazy_imports import pandas as pd
from ..errors import DataError
from ._file_stamps import unchanged

__all__ = ["THE_TABLE", "Source", "line_of", "read_frame"]

THE_TABLE = "The table"
BLOCK = 1 << 24  # bytes
END, COMMA, QUOTE, RETURN = b'\n,"\r'
MISSING = ["", "#N/A", "#N/A N/A", "#NA", "-1.#IND", "-1.#QNAN", "-NaN", "-nan", "1.#IND"]
MISSING += ["1.#QNAN", "<NA>", "N/A", "NA", "NULL", "NaN", "None", "n/a", "nan", "null"]
"""What stands for a missing cell elsewhere; pandas documents them."""
Source = Union["pd.DataFrame", str, PathLike[str]]


def read_frame(
    source: Source, *, texts: Collection[str] = (), literal: Collection[str] = ()
) -> tuple[pd.DataFrame, str]:
    """A table with texts as column names, and what to call it in messages.

    Parameters
    ----------
    source : DataFrame, str or path
        A DataFrame, a CSV file with a header, or a Parquet file.
    texts : collection of str
        Columns of a file that hold texts, whatever they look like.
    literal : collection of str
        Columns of a CSV file in which only empty cells are missing.

    Raises
    ------
    DataError
        If there is no such file, it is no CSV, a row has too many or too few cells, or two columns
        have one name.
    """
    if isinstance(source, Mapping | pd.Series | list | tuple):
        source = _as_frame(source)
    if isinstance(source, pd.DataFrame):
        frame, name = source.reset_index(drop=True), THE_TABLE
    elif not isinstance(source, str | PathLike):
        raise DataError(
            f"A table is a DataFrame, a list of dicts, or the path of a CSV or Parquet file; got "
            f"{type(source).__name__}."
        )
    else:
        path = checked_path(source, "table")
        frame, name = (
            (
                _read_parquet(path)
                if path.suffix.lower() == ".parquet"
                else _read_csv(path, texts, literal)
            ),
            str(source),
        )
    if len(frame) == 0:
        raise DataError(f"{name}: the table has no rows.")
    names = [str(column) for column in frame.columns]
    _check_unique(names, name)
    frame.columns = names
    return frame, name


def _as_frame(rows: Any) -> pd.DataFrame:
    """A row or several as a table: dicts, or one dict of columns."""
    if isinstance(rows, pd.Series):
        return rows.to_frame().T.infer_objects()
    if isinstance(rows, Mapping):
        rows = [rows] if not any(isinstance(value, list) for value in rows.values()) else rows
    elif not rows or not all(isinstance(row, Mapping | pd.Series) for row in rows):
        kinds = ", ".join(sorted({type(row).__name__ for row in rows})) or "nothing"
        raise DataError(
            f"A table is a DataFrame or a list of dicts, one a row; the list holds {kinds}."
        )
    try:
        return pd.DataFrame(rows)
    except ValueError as error:
        raise DataError(f"The columns do not make a table: {error}.") from error


def _read_csv(path: Path, texts: Collection[str], literal: Collection[str]) -> pd.DataFrame:
    if not path.is_file():
        raise DataError(f"{path}: there is no such file.")
    try:
        with unchanged(path):
            header = _check_lines(path)
            frame: pd.DataFrame = pd.read_csv(
                path,
                index_col=False,
                encoding="utf-8-sig",
                dtype={column: str for column in {*texts, *literal} if column in header},
                **_missing_marks(header, literal),
            )
            return frame
    except DataError:
        raise
    except (
        ValueError,
        OverflowError,
        OSError,
        csv.Error,
    ) as error:  # among them pandas' own and those of the encoding
        raise DataError(f"{path}: not a readable CSV file: {error}") from error


def _read_parquet(path: Path) -> pd.DataFrame:
    if not path.is_file():
        raise DataError(f"{path}: there is no such file.")
    try:
        with unchanged(path):
            return pd.read_parquet(path)
    except ImportError as error:
        raise DataError(
            f"{path}: Parquet files need pyarrow: pip install 'vinestep[parquet]'."
        ) from error
    except (ValueError, OSError, KeyError) as error:  # among them those of pyarrow
        raise DataError(f"{path}: not a readable Parquet file: {error}") from error


def _missing_marks(header: Sequence[str], literal: Collection[str]) -> dict[str, Any]:
    """What stands for a missing cell, by column."""
    if not literal:
        return {}
    marks = {column: [""] if column in literal else MISSING for column in header}
    return {"keep_default_na": False, "na_values": marks}


def _check_lines(path: Path) -> list[str]:
    """Refuse a header that names a column twice, and rows with more or fewer cells than it: their
    cells would go to wrong columns.
    """
    with path.open(newline="", encoding="utf-8-sig") as file:
        header = next((row for row in csv.reader(file) if row), [])
    _check_unique(header, str(path))
    return header if _is_even(path, len(header)) else _check_each_line(path)


def _is_even(path: Path, cells: int) -> bool:
    """Whether all rows have so many cells, by counting the commas and the ends of lines that are
    not within quotes; False if that is not sure.
    """
    within, begin, last, commas = 0, 0, 0, 0
    with path.open("rb") as file:
        while block := file.read(BLOCK):
            if b"\r" in block and block.count(b"\r") != block.count(b"\r\n"):
                return False
            data = np.frombuffer(block, np.uint8)
            ends, places = np.flatnonzero(data == END), np.flatnonzero(data == COMMA)
            if within or b'"' in block:
                quotes = np.flatnonzero(data == QUOTE)
                ends, places = (
                    found[(np.searchsorted(quotes, found) + within) % 2 == 0]
                    for found in (ends, places)
                )
                within += len(quotes)
            counts = np.diff(np.searchsorted(places, ends), prepend=0)
            if ends.size:
                counts[0] += commas
                commas = len(places) - int(np.searchsorted(places, ends[-1]))
            else:
                commas += len(places)
            lengths = np.diff(ends + begin, prepend=last - 1)
            returned = (ends > 0) & (data[ends - 1] == RETURN)
            empty = (lengths == 1) | ((lengths == 2) & returned)
            if np.any((counts != cells - 1) & ~empty) or (cells == 1 and np.any(empty)):
                return False
            last = begin + int(ends[-1]) + 1 if ends.size else last
            begin += len(block)
    return within % 2 == 0 and (last == begin or commas == cells - 1)


def _check_each_line(path: Path) -> list[str]:
    with path.open(newline="", encoding="utf-8-sig") as file:
        rows = csv.reader(file)
        header = next((row for row in rows if row), [])
        for row in rows:
            if row and len(row) != len(header):
                raise DataError(
                    f"{path}: line {rows.line_num} has {len(row)} cells, the header "
                    f"{len(header)}. Correct the line; a comma inside a "
                    'text needs quotes around it: "Alder, old".'
                )
    return header


def _check_unique(names: Sequence[str], name: str) -> None:
    twice = [column for column, n in Counter(names).items() if n > 1]
    if twice:
        raise DataError(
            f"{name}: there are {Counter(names)[twice[0]]} columns of the name {twice[0]!r}. Give "
            "each a name of its own."
        )


def line_of(name: str, row: int) -> str:
    """Rows are counted from 1; a file has its header in line 1."""
    return f"row {row + 1}" if name == THE_TABLE else f"row {row + 1} (line {row + 2} of the file)"

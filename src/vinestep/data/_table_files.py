"""CSV and Parquet files and DataFrames read with care: what would put cells into wrong columns is
refused.
"""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Collection, Sequence
from os import PathLike
from pathlib import Path

import pandas as pd

from ..errors import DataError
from ._file_stamps import unchanged

__all__ = ["THE_TABLE", "Source", "line_of", "read_frame"]

THE_TABLE = "The table"
Source = pd.DataFrame | str | PathLike[str]


def read_frame(source: Source, *, texts: Collection[str] = ()) -> tuple[pd.DataFrame, str]:
    """A table with texts as column names, and what to call it in messages.

    Parameters
    ----------
    source : DataFrame, str or path
        A DataFrame, a CSV file with a header, or a Parquet file.
    texts : collection of str
        Columns of a file that hold texts, whatever they look like.

    Raises
    ------
    DataError
        If there is no such file, it is no CSV, a row has too many or too few cells, or two columns
        have one name.
    """
    if isinstance(source, pd.DataFrame):
        frame, name = source.reset_index(drop=True), THE_TABLE
    else:
        path = Path(source)
        frame, name = (
            (_read_parquet(path) if path.suffix.lower() == ".parquet" else _read_csv(path, texts)),
            str(source),
        )
    if len(frame) == 0:
        raise DataError(f"{name}: the table has no rows.")
    names = [str(column) for column in frame.columns]
    _check_unique(names, name)
    frame.columns = names
    return frame, name


def _read_csv(path: Path, texts: Collection[str]) -> pd.DataFrame:
    if not path.is_file():
        raise DataError(f"{path}: there is no such file.")
    try:
        with unchanged(path):
            header = _check_lines(path)
            return pd.read_csv(
                path,
                index_col=False,
                encoding="utf-8-sig",
                dtype={column: str for column in texts if column in header},
            )
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


def _check_lines(path: Path) -> list[str]:
    """Refuse a header that names a column twice, and rows with more or fewer cells than it: their
    cells would go to wrong columns.
    """
    with path.open(newline="", encoding="utf-8-sig") as file:
        rows = csv.reader(file)
        header = next((row for row in rows if row), [])
        _check_unique(header, str(path))
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

"""Tokenisers that are learned from the texts of a file: for plans, which name them by kind."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path

from ..._public_names import did_you_mean
from ...errors import DataError
from ...parts._registry import maker
from .._table_files import read_frame
from ..encoding._tokens import BytePairTokeniser, CharacterTokeniser, WordTokeniser
from ..sources._files import read_text

__all__ = ["byte_pairs_of", "characters_of", "words_of"]


@maker("characters_of", "tokeniser")
def characters_of(
    file: str | os.PathLike[str], *, columns: Sequence[str] = (), special: Sequence[str] = ()
) -> CharacterTokeniser:
    """One token a character that occurs in a file.

    Parameters
    ----------
    file : path
        A text file; or a CSV or Parquet file, of which `columns` are learned from.
    columns : sequence of str
    special : sequence of str
        Tokens that stand for themselves, such as ``"<answer>"``.

    Raises
    ------
    DataError
        If the file cannot be read, or holds no text.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "notes.txt"
    >>> _ = file.write_text("rack cask")
    >>> characters_of(file).tokens
    (' ', 'a', 'c', 'k', 'r', 's')
    """
    return CharacterTokeniser.learned(_corpus(file, columns), special=special)


@maker("words_of", "tokeniser")
def words_of(
    file: str | os.PathLike[str],
    *,
    columns: Sequence[str] = (),
    most: int = 30_000,
    least_count: int = 1,
    special: Sequence[str] = (),
) -> WordTokeniser:
    """One token a word of a file, but for those that are too rare; see `characters_of` for `file`,
    `columns` and `special`.

    Parameters
    ----------
    most : int
        Words at most, the most frequent.
    least_count : int
        How often a word has to occur.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "notes.txt"
    >>> _ = file.write_text("thin thin thin")
    >>> words_of(file, most=1).tokens
    (' thin',)
    """
    return WordTokeniser.learned(
        _corpus(file, columns), most=most, least_count=least_count, special=special
    )


@maker("byte_pairs_of", "tokeniser")
def byte_pairs_of(
    file: str | os.PathLike[str],
    *,
    columns: Sequence[str] = (),
    tokens: int = 1000,
    special: Sequence[str] = (),
) -> BytePairTokeniser:
    """Pairs of bytes that are frequent in a file, and pairs of these; see `characters_of` for
    `file`, `columns` and `special`.

    Parameters
    ----------
    tokens : int
        How many there are at most, the 256 bytes among them.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "notes.txt"
    >>> _ = file.write_text("racked the cask, racked the barrel")
    >>> len(byte_pairs_of(file, tokens=262))
    262
    """
    return BytePairTokeniser.learned(_corpus(file, columns), tokens=tokens, special=special)


def _corpus(file: str | os.PathLike[str], columns: Sequence[str]) -> Iterator[str]:
    if isinstance(columns, str):
        raise DataError(f"{file}: columns is a list of names. Write columns = [{columns!r}].")
    if columns:
        texts = _cells(file, columns)
    else:
        texts = read_text(Path(file)).splitlines(keepends=True)
    if not any(texts):
        raise DataError(f"{file}: there is no text to learn a tokeniser from.")
    return iter(texts)


def _cells(file: str | os.PathLike[str], columns: Sequence[str]) -> list[str]:
    frame, name = read_frame(file)
    for column in columns:
        if column not in frame.columns:
            raise DataError(
                f"{name} has no column {column!r}. {did_you_mean(column, frame.columns)}"
            )
    return [str(cell) for column in columns for cell in frame[column].dropna()]

"""Which rows of a whole batch are here."""

from __future__ import annotations

from typing import NamedTuple

__all__ = ["Rows", "rows_of_part"]


class Rows(NamedTuple):
    """Which rows of a whole batch are here.

    Examples
    --------
    >>> Rows(2, 2, 5).stop
    4
    """

    start: int
    size: int
    whole: int

    @property
    def stop(self) -> int:
        return self.start + self.size


def rows_of_part(n: int, part: int, parts: int) -> Rows:
    """Of so many rows those of one of several parts, about equally large.

    Examples
    --------
    >>> [rows_of_part(7, part, 3).size for part in range(3)]
    [2, 2, 3]
    """
    start, stop = n * part // parts, n * (part + 1) // parts
    return Rows(start, stop - start, n)

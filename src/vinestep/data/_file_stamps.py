"""Files that must not change while they are read: half an old file and half a new one look like
data.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from ..errors import DataError

__all__ = ["Stamp", "check_unchanged", "stamp_of", "unchanged"]


class Stamp(NamedTuple):
    """What tells that a file was written to or replaced."""

    file: int
    size: int
    modified: int
    """In nanoseconds."""


def stamp_of(path: str | os.PathLike[str]) -> Stamp | None:
    """Of a file as it is now; None if there is none."""
    try:
        result = os.stat(path)
    except OSError:
        return None
    return Stamp(result.st_ino, result.st_size, result.st_mtime_ns)


def check_unchanged(path: str | os.PathLike[str], known: Stamp | None) -> None:
    """
    Raises
    ------
    DataError
        If the file is not what it was.
    """
    now = stamp_of(path)
    if now != known:
        how = "is gone" if now is None else "was changed"
        raise DataError(
            f"{path}: the file {how} since it was first looked at, so examples would come from "
            "two versions of it. Read a copy that "
            "nobody writes to, and begin again."
        )


@contextmanager
def unchanged(path: Path) -> Iterator[None]:
    """For reading in several goes.

    Raises
    ------
    DataError
        If the file changes meanwhile.
    """
    before = stamp_of(path)
    yield
    check_unchanged(path, before)

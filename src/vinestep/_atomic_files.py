"""Files that are written whole or not at all."""

from __future__ import annotations

import glob
import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Any

try:
    import fcntl
except ImportError:  # not on Windows: what killed writers leave stays there
    fcntl = None  # type: ignore[assignment]

__all__ = ["atomic_write"]

SUFFIX = ".part"


@contextmanager
def atomic_write(target: Path, *, flushed: bool = False, clear: bool = True) -> Iterator[IO[bytes]]:
    """Open a new file that replaces `target` when the block ends without an error. If it does not,
    `target` stays as it was.

    Parameters
    ----------
    target : path
    flushed : bool
        Whether its content is on the disk before it takes its place, so that no power cut leaves
        an empty file.
    clear : bool
        Whether to remove what writers of the same file left who were killed; that costs a look at
        all names in the folder.

    Raises
    ------
    OSError
        If the disk does not take it.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> path = Path(tempfile.mkdtemp(), "must.txt")
    >>> with atomic_write(path) as file:
    ...     _ = file.write(b"sweet")
    >>> path.read_text()
    'sweet'
    """
    # a name that no other process uses
    part = target.with_name(f".{target.name[:100]}.{secrets.token_hex(8)}{SUFFIX}")
    try:
        with part.open("x+b") as file:
            _hold(file)
            yield file
            file.flush()
            if flushed:
                os.fsync(file.fileno())
        os.replace(part, target)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    if clear:
        _clear_parts(target)


def _hold(file: IO[Any]) -> bool:
    """Take a lock that ends with this process; whether it was free."""
    if fcntl is None:
        return False
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def _clear_parts(target: Path) -> None:
    pattern = f".{glob.escape(target.name[:100])}.{'[0-9a-f]' * 16}{SUFFIX}"
    for left in target.parent.glob(pattern):
        with suppress(OSError), left.open("rb") as file:
            if _hold(file):
                left.unlink()

"""Sources in files: arrays, and what files of one example each have in common."""

from __future__ import annotations

import hashlib
import os
import zipfile
from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from ..._public_names import did_you_mean
from ...errors import DataError
from ...parts._registry import maker
from .._file_stamps import (
    Stamp,
    check_unchanged,
    stamp_of,
    unchanged,
)
from ._dataset import Dataset
from ._source import Source

__all__ = ["FileSource", "arrays", "bytes_of", "decoded", "read_text", "unreadable", "unzipped"]


@maker("arrays", "source")
def arrays(
    path: str | os.PathLike[str],
    *,
    inputs: str = "inputs",
    targets: str | None = "targets",
    class_values: Sequence[Any] = (),
) -> Dataset:
    """A dataset in an ``.npz`` file, or one of memory-mapped ``.npy`` files in a folder.

    Parameters
    ----------
    path : path
        An ``.npz`` file with the arrays, or a folder with ``inputs.npy`` and ``targets.npy``, which
        are read as they are used.
    inputs, targets : str
        Names of the arrays; ``targets=None``, in a plan ``""``, if there are none.

    Raises
    ------
    DataError
        If a file is missing or damaged, or would need to be unpickled.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "vines.npz"
    >>> np.savez(file, inputs=np.ones((3, 2)), targets=np.arange(3))
    >>> arrays(file)
    <Dataset of 3 examples, inputs (2,) float64>
    """
    path, targets = Path(path), targets or None
    wanted = [name for name in (inputs, targets) if name is not None]
    files = [path / f"{name}.npy" for name in wanted] if path.is_dir() else []
    stamps = {str(file): stamp_of(file) for file in files}
    found = [_mapped(file) for file in files] if files else unzipped(path, wanted)
    dataset = Dataset(
        found[0], found[1] if targets is not None else None, class_values=class_values
    )
    dataset.mapped_files = stamps
    return dataset


def _mapped(path: Path) -> np.ndarray:
    try:
        result: np.ndarray = np.load(path, mmap_mode="r", allow_pickle=False)
        return result
    except (OSError, ValueError) as error:
        raise DataError(f"{path}: the array cannot be read: {error}.") from error


def unzipped(path: Path, names: Sequence[str]) -> list[np.ndarray]:
    """Arrays of an ``.npz`` file by name."""
    try:
        with unchanged(path), np.load(path, allow_pickle=False) as file:
            for name in names:
                if name not in file.files:
                    raise DataError(
                        f"{path}: there is no array {name!r}. {did_you_mean(name, file.files)}"
                    )
            return [file[name] for name in names]
    except DataError:
        raise
    except (OSError, ValueError, zipfile.BadZipFile, EOFError, TypeError, AttributeError) as error:
        raise DataError(f"{path}: the arrays cannot be read: {error}.") from error


class FileSource(Source):
    """Files with targets, one example each; what they were like when the source was made is
    remembered.
    """

    knows_labels = True
    paths: list[Path]
    targets: np.ndarray | None

    def __len__(self) -> int:
        return len(self.paths)

    @cached_property
    def stamps(self) -> list[Stamp | None]:
        return [stamp_of(path) for path in self.paths]

    def content(self, index: int) -> bytes:
        """The bytes of an example's file, unless it has changed."""
        path = self.paths[index]
        check_is_file(path)
        try:
            with open(path, "rb", buffering=0) as file:
                result = file.read()
        except OSError as error:
            check_unchanged(path, self.stamps[index])
            raise unreadable(path, error) from error
        check_unchanged(path, self.stamps[index])
        return result

    def labels(self, target: str = "") -> np.ndarray | None:
        targets = self.targets
        return targets if targets is not None and targets.dtype.kind in "iu" else None

    def example_hashes(self) -> np.ndarray:
        """Of the bytes of the files."""
        if self._hashed is None:
            found = [
                hashlib.blake2b(self.content(i), digest_size=8).digest() for i in range(len(self))
            ]
            self._hashed = np.frombuffer(b"".join(found), np.uint64)
        return self._hashed


def check_is_file(path: Path) -> None:
    """Refuse what would be waited for, or read without end."""
    if path.exists() and not path.is_file():
        raise DataError(
            f"{path}: it is a folder, a pipe or a device, and no file. Give files to read."
        )


def bytes_of(file: Path) -> bytes:
    check_is_file(file)
    try:
        with unchanged(file):
            return file.read_bytes()
    except OSError as error:
        raise unreadable(file, error) from error


def unreadable(file: Path, error: OSError) -> DataError:
    return DataError(f"{file}: the file cannot be read: {error.strerror}.")


def read_text(file: Path, encoding: str = "utf-8") -> str:
    """A text file; a byte-order mark is left out.

    Raises
    ------
    DataError
        If it cannot be read, or a byte does not belong to the encoding: which, and where.
    """
    return decoded(bytes_of(file), file, encoding)


def decoded(data: bytes, file: Path, encoding: str = "utf-8") -> str:
    """The text that bytes of a file stand for; raises as `read_text` does."""
    try:
        return data.decode(
            "utf-8-sig" if encoding.lower().replace("_", "-") == "utf-8" else encoding
        )
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise DataError(
            f"{file}: byte {error.start} (0x{data[error.start]:02x}, in line {line}) is not "
            f"{encoding}: {error.reason}. Say which encoding "
            'the file has, such as encoding="latin-1", or mend it.'
        ) from error
    except LookupError as error:
        raise DataError(f"{file}: there is no encoding {encoding!r}.") from error

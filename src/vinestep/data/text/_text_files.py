"""Sources of text files."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ...errors import DataError
from ...parts._registry import part
from .._hashing import digest
from ..batches._joins import Example
from ..encoding._text_form import TextForm
from ..encoding._tokens import Tokeniser
from ..sources._files import FileSource, decoded

__all__ = ["TextFiles"]


@part("text_files", "source")
class TextFiles(FileSource):
    """Text files, one example each; of a folder with subfolders, each is a class.

    Parameters
    ----------
    files : path or sequence of path
        A folder, or files.
    targets : sequence, optional
    encode : tokeniser or callable, optional
        From a text to an array.
    encoding : str

    Raises
    ------
    DataError
        If a file is not in this encoding: which byte.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> _ = (folder / "note.txt").write_text("not at all thin")
    >>> TextFiles(folder)[0][0]
    'not at all thin'
    """

    def __init__(
        self,
        files: str | os.PathLike[str] | Sequence[str | os.PathLike[str]],
        targets: Sequence[Any] | None = None,
        *,
        encode: Tokeniser | Callable[[str], Any] | None = None,
        encoding: str = "utf-8",
    ) -> None:
        self.class_values: tuple[str, ...] = ()
        self.files = files
        if isinstance(files, str | os.PathLike):
            folder = Path(files)
            if not folder.is_dir():
                raise DataError(
                    f"{folder}: there is no such folder. Give a folder, or a list of files."
                )
            subfolders = sorted(
                sub for sub in folder.iterdir() if sub.is_dir() and not sub.name.startswith(".")
            )
            self.class_values = tuple(sub.name for sub in subfolders)
            of_class = [(file, k) for k, sub in enumerate(subfolders) for file in _texts_in(sub)]
            listed = [file for file, _ in of_class] if subfolders else _texts_in(folder)
            targets = [k for _, k in of_class] if subfolders else targets
        else:
            listed = [Path(file) for file in files]
        self.paths = listed
        if not self.paths:
            raise DataError("TextFiles: there are no text files.")
        if targets is not None and len(targets) != len(self.paths):
            raise DataError(f"TextFiles: {len(self.paths)} files and {len(targets)} targets.")
        _ = self.stamps
        self.targets = None if targets is None else np.asarray(targets)
        self.encode, self.encoding = encode, encoding
        if isinstance(encode, Tokeniser):
            self.text_form = TextForm(encode)

    def example(self, index: int) -> Example:
        text = decoded(self.content(index), self.paths[index], self.encoding)
        encode = self.encode.encode if isinstance(self.encode, Tokeniser) else self.encode
        return (
            text if encode is None else encode(text),
            None if self.targets is None else self.targets[index],
            None,
        )

    def settings(self) -> dict[str, Any]:
        return {
            "kind": "text_files",
            "examples": len(self),
            "encoding": self.encoding,
            "classes": list(self.class_names),
        }

    def fingerprint(self) -> str:
        return digest(self.example_hashes(), *([] if self.targets is None else [self.targets]))


def _texts_in(folder: Path) -> list[Path]:
    return sorted(file for file in folder.rglob("*.txt") if not file.name.startswith("."))

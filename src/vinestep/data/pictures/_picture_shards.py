"""Pictures in archives, many in each."""

from __future__ import annotations

import os
import tarfile
from collections.abc import Sequence
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np

from ...errors import DataError
from ...parts._registry import maker
from ..sources._shards import Shard, Shards, files_of, number_classes
from ._pictures import PICTURES, decoded_picture

__all__ = ["picture_shards"]


class _Archive(Shard):
    def __init__(self, path: Path, channels: str) -> None:
        self.channels = channels
        try:
            with tarfile.open(path) as opened:
                members = [
                    member
                    for member in opened
                    if member.isfile() and member.name.lower().endswith(PICTURES)
                ]
        except (tarfile.TarError, OSError) as error:
            raise DataError(f"{path}: no archive that can be read: {error}.") from error
        self.members = [(member.name, member.offset_data, member.size) for member in members]
        if not members:
            raise DataError(f"{path}: it holds no pictures.")
        folders = [PurePosixPath(name).parent.name for name, _, _ in self.members]
        super().__init__(path, np.array(folders), len(members))

    def _read(self) -> np.ndarray:
        if self.path.suffix != ".tar":
            with tarfile.open(self.path) as opened:
                contents = [_content(opened, name) for name, _, _ in self.members]
        else:
            with self.path.open("rb") as file:
                contents = []
                for _, offset, size in self.members:
                    file.seek(offset)
                    contents.append(file.read(size))
        pictures = [
            decoded_picture(self.path / name, content, self.channels)
            for (name, _, _), content in zip(self.members, contents, strict=True)
        ]
        shapes = {picture.shape for picture in pictures}
        if len(shapes) > 1:
            raise DataError(
                f"{self.path}: its pictures have different shapes: {sorted(shapes)[:3]}. Bring "
                "them to one size when the archives are written."
            )
        return np.stack(pictures)


def _content(opened: tarfile.TarFile, name: str) -> bytes:
    file = opened.extractfile(name)
    assert file is not None  # only files are members
    return file.read()


@maker("picture_shards", "source")
def picture_shards(
    files: str | os.PathLike[str] | Sequence[str | os.PathLike[str]],
    *,
    channels: str = "RGB",
    buffer_files: int = 4,
    class_values: Sequence[Any] = (),
) -> Shards:
    """Pictures in many ``.tar`` files; the folder in which each stands is its class.

    Parameters
    ----------
    files : path or sequence of path
        A pattern, such as ``"leaves/*.tar"``, or the files.
    channels : {"RGB", "L", "RGBA"}
    buffer_files : int
        Files whose pictures are in memory, and shuffled, at a time.
    class_values : sequence of str, optional
        The classes in their order; by default the folders that there are, sorted.

    Raises
    ------
    DataError
        If there are no files, one is no archive, or a picture is damaged or of another size.

    Examples
    --------
    >>> import io, pathlib, tarfile, tempfile
    >>> from PIL import Image
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "0.tar"
    >>> with tarfile.open(file, "w") as archive:
    ...     content = io.BytesIO()
    ...     Image.fromarray(np.zeros((4, 4, 3), np.uint8)).save(content, "PNG")
    ...     member = tarfile.TarInfo("healthy/1.png")
    ...     member.size = content.tell()
    ...     _ = content.seek(0)
    ...     archive.addfile(member, content)
    >>> vs.data.picture_shards([file]).class_values
    ('healthy',)
    """
    found = [_Archive(path, channels) for path in files_of(files)]
    values = number_classes(found, tuple(class_values))
    return Shards(found, buffer_files=buffer_files, class_values=values)

"""Sources of picture files."""

from __future__ import annotations

import io
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np

from ..._public_names import did_you_mean
from ...errors import DataError
from ...parts._registry import maker, part
from .._hashing import digest
from .._table_files import read_frame
from ..batches._joins import Example
from ..sources._files import FileSource, bytes_of

__all__ = ["PictureFolder", "Pictures", "picture_table"]

PICTURES = (".bmp", ".gif", ".jpeg", ".jpg", ".png", ".tif", ".tiff", ".webp")
ORIENTATION = 0x0112  # of a camera, a tag of Exif
MOST_PIXELS = 50_000_000  # of a picture; a file may claim more than there is memory for
DEEP = ("I;16", "I;16L", "I;16B", "I;16N")  # modes of grey values of 16 bits
WITHOUT_WHITE = {"I": "whole numbers of 32 bits", "F": "floats", "I;16S": "signed"}
Channels = Literal["RGB", "L", "RGBA"]


class Pictures(FileSource):
    """Picture files and their targets.

    Parameters
    ----------
    files : sequence of path
    targets : sequence, optional
        Class numbers, or numbers.
    class_values : sequence, optional
    channels : {"RGB", "L", "RGBA"}
        What pictures are converted to: colours, grey, or colours with opacity.
    draft : int, optional
        A size in pixels that is enough: JPEG files are read at a fraction of their own, which is
        faster.
    damaged : {"refuse", "skip"}
        What becomes of files that are no sound pictures: they are named in an error, or left out
        with a warning.

    Raises
    ------
    DataError
        When a picture is read that is damaged, or has more than 50 million pixels.

    Examples
    --------
    >>> import tempfile
    >>> from PIL import Image
    >>> file = tempfile.mkdtemp() + "/leaf.png"
    >>> Image.new("RGB", (5, 4)).save(file)
    >>> picture, label = Pictures([file], [0])[0]
    >>> picture.shape, picture.dtype.name
    ((4, 5, 3), 'uint8')
    """

    holds_lock = False

    def __init__(
        self,
        files: Sequence[str | os.PathLike[str]],
        targets: Sequence[Any] | np.ndarray | None = None,
        *,
        class_values: Sequence[str] = (),
        channels: Channels = "RGB",
        draft: int | None = None,
        damaged: Literal["refuse", "skip"] = "refuse",
    ) -> None:
        if damaged not in ("refuse", "skip"):
            raise DataError(f'Pictures: damaged is "refuse" or "skip", got {damaged!r}.')
        if targets is not None and len(targets) != len(files):
            raise DataError(f"Pictures: {len(files)} files and {len(targets)} targets.")
        self.paths = [Path(file) for file in files]
        self.targets = None if targets is None else np.asarray(targets)
        self.class_values = tuple(class_values)
        self.channels: Channels = channels
        self.draft, self.damaged = draft, damaged
        if damaged == "skip":
            self._leave_out_damaged()
        if not self.paths:
            raise DataError("Pictures: there are no files.")
        _ = self.stamps

    def _leave_out_damaged(self) -> None:
        from ..._findings import Finding, tell

        troubles = [_trouble(file, self.channels) for file in self.paths]
        sound = [i for i, trouble in enumerate(troubles) if not trouble]
        bad = [
            f"{file} ({trouble})"
            for file, trouble in zip(self.paths, troubles, strict=True)
            if trouble
        ]
        if bad:
            evidence = (
                f"{len(bad)} of {len(troubles)} are damaged and left out: "
                f"{', '.join(bad[:3])}{' and others' if len(bad) > 3 else ''}."
            )
            tell(
                [
                    Finding(
                        "the picture files",
                        "suspicious",
                        evidence,
                        "Replace them, or take them out of the folder.",
                    )
                ]
            )
        self.paths = [self.paths[i] for i in sound]
        self.targets = None if self.targets is None else self.targets[sound]

    def example(self, index: int) -> Example:
        content = self.content(index)
        return (
            decoded_picture(self.paths[index], content, self.channels, self.draft),
            None if self.targets is None else self.targets[index],
            None,
        )

    def settings(self) -> dict[str, Any]:
        return {
            "kind": "pictures",
            "examples": len(self),
            "channels": self.channels,
            "classes": list(self.class_names),
        }

    def fingerprint(self) -> str:
        return digest(self.example_hashes(), *([] if self.targets is None else [self.targets]))


def decoded_picture(
    file: Path, content: bytes, channels: str, draft: int | None = None
) -> np.ndarray:
    """A picture in its bytes, as (height, width, channels)."""
    from PIL import Image, ImageOps, UnidentifiedImageError

    try:
        with Image.open(io.BytesIO(content)) as opened:
            if opened.width * opened.height > MOST_PIXELS:
                raise DataError(
                    f"{file}: the picture claims {opened.width} by {opened.height} pixels, more "
                    f"than {MOST_PIXELS:,}. It may be made to "
                    "exhaust memory; shrink it with another program if it is sound."
                )
            if draft is not None:
                opened.draft(channels if channels != "RGBA" else "RGB", (draft, draft))
            may_be_turned = (
                "exif" in opened.info or opened.format == "TIFF"
            )  # looking further takes as long as decoding
            turned = may_be_turned and opened.getexif().get(ORIENTATION, 1) != 1
            upright = ImageOps.exif_transpose(opened) if turned else opened
            if upright.mode in DEEP:
                picture = _from_16_bits(np.asarray(upright), channels, file)
            elif upright.mode in WITHOUT_WHITE:
                raise DataError(
                    f"{file}: its values are {WITHOUT_WHITE[upright.mode]}, of which nobody says "
                    "what white is. Scale them to 8 or 16 bits, or read them yourself and give "
                    "arrays: vinestep.data.Dataset(...)."
                )
            else:
                picture = np.asarray(
                    upright if upright.mode == channels else upright.convert(channels)
                )
    except (
        OSError,
        UnidentifiedImageError,
        SyntaxError,
        ValueError,
        Image.DecompressionBombError,
    ) as error:
        told = "its format is not known" if isinstance(error, UnidentifiedImageError) else error
        raise DataError(
            f"{file}: no sound picture: {told}. Replace it, or leave such files out with "
            'damaged="skip".'
        ) from error
    return picture if picture.ndim == 3 else picture[..., None]


def _from_16_bits(values: np.ndarray, channels: str, file: Path) -> np.ndarray:
    """Grey values from 0 to 65,535 as the 8 bits that other pictures have."""
    if values.min(initial=0) < 0 or values.max(initial=0) > 65_535:
        raise DataError(f"{file}: its values go beyond 16 bits. Scale them to 8 or 16 bits.")
    grey = np.rint(values / 257).astype(np.uint8)
    if channels == "L":
        return grey
    colours = np.repeat(grey[..., None], 3, axis=2)
    if channels == "RGB":
        return colours
    return np.concatenate([colours, np.full_like(grey, 255)[..., None]], axis=2)


def _trouble(file: Path, channels: str) -> str:
    try:
        decoded_picture(file, bytes_of(file), channels, None)
    except DataError as error:
        return str(error).removeprefix(f"{file}: ")
    return ""


@part("picture_folder", "source")
class PictureFolder(Pictures):
    """A folder of pictures, one subfolder a class, in the order of their names.

    Parameters
    ----------
    folder : path
    class_values : sequence of str, optional
        The classes in the order of their numbers, as ``train.class_values`` of the training part;
        by default the subfolders' names.
    channels, draft, damaged
        As of `Pictures`.

    Raises
    ------
    DataError
        If there is no subfolder with pictures, or one that is no class.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> from PIL import Image
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> for name in ("healthy", "chlorosis"):
    ...     (folder / name).mkdir()
    ...     Image.new("RGB", (4, 4)).save(folder / name / "1.png")
    >>> PictureFolder(folder).class_names
    ('chlorosis', 'healthy')
    """

    def __init__(
        self,
        folder: str | os.PathLike[str],
        *,
        class_values: Sequence[str] | None = None,
        channels: Channels = "RGB",
        draft: int | None = None,
        damaged: Literal["refuse", "skip"] = "refuse",
    ) -> None:
        self.folder = Path(folder)
        if not self.folder.is_dir():
            raise DataError(f"{self.folder}: there is no such folder.")
        found = {
            sub.name: _pictures_in(sub)
            for sub in sorted(self.folder.iterdir())
            if sub.is_dir() and not sub.name.startswith(".")
        }
        found = {name: files for name, files in found.items() if files}
        if not found:
            raise DataError(
                f"{self.folder}: no subfolder holds pictures ({', '.join(PICTURES)}). Put those "
                "of each class into one."
            )
        names = list(class_values) if class_values is not None else list(found)
        unknown = [name for name in found if name not in names]
        if unknown:
            raise DataError(
                f"{self.folder}: {unknown[0]!r} is none of the classes {', '.join(names)}."
            )
        files = [file for name in found for file in found[name]]
        labels = [names.index(name) for name in found for _ in found[name]]
        super().__init__(
            files, labels, class_values=names, channels=channels, draft=draft, damaged=damaged
        )

    def like(self, folder: str | os.PathLike[str]) -> PictureFolder:
        """Another part, in a folder of its own, with the classes of this one."""
        return PictureFolder(
            folder,
            class_values=self.class_names,
            channels=self.channels,
            draft=self.draft,
            damaged=self.damaged,
        )

    def settings(self) -> dict[str, Any]:
        return super().settings() | {"kind": "picture_folder", "folder": str(self.folder)}


@maker("picture_table", "source")
def picture_table(
    table: str | os.PathLike[str],
    *,
    target: str,
    file: str = "file",
    classes: bool | None = None,
    channels: Channels = "RGB",
    draft: int | None = None,
    damaged: Literal["refuse", "skip"] = "refuse",
) -> Pictures:
    """Pictures named in a table, with what stands beside them.

    Parameters
    ----------
    table : path
        A CSV or Parquet file; the pictures' paths are relative to it.
    target, file : str
        The columns of targets and of paths.
    classes : bool, optional
        Whether the targets are classes; by default if they are texts.
    channels, draft, damaged
        As of `Pictures`.

    Raises
    ------
    DataError
        If a column is missing.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> from PIL import Image
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> Image.new("RGB", (5, 4)).save(folder / "1.png")
    >>> _ = (folder / "leaves.csv").write_text("file,area\\n1.png,41.5\\n")
    >>> float(picture_table(folder / "leaves.csv", target="area")[0][1])
    41.5
    """
    path = Path(table)
    frame, name = read_frame(path, texts=[file])
    for column in (target, file):
        if column not in frame.columns:
            raise DataError(
                f"{name}: there is no column {column!r}. {did_you_mean(column, frame.columns)}"
            )
        if frame[column].isna().any():
            raise DataError(
                f"{name}: column {column!r} has empty cells, first in row "
                f"{int(frame[column].isna().argmax()) + 1}."
            )
    texts = frame[target].dtype.kind not in "iuf"
    values = frame[target].astype(str) if texts else frame[target]
    names = sorted(set(values.tolist())) if (texts if classes is None else classes) else []
    numbers = {value: i for i, value in enumerate(names)}
    targets = (
        np.array([numbers[value] for value in values])
        if names
        else values.to_numpy(dtype=np.float64)
    )
    listed = [path.parent / each for each in frame[file]]
    return Pictures(
        listed,
        targets,
        class_values=list(map(str, names)),
        channels=channels,
        draft=draft,
        damaged=damaged,
    )


def _pictures_in(folder: Path) -> list[Path]:
    return sorted(
        file
        for file in folder.rglob("*")
        if file.suffix.lower() in PICTURES and not file.name.startswith(".") and file.is_file()
    )

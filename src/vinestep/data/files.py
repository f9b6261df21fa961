"""Sources in files: arrays, pictures, texts."""

from __future__ import annotations

import hashlib
import io
import os
import zipfile
from collections.abc import Callable, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

import numpy as np

from ..errors import DataError, did_you_mean
from ..parts.registry import maker, part
from .content import digest
from .dataset import Dataset
from .joining import Example
from .reading import read_frame
from .source import Source
from .tokens import Tokeniser
from .unchanged import Stamp, check_unchanged, stamp_of, unchanged

__all__ = ["PictureFolder", "Pictures", "TextFiles", "arrays", "picture_table"]

PICTURES = (".bmp", ".gif", ".jpeg", ".jpg", ".png", ".tif", ".tiff", ".webp")
ORIENTATION = 0x0112  # of a camera, a tag of Exif
MOST_PIXELS = 50_000_000  # of a picture; a file may claim more than there is memory for
Channels = Literal["RGB", "L", "RGBA"]


@maker("arrays", "source")
def arrays(
    path: str | os.PathLike[str], *, inputs: str = "inputs", targets: str | None = "targets", class_values: Sequence[Any] = ()
) -> Dataset:
    """A dataset in an ``.npz`` file, or one of memory-mapped ``.npy`` files in a folder.

    Parameters
    ----------
    path : path
        An ``.npz`` file with the arrays, or a folder with ``inputs.npy`` and ``targets.npy``, which are read as they are used.
    inputs, targets : str
        Names of the arrays; ``targets=None`` if there are none.

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
    path = Path(path)
    wanted = [name for name in (inputs, targets) if name is not None]
    files = [path / f"{name}.npy" for name in wanted] if path.is_dir() else []
    stamps = {str(file): stamp_of(file) for file in files}
    found = [_mapped(file) for file in files] if files else _unzipped(path, wanted)
    dataset = Dataset(found[0], found[1] if targets is not None else None, class_values=class_values)
    dataset.mapped_files = stamps
    return dataset


def _mapped(path: Path) -> np.ndarray:
    try:
        found: np.ndarray = np.load(path, mmap_mode="r", allow_pickle=False)
        return found
    except (OSError, ValueError) as error:
        raise DataError(f"{path}: the array cannot be read: {error}.") from error


def _unzipped(path: Path, names: Sequence[str]) -> list[np.ndarray]:
    try:
        with unchanged(path), np.load(path, allow_pickle=False) as file:
            for name in names:
                if name not in file.files:
                    raise DataError(f"{path}: there is no array {name!r}. {did_you_mean(name, file.files)}")
            return [file[name] for name in names]
    except DataError:
        raise
    except (OSError, ValueError, zipfile.BadZipFile, EOFError, TypeError, AttributeError) as error:
        raise DataError(f"{path}: the arrays cannot be read: {error}.") from error


class _Files(Source):
    """Files with targets, one example each; what they were like when the source was made is remembered."""

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
        try:
            with open(path, "rb", buffering=0) as file:
                found = file.read()
        except OSError as error:
            check_unchanged(path, self.stamps[index])
            raise _unreadable(path, error) from error
        check_unchanged(path, self.stamps[index])
        return found

    def labels(self) -> np.ndarray | None:
        targets = self.targets
        return targets if targets is not None and targets.dtype.kind in "iu" else None

    def example_hashes(self) -> np.ndarray:
        """Of the bytes of the files."""
        if self._hashed is None:
            found = [hashlib.blake2b(self.content(i), digest_size=8).digest() for i in range(len(self))]
            self._hashed = np.frombuffer(b"".join(found), np.uint64)
        return self._hashed


class Pictures(_Files):
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
        A size in pixels that is enough: JPEG files are read at a fraction of their own, which is faster.
    damaged : {"refuse", "skip"}
        What becomes of files that are no sound pictures: they are named in an error, or left out with a warning.

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
        from ..findings import Finding, tell

        troubles = [_trouble(file, self.channels) for file in self.paths]
        sound = [i for i, trouble in enumerate(troubles) if not trouble]
        bad = [f"{file} ({trouble})" for file, trouble in zip(self.paths, troubles, strict=True) if trouble]
        if bad:
            evidence = (
                f"{len(bad)} of {len(troubles)} are damaged and left out: {', '.join(bad[:3])}{' and others' if len(bad) > 3 else ''}."
            )
            tell([Finding("the picture files", "suspicious", evidence, "Replace them, or take them out of the folder.")])
        self.paths = [self.paths[i] for i in sound]
        self.targets = None if self.targets is None else self.targets[sound]

    def example(self, index: int) -> Example:
        content = self.content(index)
        return _picture(self.paths[index], content, self.channels, self.draft), None if self.targets is None else self.targets[index], None

    def settings(self) -> dict[str, Any]:
        return {"kind": "pictures", "examples": len(self), "channels": self.channels, "classes": list(self.class_names)}

    def fingerprint(self) -> str:
        return digest(self.example_hashes(), *([] if self.targets is None else [self.targets]))


def _bytes_of(file: Path) -> bytes:
    try:
        with unchanged(file):
            return file.read_bytes()
    except OSError as error:
        raise _unreadable(file, error) from error


def _unreadable(file: Path, error: OSError) -> DataError:
    return DataError(f"{file}: the file cannot be read: {error.strerror}.")


def _picture(file: Path, content: bytes, channels: str, draft: int | None) -> np.ndarray:
    from PIL import Image, ImageOps, UnidentifiedImageError

    try:
        with Image.open(io.BytesIO(content)) as opened:
            if opened.width * opened.height > MOST_PIXELS:
                raise DataError(
                    f"{file}: the picture claims {opened.width} by {opened.height} pixels, more than {MOST_PIXELS:,}. It may be made to "
                    "exhaust memory; shrink it with another program if it is sound."
                )
            if draft is not None:
                opened.draft(channels if channels != "RGBA" else "RGB", (draft, draft))
            may_be_turned = "exif" in opened.info or opened.format == "TIFF"  # looking further takes as long as decoding
            turned = may_be_turned and opened.getexif().get(ORIENTATION, 1) != 1
            upright = ImageOps.exif_transpose(opened) if turned else opened
            picture = np.asarray(upright if upright.mode == channels else upright.convert(channels))
    except (OSError, UnidentifiedImageError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
        told = "its format is not known" if isinstance(error, UnidentifiedImageError) else error
        raise DataError(f'{file}: no sound picture: {told}. Replace it, or leave such files out with damaged="skip".') from error
    return picture if picture.ndim == 3 else picture[..., None]


def _trouble(file: Path, channels: str) -> str:
    try:
        _picture(file, _bytes_of(file), channels, None)
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
        The classes in the order of their numbers, as ``train.class_values`` of the training part; by default the subfolders' names.
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
        found = {sub.name: _pictures_in(sub) for sub in sorted(self.folder.iterdir()) if sub.is_dir() and not sub.name.startswith(".")}
        found = {name: files for name, files in found.items() if files}
        if not found:
            raise DataError(f"{self.folder}: no subfolder holds pictures ({', '.join(PICTURES)}). Put those of each class into one.")
        names = list(class_values) if class_values is not None else list(found)
        unknown = [name for name in found if name not in names]
        if unknown:
            raise DataError(f"{self.folder}: {unknown[0]!r} is none of the classes {', '.join(names)}.")
        files = [file for name in found for file in found[name]]
        labels = [names.index(name) for name in found for _ in found[name]]
        super().__init__(files, labels, class_values=names, channels=channels, draft=draft, damaged=damaged)

    def like(self, folder: str | os.PathLike[str]) -> PictureFolder:
        """Another part, in a folder of its own, with the classes of this one."""
        return PictureFolder(folder, class_values=self.class_names, channels=self.channels, draft=self.draft, damaged=self.damaged)

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
            raise DataError(f"{name}: there is no column {column!r}. {did_you_mean(column, frame.columns)}")
        if frame[column].isna().any():
            raise DataError(f"{name}: column {column!r} has empty cells, first in row {int(frame[column].isna().argmax()) + 1}.")
    texts = frame[target].dtype.kind not in "iuf"
    values = frame[target].astype(str) if texts else frame[target]
    names = sorted(set(values.tolist())) if (texts if classes is None else classes) else []
    numbers = {value: i for i, value in enumerate(names)}
    targets = np.array([numbers[value] for value in values]) if names else values.to_numpy(dtype=np.float64)
    listed = [path.parent / each for each in frame[file]]
    return Pictures(listed, targets, class_values=list(map(str, names)), channels=channels, draft=draft, damaged=damaged)


def _pictures_in(folder: Path) -> list[Path]:
    return sorted(file for file in folder.rglob("*") if file.suffix.lower() in PICTURES and not file.name.startswith("."))


@part("text_files", "source")
class TextFiles(_Files):
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
                raise DataError(f"{folder}: there is no such folder. Give a folder, or a list of files.")
            subfolders = sorted(sub for sub in folder.iterdir() if sub.is_dir() and not sub.name.startswith("."))
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
            from .texts import TextForm

            self.text_form = TextForm(encode)

    def example(self, index: int) -> Example:
        text = decoded(self.content(index), self.paths[index], self.encoding)
        encode = self.encode.encode if isinstance(self.encode, Tokeniser) else self.encode
        return text if encode is None else encode(text), None if self.targets is None else self.targets[index], None

    def settings(self) -> dict[str, Any]:
        return {"kind": "text_files", "examples": len(self), "encoding": self.encoding, "classes": list(self.class_names)}

    def fingerprint(self) -> str:
        return digest(self.example_hashes(), *([] if self.targets is None else [self.targets]))


def _texts_in(folder: Path) -> list[Path]:
    return sorted(file for file in folder.rglob("*.txt") if not file.name.startswith("."))


def read_text(file: Path, encoding: str = "utf-8") -> str:
    """A text file; a byte-order mark is left out.

    Raises
    ------
    DataError
        If it cannot be read, or a byte does not belong to the encoding: which, and where.
    """
    return decoded(_bytes_of(file), file, encoding)


def decoded(data: bytes, file: Path, encoding: str = "utf-8") -> str:
    """The text that bytes of a file stand for; raises as `read_text` does."""
    try:
        return data.decode("utf-8-sig" if encoding.lower().replace("_", "-") == "utf-8" else encoding)
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise DataError(
            f"{file}: byte {error.start} (0x{data[error.start]:02x}, in line {line}) is not {encoding}: {error.reason}. Say which encoding "
            'the file has, such as encoding="latin-1", or mend it.'
        ) from error
    except LookupError as error:
        raise DataError(f"{file}: there is no encoding {encoding!r}.") from error

"""Sources in files: arrays, pictures, texts."""

from __future__ import annotations

import hashlib
import os
import zipfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np

from ..errors import DataError, did_you_mean
from .content import digest
from .dataset import Dataset
from .joining import Example
from .source import Source

__all__ = ["PictureFolder", "Pictures", "TextFiles", "arrays"]

PICTURES = (".bmp", ".gif", ".jpeg", ".jpg", ".png", ".tif", ".tiff", ".webp")
ORIENTATION = 0x0112  # of a camera, a tag of Exif
MOST_PIXELS = 50_000_000  # of a picture; a file may claim more than there is memory for
Channels = Literal["RGB", "L", "RGBA"]


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
    if path.is_dir():
        found = [_mapped(path / f"{name}.npy") for name in wanted]
    else:
        found = _unzipped(path, wanted)
    return Dataset(found[0], found[1] if targets is not None else None, class_values=class_values)


def _mapped(path: Path) -> np.ndarray:
    try:
        found: np.ndarray = np.load(path, mmap_mode="r", allow_pickle=False)
        return found
    except (OSError, ValueError) as error:
        raise DataError(f"{path}: the array cannot be read: {error}.") from error


def _unzipped(path: Path, names: Sequence[str]) -> list[np.ndarray]:
    try:
        with np.load(path, allow_pickle=False) as file:
            for name in names:
                if name not in file.files:
                    raise DataError(f"{path}: there is no array {name!r}. {did_you_mean(name, file.files)}")
            return [file[name] for name in names]
    except (OSError, ValueError, zipfile.BadZipFile, EOFError, TypeError, AttributeError) as error:
        raise DataError(f"{path}: the arrays cannot be read: {error}.") from error


class _Files(Source):
    """Files with targets, one example each."""

    files: list[Path]
    targets: np.ndarray | None

    def __len__(self) -> int:
        return len(self.files)

    def labels(self) -> np.ndarray | None:
        targets = self.targets
        return targets if targets is not None and targets.dtype.kind in "iu" else None

    def example_hashes(self) -> np.ndarray:
        """Of the bytes of the files."""
        if self._hashed is None:
            found = [hashlib.blake2b(_bytes_of(file), digest_size=8).digest() for file in self.files]
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
        targets: Sequence[Any] | None = None,
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
        self.files = [Path(file) for file in files]
        self.targets = None if targets is None else np.asarray(targets)
        self.class_values = tuple(class_values)
        self.channels, self.draft = channels, draft
        if damaged == "skip":
            self._leave_out_damaged()
        if not self.files:
            raise DataError("Pictures: there are no files.")

    def _leave_out_damaged(self) -> None:
        from ..findings import Finding, tell

        troubles = [_trouble(file, self.channels) for file in self.files]
        sound = [i for i, trouble in enumerate(troubles) if not trouble]
        bad = [f"{file} ({trouble})" for file, trouble in zip(self.files, troubles, strict=True) if trouble]
        if bad:
            evidence = (
                f"{len(bad)} of {len(troubles)} are damaged and left out: {', '.join(bad[:3])}{' and others' if len(bad) > 3 else ''}."
            )
            tell([Finding("the picture files", "suspicious", evidence, "Replace them, or take them out of the folder.")])
        self.files = [self.files[i] for i in sound]
        self.targets = None if self.targets is None else self.targets[sound]

    def example(self, index: int) -> Example:
        return _picture(self.files[index], self.channels, self.draft), None if self.targets is None else self.targets[index], None

    def settings(self) -> dict[str, Any]:
        return {"kind": "pictures", "examples": len(self), "channels": self.channels, "classes": list(self.class_names)}

    def fingerprint(self) -> str:
        return digest(self.example_hashes(), *([] if self.labels() is None else [np.asarray(self.targets)]))


def _bytes_of(file: Path) -> bytes:
    try:
        return file.read_bytes()
    except OSError as error:
        raise DataError(f"{file}: the file cannot be read: {error.strerror}.") from error


def _picture(file: Path, channels: str, draft: int | None) -> np.ndarray:
    from PIL import Image, ImageOps, UnidentifiedImageError

    try:
        with Image.open(file) as opened:
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
        raise DataError(f'{file}: no sound picture: {error}. Replace it, or leave such files out with damaged="skip".') from error
    return picture if picture.ndim == 3 else picture[..., None]


def _trouble(file: Path, channels: str) -> str:
    try:
        _picture(file, channels, None)
    except DataError as error:
        return str(error).removeprefix(f"{file}: ")
    return ""


class PictureFolder(Pictures):
    """A folder of pictures, one subfolder a class, in the order of their names.

    Parameters
    ----------
    folder : path
    classes : sequence of str, optional
        The classes in the order of their numbers, as ``train.class_names`` of the training part; by default the subfolders' names.
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
        classes: Sequence[str] | None = None,
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
        names = list(classes) if classes is not None else list(found)
        unknown = [name for name in found if name not in names]
        if unknown:
            raise DataError(f"{self.folder}: {unknown[0]!r} is none of the classes {', '.join(names)}.")
        files = [file for name in found for file in found[name]]
        labels = [names.index(name) for name in found for _ in found[name]]
        super().__init__(files, labels, class_values=names, channels=channels, draft=draft, damaged=damaged)

    def like(self, folder: str | os.PathLike[str]) -> PictureFolder:
        """Another part, in a folder of its own, with the classes of this one."""
        return PictureFolder(folder, classes=self.class_names, channels=self.channels, draft=self.draft)  # type: ignore[arg-type]

    def settings(self) -> dict[str, Any]:
        return super().settings() | {"kind": "picture_folder", "folder": str(self.folder)}


def _pictures_in(folder: Path) -> list[Path]:
    return sorted(file for file in folder.rglob("*") if file.suffix.lower() in PICTURES and not file.name.startswith("."))


class TextFiles(_Files):
    """Text files, one example each; of a folder with subfolders, each is a class.

    Parameters
    ----------
    files : path or sequence of path
        A folder, or files.
    targets : sequence, optional
    encode : callable, optional
        From a text to an array, such as ``tokeniser.encode``.
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
        encode: Callable[[str], Any] | None = None,
        encoding: str = "utf-8",
    ) -> None:
        self.class_values: tuple[str, ...] = ()
        if isinstance(files, str | os.PathLike):
            folder = Path(files)
            if not folder.is_dir():
                raise DataError(f"{folder}: there is no such folder. Give a folder, or a list of files.")
            subfolders = sorted(sub for sub in folder.iterdir() if sub.is_dir() and not sub.name.startswith("."))
            self.class_values = tuple(sub.name for sub in subfolders)
            of_class = [(file, k) for k, sub in enumerate(subfolders) for file in _texts_in(sub)]
            files = [file for file, _ in of_class] if subfolders else _texts_in(folder)
            targets = [k for _, k in of_class] if subfolders else targets
        self.files = [Path(file) for file in files]
        if not self.files:
            raise DataError("TextFiles: there are no text files.")
        if targets is not None and len(targets) != len(self.files):
            raise DataError(f"TextFiles: {len(self.files)} files and {len(targets)} targets.")
        self.targets = None if targets is None else np.asarray(targets)
        self.encode, self.encoding = encode, encoding

    def example(self, index: int) -> Example:
        text = read_text(self.files[index], self.encoding)
        return text if self.encode is None else self.encode(text), None if self.targets is None else self.targets[index], None

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
    data = _bytes_of(file)
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

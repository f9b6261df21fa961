"""Archives: arrays and JSON in one file, written whole or not at all, checked on reading.
Checkpoints and models are such files.

A zip of ``.npy`` members and one JSON member; `numpy.load` opens it with ``allow_pickle=False``.
The archive's comment holds the SHA-256 of all that comes before it, so that any changed bit is
noticed. No pickle is written or read. What a file says is checked before it is believed: names,
sizes, kinds of numbers.
"""

from __future__ import annotations

import hashlib
import json
import math
import os
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import numpy as np

from .._atomic_files import atomic_write
from ..errors import ArchiveError

__all__ = ["Archive", "flush_folder", "in_half", "is_finite", "model_arrays", "read", "write"]

META = "contents.json"
FORMAT = 1
COMMENT_SIZE = 64  # hexadecimal digits of SHA-256
ZIP_DATE = (2000, 1, 1, 0, 0, 0)  # fixed, so that equal contents make equal files
KINDS = "fiu"  # of numbers that an array may hold
CHUNK = 1 << 20  # bytes or numbers worked on at once
LARGE = 1 << 30  # bytes from which a member needs the larger fields of a zip
MOST_JSON = 32 << 20  # bytes; parsed, they take some ten times as much
TAIL = 22  # bytes of a zip's end record before its comment


@dataclass(frozen=True, slots=True)
class Archive:
    """What a file holds: arrays by name, and JSON.

    Examples
    --------
    >>> import tempfile
    >>> file = write(tempfile.mkdtemp() + "/best.npz", {"weights/0/bias": np.zeros(2)}, {})
    >>> read(file).group("weights")
    {'0/bias': array([0., 0.])}
    """

    arrays: dict[str, np.ndarray]
    meta: dict[str, Any]
    path: Path

    def group(self, name: str) -> dict[str, np.ndarray]:
        """The arrays whose names begin with ``name/``, without that beginning."""
        return _group(self.arrays, name)


def _group(arrays: Mapping[str, np.ndarray], name: str) -> dict[str, np.ndarray]:
    head = f"{name}/"
    return {key.removeprefix(head): a for key, a in arrays.items() if key.startswith(head)}


def model_arrays(
    arrays: Mapping[str, np.ndarray], average_share: Any = None
) -> dict[str, np.ndarray]:
    """Weights and running statistics that the model in a file or a saved state computes with.

    Parameters
    ----------
    arrays : mapping of name to ndarray
    average_share : float, optional
        If a running average of the weights was kept, which then takes their place: what its sums
        are divided by.

    Examples
    --------
    >>> saved = {"weights/bias": np.ones(1), "average/bias": np.array([3.0])}
    >>> model_arrays(saved), model_arrays(saved, 0.5)
    ({'bias': array([1.])}, {'bias': array([6.])})
    """
    weights = _group(arrays, "weights")
    if average_share is not None:
        average = _group(arrays, "average")
        weights |= {path: a / a.dtype.type(average_share) for path, a in average.items()}
    return weights | _group(arrays, "statistics")


def in_half(array: np.ndarray) -> np.ndarray:
    """As float16 if nothing is lost by it."""
    with np.errstate(over="ignore"):
        rounded = array.astype(np.float16)
    return rounded if np.array_equal(rounded, array) else array


def write(
    path: str | os.PathLike[str],
    arrays: Mapping[str, np.ndarray],
    meta: Mapping[str, Any],
    *,
    make_folder: bool = True,
) -> Path:
    """Write an archive: to a temporary file, flushed to disk, renamed. Needs no memory to speak of.

    Parameters
    ----------
    path : path
    arrays : mapping of name to ndarray
        Finite numbers only.
    meta : mapping
        Anything JSON can hold.
    make_folder : bool
        Whether a folder that is not there is made.

    Raises
    ------
    ArchiveError
        If an array holds other things than finite numbers, or the disk does not take the file; what
        was there before stays.

    Examples
    --------
    >>> import tempfile
    >>> file = write(tempfile.mkdtemp() + "/weights.npz", {"0/weight": np.ones(2)}, {"step": 5})
    >>> read(file).meta["step"], np.load(file, allow_pickle=False)["0/weight"]
    (5, array([1., 1.]))
    """
    target = Path(path)
    ready = {name: _checked(target, name, np.asarray(array)) for name, array in arrays.items()}
    text = _json(target, {"format": FORMAT, **meta})
    try:
        if make_folder:
            target.parent.mkdir(parents=True, exist_ok=True)
        # of a run's folder, which is there, parts are removed when it is held
        with atomic_write(target, flushed=True, clear=make_folder) as file:
            _pack(file, ready, text)
            _seal(file)
        flush_folder(target.parent)
    except OSError as error:
        raise ArchiveError(
            f"{target}: could not be written: {error}. What was there before is untouched."
        ) from error
    return target


def flush_folder(folder: Path) -> None:
    """Let the names in a folder be on disk: what was written, renamed or removed there survives a
    power cut.

    Examples
    --------
    >>> import tempfile
    >>> flush_folder(Path(tempfile.mkdtemp()))
    """
    if os.name == "nt":  # a folder cannot be opened there
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _checked(target: Path, name: str, array: np.ndarray) -> np.ndarray:
    if array.dtype.hasobject:
        raise ArchiveError(f"{target}: {name} holds Python objects; an archive holds numbers only.")
    if array.dtype.kind not in KINDS:
        raise ArchiveError(
            f"{target}: {name} holds {array.dtype}; an archive holds real numbers only."
        )
    if not is_finite(array):
        raise ArchiveError(
            f"{target}: {name} holds NaN or infinity. It is not written; what was there before "
            "stays."
        )
    return array


def is_finite(array: np.ndarray) -> bool:
    """Whether all numbers are, looked at part by part.

    Examples
    --------
    >>> is_finite(np.array([1.0, np.inf]))
    False
    """
    if array.dtype.kind != "f":
        return True
    flat = array.reshape(-1)
    return all(
        np.isfinite(flat[start : start + CHUNK]).all() for start in range(0, flat.size, CHUNK)
    )


def _json(target: Path, meta: Mapping[str, Any]) -> str:
    try:
        return json.dumps(meta, allow_nan=False)
    except (TypeError, ValueError) as error:
        raise ArchiveError(
            f"{target}: what should stand besides its arrays is not JSON: {error}."
        ) from error


def _pack(file: IO[bytes], arrays: Mapping[str, np.ndarray], text: str) -> None:
    with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as archive:
        for name, array in arrays.items():
            with archive.open(
                zipfile.ZipInfo(name + ".npy", ZIP_DATE), "w", force_zip64=array.nbytes > LARGE
            ) as member:
                np.lib.format.write_array(member, np.asarray(array, order="C"), allow_pickle=False)
        archive.writestr(zipfile.ZipInfo(META, ZIP_DATE), text)
        archive.comment = b"0" * COMMENT_SIZE


def _seal(file: IO[bytes]) -> None:
    """Put the check sum of all that comes before it in its place."""
    file.flush()
    size = file.seek(0, os.SEEK_END) - COMMENT_SIZE
    digest = _digest(file, size)
    file.seek(size)
    file.write(digest)


def _digest(file: IO[bytes], size: int) -> bytes:
    file.seek(0)
    result = hashlib.sha256()
    while size > 0 and (part := file.read(min(size, CHUNK))):
        result.update(part)
        size -= len(part)
    return result.hexdigest().encode()


def read(path: str | os.PathLike[str]) -> Archive:
    """Read an archive, if it is sound.

    Raises
    ------
    ArchiveError
        If the file is missing, cut short, changed in any bit, or carries anything but finite
        numbers and JSON; with its name and the reason. Sizes are checked before anything is
        unpacked: reading needs no more memory than the file is large.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> file = write(tempfile.mkdtemp() + "/best.npz", {"bias": np.zeros(2)}, {})
    >>> _ = pathlib.Path(file).write_bytes(pathlib.Path(file).read_bytes()[:-10])
    >>> read(file)
    Traceback (most recent call last):
    vinestep.errors.ArchiveError: ...best.npz: refused: the check sum does not fit, it is cut short.
    """
    source = Path(path)
    try:
        with source.open("rb") as file:
            size = os.fstat(file.fileno()).st_size
            _check_digest(source, file, size)
            return _unpacked(source, file, size)
    except OSError as error:
        raise ArchiveError(f"{source}: it cannot be read: {error.strerror or error}.") from error


def _check_digest(source: Path, file: IO[bytes], size: int) -> None:
    if size < TAIL + COMMENT_SIZE or file.read(2) != b"PK":
        raise ArchiveError(
            f"{source}: refused: {size} bytes that do not begin as such a file does. It is cut "
            "short or another file."
        )
    found = _digest(file, size - COMMENT_SIZE)
    if file.read(COMMENT_SIZE) != found:
        file.seek(size - COMMENT_SIZE - TAIL)
        cause = (
            "it is cut short"
            if file.read(4) != b"PK\x05\x06"
            else "its contents have changed since it was written"
        )
        raise ArchiveError(f"{source}: refused: the check sum does not fit, {cause}.")


def _unpacked(source: Path, file: IO[bytes], size: int) -> Archive:
    try:
        with zipfile.ZipFile(file) as archive:
            members = archive.infolist()
            _check_members(members, size)
            meta = _parsed(archive.read(META))
            arrays = {
                member.filename[:-4]: _array(archive, member)
                for member in members
                if member.filename != META
            }
    except OSError:
        raise
    except Exception as error:  # whatever a parser makes of a file that was made to mislead it
        raise ArchiveError(f"{source}: refused: {_reason(error)}.") from error
    return Archive(arrays, meta, source)


def _reason(error: Exception) -> str:
    if isinstance(error, _RefusedError):
        return str(error)
    return f"not a file of this library ({type(error).__name__}: {str(error)[:200]})"


class _RefusedError(Exception):
    """What is wrong with a file."""


def _check_members(members: list[zipfile.ZipInfo], size: int) -> None:
    """Names that stay where they are, and sizes that fit into the file."""
    names = [member.filename for member in members]
    if len(set(names)) < len(names):
        raise _RefusedError("it carries two members of one name")
    if META not in names:
        raise _RefusedError(f"it carries no {META}")
    for member in members:
        name = member.filename
        if name != META and not name.endswith(".npy"):
            raise _RefusedError(
                f"it carries {name[:80]!r}, which is neither an array nor its description"
            )
        if (
            name.startswith("/")
            or "\\" in name
            or ":" in name
            or ".." in name.split("/")
            or not name.isprintable()
        ):
            raise _RefusedError(f"the member {name[:80]!r} has a name that leads elsewhere")
        if member.flag_bits & 1:
            raise _RefusedError(f"the member {name[:80]!r} is encrypted")
        if member.compress_type != zipfile.ZIP_STORED or member.file_size != member.compress_size:
            raise _RefusedError(f"the member {name[:80]!r} is compressed")
    if sum(member.file_size for member in members) > size:
        raise _RefusedError("its members claim more bytes than it has")
    if next(member.file_size for member in members if member.filename == META) > MOST_JSON:
        raise _RefusedError(f"{META} is larger than {MOST_JSON >> 20} MB")


def _finite_number(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise _RefusedError(f"{META} holds the number {text[:20]}, which is not finite")
    return value


def _parsed(content: bytes) -> dict[str, Any]:
    try:
        meta = json.loads(
            content.decode(), parse_float=_finite_number, parse_constant=_finite_number
        )
    except RecursionError:
        raise _RefusedError(f"{META} is nested too deeply") from None
    if not isinstance(meta, dict):
        raise _RefusedError(f"{META} holds a {type(meta).__name__} in place of an object")
    if meta.get("format") != FORMAT:
        raise _RefusedError(
            f"written in format {str(meta.get('format'))[:20]!r}, this version reads {FORMAT}"
        )
    return meta


def _array(archive: zipfile.ZipFile, member: zipfile.ZipInfo) -> np.ndarray:
    """One member; its header is looked at before room is made for its contents."""
    name = member.filename[:80]
    with archive.open(member) as stream:
        version = np.lib.format.read_magic(stream)
        if version not in ((1, 0), (2, 0)):
            raise _RefusedError(f"{name!r} is an array of version {version}")
        header = (
            np.lib.format.read_array_header_1_0
            if version == (1, 0)
            else np.lib.format.read_array_header_2_0
        )
        shape, fortran, dtype = header(stream)
        if dtype.hasobject:
            raise _RefusedError(
                f"{name!r} holds Python objects, that is a pickle, which could run code; it was "
                "not read"
            )
        if dtype.kind not in KINDS or dtype.fields is not None:
            raise _RefusedError(f"{name!r} holds {str(dtype)[:40]}, and weights are real numbers")
        if (
            any(n < 0 for n in shape)
            or math.prod(shape) * dtype.itemsize != member.file_size - stream.tell()
        ):
            raise _RefusedError(
                f"{name!r} says it is of shape {str(shape)[:60]}, which is not what it holds"
            )
        array = np.empty(shape, dtype, order="F" if fortran else "C")
        octets: Any = array.reshape(-1, order="A").view(np.uint8) if array.size else b""
        room = memoryview(octets)
        done = 0
        while done < len(room):
            n = stream.readinto(room[done : done + CHUNK])  # type: ignore[attr-defined]
            if not n:
                raise _RefusedError(f"{name!r} ends too early")
            done += n
    if not is_finite(array):
        raise _RefusedError(f"{name!r} holds NaN or infinity")
    return array

"""Checkpoints: one file, written whole or not at all, checked on reading.

A zip of ``.npy`` members and one JSON member; `numpy.load` opens it with ``allow_pickle=False``. The archive's comment
holds the SHA-256 of all that comes before it, so that any changed bit is noticed. No pickle is written or read.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import tempfile
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..errors import CheckpointError

__all__ = ["Checkpoint", "newest_sound", "read", "write"]

META = "checkpoint.json"
SUFFIX = ".npz"
FORMAT = 1
COMMENT_SIZE = 64  # hexadecimal digits of SHA-256
ZIP_DATE = (2000, 1, 1, 0, 0, 0)  # fixed, so that equal contents make equal files
TAIL = 22  # bytes of a zip's end record before its comment


@dataclass(frozen=True, slots=True)
class Checkpoint:
    """What a checkpoint file holds.

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
        return {key[len(name) + 1 :]: array for key, array in self.arrays.items() if key.startswith(name + "/")}


def write(path: str | os.PathLike[str], arrays: Mapping[str, np.ndarray], meta: Mapping[str, Any]) -> Path:
    """Write a checkpoint: to a temporary file, flushed to disk, renamed.

    Parameters
    ----------
    path : path
        Ends in ``.npz``.
    arrays : mapping of name to ndarray
        Numbers only.
    meta : mapping
        Anything JSON can hold.

    Raises
    ------
    CheckpointError
        If an array holds objects, or the disk does not take the file; what was there before stays.

    Examples
    --------
    >>> import tempfile
    >>> file = write(tempfile.mkdtemp() + "/weights.npz", {"0/weight": np.ones(2)}, {"step": 5})
    >>> read(file).meta["step"], np.load(file, allow_pickle=False)["0/weight"]
    (5, array([1., 1.]))
    """
    target = Path(path)
    content = _packed(arrays, {"format": FORMAT, **meta}, target)
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(dir=target.parent, prefix=f".{target.name}.", suffix=".part")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(content)
                file.flush()
                os.fsync(file.fileno())
            os.replace(temporary, target)
        except BaseException:
            Path(temporary).unlink(missing_ok=True)
            raise
        _flush_folder(target.parent)
    except OSError as error:
        raise CheckpointError(f"{target}: the checkpoint could not be written: {error}. Earlier checkpoints are untouched.") from error
    return target


def _flush_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _packed(arrays: Mapping[str, np.ndarray], meta: Mapping[str, Any], target: Path) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_STORED) as archive:
        for name, array in arrays.items():
            array = np.asarray(array)
            if array.dtype.hasobject:
                raise CheckpointError(f"{target}: {name} holds Python objects; a checkpoint holds numbers only.")
            member = io.BytesIO()
            np.lib.format.write_array(member, np.asarray(array, order="C"), allow_pickle=False)
            archive.writestr(zipfile.ZipInfo(name + ".npy", ZIP_DATE), member.getvalue())
        archive.writestr(zipfile.ZipInfo(META, ZIP_DATE), json.dumps(meta))
        archive.comment = b"0" * COMMENT_SIZE
    content = buffer.getvalue()[:-COMMENT_SIZE]
    return content + hashlib.sha256(content).hexdigest().encode()


def read(path: str | os.PathLike[str]) -> Checkpoint:
    """Read a checkpoint, if it is sound.

    Raises
    ------
    CheckpointError
        If the file is missing, cut short, changed in any bit, or carries anything but numbers and JSON; with its name and
        the reason. Nothing of it is unpacked before it has been checked.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> file = write(tempfile.mkdtemp() + "/best.npz", {"bias": np.zeros(2)}, {})
    >>> _ = pathlib.Path(file).write_bytes(pathlib.Path(file).read_bytes()[:-10])
    >>> read(file)
    Traceback (most recent call last):
    vinestep.errors.CheckpointError: ...best.npz: refused: the check sum does not fit, it is cut short.
    """
    source = Path(path)
    try:
        content = source.read_bytes()
    except OSError as error:
        raise CheckpointError(f"{source}: the checkpoint can not be read: {error.strerror or error}.") from error
    _check_digest(source, content)
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            arrays = {name[:-4]: _array(source, archive, name) for name in archive.namelist() if name != META}
            meta = json.loads(archive.read(META))
    except (zipfile.BadZipFile, KeyError, ValueError, EOFError) as error:
        if isinstance(error, CheckpointError):
            raise
        raise CheckpointError(f"{source}: refused: not a checkpoint of this library ({error}).") from error
    if meta.get("format") != FORMAT:
        raise CheckpointError(f"{source}: refused: written in format {meta.get('format')!r}, this version reads {FORMAT}.")
    return Checkpoint(arrays, meta, source)


def _check_digest(source: Path, content: bytes) -> None:
    if len(content) < TAIL + COMMENT_SIZE or content[:2] != b"PK":
        raise CheckpointError(
            f"{source}: refused: {len(content)} bytes that do not begin as a checkpoint does. It is cut short or another file."
        )
    body, digest = content[:-COMMENT_SIZE], content[-COMMENT_SIZE:]
    if hashlib.sha256(body).hexdigest().encode() != digest:
        cause = "it is cut short" if body[-TAIL:][:4] != b"PK\x05\x06" else "its contents have changed since it was written"
        raise CheckpointError(f"{source}: refused: the check sum does not fit, {cause}.")


def _array(source: Path, archive: zipfile.ZipFile, name: str) -> np.ndarray:
    """One member; its header is looked at before its contents are."""
    if not name.endswith(".npy"):
        raise CheckpointError(f"{source}: refused: it carries {name!r}, which is neither an array nor its description.")
    member = io.BytesIO(archive.read(name))
    version = np.lib.format.read_magic(member)
    header = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
    if header(member)[2].hasobject:
        raise CheckpointError(f"{source}: refused unread: {name!r} holds Python objects, that is a pickle, which could run code.")
    member.seek(0)
    return np.lib.format.read_array(member, allow_pickle=False)


def newest_sound(folder: str | os.PathLike[str]) -> tuple[Checkpoint, list[str]]:
    """The newest checkpoint of a folder that can be trusted, and why newer ones were passed over.

    Raises
    ------
    CheckpointError
        If there is none.

    Examples
    --------
    >>> import tempfile
    >>> folder = tempfile.mkdtemp()
    >>> for step in (1, 2):
    ...     file = write(f"{folder}/step-{step:08d}.npz", {}, {"step": step})
    >>> checkpoint, refused = newest_sound(folder)
    >>> checkpoint.meta["step"], refused
    (2, [])
    """
    refused: list[str] = []
    files = sorted(Path(folder).glob(f"step-*{SUFFIX}"), key=_step_of, reverse=True)
    for file in files:
        try:
            return read(file), refused
        except CheckpointError as error:
            refused.append(str(error))
    reasons = " ".join(refused)
    raise CheckpointError(f"{folder}: there is no {'sound ' if refused else ''}checkpoint to continue from. {reasons}".strip())


def _step_of(file: Path) -> int:
    digits = file.stem.rpartition("-")[2]
    return int(digits) if digits.isdigit() else -1

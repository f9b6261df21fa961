"""Whether an array was changed after a record came to rely on it."""

from __future__ import annotations

import zlib
from typing import Any

import numpy as np

from .. import kernels
from ..kernels.machinery.pool import helpers

__all__ = ["CHECKSUM_BYTES", "OwnMemory", "Untouched", "checksum_of", "is_unchanged"]

CHECKSUM_BYTES = 1 << 13  # up to here the bytes themselves are kept


def checksum_of(array: np.ndarray) -> Any:
    """What shows later whether an array was changed: its bytes, or of a larger one a check sum of
    them.
    """
    if array.nbytes <= CHECKSUM_BYTES:
        return array.tobytes()
    if kernels.usable():
        try:
            return _digest(array)
        except kernels.Unsound as error:
            kernels.give_up(error)
    return zlib.crc32(_bytes(array).data)


def is_unchanged(array: np.ndarray, seal: Any) -> bool:
    """Whether an array holds, bit for bit, what it held when it was sealed."""
    if type(seal) is bytes:
        return bool(array.tobytes() == seal)
    return bool(seal == (_digest(array) if type(seal) is tuple else zlib.crc32(_bytes(array).data)))


def _digest(array: np.ndarray) -> tuple[int, bytes]:
    if array.nbytes % 8 == 0 and array.flags.c_contiguous:
        words = array.reshape(-1).view(np.uint64)
        return kernels.reductions.digest(*helpers(words.size), words), b""
    flat = _bytes(array)
    whole = flat.size // 8 * 8
    words = flat[:whole].view(np.uint64)
    return kernels.reductions.digest(*helpers(words.size), words), flat[whole:].tobytes()


def _bytes(array: np.ndarray) -> np.ndarray:
    return np.ascontiguousarray(array).reshape(-1).view(np.uint8)


class Untouched:
    """Stands for what own memory holds until the library writes to it."""

    __slots__ = ("memory",)

    def __init__(self, memory: OwnMemory) -> None:
        self.memory = memory


class OwnMemory:
    """Memory of a network's parameters, which only the library writes to as long as no part of it
    was handed out.

    A record needs to know whether a parameter was changed since it was used. Where only the library
    can have done that, it is enough that whoever writes says so, and nothing has to be read. What a
    parameter held when it was first handed out as a plain array is kept for the records made
    before; those made after keep seals of their own.
    """

    __slots__ = ("arrays", "handed_out", "now")

    def __init__(self) -> None:
        self.now = Untouched(self)
        self.arrays: dict[Any, np.ndarray] = {}
        """Of each leaf."""
        self.handed_out: dict[Any, Any] = {}
        """The seals."""

    def written(self) -> None:
        """The library writes to some of it."""
        self.now = Untouched(self)

    def hand_out(self, leaf: Any) -> None:
        """Anybody may write to this parameter from now on."""
        if leaf not in self.handed_out:
            self.handed_out[leaf] = checksum_of(self.arrays[leaf])

    def still_holds(self, seal: Untouched, leaf: Any) -> bool:
        """Whether a parameter holds what it held when this was the seal."""
        return self.now is seal and (
            leaf not in self.handed_out or is_unchanged(self.arrays[leaf], self.handed_out[leaf])
        )

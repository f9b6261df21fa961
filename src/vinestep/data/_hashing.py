"""Data told apart by what it holds."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

import numpy as np

__all__ = ["digest", "row_hashes"]

CHUNK = 1 << 24  # bytes worked on at once


def digest(*arrays: np.ndarray) -> str:
    """A fingerprint of the contents, shapes and dtypes of arrays: 32 hexadecimal digits."""
    result = hashlib.blake2b(digest_size=16)
    for array in arrays:
        result.update(f"{array.shape} {array.dtype.str};".encode())
        for part in _chunks(array):
            result.update(_bytes(part))
    return result.hexdigest()


def _chunks(array: np.ndarray) -> Iterator[np.ndarray]:
    if not array.ndim:
        yield array.reshape(1)
        return
    n = max(1, CHUNK // max(array[:1].nbytes, 1))
    for start in range(0, len(array), n):
        yield array[start : start + n]


def _bytes(part: np.ndarray) -> bytes | memoryview:
    if part.dtype.hasobject:
        return repr(part.tolist()).encode()
    return np.ascontiguousarray(part).reshape(-1).view(np.uint8).data


def row_hashes(*arrays: np.ndarray) -> np.ndarray:
    """A number of 64 bits for what each row holds, in all arrays together: equal rows have equal
    ones.
    """
    total = np.zeros(len(arrays[0]), np.uint64)
    for number, array in enumerate(arrays):
        start = 0
        for part in _chunks(array):
            total[start : start + len(part)] += _hashed(part, number)
            start += len(part)
    return total


def _hashed(part: np.ndarray, number: int) -> np.ndarray:
    """Words mixed so that no bit stays alone, then summed with odd random weights (J. L. Carter and
    M. N. Wegman, 1979).
    """
    if part.dtype.hasobject:
        part = np.array(
            [hashlib.blake2b(repr(row).encode(), digest_size=8).digest() for row in part.tolist()],
            "S8",
        )
    rows = np.ascontiguousarray(part).reshape(len(part), -1).view(np.uint8)
    width = -(-rows.shape[1] // 8) * 8
    words = np.zeros((len(rows), width), np.uint8)
    words[:, : rows.shape[1]] = rows
    mixed = words.view(np.uint64)
    weights = np.random.default_rng(number).integers(
        0, 2**63, mixed.shape[1], np.uint64
    ) * np.uint64(2) + np.uint64(1)
    with np.errstate(over="ignore"):
        mixed = (mixed ^ (mixed >> np.uint64(32))) * np.uint64(0x9E3779B97F4A7C15)
        result: np.ndarray = ((mixed ^ (mixed >> np.uint64(29))) * weights).sum(
            axis=1, dtype=np.uint64
        )
    return result

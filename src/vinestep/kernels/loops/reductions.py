"""Sums over flat arrays."""

from __future__ import annotations

import numpy as np

from ..machinery.array_access import empty, line
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.grain_sizes import SHARES
from ..machinery.job_distribution import (
    distribute,
    job,
    parts_of,
    span,
)
from ..machinery.symbol_calls import call

__all__ = ["digest", "square_sum"]

READ_ALONE = 1 << 16  # words: another processor would have to fetch them first


@inner_kernel
def _part_of_square_sum(x, totals, parts, part):
    begin, end = span(x.size, parts, 1, part)
    own = line(x, begin, end - begin)
    total = 0.0
    for i in range(own.size):
        value = np.float64(own[i])
        total += value * value
    totals[part] = total


@kernel
def square_sum(board, threads, x):
    """Sum of squares, in float64."""
    parts = parts_of(threads, x.size, 1, 1, SHARES) if threads > 1 else 1
    totals = np.empty(parts)
    call(distribute, board, parts, job(_part_of_square_sum, (x, totals, parts)))
    total = 0.0
    for part in range(parts):
        total += totals[part]
    return total


@inner_kernel
def _part_of_digest(words, totals, parts, part):
    begin, end = span(words.size, parts, 1, part)
    own = line(words, begin, end - begin)
    total, step, half, low = (
        np.uint64(0),
        np.uint64(0x9E3779B97F4A7C15),
        np.uint64(32),
        np.uint64(0xFFFFFFFF),
    )
    key = np.uint64(begin) * step
    for i in range(own.size):
        mixed = own[i] + key
        key += step
        total += (mixed & low) * (mixed >> half) + mixed
    totals[part] = total


@kernel
def digest(board, threads, words):
    """A number that is another one if any of the words (uint64) is changed, but for one chance in
    some thousand millions.

    To each word a key of its place is added, and the halves are multiplied, as in NH (Black,
    Halevi, Krawczyk, Krovetz, Rogaway, 1999).
    """
    parts = parts_of(threads, words.size, 1, 1, SHARES) if words.size > READ_ALONE else 1
    totals = empty(parts, words.dtype)
    call(distribute, board, parts, job(_part_of_digest, (words, totals, parts)))
    total = np.uint64(0)
    for part in range(parts):
        total += totals[part]
    return total

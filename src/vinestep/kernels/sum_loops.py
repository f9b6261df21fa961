"""Sums over flat arrays."""

from __future__ import annotations

import numpy as np

from .calls import call
from .compiling import inner_kernel, kernel
from .sharing_loops import distribute, handed, parts_of, span
from .shortcuts import line
from .sizes import SHARES

__all__ = ["square_sum"]


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
    call(distribute, board, parts, handed(_part_of_square_sum, (x, totals, parts)))
    total = 0.0
    for part in range(parts):
        total += totals[part]
    return total

"""Loops of dropout, whose factors are drawn again on the way back rather than kept."""

from __future__ import annotations

import numpy as np

from ..machinery.array_access import line
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.grain_sizes import SHARES
from ..machinery.job_distribution import distribute, job, parts_of, span
from ..machinery.random_words import GOLDEN, MIX1, MIX2
from ..machinery.symbol_calls import call

__all__ = ["drawn_factor", "drop", "drop_both"]


@inner_kernel
def drawn_factor(start, place, threshold, scale, zero):
    """`scale`, or 0 where the highest 24 bits of the word at this place are below the threshold."""
    z = start + np.uint64(GOLDEN) * place
    z = (z ^ (z >> np.uint64(30))) * np.uint64(MIX1)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(MIX2)
    z ^= z >> np.uint64(31)
    return scale if (z >> np.uint64(40)) >= threshold else zero


@inner_kernel
def _part_of_drop(x, out, start, first, threshold, scale, parts, part):
    begin, end = span(x.size, parts, 1, part)
    x, out = line(x, begin, end - begin), line(out, begin, end - begin)
    place, zero = first + np.uint64(begin), x.dtype.type(0)
    for i in range(x.size):
        out[i] = x[i] * drawn_factor(start, place + np.uint64(i), threshold, scale, zero)


@kernel
def drop(board, threads, x, out, words, threshold, scale):
    """``out = x * factors``, both flat; `words` are where the stream starts and the first place."""
    parts = parts_of(threads, x.size, 1, 1, SHARES)
    least, factor = np.uint64(threshold), x.dtype.type(scale)
    call(
        distribute,
        board,
        parts,
        job(_part_of_drop, (x, out, words[0], words[1], least, factor, parts)),
    )


@inner_kernel
def _part_of_drop_both(x, out, g, start, first, threshold, scale, parts, part):
    begin, end = span(x.size, parts, 1, part)
    n = end - begin
    x, out, g = line(x, begin, n), line(out, begin, n), line(g, begin, n)
    place, zero = first + np.uint64(begin), x.dtype.type(0)
    for i in range(n):
        drawn = drawn_factor(start, place + np.uint64(i), threshold, scale, zero)
        out[i] = x[i] * drawn
        g[i] *= drawn


@kernel
def drop_both(board, threads, x, out, g, words, threshold, scale):
    """`drop`, and the same factors into g in place."""
    parts = parts_of(threads, x.size, 1, 1, SHARES)
    least, factor = np.uint64(threshold), x.dtype.type(scale)
    call(
        distribute,
        board,
        parts,
        job(_part_of_drop_both, (x, out, g, words[0], words[1], least, factor, parts)),
    )

"""Loops of normalisation over the columns (batch) or the rows (layer) of a matrix."""

from __future__ import annotations

import numpy as np

from ..machinery.compilation import inner_kernel, kernel
from ..machinery.grain_sizes import SHARES
from ..machinery.job_distribution import (
    distribute,
    job,
    parts_of,
    span,
)
from ..machinery.symbol_calls import call

__all__ = [
    "columns",
    "columns_adjoint",
    "columns_sums",
    "groups_adjoint",
    "moments",
    "rows",
    "rows_adjoint",
]


@kernel
def moments(x, about, sums, squares):
    """Of each column the sum of ``x - about`` and of its square, in float64."""
    sums[:] = 0.0
    squares[:] = 0.0
    for i in range(x.shape[0]):
        for j in range(x.shape[1]):
            r = x[i, j] - about[j]
            sums[j] += r
            squares[j] += r * r


@kernel
def columns(x, mean, factor, shift, y, floor):
    """``y = max((x - mean) * factor + shift, floor)``, column by column; NaN stays."""
    for i in range(x.shape[0]):
        for j in range(x.shape[1]):
            value = (x[i, j] - mean[j]) * factor[j] + shift[j]
            y[i, j] = floor if value < floor else value


@kernel
def columns_sums(g, x, mean, inverse, factor, shift, floor, by_scale, by_shift):
    """Of each column the sum of `g` where `columns` is above the floor, and of that times the
    normalised values, in float64.
    """
    by_scale[:] = 0.0
    by_shift[:] = 0.0
    zero, everywhere = x.dtype.type(0), floor == -np.inf
    for i in range(x.shape[0]):
        for j in range(x.shape[1]):
            centred = x[i, j] - mean[j]
            value = g[i, j] if everywhere or centred * factor[j] + shift[j] > floor else zero
            by_shift[j] += value
            by_scale[j] += value * (centred * inverse[j])


@kernel
def columns_adjoint(g, x, mean, inverse, factor, shift, floor, by_scale, by_shift, gx):
    """Through the statistics: ``gx = factor * (g - by_shift - normal * by_scale)``, where `columns`
    is above the floor.

    `by_scale` and `by_shift` are what `columns_sums` finds, divided by the number of rows.
    """
    zero, everywhere = x.dtype.type(0), floor == -np.inf
    for i in range(x.shape[0]):
        for j in range(x.shape[1]):
            centred = x[i, j] - mean[j]
            value = g[i, j] if everywhere or centred * factor[j] + shift[j] > floor else zero
            gx[i, j] = factor[j] * (value - by_shift[j] - centred * inverse[j] * by_scale[j])


@kernel
def groups_adjoint(g, x, mean, inverse, scale, first, second, gx):
    """Through statistics that columns of a group share: ``gx = inverse * (g * scale - first -
    normal * second)``, column by column.
    """
    for i in range(x.shape[0]):
        for j in range(x.shape[1]):
            normal = (x[i, j] - mean[j]) * inverse[j]
            gx[i, j] = inverse[j] * (g[i, j] * scale[j] - first[j] - normal * second[j])


@inner_kernel
def _part_of_rows(x, scale, shift, epsilon, y, mean, inverse, parts, part):
    n, width = x.shape
    zero = x.dtype.type(0)
    begin, end = span(n, parts, 1, part)
    for i in range(begin, end):
        total = zero
        for j in range(width):
            total += x[i, j]
        middle = x.dtype.type(total / width)
        total = zero
        for j in range(width):
            total += (x[i, j] - middle) * (x[i, j] - middle)
        mean[i] = middle
        inverse[i] = 1 / np.sqrt(total / width + epsilon)
        m, s = mean[i], inverse[i]
        for j in range(width):
            y[i, j] = (x[i, j] - m) * s * scale[j] + shift[j]


@kernel
def rows(board, threads, x, scale, shift, epsilon, y, mean, inverse):
    parts = parts_of(threads, x.shape[0], 2 * x.shape[1], 1, SHARES)
    call(
        distribute,
        board,
        parts,
        job(_part_of_rows, (x, scale, shift, epsilon, y, mean, inverse, parts)),
    )


@inner_kernel
def _part_of_rows_adjoint(g, x, scale, mean, inverse, gx, sums, parts, part):
    n, width = x.shape
    zero = x.dtype.type(0)
    begin, end = span(n, parts, 1, part)
    g_scale, g_shift = sums[part, 0], sums[part, 1]
    for j in range(width):
        g_scale[j] = g_shift[j] = zero
    for i in range(begin, end):
        m, s = mean[i], inverse[i]
        first, second = zero, zero
        for j in range(width):
            normal = (x[i, j] - m) * s
            scaled = g[i, j] * scale[j]
            first += scaled
            second += scaled * normal
        for j in range(width):
            g_scale[j] += g[i, j] * ((x[i, j] - m) * s)
            g_shift[j] += g[i, j]
        a, b = x.dtype.type(first / width), x.dtype.type(second / width)
        for j in range(width):
            gx[i, j] = s * (g[i, j] * scale[j] - a - (x[i, j] - m) * s * b)


@kernel
def rows_adjoint(board, threads, g, x, scale, mean, inverse, gx):
    """The cotangent of x into `gx`; returns those of scale and shift, of each part ``(parts, 2,
    width)``.
    """
    parts = parts_of(threads, x.shape[0], 2 * x.shape[1], 1, SHARES)
    sums = np.empty((parts, 2, x.shape[1]), scale.dtype)
    call(
        distribute,
        board,
        parts,
        job(_part_of_rows_adjoint, (g, x, scale, mean, inverse, gx, sums, parts)),
    )
    return sums

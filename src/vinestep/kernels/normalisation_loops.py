"""Loops of normalisation over the columns (batch) or the rows (layer) of a matrix."""

from __future__ import annotations

import numpy as np

from .compiling import kernel

__all__ = ["columns", "columns_adjoint", "moments", "rows", "rows_adjoint"]


@kernel
def moments(x, mean, variance):
    """Mean and population variance of each column, in two passes over the memory; sums in float64."""
    n, width = x.shape
    total = np.zeros(width)
    for i in range(n):
        for j in range(width):
            total[j] += x[i, j]
    for j in range(width):
        mean[j] = total[j] / n
        total[j] = 0
    for i in range(n):
        for j in range(width):
            r = x[i, j] - mean[j]
            total[j] += r * r
    for j in range(width):
        variance[j] = total[j] / n


@kernel
def columns(x, mean, inverse, scale, shift, y):
    """``y = (x - mean) * inverse * scale + shift``, column by column."""
    for i in range(x.shape[0]):
        for j in range(x.shape[1]):
            y[i, j] = (x[i, j] - mean[j]) * inverse[j] * scale[j] + shift[j]


@kernel
def columns_adjoint(g, x, mean, inverse, scale, gx, g_scale, g_shift):
    """Through the statistics: ``gx = scale * inverse * (g - mean(g) - normal * mean(g * normal))``."""
    n, width = x.shape
    by_scale, by_shift = np.zeros(width), np.zeros(width)
    for i in range(n):
        for j in range(width):
            by_shift[j] += g[i, j]
            by_scale[j] += g[i, j] * ((x[i, j] - mean[j]) * inverse[j])
    for j in range(width):
        g_scale[j] = by_scale[j]
        g_shift[j] = by_shift[j]
    first, second = (by_shift / n).astype(x.dtype), (by_scale / n).astype(x.dtype)
    for i in range(n):
        for j in range(width):
            normal = (x[i, j] - mean[j]) * inverse[j]
            gx[i, j] = scale[j] * inverse[j] * (g[i, j] - first[j] - normal * second[j])


@kernel
def rows(x, scale, shift, epsilon, y, mean, inverse):
    n, width = x.shape
    for i in range(n):
        total = 0.0
        for j in range(width):
            total += x[i, j]
        middle = total / width
        total = 0.0
        for j in range(width):
            total += (x[i, j] - middle) * (x[i, j] - middle)
        mean[i] = middle
        inverse[i] = 1 / np.sqrt(total / width + epsilon)
        m, s = mean[i], inverse[i]
        for j in range(width):
            y[i, j] = (x[i, j] - m) * s * scale[j] + shift[j]


@kernel
def rows_adjoint(g, x, scale, mean, inverse, gx, g_scale, g_shift):
    n, width = x.shape
    g_scale[:] = g_scale.dtype.type(0)
    g_shift[:] = g_shift.dtype.type(0)
    for i in range(n):
        m, s = mean[i], inverse[i]
        first, second = 0.0, 0.0
        for j in range(width):
            normal = (x[i, j] - m) * s
            scaled = g[i, j] * scale[j]
            first += scaled
            second += scaled * normal
            g_scale[j] += g[i, j] * normal
            g_shift[j] += g[i, j]
        a, b = x.dtype.type(first / width), x.dtype.type(second / width)
        for j in range(width):
            gx[i, j] = s * (g[i, j] * scale[j] - a - (x[i, j] - m) * s * b)

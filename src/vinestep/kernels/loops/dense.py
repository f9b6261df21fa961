"""Loops of the dense layer. Shapes: x (n, n_in), weight (n_in, n_out), y and g (n, n_out)."""

from __future__ import annotations

import numpy as np

from ..machinery.array_access import (
    empty,
    flat,
    line,
    matrix,
)
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.grain_sizes import SHARES
from ..machinery.job_distribution import (
    distribute,
    job,
    parts_of,
    rows_together,
    span,
)
from ..machinery.symbol_calls import call
from ..machinery.vector_ir import elementwise

__all__ = [
    "activate",
    "add_bias_activate",
    "adjoint_activate",
    "adjoint_small",
    "forward_small",
    "through",
]

# Activations by number: 0 none, 1 relu, 2 tanh, 3 sigmoid, 4 leaky relu with the slope given.


@inner_kernel
def activate(z, activation, slope, zero, one):
    if activation == 1:
        return zero if z < zero else z
    if activation == 2:
        return np.tanh(z)
    if activation == 3:
        return one / (one + np.exp(-z))
    if activation == 4:
        return z if z > zero else z * slope
    return z


@inner_kernel
def through(g, y, activation, slope, zero, one):
    """The cotangent of what was activated, from the result; 0 where a ReLU is closed, even of
    NaN.
    """
    if activation == 1:
        return g if y > zero else zero
    if activation == 2:
        return g * (one - y * y)
    if activation == 3:
        return g * (y * (one - y))
    if activation == 4:
        return g if y > zero else g * slope
    return g


def _sigmoid(w, x):
    """With ``e = exp(-abs(x))`` it is ``1 / (1 + e)``, or e times that below 0."""
    b = w.builder
    e = w.exp(w.at_most(x, b.fneg(x)))
    quotient = b.fdiv(w.constant(1), b.fadd(w.constant(1), e))
    return b.select(b.fcmp_ordered("<", x, w.constant(0)), b.fmul(e, quotient), quotient)


_tanh_all, _sigmoid_all = (
    elementwise(lambda w, x: w.tanh(x), "x out"),
    elementwise(_sigmoid, "x out"),
)


@inner_kernel
def _part_of_activate(y, bias, activation, slope, parts, part):
    zero, one = y.dtype.type(0), y.dtype.type(1)
    begin, end = span(y.shape[0], parts, 1, part)
    curved = activation == 2 or activation == 3
    kind = 0 if curved else activation
    for i in range(begin, end):
        for j in range(y.shape[1]):
            y[i, j] = activate(y[i, j] + bias[j], kind, slope, zero, one)
    if curved:
        own = line(flat(y), begin * y.shape[1], (end - begin) * y.shape[1])
        if activation == 2:
            _tanh_all(own, own)
        else:
            _sigmoid_all(own, own)


@kernel
def add_bias_activate(board, threads, y, bias, activation, slope):
    """``y = activation(y + bias)`` in place."""
    parts = parts_of(threads, y.shape[0], y.shape[1], 1, SHARES)
    call(distribute, board, parts, job(_part_of_activate, (y, bias, activation, slope, parts)))


@inner_kernel
def _part_of_adjoint(g, y, totals, activation, slope, parts, part):
    zero, one = y.dtype.type(0), y.dtype.type(1)
    begin, end = span(g.shape[0], parts, 1, part)
    total = totals[part]
    for j in range(total.size):
        total[j] = zero
    if activation == 0:
        for i in range(begin, end):
            for j in range(g.shape[1]):
                total[j] += g[i, j]
        return
    for i in range(begin, end):
        for j in range(g.shape[1]):
            g[i, j] = through(g[i, j], y[i, j], activation, slope, zero, one)
            total[j] += g[i, j]


@kernel
def adjoint_activate(board, threads, g, y, g_bias, activation, slope):
    """``g *= activation'`` in place, and its sum over rows."""
    n, width = g.shape
    together = rows_together(n, width)
    shape = (n // together, together * width)
    parts = parts_of(threads, *shape, 1, SHARES)
    long_g, long_y = matrix(flat(g), 0, shape[0], shape[1]), matrix(flat(y), 0, shape[0], shape[1])
    totals = matrix(empty(parts * shape[1], g_bias.dtype), 0, parts, shape[1])
    call(
        distribute,
        board,
        parts,
        job(_part_of_adjoint, (long_g, long_y, totals, activation, slope, parts)),
    )
    for j in range(width):
        total = g.dtype.type(0)
        for part in range(parts):
            for k in range(j, shape[1], width):
                total += totals[part, k]
        g_bias[j] = total


@kernel
def forward_small(x, weight, bias, y, activation, slope):
    """The whole layer for arrays so small that a call costs more than the arithmetic."""
    zero, one = y.dtype.type(0), y.dtype.type(1)
    for i in range(x.shape[0]):
        for j in range(weight.shape[1]):
            y[i, j] = bias[j]
        for k in range(x.shape[1]):
            value = x[i, k]
            for j in range(weight.shape[1]):
                y[i, j] += value * weight[k, j]
        for j in range(weight.shape[1]):
            y[i, j] = activate(y[i, j], activation, slope, zero, one)


@kernel
def adjoint_small(g, x, weight, y, gx, g_weight, g_bias, gz, activation, slope, wants_x):
    zero, one = y.dtype.type(0), y.dtype.type(1)
    n, n_in, n_out = x.shape[0], x.shape[1], weight.shape[1]
    g_bias[:] = zero
    g_weight[:, :] = zero
    for i in range(n):
        for j in range(n_out):
            gz[j] = through(g[i, j], y[i, j], activation, slope, zero, one)
            g_bias[j] += gz[j]
        for k in range(n_in):
            value = x[i, k]
            for j in range(n_out):
                g_weight[k, j] += value * gz[j]
        if wants_x:
            for k in range(n_in):
                total = zero
                for j in range(n_out):
                    total += gz[j] * weight[k, j]
                gx[i, k] = total

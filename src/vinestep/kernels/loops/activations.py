"""Loops of activations over flat arrays, and of the softmax over rows."""

from __future__ import annotations

from ..machinery.array_access import line
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.grain_sizes import SHARES
from ..machinery.job_distribution import (
    distribute,
    job,
    parts_of,
    span,
)
from ..machinery.symbol_calls import call
from ..machinery.vector_ir import elementwise, soften, soften_adjoint

__all__ = [
    "gelu",
    "gelu_adjoint",
    "silu",
    "silu_adjoint",
    "softmax",
    "softmax_adjoint",
    "where_positive",
]

ROOT_TWO_OVER_PI = 0.7978845608028654
GELU_CUBIC = 0.044715


def _gelu_tangent(w, x):
    """``tanh(root * (x + cubic * x**3))``, and the square of x."""
    square = w.builder.fmul(x, x)
    inner = w.multiply_add(
        square, w.constant(ROOT_TWO_OVER_PI * GELU_CUBIC), w.constant(ROOT_TWO_OVER_PI)
    )
    return w.tanh(w.builder.fmul(x, inner)), square


def _gelu(w, x):
    """``x * (1 + tanh) / 2``"""
    tangent, _ = _gelu_tangent(w, x)
    half = w.builder.fmul(x, w.constant(0.5))
    return w.multiply_add(half, tangent, half)


def _gelu_slope(w, x, g):
    """``g * ((1 + tanh) + x * (1 - tanh**2) * (root + 3 * root * cubic * x**2)) / 2``"""
    b = w.builder
    tangent, square = _gelu_tangent(w, x)
    inner = w.multiply_add(
        square, w.constant(3 * ROOT_TWO_OVER_PI * GELU_CUBIC), w.constant(ROOT_TWO_OVER_PI)
    )
    bend = b.fmul(b.fmul(x, inner), b.fsub(w.constant(1), b.fmul(tangent, tangent)))
    return b.fmul(b.fmul(g, w.constant(0.5)), b.fadd(b.fadd(w.constant(1), tangent), bend))


_gelu_all, _gelu_slopes = elementwise(_gelu, "x out"), elementwise(_gelu_slope, "x g out")


@inner_kernel
def _part_of_gelu(x, out, parts, part):
    begin, end = span(x.size, parts, 1, part)
    n = end - begin
    _gelu_all(line(x, begin, n), line(out, begin, n))


@kernel
def gelu(board, threads, x, out):
    parts = parts_of(threads, x.size, 1, 1, SHARES)
    call(distribute, board, parts, job(_part_of_gelu, (x, out, parts)))


@inner_kernel
def _part_of_gelu_adjoint(g, x, out, parts, part):
    begin, end = span(x.size, parts, 1, part)
    n = end - begin
    _gelu_slopes(line(x, begin, n), line(g, begin, n), line(out, begin, n))


@kernel
def gelu_adjoint(board, threads, g, x, out):
    parts = parts_of(threads, x.size, 1, 1, SHARES)
    call(distribute, board, parts, job(_part_of_gelu_adjoint, (g, x, out, parts)))


def _silu(w, x):
    """``x * (1 + tanh(x / 2)) / 2``"""
    half = w.builder.fmul(x, w.constant(0.5))
    return w.multiply_add(half, w.tanh(half), half)


def _silu_slope(w, x, g):
    """``g * s * (1 + x * (1 - s))``, with ``s = (1 + tanh(x / 2)) / 2``"""
    b = w.builder
    half = w.constant(0.5)
    share = w.multiply_add(half, w.tanh(b.fmul(x, half)), half)
    bend = w.multiply_add(x, b.fsub(w.constant(1), share), w.constant(1))
    return b.fmul(b.fmul(g, share), bend)


_silu_all, _silu_slopes = elementwise(_silu, "x out"), elementwise(_silu_slope, "x g out")


@inner_kernel
def _part_of_silu(x, out, parts, part):
    begin, end = span(x.size, parts, 1, part)
    n = end - begin
    _silu_all(line(x, begin, n), line(out, begin, n))


@kernel
def silu(board, threads, x, out):
    parts = parts_of(threads, x.size, 1, 1, SHARES)
    call(distribute, board, parts, job(_part_of_silu, (x, out, parts)))


@inner_kernel
def _part_of_silu_adjoint(g, x, out, parts, part):
    begin, end = span(x.size, parts, 1, part)
    n = end - begin
    _silu_slopes(line(x, begin, n), line(g, begin, n), line(out, begin, n))


@kernel
def silu_adjoint(board, threads, g, x, out):
    parts = parts_of(threads, x.size, 1, 1, SHARES)
    call(distribute, board, parts, job(_part_of_silu_adjoint, (g, x, out, parts)))


@kernel
def where_positive(g, y, out):
    """``g`` where `y` is positive, 0 elsewhere."""
    zero = g.dtype.type(0)
    for i in range(g.size):
        out[i] = g[i] if y[i] > zero else zero


@kernel
def softmax(x, y):
    """Row by row."""
    for i in range(x.shape[0]):
        for j in range(x.shape[1]):
            y[i, j] = x[i, j]
        soften(y[i])


@kernel
def softmax_adjoint(g, y, out):
    """Row by row."""
    for i in range(g.shape[0]):
        soften_adjoint(g[i], y[i], out[i], y.dtype.type(1))

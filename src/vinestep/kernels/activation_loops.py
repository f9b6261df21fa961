"""Loops of activations over flat arrays, and of the softmax over rows."""

from __future__ import annotations

from .compiling import kernel

__all__ = ["gelu_adjoint", "gelu_inner", "gelu_outer", "softmax_adjoint", "where_positive"]


@kernel
def gelu_inner(x, out, cubic, root):
    """What the hyperbolic tangent is taken of: ``root * (x + cubic * x**3)``."""
    for i in range(x.size):
        out[i] = root * (x[i] + cubic * x[i] * x[i] * x[i])


@kernel
def gelu_outer(x, t, out, half):
    for i in range(x.size):
        out[i] = half * x[i] * t[i] + half * x[i]


@kernel
def gelu_adjoint(g, x, t, out, cubic, root, half, three, one):
    for i in range(x.size):
        inner = root * (one + three * cubic * x[i] * x[i])
        out[i] = g[i] * (half * (one + t[i]) + half * x[i] * (one - t[i] * t[i]) * inner)


@kernel
def where_positive(g, y, out):
    """``g`` where `y` is positive, 0 elsewhere."""
    zero = g.dtype.type(0)
    for i in range(g.size):
        out[i] = g[i] if y[i] > zero else zero


@kernel
def softmax_adjoint(g, y, out):
    """``y * (g - sum(g * y))``, row by row."""
    for i in range(g.shape[0]):
        total = y.dtype.type(0)
        for j in range(g.shape[1]):
            total += g[i, j] * y[i, j]
        for j in range(g.shape[1]):
            out[i, j] = y[i, j] * (g[i, j] - total)

"""Loops of pooling. Inputs have three spatial axes, channels last; `geometry` as in the loops of the convolution."""

from __future__ import annotations

from .compiling import kernel

__all__ = ["largest", "largest_adjoint"]


@kernel
def _first_place(row, geometry):
    """Example, and where its window begins in each axis; before 0 in the padding."""
    windows = geometry[4, 0] * geometry[4, 1] * geometry[4, 2]
    rest = row % windows
    d = rest // (geometry[4, 1] * geometry[4, 2]) * geometry[1, 0] - geometry[3, 0]
    h = rest // geometry[4, 2] % geometry[4, 1] * geometry[1, 1] - geometry[3, 1]
    w = rest % geometry[4, 2] * geometry[1, 2] - geometry[3, 2]
    return row // windows, d, h, w


@kernel
def largest(x, y, geometry):
    """Largest value of each window, channel by channel; places outside the input do not count."""
    for row in range(y.shape[0]):
        example, d0, h0, w0 = _first_place(row, geometry)
        first = True
        for i in range(geometry[0, 0]):
            d = d0 + i * geometry[2, 0]
            for j in range(geometry[0, 1]):
                h = h0 + j * geometry[2, 1]
                for k in range(geometry[0, 2]):
                    w = w0 + k * geometry[2, 2]
                    if 0 <= d < x.shape[1] and 0 <= h < x.shape[2] and 0 <= w < x.shape[3]:
                        source = x[example, d, h, w]
                        if first:
                            for c in range(y.shape[1]):
                                y[row, c] = source[c]
                            first = False
                        else:
                            for c in range(y.shape[1]):
                                y[row, c] = max(y[row, c], source[c])


@kernel
def largest_adjoint(g, x, y, gx, count, geometry):
    """The cotangent shared by all places that hold the largest value. `count` is room for a number a channel."""
    zero, one = g.dtype.type(0), g.dtype.type(1)
    for row in range(g.shape[0]):
        example, d0, h0, w0 = _first_place(row, geometry)
        count[:] = zero
        for turn in range(2):
            for i in range(geometry[0, 0]):
                d = d0 + i * geometry[2, 0]
                for j in range(geometry[0, 1]):
                    h = h0 + j * geometry[2, 1]
                    for k in range(geometry[0, 2]):
                        w = w0 + k * geometry[2, 2]
                        if 0 <= d < x.shape[1] and 0 <= h < x.shape[2] and 0 <= w < x.shape[3]:
                            source, target = x[example, d, h, w], gx[example, d, h, w]
                            if turn == 0:
                                for c in range(g.shape[1]):
                                    count[c] += one if source[c] == y[row, c] else zero
                            else:
                                for c in range(g.shape[1]):
                                    target[c] += g[row, c] / count[c] if source[c] == y[row, c] else zero

"""Small dense layers one after another, with the examples along the innermost loops, which are then
long enough for vectors.

For the arguments see `dense_chain`. In `values` each layer's results lie as (width, n), those of
the last as (n, width); behind them the input as (width, n), and room for what `room` counts.
"""

from __future__ import annotations

import numpy as np

from ..machinery.array_access import larger, line
from ..machinery.compilation import inner_kernel, kernel
from .dense import activate, through
from .dropout import drawn_factor

__all__ = ["adjoint", "forward"]


@inner_kernel
def _places(n, layers):
    """Where the results end, where the room begins, and how much of it a layer needs."""
    used, widest = 0, layers[0, 0]
    for layer in range(1, layers.shape[1]):
        used += n * layers[0, layer]
        widest = larger(widest, layers[0, layer])
    return used, used + n * layers[0, 0], n * widest


@inner_kernel
def _factors(words, layers, scales, layer, k, into):
    """Of the dropout of column k of a layer's input."""
    start, first = words[2 * layer], words[2 * layer + 1]
    threshold, n_in = np.uint64(layers[2, layer]), layers[0, layer]
    zero = scales.dtype.type(0)
    for i in range(into.size):
        place = first + np.uint64(i * n_in + k)
        into[i] = drawn_factor(start, place, threshold, scales[layer], zero)


@kernel
def forward(x, theta, layers, slopes, words, scales, values):
    n, last = x.shape[0], slopes.size - 1
    zero, one = theta.dtype.type(0), theta.dtype.type(1)
    used, room, wide = _places(n, layers)
    before = used
    for k in range(x.shape[1]):
        column = line(values, used + k * n, n)
        for i in range(n):
            column[i] = x[i, k]
    dropped = line(values, room + 2 * wide, n)
    place, start = 0, 0
    for layer in range(last + 1):
        n_in, n_out, activation = layers[0, layer], layers[0, layer + 1], layers[1, layer]
        bias = place + n_in * n_out
        results = line(values, room if layer == last else start, n * n_out)
        for j in range(n_out):
            y = line(results, j * n, n)
            for i in range(n):
                y[i] = theta[bias + j]
        for k in range(n_in):
            column = line(values, before + k * n, n)
            if layers[2, layer] > 0:
                _factors(words, layers, scales, layer, k, dropped)
                for i in range(n):
                    dropped[i] *= column[i]
                column = dropped
            for j in range(n_out):
                y, w = line(results, j * n, n), theta[place + k * n_out + j]
                for i in range(n):
                    y[i] += column[i] * w
        for i in range(n * n_out):
            results[i] = activate(results[i], activation, slopes[layer], zero, one)
        if layer == last:
            for j in range(n_out):
                for i in range(n):
                    values[start + i * n_out + j] = results[j * n + i]
        before = start
        place = bias + n_out
        start += n * n_out


@kernel
def adjoint(g, x, theta, layers, slopes, words, scales, values, gradient, gx, wants_x):
    """Cotangents of all parameters into `gradient`, laid out as `theta`, and of x into `gx` if
    wanted.
    """
    n, last = x.shape[0], slopes.size - 1
    zero, one = theta.dtype.type(0), theta.dtype.type(1)
    used, room, wide = _places(n, layers)
    dropped, factors = line(values, room + 2 * wide, n), line(values, room + 2 * wide + n, n)
    place, start = theta.size, used
    for layer in range(last, -1, -1):
        n_in, n_out, activation = layers[0, layer], layers[0, layer + 1], layers[1, layer]
        place -= n_in * n_out + n_out
        start -= n * n_out
        ours = line(values, room + layer % 2 * wide, n * n_out)
        theirs = line(values, room + (layer + 1) % 2 * wide, n * n_in)
        if layer == last:
            for i in range(n):
                for j in range(n_out):
                    y = values[start + i * n_out + j]
                    ours[j * n + i] = through(g[i, j], y, activation, slopes[layer], zero, one)
        else:
            results = line(values, start, n * n_out)
            for i in range(n * n_out):
                ours[i] = through(ours[i], results[i], activation, slopes[layer], zero, one)
        for j in range(n_out):
            own, total = line(ours, j * n, n), zero
            for i in range(n):
                total += own[i]
            gradient[place + n_in * n_out + j] = total
        before = used if layer == 0 else start - n * n_in
        for k in range(n_in):
            column = line(values, before + k * n, n)
            drops = layers[2, layer] > 0
            if drops:
                _factors(words, layers, scales, layer, k, factors)
                for i in range(n):
                    dropped[i] = column[i] * factors[i]
                column = dropped
            row = place + k * n_out
            for j in range(n_out):
                own, total = line(ours, j * n, n), zero
                for i in range(n):
                    total += column[i] * own[i]
                gradient[row + j] = total
            if layer == 0 and not wants_x:
                continue
            back = line(theirs, k * n, n)
            for i in range(n):
                back[i] = zero
            for j in range(n_out):
                own, w = line(ours, j * n, n), theta[row + j]
                for i in range(n):
                    back[i] += own[i] * w
            if drops:
                for i in range(n):
                    back[i] *= factors[i]
            if layer == 0:
                for i in range(n):
                    gx[i, k] = back[i]

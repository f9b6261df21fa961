"""Dense layers one after another, matrix product by matrix product.

`theta` holds weight and bias of each layer in turn, `values` gets each layer's results (n, width) in turn. ``layers[0]`` are the
widths, the input's first; ``layers[1]`` the numbers of the activations.
"""

from __future__ import annotations

import numpy as np

from .calls import call
from .compiling import inner_kernel, kernel
from .dense_loops import add_bias_activate, adjoint_activate
from .gathered_loops import product

__all__ = ["adjoint", "forward"]


@inner_kernel
def _places(n, step):
    found = np.empty(n, np.int32)
    for i in range(n):
        found[i] = i * step
    return found


@kernel
def forward(board, threads, x, theta, layers, slopes, values):
    n = x.shape[0]
    before = x.reshape(-1)
    zero, lowest, straight = theta.dtype.type(0), theta.dtype.type(-np.inf), False
    place, start = 0, 0
    for layer in range(slopes.size):
        n_in, n_out, activation = layers[0, layer], layers[0, layer + 1], layers[1, layer]
        weight, bias = theta[place:], theta[place + n_in * n_out : place + n_in * n_out + n_out]
        y = values[start : start + n * n_out]
        rows, columns = _places(n, n_in), _places(n_in, 1)
        if activation <= 1:
            least = lowest if activation == 0 else zero
            call(product, board, threads, before, rows, columns, weight, n_out, straight, bias, y, n_out, least)
        else:
            nothing = np.zeros(n_out, theta.dtype)
            call(product, board, threads, before, rows, columns, weight, n_out, straight, nothing, y, n_out, lowest)
            call(add_bias_activate, board, threads, y.reshape((n, n_out)), bias, activation, slopes[layer])
        before = y
        place += n_in * n_out + n_out
        start += n * n_out


@kernel
def adjoint(board, threads, g, x, theta, layers, slopes, values, gradient, gx, wanted):
    """Cotangents of the parameters into `gradient`, laid out as `theta`, and of x into `gx`; `wanted` says which, x first."""
    n, last = x.shape[0], slopes.size - 1
    lowest, straight, turned = theta.dtype.type(-np.inf), False, True
    widest, total = 0, 0
    for layer in range(slopes.size):
        widest = max(widest, layers[0, layer + 1])
        total += layers[0, layer + 1]
    rooms, nothing = np.empty((2, n * widest), theta.dtype), np.zeros(max(widest, layers[0, 0]), theta.dtype)
    ours = rooms[0]
    flat_g = g.reshape(-1)
    for i in range(flat_g.size):
        ours[i] = flat_g[i]
    earliest = 0
    while not wanted[earliest]:
        earliest += 1
    place, start = theta.size, n * total
    for layer in range(last, -1, -1):
        n_in, n_out = layers[0, layer], layers[0, layer + 1]
        place -= n_in * n_out + n_out
        start -= n * n_out
        middle = place + n_in * n_out
        ours, theirs = rooms[(last - layer) % 2], rooms[(last - layer + 1) % 2]
        shape = (n, n_out)
        g_layer, y = ours[: n * n_out].reshape(shape), values[start : start + n * n_out].reshape(shape)
        call(adjoint_activate, board, threads, g_layer, y, gradient[middle : middle + n_out], layers[1, layer], slopes[layer])
        before = x.reshape(-1) if layer == 0 else values[start - n * n_in :]
        weight, g_weight = theta[place:], gradient[place:middle]
        rows, columns = _places(n_in, 1), _places(n, n_in)
        if wanted[2 * layer + 1]:
            call(product, board, threads, before, rows, columns, ours, n_out, straight, nothing, g_weight, n_out, lowest)
        if earliest > 2 * layer:
            return
        rows, columns = _places(n, n_out), _places(n_out, 1)
        back = gx.reshape(-1) if layer == 0 else theirs
        call(product, board, threads, ours, rows, columns, weight, n_out, turned, nothing, back, n_in, lowest)

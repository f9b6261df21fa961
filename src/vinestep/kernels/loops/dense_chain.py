"""Dense layers one after another, matrix product by matrix product.

`theta` holds weight and bias of each layer in turn, `values` gets each layer's results (n, width)
in turn. ``layers[0]`` are the widths, the input's first; ``layers[1]`` the numbers of the
activations; ``layers[2]`` the thresholds of the dropout of each layer's input, 0 where there is
none. Its streams are the columns of `words`, and `scales` make up for what is dropped. What is kept
in `values` is whole: an input is dropped again on the way back.
"""

from __future__ import annotations

import numpy as np

from ..machinery.array_access import (
    empty,
    flat,
    larger,
    line,
    matrix,
    zeros,
)
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.symbol_calls import call
from .dense import add_bias_activate, adjoint_activate
from .dropout import drop, drop_both
from .implicit_gemm import product

__all__ = ["adjoint", "forward"]


@inner_kernel
def _places(n, step):
    result = empty(n, np.int32)
    for i in range(n):
        result[i] = i * step
    return result


@inner_kernel
def _widest_dropped(layers):
    widest = 0
    for layer in range(layers.shape[1] - 1):
        if layers[2, layer] > 0:
            widest = larger(widest, layers[0, layer])
    return widest


@kernel
def forward(board, threads, x, theta, layers, slopes, words, scales, values):
    n = x.shape[0]
    before = flat(x)
    dropped = empty(n * _widest_dropped(layers), theta.dtype)
    zero, lowest = theta.dtype.type(0), theta.dtype.type(-np.inf)
    place, start = 0, 0
    for layer in range(slopes.size):
        n_in, n_out, activation = layers[0, layer], layers[0, layer + 1], layers[1, layer]
        middle = place + n_in * n_out
        weight, bias = line(theta, place, n_in * n_out), line(theta, middle, n_out)
        y = line(values, start, n * n_out)
        rows, columns = _places(n, n_in), _places(n_in, 1)
        least, added = lowest, bias
        if activation == 1:
            least = zero
        elif activation > 1:
            added = zeros(n_out, theta.dtype)
        if layers[2, layer] > 0:
            source = line(dropped, 0, n * n_in)
            stream = line(words, 2 * layer, 2)
            call(drop, board, threads, before, source, stream, layers[2, layer], scales[layer])
            before = source
        call(
            product,
            board,
            threads,
            before,
            rows,
            columns,
            weight,
            n_out,
            False,
            added,
            y,
            n_out,
            least,
        )
        if activation > 1:
            call(
                add_bias_activate,
                board,
                threads,
                matrix(y, 0, n, n_out),
                bias,
                activation,
                slopes[layer],
            )
        before = y
        place = middle + n_out
        start += n * n_out


@kernel
def adjoint(
    board, threads, g, x, theta, layers, slopes, words, scales, values, gradient, gx, wanted
):
    """Cotangents of the parameters into `gradient`, laid out as `theta`, and of x into `gx`;
    `wanted` says which, x first.
    """
    n, last = x.shape[0], slopes.size - 1
    lowest = theta.dtype.type(-np.inf)
    widest, total = 0, 0
    for layer in range(slopes.size):
        widest = larger(widest, layers[0, layer + 1])
        total += layers[0, layer + 1]
    rooms, nothing = (
        empty(2 * n * widest, theta.dtype),
        zeros(larger(widest, layers[0, 0]), theta.dtype),
    )
    dropped = empty(n * _widest_dropped(layers), theta.dtype)
    flat_x, flat_g = flat(x), flat(g)
    for i in range(flat_g.size):
        rooms[i] = flat_g[i]
    earliest = 0
    while not wanted[earliest]:
        earliest += 1
    place, start = theta.size, n * total
    for layer in range(last, -1, -1):
        n_in, n_out = layers[0, layer], layers[0, layer + 1]
        place -= n_in * n_out + n_out
        start -= n * n_out
        at = (last - layer) % 2 * n * widest
        ours, y = matrix(rooms, at, n, n_out), matrix(values, start, n, n_out)
        g_bias = line(gradient, place + n_in * n_out, n_out)
        call(adjoint_activate, board, threads, ours, y, g_bias, layers[1, layer], slopes[layer])
        before = flat_x if layer == 0 else line(values, start - n * n_in, n * n_in)
        weight, g_weight, flat_ours = (
            line(theta, place, n_in * n_out),
            line(gradient, place, n_in * n_out),
            line(rooms, at, n * n_out),
        )
        back = flat(gx) if layer == 0 else line(rooms, n * widest - at, n * n_in)
        if earliest <= 2 * layer:
            rows, columns = _places(n, n_out), _places(n_out, 1)
            call(
                product,
                board,
                threads,
                flat_ours,
                rows,
                columns,
                weight,
                n_out,
                True,
                nothing,
                back,
                n_in,
                lowest,
            )
        if layers[2, layer] > 0:
            stream, threshold, scale = line(words, 2 * layer, 2), layers[2, layer], scales[layer]
            source = line(dropped, 0, n * n_in)
            if earliest <= 2 * layer:
                call(drop_both, board, threads, before, source, back, stream, threshold, scale)
            else:
                call(drop, board, threads, before, source, stream, threshold, scale)
            before = source
        if wanted[2 * layer + 1]:
            rows, columns = _places(n_in, 1), _places(n, n_in)
            call(
                product,
                board,
                threads,
                before,
                rows,
                columns,
                flat_ours,
                n_out,
                False,
                nothing,
                g_weight,
                n_out,
                lowest,
            )
        if earliest > 2 * layer:
            return

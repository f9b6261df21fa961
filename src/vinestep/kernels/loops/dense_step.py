"""Loss and gradients of a network of dense layers in one call: the targets are looked at, the
layers computed, and if the loss is finite, it is carried back.

For the arguments see `dense_chain`. `cotangents` (n, width) gets those of the outputs; `few` says
whether the layers are small enough for one loop over everything.
"""

from __future__ import annotations

import numpy as np

from ..machinery.array_access import flat, matrix
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.symbol_calls import call
from . import dense_chain, losses, small_dense_chain

__all__ = ["cross_entropy", "squared_error"]

forward, adjoint = dense_chain.forward, dense_chain.adjoint
small_forward, small_adjoint = small_dense_chain.forward, small_dense_chain.adjoint
loss_of_labels, loss_of_numbers = losses.cross_entropy, losses.squared_error


@inner_kernel
def _forward(board, threads, x, theta, layers, slopes, words, scales, values, few):
    """The outputs, as a matrix."""
    if few:
        call(small_forward, x, theta, layers, slopes, words, scales, values)
    else:
        call(forward, board, threads, x, theta, layers, slopes, words, scales, values)
    n, last = x.shape[0], slopes.size
    start = 0
    for layer in range(1, last):
        start += n * layers[0, layer]
    return matrix(values, start, n, layers[0, last])


@inner_kernel
def _adjoint(
    board, threads, g, x, theta, layers, slopes, words, scales, values, gradient, wanted, few
):
    if few:
        call(
            small_adjoint,
            g,
            x,
            theta,
            layers,
            slopes,
            words,
            scales,
            values,
            gradient,
            g,
            False,
        )
    else:
        call(
            adjoint,
            board,
            threads,
            g,
            x,
            theta,
            layers,
            slopes,
            words,
            scales,
            values,
            gradient,
            g,
            wanted,
        )


@kernel
def cross_entropy(
    board,
    threads,
    x,
    labels,
    theta,
    layers,
    slopes,
    words,
    scales,
    values,
    cotangents,
    gradient,
    wanted,
    few,
):
    """Sum of the losses, and the first row whose label is out of range, or -1."""
    n, classes = labels.size, layers[0, slopes.size]
    for i in range(n):
        if labels[i] < 0 or labels[i] >= classes:
            return 0.0, i
    outputs = call(_forward, board, threads, x, theta, layers, slopes, words, scales, values, few)
    each = np.empty(n, theta.dtype)
    total, bad = call(loss_of_labels, outputs, labels, each, cotangents, 1 / n)
    if np.isfinite(total):
        call(
            _adjoint,
            board,
            threads,
            cotangents,
            x,
            theta,
            layers,
            slopes,
            words,
            scales,
            values,
            gradient,
            wanted,
            few,
        )
    return total, bad


@kernel
def squared_error(
    board,
    threads,
    x,
    targets,
    theta,
    layers,
    slopes,
    words,
    scales,
    values,
    cotangents,
    gradient,
    wanted,
    few,
):
    """Sum of the squares."""
    outputs = call(_forward, board, threads, x, theta, layers, slopes, words, scales, values, few)
    g = flat(cotangents)
    total = call(loss_of_numbers, flat(outputs), flat(targets), g)
    if np.isfinite(total):
        factor = theta.dtype.type(2 / g.size)
        for i in range(g.size):
            g[i] *= factor
        call(
            _adjoint,
            board,
            threads,
            cotangents,
            x,
            theta,
            layers,
            slopes,
            words,
            scales,
            values,
            gradient,
            wanted,
            few,
        )
    return total, -1

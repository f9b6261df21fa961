"""Loops of adaptive optimisers: one pass over the arena and its state. Symbols are those of the
papers, cited beside the definitions.
"""

from __future__ import annotations

import numpy as np

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

__all__ = [
    "adadelta",
    "adagrad",
    "amsgrad",
    "lamb_direction",
    "lion",
    "moved",
    "nadam",
    "radam",
    "rmsprop",
    "rmsprop_centred",
]


@inner_kernel
def _adagrad(theta, g, s, step, decay, epsilon, parts, part):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, s = line(theta, begin, n), line(g, begin, n), line(s, begin, n)
    for i in range(n):
        slope = g[i] + decay * theta[i]
        s[i] += slope * slope
        theta[i] -= step * slope / (np.sqrt(s[i]) + epsilon)


@kernel
def adagrad(board, threads, theta, g, s, step, decay, epsilon):
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    call(
        distribute,
        board,
        parts,
        job(_adagrad, (theta, g, s, number(step), number(decay), number(epsilon), parts)),
    )


@inner_kernel
def _adadelta(theta, g, squares, moves, step, decay, rho, rest, epsilon, parts, part):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, squares, moves = (
        line(theta, begin, n),
        line(g, begin, n),
        line(squares, begin, n),
        line(moves, begin, n),
    )
    for i in range(n):
        slope = g[i] + decay * theta[i]
        squares[i] = rho * squares[i] + rest * slope * slope
        move = np.sqrt(moves[i] + epsilon) / np.sqrt(squares[i] + epsilon) * slope
        moves[i] = rho * moves[i] + rest * move * move
        theta[i] -= step * move


@kernel
def adadelta(board, threads, theta, g, squares, moves, step, decay, rho, epsilon):
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    step, decay, rho, rest, epsilon = (
        number(step),
        number(decay),
        number(rho),
        number(1 - rho),
        number(epsilon),
    )
    call(
        distribute,
        board,
        parts,
        job(_adadelta, (theta, g, squares, moves, step, decay, rho, rest, epsilon, parts)),
    )


@inner_kernel
def _rmsprop(theta, g, squares, delta, step, decay, rho, rest, mu, epsilon, parts, part):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, squares, delta = (
        line(theta, begin, n),
        line(g, begin, n),
        line(squares, begin, n),
        line(delta, begin, n),
    )
    for i in range(n):
        slope = g[i] + decay * theta[i]
        squares[i] = rho * squares[i] + rest * slope * slope
        delta[i] = mu * delta[i] - step * slope / np.sqrt(squares[i] + epsilon)
        theta[i] += delta[i]


@kernel
def rmsprop(board, threads, theta, g, squares, delta, step, decay, rho, mu, epsilon):
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    step, decay, rho, rest = number(step), number(decay), number(rho), number(1 - rho)
    call(
        distribute,
        board,
        parts,
        job(
            _rmsprop,
            (theta, g, squares, delta, step, decay, rho, rest, number(mu), number(epsilon), parts),
        ),
    )


@inner_kernel
def _rmsprop_centred(
    theta, g, squares, means, delta, step, decay, rho, rest, mu, epsilon, parts, part
):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, squares = line(theta, begin, n), line(g, begin, n), line(squares, begin, n)
    means, delta = line(means, begin, n), line(delta, begin, n)
    for i in range(n):
        slope = g[i] + decay * theta[i]
        squares[i] = rho * squares[i] + rest * slope * slope
        means[i] = rho * means[i] + rest * slope
        delta[i] = mu * delta[i] - step * slope / np.sqrt(
            max(squares[i] - means[i] * means[i], means[i] * 0) + epsilon
        )
        theta[i] += delta[i]


@kernel
def rmsprop_centred(board, threads, theta, g, squares, means, delta, step, decay, rho, mu, epsilon):
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    step, decay, rho, rest, mu, epsilon = (
        number(step),
        number(decay),
        number(rho),
        number(1 - rho),
        number(mu),
        number(epsilon),
    )
    arguments = (theta, g, squares, means, delta, step, decay, rho, rest, mu, epsilon, parts)
    call(distribute, board, parts, job(_rmsprop_centred, arguments))


@inner_kernel
def _amsgrad(theta, g, m, v, top, beta1, rest1, beta2, rest2, step, epsilon, kept, parts, part):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, m, v, top = (
        line(theta, begin, n),
        line(g, begin, n),
        line(m, begin, n),
        line(v, begin, n),
        line(top, begin, n),
    )
    for i in range(n):
        m[i] = beta1 * m[i] + rest1 * g[i]
        v[i] = beta2 * v[i] + rest2 * g[i] * g[i]
        top[i] = max(top[i], v[i])
        theta[i] = kept * theta[i] - step * m[i] / (np.sqrt(top[i]) + epsilon)


@kernel
def amsgrad(board, threads, theta, g, m, v, top, beta1, beta2, step, epsilon, kept):
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    beta1, rest1, beta2, rest2 = number(beta1), number(1 - beta1), number(beta2), number(1 - beta2)
    arguments = (
        theta,
        g,
        m,
        v,
        top,
        beta1,
        rest1,
        beta2,
        rest2,
        number(step),
        number(epsilon),
        number(kept),
        parts,
    )
    call(distribute, board, parts, job(_amsgrad, arguments))


@inner_kernel
def _nadam(
    theta, g, m, v, beta1, rest1, beta2, rest2, ahead, now, root, epsilon, kept, parts, part
):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, m, v = line(theta, begin, n), line(g, begin, n), line(m, begin, n), line(v, begin, n)
    for i in range(n):
        m[i] = beta1 * m[i] + rest1 * g[i]
        v[i] = beta2 * v[i] + rest2 * g[i] * g[i]
        theta[i] = kept * theta[i] - (ahead * m[i] + now * g[i]) / (np.sqrt(v[i]) * root + epsilon)


@kernel
def nadam(board, threads, theta, g, m, v, beta1, beta2, ahead, now, root, epsilon, kept):
    """`ahead` and `now` are what the mean and the gradient of this step count, times the rate."""
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    beta1, rest1, beta2, rest2 = number(beta1), number(1 - beta1), number(beta2), number(1 - beta2)
    ahead, now, root, epsilon, kept = (
        number(ahead),
        number(now),
        number(root),
        number(epsilon),
        number(kept),
    )
    call(
        distribute,
        board,
        parts,
        job(
            _nadam,
            (theta, g, m, v, beta1, rest1, beta2, rest2, ahead, now, root, epsilon, kept, parts),
        ),
    )


@inner_kernel
def _radam(
    theta, g, m, v, beta1, rest1, beta2, rest2, step, root, epsilon, kept, adapted, parts, part
):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, m, v = line(theta, begin, n), line(g, begin, n), line(m, begin, n), line(v, begin, n)
    for i in range(n):
        m[i] = beta1 * m[i] + rest1 * g[i]
        v[i] = beta2 * v[i] + rest2 * g[i] * g[i]
        move = step * m[i]
        theta[i] = kept * theta[i] - (move / (np.sqrt(v[i]) * root + epsilon) if adapted else move)


@kernel
def radam(board, threads, theta, g, m, v, beta1, beta2, step, root, epsilon, kept, adapted):
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    beta1, rest1, beta2, rest2 = number(beta1), number(1 - beta1), number(beta2), number(1 - beta2)
    step, root, epsilon, kept = number(step), number(root), number(epsilon), number(kept)
    call(
        distribute,
        board,
        parts,
        job(
            _radam,
            (theta, g, m, v, beta1, rest1, beta2, rest2, step, root, epsilon, kept, adapted, parts),
        ),
    )


@inner_kernel
def _lion(theta, g, m, beta1, rest1, beta2, rest2, step, kept, parts, part):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, m = line(theta, begin, n), line(g, begin, n), line(m, begin, n)
    for i in range(n):
        theta[i] = kept * theta[i] - step * np.sign(beta1 * m[i] + rest1 * g[i])
        m[i] = beta2 * m[i] + rest2 * g[i]


@kernel
def lion(board, threads, theta, g, m, beta1, beta2, step, kept):
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    beta1, rest1, beta2, rest2 = number(beta1), number(1 - beta1), number(beta2), number(1 - beta2)
    call(
        distribute,
        board,
        parts,
        job(_lion, (theta, g, m, beta1, rest1, beta2, rest2, number(step), number(kept), parts)),
    )


@inner_kernel
def _lamb_direction(
    theta, g, m, v, u, beta1, rest1, beta2, rest2, scale, root, epsilon, decay, parts, part
):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, m, v, u = (
        line(theta, begin, n),
        line(g, begin, n),
        line(m, begin, n),
        line(v, begin, n),
        line(u, begin, n),
    )
    for i in range(n):
        m[i] = beta1 * m[i] + rest1 * g[i]
        v[i] = beta2 * v[i] + rest2 * g[i] * g[i]
        u[i] = scale * m[i] / (np.sqrt(v[i]) * root + epsilon) + decay * theta[i]


@kernel
def lamb_direction(board, threads, theta, g, m, v, u, beta1, beta2, scale, root, epsilon, decay):
    """Where LAMB goes, before each parameter's step is given its length."""
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    beta1, rest1, beta2, rest2 = number(beta1), number(1 - beta1), number(beta2), number(1 - beta2)
    scale, root, epsilon, decay = number(scale), number(root), number(epsilon), number(decay)
    arguments = (theta, g, m, v, u, beta1, rest1, beta2, rest2, scale, root, epsilon, decay, parts)
    call(distribute, board, parts, job(_lamb_direction, arguments))


@inner_kernel
def _moved(theta, u, step, parts, part):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, u = line(theta, begin, n), line(u, begin, n)
    for i in range(n):
        theta[i] -= step * u[i]


@kernel
def moved(board, threads, theta, u, step):
    """``theta -= step * u``."""
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    call(distribute, board, parts, job(_moved, (theta, u, theta.dtype.type(step), parts)))

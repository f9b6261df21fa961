"""Loops of Adam. Notation follows Kingma and Ba, ICLR 2015, algorithm 1."""

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

__all__ = ["update"]


@inner_kernel
def _part(theta, g, m, v, beta1, rest1, beta2, rest2, step, root, epsilon, kept, parts, part):
    begin, end = span(theta.size, parts, 1, part)
    n = end - begin
    theta, g, m, v = line(theta, begin, n), line(g, begin, n), line(m, begin, n), line(v, begin, n)
    for i in range(n):
        m[i] = beta1 * m[i] + rest1 * g[i]
        v[i] = beta2 * v[i] + rest2 * g[i] * g[i]
        theta[i] = kept * theta[i] - step * m[i] / (np.sqrt(v[i]) * root + epsilon)


@kernel
def update(board, threads, theta, g, m, v, beta1, beta2, step, root, epsilon, kept):
    """One pass; all scalars are float64, which is what the interpreter hands over quickest.

    ``step = rate / (1 - beta1**t)``, ``root = 1 / sqrt(1 - beta2**t)``, and `kept` is what the
    decoupled decay leaves of theta.
    """
    parts = parts_of(threads, theta.size, 1, 1, SHARES)
    number = theta.dtype.type
    beta1, rest1, beta2, rest2 = number(beta1), number(1 - beta1), number(beta2), number(1 - beta2)
    step, root, epsilon, kept = number(step), number(root), number(epsilon), number(kept)
    call(
        distribute,
        board,
        parts,
        job(_part, (theta, g, m, v, beta1, rest1, beta2, rest2, step, root, epsilon, kept, parts)),
    )

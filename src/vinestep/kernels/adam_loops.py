"""Loops of Adam. Notation follows Kingma and Ba, ICLR 2015, algorithm 1."""

from __future__ import annotations

import numpy as np

from .compiling import kernel

__all__ = ["update"]


@kernel
def update(theta, g, m, v, start, stop, alpha, beta1, beta2, epsilon, bias1, bias2, decay):
    """One pass over ``start:stop``; all scalars are of the arrays' dtype. `decay` is the decoupled one, times the rate."""
    one = beta1 * 0 + 1
    rest1 = one - beta1
    rest2 = one - beta2
    step = alpha / bias1
    root = one / np.sqrt(bias2)
    for i in range(start, stop):
        m[i] = beta1 * m[i] + rest1 * g[i]
        v[i] = beta2 * v[i] + rest2 * g[i] * g[i]
        theta[i] = theta[i] - decay * theta[i] - step * m[i] / (np.sqrt(v[i]) * root + epsilon)

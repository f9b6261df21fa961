"""Loops of the dense layer. Shapes: x (n, n_in), weight (n_in, n_out), y and g (n, n_out)."""

from __future__ import annotations

import numpy as np

from .compiling import kernel

__all__ = ["add_bias_activate", "adjoint_activate", "adjoint_small", "forward_small"]

# Activations by number: 0 none, 1 relu, 2 tanh, 3 sigmoid, 4 leaky relu with the slope given.


@kernel
def _activate(z, activation, slope):
    if activation == 1:
        return z if z > 0 else z * 0
    if activation == 2:
        return np.tanh(z)
    if activation == 3:
        return 1 / (1 + np.exp(-z))
    if activation == 4:
        return z if z > 0 else z * slope
    return z


@kernel
def _slope_at(y, activation, slope):
    """Derivative of the activation, from its result."""
    if activation == 1:
        return y * 0 + 1 if y > 0 else y * 0
    if activation == 2:
        return 1 - y * y
    if activation == 3:
        return y * (1 - y)
    if activation == 4:
        return y * 0 + 1 if y > 0 else y * 0 + slope
    return y * 0 + 1


@kernel
def add_bias_activate(y, bias, activation, slope):
    """``y = activation(y + bias)`` in place."""
    for i in range(y.shape[0]):
        for j in range(y.shape[1]):
            y[i, j] = _activate(y[i, j] + bias[j], activation, slope)


@kernel
def adjoint_activate(g, y, gz, g_bias, activation, slope):
    """``gz = g * activation'`` and its sum over rows."""
    g_bias[:] = 0
    for i in range(g.shape[0]):
        for j in range(g.shape[1]):
            value = g[i, j] * _slope_at(y[i, j], activation, slope)
            gz[i, j] = value
            g_bias[j] += value


@kernel
def forward_small(x, weight, bias, y, activation, slope):
    """The whole layer for arrays so small that a call costs more than the arithmetic."""
    for i in range(x.shape[0]):
        for j in range(weight.shape[1]):
            y[i, j] = bias[j]
        for k in range(x.shape[1]):
            value = x[i, k]
            for j in range(weight.shape[1]):
                y[i, j] += value * weight[k, j]
        for j in range(weight.shape[1]):
            y[i, j] = _activate(y[i, j], activation, slope)


@kernel
def adjoint_small(g, x, weight, y, gx, g_weight, g_bias, gz, activation, slope, wants_x):
    n, n_in, n_out = x.shape[0], x.shape[1], weight.shape[1]
    g_bias[:] = 0
    g_weight[:, :] = 0
    for i in range(n):
        for j in range(n_out):
            gz[j] = g[i, j] * _slope_at(y[i, j], activation, slope)
            g_bias[j] += gz[j]
        for k in range(n_in):
            value = x[i, k]
            for j in range(n_out):
                g_weight[k, j] += value * gz[j]
        if wants_x:
            for k in range(n_in):
                total = gz[0] * 0
                for j in range(n_out):
                    total += gz[j] * weight[k, j]
                gx[i, k] = total

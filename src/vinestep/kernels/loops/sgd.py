"""Loops of stochastic gradient descent."""

from __future__ import annotations

from ..machinery.compilation import kernel

__all__ = ["momentum_update", "plain_update"]


@kernel
def plain_update(theta, g, start, stop, rate, decay):
    theta, g = theta[start:stop], g[start:stop]
    for i in range(theta.size):
        theta[i] -= rate * (g[i] + decay * theta[i])


@kernel
def momentum_update(theta, g, velocity, start, stop, rate, mu, decay, nesterov):
    theta, g, velocity = theta[start:stop], g[start:stop], velocity[start:stop]
    for i in range(theta.size):
        slope = g[i] + decay * theta[i]
        velocity[i] = mu * velocity[i] + slope
        theta[i] -= rate * (slope + mu * velocity[i] if nesterov else velocity[i])

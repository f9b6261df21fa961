"""Loops of stochastic gradient descent."""

from __future__ import annotations

from .compiling import kernel

__all__ = ["momentum_update", "plain_update"]


@kernel
def plain_update(theta, g, start, stop, rate, decay):
    for i in range(start, stop):
        theta[i] -= rate * (g[i] + decay * theta[i])


@kernel
def momentum_update(theta, g, velocity, start, stop, rate, mu, decay, nesterov):
    for i in range(start, stop):
        slope = g[i] + decay * theta[i]
        velocity[i] = mu * velocity[i] + slope
        theta[i] -= rate * (slope + mu * velocity[i] if nesterov else velocity[i])

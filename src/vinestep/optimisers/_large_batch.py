"""Optimisers made for large networks and large batches: Lion, LAMB."""

from __future__ import annotations

from typing import Any, Unpack

import numpy as np

from .. import kernels
from ..autodiff.gradients import euclidean_norm
from ..kernels.machinery.pool import helpers
from ..parts._registry import part
from ._adam import _Moments
from ._base import Common, Optimiser, below_one

__all__ = ["LAMB", "Lion"]


@part("lion", "optimiser")
class Lion(Optimiser):
    """Steps of one size, by the sign of an interpolated mean [1]_; its state is a third smaller
    than Adam's.

    ``theta -= rate * (sign(beta1 * m + (1 - beta1) * g) + weight_decay * theta)``, then ``m = beta2
    * m + (1 - beta2) * g``.

    Parameters
    ----------
    rate : float
        About a tenth of Adam's.
    beta1, beta2 : float
        From 0 up to but not including 1.
    weight_decay, rate_factors, decay_factors, decay_of
        As of `Optimiser`; the decay is decoupled.

    References
    ----------
    .. [1] X. Chen et al., "Symbolic Discovery of Optimization Algorithms", NeurIPS 2023, algorithm
       2.

    Examples
    --------
    >>> theta = np.array([1.0, 2.0])
    >>> Lion(0.1).update(theta, np.array([5.0, -0.01]))
    >>> theta
    array([0.9, 2.1])
    """

    state_names = ("m",)

    def __init__(
        self,
        rate: float = 1e-4,
        *,
        beta1: float = 0.9,
        beta2: float = 0.99,
        **common: Unpack[Common],
    ) -> None:
        super().__init__(rate, **common)
        self.beta1 = below_one(beta1, "Lion: beta1")
        self.beta2 = below_one(beta2, "Lion: beta2")

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        theta, g, m = theta[start:stop], g[start:stop], self.state["m"][start:stop]
        kept = 1 - rate * decay
        if self.runs_kernels:
            kernels.adaptive_updates.lion(
                *helpers(theta.size), theta, g, m, self.beta1, self.beta2, rate, kept
            )
            return
        direction = np.sign(self.beta1 * m + (1 - self.beta1) * g)
        theta *= kept
        theta -= rate * direction
        m[...] = self.beta2 * m + (1 - self.beta2) * g


@part("lamb", "optimiser")
class LAMB(_Moments):
    """Adam of which each parameter's step is as long as the parameter, times the rate: for very
    large batches [1]_.

    ``u = m_hat / (sqrt(v_hat) + epsilon) + weight_decay * theta`` with the moments of `Adam`; then,
    for each parameter array, ``theta -= rate * norm(theta) / norm(u) * u``, the ratio of norms
    being 1 where either is 0.

    Parameters
    ----------
    rate, beta1, beta2, epsilon, weight_decay, rate_factors, decay_factors, decay_of
        As of `Adam`.

    References
    ----------
    .. [1] Y. You et al., "Large Batch Optimization for Deep Learning: Training BERT in 76 minutes",
       ICLR 2020, algorithm 2.

    Examples
    --------
    >>> theta = np.array([3.0, 4.0])
    >>> LAMB(0.1).update(theta, np.array([1.0, 1.0]))
    >>> theta.round(3)
    array([2.646, 3.646])
    """

    by_parameter = True
    _room: np.ndarray | None = None

    def __getstate__(self) -> dict[str, Any]:
        return super().__getstate__() | {"_room": None}

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        theta, g = theta[start:stop], g[start:stop]
        m, v = self.state["m"][start:stop], self.state["v"][start:stop]
        scale, root = 1 / (1 - self.beta1**self.count), (1 - self.beta2**self.count) ** -0.5
        if self.runs_kernels:
            room = self._room
            if room is None or room.size < theta.size or room.dtype != theta.dtype:
                self._room = room = np.empty(theta.size, theta.dtype)
            u, crew = room[: theta.size], helpers(theta.size)
            kernels.adaptive_updates.lamb_direction(
                *crew, theta, g, m, v, u, self.beta1, self.beta2, scale, root, self.epsilon, decay
            )
            kernels.adaptive_updates.moved(*crew, theta, u, rate * _ratio(theta, u))
            return
        self._moments(g, m, v)
        u = scale * m / (np.sqrt(v) * root + self.epsilon) + decay * theta
        theta -= rate * _ratio(theta, u) * u


def _ratio(theta: np.ndarray, u: np.ndarray) -> float:
    """How long a parameter is, of its step."""
    length, step = euclidean_norm(theta), euclidean_norm(u)
    return length / step if length > 0 and step > 0 else 1.0

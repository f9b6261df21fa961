"""Adam."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from .. import kernels
from ..kernels.machinery.pool import helpers
from ..parts import part
from .base import Optimiser, below_one, positive

__all__ = ["Adam"]


@part("adam", "optimiser")
class Adam(Optimiser):
    """Adaptive moments [1]_, with weight decay decoupled from the gradient [2]_.

    ``m = beta1 * m + (1 - beta1) * g``, ``v = beta2 * v + (1 - beta2) * g**2``, both divided by ``1 - beta**t``, then
    ``theta -= rate * m_hat / (sqrt(v_hat) + epsilon)``.

    Parameters
    ----------
    rate : float
    beta1, beta2 : float
        Decay rates of the first and second moment, from 0 up to but not including 1.
    epsilon : float
        Keeps the divisor away from zero.
    weight_decay : float
        Decoupled: before each step ``theta`` shrinks by ``rate * weight_decay`` of itself.
    rate_factors : mapping of pattern to factor, optional

    References
    ----------
    .. [1] D. P. Kingma and J. Ba, "Adam: A Method for Stochastic Optimization", ICLR 2015, algorithm 1.
    .. [2] I. Loshchilov and F. Hutter, "Decoupled Weight Decay Regularization", ICLR 2019, algorithm 2.

    Examples
    --------
    >>> theta = np.array([1.0, 2.0])
    >>> Adam(0.1).update(theta, np.array([5.0, -0.01]))
    >>> theta.round(3)
    array([0.9, 2.1])
    """

    state_names = ("m", "v")

    def __init__(
        self,
        rate: float = 1e-3,
        *,
        beta1: float = 0.9,
        beta2: float = 0.999,
        epsilon: float = 1e-8,
        weight_decay: float = 0.0,
        rate_factors: Mapping[str, float] | None = None,
    ) -> None:
        super().__init__(rate, weight_decay=weight_decay, rate_factors=rate_factors)
        self.beta1 = below_one(beta1, "Adam: beta1")
        self.beta2 = below_one(beta2, "Adam: beta2")
        self.epsilon = positive(epsilon, "Adam: epsilon")

    def apply_update(self, theta: np.ndarray, g: np.ndarray, rate: float, start: int, stop: int) -> None:
        m, v = self.state["m"], self.state["v"]
        bias1 = 1 - self.beta1**self.count
        bias2 = 1 - self.beta2**self.count
        if not self.runs_kernels:
            self._define_update(theta[start:stop], g[start:stop], m[start:stop], v[start:stop], rate, bias1, bias2)
            return
        if stop - start < theta.size:
            theta, g, m, v = theta[start:stop], g[start:stop], m[start:stop], v[start:stop]
        board, threads = helpers(stop - start)
        kept = 1 - rate * self.weight_decay
        kernels.adam.update(board, threads, theta, g, m, v, self.beta1, self.beta2, rate / bias1, bias2**-0.5, self.epsilon, kept)

    def _define_update(
        self, theta: np.ndarray, g: np.ndarray, m: np.ndarray, v: np.ndarray, rate: float, bias1: float, bias2: float
    ) -> None:
        m[...] = self.beta1 * m + (1 - self.beta1) * g
        v[...] = self.beta2 * v + (1 - self.beta2) * g**2
        theta *= 1 - rate * self.weight_decay
        theta -= rate * (m / bias1) / (np.sqrt(v / bias2) + self.epsilon)

"""Adam and its kin: running means of the gradient and of its square."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import ClassVar, Literal, Unpack

import numpy as np

from .. import kernels
from ..errors import SettingError
from ..kernels.machinery.pool import helpers
from ..parts._registry import part
from ._base import (
    Common,
    Optimiser,
    below_one,
    positive,
)

__all__ = ["AMSGrad", "Adam", "AdamW", "NAdam", "RAdam"]


class _Moments(Optimiser):
    """What they share: two moments, and a decay that is decoupled from them.

    Parameters
    ----------
    rate : float
    beta1, beta2 : float
        Decay rates of the first and second moment, from 0 up to but not including 1.
    epsilon : float
        Keeps the divisor away from zero.
    weight_decay : float
        Decoupled: before each step ``theta`` shrinks by ``rate * weight_decay`` of itself.
    """

    state_names: ClassVar[tuple[str, ...]] = ("m", "v")

    def __init__(
        self,
        rate: float = 1e-3,
        *,
        beta1: float = 0.9,
        beta2: float = 0.999,
        epsilon: float = 1e-8,
        **common: Unpack[Common],
    ) -> None:
        super().__init__(rate, **common)
        name = type(self).__name__
        self.beta1 = below_one(beta1, f"{name}: beta1")
        self.beta2 = below_one(beta2, f"{name}: beta2")
        self.epsilon = positive(epsilon, f"{name}: epsilon")

    def _moments(self, g: np.ndarray, m: np.ndarray, v: np.ndarray) -> None:
        """Their running means, as the definitions compute them."""
        m[...] = self.beta1 * m + (1 - self.beta1) * g
        v[...] = self.beta2 * v + (1 - self.beta2) * g**2


@part("adam", "optimiser")
class Adam(_Moments):
    """Adaptive moments [1]_, with weight decay decoupled from the gradient [2]_.

    ``m = beta1 * m + (1 - beta1) * g``, ``v = beta2 * v + (1 - beta2) * g**2``, both divided by ``1
    - beta**t``, then ``theta -= rate * m_hat / (sqrt(v_hat) + epsilon)``.

    Parameters
    ----------
    rate : float
    beta1, beta2 : float
        Decay rates of the first and second moment, from 0 up to but not including 1.
    epsilon : float
        Keeps the divisor away from zero.
    weight_decay : float
        Decoupled: before each step ``theta`` shrinks by ``rate * weight_decay`` of itself.
    rate_factors, decay_factors, decay_of
        As of `Optimiser`.

    References
    ----------
    .. [1] D. P. Kingma and J. Ba, "Adam: A Method for Stochastic Optimization", ICLR 2015,
       algorithm 1.
    .. [2] I. Loshchilov and F. Hutter, "Decoupled Weight Decay Regularization", ICLR 2019,
       algorithm 2.

    Examples
    --------
    >>> theta = np.array([1.0, 2.0])
    >>> Adam(0.1).update(theta, np.array([5.0, -0.01]))
    >>> theta.round(3)
    array([0.9, 2.1])
    """

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        m, v = self.state["m"], self.state["v"]
        bias1 = 1 - self.beta1**self.count
        bias2 = 1 - self.beta2**self.count
        if stop - start < theta.size:
            theta, g, m, v = theta[start:stop], g[start:stop], m[start:stop], v[start:stop]
        kept = 1 - rate * decay
        if self.runs_kernels:
            board, threads = helpers(stop - start)
            kernels.adam.update(
                board,
                threads,
                theta,
                g,
                m,
                v,
                self.beta1,
                self.beta2,
                rate / bias1,
                bias2**-0.5,
                self.epsilon,
                kept,
            )
            return
        self._moments(g, m, v)
        theta *= kept
        theta -= rate * (m / bias1) / (np.sqrt(v / bias2) + self.epsilon)


@part("adamw", "optimiser")
class AdamW(Adam):
    """`Adam` with a decoupled weight decay of 0.01 unless told otherwise.

    Parameters
    ----------
    rate, beta1, beta2, epsilon, rate_factors, decay_factors, decay_of
        As of `Adam`.
    weight_decay : float
        Before each step ``theta`` shrinks by ``rate * weight_decay`` of itself.

    References
    ----------
    .. [1] I. Loshchilov and F. Hutter, "Decoupled Weight Decay Regularization", ICLR 2019,
       algorithm 2.

    Examples
    --------
    >>> AdamW(0.1).weight_decay
    0.01
    """

    def __init__(
        self,
        rate: float = 1e-3,
        *,
        beta1: float = 0.9,
        beta2: float = 0.999,
        epsilon: float = 1e-8,
        weight_decay: float = 0.01,
        rate_factors: Mapping[str, float] | None = None,
        decay_factors: Mapping[str, float] | None = None,
        decay_of: Literal["all", "weights"] = "all",
    ) -> None:
        common = Common(
            weight_decay=weight_decay,
            rate_factors=rate_factors,
            decay_factors=decay_factors,
            decay_of=decay_of,
        )
        super().__init__(rate, beta1=beta1, beta2=beta2, epsilon=epsilon, **common)


@part("amsgrad", "optimiser")
class AMSGrad(_Moments):
    """Adam whose second moment never falls, and without correction of the bias [1]_.

    ``m`` and ``v`` as of `Adam`; ``top = max(top, v)``, then ``theta -= rate * m / (sqrt(top) +
    epsilon)``.

    Parameters
    ----------
    rate, beta1, beta2, epsilon, weight_decay, rate_factors, decay_factors, decay_of
        As of `Adam`; the paper has no epsilon.

    References
    ----------
    .. [1] S. J. Reddi, S. Kale and S. Kumar, "On the Convergence of Adam and Beyond", ICLR 2018,
       algorithm 2.

    Examples
    --------
    >>> theta = np.array([1.0])
    >>> AMSGrad(0.1, beta1=0.0, beta2=0.0).update(theta, np.array([5.0]))
    >>> theta.round(3)
    array([0.9])
    """

    state_names = ("m", "v", "top")

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        theta, g = theta[start:stop], g[start:stop]
        m, v, top = (self.state[name][start:stop] for name in self.state_names)
        kept = 1 - rate * decay
        if self.runs_kernels:
            kernels.adaptive_updates.amsgrad(
                *helpers(theta.size),
                theta,
                g,
                m,
                v,
                top,
                self.beta1,
                self.beta2,
                rate,
                self.epsilon,
                kept,
            )
            return
        self._moments(g, m, v)
        np.maximum(top, v, out=top)
        theta *= kept
        theta -= rate * m / (np.sqrt(top) + self.epsilon)


@part("nadam", "optimiser")
class NAdam(_Moments):
    """Adam with Nesterov's momentum [1]_.

    ``m`` and ``v`` as of `Adam`. With ``mu(t) = beta1 * (1 - 0.5 * 0.96**(t / 250))`` and ``M(t)``
    the product of ``mu(1)`` to ``mu(t)``, ``m_hat = mu(t + 1) * m / (1 - M(t + 1)) + (1 - mu(t)) *
    g / (1 - M(t))``, ``v_hat = v / (1 - beta2**t)``, then ``theta -= rate * m_hat / (sqrt(v_hat) +
    epsilon)``; ``m`` takes ``mu(t)`` in the place of ``beta1``.

    Parameters
    ----------
    rate, beta1, beta2, epsilon, weight_decay, rate_factors, decay_factors, decay_of
        As of `Adam`.

    References
    ----------
    .. [1] T. Dozat, "Incorporating Nesterov Momentum into Adam", ICLR workshop 2016, algorithm 2.

    Examples
    --------
    >>> theta = np.array([1.0])
    >>> NAdam(0.1).update(theta, np.array([5.0]))
    >>> theta.round(2)
    array([0.87])
    """

    _product: tuple[int, float] = (0, 1.0)

    def _mu(self, t: int) -> float:
        return float(self.beta1 * (1 - 0.5 * 0.96 ** (t / 250)))

    def _product_to(self, t: int) -> float:
        """Of `mu(1)` to `mu(t)`, always multiplied in this order, so that a continued run gets the
        same bits.
        """
        known, product = self._product if self._product[0] <= t else (0, 1.0)
        for i in range(known + 1, t + 1):
            product *= self._mu(i)
        self._product = t, product
        return float(product)

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        theta, g = theta[start:stop], g[start:stop]
        m, v = self.state["m"][start:stop], self.state["v"][start:stop]
        t = self.count
        mu, product = self._mu(t), self._product_to(t)
        ahead = self._mu(t + 1) / (1 - product * self._mu(t + 1))
        now = (1 - mu) / (1 - product)
        bias2, kept = 1 - self.beta2**t, 1 - rate * decay
        if self.runs_kernels:
            rates = rate * ahead, rate * now
            kernels.adaptive_updates.nadam(
                *helpers(theta.size),
                theta,
                g,
                m,
                v,
                mu,
                self.beta2,
                *rates,
                bias2**-0.5,
                self.epsilon,
                kept,
            )
            return
        m[...] = mu * m + (1 - mu) * g
        v[...] = self.beta2 * v + (1 - self.beta2) * g**2
        theta *= kept
        theta -= rate * (ahead * m + now * g) / (np.sqrt(v / bias2) + self.epsilon)


@part("radam", "optimiser")
class RAdam(_Moments):
    """Adam that does not divide by the second moment before its variance is known well enough [1]_.

    ``m`` and ``v`` as of `Adam`. ``rho(t) = rho(inf) - 2 * t * beta2**t / (1 - beta2**t)`` with
    ``rho(inf) = 2 / (1 - beta2) - 1`` counts the gradients that ``v`` is made of. While it is at
    most 4, ``theta -= rate * m_hat``; afterwards ``theta -= rate * r * m_hat / (sqrt(v_hat) +
    epsilon)``, ``r`` the root of ``(rho(t) - 4) * (rho(t) - 2) * rho(inf)`` by ``(rho(inf) - 4) *
    (rho(inf) - 2) * rho(t)``.

    Parameters
    ----------
    rate, beta1, beta2, epsilon, weight_decay, rate_factors, decay_factors, decay_of
        As of `Adam`; `beta2` has to be above 0.6, so that ``rho(inf)`` is above 4.

    References
    ----------
    .. [1] L. Liu et al., "On the Variance of the Adaptive Learning Rate and Beyond", ICLR 2020,
       algorithm 2.

    Examples
    --------
    >>> theta = np.array([1.0])
    >>> RAdam(0.1).update(theta, np.array([5.0]))
    >>> theta.round(3)
    array([0.5])
    """

    def __init__(
        self,
        rate: float = 1e-3,
        *,
        beta1: float = 0.9,
        beta2: float = 0.999,
        epsilon: float = 1e-8,
        **common: Unpack[Common],
    ) -> None:
        super().__init__(rate, beta1=beta1, beta2=beta2, epsilon=epsilon, **common)
        if 2 / (1 - self.beta2) - 1 <= 4:
            raise SettingError(
                f"RAdam: beta2 has to be above 0.6, got {beta2}: the variance of the second "
                "moment is not known below it."
            )

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        theta, g = theta[start:stop], g[start:stop]
        m, v = self.state["m"][start:stop], self.state["v"][start:stop]
        t, kept = self.count, 1 - rate * decay
        bias1, power = 1 - self.beta1**t, self.beta2**t
        limit = 2 / (1 - self.beta2) - 1
        rho = limit - 2 * t * power / (1 - power)
        adapted = rho > 4
        rectified = (
            math.sqrt((rho - 4) * (rho - 2) * limit / ((limit - 4) * (limit - 2) * rho))
            if adapted
            else 1.0
        )
        step, root = rate * rectified / bias1, (1 - power) ** -0.5
        if self.runs_kernels:
            settings = self.beta1, self.beta2, step, root, self.epsilon, kept, adapted
            kernels.adaptive_updates.radam(*helpers(theta.size), theta, g, m, v, *settings)
            return
        self._moments(g, m, v)
        theta *= kept
        theta -= step * m / (np.sqrt(v) * root + self.epsilon) if adapted else step * m

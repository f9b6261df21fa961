"""Optimisers that divide by a running measure of the gradient's size: Adagrad, Adadelta,
RMSprop.
"""

from __future__ import annotations

from typing import Unpack

import numpy as np

from .. import kernels
from ..kernels.machinery.pool import helpers
from ..parts._registry import part
from ._base import (
    Common,
    Optimiser,
    below_one,
    positive,
)

__all__ = ["Adadelta", "Adagrad", "RMSprop"]


@part("adagrad", "optimiser")
class Adagrad(Optimiser):
    """Adaptive subgradients, diagonal form [1]_.

    With ``g`` the gradient plus ``weight_decay * theta``: ``s = s + g**2``, then ``theta -= rate *
    g / (sqrt(s) + epsilon)``.

    Parameters
    ----------
    rate : float
    epsilon : float
        The paper's delta.
    weight_decay, rate_factors, decay_factors, decay_of
        As of `Optimiser`; the decay is added to the gradient.

    References
    ----------
    .. [1] J. Duchi, E. Hazan and Y. Singer, "Adaptive Subgradient Methods for Online Learning and
       Stochastic Optimization", JMLR 12, 2011, figure 1 with the diagonal matrix.

    Examples
    --------
    >>> theta = np.array([1.0, 2.0])
    >>> Adagrad(0.1).update(theta, np.array([5.0, -0.01]))
    >>> theta.round(3)
    array([0.9, 2.1])
    """

    state_names = ("s",)

    def __init__(
        self, rate: float = 0.01, *, epsilon: float = 1e-10, **common: Unpack[Common]
    ) -> None:
        super().__init__(rate, **common)
        self.epsilon = positive(epsilon, "Adagrad: epsilon")

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        theta, g, s = theta[start:stop], g[start:stop], self.state["s"][start:stop]
        if self.runs_kernels:
            kernels.adaptive_updates.adagrad(
                *helpers(theta.size), theta, g, s, rate, decay, self.epsilon
            )
            return
        slope = g + decay * theta
        s += slope**2
        theta -= rate * slope / (np.sqrt(s) + self.epsilon)


@part("adadelta", "optimiser")
class Adadelta(Optimiser):
    """Steps in the unit of the parameters, without a rate to choose [1]_.

    With ``g`` the gradient plus ``weight_decay * theta``: ``squares = rho * squares + (1 - rho) *
    g**2``, ``move = sqrt(moves + epsilon) / sqrt(squares + epsilon) * g``, ``moves = rho * moves +
    (1 - rho) * move**2``, then ``theta -= rate * move``.

    Parameters
    ----------
    rate : float
        1 in the paper.
    rho : float
        From 0 up to but not including 1.
    epsilon : float
    weight_decay, rate_factors, decay_factors, decay_of
        As of `Optimiser`; the decay is added to the gradient.

    References
    ----------
    .. [1] M. D. Zeiler, "ADADELTA: An Adaptive Learning Rate Method", 2012, algorithm 1.

    Examples
    --------
    >>> theta = np.array([1.0])
    >>> Adadelta(rho=0.0, epsilon=1e-6).update(theta, np.array([1.0]))
    >>> theta.round(6)
    array([0.999])
    """

    state_names = ("squares", "moves")

    def __init__(
        self,
        rate: float = 1.0,
        *,
        rho: float = 0.95,
        epsilon: float = 1e-6,
        **common: Unpack[Common],
    ) -> None:
        super().__init__(rate, **common)
        self.rho = below_one(rho, "Adadelta: rho")
        self.epsilon = positive(epsilon, "Adadelta: epsilon")

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        theta, g = theta[start:stop], g[start:stop]
        squares, moves = self.state["squares"][start:stop], self.state["moves"][start:stop]
        if self.runs_kernels:
            kernels.adaptive_updates.adadelta(
                *helpers(theta.size), theta, g, squares, moves, rate, decay, self.rho, self.epsilon
            )
            return
        slope = g + decay * theta
        squares[...] = self.rho * squares + (1 - self.rho) * slope**2
        move = np.sqrt(moves + self.epsilon) / np.sqrt(squares + self.epsilon) * slope
        moves[...] = self.rho * moves + (1 - self.rho) * move**2
        theta -= rate * move


@part("rmsprop", "optimiser")
class RMSprop(Optimiser):
    """Divided by the root of a running mean of squared gradients [1]_, or of their variance [2]_.

    With ``g`` the gradient plus ``weight_decay * theta``: ``squares = rho * squares + (1 - rho) *
    g**2``; centred, also ``means = rho * means + (1 - rho) * g``. Then ``delta = momentum * delta -
    rate * g / sqrt(squares - means**2 + epsilon)``, without ``means`` if not centred, and ``theta
    += delta``.

    Parameters
    ----------
    rate : float
    rho : float
        From 0 up to but not including 1.
    momentum : float
        From 0 up to but not including 1.
    epsilon : float
        Within the root.
    centred : bool
    weight_decay, rate_factors, decay_factors, decay_of
        As of `Optimiser`; the decay is added to the gradient.

    References
    ----------
    .. [1] T. Tieleman and G. Hinton, "Lecture 6.5: rmsprop", Neural Networks for Machine Learning,
       2012.
    .. [2] A. Graves, "Generating Sequences With Recurrent Neural Networks", 2013, equations 38 to
       41.

    Examples
    --------
    >>> theta = np.array([1.0])
    >>> RMSprop(0.1, rho=0.0).update(theta, np.array([5.0]))
    >>> theta.round(3)
    array([0.9])
    """

    def __init__(
        self,
        rate: float = 1e-3,
        *,
        rho: float = 0.95,
        momentum: float = 0.0,
        epsilon: float = 1e-8,
        centred: bool = False,
        **common: Unpack[Common],
    ) -> None:
        super().__init__(rate, **common)
        self.rho = below_one(rho, "RMSprop: rho")
        self.momentum = below_one(momentum, "RMSprop: momentum")
        self.epsilon = positive(epsilon, "RMSprop: epsilon")
        self.centred = centred
        self.state_names = ("squares", "means", "delta") if centred else ("squares", "delta")  # type: ignore[misc]

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        theta, g = theta[start:stop], g[start:stop]
        squares, delta = self.state["squares"][start:stop], self.state["delta"][start:stop]
        means = self.state["means"][start:stop] if self.centred else None
        settings = rate, decay, self.rho, self.momentum, self.epsilon
        if self.runs_kernels and means is not None:
            kernels.adaptive_updates.rmsprop_centred(
                *helpers(theta.size), theta, g, squares, means, delta, *settings
            )
            return
        if self.runs_kernels:
            kernels.adaptive_updates.rmsprop(
                *helpers(theta.size), theta, g, squares, delta, *settings
            )
            return
        slope = g + decay * theta
        squares[...] = self.rho * squares + (1 - self.rho) * slope**2
        spread = squares
        if means is not None:
            means[...] = self.rho * means + (1 - self.rho) * slope
            spread = np.maximum(squares - means**2, 0)
        delta[...] = self.momentum * delta - rate * slope / np.sqrt(spread + self.epsilon)
        theta += delta

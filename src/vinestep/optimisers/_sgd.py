"""Stochastic gradient descent."""

from __future__ import annotations

from typing import Unpack

import numpy as np

from .. import kernels
from ..errors import SettingError
from ..parts._registry import part
from ._base import Common, Optimiser, below_one

__all__ = ["SGD"]


@part("sgd", "optimiser")
class SGD(Optimiser):
    """Stochastic gradient descent, with momentum and Nesterov's variant of it.

    With ``g`` the gradient plus ``weight_decay * theta``: ``velocity = momentum * velocity + g``,
    then ``theta -= rate * velocity``, or with Nesterov ``theta -= rate * (g + momentum *
    velocity)`` [1]_.

    Parameters
    ----------
    rate : float
    momentum : float
        From 0 up to but not including 1.
    nesterov : bool
    weight_decay : float
        Factor of the parameters that is added to the gradient.
    rate_factors, decay_factors, decay_of
        As of `Optimiser`.

    References
    ----------
    .. [1] I. Sutskever, J. Martens, G. Dahl and G. Hinton, "On the Importance of Initialization and
       Momentum in Deep Learning", ICML 2013, equations 3 and 4, in the form with the velocity of Y.
       Bengio et al., 2012, equation 7.

    Examples
    --------
    >>> theta = np.array([1.0, 2.0])
    >>> SGD(0.1).update(theta, np.array([1.0, 1.0]))
    >>> theta
    array([0.9, 1.9])
    """

    def __init__(
        self,
        rate: float,
        *,
        momentum: float = 0.0,
        nesterov: bool = False,
        **common: Unpack[Common],
    ) -> None:
        super().__init__(rate, **common)
        self.momentum = below_one(momentum, "SGD: momentum")
        self.nesterov = nesterov
        if nesterov and not momentum:
            raise SettingError("SGD: nesterov=True needs a momentum above 0.")
        self.state_names = ("velocity",) if momentum else ()  # type: ignore[misc]

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        number = theta.dtype.type
        velocity = self.state.get("velocity")
        if not self.runs_kernels:
            self._define_update(
                theta[start:stop],
                g[start:stop],
                None if velocity is None else velocity[start:stop],
                rate,
                decay,
            )
        elif velocity is None:
            kernels.sgd.plain_update(theta, g, start, stop, number(rate), number(decay))
        else:
            kernels.sgd.momentum_update(
                theta,
                g,
                velocity,
                start,
                stop,
                number(rate),
                number(self.momentum),
                number(decay),
                self.nesterov,
            )

    def _define_update(
        self,
        theta: np.ndarray,
        g: np.ndarray,
        velocity: np.ndarray | None,
        rate: float,
        decay: float,
    ) -> None:
        slope = g + decay * theta
        if velocity is None:
            theta -= rate * slope
            return
        velocity[...] = self.momentum * velocity + slope
        theta -= rate * (slope + self.momentum * velocity if self.nesterov else velocity)

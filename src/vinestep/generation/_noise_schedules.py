"""How an example turns into noise: by a path of levels, each an angle between the two.

An example ``x`` and noise ``e`` of variance 1 are mixed as ``a x + s e``. Divided by
``sqrt(a**2 + s**2)`` the mixture is ``cos(angle) x + sin(angle) e``: from 0, the example, to a
right angle, noise. All schedules are paths of this angle; what the papers differ in besides is how
often each level is trained, and which levels a sampler visits.
"""

from __future__ import annotations

import math
from typing import Any, ClassVar

import numpy as np
import scipy

from ..errors import SettingError
from ..parts._registry import part

__all__ = ["Cosine", "Linear", "NoiseSchedule", "PowerLaw", "Straight"]


class NoiseSchedule:
    """A path from an example to noise, by a time from 0 to 1.

    One of your own derives from this and gives `angle`; see `Linear`, `Cosine`, `PowerLaw`,
    `Straight`.

    Examples
    --------
    >>> Straight().angle(np.array([0.0, 0.5, 1.0])).round(4)
    array([0.    , 0.7854, 1.5708])
    """

    part_family: ClassVar[str] = "noise_schedule"
    levels: int = 0
    """How many there are, evenly in time; 0 where time is continuous."""

    def angle(self, times: Any) -> np.ndarray:
        """Between example and noise, in radians, float64."""
        raise NotImplementedError

    def training_times(self, uniform: Any) -> np.ndarray:
        """Times to train on, from numbers that are even between 0 and 1."""
        values = np.asarray(uniform, np.float64)
        if self.levels:
            return np.asarray(np.ceil(np.maximum(values, 1e-12) * self.levels) / self.levels)
        return np.asarray(values)

    def sampling_times(self, steps: int) -> np.ndarray:
        """Times that a sampler visits, from 1 to 0, shape (steps + 1,)."""
        if not self.levels:
            return np.asarray(np.linspace(1, 0, steps + 1))
        first = 1 / self.levels
        return np.asarray(
            np.append(np.linspace(1, first, steps), 0.0) if steps > 1 else np.array([1.0, 0.0])
        )

    def posterior(self, noisy: Any, clean: Any, low: float, high: float) -> tuple[Any, float]:
        """Mean and variance of the level at time `low`, known the one at `high` and the example:
        J. Ho, A. Jain and P. Abbeel, NeurIPS 2020, equations 6 and 7, for any two levels.

        Parameters
        ----------
        noisy : array
            ``cos(angle) x + sin(angle) e`` at `high`.
        clean : array
            The example.

        Returns
        -------
        mean : array
        variance : float
        """
        a, b = (float(self.angle(np.array(t))) for t in (low, high))
        return posterior(noisy, clean, a, b)


def posterior(noisy: Any, clean: Any, low: float, high: float) -> tuple[Any, float]:
    """See `NoiseSchedule.posterior`; `low` and `high` are angles."""
    ratio = math.cos(high) / math.cos(low)
    added = max(math.sin(high) ** 2 - ratio**2 * math.sin(low) ** 2, 0.0)
    whole = math.sin(high) ** 2
    mean = (ratio * math.sin(low) ** 2 / whole) * noisy + (math.cos(low) * added / whole) * clean
    return mean, added * math.sin(low) ** 2 / whole


class _OfVariances(NoiseSchedule):
    """A schedule that is given by the variance that each of its levels adds."""

    @property
    def variances(self) -> np.ndarray:
        """That each level adds, shape (levels,)."""
        raise NotImplementedError

    def angle(self, times: Any) -> np.ndarray:
        known = np.concatenate([[0.0], np.cumsum(np.log1p(-self.variances))])
        places = np.linspace(0, 1, self.levels + 1)
        # share of the variance that is the example's
        kept = np.exp(np.interp(np.asarray(times, np.float64), places, known))
        return np.asarray(np.arctan2(np.sqrt(1 - kept), np.sqrt(kept)))


@part("linear_noise", "noise_schedule")
class Linear(_OfVariances):
    """A variance added in each step that rises linearly: J. Ho, A. Jain and P. Abbeel, NeurIPS
    2020, section 4.

    Parameters
    ----------
    levels : int
    first, last : float
        Of the variances, for 1,000 levels; for others they are scaled by ``1000 / levels``.

    Examples
    --------
    >>> float(np.cos(Linear().angle(np.array(1.0))).round(5))
    0.00635
    """

    def __init__(self, levels: int = 1000, *, first: float = 1e-4, last: float = 0.02) -> None:
        if levels < 2 or not 0 < first <= last or not last * 1000 / levels < 1:
            raise SettingError(
                f"Linear: {levels} levels with variances from {first} to {last} are none. Take at "
                "least 25 levels, and variances that rise."
            )
        self.levels, self.first, self.last = levels, first, last

    @property
    def variances(self) -> np.ndarray:
        return np.linspace(self.first, self.last, self.levels) * (1000 / self.levels)


@part("cosine_noise", "noise_schedule")
class Cosine(_OfVariances):
    """The share of the example falls as the square of a cosine: A. Nichol and P. Dhariwal, ICML
    2021, equation 17; no step adds a variance of more than `most`.

    Parameters
    ----------
    levels : int
    offset : float
    most : float

    Examples
    --------
    >>> float(Cosine().angle(np.array(0.5)).round(2))
    0.79
    """

    def __init__(self, levels: int = 1000, *, offset: float = 0.008, most: float = 0.999) -> None:
        if levels < 2 or not offset >= 0 or not 0 < most < 1:
            raise SettingError(
                f"Cosine: levels are at least 2, offset not negative, most below 1; got {levels}, "
                f"{offset}, {most}."
            )
        self.levels, self.offset, self.most = levels, offset, most

    @property
    def variances(self) -> np.ndarray:
        places = np.linspace(0, 1, self.levels + 1)
        kept = np.cos((places + self.offset) / (1 + self.offset) * (np.pi / 2)) ** 2
        return np.asarray(np.minimum(1 - kept[1:] / kept[:-1], self.most))


@part("power_law_noise", "noise_schedule")
class PowerLaw(NoiseSchedule):
    """Noise of a deviation that falls by a power: T. Karras, M. Aittala, T. Aila and S. Laine,
    NeurIPS 2022, equation 5; levels are trained by a log-normal distribution (table 1).

    Deviations are in units of the data's, which the paper takes for 0.5: its 0.002 and 80 are 0.004
    and 160 here. With ``predicts="velocity"`` the network is scaled as the paper's equations 7 and
    8 say.

    Parameters
    ----------
    lowest, highest : float
        Deviations that a sampler begins and ends with.
    power : float
    middle, spread : float
        Mean and deviation of the logarithms that are trained on.

    Examples
    --------
    >>> np.tan(PowerLaw().angle(np.array([0.0, 1.0]))).round(3)
    array([4.0e-03, 1.6e+02])
    """

    def __init__(
        self,
        *,
        lowest: float = 0.004,
        highest: float = 160.0,
        power: float = 7.0,
        middle: float = -0.5,
        spread: float = 1.2,
    ) -> None:
        if not 0 < lowest < highest or not power > 0 or not spread > 0:
            raise SettingError(
                "PowerLaw: deviations rise from above 0, power and spread are above 0; got "
                f"{lowest}, {highest}, {power}, {spread}."
            )
        self.lowest, self.highest, self.power = lowest, highest, power
        self.middle, self.spread = middle, spread

    @property
    def _roots(self) -> tuple[float, float]:
        """Of the lowest and the highest deviation, by the power."""
        return self.lowest ** (1 / self.power), self.highest ** (1 / self.power)

    def angle(self, times: Any) -> np.ndarray:
        low, high = self._roots
        roots = low + np.asarray(times, np.float64) * (high - low)
        return np.asarray(np.arctan(roots**self.power))

    def training_times(self, uniform: Any) -> np.ndarray:
        spread = np.clip(np.asarray(uniform, np.float64), 1e-9, 1 - 1e-9)
        sigmas = np.exp(self.middle + self.spread * scipy.special.ndtri(spread))
        low, high = self._roots
        return np.asarray(np.clip((sigmas ** (1 / self.power) - low) / (high - low), 0.0, 1.0))

    def sampling_times(self, steps: int) -> np.ndarray:
        return np.asarray(np.linspace(1, 0, steps) if steps > 1 else np.array([1.0]))


@part("straight", "noise_schedule")
class Straight(NoiseSchedule):
    """A straight line from example to noise, ``(1 - t) x + t e``: flow matching, Y. Lipman, R. T.
    Q. Chen, H. Ben-Hamu, M. Nickel and M. Le, ICLR 2023, with ``predicts="flow"``.

    Examples
    --------
    >>> Straight().sampling_times(4)
    array([1.  , 0.75, 0.5 , 0.25, 0.  ])
    """

    def angle(self, times: Any) -> np.ndarray:
        t = np.asarray(times, np.float64)
        return np.asarray(np.arctan2(t, 1 - t))

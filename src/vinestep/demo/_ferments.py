"""Made-up fermentations: sugar and temperature of tanks, hour by hour."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from .._arguments import checked_seed

__all__ = ["Ferments", "ferment_course", "ferments"]

DRY = 4.0  # g/l; below this a wine counts as dry
REFERENCE = 291.15  # kelvin, 18 degrees Celsius
WARNING = ("on course", "slowing")
MOST_HOURS = 480


class Ferments(NamedTuple):
    """What was read off the tanks, and what became of them.

    Examples
    --------
    >>> vs.demo.ferments(3).warning.shape
    (3,)
    """

    series: np.ndarray
    """Shape (n, hours, 2): sugar in g/l and temperature in degrees Celsius."""
    hours_until_dry: np.ndarray
    """Shape (n,): hours from the last reading until the sugar falls below 4 g/l."""
    warning: np.ndarray
    """Shape (n,): 1 where the yeast will falter after the last reading, else 0."""


def ferment_course(
    sugar: Any,
    temperature: np.ndarray,
    rate: Any,
    energy: Any,
    half: Any,
    hours: int,
    *,
    vigour: Any = 1.0,
) -> Any:
    """Sugar of tanks, hour by hour: ``ds/dt = -rate * exp(-energy * (1/T - 1/T0)) * s / (half +
    s)``, in Euler steps of an hour.

    Written so that it takes arrays and Tensors alike.

    Parameters
    ----------
    sugar : array_like, shape (n,)
        At the beginning, in g/l.
    temperature : ndarray, shape (n, hours)
        In degrees Celsius.
    rate : float
        Grams a litre and hour, at 18 degrees and plenty of sugar.
    energy : float
        In kelvin; how much warmth hastens it.
    half : float
        Sugar at which it goes half as fast, in g/l.
    hours : int
    vigour : ndarray, shape (n, hours), optional
        Factor of the rate.

    Returns
    -------
    course : shape (n, hours)

    Examples
    --------
    >>> vs.demo.ferment_course(
    ...     np.array([200.0]), np.full((1, 3), 18.0), 1.1, 5200.0, 22.0, 3
    ... ).round(2)
    array([[200.  , 199.01, 198.02]])
    """
    kelvin = temperature + 273.15
    course = [sugar]
    for hour in range(hours - 1):
        speed = (
            rate
            * np.exp(-energy * (1 / kelvin[:, hour] - 1 / REFERENCE))
            * (vigour if np.ndim(vigour) == 0 else vigour[:, hour])
        )
        s = course[-1]
        course.append(s - speed * s / (half + s))
    return np.stack(course, axis=1)


def ferments(n: int = 600, *, hours: int = 72, seed: int = 23) -> Ferments:
    """Tanks watched for their first hours, and how long each then took to become dry. All made up.

    Yeast works faster when it is warm and there is sugar. In a third of the tanks it will falter: a
    bout of heat above 30 degrees within the hours watched harms it, the more the longer it lasts,
    and some hours later it works more slowly. The harm shows in the readings only as a bend that
    noise half hides, so the order of the hours matters.

    Parameters
    ----------
    n : int
        Number of tanks.
    hours : int
        Length of the series.
    seed : int

    Notes
    -----
    Guessing the mean misses the hours until dry by about 54, a linear model on the last reading by
    31, one on all readings by 17; a recurrent network by 11.

    Examples
    --------
    >>> ferments(3).series.shape
    (3, 72, 2)
    """
    rng = np.random.default_rng(checked_seed(seed, "ferments"))
    clock = np.arange(MOST_HOURS + hours)
    base = rng.uniform(15.0, 26.0, n)
    swing = rng.uniform(0.5, 2.0, n)
    temperature = base[:, None] + swing[:, None] * np.sin(
        2 * np.pi * (clock + rng.uniform(0, 24, n)[:, None]) / 24
    )
    faltering = rng.random(n) < 1 / 3
    onset, length = rng.uniform(0.25, 0.8, n) * hours, rng.uniform(4, 14, n)
    bout = (clock >= onset[:, None]) & (clock < (onset + length)[:, None]) & faltering[:, None]
    temperature = temperature + bout * (33.0 - temperature)
    harm = np.where(faltering, 0.03 * length, 0.0)
    vigour = rng.uniform(0.8, 1.2, n)[:, None] * np.where(
        clock > (onset + length + 10)[:, None], 1 - harm[:, None], 1.0
    )
    sugar = rng.uniform(180.0, 240.0, n)
    course = ferment_course(
        sugar, temperature, 1.1, 5200.0, 22.0, MOST_HOURS + hours, vigour=vigour
    )
    dry = np.argmax(course < DRY, axis=1)
    until = np.where((course < DRY).any(axis=1), dry, MOST_HOURS + hours) - hours
    readings = np.stack(
        [
            course[:, :hours] + rng.normal(0, 1.0, (n, hours)),
            temperature[:, :hours] + rng.normal(0, 0.3, (n, hours)),
        ],
        -1,
    )
    return Ferments(
        readings.astype(np.float32),
        np.maximum(until, 0).astype(np.float32),
        faltering.astype(np.int64),
    )

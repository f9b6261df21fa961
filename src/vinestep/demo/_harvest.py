"""Made-up harvests of sites."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .._arguments import checked_seed

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["harvest"]

SITES = ("Hinterberg", "Kalkofen", "Leiten", "Mühlrain", "Sonnhalde")


def harvest(n: int = 1200, *, seed: int = 23) -> pd.DataFrame:
    """What sites bore in a year, and the year's weather. All made up.

    Vines bear most at middling rain and warmth, the best warmth depending on the slope; young and
    very old vines bear less; each site has its own soil, which holds water or does not. So the
    yield is a product of curves, of which a linear model sees the slopes only.

    Parameters
    ----------
    n : int
    seed : int

    Returns
    -------
    harvest : DataFrame, n rows
        ``site``, ``slope`` (degrees), ``rain`` (mm from April to September), ``degree_days`` (above
        10 degrees Celsius), ``age`` (years), and the target ``yield`` (tonnes a hectare).

    Notes
    -----
    The mean explains nothing of the variance (R squared 0); what a linear model and a small network
    explain stands in docs/data.md.

    Examples
    --------
    >>> list(harvest(2))
    ['site', 'slope', 'rain', 'degree_days', 'age', 'yield']
    """
    import pandas as pd

    rng = np.random.default_rng(checked_seed(seed, "harvest"))
    site = rng.integers(0, len(SITES), n)
    slope = rng.gamma(3.0, 4.0, n).clip(0, 45)
    rain = rng.normal(380.0, 110.0, n).clip(80)
    warmth = rng.normal(1350.0, 190.0, n)
    age = rng.gamma(2.2, 11.0, n).clip(3, 90)
    held = np.array([0.7, 1.25, 1.0, 1.5, 0.85])[site]
    water = rain * held - 3.0 * slope
    thirst = np.exp(-(((water - 370.0) / 150.0) ** 2))
    ripening = np.exp(-(((warmth - 1300.0 - 6.0 * slope) / 230.0) ** 2))
    vigour = np.tanh(age / 9.0) * np.exp(-(((age - 22.0).clip(0) / 55.0) ** 2))
    result = 13.0 * thirst * ripening * vigour + 1.2 + rng.normal(0, 0.45, n)
    return pd.DataFrame(
        {
            "site": np.array(SITES)[site],
            "slope": slope.round(1),
            "rain": rain.round(0),
            "degree_days": warmth.round(0),
            "age": age.round(0),
            "yield": result.clip(0.1).round(2),
        }
    )

"""Made-up positions of vines in three intertwined parcels."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .._arguments import checked_seed

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["parcels"]

PARCELS = ("Hill", "Meadow", "Terrace")


def parcels(n: int = 900, *, seed: int = 5) -> pd.DataFrame:
    """Positions of vines on a slope that three parcels share, each winding around the others. All
    made up.

    Each parcel is an arm that leaves the well in the middle and turns by two thirds of a circle on
    its way out; a vine stands within some metres of its arm.

    Parameters
    ----------
    n : int
        Number of vines.
    seed : int

    Returns
    -------
    parcels : DataFrame, n rows
        ``east`` and ``north`` (metres from the well), and the target ``parcel``: Hill, Meadow or
        Terrace.

    Notes
    -----
    A linear model reaches about 0.5 of accuracy, a network of one hidden layer of 32 units 0.95 and
    more.

    Examples
    --------
    >>> parcels(6).shape
    (6, 3)
    """
    import pandas as pd

    rng = np.random.default_rng(checked_seed(seed, "parcels"))
    parcel = rng.integers(0, len(PARCELS), n)
    outward = np.sqrt(rng.uniform(0.02, 1.0, n))
    angle = 2 * np.pi * parcel / len(PARCELS) + outward * 4.2
    distance = 100.0 * outward
    east = distance * np.cos(angle) + rng.normal(0.0, 6.0, n)
    north = distance * np.sin(angle) + rng.normal(0.0, 6.0, n)
    return pd.DataFrame(
        {"east": east.round(2), "north": north.round(2), "parcel": np.array(PARCELS)[parcel]}
    )

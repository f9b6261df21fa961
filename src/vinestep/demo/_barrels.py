"""Made-up readings of barrels in a cellar."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .._arguments import checked_seed

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["barrels"]

COOPERS = ("Alder", "Brun", "Castel", "Dorne")
STATES = ("sound", "stuck", "spoiling")
MISSING = 0.03  # share of readings of pH and colour that were not taken


def barrels(n: int = 1500, *, seed: int = 11) -> pd.DataFrame:
    """Readings of barrels and the state each wine turned out to be in. All made up.

    Fermentation sticks where sugar is left and the cellar is cool for the sugar there is, or where
    heat stopped the yeast. Wine spoils where warmth, little acid and time come together, in some
    coopers' barrels sooner. Both depend on combinations, bands and thresholds that a linear model
    does not see. Some readings of pH and colour are missing.

    Parameters
    ----------
    n : int
        Number of barrels.
    seed : int

    Returns
    -------
    barrels : DataFrame, n rows
        ``sugar`` (g/l), ``pH``, ``temperature`` (degrees Celsius), ``volatile_acidity`` (g/l),
        ``days_in_barrel``, ``colour_index``, ``cooper``, and the target ``state``: sound, stuck or
        spoiling.

    Notes
    -----
    A majority guess reaches about 0.5, multinomial logistic regression about 0.7, a small network
    0.85 and more of accuracy.

    Examples
    --------
    >>> barrels(3)["state"].tolist()
    ['spoiling', 'sound', 'spoiling']
    """
    import pandas as pd

    rng = np.random.default_rng(checked_seed(seed, "barrels"))
    sugar = rng.gamma(2.0, 4.0, n)
    ph = rng.normal(3.45, 0.18, n)
    temperature = rng.uniform(8.0, 32.0, n)
    acidity = rng.gamma(4.0, 0.11, n)
    days = rng.uniform(10.0, 600.0, n)
    cooper = rng.integers(0, len(COOPERS), n)
    tightness = np.array([1.0, 0.75, 1.25, 0.5])[cooper]

    band = np.abs(temperature - (19.0 + 2.5 * np.sin(sugar / 3.0))) / 5.0
    stuck = 1.7 * (band - 1.2) + 0.9 * np.tanh((sugar - 5.0) / 2.0)
    warmth = np.exp(-(((temperature - 23.0) / 5.0) ** 2))
    spoiling = (
        3.2 * warmth * np.tanh(days / 220.0) / tightness**0.7
        + 1.8 * (ph - 3.4) * np.sign(acidity - 0.42) * 4.0
        - 1.6
    )
    scores = np.stack([np.full(n, 1.2), 2.0 * stuck, 1.8 * spoiling], axis=1)
    state = np.argmax(scores + 0.25 * rng.gumbel(size=(n, 3)), axis=1)
    colour = (
        6.0
        + 1.2 * np.log1p(days / 60.0)
        - 0.8 * (state == 2) * rng.uniform(0, 1, n)
        + rng.normal(0, 0.5, n)
    )

    frame = pd.DataFrame(
        {
            "sugar": sugar.round(1),
            "pH": ph.round(2),
            "temperature": temperature.round(1),
            "volatile_acidity": acidity.round(2),
            "days_in_barrel": days.round(0),
            "colour_index": colour.round(2),
            "cooper": np.array(COOPERS)[cooper],
            "state": np.array(STATES)[state],
        }
    )
    for column in ("pH", "colour_index"):
        frame.loc[rng.random(n) < MISSING, column] = np.nan
    return frame

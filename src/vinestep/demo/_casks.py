"""Made-up readings of casks with two things to be told, not all of them known."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .._arguments import checked_seed
from ._barrels import barrels

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["casks"]

WITHOUT_STATE, WITHOUT_ALCOHOL = 0.2, 0.4  # shares of the casks


def casks(n: int = 900, *, seed: int = 13) -> pd.DataFrame:
    """Readings of `barrels`, the state each wine turned out to be in, and its alcohol where it was
    measured. All made up.

    Alcohol depends on the sugar that was turned and on the warmth; both targets are missing in
    some rows. ``tasters`` says how many tasted a cask, which is what its row weighs.

    Parameters
    ----------
    n : int
    seed : int

    Returns
    -------
    casks : DataFrame, n rows
        The columns of `barrels`, ``tasters``, and the targets ``state`` and ``alcohol`` (percent).

    Examples
    --------
    >>> frame = casks(200)
    >>> int(frame["state"].isna().sum()) > 0, int(frame["alcohol"].isna().sum()) > 0
    (True, True)
    """
    frame = barrels(n, seed=seed)
    rng = np.random.default_rng([checked_seed(seed, "casks"), 0xCA5])
    warmth = np.exp(-(((frame["temperature"] - 21) / 8) ** 2))
    alcohol = 11 + 2.4 * warmth - 0.09 * frame["sugar"] + 0.25 * rng.normal(size=n)
    frame["tasters"] = rng.integers(1, 6, n)
    frame["alcohol"] = alcohol.round(1).where(rng.random(n) >= WITHOUT_ALCOHOL)
    frame["state"] = frame["state"].where(rng.random(n) >= WITHOUT_STATE)
    return frame

"""Long series of runs that have ended, made shorter."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from ..errors import SettingError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["rows_text", "thinned"]

FEWEST = 50
PLACES = ("step", "epoch", "seconds", "rate")
"""Columns that say where a row stands, rather than a figure."""


def rows_text(done: Mapping[str, tuple[int, int]]) -> str:
    """How many rows series had and have, in words.

    Examples
    --------
    >>> rows_text({"steps": (300_000, 2000)})
    'steps 300,000 to 2,000 rows'
    """
    return ", ".join(f"{name} {a:,} to {b:,} rows" for name, (a, b) in done.items())


def thinned(frame: pd.DataFrame, rows: int) -> pd.DataFrame:
    """At most so many rows of a series: of equal stretches the first row, and those in which the
    figure is lowest and highest; the last row, and the first that is not a number.

    Parameters
    ----------
    frame : DataFrame
    rows : int
        At least 50.

    Examples
    --------
    >>> import pandas as pd
    >>> series = pd.DataFrame({"step": range(1, 1001), "loss": np.sin(np.arange(1000))})
    >>> series.loc[500, "loss"] = 40.0
    >>> short = thinned(series, 50)
    >>> len(short) <= 50, short["step"].iloc[[0, -1]].tolist(), float(short["loss"].max())
    (True, [1, 1000], 40.0)
    """
    if isinstance(rows, bool) or not isinstance(rows, int) or rows < FEWEST:
        raise SettingError(f"thin: rows must be a whole number of at least {FEWEST}, got {rows!r}.")
    if len(frame) <= rows:
        return frame
    names = [str(name) for name in frame.columns if name not in PLACES]
    figure = "loss" if "loss" in names else names[0] if names else None
    values = np.zeros(len(frame)) if figure is None else frame[figure].to_numpy(float)
    kept = {len(frame) - 1, *np.flatnonzero(np.isnan(values))[:1].tolist()}
    for stretch in np.array_split(np.arange(len(frame)), (rows - len(kept)) // 3):
        own = values[stretch]
        kept.add(int(stretch[0]))
        if not np.isnan(own).all():
            kept |= {int(stretch[np.nanargmin(own)]), int(stretch[np.nanargmax(own)])}
    return frame.iloc[sorted(kept)]

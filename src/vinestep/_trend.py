"""The trend of a noisy series: a local straight line with its band, thinning that keeps peaks, and
whether it still falls.
"""

from __future__ import annotations

import itertools
from typing import NamedTuple

import numpy as np

__all__ = ["Trend", "slope_of", "thinned", "trend_of"]

GRID = 120
BAND = 1.96


class Trend(NamedTuple):
    """A trend at some places, with the band that holds it with 95 %."""

    at: np.ndarray
    value: np.ndarray
    low: np.ndarray
    high: np.ndarray


def trend_of(x: np.ndarray, y: np.ndarray, *, share: float = 0.3, places: int = GRID) -> Trend:
    """A straight line fitted around each place, near points weighing more [1]_. It does not lag, as
    an average of the past does.

    Parameters
    ----------
    x, y : array, shape (n,)
        In order of `x`; what is not finite is left out.
    share : float
        Of all points, how many a fit sees.
    places : int
        At most so many places of the trend.

    References
    ----------
    .. [1] W. S. Cleveland, "Robust Locally Weighted Regression and Smoothing Scatterplots", JASA
       74(368), 1979.

    Examples
    --------
    >>> found = trend_of(np.arange(20.0), 3.0 * np.arange(20.0) + 1)
    >>> bool(np.allclose(found.value, 3.0 * found.at + 1))
    True
    """
    x, y = np.asarray(x, float), np.asarray(y, float)
    sound = np.isfinite(x) & np.isfinite(y)
    x, y = x[sound], y[sound]
    if len(x) < 3:
        return Trend(x, y, y, y)
    at = x if len(x) <= places else np.linspace(x[0], x[-1], places)
    k = min(len(x), max(3, int(np.ceil(share * len(x)))))
    value, error = np.empty(len(at)), np.empty(len(at))
    for i, place in enumerate(at):
        start = int(np.clip(np.searchsorted(x, place) - k // 2, 0, len(x) - k))
        near_x, near_y = x[start : start + k] - place, y[start : start + k]
        reach = float(np.abs(near_x).max()) or 1.0
        w = np.maximum(1 - (np.abs(near_x) / (reach * 1.001)) ** 3, 0) ** 3
        s0, s1, s2 = w.sum(), (w * near_x).sum(), (w * near_x**2).sum()
        spread = s0 * s2 - s1**2
        if spread <= 1e-12 * max(s0 * s2, 1e-300):
            line = w / s0
        else:
            line = w * (s2 - s1 * near_x) / spread
        value[i] = line @ near_y
        slope = (
            0.0
            if spread <= 1e-12 * max(s0 * s2, 1e-300)
            else (s0 * (w * near_x * near_y).sum() - s1 * (w * near_y).sum()) / spread
        )
        left = near_y - value[i] - slope * near_x
        freedom = max(s0 - (w**2).sum() / s0 * 2, 1e-9) if k > 3 else s0
        error[i] = np.sqrt(max((w * left**2).sum() / freedom, 0) * (line**2).sum())
    return Trend(at, value, value - BAND * error, value + BAND * error)


def slope_of(x: np.ndarray, y: np.ndarray) -> tuple[float, float]:
    """The slope of the straight line through points, and its standard error, by least squares.

    Examples
    --------
    >>> slope_of(np.arange(4.0), np.array([1.0, 3.0, 5.0, 7.0]))[0]
    2.0
    """
    x, y = np.asarray(x, float), np.asarray(y, float)
    sound = np.isfinite(x) & np.isfinite(y)
    x, y = x[sound], y[sound]
    if len(x) < 3:
        return 0.0, float("inf")
    centred = x - x.mean()
    spread = float((centred**2).sum())
    if not spread:
        return 0.0, float("inf")
    slope = float((centred * (y - y.mean())).sum()) / spread
    left = y - y.mean() - slope * centred
    return slope, float(np.sqrt((left**2).sum() / (len(x) - 2) / spread))


def thinned(x: np.ndarray, y: np.ndarray, most: int = 1000) -> np.ndarray:
    """Which points to draw of a long series: of each of equal stretches the lowest and the highest,
    so that peaks survive.

    Examples
    --------
    >>> y = np.zeros(10_000)
    >>> y[4567] = 9.0
    >>> kept = thinned(np.arange(10_000.0), y, 200)
    >>> len(kept) <= 200, 4567 in kept, (int(kept[0]), int(kept[-1]))
    (True, True, (0, 9999))
    """
    n = len(x)
    if n <= most:
        return np.arange(n)
    stretches = max(1, (most - 2) // 2)
    edges = np.linspace(0, n, stretches + 1).astype(int)
    kept = {0, n - 1}
    finite = np.where(np.isfinite(y), y, np.nan)
    for a, b in itertools.pairwise(edges):
        part = finite[a:b]
        if b > a and not np.isnan(part).all():
            kept.add(a + int(np.nanargmin(part)))
            kept.add(a + int(np.nanargmax(part)))
    return np.array(sorted(kept))

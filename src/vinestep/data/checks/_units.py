"""Columns in which two units were mixed."""

from __future__ import annotations

import numpy as np

__all__ = ["mixed_units"]

# from one unit to the other: factor, offset, in words
CONVERSIONS = (
    (1.8, 32.0, "degrees Celsius and Fahrenheit"),
    (1.0, 273.15, "degrees Celsius and kelvin"),
    (10.0, 0.0, "a factor of 10"),
    (100.0, 0.0, "a factor of 100"),
    (1000.0, 0.0, "a factor of 1,000"),
    (60.0, 0.0, "a factor of 60"),
    (24.0, 0.0, "a factor of 24"),
    (2.54, 0.0, "centimetres and inches"),
    (3.28084, 0.0, "metres and feet"),
    (2.20462, 0.0, "kilograms and pounds"),
    (4.54609, 0.0, "litres and gallons"),
    (3.78541, 0.0, "litres and gallons"),
)
FEWEST = 12  # rows of the rarer unit
LEAST_SHARE = 0.02
ALIKE = 0.02  # p-value above which both groups may be of one distribution
APART = 0.35  # of the range of the lower group: the gap between the two
FAR = 2.0  # times that range: no distribution has such a gap by itself
ALONE = 3.0  # times the next largest step within the column
MOST = 4000


def mixed_units(values: np.ndarray) -> str:
    """In words, which two units a column seems to mix; empty if it does not.

    Values fall into two groups with a gap between them, and the one is what the other is after a
    usual conversion, by the test of Kolmogorov and Smirnov.

    Parameters
    ----------
    values : ndarray, shape (n,)
        Finite, in the unit in which they were read.

    Examples
    --------
    >>> celsius = np.random.default_rng(0).normal(18, 2, 300)
    >>> mixed_units(np.concatenate([celsius[:200], celsius[200:] * 1.8 + 32]))
    'degrees Celsius and Fahrenheit'
    """
    ordered = np.sort(values[:MOST])
    n = len(ordered)
    fewest = max(FEWEST, int(LEAST_SHARE * n))
    if n < 4 * FEWEST or np.ptp(ordered) == 0:
        return ""
    steps = np.diff(ordered)
    inner = steps[fewest - 1 : n - fewest]
    if not len(inner):
        return ""
    at = int(np.argmax(inner)) + fewest
    low, high = ordered[:at], ordered[at:]
    gap = high[0] - low[-1]
    others = np.delete(inner, at - fewest)
    if gap < APART * np.ptp(low) or gap < ALONE * others.max(initial=0):
        return ""
    if np.ptp(low) == 0 or np.ptp(high) == 0:
        return ""
    from scipy.stats import ks_2samp  # takes as long to import as the rest of the library

    for factor, offset, words in CONVERSIONS:
        turned = (high - offset) / factor
        if abs(np.median(turned) - np.median(low)) > np.ptp(low) / 4:
            continue
        if ks_2samp(turned, low).pvalue > ALIKE:
            return words
        like = 1 / 2 < np.std(turned) / max(float(np.std(low)), 1e-300) < 2
        if like and gap > FAR * np.ptp(low):  # of other rows too, as of another place
            return words
    return ""

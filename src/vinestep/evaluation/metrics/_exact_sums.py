"""Sums without rounding, which add up over batches in any order.

A number is cut into pieces of 26 bits on a fixed grid of powers of two; each column of the counts
is the sum of the pieces at one place of the grid, a whole number below 2**53 for up to 2**27
numbers. U. W. Kulisch, "Computer Arithmetic and Validity", 2013, section 8.
"""

from __future__ import annotations

import math
from fractions import Fraction

import numpy as np

__all__ = ["COLUMNS", "as_fraction", "exact_sum", "exact_sum_of_squares"]

BITS = 26
LOWEST = -1066
COLUMNS = 1 + (1024 - LOWEST) // BITS
UNITS = np.ldexp(1.0, LOWEST + BITS * np.arange(COLUMNS))
SPLITTER = 2.0**27 + 1  # T. J. Dekker, Numer. Math. 18, 1971


def exact_sum(values: np.ndarray) -> np.ndarray:
    """The sum of finite float64 numbers, shape (COLUMNS,)."""
    columns = np.zeros(COLUMNS)
    rest = np.array(values, np.float64).reshape(-1)
    largest = max(rest.max(), -rest.min()) if rest.size else 0.0
    place = (math.frexp(largest)[1] - 1 - LOWEST) // BITS
    while place >= 0 and rest.any():
        pieces = np.trunc(rest / UNITS[place])
        columns[place] = pieces.sum()
        rest -= pieces * UNITS[place]
        place -= 1
    return columns


def exact_sum_of_squares(values: np.ndarray) -> np.ndarray:
    """The sum of the squares of float64 numbers, shape (COLUMNS,)."""
    t = np.array(values, np.float64).reshape(-1)
    high = t * SPLITTER
    high = high - (high - t)
    low = t - high
    squares = t * t
    errors = ((high * high - squares) + 2 * high * low) + low * low
    return exact_sum(np.concatenate([squares, errors]))


def as_fraction(columns: np.ndarray) -> Fraction:
    """What the columns add up to."""
    return sum(
        (
            Fraction(int(columns[i])) * Fraction(2) ** (LOWEST + BITS * int(i))
            for i in np.flatnonzero(columns)
        ),
        Fraction(0),
    )

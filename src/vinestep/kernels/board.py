"""Where threads tell one another of work: whole numbers, each in a cache line of its own."""

from __future__ import annotations

import numpy as np

__all__ = ["ARGUMENTS", "CALLED", "DONE", "FAILED", "FUNCTION", "TAKEN", "TICKET", "board"]

LINE = 8  # numbers
TICKET, FUNCTION, ARGUMENTS, DONE, FAILED, TAKEN, CALLED = range(0, 7 * LINE, LINE)


def board(*, taken: bool = False) -> np.ndarray:
    """With no work on it; one that is taken forever is for work that nobody is to help with."""
    places = np.zeros(CALLED + LINE, np.int64)
    places[TAKEN] = taken
    return places

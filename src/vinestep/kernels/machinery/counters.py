"""The board: the shared atomic counters of the thread pool, each in a cache line of its own."""

from __future__ import annotations

import numpy as np

__all__ = ["ARGUMENTS", "CALLED", "DONE", "FAILED", "FUNCTION", "TAKEN", "TICKET", "board"]

LINE = 8  # numbers
TICKET, FUNCTION, ARGUMENTS, DONE, FAILED, TAKEN, CALLED = range(0, 7 * LINE, LINE)


def board(*, taken: bool = False) -> np.ndarray:
    """A board without a job; one that is taken for ever belongs to single-threaded work."""
    places = np.zeros(CALLED + LINE, np.int64)
    places[TAKEN] = taken
    return places

"""Seeds of random numbers, checked where they come in."""

from __future__ import annotations

from typing import Any

import numpy as np

from .errors import SettingError

__all__ = ["checked_seed"]


def checked_seed(seed: Any, who: str) -> int:
    """
    Raises
    ------
    SettingError
        If it is no whole number from 0 to 2**63 - 1.

    Examples
    --------
    >>> checked_seed(7, "split")
    7
    """
    if isinstance(seed, bool) or not isinstance(seed, int | np.integer) or not 0 <= seed < 2**63:
        raise SettingError(f"{who}: seed must be a whole number from 0 to 2**63 - 1, got {seed!r}.")
    return int(seed)

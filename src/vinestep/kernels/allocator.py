"""Freed memory kept for the next array.

A training step, or a gradient, frees arrays that the next one asks for again. The C library gives
large ones back to the system at once, and fetching them anew costs a page fault for every 4 KiB,
which is often more than the arithmetic on them. With glibc the limits are raised when the first
gradient is computed, so that up to half a gigabyte of freed memory stays with the process.
``VINESTEP_MEMORY=system`` in the environment leaves them alone.
"""

from __future__ import annotations

import ctypes
import os
import sys
from functools import cache

__all__ = ["keep_freed_memory"]

TRIM_THRESHOLD, MMAP_THRESHOLD = -1, -3  # numbers of mallopt's parameters, from glibc's malloc.h
KEPT = 512 << 20
LARGEST = 64 << 20  # arrays above this are given back at once all the same


@cache
def keep_freed_memory() -> bool:
    """Raise the limits, the first time; whether that was possible.

    Examples
    --------
    >>> isinstance(keep_freed_memory(), bool)
    True
    """
    if not sys.platform.startswith("linux") or os.environ.get("VINESTEP_MEMORY") == "system":
        return False
    set_option = getattr(ctypes.CDLL(None), "mallopt", None)  # another C library may have none
    if set_option is None:
        return False
    return bool(set_option(MMAP_THRESHOLD, LARGEST)) and bool(set_option(TRIM_THRESHOLD, KEPT))

"""How kernels are compiled: serial, without the interpreter lock, cached on disk."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numba

__all__ = ["kernel"]

# sums may be reordered and products fused, NaN and infinity keep their meaning
FAST = {"reassoc", "contract", "nsz", "arcp"}


def kernel(function: Callable[..., Any]) -> Any:
    return numba.njit(nogil=True, cache=True, fastmath=FAST, error_model="numpy")(function)

"""How loops are compiled: serial, without the interpreter lock, cached on disk."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from .numba_internals import dispatcher_of

__all__ = ["SOURCES", "inner_kernel", "kernel"]

# Sums may be reordered and products fused, NaN and infinity keep their meaning. A loop that sums
# must not write to an array: how far apart its arrays lie would decide whether it is reordered.
FAST = {"reassoc", "contract", "nsz", "arcp"}
OPTIONS = {
    "nopython": True,
    "nogil": True,
    "fastmath": FAST,
    "error_model": "numpy",
    "no_cfunc_wrapper": True,
}


def _fingerprint() -> str:
    """A digest of the sources of all loops: they call one another across files, so compiled code is
    valid for these sources only.
    """
    return hashlib.sha256(
        b"".join(path.read_bytes() for path in sorted(Path(__file__).parents[1].glob("*/*.py")))
    ).hexdigest()


SOURCES = _fingerprint()


def kernel(function: Callable[..., Any]) -> Any:
    return dispatcher_of(function, OPTIONS, SOURCES, inner=False)


def inner_kernel(function: Callable[..., Any]) -> Any:
    """One that only other kernels call; it takes half as long to compile."""
    return dispatcher_of(function, OPTIONS, SOURCES, inner=True)

"""How kernels are compiled: serial, without the interpreter lock, cached on disk."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba
from numba.core.caching import FunctionCache

__all__ = ["kernel"]

# sums may be reordered and products fused, NaN and infinity keep their meaning
FAST = {"reassoc", "contract", "nsz", "arcp"}


def _fingerprint() -> str:
    """Of the sources of all kernels: they use one another across files, and compiled code is good for these only."""
    return hashlib.sha256(b"".join(path.read_bytes() for path in sorted(Path(__file__).parent.glob("*.py")))).hexdigest()


SOURCES = _fingerprint()


class _Cache(FunctionCache):
    def _index_key(self, sig: Any, codegen: Any) -> tuple[Any, ...]:
        return (*super()._index_key(sig, codegen), SOURCES)


def kernel(function: Callable[..., Any]) -> Any:
    compiled: Any = numba.njit(nogil=True, fastmath=FAST, error_model="numpy")(function)
    compiled._cache = _Cache(function)
    return compiled

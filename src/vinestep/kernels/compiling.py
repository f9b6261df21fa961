"""How kernels are compiled: serial, without the interpreter lock, cached on disk."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from numba import types
from numba.core.caching import FunctionCache
from numba.core.registry import CPUDispatcher

__all__ = ["inner_kernel", "kernel"]

# sums may be reordered and products fused, NaN and infinity keep their meaning
FAST = {"reassoc", "contract", "nsz", "arcp"}
OPTIONS = {"nopython": True, "nogil": True, "fastmath": FAST, "error_model": "numpy", "no_cfunc_wrapper": True}


def _fingerprint() -> str:
    """A digest of the sources of all kernels: they call one another across files, so the cache is valid for these sources only."""
    return hashlib.sha256(b"".join(path.read_bytes() for path in sorted(Path(__file__).parent.glob("*.py")))).hexdigest()


SOURCES = _fingerprint()


class _Cache(FunctionCache):
    def _index_key(self, sig: Any, codegen: Any) -> tuple[Any, ...]:
        return (*super()._index_key(sig, codegen), SOURCES)


class _Kernel(CPUDispatcher):
    """Numbers and truth values written where another kernel calls it are taken as any others, not compiled for each."""

    def get_call_template(self, args: Any, kws: Any) -> Any:
        return super().get_call_template(tuple(types.unliteral(kind) for kind in args), kws)


class _InnerKernel(_Kernel):
    """Has nothing by which the interpreter could call it."""

    def __call__(self, *arguments: Any) -> Any:
        raise TypeError(f"{self.py_func.__name__} is for other kernels only")


def kernel(function: Callable[..., Any]) -> Any:
    return _cached(_Kernel(function, targetoptions=OPTIONS))


def inner_kernel(function: Callable[..., Any]) -> Any:
    """One that only other kernels call; it takes half as long to compile."""
    return _cached(_InnerKernel(function, targetoptions=OPTIONS | {"no_cpython_wrapper": True}))


def _cached(compiled: Any) -> Any:
    compiled._cache = _Cache(compiled.py_func)
    return compiled

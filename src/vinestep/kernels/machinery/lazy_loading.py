"""Compiled functions by name, loaded at first use."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import Any

from .availability import announce_compiling

__all__ = ["Kernels"]


class Kernels:
    """The functions of a module of loops. The first that has to be compiled on this machine says
    so, once.
    """

    def __init__(self, module: str) -> None:
        self._module = module

    def __getattr__(self, name: str) -> Any:
        function = getattr(import_module(self._module), name)
        if not _is_compiled(function):
            announce_compiling()
        setattr(self, name, function)
        return function


def _is_compiled(function: Any) -> bool:
    """Whether any form of a kernel lies in the cache on disk."""
    folder = Path(function.stats.cache_path)
    return any(folder.glob(f"{function.__module__.rpartition('.')[2]}.{function.__name__}-*.nbi"))

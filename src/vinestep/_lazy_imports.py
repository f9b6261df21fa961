"""Large libraries that are imported when something of theirs is first used."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

__all__ = ["pandas"]

if TYPE_CHECKING:
    import pandas
else:

    class _LazyModule:
        """A module that is imported at the first look into it."""

        def __init__(self, name: str) -> None:
            self._name = name

        def __getattr__(self, name: str) -> Any:
            return getattr(import_module(self._name), name)

    pandas = _LazyModule("pandas")

"""Parts: layers, activations, initialisers, losses, metrics, optimisers, schedules, observers as plain data, and back."""

from typing import TYPE_CHECKING, Any

from .registry import kinds, maker, part, register

if TYPE_CHECKING:
    from .building import build
    from .describing import describe

__all__ = ["build", "describe", "kinds", "maker", "part", "register"]

_LATER = {"describe": "describing", "build": "building"}


def __getattr__(name: str) -> Any:
    from importlib import import_module

    from ..errors import names_of

    if name in _LATER:
        return getattr(import_module(f"{__name__}.{_LATER[name]}"), name)
    return names_of(__name__, __all__)(name)

"""Layers put in the place of others within a network that has been initialised."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import Any

from .._public_names import did_you_mean
from ..errors import LayerError
from ._arena import Arena
from ._base import Layer

__all__ = ["Patterns", "chosen_layers", "replace_layers"]

Patterns = str | Sequence[str]
"""Of paths, such as ``"blocks/*/attention/*"``: one, or several."""


def chosen_layers(
    network: Layer, patterns: Patterns, kinds: Iterable[type], who: str
) -> dict[str, Layer]:
    """The layers of these kinds whose paths match, by path.

    Raises
    ------
    LayerError
        If a pattern matches none.
    """
    known = tuple(kinds)
    able = {layer.path: layer for layer in network.walk() if type(layer) in known}
    result: dict[str, Layer] = {}
    for pattern in (patterns,) if isinstance(patterns, str) else tuple(patterns):
        matching = {path: layer for path, layer in able.items() if fnmatchcase(path, pattern)}
        if not matching:
            names = sorted({kind.__name__ for kind in known})
            raise LayerError(
                f"{who}: no layer of kind {' or '.join(names)} matches {pattern!r}. "
                f"{did_you_mean(pattern, able)}"
            )
        result |= matching
    return result


def replace_layers(
    network: Layer, new: Mapping[int, Layer], frozen: Iterable[str] | None = None
) -> Layer:
    """The network with other layers for those of these identities, wherever they are held; it is
    changed.

    Parameters
    ----------
    frozen : paths, optional
        Of parameters; by default those that were frozen and are there still.
    """
    arena = network._ready_arena()
    made = new.get(id(network), network)
    for layer in [*network.walk(), *new.values()]:
        for name, value in vars(layer).items():
            if not name.startswith("_") and name != "arena":
                vars(layer)[name] = _exchanged(value, new)
    made._set_paths()
    for layer in made.walk():
        layer._owner = network._owner
    tensors = {t.name: t for layer in made.walk() for t in layer._own_parameters().values()}
    still = arena.frozen_paths if frozen is None else set(frozen)
    made.arena = Arena(tensors, arena.dtype, still & tensors.keys())
    made._point_to_parameters()
    return made


def _exchanged(value: Any, new: Mapping[int, Layer]) -> Any:
    if isinstance(value, list | tuple) and not hasattr(value, "_fields"):
        return type(value)(_exchanged(one, new) for one in value)
    if isinstance(value, dict):
        return {key: _exchanged(one, new) for key, one in value.items()}
    return new.get(id(value), value)

"""How a run was set up, held against how it is set up now."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

__all__ = ["differences", "leaves", "without_none"]


def without_none(tree: Any) -> Any:
    """A description for TOML, which has no word for nothing: settings that are not given are left
    out.
    """
    if isinstance(tree, Mapping):
        return {key: without_none(value) for key, value in tree.items() if value is not None}
    if isinstance(tree, list | tuple):
        return ["none" if value is None else without_none(value) for value in tree]
    return tree


def differences(before: Mapping[str, Any], after: Mapping[str, Any]) -> dict[str, str]:
    """What differs between two descriptions, by dotted name: ``{"optimiser.rate": "0.1 before, 0.01
    now"}``.

    Examples
    --------
    >>> differences(
    ...     {"clip": 1.0, "optimiser": {"rate": 0.1}},
    ...     {"clip": 1.0, "optimiser": {"rate": 0.01}},
    ... )
    {'optimiser.rate': '0.1 before, 0.01 now'}
    """
    ours, theirs = (
        dict(leaves(json.loads(json.dumps(before)))),
        dict(leaves(json.loads(json.dumps(after)))),
    )
    return {
        name: f"{_shown(ours.get(name))} before, {_shown(theirs.get(name))} now"
        for name in dict.fromkeys([*ours, *theirs])
        if ours.get(name) != theirs.get(name)
    }


def leaves(tree: Any, name: str = "") -> Iterator[tuple[str, Any]]:
    """The leaves of settings, by dotted names with places counted from 0.

    Examples
    --------
    >>> dict(leaves({"optimiser": {"rate": 0.01}, "layers": [{"window": [3, 5]}]}))
    {'optimiser.rate': 0.01, 'layers.0.window.0': 3, 'layers.0.window.1': 5}
    """
    if isinstance(tree, Mapping | list | tuple) and tree:
        items = tree.items() if isinstance(tree, Mapping) else enumerate(tree)
        for key, value in items:
            yield from leaves(value, f"{name}.{key}" if name else str(key))
    else:
        yield name, tree


def _shown(value: Any) -> str:
    text = "nothing" if value is None else str(value)
    return text if len(text) <= 60 else f"{text[:57]}..."

"""What takes part in a run and how it is set, as plain data: for the record, and to notice what differs when a run goes on."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Iterator, Mapping
from functools import partial
from types import BuiltinFunctionType, CodeType, FunctionType
from typing import Any

import numpy as np

from ..data.content import digest
from ..layers.base import Layer

__all__ = ["described", "differences"]

DEEPEST = 12
_NOT_SETTINGS = ("path", "arena")


def described(part: Any, *, depth: int = 0) -> Any:
    """A layer, function, or anything made of them, as JSON and TOML can hold it; equal for what computes the same.

    Examples
    --------
    >>> described(vs.Stack(vs.Dense(3), np.tanh))["layers"][0]["width"]
    3
    """
    if part is None:
        return "none"
    if isinstance(part, bool | int | str):
        return part
    if isinstance(part, float | np.generic):
        value = part.item() if isinstance(part, np.generic) else part
        return value if not isinstance(value, float) or math.isfinite(value) else str(value)
    if depth > DEEPEST:
        return f"a {type(part).__name__}"
    if isinstance(part, list | tuple):
        return [described(item, depth=depth + 1) for item in part]
    if isinstance(part, Mapping):
        return {str(key): described(item, depth=depth + 1) for key, item in part.items()}
    if isinstance(part, np.ndarray):
        return {"shape": list(part.shape), "contents": digest(part)}
    if isinstance(part, partial):
        return {
            "kind": described(part.func),
            "arguments": described(part.args, depth=depth + 1),
            **described(part.keywords, depth=depth + 1),
        }
    if isinstance(part, FunctionType | BuiltinFunctionType | np.ufunc | type) or not hasattr(part, "__dict__"):
        return _function(part, depth)
    return {"kind": type(part).__name__} | {name: described(value, depth=depth + 1) for name, value in _attributes(part)}


def _attributes(part: Any) -> Iterator[tuple[str, Any]]:
    values = set() if not isinstance(part, Layer) else {*part._own_parameters(), *part._own_statistics(), *_NOT_SETTINGS}
    for name, value in vars(part).items():
        if not name.startswith("_") and name not in values:
            yield name, value


def _function(function: Any, depth: int) -> Any:
    """By name; of one that is not the library's own also what its code does, and what it closes over."""
    module, name = getattr(function, "__module__", None) or "numpy", getattr(function, "__qualname__", None) or repr(type(function))
    known = f"{module}.{name}"
    code = getattr(function, "__code__", None)
    if code is None:
        return known
    if module.partition(".")[0] not in ("vinestep", "numpy", "scipy"):
        known += f" {_code_digest(code)}"
    cells = [cell.cell_contents for cell in function.__closure__ or () if cell.cell_contents is not function]
    return {"kind": known, "with": [described(value, depth=depth + 1) for value in cells]} if cells else known


def _code_digest(code: CodeType) -> str:
    found = hashlib.blake2b(code.co_code, digest_size=6)
    for value in (*code.co_consts, code.co_names):
        found.update((_code_digest(value) if isinstance(value, CodeType) else repr(value)).encode())
    return found.hexdigest()


def differences(before: Mapping[str, Any], after: Mapping[str, Any]) -> dict[str, str]:
    """What differs between two descriptions, by dotted name: ``{"optimiser.rate": "0.1 before, 0.01 now"}``.

    Examples
    --------
    >>> differences({"clip": 1.0, "optimiser": {"rate": 0.1}}, {"clip": 1.0, "optimiser": {"rate": 0.01}})
    {'optimiser.rate': '0.1 before, 0.01 now'}
    """
    ours, theirs = dict(_flat(json.loads(json.dumps(before)))), dict(_flat(json.loads(json.dumps(after))))
    return {
        name: f"{_shown(ours.get(name))} before, {_shown(theirs.get(name))} now"
        for name in dict.fromkeys([*ours, *theirs])
        if ours.get(name) != theirs.get(name)
    }


def _flat(tree: Any, name: str = "") -> Iterator[tuple[str, Any]]:
    if isinstance(tree, dict | list) and tree:
        items = tree.items() if isinstance(tree, dict) else enumerate(tree)
        for key, value in items:
            yield from _flat(value, f"{name}.{key}" if name else str(key))
    else:
        yield name, tree


def _shown(value: Any) -> str:
    text = "nothing" if value is None else str(value)
    return text if len(text) <= 60 else f"{text[:57]}..."

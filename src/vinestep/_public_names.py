"""What a public module shows: its documented names and no others, loaded when they are first asked
for.

The ``__init__.pyi`` beside a package's ``__init__.py`` is the one list of what the package shows.
Type checkers read it as it is; `from_stub` reads it at import, as SPEC 1 of Scientific Python
describes.
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Callable, Iterable
from importlib import import_module
from pathlib import Path
from typing import Any

from .errors import UnknownNameError

__all__ = ["did_you_mean", "from_stub", "own_names"]


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """A sentence that names the nearest of the known names, or all of them."""
    from difflib import get_close_matches

    names = sorted(known)
    near = get_close_matches(name, names, n=1, cutoff=0.6)
    if near:
        return f"Did you mean {near[0]!r}?"
    return f"Known: {', '.join(names)}." if names else "There are none."


def from_stub(
    module: str, file: str
) -> tuple[Callable[[str], Any], Callable[[], list[str]], list[str]]:
    """``__getattr__``, ``__dir__`` and ``__all__`` of a package, by the stub beside it.

    Parameters
    ----------
    module, file : str
        ``__name__`` and ``__file__`` of the package.
    """
    sources: dict[str, tuple[str, str]] = {}
    for node in ast.parse(Path(file).with_suffix(".pyi").read_bytes()).body:
        if isinstance(node, ast.ImportFrom):
            place = "." * node.level + (node.module or "")
            sources |= {alias.asname or alias.name: (place, alias.name) for alias in node.names}

    def load(name: str) -> Any:
        if name not in sources:
            raise _unknown(module, name, sources)
        place, original = sources[name]
        home = import_module(place, module) if place.strip(".") else sys.modules[module]
        result = vars(home).get(original)
        if result is None:
            result = import_module(f"{home.__name__}.{original}")
        setattr(sys.modules[module], name, result)
        return result

    names = sorted(sources)
    return load, lambda: names, names


def own_names(
    module: str, shown: Iterable[str]
) -> tuple[Callable[[str], Any], Callable[[], list[str]]]:
    """``__getattr__`` and ``__dir__`` of a module that shows what it defines.

    Parameters
    ----------
    module : str
    shown : iterable of str
    """
    names = sorted(shown)

    def refuse(name: str) -> Any:
        raise _unknown(module, name, names)

    return refuse, lambda: names


def _unknown(module: str, name: str, names: Iterable[str]) -> UnknownNameError:
    missing = f"module {module!r} has no attribute {name!r}"
    if name.startswith("__"):
        return UnknownNameError(missing)
    return UnknownNameError(f"{missing}. {did_you_mean(name, names)}")

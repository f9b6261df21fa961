"""What the settings of a kind mean, from the docstrings of the definitions."""

from __future__ import annotations

import inspect
import re
import sys
from dataclasses import dataclass
from typing import Any

from ._describe import settings_of
from ._registry import Kind

__all__ = ["Setting", "settings", "summary"]

_REFERRED = re.compile(r"[Pp]arameters as for `(\w+)`")
_MARKS = re.compile(r"\s*\[\d+\]_")
_HEAD = re.compile(r"^(?P<names>[\w, *]+?) : (?P<sort>.*)$")


@dataclass(frozen=True, slots=True)
class Setting:
    """A setting of a kind."""

    name: str
    default: str
    """Empty if it has to be given."""
    sort: str
    meaning: str


def summary(kind: Kind) -> str:
    """The first sentence of the docstring."""
    text = (
        (inspect.getdoc(kind.target) or "").partition("\n\n")[0].replace("\n", " ")
        if kind.form != "object"
        else ""
    )
    return _MARKS.sub("", text).replace("``", "")


def settings(kind: Kind) -> list[Setting]:
    """The settings of a kind with their defaults and what is said of them.

    Examples
    --------
    >>> from vinestep.parts._registry import Kinds
    >>> [(s.name, s.default, s.meaning) for s in settings(Kinds().find("dropout"))][0]
    ('probability', '', 'Probability of dropping a value, from 0 up to but not including 1.')
    """
    said = _parameters(kind)
    settings = []
    for p in settings_of(kind):
        sort, meaning = said.get(p.name, ("", ""))
        default = "" if p.default is inspect.Parameter.empty else _shown(p.default)
        settings.append(
            Setting(
                p.name,
                "[]" if p.kind is inspect.Parameter.VAR_POSITIONAL else default,
                sort,
                meaning,
            )
        )
    return settings


def _shown(value: Any) -> str:
    return getattr(value, "__name__", None) or repr(value)


def _parameters(kind: Kind) -> dict[str, tuple[str, str]]:
    """Name to sort and meaning, by the sections "Parameters" of the definition, of what it refers
    to, and of what it is derived from.
    """
    result: dict[str, tuple[str, str]] = {}
    targets = list(kind.target.__mro__) if kind.form == "class" else [kind.target]
    for target in targets:
        text = inspect.cleandoc(target.__doc__ or "")
        for name, said in _section(text).items():
            if not result.get(name, ("", ""))[1]:
                result[name] = said
        if referred := _REFERRED.search(text):
            targets.append(getattr(sys.modules[target.__module__], referred[1]))
    return result


def _section(text: str) -> dict[str, tuple[str, str]]:
    _, _, rest = text.partition("Parameters\n----------\n")
    result: dict[str, tuple[str, str]] = {}
    names: list[str] = []
    for line in re.split(r"\n\n\w[^\n]*\n-{3,}\n", rest)[0].splitlines():
        if head := _HEAD.match(line):
            names = [name.strip(" *") for name in head["names"].split(",")]
            result |= dict.fromkeys(names, (head["sort"], ""))
        elif line.startswith(" "):
            for name in names:
                sort, meaning = result[name]
                result[name] = sort, f"{meaning} {line.strip()}".strip().replace("``", "")
        else:  # of names that another definition explains
            names = []
    return result

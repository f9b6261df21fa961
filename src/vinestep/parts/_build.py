"""A part built again from plain data, every key of it checked."""

from __future__ import annotations

import collections.abc
import inspect
import json
import os
import sys
import types
import typing
from collections.abc import Iterable, Mapping
from functools import lru_cache, partial
from typing import Any

from pydantic import ConfigDict, TypeAdapter, ValidationError

from .._public_names import did_you_mean
from ..errors import PartError, VineStepError
from ._describe import OWN, SAME, settings_of
from ._registry import Kind, Kinds

__all__ = ["Builder", "Fault", "build", "with_full_paths"]

DEEPEST = 40
LAYERS = ("layer", "activation")
FAMILIES = {
    "activation": LAYERS,
    "initialiser": ("initialiser",),
    "recurrent_initialiser": ("initialiser",),
    "layers": LAYERS,
    "branches": LAYERS,
    "body": LAYERS,
    "shortcut": LAYERS,
    "schedules": ("schedule",),
    "schedule": ("schedule",),
    "transforms": ("transform",),
    "encode": ("tokeniser",),
    "metric": ("metric",),
    "tasks": ("task",),
    "task": ("task",),
    "members": LAYERS,
    "heads": LAYERS,
    "head": LAYERS,
}
"""Of settings that are parts: which families may stand there."""
PLAIN = (int, float, str, bool, type(None))
MISTAKES = (VineStepError, ValueError, TypeError, OverflowError)


def build(description: Any, *, family: str | Iterable[str] = (), own: Iterable[Any] = ()) -> Any:
    """The part that a description is of.

    Parameters
    ----------
    description : dict or str
        As `describe` gives it; of a part that is left as it is, its kind is enough.
    family : str or several, optional
        What is wanted, where a word is used in several families.
    own : sequence of classes and functions
        Parts of one's own that may occur in it.

    Raises
    ------
    PartError
        If a kind or a setting is unknown, missing or of the wrong sort: all of them, by dotted
        name.

    Examples
    --------
    >>> network = vs.parts.build(
    ...     {"kind": "stack", "layers": [{"kind": "dense", "width": 3}, "relu"]}
    ... )
    >>> network[0].width, network[1] is vs.relu
    (3, True)
    >>> vs.parts.build({"kind": "dense", "widht": 3})
    Traceback (most recent call last):
    vinestep.errors.PartError: widht: unknown setting of dense. Did you mean 'width'?
    width: missing. Add it.
    """
    builder = Builder(own)
    result = builder.part(
        description, "", (family,) if isinstance(family, str) and family else tuple(family)
    )
    builder.refuse_faults()
    return result


def with_full_paths(description: Any, base: str | os.PathLike[str], own: Iterable[Any] = ()) -> Any:
    """A description of which every path among the settings is a full one."""
    kinds = Kinds(own)

    def full(given: Any) -> Any:
        if not isinstance(given, Mapping) or "kind" not in given:
            return given
        hints = _hints(kinds.find(str(given["kind"])))
        return {
            key: _relative_to(base, value) if _takes_path(hints.get(key, Any)) else full(value)
            for key, value in given.items()
        }

    return full(description)


class Fault(typing.NamedTuple):
    """What is wrong with a description, and where."""

    place: str
    text: str

    def __str__(self) -> str:
        return f"{self.place or 'the part'}: {self.text}"


class Builder:
    """Builds parts from descriptions, and gathers what is wrong with them.

    Parameters
    ----------
    own : sequence of classes and functions
    base : path, optional
        What paths among the settings are relative to.
    only_check : bool
        Make nothing: of sources, which read files when they are made.
    """

    def __init__(
        self,
        own: Iterable[Any] = (),
        *,
        base: str | os.PathLike[str] | None = None,
        only_check: bool = False,
    ) -> None:
        self.kinds = Kinds(own)
        self.base = base
        self.only_check = only_check
        self.faults: list[Fault] = []
        self.missing: list[str] = []
        """Names of those that are code which is not at hand; each is among the faults, too."""
        self._labelled: dict[str, Any] = {}

    def fault(self, place: str, text: str) -> None:
        self.faults.append(Fault(place, text))

    def refuse_faults(self) -> None:
        """
        Raises
        ------
        PartError
            If there are faults.
        """
        if self.faults:
            raise PartError("\n".join(map(str, self.faults)))

    def part(
        self, description: Any, place: str, families: tuple[str, ...] = (), depth: int = 0
    ) -> Any:
        """The part described, or None and a fault."""
        if depth > DEEPEST:
            return self.fault(place, f"nested more than {DEEPEST} deep")
        given = {"kind": description} if isinstance(description, str) else description
        if not isinstance(given, Mapping):
            return self.fault(
                place, f"a part is a kind with its settings, got {_shown(description)}."
            )
        name = given.get("kind")
        if not isinstance(name, str):
            return self.fault(_joined(place, "kind"), "missing. It says which kind is meant.")
        if name == OWN:
            self.missing.append(str(given.get("name")))
            return self.fault(
                place,
                f"{given.get('name')} has no kind: it was code of a user's own, which no "
                "description holds.",
            )
        if name == SAME:
            label = given.get("label")
            if not isinstance(label, str) or label not in self._labelled:
                return self.fault(place, f"no part before it has the label {_shown(label)}.")
            return self._labelled[label]
        try:
            kind = self.kinds.find(name, families)
        except PartError as error:
            if not self.kinds.knows(name):
                self.missing.append(name)
            return self.fault(_joined(place, "kind"), str(error))
        made = self._made(
            kind,
            {key: value for key, value in given.items() if key not in ("kind", "label")},
            place,
            depth,
        )
        if isinstance(given.get("label"), str):
            self._labelled[given["label"]] = made
        return made

    def _made(self, kind: Kind, given: dict[str, Any], place: str, depth: int) -> Any:
        faults = len(self.faults)
        known = {p.name: p for p in settings_of(kind)}
        hints = _hints(kind)
        values: dict[str, Any] = {}
        for name, value in given.items():
            where = _joined(place, str(name))
            if name not in known:
                self.fault(
                    where,
                    f"unknown setting of {kind.name}. "
                    f"{did_you_mean(str(name), known) if known else 'It has none.'}",
                )
                continue
            listed = known[name].kind is inspect.Parameter.VAR_POSITIONAL
            values[name] = self._value(
                value, hints.get(name, Any), name, where, depth, listed=listed
            )
        for name, p in known.items():
            if (
                name not in given
                and p.default is inspect.Parameter.empty
                and p.kind is not inspect.Parameter.VAR_POSITIONAL
            ):
                self.fault(_joined(place, name), "missing. Add it.")
        if len(self.faults) > faults:
            return None
        if kind.form == "object":
            return kind.target
        if kind.form == "function":
            return partial(kind.target, **values) if values else kind.target
        return self._called(kind, known, values, place)

    def _called(
        self, kind: Kind, known: Mapping[str, inspect.Parameter], values: dict[str, Any], place: str
    ) -> Any:
        if self.only_check:
            return None
        listed: list[Any] = []
        for name, p in known.items():
            if p.kind is inspect.Parameter.VAR_POSITIONAL:
                listed = values.pop(name, [])
        try:
            return kind.target(*listed, **values)
        except MISTAKES as error:
            return self.fault(place or kind.name, str(error))

    def _value(
        self, value: Any, hint: Any, name: str, place: str, depth: int, *, listed: bool = False
    ) -> Any:
        if listed:
            if not isinstance(value, list | tuple):
                return self.fault(place, f"has to be a list, got {_shown(value)}.")
            return [
                self._value(item, hint, name, _joined(place, str(i)), depth)
                for i, item in enumerate(value)
            ]
        if (isinstance(value, Mapping) and "kind" in value) or (
            isinstance(value, str) and not _takes_text(hint) and _takes_part(hint)
        ):
            return self.part(value, place, FAMILIES.get(name, ()), depth + 1)
        of_each = _part_of_each(hint)
        if of_each is not None and isinstance(value, Mapping):
            return {
                str(key): self._value(item, of_each, name, _joined(place, str(key)), depth)
                for key, item in value.items()
            }
        if value is not None and _is_part(hint):
            return self.fault(place, f"a part is a kind with its settings, got {_shown(value)}.")
        return self._plain(value, hint, place)

    def _plain(self, value: Any, hint: Any, place: str) -> Any:
        """A number, text, list or table that is as the setting's annotation says."""
        if hint is float and value in ("inf", "-inf", "nan"):
            return float(value)
        adapter = _adapter(hint)
        try:
            result = adapter.validate_json(json.dumps(value), strict=True)
            return (
                result
                if self.base is None or not _takes_path(hint)
                else _relative_to(self.base, result)
            )
        except ValidationError as error:
            fault = error.errors()[0]
            return self.fault(
                place, f"{fault['msg'][0].lower()}{fault['msg'][1:]}, got {_shown(value)}."
            )
        except (TypeError, ValueError):
            return self.fault(place, f"cannot be read: {_shown(value)}.")


def _joined(place: str, name: str) -> str:
    return f"{place}.{name}" if place else name


def _shown(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 60 else f"{text[:57]}..."


def _hints(kind: Kind) -> dict[str, Any]:
    """Annotations of the settings; anything may stand where one does not resolve, as may be with a
    user's own.
    """
    if kind.form == "object" or kind.name.partition(".")[0] in ("numpy", "scipy"):
        return {}
    target: Any = inspect.unwrap(kind.target)
    if not isinstance(target, type):
        return _annotations(target)
    names = {p.name for p in settings_of(kind)}
    result: dict[str, Any] = {}
    for definer in target.__mro__:
        if "__init__" in vars(definer) and definer is not object:
            result = {
                name: hint
                for name, hint in _annotations(vars(definer)["__init__"]).items()
                if name in names
            } | result
    return result


def _annotations(function: Any) -> dict[str, Any]:
    result = {}
    for name, text in getattr(function, "__annotations__", {}).items():
        try:
            result[name] = (
                eval(text, vars(sys.modules[function.__module__]))
                if isinstance(text, str)
                else text
            )  # the code's own
        except (NameError, TypeError, AttributeError):
            result[name] = Any
    return result


def _takes_text(hint: Any) -> bool:
    """Whether a plain text may stand there."""
    if typing.get_origin(hint) in (typing.Union, types.UnionType):
        return any(map(_takes_text, typing.get_args(hint)))
    return hint is str or typing.get_origin(hint) is typing.Literal


def _takes_path(hint: Any) -> bool:
    """Whether a path may stand there, or several."""
    return (
        hint is os.PathLike
        or typing.get_origin(hint) is os.PathLike
        or any(map(_takes_path, typing.get_args(hint)))
    )


def _relative_to(base: str | os.PathLike[str], value: Any) -> Any:
    if isinstance(value, list | tuple):
        return [_relative_to(base, item) for item in value]
    return os.path.join(os.path.abspath(base), value) if isinstance(value, str) else value


def _takes_part(hint: Any) -> bool:
    if typing.get_origin(hint) in (typing.Union, types.UnionType):
        return any(map(_takes_part, typing.get_args(hint)))
    return (
        hint is Any
        or typing.get_origin(hint) is collections.abc.Callable
        or (isinstance(hint, type) and hint not in PLAIN)
    )


def _is_part(hint: Any) -> bool:
    """Whether nothing but a part, or nothing, may stand there."""
    inner = (
        typing.get_args(hint)
        if typing.get_origin(hint) in (typing.Union, types.UnionType)
        else (hint,)
    )
    return hint is not Any and all(_takes_part(item) or item is type(None) for item in inner)


def _part_of_each(hint: Any) -> Any:
    """What each value of a mapping of parts by name is; None of any other annotation."""
    inner = typing.get_args(hint)
    if typing.get_origin(hint) not in (dict, collections.abc.Mapping) or len(inner) != 2:
        return None
    return inner[1] if _is_part(inner[1]) else None


@lru_cache(maxsize=256)
def _adapter(hint: Any) -> TypeAdapter[Any]:
    return TypeAdapter(_without_parts(hint), config=ConfigDict(arbitrary_types_allowed=True))


def _without_parts(hint: Any) -> Any:
    """An annotation of plain data only; None stays where a part may be left out."""
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        plain = [
            _without_parts(item) for item in inner if not (_takes_part(item) and item is not Any)
        ]
        return typing.Union[tuple(plain)] if plain else Any  # noqa: UP007  # built at run time
    if origin is typing.Literal or hint in PLAIN or hint is Any:
        return hint
    if origin in (list, tuple, collections.abc.Sequence, dict, collections.abc.Mapping):
        return hint
    return Any

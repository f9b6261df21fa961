"""A part as plain data."""

from __future__ import annotations

import hashlib
import inspect
import math
from collections.abc import Iterator, Mapping
from functools import partial
from types import BuiltinFunctionType, CodeType, FunctionType
from typing import Any

import numpy as np

from ..errors import PartError
from ._registry import (
    RESERVED,
    Kind,
    kind_of,
    library,
    made_by,
)

__all__ = ["OWN", "SAME", "base_with_init", "describe", "settings_of"]

OWN = "own"
"""Kind of what has none: it is recorded, but cannot be built."""
SAME = "same"
"""Kind of a layer that stands elsewhere too, under the same label."""
DEEPEST = 40


def describe(part: Any, *, opaque: bool = False) -> Any:
    """A part as data that TOML and JSON can hold: its kind and its settings, parts within it too.

    A layer that stands in several places is described once and labelled.

    Parameters
    ----------
    part : layer, activation, initialiser, loss, metric, optimiser, schedule, observer
        A function with settings of its own is a `functools.partial`.
    opaque : bool
        Let what has no kind be, with its name and a digest of its code; it cannot be built again.

    Raises
    ------
    PartError
        If something in it has no kind: what, and how to give it one.

    Examples
    --------
    >>> vs.parts.describe(vs.Stack(vs.Dense(64, vs.relu), vs.Dropout(0.1)))["layers"][1]
    {'kind': 'dropout', 'probability': 0.1, 'whole_channels': False}
    >>> vs.parts.describe(vs.schedules.warmup(100).then(vs.schedules.cosine(1000)))[
    ...     "schedules"
    ... ][0]
    {'kind': 'warmup', 'steps': 100, 'start': 0.0}
    """
    library()
    return _Describer(opaque).of(part, "")


def settings_of(kind: Kind) -> list[inspect.Parameter]:
    """The settings of a kind, in the order of its definition."""
    if kind.form == "object":
        return []
    try:
        parameters = _with_inherited(kind.target)
    except ValueError:  # functions of NumPy
        return []
    if kind.form == "function":
        parameters = [p for p in parameters if p.default is not inspect.Parameter.empty]
    return [p for p in parameters if p.kind is not inspect.Parameter.VAR_KEYWORD]


def _with_inherited(target: Any) -> list[inspect.Parameter]:
    """The parameters; of a class that hands ``**options`` on to the one it derives from, those that
    this one takes too.
    """
    parameters = list(inspect.signature(target).parameters.values())
    if not isinstance(target, type) or not any(p.kind is p.VAR_KEYWORD for p in parameters):
        return parameters
    own = [p for p in parameters if p.kind is not p.VAR_KEYWORD]
    names = {p.name for p in own}
    return own + [
        p
        for p in _with_inherited(base_with_init(target))
        if p.name not in names and p.kind is not p.VAR_POSITIONAL
    ]


def base_with_init(target: type) -> type:
    """The next class that a constructor calls by ``super().__init__``."""
    definer = next(cls for cls in target.__mro__ if "__init__" in vars(cls))
    following = target.__mro__[target.__mro__.index(definer) + 1 :]
    return next(cls for cls in following if "__init__" in vars(cls))


class _Describer:
    def __init__(self, opaque: bool) -> None:
        self.opaque = opaque
        self.seen: dict[int, dict[str, Any]] = {}
        self.labels = 0
        self.depth = 0

    def of(self, value: Any, where: str) -> Any:
        if value is None or isinstance(value, bool | int | str):
            return value
        if isinstance(value, float | np.generic):
            return _number(value)
        self.depth += 1
        try:
            if self.depth > DEEPEST:
                raise PartError(f"{where or 'The part'} is nested more than {DEEPEST} deep.")
            return self._within(value, where)
        finally:
            self.depth -= 1

    def _within(self, value: Any, where: str) -> Any:
        if isinstance(value, np.ndarray):
            return self.of(value.tolist(), where)
        if isinstance(value, list | tuple):
            return [
                self.of(item, f"{where}.{i}" if where else str(i)) for i, item in enumerate(value)
            ]
        if isinstance(value, Mapping):
            if "kind" in value and not self.opaque:
                raise PartError(
                    f"{where or 'A mapping'} has a key 'kind', which is how parts begin. Name it "
                    "otherwise."
                )
            return {
                str(key): self.of(item, f"{where}.{key}" if where else str(key))
                for key, item in value.items()
            }
        found = self._settings(value, where)
        if found is None:
            return self._without_kind(value, where)
        kind, settings = found
        if kind.family == "layer" and kind.form == "class":
            if id(value) in self.seen:
                return {"kind": SAME, "label": self._label(self.seen[id(value)])}
            self.seen[id(value)] = described = {"kind": _name(kind)}
        else:
            described = {"kind": _name(kind)}
        for name, setting in settings.items():
            described[name] = self.of(setting, f"{where}.{name}" if where else name)
        return described

    def _label(self, first: dict[str, Any]) -> str:
        if "label" not in first:
            self.labels += 1
            first["label"] = f"shared {self.labels}"
        return str(first["label"])

    def _settings(self, value: Any, where: str) -> tuple[Kind, dict[str, Any]] | None:
        made = made_by(value)
        if made is not None:
            kind, arguments, options = made
            return kind, _bound(kind, arguments, options)
        if isinstance(value, partial):
            kind = kind_of(value.func)  # type: ignore[assignment]
            if kind is None or kind.form != "function":
                return None
            named = dict(zip(_positional(kind), value.args, strict=False)) if value.args else {}
            return kind, {**named, **value.keywords}
        kind = kind_of(value)  # type: ignore[assignment]
        if kind is None:
            return _of_numpy(value)
        if kind.form != "class":
            return kind, {}
        return kind, {
            p.name: self._attribute(value, kind, p.name, where) for p in settings_of(kind)
        }

    @staticmethod
    def _attribute(value: Any, kind: Kind, name: str, where: str) -> Any:
        if name in RESERVED:
            raise PartError(
                f"{type(value).__name__}: an argument of a part cannot be called {name!r}."
            )
        try:
            return getattr(value, name)
        except AttributeError:
            raise PartError(
                f"{where or 'The part'} ({kind.name}): {type(value).__name__} takes an argument "
                f"{name!r} and does not keep it. Write "
                f"self.{name} = {name} in its __init__."
            ) from None

    def _without_kind(self, value: Any, where: str) -> Any:
        name = getattr(value, "__qualname__", None) or type(value).__qualname__
        if not self.opaque:
            raise PartError(
                f"{where or 'The part'}: {name} has no kind, so it cannot be described. Put "
                f"@vinestep.parts.part({_suggested(name)!r}) "
                "above its definition, and hand it over where the description is opened: own=[...]."
            )
        if isinstance(value, partial):
            settings = {"function": value.func, "arguments": list(value.args), **value.keywords}
            return {"kind": OWN, "name": "partial"} | {
                key: self.of(item, where) for key, item in settings.items()
            }
        if isinstance(value, FunctionType | BuiltinFunctionType | np.ufunc | type) or not hasattr(
            value, "__dict__"
        ):
            return self._function(value, where)
        return {"kind": OWN, "name": type(value).__name__} | {
            key: self.of(item, where) for key, item in _attributes(value)
        }

    def _function(self, function: Any, where: str) -> Any:
        """By name, with a digest of its code and what it closes over."""
        module, name = (
            getattr(function, "__module__", None) or "numpy",
            getattr(function, "__qualname__", None) or repr(type(function)),
        )
        code = getattr(function, "__code__", None)
        known = {
            "kind": OWN,
            "name": f"{module}.{name}" + (f" {_code_digest(code)}" if code is not None else ""),
        }
        cells = [
            cell.cell_contents
            for cell in getattr(function, "__closure__", None) or ()
            if cell.cell_contents is not function
        ]
        return known | ({"with": [self.of(value, where) for value in cells]} if cells else {})


def _name(kind: Kind) -> str:
    """The kind's word; with its family where two share it."""
    return kind.name if len(library().get(kind.name, ())) < 2 else f"{kind.family}.{kind.name}"


def _suggested(name: str) -> str:
    word = name.rpartition(".")[2].lower()
    return word if word.isidentifier() else "mine"


def _number(value: float | np.generic) -> Any:
    plain = value.item() if isinstance(value, np.generic) else value
    return plain if not isinstance(plain, float) or math.isfinite(plain) else str(plain)


def _positional(kind: Kind) -> list[str]:
    return list(inspect.signature(kind.target).parameters)


def _bound(kind: Kind, arguments: tuple[Any, ...], options: dict[str, Any]) -> dict[str, Any]:
    bound = inspect.signature(kind.target).bind(*arguments, **options)
    bound.apply_defaults()
    return dict(bound.arguments)


def _of_numpy(value: Any) -> tuple[Kind, dict[str, Any]] | None:
    """A function of one array of NumPy or SciPy's special functions."""
    if isinstance(value, np.ufunc) and value.nin == 1:
        library_name = "numpy" if getattr(np, value.__name__, None) is value else "scipy"
        return Kind(f"{library_name}.{value.__name__}", "activation", value, "function"), {}
    return None


def _attributes(value: Any) -> Iterator[tuple[str, Any]]:
    hidden = set(getattr(value, "not_settings", lambda: ())())
    for name, item in vars(value).items():
        if not name.startswith("_") and name not in hidden:
            yield name, item


def _code_digest(code: CodeType) -> str:
    result = hashlib.blake2b(code.co_code, digest_size=6)
    for value in (*code.co_consts, code.co_names):
        result.update(
            (_code_digest(value) if isinstance(value, CodeType) else repr(value)).encode()
        )
    return result.hexdigest()

"""Derivative rules and where they are looked up.

A rule says how a cotangent of an operation's result becomes cotangents of its inputs. It is written
in NumPy calls on whatever it is given: with arrays it computes, with Tensors it records, so that a
gradient can be differentiated again with no second set of rules.
"""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable, Sequence
from importlib import import_module
from inspect import signature
from typing import Any

import numpy as np

from ..errors import MissingRuleError

__all__ = [
    "HANDLERS",
    "METHODS",
    "OUT_PLACES",
    "PASSIVE",
    "UFUNCS",
    "UFUNC_METHODS",
    "Rule",
    "find_handler",
    "find_ufunc_rule",
    "implements",
    "implements_method",
    "load_late_rules",
    "missing_rule",
    "passive",
    "ufunc_rule",
]

Adjoint = Callable[..., Any]


class Rule:
    """How one operation is computed and how its cotangent is carried back.

    Parameters
    ----------
    name : str
        Shown in trails and messages.
    forward : callable
        ``forward(*arrays, **options)`` on plain arrays.
    adjoints : sequence of callables or None
        One for each positional input, ``adjoint(g, y, *inputs, **options)``; None where the
        derivative is zero by nature (a mask, an index). Empty for a rule that writes `pull`.
    keeps : str
        Which values the adjoints read: any of "x" (the inputs) and "y" (the result). Inputs that
        are not kept are handed to the adjoint as outlines that know only ``shape``, ``ndim`` and
        ``dtype``.
    broadcasts : bool
        Whether inputs were broadcast, so that cotangents have to be summed back to the inputs'
        shapes.
    """

    __slots__ = ("adjoints", "broadcasts", "forward", "keeps_inputs", "keeps_output", "name")

    takes_whole_numbers = False
    """Whether inputs that are no Tensors may be meant as whole numbers: labels, or whatever a
    user's own operation takes.
    """

    own = False
    """Whether the functions are a user's, who may keep or change the arrays that they are given."""

    lends = True
    """Whether somebody may hold a result that is a view of an input, so that a change of one would
    show in the other.
    """

    writes_into_places = False
    """Whether `pull_into` may be called with arrays to write cotangents of leaves into."""

    def __init__(
        self,
        name: str,
        forward: Callable[..., Any],
        adjoints: Sequence[Adjoint | None],
        *,
        keeps: str = "",
        broadcasts: bool = False,
    ) -> None:
        self.name = name
        self.forward = forward
        self.adjoints = tuple(adjoints)
        self.keeps_inputs = "x" in keeps
        self.keeps_output = "y" in keeps
        self.broadcasts = broadcasts

    def takes_floats(self, position: int) -> bool:
        """Whether an input is a number of the computation, rather than an index or an exponent of
        two.
        """
        return not self.takes_whole_numbers and (
            not self.adjoints or self.adjoints[min(position, len(self.adjoints) - 1)] is not None
        )

    def pull(
        self, g: Any, y: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool]
    ) -> list[Any]:
        """Cotangents of the inputs that are wanted, None for the others; for rules without adjoints
        of each input.
        """
        raise NotImplementedError(
            f"{self.name} has neither adjoints nor a way to pull back all inputs at once."
        )

    def __repr__(self) -> str:
        return f"Rule({self.name!r})"


UFUNCS: dict[np.ufunc, Rule] = {}
UFUNC_METHODS: dict[tuple[np.ufunc, str], Callable[..., Any]] = {}
HANDLERS: dict[Callable[..., Any], Callable[..., Any]] = {}
METHODS: dict[str, Callable[..., Any]] = {}
OUT_PLACES: dict[Callable[..., Any], int] = {}
"""Where among its positional arguments a function takes an array to write to."""
PASSIVE: set[Callable[..., Any]] = set()


def ufunc_rule(ufunc: np.ufunc, *adjoints: Adjoint | None, keeps: str = "") -> None:
    """Register the adjoints of a ufunc, one for each input."""
    UFUNCS[ufunc] = Rule(ufunc.__name__, ufunc, adjoints, keeps=keeps, broadcasts=True)


def implements(
    *functions: Callable[..., Any],
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Let the decorated function stand in for NumPy functions when one of their arguments is a
    Tensor.
    """

    def register(handler: Callable[..., Any]) -> Callable[..., Any]:
        kinds = signature(handler).parameters.values()
        names = [
            own.name
            for own in kinds
            if own.kind in (own.POSITIONAL_ONLY, own.POSITIONAL_OR_KEYWORD)
        ]
        for function in functions:
            HANDLERS[function] = handler
            if "out" in names:
                OUT_PLACES[function] = names.index("out")
        return handler

    return register


def implements_method(name: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Register what stands behind a method of Tensor that NumPy has no function for."""

    def register(method: Callable[..., Any]) -> Callable[..., Any]:
        METHODS[name] = method
        return method

    return register


def passive(*functions: Callable[..., Any]) -> None:
    """Register functions whose results carry no derivative: they run on the plain arrays."""
    PASSIVE.update(functions)


_LATE = {"linalg": "numpy.linalg", "special": "scipy.special"}
"""Families that are loaded when a function without a rule turns up, if the module they serve is
there.
"""


_LOADING = threading.RLock()


def load_late_rules() -> None:
    """Load the families that are left for when they are needed."""
    with _LOADING:  # of several threads one loads them, and the others wait for it
        result = [family for family, module in _LATE.items() if module in sys.modules]
        for family in result:
            import_module(f".rules.{family}", __package__)
            _LATE.pop(family, None)


def find_ufunc_rule(ufunc: np.ufunc) -> Rule | None:
    """The rule of a ufunc, if there is one."""
    rule = UFUNCS.get(ufunc)
    if rule is None:
        load_late_rules()
        return UFUNCS.get(ufunc)
    return rule


def find_handler(function: Callable[..., Any]) -> Callable[..., Any] | None:
    """What stands in for a function, if there is anything."""
    handler = HANDLERS.get(function)
    if handler is None:
        load_late_rules()
        return HANDLERS.get(function)
    return handler


def _label(function: Callable[..., Any]) -> str:
    """The function as its user writes it."""
    name = getattr(function, "__name__", repr(function))
    if isinstance(function, np.ufunc):
        return f"np.{name}" if hasattr(np, name) else f"scipy.special.{name}"
    module = getattr(function, "__module__", None) or "numpy"
    public = ".".join(part for part in module.split(".") if not part.startswith("_"))
    return f"{public}.{name}".replace("numpy", "np", 1)


def missing_rule(function: Any) -> MissingRuleError:
    """The error for a NumPy function without a rule: names it, the nearest that has one, and how to
    add it.
    """
    import difflib

    load_late_rules()
    label = _label(function)
    known: list[Any] = [*UFUNCS, *HANDLERS]
    near = difflib.get_close_matches(label, [_label(f) for f in known], n=2, cutoff=0.5)
    nearest = f" The nearest with a rule: {', '.join(near)}." if near else ""
    return MissingRuleError(
        f"{label} has no derivative rule.{nearest} "
        f"If it is constant for your purpose, apply it to vinestep.held(x). "
        f"To teach it: @vinestep.rule_for({label}) above a function (g, y, *inputs) that returns "
        "the cotangents."
    )

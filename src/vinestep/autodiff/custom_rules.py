"""A user's own operations and rules."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import update_wrapper
from typing import Any

import numpy as np

from ..errors import DifferentiationError
from .registry import HANDLERS, UFUNCS, Rule
from .tensor import apply, owned

__all__ = ["JointRule", "differentiable", "rule_for"]


class JointRule(Rule):
    """A rule whose one adjoint returns the cotangents of all inputs together."""

    __slots__ = ("joint",)

    takes_whole_numbers = True
    own = True

    def __init__(
        self,
        name: str,
        forward: Callable[..., Any],
        joint: Callable[..., Any],
        *,
        broadcasts: bool = False,
    ) -> None:
        super().__init__(name, forward, (), keeps="xy", broadcasts=broadcasts)
        self.joint = joint

    def pull(
        self, g: Any, y: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool]
    ) -> list[Any]:
        pulled = self.joint(g, y, *inputs, **options)
        cotangents = list(pulled) if isinstance(pulled, tuple | list) else [pulled]
        if len(cotangents) != len(inputs):
            raise DifferentiationError(
                f"The adjoint of {self.name} returned {len(cotangents)} cotangents for "
                f"{len(inputs)} inputs. Return a tuple "
                "with one for each positional input, None where there is no derivative."
            )
        for position, (cotangent, want) in enumerate(zip(cotangents, wanted, strict=True)):
            if want and cotangent is None:
                raise DifferentiationError(
                    f"The adjoint of {self.name} returned None for input {position}, which a "
                    "derivative was asked by. "
                    "Return zeros if it has no influence."
                )
        return [c if want else None for c, want in zip(cotangents, wanted, strict=True)]


def differentiable(
    *, adjoint: Callable[..., Any]
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Make a function of arrays an operation of its own, with a known derivative.

    Parameters
    ----------
    adjoint : callable
        ``adjoint(g, y, *inputs, **options)`` returns the cotangent of the one input, or a tuple
        with one for each positional input. `g` has the shape of the result `y`. Written in NumPy,
        it can be differentiated again.

    Returns
    -------
    decorator : callable
        For a function ``f(*arrays, **options)`` of plain arrays that returns one array of floats.
        Keyword arguments are options without derivative.

    Raises
    ------
    ShapeError
        During the sweep, if a cotangent has not the shape of its input.

    Examples
    --------
    >>> @differentiable(adjoint=lambda g, y, x: g * 3 * x**2)
    ... def cube(x):
    ...     return x * x * x
    >>> gradient_of(lambda x: np.sum(cube(x)))(np.array([1.0, 2.0]))
    array([ 3., 12.])
    """

    def decorate(function: Callable[..., Any]) -> Callable[..., Any]:
        rule = JointRule(
            function.__name__,
            lambda *arrays, **options: np.asarray(function(*arrays, **options))[()],
            adjoint,
        )

        def operation(*inputs: Any, **options: Any) -> Any:
            return apply(rule, inputs, {name: owned(value) for name, value in options.items()})

        return update_wrapper(operation, function)

    return decorate


def rule_for(function: Callable[..., Any]) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Teach the library the derivative of a NumPy or SciPy function.

    The decorated function is the adjoint: ``(g, y, *inputs, **options)`` to the cotangent of the
    one input, or a tuple with one for each positional input. For a ufunc, cotangents may be of the
    broadcast shape; they are summed back.

    Raises
    ------
    DifferentiationError
        If the function has a rule already.

    Examples
    --------
    >>> from scipy import special
    >>> @rule_for(special.exprel)
    ... def _(g, y, x):
    ...     return g * np.where(x == 0, 0.5, (np.exp(x) - y) / np.where(x == 0, 1.0, x))
    >>> gradient_of(special.exprel)(1.0).round(6)
    np.float64(1.0)
    """

    def register(adjoint: Callable[..., Any]) -> Callable[..., Any]:
        if function in UFUNCS or function in HANDLERS:
            name = getattr(function, "__name__", repr(function))
            raise DifferentiationError(
                f"{name} has a derivative rule already. Use @differentiable for a variant of your "
                "own."
            )
        if isinstance(function, np.ufunc):
            UFUNCS[function] = JointRule(function.__name__, function, adjoint, broadcasts=True)
        else:
            implementation = getattr(function, "_implementation", function)
            rule = JointRule(function.__name__, implementation, adjoint)
            HANDLERS[function] = lambda *inputs, **options: apply(rule, inputs, options)
        return adjoint

    return register

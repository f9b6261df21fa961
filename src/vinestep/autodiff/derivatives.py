"""Derivatives of values and of functions."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal, Protocol, runtime_checkable

import numpy as np

from ..errors import DifferentiationError, ShapeError
from .gradients import Layout, pack
from .identity import copied
from .sweep import sweep
from .tensor import (
    Origin,
    Tensor,
    apply,
    held,
)
from .tracking import STATE, recorded

__all__ = [
    "HasParameters",
    "differentiate",
    "directional",
    "gradient_of",
    "hessian_of",
    "hessian_product",
    "jacobian_of",
]

Function = Callable[..., Any]


@runtime_checkable
class HasParameters(Protocol):
    """Anything with trainable parameters by path, a network for instance."""

    def parameters(self) -> Mapping[str, Tensor]: ...


def differentiate(
    value: Any,
    wrt: Any,
    *,
    seed: Any = None,
    differentiable: bool | None = None,
    release: bool = False,
    unused: Literal["refuse", "zeros"] = "refuse",
    must_be_finite: bool = False,
) -> Any:
    """Derivative of `value` by `wrt`, by one reverse sweep over its record.

    Nothing is stored in the tensors: asking twice gives the same answer twice.

    Parameters
    ----------
    value : Tensor
        Of one element, unless `seed` is given.
    wrt : Tensor, network, mapping or sequence of Tensors
        What to differentiate by: leaves, parameters or values on the way.
    seed : array_like, shape value.shape, optional
        Weights of the elements of `value`; the derivative of ``sum(seed * value)`` is returned.
    differentiable : bool, optional
        Whether the derivatives are Tensors that can be differentiated again. By default they are
        inside a function that is being differentiated itself, such as one given to `gradient_of` or
        the loss of a `Training`, and arrays elsewhere.
    release : bool
        Give back the record's memory while sweeping; `value` can then not be differentiated again.
    unused : {"refuse", "zeros"}
        What to do about something in `wrt` that `value` never used.
    must_be_finite : bool
        Raise at the first operation that produces NaN or infinity on the backward pass, naming it.

    Returns
    -------
    derivative : ndarray, tuple, dict or Gradients
        An array for a Tensor, a tuple for a sequence, `Gradients` for a network or a mapping; where
        `differentiable`, Tensors in their place (a dict for a network or mapping).

    Raises
    ------
    DifferentiationError
        If `value` has several elements and no seed, was not computed from any Tensor, or never used
        what is in `wrt`.
    NotFiniteError
        If asked for by `must_be_finite`.

    Examples
    --------
    >>> x = Tensor([1.0, 2.0])
    >>> differentiate(np.sum(x**3), wrt=x)
    array([ 3., 12.])
    """
    tensor = _checked_value(value)
    weights = _checked_seed(tensor, seed)
    if differentiable is None:
        now = STATE.now
        differentiable = now.tracing > 0 and now.recording
    paths, tensors = _targets(wrt)
    found = sweep(
        tensor,
        weights,
        [t.origin for t in tensors],
        differentiable=differentiable,
        release=release,
        must_be_finite=must_be_finite,
    )
    missing = [path for path, t in zip(paths, tensors, strict=True) if t.origin not in found]
    if missing and unused == "refuse":
        raise _never_used(missing, len(paths))
    derivatives = [found.get(t.origin) for t in tensors]
    return _shaped_like(
        wrt,
        paths,
        [_whole(d, t) for d, t in zip(derivatives, tensors, strict=True)],
        differentiable,
    )


def _checked_value(value: Any) -> Tensor:
    if not isinstance(value, Tensor):
        raise DifferentiationError(
            f"differentiate needs a Tensor, got {type(value).__name__}: the value was computed "
            "from no Tensor, under "
            "untracked(), or its record was lost by held(). Wrap the inputs: x = "
            "vinestep.Tensor(array)."
        )
    return value


def _checked_seed(value: Tensor, seed: Any) -> Any:
    if seed is None:
        if value.size != 1:
            raise DifferentiationError(
                f"differentiate needs a value of one element, got shape {value.shape}. Reduce it "
                "first, by np.sum or "
                "np.mean for instance, give seed= (weights of its elements), or use jacobian_of "
                "for all derivatives."
            )
        return np.ones(value.shape, dtype=value.dtype)
    if np.shape(seed) != value.shape:
        raise ShapeError(
            f"differentiate: seed has shape {np.shape(seed)}, the value {value.shape}. They must "
            "agree."
        )
    return seed if isinstance(seed, Tensor) else np.asarray(seed, dtype=value.dtype)


def _targets(wrt: Any) -> tuple[list[str], list[Tensor]]:
    if isinstance(wrt, Tensor):
        named: dict[str, Any] = {wrt.name or "the value": wrt}
    elif isinstance(wrt, HasParameters):
        named = dict(wrt.parameters())
    elif isinstance(wrt, Mapping):
        named = {str(key): tensor for key, tensor in wrt.items()}
    elif isinstance(wrt, Sequence) and not isinstance(wrt, str):
        named = {f"wrt[{i}]": tensor for i, tensor in enumerate(wrt)}
    else:
        raise DifferentiationError(
            f"differentiate: wrt is a {type(wrt).__name__}. Give a Tensor, a network, or a "
            "sequence or mapping of Tensors."
        )
    for path, tensor in named.items():
        if not isinstance(tensor, Tensor):
            raise DifferentiationError(
                f"differentiate: {path} is a {type(tensor).__name__}, not a Tensor. A derivative "
                "can be taken by Tensors "
                "only: wrap the array before the computation."
            )
    if not named:
        raise DifferentiationError("differentiate: wrt holds no Tensor. Is every parameter frozen?")
    return list(named), list(named.values())


def _never_used(missing: list[str], of: int) -> DifferentiationError:
    shown = ", ".join(missing[:5]) + (f" and {len(missing) - 5} more" if len(missing) > 5 else "")
    return DifferentiationError(
        f"The value never used {shown} ({len(missing)} of {of}), so there is no derivative by it. "
        "Was it wrapped again, "
        'held, or used only under untracked()? If zero is what you mean, say unused="zeros".'
    )


def _whole(derivative: Any, tensor: Tensor) -> Any:
    return np.zeros(tensor.shape, dtype=tensor.dtype) if derivative is None else derivative


def _handed_out(derivative: Any, differentiable: bool) -> Any:
    """A derivative as it is given away. Arrays are copied: the record, or another derivative, may
    keep the same one.
    """
    if differentiable and isinstance(derivative, Tensor):
        return derivative
    array = np.array(held(derivative))
    return array if array.shape else array[()]


def _shaped_like(wrt: Any, paths: list[str], derivatives: list[Any], differentiable: bool) -> Any:
    if isinstance(wrt, Tensor):
        return _handed_out(derivatives[0], differentiable)
    if isinstance(wrt, HasParameters | Mapping):
        named = dict(zip(paths, derivatives, strict=True))
        if differentiable:
            return {path: _handed_out(d, True) for path, d in named.items()}
        layout = Layout((path, np.shape(d)) for path, d in named.items())
        return pack(layout, named, np.result_type(*(d.dtype for d in derivatives)))
    return tuple(_handed_out(d, differentiable) for d in derivatives)


# derivatives of functions


def _traced(
    f: Function, arguments: tuple[Any, ...], argument: int, options: dict[str, Any]
) -> tuple[Any, Tensor, bool]:
    """``f`` at the arguments, one of them a fresh node, and whether anything but that node can be
    differentiated by in its value.

    However a Tensor came into `f`, by position, keyword, closure or default: if the value depends
    on one that was there before, so does its derivative, which then has to be differentiable by it.
    """
    if not -len(arguments) <= argument < len(arguments):
        raise DifferentiationError(
            f"The function was called with {len(arguments)} arguments; there is none at {argument}."
        )
    at = arguments[argument]
    surrounded = STATE.now.recording
    with recorded():
        node = apply(
            copied,
            (at if isinstance(at, Tensor) and surrounded else Tensor(_as_float(held(at))),),
            {},
        )
        inputs = list(arguments)
        inputs[argument] = Tensor.from_operation(
            node._array, node.origin
        )  # which `f` may change in place; the node stays
        value = f(*inputs, **options)
    nested = surrounded and (
        isinstance(at, Tensor)
        or (isinstance(value, Tensor) and _depends_on_more(value.origin, node.origin))
    )
    return value, node, nested


def _depends_on_more(value: Origin, node: Origin) -> bool:
    """Whether a record reaches back to anything that is older than the node."""
    seen, stack = {value}, [value]
    while stack:
        origin = stack.pop()
        if origin is node:
            continue
        if origin.number < node.number:
            return True
        for parent in origin.parents:
            if parent is not None and parent not in seen:
                seen.add(parent)
                stack.append(parent)
    return False


def _as_float(at: Any) -> Any:
    """Numbers and lists of whole numbers are meant as floats where a derivative is asked for."""
    array = np.asarray(at)
    return array.astype(float) if array.dtype.kind in "iu" else array


def gradient_of(f: Function, argument: int = 0, with_value: bool = False) -> Function:
    """The function that gives the gradient of a scalar function.

    Parameters
    ----------
    f : callable
        Written in NumPy; returns one number.
    argument : int
        Which positional argument to differentiate by.
    with_value : bool
        Return ``(value, gradient)``.

    Returns
    -------
    gradient : callable
        Takes what `f` takes; can be differentiated again.

    Raises
    ------
    DifferentiationError
        If `f` returns more than one number.

    Examples
    --------
    >>> gradient_of(lambda x: np.sum(x**3))(np.array([1.0, 2.0]))
    array([ 3., 12.])
    >>> gradient_of(gradient_of(np.sin))(1.0).round(6)
    np.float64(-0.841471)
    """

    def gradient(*arguments: Any, **options: Any) -> Any:
        value, node, nested = _traced(f, arguments, argument, options)
        if isinstance(value, Tensor):
            derivative = differentiate(
                value, node, differentiable=nested, release=not nested, unused="zeros"
            )
        elif np.size(value) == 1:
            derivative = np.zeros(node.shape, node.dtype)
        else:
            raise DifferentiationError(
                "gradient_of needs a function that returns one number, got shape "
                f"{np.shape(value)}. Use jacobian_of."
            )
        return ((value if nested else held(value)), derivative) if with_value else derivative

    return gradient


def hessian_product(f: Function, at: Any, along: Any) -> Any:
    """Product of the Hessian of a scalar function with a direction, without forming the Hessian.

    The gradient of ``<gradient, along>``: two sweeps, whatever the size.

    Parameters
    ----------
    f : callable
        Scalar function of one array.
    at, along : array_like of one shape

    Examples
    --------
    >>> hessian_product(lambda x: np.sum(x**3), np.array([1.0, 2.0]), np.array([1.0, 0.0]))
    array([6., 0.])
    """
    if np.shape(at) != np.shape(along):
        raise ShapeError(
            f"hessian_product: at has shape {np.shape(at)}, along {np.shape(along)}. They must "
            "agree."
        )
    slope = gradient_of(f)
    return gradient_of(lambda x: np.sum(slope(x) * along))(at)


def directional(f: Function, at: Any, along: Any, *, with_value: bool = False) -> Any:
    """Derivative of a function along a direction: the Jacobian times `along`, without forming the
    Jacobian.

    The reverse sweep is linear in its seed, and the derivative of ``seed -> Jacobian.T @ seed`` is
    the Jacobian, so sweeping back over the sweep gives the forward derivative with no second set of
    rules.

    Parameters
    ----------
    f : callable
        Function of one array, with a result of any shape.
    at, along : array_like of one shape

    Returns
    -------
    derivative : ndarray
        Of the shape of ``f(at)``; with the value before it if `with_value`.

    Examples
    --------
    >>> directional(lambda x: x**2, np.array([1.0, 3.0]), np.array([1.0, 0.5]))
    array([2., 3.])
    """
    if np.shape(at) != np.shape(along):
        raise ShapeError(
            f"directional: at has shape {np.shape(at)}, along {np.shape(along)}. They must agree."
        )
    value, node, nested = _traced(f, (at,), 0, {})
    if isinstance(value, Tensor):
        push = Tensor(np.zeros(value.shape, dtype=value.dtype))
        pulled = differentiate(value, node, seed=push, differentiable=True, unused="zeros")
        if isinstance(pulled, Tensor):
            seed = along if isinstance(along, Tensor) else np.asarray(along, dtype=pulled.dtype)
            derivative = differentiate(
                pulled,
                push,
                seed=seed,
                differentiable=nested or isinstance(along, Tensor),
                unused="zeros",
            )
        else:
            derivative = np.zeros(value.shape, value.dtype)
    else:
        derivative = np.zeros(np.shape(value))
    return ((value if nested else held(value)), derivative) if with_value else derivative


def jacobian_of(f: Function, argument: int = 0) -> Function:
    """The function that gives all derivatives of all elements of a function's result.

    Swept in the direction with fewer passes: back from each result, or forward along each input.

    Returns
    -------
    jacobian : callable
        Its result has the shape of `f`'s result followed by the shape of the argument.

    Examples
    --------
    >>> jacobian_of(lambda x: np.stack([x[0] * x[1], x[0] ** 2]))(np.array([2.0, 3.0]))
    array([[3., 2.],
           [4., 0.]])
    """

    def jacobian(*arguments: Any, **options: Any) -> Any:
        value, node, nested = _traced(f, arguments, argument, options)
        shape = np.shape(value) + node.shape
        if not isinstance(value, Tensor):
            return np.zeros(shape, node.dtype)
        if node.size < value.size:
            push = Tensor(np.zeros(value.shape, dtype=value.dtype))
            pulled = differentiate(value, node, seed=push, differentiable=True, unused="zeros")
            columns = _passes(pulled, push, nested)
            table = (
                np.stack(columns, axis=-1) if columns else np.zeros((*value.shape, 0), node.dtype)
            )
        else:
            rows = _passes(value, node, nested)
            table = np.stack(rows) if rows else np.zeros((0, *node.shape), node.dtype)
        return np.reshape(table, shape)

    return jacobian


def _passes(value: Any, by: Tensor, differentiable: bool) -> list[Any]:
    """One sweep for each element of `value`."""
    if not isinstance(value, Tensor):
        return [np.zeros(by.shape, by.dtype) for _ in range(np.size(value))]
    results = []
    seed = np.zeros(value.shape, dtype=value.dtype)
    for i in range(value.size):
        seed.reshape(-1)[i] = 1
        results.append(
            differentiate(
                value, by, seed=seed.copy(), differentiable=differentiable, unused="zeros"
            )
        )
        seed.reshape(-1)[i] = 0
    return results


def hessian_of(f: Function, argument: int = 0) -> Function:
    """The function that gives all second derivatives of a scalar function.

    Returns
    -------
    hessian : callable
        Its result has the shape of the argument twice over, and is symmetric.

    Examples
    --------
    >>> hessian_of(lambda x: x[0] ** 2 * x[1])(np.array([1.0, 3.0]))
    array([[6., 2.],
           [2., 0.]])
    """
    return jacobian_of(gradient_of(f, argument), argument)

"""The reverse sweep: cotangents carried from a value back to what it was computed from."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from operator import attrgetter
from typing import Any

import numpy as np

from .._findings import Finding, warn_of
from ..errors import (
    DifferentiationError,
    NotFiniteError,
    PrecisionWarning,
    ShapeError,
    VineStepError,
)
from ..kernels.allocator import keep_freed_memory
from .broadcasting import unbroadcast
from .checksums import Untouched, is_unchanged
from .scattered import Scattered
from .tensor import (
    RAW_ERRORS,
    RELEASED,
    Origin,
    Tensor,
    held,
)
from .tracking import STATE

__all__ = ["sweep"]

_by_number = attrgetter("number")


def sweep(
    value: Tensor,
    seed: Any,
    targets: Iterable[Origin],
    *,
    differentiable: bool = False,
    release: bool = False,
    must_be_finite: bool = False,
    destinations: Mapping[Origin, np.ndarray] | None = None,
    callback: Callable[[Mapping[Origin, Any]], object] | None = None,
) -> dict[Origin, Any]:
    """Cotangents of the `targets` that `value` depends on.

    Visits origins in falling order of their numbers, so that every origin is met after all that
    used it; no recursion, so chains may be of any length.

    Parameters
    ----------
    value : Tensor
    seed : array_like, shape value.shape
        The cotangent of `value` itself.
    targets : iterable of Origin
    differentiable : bool
        Whether the cotangents are to be Tensors with a record of their own.
    release : bool
        Give back what the record kept as it is consumed. The value can be swept once only.
    must_be_finite : bool
        Raise at the first operation whose cotangent is NaN or infinite.
    destinations : mapping of Origin to ndarray, optional
        Where fused operations may write the cotangent of a leaf straight away.
    callback : callable, optional
        Called after each operation with the cotangents of the targets that nothing later adds to.
    """
    keep_freed_memory()
    now = STATE.now
    before = now.recording, now.sealing
    now.recording, now.sealing = differentiable, True
    try:
        return _carry(
            value,
            seed,
            set(targets),
            differentiable,
            release,
            must_be_finite,
            destinations,
            callback,
        )
    finally:
        now.recording, now.sealing = before


def _order(top: Origin, wanted: set[Origin]) -> tuple[list[Origin], set[Origin]]:
    """The operations on a way from `top` to a wanted origin, in falling order, and all origins on
    such ways.
    """
    if top.rule is None:
        return [], wanted
    chain = _chain(top)
    if chain is not None:
        while (
            chain
            and chain[-1] not in wanted
            and not any(parent in wanted for parent in chain[-1].parents)
        ):
            chain.pop()
        return chain, wanted.union(chain)
    seen = {top}
    stack = [top]
    while stack:
        origin = stack.pop()
        if origin.options is RELEASED:
            raise _released()
        for parent in origin.parents:
            if parent is not None and parent.rule is not None and parent not in seen:
                seen.add(parent)
                stack.append(parent)
    useful = set(wanted)
    way = []
    for origin in sorted(seen, key=_by_number):
        if origin in useful:
            way.append(origin)
            continue
        for parent in origin.parents:
            if parent in useful:
                useful.add(origin)
                way.append(origin)
                break
    way.reverse()
    return way, useful


def _chain(top: Origin) -> list[Origin] | None:
    """The operations under `top`, if none of them has two computed parents."""
    chain = []
    below: Origin | None = top
    while below is not None:
        chain.append(below)
        if below.options is RELEASED:
            raise _released()
        parents, below = below.parents, None
        for parent in parents:
            if parent is not None and parent.rule is not None:
                if below is not None and below is not parent:
                    return None
                below = parent
    return chain


def _released() -> DifferentiationError:
    return DifferentiationError(
        "This record was given back by an earlier differentiate(..., release=True). Compute the "
        "value again, "
        "or differentiate without release."
    )


def _carry(
    value: Tensor,
    seed: Any,
    wanted: set[Origin],
    differentiable: bool,
    release: bool,
    must_be_finite: bool,
    destinations: Mapping[Origin, np.ndarray] | None,
    callback: Callable[[Mapping[Origin, Any]], object] | None,
) -> dict[Origin, Any]:
    order, useful = _order(value.origin, wanted)
    pending: dict[Any, Any] = {value.origin: seed}
    ours: set[Any] = set()  # origins whose pending array was made here, so may be added to in place
    result: dict[Origin, Any] = {}
    last = {} if callback is None else _last_uses(order, wanted)
    for origin in order:
        g = pending.pop(origin, None)
        if g is None:
            continue
        if origin in wanted:
            result[origin] = g
        rule: Any = origin.rule
        options = origin.options
        parents = origin.parents
        if origin.inputs is None and origin.output is None:
            inputs, output = parents, None
        else:
            inputs, output = _saved(origin, differentiable)
        try:
            if destinations is not None and rule.writes_into_places:
                flags = [parent in useful for parent in parents]
                places = _places(parents, destinations, pending)
                pulled = rule.pull_into(g, output, inputs, options, flags, places)
                for i, place in enumerate(places):
                    if place is not None and pulled[i] is place:
                        pending[parents[i]] = place
                        pulled[i] = None
            elif rule.adjoints:
                pulled = []
                for parent, adjoint in zip(parents, rule.adjoints):  # noqa: B905  # innermost loop
                    pulled.append(
                        adjoint(g, output, *inputs, **options)
                        if adjoint is not None and parent in useful
                        else None
                    )
            else:
                useful_parents = [parent in useful for parent in parents]
                pulled = rule.pull(g, output, inputs, options, useful_parents)
        except VineStepError:
            raise
        except RAW_ERRORS as error:
            shapes = ", ".join(str(parent.shape) for parent in parents if parent is not None)
            where = f" in {origin.place}" if origin.place else ""
            raise DifferentiationError(
                f"The derivative of {rule.name}{where}, of inputs of shape {shapes}, failed: "
                f"{type(error).__name__}: {error}."
            ) from error
        for parent, cotangent in zip(parents, pulled):  # noqa: B905
            if cotangent is None or parent is None:
                continue
            if type(cotangent) is Scattered:
                if parent in ours and cotangent.dtype == parent.dtype and not must_be_finite:
                    cotangent.add_to(pending[parent])
                    continue
                cotangent = cotangent.whole()
                if parent not in pending:
                    ours.add(parent)
            if cotangent.shape != parent.shape:
                cotangent = _fit(cotangent, parent, rule)
            if cotangent.dtype != parent.dtype:
                if parent.rule is None and parent.name:
                    _warn_of_promotion(parent, cotangent.dtype, rule)
                cotangent = cotangent.astype(parent.dtype)
            if must_be_finite and not np.all(np.isfinite(held(cotangent))):
                raise _not_finite(origin, parent)
            if parent not in pending:
                pending[parent] = cotangent
            elif parent in ours:
                pending[parent] += cotangent
            else:
                pending[parent] = total = pending[parent] + cotangent
                if not differentiable and type(total) is np.ndarray:
                    ours.add(parent)
        if callback is not None:
            callback({leaf: pending[leaf] for leaf in last.get(origin, ()) if leaf in pending})
        if release:
            origin.release()
        del g, inputs, output, pulled
    for origin in wanted:
        if origin in pending:
            result[origin] = pending[origin]
    return result


def _last_uses(order: Sequence[Origin], wanted: set[Origin]) -> dict[Origin, list[Origin]]:
    """Of each operation, in the order of the sweep, the leaves that none after it uses."""
    user = {
        parent: origin
        for origin in order
        for parent in origin.parents
        if parent in wanted and parent is not None and parent.rule is None
    }
    leaves: dict[Origin, list[Origin]] = {}
    for leaf, origin in user.items():
        leaves.setdefault(origin, []).append(leaf)
    return leaves


def _places(
    parents: Sequence[Origin | None],
    destinations: Mapping[Origin, np.ndarray],
    pending: Mapping[Any, Any],
) -> list[np.ndarray | None]:
    """Where cotangents may be written straight away: of each leaf the first contribution only, the
    others are added to it.
    """
    places: list[np.ndarray | None] = []
    given: set[Origin] = set()
    for parent in parents:
        if parent is None or parent in pending or parent in given:
            places.append(None)
        else:
            given.add(parent)
            places.append(destinations.get(parent))
    return places


def _saved(origin: Origin, differentiable: bool) -> tuple[Any, Any]:
    """The inputs and the result as the adjoints get them: Tensors in a differentiable sweep, arrays
    otherwise.
    """
    inputs: Any = origin.inputs
    if inputs is None:
        inputs = origin.parents
    else:
        if origin.seals is not None:
            _check_seals(origin)
        if differentiable:
            inputs = [
                x if parent is None else Tensor.from_operation(x, parent)
                for x, parent in zip(inputs, origin.parents, strict=True)
            ]
    output = origin.output
    if output is not None and differentiable:
        output = Tensor.from_operation(output, origin)
    return inputs, output


def _check_seals(origin: Origin) -> None:
    for position, (kept, seal, parent) in enumerate(
        zip(origin.inputs or (), origin.seals or (), origin.parents, strict=True)
    ):
        if seal is None:
            continue
        unchanged = (
            seal.memory.still_holds(seal, parent)
            if type(seal) is Untouched
            else is_unchanged(kept, seal)
        )
        if not unchanged:
            rule = origin.rule.name if origin.rule else "leaf"
            name = f" ({parent.name!r})" if parent is not None and parent.name else ""
            place = f" in {origin.place}" if origin.place else ""
            raise DifferentiationError(
                f"An array was changed in place after it was used: input {position} of {rule}"
                f"{name}{place}, shape {kept.shape}. "
                "The derivative needs its old values. Differentiate before the change, or compute "
                "the value again after it."
            )


def _fit(cotangent: Any, parent: Origin, rule: Any) -> Any:
    if rule.broadcasts:
        return unbroadcast(cotangent, parent.shape)
    raise ShapeError(
        f"The rule of {rule.name} returned a cotangent of shape {cotangent.shape} for an input of "
        "shape "
        f"{parent.shape}. An adjoint has to return the shape of the input it belongs to."
    )


def _warn_of_promotion(parent: Origin, dtype: Any, rule: Any) -> None:
    finding = Finding(
        f"the parameter {parent.name!r}",
        "suspicious",
        f"it is {parent.dtype} and met {dtype} in {rule.name}, so the computation went on in "
        f"{dtype}; its gradient stays {parent.dtype}.",
        f"Convert the data once, x.astype(np.{parent.dtype}), or make the parameter {dtype}.",
    )
    warn_of(finding, PrecisionWarning, stacklevel=5)


def _not_finite(origin: Origin, parent: Origin) -> NotFiniteError:
    rule = origin.rule.name if origin.rule else "leaf"
    place = f" in {origin.place}" if origin.place else ""
    into = (
        f" for {parent.name!r}"
        if parent.name
        else (f" for the result of {parent.rule.name}" if parent.rule else "")
    )
    return NotFiniteError(
        f"The backward pass first met NaN or infinity in the derivative of {rule}{place}{into}, "
        f"shape {parent.shape}. "
        f"Look at the input of {rule} with vinestep.trail: a root or logarithm of zero, a "
        "division by zero, or an "
        "overflowing exponential is the usual cause."
    )

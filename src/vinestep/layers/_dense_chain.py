"""Dense layers one after another as one operation: less to record, and for small ones a single
loop.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from operator import is_
from typing import Any

import numpy as np

from .. import kernels
from ..autodiff.fused import Fused
from ..autodiff.signatures import Signature, Signatures, misfit
from ..kernels.machinery.grain_sizes import RATE
from ..kernels.machinery.pool import helpers
from ._dense import (
    NUMBERS,
    SMALL,
    dense_adjoint,
    dense_definition,
    dense_forward,
)

__all__ = ["ChainPlan", "dense_chain"]


@dataclass(frozen=True, slots=True)
class ChainPlan:
    """The layers of a chain: activations and slopes, how wide each is, and where in the arena they
    lie.
    """

    activations: tuple[tuple[str, float], ...]
    layers: np.ndarray
    """Widths of the input and of each layer; below them the numbers of the activations."""
    slopes: np.ndarray
    span: tuple[int, int] | None
    """Start and stop of the parameters in the flat array they are views of, if they follow one
    another there.
    """
    most_rows: int
    """Up to so many rows one loop over everything beats the calls around the matrix products."""
    width_sum: int
    width_max: int
    largest: int
    """Of the weights."""
    arrays: tuple[np.ndarray, ...]
    """The parameters that it was made for."""
    widths: tuple[int, ...]
    theta: np.ndarray
    """The parameters in one, if they follow one another; else empty."""
    placed: list[Any]
    """Where gradients were last written to, found to lie as the parameters do, and all of it in
    one.
    """

    @classmethod
    def of(
        cls, activations: Sequence[tuple[str, float] | None], weights: Sequence[np.ndarray]
    ) -> ChainPlan:
        named = tuple(activation or ("none", 0.0) for activation in activations)
        widths = [weights[0].shape[0], *(w.shape[1] for w in weights[::2])]
        largest = max(a * b for a, b in pairwise(widths))
        span = _span(weights)
        return cls(
            activations=named,
            layers=np.array([widths, [*(NUMBERS[name] for name, _ in named), 0]], dtype=np.int64),
            slopes=np.array([slope for _, slope in named], dtype=weights[0].dtype),
            span=span,
            most_rows=SMALL // largest,
            width_sum=sum(widths[1:]),
            width_max=max(widths),
            largest=largest,
            arrays=tuple(weights),
            widths=tuple(widths),
            theta=weights[0].base[span[0] : span[1]]
            if span is not None and weights[0].base is not None
            else weights[0][:0],
            placed=[],
        )

    def lies_before(self, weights: Sequence[np.ndarray]) -> bool:
        """Whether these are the parameters that it knows the place of."""
        return self.span is not None and all(map(is_, self.arrays, weights))

    def gradients_in_one(self, places: Sequence[np.ndarray | None]) -> np.ndarray | None:
        """All places for gradients in one, if they lie to one another as the parameters do; the
        first is the input's.
        """
        if self.placed and self.placed[0] is places:
            return self.placed[1]  # type: ignore[no-any-return]
        given: list[Any] = list(places[1:])
        if self.span is None or any(place is None for place in given) or _span(given) != self.span:
            return None
        flat: np.ndarray = given[0].base[self.span[0] : self.span[1]]
        if isinstance(places, list):
            self.placed[:] = places, flat
        return flat


def _span(arrays: Sequence[np.ndarray]) -> tuple[int, int] | None:
    base = arrays[0].base
    if base is None or base.ndim != 1:
        return None
    start = place = (arrays[0].ctypes.data - base.ctypes.data) // base.itemsize
    for array in arrays:
        if array.base is not base or array.ctypes.data != base.ctypes.data + place * base.itemsize:
            return None
        place += array.size
    return start, place


def _options(activation: tuple[str, float]) -> dict[str, Any]:
    return {"activation": activation[0], "slope": activation[1]}


def _definition(x: Any, *weights: Any, plan: ChainPlan) -> Any:
    for i, activation in enumerate(plan.activations):
        x = dense_definition(x, weights[2 * i], weights[2 * i + 1], **_options(activation))
    return x


def _forward(x: Any, *weights: Any, plan: ChainPlan) -> tuple[Any, Any]:
    rows = x.shape[0]
    if x.ndim == 2 and plan.lies_before(weights):
        theta = plan.theta
        used = rows * plan.width_sum
        values = np.empty(used + 2 * plan.width_max, x.dtype)
        if rows <= plan.most_rows:
            kernels.dense.chain_forward(x, theta, plan.layers, plan.slopes, values)
        else:
            kernels.dense_chain.forward(
                *helpers(rows * plan.largest // RATE), x, theta, plan.layers, plan.slopes, values
            )
        return values[used - rows * weights[-1].size : used].reshape(rows, weights[-1].size), (
            theta,
            values,
        )
    outputs = []
    for i, activation in enumerate(plan.activations):
        x, _ = dense_forward(x, weights[2 * i], weights[2 * i + 1], **_options(activation))
        outputs.append(x)
    return x, outputs


def _adjoint(
    g: Any,
    saved: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    plan: ChainPlan = options["plan"]
    x, weights = inputs[0], inputs[1:]
    if type(saved) is tuple:
        return _whole_adjoint(g, saved, x, weights, plan, wanted, places)
    cotangents: list[Any] = [None] * len(inputs)
    for i in range(len(plan.activations) - 1, -1, -1):
        before = saved[i - 1] if i else x
        part = slice(2 * i + 1, 2 * i + 3)
        g, *cotangents[part] = dense_adjoint(
            g,
            saved[i],
            (before, *weights[2 * i : 2 * i + 2]),
            _options(plan.activations[i]),
            (i > 0 or wanted[0], *wanted[part]),
            (None, *places[part]),
            own=i < len(plan.activations) - 1,
        )
    cotangents[0] = g
    return cotangents


def _whole_adjoint(
    g: Any,
    saved: Any,
    x: Any,
    weights: Sequence[Any],
    plan: ChainPlan,
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    theta, values = saved
    found = plan.gradients_in_one(places) if False not in wanted[1:] else None
    if found is not None:
        flat = found
        cotangents: list[Any] = [None, *places[1:]]
    else:
        flat = np.empty(theta.shape, theta.dtype)
        parts = np.split(flat, np.cumsum([w.size for w in weights])[:-1])
        views = [
            part.reshape(w.shape) if want else None
            for part, w, want in zip(parts, weights, wanted[1:], strict=True)
        ]
        cotangents = [None, *views]
    gx = np.empty(x.shape, x.dtype) if wanted[0] else g
    if len(x) <= plan.most_rows:
        kernels.dense.chain_adjoint(
            g, x, theta, plan.layers, plan.slopes, values, flat, gx, wanted[0]
        )
    else:
        working = helpers(len(x) * plan.largest // RATE)
        kernels.dense_chain.adjoint(
            *working,
            np.ascontiguousarray(g, x.dtype),
            x,
            theta,
            plan.layers,
            plan.slopes,
            values,
            flat,
            gx,
            np.array(wanted),
        )
    if wanted[0]:
        cotangents[0] = gx
    return cotangents


def _check_plan(
    sizes: Mapping[str, Any], arrays: Sequence[Any], options: Mapping[str, Any]
) -> None:
    own = tuple(sizes.values())[1:]
    if own != options["plan"].widths:
        raise misfit("dense chain", f"planned for widths {options['plan'].widths}, got {own}.")


def _form(n_inputs: int) -> Signature:
    layers = range(n_inputs // 2)
    axes = {
        name: text
        for k in layers
        for name, text in ((f"weight {k}", f"w{k} w{k + 1}"), (f"bias {k}", f"w{k + 1}"))
    }
    return Signature(also=_check_plan, x="*n w0", **axes)  # type: ignore[arg-type]


dense_chain = Fused(
    "dense chain",
    definition=_definition,
    forward=_forward,
    adjoint=_adjoint,
    form=Signatures(_form),
)

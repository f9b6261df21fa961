"""Dense layers one after another, with the dropout between them, as one operation: less to record,
and for small ones a single loop.
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
    dense_adjoint,
    dense_definition,
    dense_forward,
)
from ._dropout import Dropout
from ._learning_pass import Stream

__all__ = ["ChainPlan", "dense_chain", "loss_and_gradients", "words_of"]

SMALL_CHAIN = 1 << 13  # multiply-adds of the largest layer
FEWEST_ROWS = 8  # for which a loop along them is long enough
NO_WORDS = np.zeros(0, np.uint64)


@dataclass(frozen=True, slots=True)
class ChainPlan:
    """The layers of a chain: activations and slopes, how wide each is, and where in the arena they
    lie.
    """

    activations: tuple[tuple[str, float], ...]
    layers: np.ndarray
    """Widths of the input and of each layer; below them the numbers of the activations, and the
    thresholds of the dropout of each layer's input.
    """
    undropped: np.ndarray
    """The same without dropout."""
    slopes: np.ndarray
    dropouts: tuple[Dropout | None, ...]
    """Of the input of each layer."""
    scales: np.ndarray
    """Of what they keep."""
    span: tuple[int, int] | None
    """Start and stop of the parameters in the flat array they are views of, if they follow one
    another there.
    """
    most_rows: int
    """Up to so many rows loops along the examples beat the calls around the matrix products."""
    width_sum: int
    width_max: int
    largest: int
    """Of the weights."""
    arrays: tuple[np.ndarray, ...]
    """The parameters that it was made for."""
    widths: tuple[int, ...]
    theta: np.ndarray
    """The parameters in one, if they follow one another; else empty."""
    wanted: np.ndarray
    """Of the input and each parameter, whether its cotangent is: all but the input's."""
    placed: list[Any]
    """Where gradients were last written to, found to lie as the parameters do, and all of it in
    one.
    """

    @classmethod
    def of(
        cls,
        activations: Sequence[tuple[str, float] | None],
        weights: Sequence[np.ndarray],
        dropouts: Sequence[Dropout | None],
    ) -> ChainPlan:
        named = tuple(activation or ("none", 0.0) for activation in activations)
        widths = [weights[0].shape[0], *(w.shape[1] for w in weights[::2])]
        largest = max(a * b for a, b in pairwise(widths))
        span = _span(weights)
        dtype = weights[0].dtype
        numbers = [NUMBERS[name] for name, _ in named]
        thresholds = [0 if dropout is None else dropout.threshold for dropout in dropouts]
        scales = [1.0 if dropout is None else dropout.scale for dropout in dropouts]
        return cls(
            activations=named,
            layers=np.array([widths, [*numbers, 0], [*thresholds, 0]], dtype=np.int64),
            undropped=np.array([widths, [*numbers, 0], [0] * len(widths)], dtype=np.int64),
            slopes=np.array([slope for _, slope in named], dtype=dtype),
            dropouts=tuple(dropouts),
            scales=np.array(scales, dtype=dtype),
            span=span,
            most_rows=SMALL_CHAIN // largest,
            width_sum=sum(widths[1:]),
            width_max=max(widths),
            largest=largest,
            arrays=tuple(weights),
            widths=tuple(widths),
            theta=weights[0].base[span[0] : span[1]]
            if span is not None and weights[0].base is not None
            else weights[0][:0],
            wanted=np.arange(len(weights) + 1) > 0,
            placed=[],
        )

    def lies_before(self, weights: Sequence[np.ndarray]) -> bool:
        """Whether these are the parameters that it knows the place of."""
        return self.span is not None and all(map(is_, self.arrays, weights))

    def is_small(self, rows: int) -> bool:
        """Whether to go along so many examples in the innermost loops."""
        return FEWEST_ROWS <= rows <= self.most_rows

    def new_values(self, rows: int) -> np.ndarray:
        """Room for the results of all layers, and for what the loops of small ones need."""
        size = self.width_sum
        if self.is_small(rows):
            size += self.widths[0] + 2 * self.width_max + 2
        return np.empty(rows * size, self.theta.dtype)

    def streams(self, shape: tuple[int, ...]) -> tuple[Stream | None, ...]:
        """By which the dropout of each layer is drawn for an input of this shape."""
        return tuple(
            None if dropout is None else dropout.stream((*shape[:-1], width))
            for dropout, width in zip(self.dropouts, self.widths, strict=False)
        )

    def keys(self) -> tuple[tuple[int, int, int], ...]:
        """By which dropout is drawn: of which layer's input, the key, and how often it has drawn
        before.
        """
        found: list[tuple[int, int, int]] = []
        for layer, dropout in enumerate(self.dropouts):
            if dropout is not None and dropout.probability:
                key = dropout.random_key
                found.append((layer, key, sum(key == other for _, other, _ in found)))
        return tuple(found)

    def factors(self, layer: int, streams: Sequence[Stream | None], x: Any) -> np.ndarray | None:
        """Of the dropout of a layer's input."""
        stream, dropout = streams[layer], self.dropouts[layer]
        if stream is None or dropout is None:
            return None
        return dropout.factors_of(stream, x.shape, x.dtype)

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


def words_of(streams: Sequence[Stream | None]) -> np.ndarray | None:
    """As the loops take them: where each stream starts, and its first place; None if there are
    none.
    """
    if all(stream is None for stream in streams):
        return None
    pairs = [(0, 0) if stream is None else stream.place for stream in streams]
    return np.array(pairs, np.uint64).reshape(-1)


def _definition(x: Any, *weights: Any, plan: ChainPlan, streams: Sequence[Stream | None]) -> Any:
    for i, activation in enumerate(plan.activations):
        factors = plan.factors(i, streams, x)
        if factors is not None:
            x = x * factors
        x = dense_definition(x, weights[2 * i], weights[2 * i + 1], **_options(activation))
    return x


def _forward(
    x: Any, *weights: Any, plan: ChainPlan, streams: Sequence[Stream | None]
) -> tuple[Any, Any]:
    rows = x.shape[0]
    if x.ndim == 2 and plan.lies_before(weights):
        theta = plan.theta
        used = rows * plan.width_sum
        values = plan.new_values(rows)
        given = words_of(streams)
        layers, words = (plan.undropped, NO_WORDS) if given is None else (plan.layers, given)
        chain = (x, theta, layers, plan.slopes, words, plan.scales, values)
        if plan.is_small(rows):
            kernels.small_dense_chain.forward(*chain)
        else:
            kernels.dense_chain.forward(*helpers(rows * plan.largest // RATE), *chain)
        return values[used - rows * weights[-1].size : used].reshape(rows, weights[-1].size), (
            theta,
            layers,
            words,
            values,
        )
    saved = []
    for i, activation in enumerate(plan.activations):
        factors = plan.factors(i, streams, x)
        before = x if factors is None else x * factors
        x, _ = dense_forward(before, weights[2 * i], weights[2 * i + 1], **_options(activation))
        saved.append((before, factors, x))
    return x, saved


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
        before, factors, after = saved[i]
        part = slice(2 * i + 1, 2 * i + 3)
        g, *cotangents[part] = dense_adjoint(
            g,
            after,
            (before, *weights[2 * i : 2 * i + 2]),
            _options(plan.activations[i]),
            (i > 0 or wanted[0], *wanted[part]),
            (None, *places[part]),
            own=i < len(plan.activations) - 1,
        )
        if factors is not None and g is not None:
            g *= factors
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
    theta, layers, words, values = saved
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
    chain = (x, theta, layers, plan.slopes, words, plan.scales, values, flat, gx)
    if plan.is_small(len(x)):
        kernels.small_dense_chain.adjoint(np.ascontiguousarray(g), *chain, wanted[0])
    else:
        working = helpers(len(x) * plan.largest // RATE)
        kernels.dense_chain.adjoint(
            *working, np.ascontiguousarray(g, x.dtype), *chain, np.array(wanted)
        )
    if wanted[0]:
        cotangents[0] = gx
    return cotangents


def loss_and_gradients(
    loop: str,
    plan: ChainPlan,
    x: np.ndarray,
    targets: np.ndarray,
    words: np.ndarray | None,
    gradient: np.ndarray,
) -> tuple[np.ndarray, float, int]:
    """What one loop of `kernels.dense_step` gives: outputs, the sum of the losses, and the first
    row with a bad target, or -1. The parameters' gradients of the mean are in `gradient` then, if
    the loss is finite. `words` are those of the dropout, if there is any.
    """
    rows, width = x.shape[0], plan.widths[-1]
    used = rows * plan.width_sum
    layers = plan.undropped if words is None else plan.layers
    values = plan.new_values(rows)
    few = plan.is_small(rows)
    board, threads = helpers(0 if few else rows * plan.largest // RATE)
    total, bad = getattr(kernels.dense_step, loop)(
        board,
        threads,
        x,
        targets,
        plan.theta,
        layers,
        plan.slopes,
        NO_WORDS if words is None else words,
        plan.scales,
        values,
        np.empty((rows, width), x.dtype),
        gradient,
        plan.wanted,
        few,
    )
    return values[used - rows * width : used].reshape(rows, width), total, bad


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

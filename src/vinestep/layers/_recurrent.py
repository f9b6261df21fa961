"""Recurrent layers over sequences ``(batch, time, features)``.

Gates stand in the order of the operators RNN, GRU and LSTM of the open standard ONNX: update,
reset, new for the GRU (with linear_before_reset=0), input, output, forget, new for the LSTM. Ours
differ in layout only: batch before time, weights ``(n_in, gates * width)``, and one bias a gate in
place of two that are added.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, ClassVar, Literal

import numpy as np

from .. import kernels
from .._activations import sigmoid
from ..autodiff.fused import Fused
from ..autodiff.registry import Rule
from ..autodiff.signatures import Signature, misfit
from ..autodiff.tensor import apply, held
from ..errors import LayerError, ShapeError
from ..initialisers import (
    Initialiser,
    glorot_uniform,
    orthogonal,
    zeros,
)
from ..kernels.machinery.grain_sizes import BLOCKS, RATE, TILE
from ..kernels.machinery.pool import in_parts, spans
from ..kernels.products import places, product, transposed_product
from ..parts._registry import part
from ._base import Layer
from ._dropout import Dropout

__all__ = ["GRU", "LSTM", "Recurrent"]

States = list[tuple[Any, ...]]


def _per_gate(initialiser: Initialiser, gates: int) -> Initialiser:
    """Each gate's weights drawn by themselves, side by side."""

    def draw(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
        return np.concatenate(
            [initialiser(rng, (shape[0], shape[1] // gates)) for _ in range(gates)], axis=1
        )

    return draw


def _times(n: int, backwards: bool) -> range:
    return range(n - 1, -1, -1) if backwards else range(n)


def _flushed(g: Any) -> Any:
    """0 in place of numbers of which a gate can make such as are not normal: cotangents vanish in
    long sequences, and with those numbers a processor is a hundred times slower.
    """
    limits = np.finfo(g.dtype)
    vanished = np.abs(held(g)) < limits.tiny / limits.eps
    return np.where(vanished, g.dtype.type(0), g) if vanished.any() else g


_to_next_time = Rule("to the next time", lambda x: x[...], [lambda g, y, x: _flushed(g)])


def _through_time(
    z: Any,
    states: tuple[Any, ...],
    advance: Callable[..., tuple[Any, ...]],
    mask: np.ndarray | None,
    backwards: bool,
) -> list[tuple[Any, ...]]:
    """The states at each time; where the mask hides a sequence they stay as they were, and nothing
    is computed.
    """
    result: list[tuple[Any, ...]] = [()] * z.shape[1]
    for t in _times(z.shape[1], backwards):
        states = tuple(apply(_to_next_time, (state,), {}) for state in states)
        if mask is None or mask[:, t].all():
            result[t] = states = advance(z[:, t], states)
            continue
        here, away = np.flatnonzero(mask[:, t]), np.flatnonzero(~mask[:, t])
        order = np.argsort(np.concatenate([here, away]))
        new = advance(z[here, t], tuple(state[here] for state in states))
        result[t] = states = tuple(
            np.concatenate([after, before[away]])[order]
            for after, before in zip(new, states, strict=True)
        )
    return result


def _where_present(x: Any, mask: np.ndarray | None) -> Any:
    """Zero where there is no value: what stands there must not even be multiplied by zero."""
    return x if mask is None else np.where(mask[..., None], x, 0.0)


class _Cell(Layer):
    """One layer in one direction."""

    gates: ClassVar[int] = 1
    n_states: ClassVar[int] = 1
    weight: Any
    recurrent: Any
    bias: Any

    def __init__(
        self,
        width: int,
        initialiser: Initialiser,
        recurrent_initialiser: Initialiser,
        activation: Callable[..., Any],
    ) -> None:
        self.width, self.activation = width, activation
        self.initialiser, self.recurrent_initialiser = initialiser, recurrent_initialiser

    def declare(self, shape: tuple[int, ...]) -> None:
        self.parameter(
            "weight", (shape[-1], self.gates * self.width), _per_gate(self.initialiser, self.gates)
        )
        self.parameter(
            "recurrent",
            (self.width, self.gates * self.width),
            _per_gate(self.recurrent_initialiser, self.gates),
        )
        self.parameter("bias", (self.gates * self.width,), self.first_bias)

    def first_bias(self, rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
        """How the biases begin."""
        return zeros(rng, shape)

    def advance(self, z: Any, states: tuple[Any, ...]) -> tuple[Any, ...]:
        """The next states; `z` is what the input contributes to the gates. The first state is the
        output.
        """
        raise NotImplementedError

    def gate(self, z: Any, number: int) -> Any:
        """The part of the gates that belongs to one of them."""
        return z[..., number * self.width : (number + 1) * self.width]

    def compute(
        self, x: Any, mask: Any, states: tuple[Any, ...], backwards: bool
    ) -> tuple[Any, tuple[Any, ...]]:
        z = np.matmul(_where_present(x, mask), self.weight) + self.bias
        result = _through_time(z, states, self.advance, mask, backwards)
        return np.stack([now[0] for now in result], axis=1), result[0 if backwards else -1]

    def multiply_adds(self, shape: tuple[int, ...], output: tuple[int, ...]) -> int:
        return shape[0] * shape[1] * (int(self.weight.size) + int(self.recurrent.size))


class _PlainCell(_Cell):
    def advance(self, z: Any, states: tuple[Any, ...]) -> tuple[Any, ...]:
        return (self.activation(z + np.matmul(states[0], self.recurrent)),)


class _GRUCell(_Cell):
    gates = 3

    def advance(self, z: Any, states: tuple[Any, ...]) -> tuple[Any, ...]:
        (h,) = states
        two = 2 * self.width
        both = sigmoid(z[..., :two] + np.matmul(h, self.recurrent[:, :two]))
        update, reset = self.gate(both, 0), self.gate(both, 1)
        new = np.tanh(z[..., two:] + np.matmul(reset * h, self.recurrent[:, two:]))
        return ((1 - update) * new + update * h,)


def _lstm_step(z: Any, h: Any, c: Any, recurrent: Any) -> tuple[Any, Any]:
    z = z + np.matmul(h, recurrent)
    width = h.shape[-1]
    let_in, out, forget = (sigmoid(z[..., i * width : (i + 1) * width]) for i in range(3))
    c = forget * c + let_in * np.tanh(z[..., 3 * width :])
    return out * np.tanh(c), c


def _lstm_definition(
    x: Any,
    weight: Any,
    recurrent: Any,
    bias: Any,
    h: Any,
    c: Any,
    *,
    mask: np.ndarray | None,
    backwards: bool,
) -> Any:
    """Outputs and cells side by side: (batch, time, 2 * width)."""
    z = np.matmul(_where_present(x, mask), weight) + bias
    result = _through_time(
        z, (h, c), lambda z, states: _lstm_step(z, states[0], states[1], recurrent), mask, backwards
    )
    return np.stack([np.concatenate(states, axis=-1) for states in result], axis=1)


def _blocks(*matrices: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The columns of matrices one above the other in blocks, each contiguous, and where each
    begins; the last may overlap another.
    """
    width = matrices[0].shape[1]
    wide, narrow = BLOCKS
    block = min(
        narrow if -(-width // wide) * wide > 1.1 * width else wide, width
    )  # wide ones are about as much faster
    starts = np.minimum(np.arange(0, width, block), width - block)
    blocks = np.empty((len(starts), sum(map(len, matrices)), block), matrices[0].dtype)
    for start, room in zip(starts, blocks, strict=True):
        np.concatenate([matrix[:, start : start + block] for matrix in matrices], out=room)
    return blocks, starts


def _begins(sequences: np.ndarray, depth: int) -> tuple[np.ndarray, np.ndarray]:
    """Where the sequences begin, and elements lie in what is there at one time."""
    rows, columns = places(len(sequences), sequences[:1].size)
    return rows, columns[:depth]


def _present(mask: np.ndarray | None, batch: int, time: int) -> np.ndarray:
    return np.ones((batch, time), bool) if mask is None else np.ascontiguousarray(mask)


def _lstm_forward(
    x: Any,
    weight: Any,
    recurrent: Any,
    bias: Any,
    h: Any,
    c: Any,
    *,
    mask: np.ndarray | None,
    backwards: bool,
) -> tuple[Any, Any]:
    batch, time, n_in = x.shape
    width, dtype = recurrent.shape[0], weight.dtype
    present = _present(mask, batch, time)
    seen = np.empty((batch, time, n_in + width + 1), dtype)
    seen[..., :n_in] = _where_present(x, mask)
    gates, states = (
        np.empty((batch, time, 4 * width), dtype),
        np.empty((batch, time, 2 * width), dtype),
    )
    bounded = np.empty((batch, time, width), dtype)
    bias, h, c = (np.ascontiguousarray(array, dtype) for array in (bias, h, c))
    blocks, starts = _blocks(weight, recurrent)
    rows, columns = _begins(seen, n_in + width)

    def compute(start: int, stop: int) -> None:
        kernels.recurrent.advance(
            seen,
            gates,
            rows,
            columns,
            blocks,
            starts,
            bias,
            h,
            c,
            states,
            bounded,
            present,
            backwards,
            start,
            stop,
        )

    in_parts(compute, _parts(batch, time, width))
    if mask is not None:
        seen[~present] = 0
    return states, (seen, gates, states, bounded, present, c)


def _parts(batch: int, time: int, width: int) -> list[tuple[int, int]]:
    """One share of the sequences a thread: they go through all times by themselves."""
    return spans(batch, each=time * 4 * width * (1 + width // RATE), multiple=TILE, shares=1)


def _lstm_adjoint(
    g: Any,
    saved: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    _, weight, recurrent, *_ = inputs
    seen, gates, states, bounded, present, c = saved
    batch, time, width = bounded.shape
    backwards, dtype = options["backwards"], weight.dtype
    g = np.ascontiguousarray(g, dtype)
    gz = np.empty((batch, time, 4 * width), dtype)
    gh, gc, kept = np.zeros((3, batch, width), dtype)
    blocks, starts = _blocks(recurrent.T)
    nothing = np.zeros(width, dtype)
    rows, columns = _begins(gates, 4 * width)

    def compute(start: int, stop: int) -> None:
        kernels.recurrent.retreat(
            g,
            gates,
            rows,
            columns,
            blocks,
            starts,
            c,
            states,
            bounded,
            present,
            gz,
            gh,
            gc,
            kept,
            nothing,
            backwards,
            start,
            stop,
        )

    in_parts(compute, _parts(batch, time, width))
    flat = gz.reshape(batch * time, 4 * width)
    gx = None
    if wanted[0]:
        gx = product(flat, np.ascontiguousarray(weight.T)).reshape(batch, time, weight.shape[0])
        gx[~present] = 0
    parameters: list[np.ndarray | None] = [None, None, None]
    if any(wanted[1:4]):
        together = transposed_product(seen.reshape(batch * time, -1), flat)
        found = (together[: len(weight)], together[len(weight) : -1], together[-1])
        parameters = [
            _into(*pair) if want else None
            for *pair, want in zip(places[1:4], found, wanted[1:4], strict=True)
        ]
    return [gx, *parameters, gh if wanted[4] else None, gc if wanted[5] else None]


def _into(place: np.ndarray | None, found: np.ndarray) -> np.ndarray:
    if place is None:
        return found
    place[...] = found
    return place


def _check_gates(
    sizes: Mapping[str, Any], arrays: Sequence[Any], options: Mapping[str, Any]
) -> None:
    if sizes["gates"] != 4 * sizes["width"] or sizes["time"] < 1:
        raise misfit(
            "lstm",
            f"{sizes['gates']} columns for 4 gates of width {sizes['width']}, {sizes['time']} "
            "times.",
        )
    mask = options["mask"]
    if mask is not None and (mask.shape != (sizes["batch"], sizes["time"]) or mask.dtype != bool):
        raise misfit(
            "lstm",
            f"the mask has shape {mask.shape} and dtype {mask.dtype}, expected bool "
            f"{(sizes['batch'], sizes['time'])}.",
        )


lstm = Fused(
    "lstm",
    definition=_lstm_definition,
    forward=_lstm_forward,
    adjoint=_lstm_adjoint,
    form=Signature(
        also=_check_gates,
        x="batch time features",
        weight="features gates",
        recurrent="width gates",
        bias="gates",
        h="batch width",
        c="batch width",
    ),
)


class _LSTMCell(_Cell):
    gates = 4
    n_states = 2

    def first_bias(self, rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
        """1 for the forget gate, so that the cell keeps its state at first (R. Jozefowicz et al.,
        ICML 2015, section 2.2).
        """
        bias = np.zeros(shape)
        bias[2 * self.width : 3 * self.width] = 1.0
        return bias

    def compute(
        self, x: Any, mask: Any, states: tuple[Any, ...], backwards: bool
    ) -> tuple[Any, tuple[Any, ...]]:
        both = lstm(
            x, self.weight, self.recurrent, self.bias, *states, mask=mask, backwards=backwards
        )
        last = both[:, 0 if backwards else -1]
        return both[..., : self.width], (last[..., : self.width], last[..., self.width :])


class _Sequence(Layer):
    """What the three have in common: depth, directions, masks, hidden states."""

    axes = "batch time features"
    cell: ClassVar[type[_Cell]]

    def __init__(
        self,
        width: int,
        *,
        depth: int = 1,
        bidirectional: bool = False,
        dropout: float = 0.0,
        output: Literal["sequence", "last"] = "sequence",
        initialiser: Initialiser = glorot_uniform,
        recurrent_initialiser: Initialiser = orthogonal,
        activation: Callable[..., Any] = np.tanh,
    ) -> None:
        if width < 1 or depth < 1:
            raise LayerError(
                f"{type(self).__name__}: width and depth must be at least 1, got {width} and "
                f"{depth}."
            )
        if output not in ("sequence", "last"):
            raise LayerError(
                f'{type(self).__name__}: output must be "sequence" or "last", got {output!r}.'
            )
        self.width, self.depth, self.bidirectional, self.dropout, self.output = (
            width,
            depth,
            bidirectional,
            dropout,
            output,
        )
        self.initialiser, self.recurrent_initialiser, self.activation = (
            initialiser,
            recurrent_initialiser,
            activation,
        )
        directions = 2 if bidirectional else 1
        self.levels = [
            [
                self.cell(width, initialiser, recurrent_initialiser, activation)
                for _ in range(directions)
            ]
            for _ in range(depth)
        ]
        self.between = [Dropout(dropout) for _ in range(depth - 1)]

    def compute(
        self, x: Any, mask: Any = None, states: States | None = None, *, with_states: bool = False
    ) -> Any:
        """
        Parameters
        ----------
        x : shape (batch, time, features)
        mask : shape (batch, time), optional
            False where a sequence has no value any more; states then stay as they were.
        states : list of tuples of arrays of shape (batch, width), optional
            One tuple for each level and direction, as `with_states` gave them; zeros by default.
        """
        if x.shape[1] < 1:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, time, features) with at least "
                f"one time, got {tuple(x.shape)}."
            )
        present = self._mask(x, mask)
        given = self._states(x, states)
        after: States = []
        for number, level in enumerate(self.levels):
            if number:
                x = self.between[number - 1](x)
            parts = []
            for backwards, cell in enumerate(level):
                y, end = cell(x, present, given[len(after)], bool(backwards))
                parts.append(y)
                after.append(end)
            x = np.concatenate(parts, axis=-1) if len(parts) > 1 else parts[0]
        if self.output == "last":
            x = np.concatenate([end[0] for end in after[-len(self.levels[0]) :]], axis=-1)
        return (x, after) if with_states else x

    def _mask(self, x: Any, mask: Any) -> np.ndarray | None:
        if mask is None:
            return None
        present = np.asarray(held(mask)).astype(bool)
        if present.shape != tuple(x.shape[:2]):
            raise ShapeError(
                f"{self._label}: the mask has shape {present.shape}, the sequences are "
                f"{tuple(x.shape[:2])}."
            )
        empty = np.flatnonzero(~present.any(axis=1))
        if empty.size:
            raise ShapeError(
                f"{self._label}: the mask hides all of sequence {empty[0]}. Leave empty sequences "
                "out of the batch."
            )
        return present

    def _states(self, x: Any, states: States | None) -> States:
        cells = [cell for level in self.levels for cell in level]
        if states is None:
            zero = np.zeros((x.shape[0], self.width), x.dtype)
            return [(zero,) * cell.n_states for cell in cells]
        if len(states) != len(cells) or any(
            np.shape(held(s)) != (x.shape[0], self.width) for group in states for s in group
        ):
            raise ShapeError(
                f"{self._label}: expected states for {len(cells)} depths and directions, each of "
                f"shape ({x.shape[0]}, {self.width})."
            )
        return states


@part("recurrent", "layer")
class Recurrent(_Sequence):
    """The plain recurrence ``h = activation(x @ weight + h @ recurrent + bias)``; the operator RNN
    of the open standard ONNX.

    Parameters
    ----------
    width : int
    depth : int
        Number of layers, each reading the outputs of the one before.
    bidirectional : bool
        Also read from the end to the beginning; outputs are concatenated.
    dropout : float
        Between one depth and the next.
    output : {"sequence", "last"}
        All outputs, ``(batch, time, width)``, or the state at the end, ``(batch, width)``: of
        masked sequences at their own end, of backward ones at the beginning.
    initialiser, recurrent_initialiser : initialiser
        Of the weights on the input and on the state; Glorot's uniform and orthogonal by default.
    activation : callable
        Of the new state.

    Examples
    --------
    >>> Recurrent(4, output="last").initialise(np.ones((1, 5, 3)))(np.ones((2, 5, 3))).shape
    (2, 4)
    """

    cell = _PlainCell


class _Gated(_Sequence):
    """Without a choice of activation."""

    def __init__(
        self,
        width: int,
        *,
        depth: int = 1,
        bidirectional: bool = False,
        dropout: float = 0.0,
        output: Literal["sequence", "last"] = "sequence",
        initialiser: Initialiser = glorot_uniform,
        recurrent_initialiser: Initialiser = orthogonal,
    ) -> None:
        super().__init__(
            width,
            depth=depth,
            bidirectional=bidirectional,
            dropout=dropout,
            output=output,
            initialiser=initialiser,
            recurrent_initialiser=recurrent_initialiser,
        )


@part("gru", "layer")
class GRU(_Gated):
    """Gated recurrent units; parameters as for `Recurrent`, without activation.

    K. Cho et al., "Learning Phrase Representations using RNN Encoder-Decoder", EMNLP 2014,
    equations 5 to 8, with update and ``1 - update`` as in the operator GRU of the open standard
    ONNX.

    Examples
    --------
    >>> GRU(4, bidirectional=True).initialise(np.ones((1, 5, 3)))(np.ones((2, 5, 3))).shape
    (2, 5, 8)
    """

    cell = _GRUCell


@part("lstm", "layer")
class LSTM(_Gated):
    """Long short-term memory; parameters as for `Recurrent`, without activation.

    S. Hochreiter and J. Schmidhuber, Neural Computation 9(8), 1735-1780, 1997, with the forget gate
    of F. A. Gers et al., 2000; the operator LSTM of the open standard ONNX without peepholes. A
    state is the pair (output, cell).

    Examples
    --------
    >>> layer = LSTM(4, depth=2).initialise(np.ones((1, 5, 3)))
    >>> y, states = layer(np.ones((2, 5, 3)), with_states=True)
    >>> y.shape, len(states), states[0][1].shape
    ((2, 5, 4), 2, (2, 4))
    """

    cell = _LSTMCell

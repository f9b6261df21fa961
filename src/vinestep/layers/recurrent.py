"""Recurrent layers over sequences ``(batch, time, features)``.

Gates stand in the order of the operators RNN, GRU and LSTM of the open standard ONNX: update, reset, new for the GRU (with
linear_before_reset=0), input, output, forget, new for the LSTM. Ours differ in layout only: batch before time, weights
``(n_in, gates * width)``, and one bias a gate in place of two that are added.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, ClassVar, Literal

import numpy as np

from .. import kernels
from ..activations import sigmoid
from ..autodiff.fused import Fused
from ..autodiff.tensor import held
from ..errors import LayerError, ShapeError
from ..initialisers import Initialiser, glorot_uniform, orthogonal, zeros
from .base import Layer
from .dropout import Dropout

__all__ = ["GRU", "LSTM", "Recurrent"]

States = list[tuple[Any, ...]]


def _per_gate(initialiser: Initialiser, gates: int) -> Initialiser:
    """Each gate's weights drawn by themselves, side by side."""

    def draw(rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
        return np.concatenate([initialiser(rng, (shape[0], shape[1] // gates)) for _ in range(gates)], axis=1)

    return draw


def _times(n: int, backwards: bool) -> range:
    return range(n - 1, -1, -1) if backwards else range(n)


def _through_time(
    z: Any, states: tuple[Any, ...], advance: Callable[..., tuple[Any, ...]], mask: np.ndarray | None, backwards: bool
) -> list[tuple[Any, ...]]:
    """The states at each time; where the mask hides a sequence they stay as they were."""
    found: list[tuple[Any, ...]] = [()] * z.shape[1]
    for t in _times(z.shape[1], backwards):
        new = advance(z[:, t], states)
        if mask is not None:
            present = mask[:, t, None]
            new = tuple(np.where(present, after, before) for after, before in zip(new, states, strict=True))
        found[t] = states = new
    return found


class _Cell(Layer):
    """One level in one direction."""

    gates: ClassVar[int] = 1
    n_states: ClassVar[int] = 1
    weight: Any
    memory: Any
    bias: Any

    def __init__(self, width: int, weights: Initialiser, memory: Initialiser, **settings: Any) -> None:
        self.width, self.weights_from, self.memory_from = width, weights, memory
        self.settings = settings

    def declare(self, shape: tuple[int, ...]) -> None:
        self.parameter("weight", (shape[-1], self.gates * self.width), _per_gate(self.weights_from, self.gates))
        self.parameter("memory", (self.width, self.gates * self.width), _per_gate(self.memory_from, self.gates))
        self.parameter("bias", (self.gates * self.width,), self.first_bias)

    def first_bias(self, rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
        """How the biases begin."""
        return zeros(rng, shape)

    def advance(self, z: Any, states: tuple[Any, ...]) -> tuple[Any, ...]:
        """The next states; `z` is what the input contributes to the gates. The first state is the output."""
        raise NotImplementedError

    def gate(self, z: Any, number: int) -> Any:
        """The part of the gates that belongs to one of them."""
        return z[..., number * self.width : (number + 1) * self.width]

    def compute(self, x: Any, mask: Any, states: tuple[Any, ...], backwards: bool) -> tuple[Any, tuple[Any, ...]]:
        z = np.matmul(x, self.weight) + self.bias
        found = _through_time(z, states, self.advance, mask, backwards)
        return np.stack([now[0] for now in found], axis=1), found[0 if backwards else -1]

    def multiply_adds(self, shape: tuple[int, ...], output: tuple[int, ...]) -> int:
        return shape[0] * shape[1] * (int(self.weight.size) + int(self.memory.size))


class _PlainCell(_Cell):
    def advance(self, z: Any, states: tuple[Any, ...]) -> tuple[Any, ...]:
        return (self.settings["activation"](z + np.matmul(states[0], self.memory)),)


class _GRUCell(_Cell):
    gates = 3

    def advance(self, z: Any, states: tuple[Any, ...]) -> tuple[Any, ...]:
        (h,) = states
        two = 2 * self.width
        both = sigmoid(z[..., :two] + np.matmul(h, self.memory[:, :two]))
        update, reset = self.gate(both, 0), self.gate(both, 1)
        new = np.tanh(z[..., two:] + np.matmul(reset * h, self.memory[:, two:]))
        return ((1 - update) * new + update * h,)


def _lstm_step(z: Any, h: Any, c: Any, memory: Any) -> tuple[Any, Any]:
    z = z + np.matmul(h, memory)
    width = h.shape[-1]
    let_in, out, forget = (sigmoid(z[..., i * width : (i + 1) * width]) for i in range(3))
    c = forget * c + let_in * np.tanh(z[..., 3 * width :])
    return out * np.tanh(c), c


def _lstm_definition(x: Any, weight: Any, memory: Any, bias: Any, h: Any, c: Any, *, mask: np.ndarray | None, backwards: bool) -> Any:
    """Outputs and cells side by side: (batch, time, 2 * width)."""
    z = np.matmul(x, weight) + bias
    found = _through_time(z, (h, c), lambda z, states: _lstm_step(z, states[0], states[1], memory), mask, backwards)
    return np.stack([np.concatenate(states, axis=-1) for states in found], axis=1)


def _present(mask: np.ndarray | None, batch: int, time: int) -> np.ndarray:
    """The mask, time first."""
    return np.ones((time, batch), bool) if mask is None else np.ascontiguousarray(mask.T)


def _lstm_forward(
    x: Any, weight: Any, memory: Any, bias: Any, h: Any, c: Any, *, mask: np.ndarray | None, backwards: bool
) -> tuple[Any, Any]:
    batch, time, n_in = x.shape
    width = memory.shape[0]
    present, half = _present(mask, batch, time), weight.dtype.type(0.5)
    rows = np.ascontiguousarray(np.swapaxes(x, 0, 1)).reshape(time * batch, n_in)
    gates = np.matmul(rows, weight)
    gates += bias
    gates = gates.reshape(time, batch, 4 * width)
    outputs, cells, bounded = np.empty((3, time, batch, width), weight.dtype)
    by_memory = np.empty((batch, 4 * width), weight.dtype)
    before_h, before_c = np.ascontiguousarray(h, weight.dtype), np.ascontiguousarray(c, weight.dtype)
    for t in _times(time, backwards):
        np.matmul(before_h, memory, out=by_memory)
        kernels.recurrent.scaled_sum(gates[t], by_memory, width, half)
        np.tanh(gates[t], out=gates[t])
        kernels.recurrent.advance_cell(gates[t], before_c, cells[t], present[t], half)
        np.tanh(cells[t], out=bounded[t])
        kernels.recurrent.advance_output(gates[t], bounded[t], before_h, outputs[t], present[t])
        before_h, before_c = outputs[t], cells[t]
    result = np.concatenate([np.swapaxes(outputs, 0, 1), np.swapaxes(cells, 0, 1)], axis=-1)
    return result, (rows, gates, outputs, cells, bounded, present)


def _shifted(states: np.ndarray, first: Any, backwards: bool) -> np.ndarray:
    """What each time began from: the states of the time before it, and the given ones at the beginning."""
    before = np.empty_like(states)
    if backwards:
        before[:-1], before[-1] = states[1:], first
    else:
        before[1:], before[0] = states[:-1], first
    return before


def _lstm_adjoint(
    g: Any, saved: Any, inputs: Sequence[Any], options: dict[str, Any], wanted: Sequence[bool], places: Sequence[Any]
) -> list[Any]:
    _, weight, memory, _, h, c = inputs
    rows, gates, outputs, cells, bounded, present = saved
    time, batch, width = outputs.shape
    before_h, before_c = _shifted(outputs, h, options["backwards"]), _shifted(cells, c, options["backwards"])
    g_time = np.ascontiguousarray(np.swapaxes(g, 0, 1))
    gz = np.empty((time, batch, 4 * width), weight.dtype)
    gh, gc, kept = np.zeros((3, batch, width), weight.dtype)
    turned = memory.T
    for t in reversed(_times(time, options["backwards"])):
        gh += g_time[t, :, :width]
        gc += g_time[t, :, width:]
        kernels.recurrent.retreat(gh, gc, gates[t], bounded[t], before_c[t], gz[t], kept, present[t])
        np.matmul(gz[t], turned, out=gh)
        gh += kept
    flat = gz.reshape(time * batch, 4 * width)
    gx = np.swapaxes(np.matmul(flat, weight.T).reshape(time, batch, -1), 0, 1) if wanted[0] else None
    g_weight = np.matmul(rows.T, flat, out=places[1]) if wanted[1] else None
    g_memory = np.matmul(before_h.reshape(time * batch, width).T, flat, out=places[2]) if wanted[2] else None
    g_bias = np.add.reduce(flat, axis=0, out=places[3]) if wanted[3] else None
    return [gx, g_weight, g_memory, g_bias, gh if wanted[4] else None, gc if wanted[5] else None]


lstm = Fused("lstm", definition=_lstm_definition, forward=_lstm_forward, adjoint=_lstm_adjoint)


class _LSTMCell(_Cell):
    gates = 4
    n_states = 2

    def first_bias(self, rng: np.random.Generator, shape: tuple[int, ...]) -> np.ndarray:
        """1 for the forget gate, so that memory is kept at first (R. Jozefowicz et al., ICML 2015, section 2.2)."""
        bias = np.zeros(shape)
        bias[2 * self.width : 3 * self.width] = 1.0
        return bias

    def compute(self, x: Any, mask: Any, states: tuple[Any, ...], backwards: bool) -> tuple[Any, tuple[Any, ...]]:
        both = lstm(x, self.weight, self.memory, self.bias, *states, mask=mask, backwards=backwards)
        last = both[:, 0 if backwards else -1]
        return both[..., : self.width], (last[..., : self.width], last[..., self.width :])


class _Sequence(Layer):
    """What the three share: levels, directions, masks, states handed in and out."""

    cell: ClassVar[type[_Cell]]

    def __init__(
        self,
        width: int,
        *,
        levels: int = 1,
        both_ways: bool = False,
        dropout: float = 0.0,
        gives: Literal["sequence", "last"] = "sequence",
        weights: Initialiser = glorot_uniform,
        memory: Initialiser = orthogonal,
        **settings: Any,
    ) -> None:
        if width < 1 or levels < 1:
            raise LayerError(f"{type(self).__name__}: width and levels must be at least 1, got {width} and {levels}.")
        if gives not in ("sequence", "last"):
            raise LayerError(f'{type(self).__name__}: gives must be "sequence" or "last", got {gives!r}.')
        self.width, self.gives = width, gives
        directions = 2 if both_ways else 1
        self.levels = [[self.cell(width, weights, memory, **settings) for _ in range(directions)] for _ in range(levels)]
        self.between = [Dropout(dropout) for _ in range(levels - 1)]

    def compute(self, x: Any, mask: Any = None, states: States | None = None, *, with_states: bool = False) -> Any:
        """
        Parameters
        ----------
        x : shape (batch, time, features)
        mask : shape (batch, time), optional
            False where a sequence has no value any more; states then stay as they were.
        states : list of tuples of arrays of shape (batch, width), optional
            One tuple for each level and direction, as `with_states` gave them; zeros by default.
        """
        if x.ndim != 3 or x.shape[1] < 1:
            raise ShapeError(
                f"{self._label}: expected input of shape (batch, time, features) with at least one time, got {tuple(x.shape)}."
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
        if self.gives == "last":
            x = np.concatenate([end[0] for end in after[-len(self.levels[0]) :]], axis=-1)
        return (x, after) if with_states else x

    def _mask(self, x: Any, mask: Any) -> np.ndarray | None:
        if mask is None:
            return None
        present = np.asarray(held(mask)).astype(bool)
        if present.shape != tuple(x.shape[:2]):
            raise ShapeError(f"{self._label}: the mask has shape {present.shape}, the sequences are {tuple(x.shape[:2])}.")
        empty = np.flatnonzero(~present.any(axis=1))
        if empty.size:
            raise ShapeError(f"{self._label}: the mask hides all of sequence {empty[0]}. Leave empty sequences out of the batch.")
        return present

    def _states(self, x: Any, states: States | None) -> States:
        cells = [cell for level in self.levels for cell in level]
        if states is None:
            zero = np.zeros((x.shape[0], self.width), x.dtype)
            return [(zero,) * cell.n_states for cell in cells]
        if len(states) != len(cells) or any(np.shape(held(s)) != (x.shape[0], self.width) for group in states for s in group):
            raise ShapeError(
                f"{self._label}: expected states for {len(cells)} levels and directions, each of shape ({x.shape[0]}, {self.width})."
            )
        return states


class Recurrent(_Sequence):
    """The plain recurrence ``h = activation(x @ weight + h @ memory + bias)``; the operator RNN of the open standard ONNX.

    Parameters
    ----------
    width : int
    levels : int
        How many on top of each other.
    both_ways : bool
        A second one from the end to the beginning, side by side with the first.
    dropout : float
        Between levels.
    gives : {"sequence", "last"}
        All outputs, ``(batch, time, width)``, or the state at the end, ``(batch, width)``: of masked sequences at their own end,
        of backward ones at the beginning.
    weights, memory : initialiser
        Of the weights on the input and on the state; Glorot's uniform and orthogonal by default.
    activation : callable

    Examples
    --------
    >>> Recurrent(4, gives="last").initialise(np.ones((1, 5, 3)))(np.ones((2, 5, 3))).shape
    (2, 4)
    """

    cell = _PlainCell

    def __init__(self, width: int, *, activation: Callable[..., Any] = np.tanh, **options: Any) -> None:
        super().__init__(width, activation=activation, **options)


class GRU(_Sequence):
    """Gated recurrent units; parameters as for `Recurrent`, without activation.

    K. Cho et al., "Learning Phrase Representations using RNN Encoder-Decoder", EMNLP 2014, equations 5 to 8, with update and
    ``1 - update`` as in the operator GRU of the open standard ONNX.

    Examples
    --------
    >>> GRU(4, both_ways=True).initialise(np.ones((1, 5, 3)))(np.ones((2, 5, 3))).shape
    (2, 5, 8)
    """

    cell = _GRUCell


class LSTM(_Sequence):
    """Long short-term memory; parameters as for `Recurrent`, without activation.

    S. Hochreiter and J. Schmidhuber, Neural Computation 9(8), 1735-1780, 1997, with the forget gate of F. A. Gers et al., 2000;
    the operator LSTM of the open standard ONNX without peepholes. A state is the pair (output, cell).

    Examples
    --------
    >>> layer = LSTM(4, levels=2).initialise(np.ones((1, 5, 3)))
    >>> y, states = layer(np.ones((2, 5, 3)), with_states=True)
    >>> y.shape, len(states), states[0][1].shape
    ((2, 5, 4), 2, (2, 4))
    """

    cell = _LSTMCell

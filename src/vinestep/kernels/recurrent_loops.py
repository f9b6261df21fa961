"""Loops of the LSTM, one time at a time. Gates stand side by side: input, output, forget, new; `present` marks sequences that
still have a value."""

from __future__ import annotations

from .compiling import kernel

__all__ = ["advance_cell", "advance_output", "retreat", "scaled_sum"]


@kernel
def scaled_sum(z, by_memory, width, half):
    """``z + by_memory``, halved for the three sigmoids: ``sigmoid(a) = (1 + tanh(a / 2)) / 2``, so that one tanh serves all."""
    for i in range(z.shape[0]):
        for j in range(3 * width):
            z[i, j] = (z[i, j] + by_memory[i, j]) * half
        for j in range(3 * width, 4 * width):
            z[i, j] += by_memory[i, j]


@kernel
def advance_cell(gates, before, after, present, half):
    """From hyperbolic tangents to gates, in place, and the next cell."""
    width = before.shape[1]
    for i in range(gates.shape[0]):
        for j in range(3 * width):
            gates[i, j] = gates[i, j] * half + half
        if present[i]:
            for j in range(width):
                after[i, j] = gates[i, 2 * width + j] * before[i, j] + gates[i, j] * gates[i, 3 * width + j]
        else:
            for j in range(width):
                after[i, j] = before[i, j]


@kernel
def advance_output(gates, bounded, before, after, present):
    """The next output, from the tangent of the cell."""
    width = before.shape[1]
    for i in range(gates.shape[0]):
        if present[i]:
            for j in range(width):
                after[i, j] = gates[i, width + j] * bounded[i, j]
        else:
            for j in range(width):
                after[i, j] = before[i, j]


@kernel
def retreat(gh, gc, gates, bounded, before, gz, kept, present):
    """Cotangents one time back: of the gates' sums into `gz`, of the cell in place; `kept` gets what passes by a hidden time."""
    width = before.shape[1]
    zero, one = gh.dtype.type(0), gh.dtype.type(1)
    for i in range(gh.shape[0]):
        if present[i]:
            for j in range(width):
                let_in, out = gates[i, j], gates[i, width + j]
                forget, new, t = gates[i, 2 * width + j], gates[i, 3 * width + j], bounded[i, j]
                cell = gc[i, j] + gh[i, j] * out * (one - t * t)
                gz[i, j] = cell * new * let_in * (one - let_in)
                gz[i, width + j] = gh[i, j] * t * out * (one - out)
                gz[i, 2 * width + j] = cell * before[i, j] * forget * (one - forget)
                gz[i, 3 * width + j] = cell * let_in * (one - new * new)
                gc[i, j] = cell * forget
                kept[i, j] = zero
        else:
            for j in range(width):
                kept[i, j] = gh[i, j]
                for gate in range(4):
                    gz[i, gate * width + j] = zero

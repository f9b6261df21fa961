"""Loops of the LSTM through all times, for some of the sequences: each thread takes its own.

Gates stand side by side: input, output, forget, new; all of them ``(batch, time, 4 * width)``.
`states` holds outputs and cells side by side, ``(batch, time, 2 * width)``, and `seen` what each
time sees: the input, the output before it, and a 1. `present` marks the places that hold a value.
Matrices come as blocks of columns, ``(n_blocks, depth, block)``, block b from column ``starts[b]``
on; blocks may overlap.
"""

from __future__ import annotations

from functools import reduce

import numpy as np
from numba import types
from numba.extending import intrinsic

from ..machinery.array_access import beyond, flat, line
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.grain_sizes import TILE
from ..machinery.llvm_ir import INDEX, counted
from ..machinery.numba_internals import nothing
from ..machinery.symbol_calls import call
from ..machinery.vector_ir import VECTOR, Writer
from .implicit_gemm import multiply

__all__ = ["advance", "retreat"]

CELL = "x at width first stop before at_before after out at_after bounded at_bounded"


def _cell(n_bytes):
    @intrinsic
    def cell(
        typing_context,
        x,
        at,
        width,
        first,
        stop,
        before,
        at_before,
        after,
        out,
        at_after,
        bounded,
        at_bounded,
    ):
        """From sums to gates in place, the next cell, its tangent and the next output, for features
        ``first:stop``.
        """
        kinds = (
            x,
            at,
            width,
            first,
            stop,
            before,
            at_before,
            after,
            out,
            at_after,
            bounded,
            at_bounded,
        )

        def generate(context, builder, signature, arguments):
            w = Writer(context, builder, signature, CELL, arguments, n_bytes)
            half = w.constant(0.5)
            with counted(builder, w["first"], w["stop"], INDEX(w.lanes)) as j:
                gates = []
                for gate in range(4):
                    across = w.plus(w.times(w["width"], gate), j)
                    total = w.load("x", w.plus(w["at"], across))
                    if gate < 3:  # sigmoid(a) = (1 + tanh(a / 2)) / 2
                        found = w.multiply_add(w.tanh(builder.fmul(total, half)), half, half)
                    else:
                        found = w.tanh(total)
                    w.store(found, "x", w.plus(w["at"], across))
                    gates.append(found)
                let_in, let_out, forget, new = gates
                c = w.multiply_add(
                    forget, w.load("before", w.plus(w["at_before"], j)), builder.fmul(let_in, new)
                )
                tangent = w.tanh(c)
                w.store(c, "after", w.plus(w["at_after"], j))
                w.store(tangent, "bounded", w.plus(w["at_bounded"], j))
                w.store(builder.fmul(let_out, tangent), "out", w.plus(w["at_after"], j))
            return nothing(context)

        return types.void(*kinds), generate

    return cell


_cells, _one_cell = _cell(VECTOR), _cell(1)


@inner_kernel
def _copy(source, target):
    for j in range(source.size):
        target[j] = source[j]


@inner_kernel
def _by_matrix(x, rows, columns, blocks, starts, bias, out, step, n_out, begin, end):
    """Rows ``begin:end`` of `out`, flat and `step` apart: those of `x` times a matrix in blocks,
    and `bias`.
    """
    block, lowest = blocks.shape[2], out.dtype.type(-np.inf)
    if end - begin >= TILE and n_out >= TILE:
        for b in range(starts.size):
            own = beyond(flat(blocks), b * columns.size * block)
            added, target = beyond(bias, starts[b]), beyond(out, starts[b])
            call(
                multiply,
                x,
                rows,
                columns,
                own,
                block,
                False,
                added,
                target,
                step,
                block,
                begin,
                end,
                lowest,
            )
        return
    for i in range(begin, end):
        for b in range(starts.size):
            target = line(out, i * step + starts[b], block)
            for j in range(block):
                target[j] = bias[starts[b] + j]
            for k in range(columns.size):
                factor = x[rows[i] + columns[k]]
                for j in range(block):
                    target[j] += factor * blocks[b, k, j]


@kernel
def advance(
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
    begin,
    end,
):
    """Sequences ``begin:end`` from the first time to the last, or backwards: gates, states, and
    what was seen of them.

    `blocks` are those of the weights on the input above those on the memory; `bounded` gets the
    tangents of the cells. `rows` and `columns` say where in what was seen at the first time the
    sequences begin, and their elements lie.
    """
    time, width, depth = gates.shape[1], h.shape[1], seen.shape[2]
    lanes = VECTOR // gates.itemsize
    whole, n_in = width // lanes * lanes, depth - width - 1
    flat_seen, flat_gates, flat_bounded, flat_states = (
        flat(seen),
        flat(gates),
        flat(bounded),
        flat(states),
    )
    flat_h, flat_c = flat(h), flat(c)
    for step in range(time):
        t = time - 1 - step if backwards else step
        earlier = t + 1 if backwards else t - 1
        for i in range(begin, end):
            at = (i * time + t) * depth
            output = (
                line(flat_h, i * width, width)
                if step == 0
                else line(flat_states, (i * time + earlier) * 2 * width, width)
            )
            call(_copy, output, beyond(flat_seen, at + n_in))
            flat_seen[at + depth - 1] = 1
        sums = beyond(flat_gates, t * 4 * width)
        call(
            _by_matrix,
            beyond(flat_seen, t * depth),
            rows,
            columns,
            blocks,
            starts,
            bias,
            sums,
            time * 4 * width,
            4 * width,
            begin,
            end,
        )
        for i in range(begin, end):
            place = i * time + t
            before = (
                line(flat_c, i * width, width)
                if step == 0
                else line(flat_states, (i * time + earlier) * 2 * width + width, width)
            )
            out, after = (
                line(flat_states, place * 2 * width, width),
                line(flat_states, place * 2 * width + width, width),
            )
            if present[i, t]:
                at, at_bounded = place * 4 * width, place * width
                _cells(
                    flat_gates,
                    at,
                    width,
                    0,
                    whole,
                    before,
                    0,
                    after,
                    out,
                    0,
                    flat_bounded,
                    at_bounded,
                )
                _one_cell(
                    flat_gates,
                    at,
                    width,
                    whole,
                    width,
                    before,
                    0,
                    after,
                    out,
                    0,
                    flat_bounded,
                    at_bounded,
                )
            else:
                call(_copy, before, after)
                call(_copy, line(flat_seen, place * depth + n_in, width), out)


BACK = "x at width first stop bounded at_bounded before g at_g gh gc gz"


def _through_cell(n_bytes):
    @intrinsic
    def through(
        typing_context, x, at, width, first, stop, bounded, at_bounded, before, g, at_g, gh, gc, gz
    ):
        """Cotangents of the sums of a sequence's gates at one time, and of its cell in place, for
        features ``first:stop``. They vanish in long sequences, down to numbers that are not normal.
        """
        kinds = (x, at, width, first, stop, bounded, at_bounded, before, g, at_g, gh, gc, gz)

        def generate(context, builder, signature, arguments):
            w = Writer(context, builder, signature, BACK, arguments, n_bytes)
            one = w.constant(1)

            def times(*factors):
                return reduce(builder.fmul, factors)

            def rest(value):
                return builder.fsub(one, value)

            with counted(builder, w["first"], w["stop"], INDEX(w.lanes)) as j:
                places = [
                    w.plus(w["at"], w.plus(w.times(w["width"], gate), j)) for gate in range(4)
                ]
                let_in, let_out, forget, new = (w.load("x", place) for place in places)
                t = w.load("bounded", w.plus(w["at_bounded"], j))
                by_h = builder.fadd(w.flushed(w.load("gh", j)), w.load("g", w.plus(w["at_g"], j)))
                own = builder.fadd(
                    w.load("gc", j), w.load("g", w.plus(w.plus(w["at_g"], w["width"]), j))
                )
                cell = w.multiply_add(times(by_h, let_out), rest(times(t, t)), own)
                found = [
                    times(cell, new, let_in, rest(let_in)),
                    times(by_h, t, let_out, rest(let_out)),
                    times(cell, w.load("before", j), forget, rest(forget)),
                    times(cell, let_in, rest(times(new, new))),
                ]
                for place, value in zip(places, found, strict=True):
                    w.store(w.flushed(value), "gz", place)
                w.store(w.flushed(times(cell, forget)), "gc", j)
            return nothing(context)

        return types.void(*kinds), generate

    return through


_through_cells, _through_one = _through_cell(VECTOR), _through_cell(1)


@kernel
def retreat(
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
    begin,
    end,
):
    """Sequences ``begin:end`` back again: cotangents of the gates' sums into `gz`, of the first
    states into `gh` and `gc`.

    `rows` and `columns` say where in the gates they lie. `g` are the cotangents of `states`; `gh`,
    `gc` begin as zeros; `kept` is room for what passes by places without a value.
    """
    time, width = gates.shape[1], gh.shape[1]
    lanes = VECTOR // gates.itemsize
    whole = width // lanes * lanes
    flat_g, flat_gates, flat_bounded, flat_gz, flat_states = (
        flat(g),
        flat(gates),
        flat(bounded),
        flat(gz),
        flat(states),
    )
    flat_c, flat_gh, flat_gc = flat(c), flat(gh), flat(gc)
    for step in range(time - 1, -1, -1):
        t = time - 1 - step if backwards else step
        earlier = t + 1 if backwards else t - 1
        for i in range(begin, end):
            place = i * time + t
            of_h, of_c = line(flat_gh, i * width, width), line(flat_gc, i * width, width)
            if present[i, t]:
                before = line(flat_c, i * width, width)
                if step > 0:
                    before = line(flat_states, (i * time + earlier) * 2 * width + width, width)
                at, at_bounded, at_g = place * 4 * width, place * width, place * 2 * width
                _through_cells(
                    flat_gates,
                    at,
                    width,
                    0,
                    whole,
                    flat_bounded,
                    at_bounded,
                    before,
                    flat_g,
                    at_g,
                    of_h,
                    of_c,
                    flat_gz,
                )
                _through_one(
                    flat_gates,
                    at,
                    width,
                    whole,
                    width,
                    flat_bounded,
                    at_bounded,
                    before,
                    flat_g,
                    at_g,
                    of_h,
                    of_c,
                    flat_gz,
                )
            else:
                for j in range(place * 4 * width, (place + 1) * 4 * width):
                    flat_gz[j] = 0
                for j in range(width):
                    kept[i, j] = of_h[j] + flat_g[place * 2 * width + j]
                    of_c[j] += flat_g[place * 2 * width + width + j]
        call(
            _by_matrix,
            beyond(flat_gz, t * 4 * width),
            rows,
            columns,
            blocks,
            starts,
            nothing,
            flat_gh,
            width,
            width,
            begin,
            end,
        )
        for i in range(begin, end):
            if not present[i, t]:
                call(_copy, line(flat(kept), i * width, width), line(flat_gh, i * width, width))

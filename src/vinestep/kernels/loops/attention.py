"""Loops of attention, a sequence and a head at a time.

Queries are ``(batch, time, width)``, keys and values ``(batch, places, width)``, heads side by side
in the width. Notation follows Vaswani et al. 2017, equation 1. `factors` scale the weights of the
mean, as dropout does; empty if there are none. Times, places and the width of a head are at least
eight. `by_width` and `by_places` say where the rows of a head begin in a sequence of queries and in
its weights, `along` and `across` where their elements lie.
"""

from __future__ import annotations

import numpy as np

from ..machinery.array_access import (
    beyond,
    empty,
    flat,
    larger,
    line,
    smaller,
    zeros,
)
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.symbol_calls import call
from ..machinery.vector_ir import soften, soften_adjoint
from .implicit_gemm import multiply

__all__ = ["attend", "attend_adjoint"]


@inner_kernel
def _transposed(x, at, step, transposed, n, width, scale):
    """``scale`` times the transpose of n rows, `step` apart."""
    for i in range(n):
        for j in range(width):
            transposed[j * n + i] = x[at + i * step + j] * scale


@inner_kernel
def _begins(pair, heads, time, places, width):
    """The sequence of a pair of sequence and head, and where the pair begins in queries and in
    keys.
    """
    sequence, head = pair // heads, pair % heads
    each = width // heads
    return sequence, sequence * time * width + head * each, sequence * places * width + head * each


@inner_kernel
def _scaled(x, factors, at, scaled):
    for j in range(scaled.size):
        scaled[j] = x[j] * factors[at + j]


@inner_kernel
def _set_hidden(row, hidden, sequence, i, value):
    """In what is hidden from time i of a sequence; one mask may be for all times, or for all
    sequences.
    """
    unseen = hidden[sequence % hidden.shape[0], i % hidden.shape[1]]
    for j in range(row.size):
        if unseen[j]:
            row[j] = value


@kernel
def attend(
    q,
    k,
    v,
    hidden,
    factors,
    weights,
    out,
    by_width,
    by_places,
    along,
    across,
    heads,
    scale,
    hidden_score,
    begin,
    end,
):
    """Pairs ``begin:end`` of sequence and head: ``weights = softmax(scale * q @ k.T)`` and ``out =
    (weights * factors) @ v``.
    """
    time, places, width = q.shape[1], k.shape[1], q.shape[2]
    each, n = width // heads, time * places
    flat_q, flat_k, flat_v, flat_out, flat_weights, flat_factors = (
        flat(q),
        flat(k),
        flat(v),
        flat(out),
        flat(weights),
        flat(factors),
    )
    transposed, scaled = empty(each * places, q.dtype), empty(smaller(n, factors.size), q.dtype)
    nothing, lowest = zeros(larger(each, places), q.dtype), q.dtype.type(-np.inf)
    for pair in range(begin, end):
        sequence, at_q, at_k = _begins(pair, heads, time, places, width)
        own = line(flat_weights, pair * n, n)
        call(_transposed, flat_k, at_k, width, transposed, places, each, scale)
        seen, target = beyond(flat_q, at_q), beyond(flat_out, at_q)
        call(
            multiply,
            seen,
            by_width,
            along,
            transposed,
            places,
            False,
            nothing,
            own,
            places,
            places,
            0,
            time,
            lowest,
        )
        for i in range(time):
            row = line(own, i * places, places)
            if hidden.size:
                call(_set_hidden, row, hidden, sequence, i, hidden_score)
            soften(row)
        taken = own
        if factors.size:
            call(_scaled, own, flat_factors, pair * n, scaled)
            taken = scaled
        call(
            multiply,
            taken,
            by_places,
            across,
            beyond(flat_v, at_k),
            width,
            False,
            nothing,
            target,
            width,
            each,
            0,
            time,
            lowest,
        )


@kernel
def attend_adjoint(
    g,
    q,
    k,
    v,
    hidden,
    factors,
    weights,
    gq,
    gk,
    gv,
    by_width,
    by_places,
    along,
    across,
    heads,
    scale,
    begin,
    end,
):
    time, places, width = q.shape[1], k.shape[1], q.shape[2]
    each, n = width // heads, time * places
    flat_g, flat_q, flat_k, flat_v, flat_weights, flat_factors = (
        flat(g),
        flat(q),
        flat(k),
        flat(v),
        flat(weights),
        flat(factors),
    )
    flat_gq, flat_gk, flat_gv = flat(gq), flat(gk), flat(gv)
    scores, scaled = empty(n, q.dtype), empty(smaller(n, factors.size), q.dtype)
    nothing, lowest, zero = (
        zeros(larger(each, places), q.dtype),
        q.dtype.type(-np.inf),
        q.dtype.type(0),
    )
    for pair in range(begin, end):
        sequence, at_q, at_k = _begins(pair, heads, time, places, width)
        own, theirs = line(flat_weights, pair * n, n), beyond(flat_g, at_q)
        call(
            multiply,
            theirs,
            by_width,
            along,
            beyond(flat_v, at_k),
            width,
            True,
            nothing,
            scores,
            places,
            places,
            0,
            time,
            lowest,
        )
        taken = own
        if factors.size:
            call(_scaled, scores, flat_factors, pair * n, scores)
            call(_scaled, own, flat_factors, pair * n, scaled)
            taken = scaled
        call(
            multiply,
            taken,
            across,
            by_places,
            theirs,
            width,
            False,
            nothing,
            beyond(flat_gv, at_k),
            width,
            each,
            0,
            places,
            lowest,
        )
        for i in range(time):
            row = line(scores, i * places, places)
            soften_adjoint(row, line(own, i * places, places), row, scale)
            if hidden.size:
                call(_set_hidden, row, hidden, sequence, i, zero)
        of_q, of_k = beyond(flat_gq, at_q), beyond(flat_gk, at_k)
        call(
            multiply,
            scores,
            by_places,
            across,
            beyond(flat_k, at_k),
            width,
            False,
            nothing,
            of_q,
            width,
            each,
            0,
            time,
            lowest,
        )
        call(
            multiply,
            scores,
            across,
            by_places,
            beyond(flat_q, at_q),
            width,
            False,
            nothing,
            of_k,
            width,
            each,
            0,
            places,
            lowest,
        )

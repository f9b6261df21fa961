"""Loops of attention, a sequence and a head at a time.

Queries are ``(batch, time, width)``, keys and values ``(batch, places, width)``, heads side by side in the width. Notation follows
Vaswani et al. 2017, equation 1. `factors` scale the weights of the mean, as dropout does; empty if there are none. Times, places and
the width of a head are at least eight. `by_width` and `by_places` say where the rows of a head begin in a sequence of queries and in
its weights, `along` and `across` where their elements lie.
"""

from __future__ import annotations

import numpy as np

from .calls import call
from .compiling import inner_kernel, kernel
from .gathered_loops import multiply
from .vectors import soften, soften_adjoint

__all__ = ["attend", "attend_adjoint"]


@inner_kernel
def _turned(x, at, step, turned, n, width, scale):
    """``scale`` times the transpose of n rows, `step` apart."""
    for i in range(n):
        for j in range(width):
            turned[j * n + i] = x[at + i * step + j] * scale


@inner_kernel
def _begins(pair, heads, time, places, width):
    """Sequence and head of a pair, and where it begins in queries and in keys."""
    sequence, head = pair // heads, pair % heads
    each = width // heads
    return sequence, head, sequence * time * width + head * each, sequence * places * width + head * each


@kernel
def attend(q, k, v, hidden, factors, weights, out, by_width, by_places, along, across, heads, scale, hidden_score, begin, end):
    """Pairs ``begin:end`` of sequence and head: ``weights = softmax(scale * q @ k.T)`` and ``out = (weights * factors) @ v``."""
    time, places, width = q.shape[1], k.shape[1], q.shape[2]
    each = width // heads
    flat_q, flat_k, flat_v, flat_out = q.reshape(-1), k.reshape(-1), v.reshape(-1), out.reshape(-1)
    turned, scaled = np.empty(each * places, q.dtype), np.empty(time * places if factors.size else 0, q.dtype)
    nothing, lowest = np.zeros(max(each, places), q.dtype), q.dtype.type(-np.inf)
    top, straight = 0, False
    for pair in range(begin, end):
        sequence, head, at_q, at_k = _begins(pair, heads, time, places, width)
        own = weights[sequence, head]
        flat = own.reshape(-1)
        _turned(flat_k, at_k, width, turned, places, each, scale)
        call(multiply, flat_q[at_q:], by_width, along, turned, places, straight, nothing, flat, places, places, top, time, lowest)
        for i in range(time):
            if hidden.size:
                row = hidden[sequence % hidden.shape[0], i % hidden.shape[1]]
                for j in range(places):
                    if row[j]:
                        own[i, j] = hidden_score
            soften(own[i])
        if factors.size:
            given = factors[sequence, head].reshape(-1)
            for j in range(flat.size):
                scaled[j] = flat[j] * given[j]
        taken = scaled if factors.size else flat
        call(multiply, taken, by_places, across, flat_v[at_k:], width, straight, nothing, flat_out[at_q:], width, each, top, time, lowest)


@kernel
def attend_adjoint(g, q, k, v, hidden, factors, weights, gq, gk, gv, by_width, by_places, along, across, heads, scale, begin, end):
    time, places, width = q.shape[1], k.shape[1], q.shape[2]
    each = width // heads
    flat_g, flat_q, flat_k, flat_v = g.reshape(-1), q.reshape(-1), k.reshape(-1), v.reshape(-1)
    flat_gq, flat_gk, flat_gv = gq.reshape(-1), gk.reshape(-1), gv.reshape(-1)
    scores = np.empty((time, places), q.dtype)
    scaled = np.empty(time * places if factors.size else 0, q.dtype)
    nothing, lowest = np.zeros(max(each, places), q.dtype), q.dtype.type(-np.inf)
    top, straight, turned = 0, False, True
    zero = q.dtype.type(0)
    flat_scores = scores.reshape(-1)
    for pair in range(begin, end):
        sequence, head, at_q, at_k = _begins(pair, heads, time, places, width)
        own = weights[sequence, head]
        flat = own.reshape(-1)
        call(
            multiply, flat_g[at_q:], by_width, along, flat_v[at_k:], width, turned, nothing, flat_scores, places, places, top, time, lowest
        )
        if factors.size:
            given = factors[sequence, head].reshape(-1)
            for j in range(flat.size):
                flat_scores[j] *= given[j]
                scaled[j] = flat[j] * given[j]
        taken = scaled if factors.size else flat
        call(multiply, taken, across, by_places, flat_g[at_q:], width, straight, nothing, flat_gv[at_k:], width, each, top, places, lowest)
        for i in range(time):
            got = scores[i]
            soften_adjoint(got, own[i], got, scale)
            if hidden.size:
                unseen = hidden[sequence % hidden.shape[0], i % hidden.shape[1]]
                for j in range(places):
                    if unseen[j]:
                        got[j] = zero
        call(
            multiply,
            flat_scores,
            by_places,
            across,
            flat_k[at_k:],
            width,
            straight,
            nothing,
            flat_gq[at_q:],
            width,
            each,
            top,
            time,
            lowest,
        )
        call(
            multiply,
            flat_scores,
            across,
            by_places,
            flat_q[at_q:],
            width,
            straight,
            nothing,
            flat_gk[at_k:],
            width,
            each,
            top,
            places,
            lowest,
        )

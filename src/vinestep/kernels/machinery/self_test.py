"""A small loop that uses all of the machinery, and its result: run in a process of its own, since
what is unsound may crash.
"""

from __future__ import annotations

import numpy as np

from .array_access import (
    beyond,
    empty,
    flat,
    line,
    matrix,
    zeros,
)
from .compilation import inner_kernel, kernel
from .counters import board
from .job_distribution import distribute, job
from .symbol_calls import call
from .vector_ir import elementwise, soften

__all__ = ["answer", "main"]

PARTS = 3

_tangents = elementwise(lambda w, x: w.tanh(x), "x out")


@inner_kernel
def _third(x, out, part):
    n = x.size // PARTS
    _tangents(line(x, part * n, n), line(out, part * n, n))


@inner_kernel
def _sum(x):
    total = x.dtype.type(0)
    for i in range(x.size):
        total += x[i]
    return total


@kernel
def answer(board, x):
    """``[sum(tanh(x)), sum of the softmax of the second row, sum of zeros and x without the first
    row]``
    """
    result = empty(x.size, x.dtype)
    call(distribute, board, PARTS, job(_third, (flat(x), result)))
    rows = matrix(result, 0, x.shape[0], x.shape[1])
    tangents = call(_sum, flat(rows))
    soften(rows[1])
    nothing = zeros(x.size, x.dtype)
    return (
        tangents,
        call(_sum, line(result, x.shape[1], x.shape[1])),
        call(_sum, nothing) + call(_sum, beyond(flat(x), x.shape[1])),
    )


def main() -> None:
    """Raises unless the loop computes what NumPy does."""
    for dtype in (np.float32, np.float64):
        x = np.linspace(-3, 3, 30, dtype=dtype).reshape(3, 10)
        np.testing.assert_allclose(
            answer(board(), x), [np.tanh(x).sum(), 1, x[1:].sum()], rtol=1e-4, atol=1e-4
        )

"""Loops of products with a weight held in codes: decoded panel by panel, a few outputs at a time,
never as a whole.

Shapes: x (n, n_in), codes (n_out, bytes), scales (n_out, blocks), y and g (n, n_out), table (256 *
codes a byte), flat.
"""

from __future__ import annotations

from ..machinery.array_access import (
    beyond,
    empty,
    flat,
    larger,
    smaller,
)
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.grain_sizes import TILE
from ..machinery.job_distribution import distribute, job
from ..machinery.symbol_calls import call
from ..machinery.vector_ir import decode
from .implicit_gemm import multiply

__all__ = ["PANEL", "product", "product_with_transposed"]

PANEL = 96  # columns of the result for which the weight is decoded at a time


_decode_bytes, _decode_halves = decode(1), decode(2)


@inner_kernel
def _decode(codes, scales, table, each, block, output, first, last, panel, at):
    """Weights ``first:last`` of an output; `first` is at the begin of a block."""
    own, number = codes.shape[1] * output, first // block
    source = flat(codes)
    for begin in range(first, last, block):
        scale, to = scales[output, number], at + begin - first
        n = smaller(block, last - begin)
        if each == 1:
            _decode_bytes(table, source, own + begin, n, scale, panel, to)
        else:
            _decode_halves(table, source, own + begin // 2, n // 2, scale, panel, to)
            if n % 2:
                panel[to + n - 1] = table[2 * source[own + (begin + n) // 2]] * scale
        number += 1


@inner_kernel
def _columns(x, rows, columns, panel, step, transposed, bias, y, width, begin, many, wide, floor):
    """Columns of the result from `begin` on, so many of `wide` that the panel is for: it is at
    least `TILE` wide.
    """
    if wide == many:
        call(
            multiply,
            x,
            rows,
            columns,
            panel,
            step,
            transposed,
            bias,
            beyond(y, begin),
            width,
            many,
            0,
            rows.size,
            floor,
        )
        return
    found = empty(rows.size * wide, y.dtype)
    call(
        multiply,
        x,
        rows,
        columns,
        panel,
        step,
        transposed,
        bias,
        found,
        wide,
        wide,
        0,
        rows.size,
        floor,
    )
    for i in range(rows.size):
        for j in range(many):
            y[i * width + begin + j] = found[i * wide + j]


@inner_kernel
def _panel(rows, columns, x, codes, scales, table, each, block, bias, y, n_out, floor, part):
    """Some outputs."""
    n_in, begin = columns.size, part * PANEL
    many = smaller(PANEL, n_out - begin)
    wide = larger(many, TILE)
    panel, own_bias = empty(wide * n_in, y.dtype), empty(wide, y.dtype)
    for j in range(wide):
        output = begin + smaller(j, many - 1)
        call(_decode, codes, scales, table, each, block, output, 0, n_in, panel, j * n_in)
        own_bias[j] = bias[output]
    call(
        _columns, x, rows, columns, panel, n_in, True, own_bias, y, n_out, begin, many, wide, floor
    )


@inner_kernel
def _panel_of_transposed(
    rows, columns, g, codes, scales, table, each, block, bias, gx, n_in, together, floor, part
):
    """Some inputs."""
    n_out, begin = columns.size, part * together
    many = smaller(together, n_in - begin)
    wide = larger(many, TILE)
    panel, own_bias = empty(wide * n_out, gx.dtype), empty(wide, gx.dtype)
    for k in range(wide):
        own_bias[k] = bias[begin + smaller(k, many - 1)]
    for j in range(n_out):
        call(_decode, codes, scales, table, each, block, j, begin, begin + many, panel, j * wide)
        for k in range(many, wide):
            panel[j * wide + k] = 0
    call(
        _columns, g, rows, columns, panel, wide, False, own_bias, gx, n_in, begin, many, wide, floor
    )


@kernel
def product(
    board, threads, rows, columns, x, codes, scales, table, each, block, bias, y, n_out, floor
):
    """``y = x @ weight + bias``; `x` and `y` are flat and have at least `TILE` rows."""
    parts = (n_out + PANEL - 1) // PANEL
    arguments = (rows, columns, x, codes, scales, table, each, block, bias, y, n_out, floor)
    call(distribute, board, parts, job(_panel, arguments))


@kernel
def product_with_transposed(
    board, threads, rows, columns, g, codes, scales, table, each, block, bias, gx, n_in, floor
):
    """``gx = g @ weight.T + bias``; `g` and `gx` are flat and have at least `TILE` rows."""
    together = (PANEL + block - 1) // block * block
    parts = (n_in + together - 1) // together
    arguments = (
        rows,
        columns,
        g,
        codes,
        scales,
        table,
        each,
        block,
        bias,
        gx,
        n_in,
        together,
        floor,
    )
    call(distribute, board, parts, job(_panel_of_transposed, arguments))

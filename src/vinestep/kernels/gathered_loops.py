"""Loops over a matrix that is never laid out in memory: its elements are looked up where they lie.

Notation: ``a[i, k] = x[rows[i] + columns[k]]`` with `x` flat. The windows of a convolution or of pooling are such a matrix, with
`rows` the first elements of the windows and `columns` the places within one; so is its transpose, with the two exchanged.

The innermost pieces are put together instruction by instruction, as the compiler by itself keeps no block of sums in registers and
vectorises no loop as short as a few channels.
"""

from __future__ import annotations

import llvmlite.binding
import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

from .compiling import kernel

__all__ = ["largest", "largest_adjoint", "product"]

WIDE_REGISTERS = bool(llvmlite.binding.get_host_cpu_features().get("avx512f"))
VECTOR = 64 if WIDE_REGISTERS else 32  # bytes
ROWS = 8 if WIDE_REGISTERS else 4  # of a tile; with two vectors a row its sums just stay in registers
CHUNK = 256  # rows, and columns, after which operands are used again while they are in the cache
LANES = 8  # channels taken at once by pooling

INDEX = ir.IntType(64)


class _Writer:
    """Writes vector instructions over the arguments of a function."""

    def __init__(self, context, builder, signature, names, arguments, lanes):
        self.builder = builder
        self.value = dict(zip(names.split(), arguments, strict=True))
        kinds = dict(zip(names.split(), signature.args, strict=True))
        for name, kind in kinds.items():
            if isinstance(kind, types.Array):
                self.value[name] = context.make_array(kind)(context, builder, self.value[name]).data
        self.bits = kinds["x"].dtype.bitwidth
        self.one = context.get_value_type(kinds["x"].dtype)
        self.lanes = lanes
        self.many = ir.VectorType(self.one, lanes)

    def plus(self, place, more):
        return self.builder.add(place, INDEX(more) if isinstance(more, int) else more)

    def times(self, place, factor):
        return self.builder.mul(place, INDEX(factor) if isinstance(factor, int) else factor)

    def number(self, name, place):
        """An element of an array of whole numbers."""
        found = self.builder.load(self.builder.gep(self.value[name], [place]))
        return self.builder.sext(found, INDEX) if found.type.width < INDEX.width else found

    def vector(self, name, place):
        """Where the vector that begins at an element lies."""
        return self.builder.bitcast(self.builder.gep(self.value[name], [place]), self.many.as_pointer())

    def load(self, name, place):
        return self.builder.load(self.vector(name, place), align=self.bits // 8)

    def store(self, found, name, place):
        self.builder.store(found, self.vector(name, place), align=self.bits // 8)

    def spread(self, value):
        """One value in all lanes."""
        empty = ir.Constant(self.many, ir.Undefined)
        first = self.builder.insert_element(empty, value, ir.IntType(32)(0))
        return self.builder.shuffle_vector(first, empty, ir.Constant(ir.VectorType(ir.IntType(32), self.lanes), [0] * self.lanes))

    def multiply_add(self, a, b, c):
        name = f"llvm.fmuladd.v{self.lanes}f{self.bits}"
        function = cgutils.get_or_insert_function(self.builder.module, ir.FunctionType(self.many, [self.many] * 3), name)
        return self.builder.call(function, [a, b, c])

    def at_least(self, value, least):
        """The larger; NaN in `value` stays, as the comparison with it is false."""
        return self.builder.select(self.builder.fcmp_ordered("<", value, least), least, value)

    def count(self, stop, start=0):
        """A loop over whole numbers."""
        first = INDEX(start) if isinstance(start, int) else start
        return cgutils.for_range_slice(self.builder, first, stop, INDEX(1))


TILE = "x rows i columns first last b at_b step_b start at_start step_start c at_c step_c floor"


def _tile(n_vectors, n_bytes):
    """Sums of `ROWS` rows and `n_vectors` vectors of columns."""

    @intrinsic
    def tile(typing_context, x, rows, i, columns, first, last, b, at_b, step_b, start, at_start, step_start, c, at_c, step_c, floor):
        kinds = (x, rows, i, columns, first, last, b, at_b, step_b, start, at_start, step_start, c, at_c, step_c, floor)

        def generate(context, builder, signature, arguments):
            w = _Writer(context, builder, signature, TILE, arguments, n_bytes * 8 // x.dtype.bitwidth)
            value = w.value
            cells = [(r, v) for r in range(ROWS) for v in range(n_vectors)]

            def cell(name, r, v):
                return w.plus(w.plus(value["at_" + name], w.times(value["step_" + name], r)), v * w.lanes)

            sources = [builder.gep(value["x"], [w.number("rows", w.plus(value["i"], r))]) for r in range(ROWS)]
            sums = {(r, v): cgutils.alloca_once_value(builder, w.load("start", cell("start", r, v))) for r, v in cells}
            with w.count(value["last"], value["first"]) as (k, _):
                column = w.number("columns", k)
                line = w.plus(value["at_b"], w.times(k, value["step_b"]))
                factors = [w.load("b", w.plus(line, v * w.lanes)) for v in range(n_vectors)]
                for r in range(ROWS):
                    element = w.spread(builder.load(builder.gep(sources[r], [column])))
                    for v in range(n_vectors):
                        builder.store(w.multiply_add(element, factors[v], builder.load(sums[r, v])), sums[r, v])
            least = w.spread(value["floor"])
            for r, v in cells:
                w.store(w.at_least(builder.load(sums[r, v]), least), "c", cell("c", r, v))
            return context.get_dummy_value()

        return types.void(*kinds), generate

    return tile


_two = _tile(2, VECTOR)
_one = _tile(1, VECTOR)
_half = _tile(1, VECTOR // 2)


@kernel
def _add_tile(width, widest, x, rows, i, columns, first, last, b, at_b, step_b, start, at_start, step_start, c, at_c, step_c, floor):
    if width == widest:
        _two(x, rows, i, columns, first, last, b, at_b, step_b, start, at_start, step_start, c, at_c, step_c, floor)
    elif width == widest // 2:
        _one(x, rows, i, columns, first, last, b, at_b, step_b, start, at_start, step_start, c, at_c, step_c, floor)
    else:
        _half(x, rows, i, columns, first, last, b, at_b, step_b, start, at_start, step_start, c, at_c, step_c, floor)


@kernel
def product(x, rows, columns, b, bias, c, begin, end, floor, lowest):
    """Rows ``begin:end`` of ``c = max(a @ b + bias, floor)``; NaN stays.

    There are at least eight rows and columns in `c`, and at least one column in `a`. Where rows or columns do not come out even, the
    last tile overlaps the one before it and computes the same again. `lowest` is minus infinity.
    """
    n_out, depth = b.shape[1], columns.size
    flat_b, flat_c = b.reshape(-1), c.reshape(-1)
    widest = 2 * VECTOR // b.itemsize
    packed = np.empty(CHUNK * widest, b.dtype)
    i = begin
    while i < end:
        stop = min(i + CHUNK, end)
        if stop - i < ROWS:
            i = stop - ROWS
        elif (stop - i) % ROWS:
            stop = i + (stop - i) // ROWS * ROWS
        o = 0
        while o < n_out:
            width = widest
            while width > n_out - o and width > widest // 4:
                width //= 2
            o = min(o, n_out - width)
            for first in range(0, depth, CHUNK):
                last = min(first + CHUNK, depth)
                least = floor if last == depth else lowest
                source, at_b, step_b = flat_b, o, n_out
                if n_out > width:  # side by side, as lines of the cache far apart in memory drive one another out
                    for k in range(last - first):
                        for j in range(width):
                            packed[k * width + j] = b[first + k, o + j]
                    source, at_b, step_b = packed, -first * width, width
                for row in range(i, stop, ROWS):
                    at = row * n_out + o
                    before, at_before, step = (bias, o, 0) if first == 0 else (flat_c, at, n_out)
                    _add_tile(
                        width, widest, x, rows, row, columns, first, last, source, at_b, step_b, before, at_before, step, flat_c, at, n_out, least
                    )  # fmt: skip
            o += width
        i = stop


POOL = "x place columns c y at"


def _largest_of(lanes):
    @intrinsic
    def largest_of(typing_context, x, place, columns, c, y, at):
        """The largest of a window, channels from `c` on."""

        def generate(context, builder, signature, arguments):
            w = _Writer(context, builder, signature, POOL, arguments, lanes)
            begin = w.plus(w.value["place"], w.value["c"])
            best = cgutils.alloca_once_value(builder, w.load("x", w.plus(begin, w.number("columns", INDEX(0)))))
            n = context.make_array(columns)(context, builder, arguments[2]).nitems
            with w.count(n, 1) as (k, _):
                found = w.load("x", w.plus(begin, w.number("columns", k)))
                kept = builder.load(best)
                builder.store(builder.select(builder.fcmp_unordered(">", found, kept), found, kept), best)
            w.store(builder.load(best), "y", w.plus(w.value["at"], w.value["c"]))
            return context.get_dummy_value()

        return types.void(x, place, columns, c, y, at), generate

    return largest_of


SHARE = POOL + " g gx"


def _share(lanes):
    @intrinsic
    def share(typing_context, x, place, columns, c, y, at, g, gx):
        """The cotangent of a window's largest value to all places that hold it, in equal parts."""

        def generate(context, builder, signature, arguments):
            w = _Writer(context, builder, signature, SHARE, arguments, lanes)
            begin, own = w.plus(w.value["place"], w.value["c"]), w.plus(w.value["at"], w.value["c"])
            n = context.make_array(columns)(context, builder, arguments[2]).nitems
            zeros, ones = (w.spread(ir.Constant(w.one, float(number))) for number in (0, 1))
            best = w.load("y", own)
            count = cgutils.alloca_once_value(builder, zeros)
            with w.count(n) as (k, _):
                equal = builder.fcmp_ordered("==", w.load("x", w.plus(begin, w.number("columns", k))), best)
                builder.store(builder.fadd(builder.load(count), builder.select(equal, ones, zeros)), count)
            part = builder.fdiv(w.load("g", own), builder.load(count))
            with w.count(n) as (k, _):
                place = w.plus(begin, w.number("columns", k))
                equal = builder.fcmp_ordered("==", w.load("x", place), best)
                w.store(builder.fadd(w.load("gx", place), builder.select(equal, part, zeros)), "gx", place)
            return context.get_dummy_value()

        return types.void(x, place, columns, c, y, at, g, gx), generate

    return share


_largest_of_many, _largest_of_one = _largest_of(LANES), _largest_of(1)
_share_many, _share_one = _share(LANES), _share(1)


@kernel
def largest(x, rows, columns, y, begin, end):
    """Rows ``begin:end`` of ``y[i, c] = max over k of x[rows[i] + columns[k] + c]``; NaN wins."""
    n_channels = y.shape[1]
    whole = n_channels // LANES * LANES
    flat = y.reshape(-1)
    for i in range(begin, end):
        place = rows[i] + 0
        for c in range(0, whole, LANES):
            _largest_of_many(x, place, columns, c, flat, i * n_channels)
        for c in range(whole, n_channels):
            _largest_of_one(x, place, columns, c, flat, i * n_channels)


@kernel
def largest_adjoint(g, x, rows, columns, y, gx, begin, end):
    """Adds to `gx` what comes back from rows ``begin:end`` of `largest`."""
    n_channels = y.shape[1]
    whole = n_channels // LANES * LANES
    flat_y, flat_g = y.reshape(-1), g.reshape(-1)
    for i in range(begin, end):
        place = rows[i] + 0
        for c in range(0, whole, LANES):
            _share_many(x, place, columns, c, flat_y, i * n_channels, flat_g, gx)
        for c in range(whole, n_channels):
            _share_one(x, place, columns, c, flat_y, i * n_channels, flat_g, gx)

"""Vector instructions put together one by one, where the compiler by itself keeps no block of sums
in registers and vectorises neither loops as short as a few channels nor hyperbolic tangents.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import llvmlite.binding
from llvmlite import ir
from numba import types
from numba.extending import intrinsic

from .array_access import contiguous
from .llvm_ir import (
    INDEX,
    counted,
    function,
    variable,
)
from .numba_internals import array_at, nothing, number_type

__all__ = [
    "ROWS",
    "VECTOR",
    "Writer",
    "carry_lines",
    "carry_transposed",
    "decode",
    "elementwise",
    "multiply_tile",
    "soften",
    "soften_adjoint",
]

WIDE_REGISTERS = bool(llvmlite.binding.get_host_cpu_features().get("avx512f"))
VECTOR = 64 if WIDE_REGISTERS else 32  # bytes
ROWS = (
    8 if WIDE_REGISTERS else 4
)  # of a tile; with three vectors a row, or two, its sums just stay in registers


class _Float(NamedTuple):
    """What the exponential needs to know of a kind of float."""

    terms: int
    """Of the series."""
    bias: int
    fraction: int
    """Bits of it."""
    log_2: tuple[float, float]
    """The first, times a small whole number, is exact; both add up to log(2)."""
    vanished: float
    """The smallest normal number over the rounding of 1."""


FLOATS = {
    32: _Float(
        7,
        127,
        23,
        (float.fromhex("0x1.62e42p-1"), math.log(2) - float.fromhex("0x1.62e42p-1")),
        2.0 ** (23 - 126),
    ),
    64: _Float(
        14,
        1023,
        52,
        (float.fromhex("0x1.62e42feep-1"), float.fromhex("0x1.a39ef35793c76p-33")),
        2.0 ** (52 - 1022),
    ),
}


class Writer:
    """Writes vector instructions over the arguments of a function; places are numbers of
    elements.
    """

    def __init__(self, context, builder, signature, names, arguments, n_bytes):
        self.builder = builder
        self.value = dict(zip(names.split(), arguments, strict=True))
        self.length = {}
        kinds = dict(zip(names.split(), signature.args, strict=True))
        for name, kind in kinds.items():
            if isinstance(kind, types.Array):
                array = array_at(context, builder, contiguous(kind), self.value[name])
                self.value[name], self.length[name] = array.data, array.nitems
        self.bits = kinds["x"].dtype.bitwidth
        self.one = number_type(context, kinds["x"].dtype)
        self.lanes = max(n_bytes * 8 // self.bits, 1)
        self.many = ir.VectorType(self.one, self.lanes)
        self.whole = ir.VectorType(ir.IntType(self.bits), self.lanes)

    def __getitem__(self, name):
        return self.value[name]

    def plus(self, place, more):
        return self.builder.add(place, INDEX(more) if isinstance(more, int) else more)

    def times(self, place, factor):
        return self.builder.mul(place, INDEX(factor) if isinstance(factor, int) else factor)

    def number(self, name, place):
        """An element of an array of whole numbers."""
        result = self.builder.load(self.builder.gep(self.value[name], [place]))
        return self.builder.sext(result, INDEX) if result.type.width < INDEX.width else result

    def vector(self, name, place):
        """Where the vector that begins at an element lies."""
        return self.builder.bitcast(
            self.builder.gep(self.value[name], [place]), self.many.as_pointer()
        )

    def load(self, name, place):
        return self.builder.load(self.vector(name, place), align=self.bits // 8)

    def store(self, found, name, place):
        self.builder.store(found, self.vector(name, place), align=self.bits // 8)

    def prefetch(self, name, place):
        """Prefetch a cache line that will be written to."""
        address = self.builder.bitcast(
            self.builder.gep(self.value[name], [place]), ir.IntType(8).as_pointer()
        )
        number = ir.IntType(32)
        kind = ir.FunctionType(ir.VoidType(), [address.type, number, number, number])
        self.builder.call(
            function(self.builder, kind, "llvm.prefetch.p0"),
            [address, number(1), number(3), number(1)],
        )

    def constant(self, number):
        """A number in all lanes."""
        return ir.Constant(self.many, [float(number)] * self.lanes)

    def spread(self, value):
        """One value in all lanes."""
        empty = ir.Constant(self.many, ir.Undefined)
        first = self.builder.insert_element(empty, value, ir.IntType(32)(0))
        return self.builder.shuffle_vector(
            first, empty, ir.Constant(ir.VectorType(ir.IntType(32), self.lanes), [0] * self.lanes)
        )

    def shuffled(self, a, b, first):
        """Elements of a and b by turns, half as many of each, from the first on."""
        places = [first + k // 2 + k % 2 * self.lanes for k in range(self.lanes)]
        return self.builder.shuffle_vector(
            a, b, ir.Constant(ir.VectorType(ir.IntType(32), self.lanes), places)
        )

    def call(self, name, *values):
        kind = ir.FunctionType(self.many, [self.many] * len(values))
        return self.builder.call(
            function(self.builder, kind, f"llvm.{name}.v{self.lanes}f{self.bits}"), values
        )

    def multiply_add(self, a, b, c):
        return self.call("fmuladd", a, b, c)

    def at_least(self, value, least):
        """The larger; NaN in `value` stays, as the comparison with it is false."""
        return self.builder.select(self.builder.fcmp_ordered("<", value, least), least, value)

    def at_most(self, value, most):
        return self.builder.select(self.builder.fcmp_ordered(">", value, most), most, value)

    def flushed(self, value):
        """0 in place of numbers of which a gate can make such as are not normal, with which a
        processor is a hundred times slower; NaN stays.
        """
        least = self.constant(FLOATS[self.bits].vanished)
        tiny = self.builder.fcmp_ordered("<", self.call("fabs", value), least)
        return self.builder.select(tiny, self.constant(0), value)

    def larger(self, a, b):
        """Of two single values."""
        return self.builder.select(self.builder.fcmp_ordered(">", a, b), a, b)

    def reduce(self, how, value):
        """One value of all lanes: "fadd" or "fmax"."""
        kinds = ([self.one] if how == "fadd" else []) + [self.many]
        name = f"llvm.vector.reduce.{how}.v{self.lanes}f{self.bits}"
        reduction = function(self.builder, ir.FunctionType(self.one, kinds), name)
        if how == "fadd":
            return self.builder.call(
                reduction, [ir.Constant(self.one, 0.0), value], fastmath=("reassoc",)
            )
        return self.builder.call(reduction, [value])

    def count(self, stop, start=0):
        """A loop over whole numbers."""
        first = INDEX(start) if isinstance(start, int) else start
        return counted(self.builder, first, stop, INDEX(1))

    def _exponential(self, x):
        """``exp(x) = power * (1 + rest)`` with a power of two; for values between whose
        exponentials are normal numbers.

        ``x = k * log(2) + r``, with `k` the nearest whole number; `rest` is the Taylor series of
        ``exp(r) - 1``.
        """
        b, float_ = self.builder, FLOATS[self.bits]
        k = self.call("rint", b.fmul(x, self.constant(1 / math.log(2))))
        r = x
        for part in float_.log_2:
            r = self.multiply_add(k, self.constant(-part), r)
        series = self.constant(1 / math.factorial(float_.terms))
        for n in range(float_.terms - 1, 1, -1):
            series = self.multiply_add(series, r, self.constant(1 / math.factorial(n)))
        rest = self.multiply_add(b.fmul(r, r), series, r)
        whole = b.add(b.fptosi(k, self.whole), ir.Constant(self.whole, [float_.bias] * self.lanes))
        power = b.bitcast(
            b.shl(whole, ir.Constant(self.whole, [float_.fraction] * self.lanes)), self.many
        )
        return power, rest

    def exp(self, x):
        """For x up to 0. Where the result lies below the normal numbers it is computed larger and
        scaled down.
        """
        b, float_ = self.builder, FLOATS[self.bits]
        lowest, bits = self.constant(math.log(2) * (2 - float_.bias)), float_.fraction + 3
        tiny = b.fcmp_ordered("<", x, lowest)
        raised = b.select(tiny, b.fadd(x, self.constant(math.log(2) * bits)), x)
        power, rest = self._exponential(self.at_least(raised, lowest))
        result = self.multiply_add(power, rest, power)
        return b.fmul(result, b.select(tiny, self.constant(2.0**-bits), self.constant(1)))

    def tanh(self, x):
        """``e / (e + 2)`` with ``e = exp(2 * x) - 1``, which is small exactly where x is."""
        b = self.builder
        bounded = self.at_most(self.at_least(x, self.constant(-20)), self.constant(20))
        power, rest = self._exponential(b.fadd(bounded, bounded))
        e = self.multiply_add(power, rest, b.fsub(power, self.constant(1)))
        return b.fdiv(e, b.fadd(e, self.constant(2)))


TILE = "x rows i columns first depth b at_b step_b start at_start step_start c at_c step_c floor"


def multiply_tile(n_vectors):
    """A function for `ROWS` rows and `n_vectors` vectors of columns of ``c = max(a @ b + start,
    floor)``; NaN stays.

    It goes through `depth` of `columns`, from the first given on. A vector may be a half.
    """

    @intrinsic
    def tile(
        typing_context,
        x,
        rows,
        i,
        columns,
        first,
        depth,
        b,
        at_b,
        step_b,
        start,
        at_start,
        step_start,
        c,
        at_c,
        step_c,
        floor,
    ):
        kinds = (
            x,
            rows,
            i,
            columns,
            first,
            depth,
            b,
            at_b,
            step_b,
            start,
            at_start,
            step_start,
            c,
            at_c,
            step_c,
            floor,
        )

        def generate(context, builder, signature, arguments):
            w = Writer(
                context,
                builder,
                signature,
                TILE,
                arguments,
                VECTOR if n_vectors >= 1 else VECTOR // 2,
            )
            across = max(int(n_vectors), 1)
            cells = [(r, v) for r in range(ROWS) for v in range(across)]

            def cell(name, r, v):
                return w.plus(w.plus(w["at_" + name], w.times(w["step_" + name], r)), v * w.lanes)

            sources = [
                builder.gep(w["x"], [w.number("rows", w.plus(w["i"], r))]) for r in range(ROWS)
            ]
            for r, v in cells:
                w.prefetch("c", cell("c", r, v))
            sums = {place: variable(builder, w.constant(0)) for place in cells}
            with w.count(w["depth"]) as k:
                column = w.number("columns", w.plus(w["first"], k))
                line = w.plus(w["at_b"], w.times(k, w["step_b"]))
                factors = [w.load("b", w.plus(line, v * w.lanes)) for v in range(across)]
                for r in range(ROWS):
                    element = w.spread(builder.load(builder.gep(sources[r], [column])))
                    for v in range(across):
                        builder.store(
                            w.multiply_add(element, factors[v], builder.load(sums[r, v])),
                            sums[r, v],
                        )
            least = w.spread(w["floor"])
            for r, v in cells:
                total = builder.fadd(builder.load(sums[r, v]), w.load("start", cell("start", r, v)))
                w.store(w.at_least(total, least), "c", cell("c", r, v))
            return nothing(context)

        return types.void(*kinds), generate

    return tile


CARRY = "x at step n target to step_to"


def carry_lines(n_vectors):
    """A function that copies n lines of so many vectors, or of half a vector; lines are `step` and
    `step_to` elements apart.
    """

    @intrinsic
    def carry(typing_context, x, at, step, n, target, to, step_to):
        def generate(context, builder, signature, arguments):
            w = Writer(
                context,
                builder,
                signature,
                CARRY,
                arguments,
                VECTOR if n_vectors >= 1 else VECTOR // 2,
            )
            with w.count(w["n"]) as k:
                here, there = (
                    w.plus(w["at"], w.times(w["step"], k)),
                    w.plus(w["to"], w.times(w["step_to"], k)),
                )
                for v in range(max(int(n_vectors), 1)):
                    w.store(
                        w.load("x", w.plus(here, v * w.lanes)), "target", w.plus(there, v * w.lanes)
                    )
            return nothing(context)

        return types.void(x, at, step, n, target, to, step_to), generate

    return carry


TURN = "x at step target to step_to"


@intrinsic
def carry_transposed(typing_context, x, at, step, target, to, step_to):
    """The transpose of a square block, as wide as half a vector, of which the rows are so many
    elements apart.
    """

    def generate(context, builder, signature, arguments):
        w = Writer(context, builder, signature, TURN, arguments, VECTOR // 2)
        n = w.lanes
        lines = [w.load("x", w.plus(w["at"], w.times(w["step"], r))) for r in range(n)]
        for _ in range(
            n.bit_length() - 1
        ):  # shuffled like two halves of a pack of cards, elements and rows alike
            pairs = list(zip(lines[: n // 2], lines[n // 2 :], strict=True))
            lines = [w.shuffled(a, b, first) for a, b in pairs for first in (0, n // 2)]
        for r, line in enumerate(lines):
            w.store(line, "target", w.plus(w["to"], w.times(w["step_to"], r)))
        return nothing(context)

    return types.void(x, at, step, target, to, step_to), generate


CODES = "x codes at n scale target to"


def decode(each):
    """A function for n bytes of `codes`: into `target` the `each` values in a row of the table `x`
    that a byte stands for, scaled.
    """

    @intrinsic
    def decode_bytes(typing_context, x, codes, at, n, scale, target, to):
        def generate(context, builder, signature, arguments):
            w = Writer(context, builder, signature, CODES, arguments, each * x.dtype.bitwidth // 8)
            factor = w.spread(w["scale"])
            with w.count(w["n"]) as k:
                code = builder.zext(
                    builder.load(builder.gep(w["codes"], [w.plus(w["at"], k)])), INDEX
                )
                values = w.load("x", w.times(code, each))
                w.store(builder.fmul(values, factor), "target", w.plus(w["to"], w.times(k, each)))
            return nothing(context)

        return types.void(x, codes, at, n, scale, target, to), generate

    return decode_bytes


def _through(context, builder, signature, names, arguments):
    """Writers of a vector and of a single value, each with where in a flat array `x` it begins and
    stops.
    """
    wide, single = (
        Writer(context, builder, signature, names, arguments, n_bytes) for n_bytes in (VECTOR, 1)
    )
    n = wide.length["x"]
    whole = builder.sub(n, builder.srem(n, INDEX(wide.lanes)))
    return [(wide, INDEX(0), whole), (single, whole, n)]


def elementwise(formula, names):
    """A function of flat arrays that writes ``formula(writer, *values)`` of those but the last into
    the last.
    """
    inputs = names.split()[:-1]
    output = names.split()[-1]

    def generate(context, builder, signature, arguments):
        for w, first, stop in _through(context, builder, signature, names, arguments):
            with counted(builder, first, stop, INDEX(w.lanes)) as i:
                w.store(formula(w, *(w.load(name, i) for name in inputs)), output, i)
        return nothing(context)

    if len(inputs) == 1:
        return intrinsic(lambda typing_context, x, out: (types.void(x, out), generate))
    return intrinsic(lambda typing_context, x, g, out: (types.void(x, g, out), generate))


@intrinsic
def soften(typing_context, x):
    """The softmax of a flat array, in place."""

    def generate(context, builder, signature, arguments):
        spans = _through(context, builder, signature, "x", arguments)
        wide, single = (w for w, _, _ in spans)

        def through(w, first, stop):
            return counted(builder, first, stop, INDEX(w.lanes))

        tops = [variable(builder, w.constant(-math.inf)) for w, _, _ in spans]
        for (w, first, stop), top in zip(spans, tops, strict=True):
            with through(w, first, stop) as i:
                builder.store(w.at_least(w.load("x", i), builder.load(top)), top)
        top = wide.larger(
            wide.reduce("fmax", builder.load(tops[0])), single.reduce("fmax", builder.load(tops[1]))
        )
        sums = [variable(builder, w.constant(0)) for w, _, _ in spans]
        for (w, first, stop), total in zip(spans, sums, strict=True):
            with through(w, first, stop) as i:
                found = w.exp(builder.fsub(w.load("x", i), w.spread(top)))
                w.store(found, "x", i)
                builder.store(builder.fadd(builder.load(total), found), total)
        total = builder.fadd(
            *(
                w.reduce("fadd", builder.load(total))
                for (w, _, _), total in zip(spans, sums, strict=True)
            )
        )
        reciprocal = builder.fdiv(ir.Constant(wide.one, 1.0), total)
        for w, first, stop in spans:
            with through(w, first, stop) as i:
                w.store(builder.fmul(w.load("x", i), w.spread(reciprocal)), "x", i)
        return nothing(context)

    return types.void(x), generate


SOFTENED = "x y out scale"


@intrinsic
def soften_adjoint(typing_context, x, y, out, scale):
    """``out = scale * y * (x - sum(x * y))`` of flat arrays: the adjoint of `soften`; `out` may be
    `x`.
    """

    def generate(context, builder, signature, arguments):
        spans = _through(context, builder, signature, SOFTENED, arguments)
        sums = [variable(builder, w.constant(0)) for w, _, _ in spans]
        for (w, first, stop), total in zip(spans, sums, strict=True):
            with counted(builder, first, stop, INDEX(w.lanes)) as i:
                builder.store(
                    w.multiply_add(w.load("x", i), w.load("y", i), builder.load(total)), total
                )
        total = builder.fadd(
            *(
                w.reduce("fadd", builder.load(total))
                for (w, _, _), total in zip(spans, sums, strict=True)
            )
        )
        for w, first, stop in spans:
            centre, factor = w.spread(total), w.spread(w["scale"])
            with counted(builder, first, stop, INDEX(w.lanes)) as i:
                found = builder.fmul(w.load("y", i), builder.fsub(w.load("x", i), centre))
                w.store(builder.fmul(found, factor), "out", i)
        return nothing(context)

    return types.void(x, y, out, scale), generate

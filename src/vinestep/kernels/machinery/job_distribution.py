"""The thread pool of compiled loops: jobs are distributed within a microsecond, without the
interpreter, to threads that poll.

Threads communicate through the board, an array of atomic counters. A job is a compiled function,
its arguments and a number of parts; each free thread fetches the next part. The ticket is one
counter: its high bits number the jobs, its low bits count the parts left, so that a
compare-and-swap can never take a part of an earlier job.
"""

from __future__ import annotations

import sys

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

from . import grain_sizes as sizes
from .compilation import inner_kernel, kernel
from .counters import (
    ARGUMENTS,
    CALLED,
    DONE,
    FAILED,
    FUNCTION,
    TAKEN,
    TICKET,
)
from .llvm_ir import (
    INDEX,
    function,
    packed,
    unpacked,
    variable,
)
from .numba_internals import (
    array_at,
    call_compiled,
    kernel_signature,
    nothing,
    pair,
)
from .symbol_calls import declared

__all__ = ["distribute", "job", "parts_of", "rows_together", "serve", "span", "until_changed"]

parts_of, rows_together, span = (
    inner_kernel(function) for function in (sizes.parts_of, sizes.rows_together, sizes.span)
)

PART_BITS = 16
MOST_PARTS = (1 << PART_BITS) - 1
LOOKS_TOGETHER = 32  # polls, after which the thread yields the processor

WORK = ir.FunctionType(ir.IntType(32), [INDEX, INDEX])


def _cell(context, builder, signature, arguments):
    """Where a place of the board lies; board and place come first."""
    array = array_at(context, builder, signature.args[0], arguments[0])
    return builder.gep(array.data, [arguments[1]])


@intrinsic
def _read(typing_context, board, place):
    """As other threads wrote it last."""

    def generate(context, builder, signature, arguments):
        return builder.load_atomic(_cell(context, builder, signature, arguments), "acquire", 8)

    return types.int64(board, types.int64), generate


@intrinsic
def _write(typing_context, board, place, value):
    def generate(context, builder, signature, arguments):
        builder.store_atomic(
            arguments[2], _cell(context, builder, signature, arguments), "release", 8
        )
        return nothing(context)

    return types.void(board, types.int64, types.int64), generate


@intrinsic
def _add(typing_context, board, place, more):
    def generate(context, builder, signature, arguments):
        return builder.atomic_rmw(
            "add", _cell(context, builder, signature, arguments), arguments[2], "acq_rel"
        )

    return types.int64(board, types.int64, types.int64), generate


@intrinsic
def _exchange(typing_context, board, place, old, new):
    """Writes the new value where the old one stands; whether it did."""

    def generate(context, builder, signature, arguments):
        result = builder.cmpxchg(
            _cell(context, builder, signature, arguments), *arguments[2:], "acq_rel", "acquire"
        )
        return builder.extract_value(result, 1)

    return types.boolean(board, types.int64, types.int64, types.int64), generate


@intrinsic
def _pause(typing_context):
    """A moment in which a processor lets its other thread go first."""

    def generate(context, builder, signature, arguments):
        if "x86" in builder.module.triple:
            builder.call(
                function(builder, ir.FunctionType(ir.VoidType(), []), "llvm.x86.sse2.pause"), []
            )
        return nothing(context)

    return types.void(), generate


@intrinsic
def _give_way(typing_context):
    """Yield the processor (sched_yield): the thread that is waited for may need it."""

    def generate(context, builder, signature, arguments):
        if sys.platform != "win32":
            builder.call(function(builder, ir.FunctionType(ir.IntType(32), []), "sched_yield"), [])
        return nothing(context)

    return types.void(), generate


@inner_kernel
def _rest(looks):
    """The pause between two polls of a board, after so many."""
    if looks % LOOKS_TOGETHER == 0:
        _give_way()
    else:
        _pause()


@intrinsic
def _call(typing_context, work, arguments, part):
    """Does a part of a job; 1 if that failed, else 0."""

    def generate(context, builder, signature, given):
        work = builder.inttoptr(given[0], WORK.as_pointer())
        return builder.zext(builder.call(work, given[1:]), INDEX)

    return types.int64(types.int64, types.int64, types.int64), generate


@intrinsic
def job(typing_context, loop, arguments):
    """A kernel and its arguments but the last, which is the number of a part, as addresses; good
    until the caller returns.
    """
    inner = kernel_signature(typing_context, loop, (*arguments.types, types.int64))

    def generate(context, builder, signature, given):
        target = declared(context, builder, loop.dispatcher, inner.args)
        together = packed(builder, unpacked(builder, given[1]))
        place = variable(builder, together)

        work = ir.Function(builder.module, WORK, f"part of {target.name}")
        work.linkage = "internal"
        inside = ir.IRBuilder(work.append_basic_block("entry"))
        address, part = work.args
        values = unpacked(inside, inside.load(inside.inttoptr(address, together.type.as_pointer())))
        _, failed, _ = call_compiled(context, inside, target, inner, [*values, part])
        inside.ret(inside.zext(failed, WORK.return_type))

        return pair(
            context,
            builder,
            signature.return_type,
            [builder.ptrtoint(pointer, INDEX) for pointer in (work, place)],
        )

    return types.UniTuple(types.int64, 2)(loop, arguments), generate


@inner_kernel
def _take_parts(board):
    """Does parts of the job on the board until none is left."""
    while True:
        ticket = _read(board, TICKET)
        left = ticket & MOST_PARTS
        if left == 0:
            return
        function, arguments = _read(board, FUNCTION), _read(board, ARGUMENTS)
        if _exchange(board, TICKET, ticket, ticket - 1):
            if _call(function, arguments, left - 1):
                _write(board, FAILED, 1)
            _add(board, DONE, 1)


@inner_kernel
def distribute(board, parts, job):
    """Run all parts of a job, with the pool's free threads; single-threaded if the board holds
    another job.
    """
    function, arguments = job
    failed = 0
    if parts == 1 or not _exchange(board, TAKEN, 0, 1):
        for part in range(parts):
            failed |= _call(function, arguments, part)
    else:
        _write(board, FUNCTION, function)
        _write(board, ARGUMENTS, arguments)
        _write(board, FAILED, 0)
        _write(board, DONE, 0)
        _write(board, TICKET, ((_read(board, TICKET) >> PART_BITS) + 1 << PART_BITS) | parts)
        _take_parts(board)
        looks = 0
        while _read(board, DONE) != parts:
            looks += 1
            _rest(looks)
        failed = _read(board, FAILED)
        _write(board, TAKEN, 0)
    if failed:
        raise MemoryError("not enough memory for a part of the work")


@kernel
def serve(board, called, patience):
    """Run parts of jobs until none came during so many polls, or the counter `CALLED` changed."""
    looks = 0
    while looks < patience and _read(board, CALLED) == called:
        if _read(board, TICKET) & MOST_PARTS:
            _take_parts(board)
            looks = 0
        looks += 1
        _rest(looks)


@kernel
def until_changed(flag, seen, patience):
    """Return when ``flag[0]`` has changed, or after so many polls."""
    for looks in range(1, patience):
        if _read(flag, 0) != seen:
            return
        _rest(looks)

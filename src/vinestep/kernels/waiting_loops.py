"""Waiting that is over within a microsecond of what is waited for, where waking a sleeping thread takes up to a hundred."""

from __future__ import annotations

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

from .compiling import kernel

__all__ = ["until_changed"]


@intrinsic
def _now(typing_context, flag):
    """The first element, as other threads wrote it last."""

    def generate(context, builder, signature, arguments):
        array = context.make_array(signature.args[0])(context, builder, arguments[0])
        return builder.load_atomic(array.data, "acquire", 8)

    return types.int64(flag), generate


@intrinsic
def _rest(typing_context):
    """A moment in which a processor lets its other thread go first."""

    def generate(context, builder, signature, arguments):
        if "x86" in builder.module.triple:
            nothing = ir.FunctionType(ir.VoidType(), [])
            builder.call(cgutils.get_or_insert_function(builder.module, nothing, "llvm.x86.sse2.pause"), [])
        return context.get_dummy_value()

    return types.void(), generate


@kernel
def until_changed(flag, seen, patience):
    """Returns when ``flag[0]`` is no longer `seen`, or after having looked so many times."""
    for _ in range(patience):
        if _now(flag) != seen:
            return
        _rest()

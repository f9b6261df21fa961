"""What kernels say all the time, as few instructions: Numba's own is compiled anew for every
kernel, or full of checks.

Kernels that are full of slices and new arrays compile in half to two thirds of the time with these.
"""

from __future__ import annotations

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

from .llvm_ir import zeroed
from .numba_internals import array_at, new_array, view

__all__ = ["beyond", "contiguous", "empty", "flat", "larger", "line", "matrix", "smaller", "zeros"]

LINE = 64  # bytes of the cache


def contiguous(kind):
    """The type of an array, if its elements lie one after another."""
    if not isinstance(kind, types.Array) or kind.layout != "C":
        raise TypeError(f"kernels that count elements need contiguous arrays, not {kind}")
    return kind


def _view(context, builder, signature, given, shape):
    source = array_at(context, builder, signature.args[0], given[0])
    strides = [source.itemsize]
    for length in reversed(shape[1:]):
        strides.insert(0, builder.mul(strides[0], length))
    data = builder.gep(source.data, [given[1]])
    return view(context, builder, signature.return_type, source, data, shape, strides)


@intrinsic
def flat(typing_context, x):
    """``x.reshape(-1)`` of a contiguous array."""

    def generate(context, builder, signature, given):
        array = array_at(context, builder, signature.args[0], given[0])
        return _view(
            context,
            builder,
            signature,
            [given[0], ir.Constant(array.nitems.type, 0)],
            [array.nitems],
        )

    return contiguous(x).copy(ndim=1)(x), generate


@intrinsic
def beyond(typing_context, x, at):
    """``x[at:]``"""

    def generate(context, builder, signature, given):
        array = array_at(context, builder, signature.args[0], given[0])
        return _view(context, builder, signature, given, [builder.sub(array.nitems, given[1])])

    return contiguous(x).copy(ndim=1)(x, types.int64), generate


@intrinsic
def line(typing_context, x, at, n):
    """``x[at : at + n]``"""

    def generate(context, builder, signature, given):
        return _view(context, builder, signature, given, given[2:])

    return contiguous(x).copy(ndim=1)(x, types.int64, types.int64), generate


@intrinsic
def matrix(typing_context, x, at, n, width):
    """``x[at : at + n * width].reshape((n, width))``"""

    def generate(context, builder, signature, given):
        return _view(context, builder, signature, given, given[2:])

    return contiguous(x).copy(ndim=2)(x, types.int64, types.int64, types.int64), generate


@intrinsic
def empty(typing_context, n, dtype):
    """``np.empty(n, dtype)``, at the begin of a line of the cache."""
    kind = types.Array(dtype.dtype, 1, "C")

    def generate(context, builder, signature, given):
        array, _, _ = new_array(context, builder, kind, given[0], LINE)
        return array

    return kind(types.int64, dtype), generate


@intrinsic
def zeros(typing_context, n, dtype):
    """``np.zeros(n, dtype)``"""
    kind = types.Array(dtype.dtype, 1, "C")

    def generate(context, builder, signature, given):
        array, data, size = new_array(context, builder, kind, given[0], LINE)
        zeroed(builder, data, size)
        return array

    return kind(types.int64, dtype), generate


def _chosen(comparison):
    def generate(context, builder, signature, given):
        return builder.select(builder.icmp_signed(comparison, *given), *given)

    return types.int64(types.int64, types.int64), generate


@intrinsic
def smaller(typing_context, a, b):
    """Of two whole numbers."""
    return _chosen("<")


@intrinsic
def larger(typing_context, a, b):
    """Of two whole numbers."""
    return _chosen(">")

"""Parts of a flat array, without the checks of a slice: they make most of what a kernel full of slices takes to compile."""

from __future__ import annotations

from llvmlite import ir
from numba import types
from numba.core.errors import TypingError
from numba.core.imputils import impl_ret_borrowed
from numba.extending import intrinsic
from numba.np.arrayobj import populate_array

__all__ = ["beyond", "contiguous", "flat", "line", "matrix"]


def contiguous(kind):
    """The type of an array, if its elements lie one after another."""
    if not isinstance(kind, types.Array) or kind.layout != "C":
        raise TypingError(f"kernels that count elements need contiguous arrays, not {kind}")
    return kind


def _view(context, builder, signature, given, shape):
    source = context.make_array(signature.args[0])(context, builder, given[0])
    view = context.make_array(signature.return_type)(context, builder)
    strides = [source.itemsize]
    for length in reversed(shape[1:]):
        strides.insert(0, builder.mul(strides[0], length))
    data = builder.gep(source.data, [given[1]])
    owner = {"meminfo": source.meminfo, "parent": source.parent}
    populate_array(view, data=data, shape=shape, strides=strides, itemsize=source.itemsize, **owner)
    return impl_ret_borrowed(context, builder, signature.return_type, view._getvalue())


@intrinsic
def flat(typing_context, x):
    """``x.reshape(-1)`` of a contiguous array."""

    def generate(context, builder, signature, given):
        array = context.make_array(signature.args[0])(context, builder, given[0])
        return _view(context, builder, signature, [given[0], ir.Constant(array.nitems.type, 0)], [array.nitems])

    return contiguous(x).copy(ndim=1)(x), generate


@intrinsic
def beyond(typing_context, x, at):
    """``x[at:]``"""

    def generate(context, builder, signature, given):
        array = context.make_array(signature.args[0])(context, builder, given[0])
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

"""Calls between kernels by symbol, so that a callee is compiled once and not again within each
caller.
"""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module

import llvmlite.binding
from numba import types
from numba.extending import intrinsic

from .llvm_ir import unpacked
from .numba_internals import (
    address_of,
    call_compiled,
    compiled_function,
    kernel_signature,
    pass_on,
)

__all__ = ["call", "declared"]


@dataclass(frozen=True)
class _Callee:
    """A kernel for arguments of these types. Calling it makes its code known under the name; so it
    has to be in each process.
    """

    module: str
    kernel: str
    kinds: tuple[types.Type, ...]

    @property
    def name(self) -> str:
        return f"{self.module}.{self.kernel}{self.kinds}"

    def __call__(self) -> None:
        kernel = getattr(import_module(self.module), self.kernel)
        kernel.compile(self.kinds)
        llvmlite.binding.add_symbol(self.name, address_of(kernel, self.kinds))


def declared(context, builder, kernel, kinds):
    """A compiled kernel, to be called by what is being written, which makes it known again when it
    is loaded from the cache.
    """
    function = kernel.py_func
    return compiled_function(
        context, builder, kernel, kinds, _Callee(function.__module__, function.__name__, kinds)
    )


@intrinsic
def call(typing_context, kernel, *arguments):
    """What a kernel gives for the arguments."""
    inner = kernel_signature(typing_context, kernel, arguments)

    def generate(context, builder, signature, given):
        function = declared(context, builder, kernel.dispatcher, inner.args)
        status, failed, result = call_compiled(
            context, builder, function, inner, unpacked(builder, given[1])
        )
        with builder.if_then(failed, likely=False):
            pass_on(context, builder, status)
        return result

    return inner.return_type(kernel, types.StarArgTuple(arguments)), generate

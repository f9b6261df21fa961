"""Calls between kernels by symbol, so that a callee is compiled once and not again within each caller."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module

import llvmlite.binding
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

__all__ = ["call", "declared"]


@dataclass(frozen=True)
class _Compiled:
    """A kernel for arguments of these types. Calling it makes its code known under the name; so it has to be in each process."""

    module: str
    kernel: str
    kinds: tuple[types.Type, ...]

    @property
    def name(self) -> str:
        return f"{self.module}.{self.kernel}{self.kinds}"

    def __call__(self) -> None:
        kernel = getattr(import_module(self.module), self.kernel)
        kernel.compile(self.kinds)
        compiled = kernel.overloads[self.kinds]
        llvmlite.binding.add_symbol(self.name, compiled.library.get_pointer_to_function(compiled.fndesc.llvm_func_name))


def declared(context, builder, dispatcher, kinds):
    """A compiled kernel, to be called by what is being written, which makes it known again when it is loaded from the cache."""
    function = dispatcher.py_func
    compiled = _Compiled(function.__module__, function.__name__, kinds)
    compiled()
    context.active_code_library._reload_init.add(compiled)
    kind = context.call_conv.get_function_type(dispatcher.overloads[kinds].signature.return_type, kinds)
    return cgutils.get_or_insert_function(builder.module, kind, compiled.name)


@intrinsic
def call(typing_context, kernel, *arguments):
    """What a kernel gives for the arguments."""
    inner = kernel.get_call_type(typing_context, arguments, {})

    def generate(context, builder, signature, given):
        function = declared(context, builder, kernel.dispatcher, inner.args)
        values = cgutils.unpack_tuple(builder, given[1])
        status, found = context.call_conv.call_function(builder, function, inner.return_type, inner.args, values)
        with cgutils.if_unlikely(builder, status.is_error):
            context.call_conv.return_status_propagate(builder, status)
        return found

    return inner.return_type(kernel, types.StarArgTuple(arguments)), generate

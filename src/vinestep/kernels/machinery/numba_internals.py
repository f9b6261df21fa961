"""What the machinery uses of Numba beyond its documentation, all in this file. `NEEDED` lists it,
with what it is for.
"""

from __future__ import annotations

import threading
from importlib import import_module

from numba import types

from .llvm_ir import function
from .unsound import Unsound

__all__ = [
    "NEEDED",
    "address_of",
    "array_at",
    "call_compiled",
    "compiled_function",
    "dispatcher_of",
    "kernel_signature",
    "missing",
    "new_array",
    "nothing",
    "number_type",
    "pair",
    "pass_on",
    "view",
]

NEEDED = {
    "numba.core.registry.CPUDispatcher": "the object behind a compiled function; ours compiles "
    "without copies of what it calls",
    "numba.core.registry.CPUDispatcher.compile": "compiles for arguments of given types, or loads "
    "what was compiled",
    "numba.core.registry.CPUDispatcher.get_call_template": "which types are compiled for when one "
    "compiled function calls another",
    "numba.core.registry.CPUDispatcher.stats": "where compiled code is kept",
    "numba.core.caching.FunctionCache": "compiled code on disk",
    "numba.core.caching.FunctionCache._impl_class": "what is written of a compiled function, and "
    "how it is read",
    "numba.core.caching.FunctionCache._index_key": "what compiled code on disk is valid for; ours "
    "adds the sources of all loops",
    "numba.core.caching.CompileResultCacheImpl": "see `_impl_class`",
    "numba.core.caching.CompileResultCacheImpl.reduce": "what is written; ours adds which "
    "functions are called by symbol",
    "numba.core.caching.CompileResultCacheImpl.rebuild": "how it is read; ours loads those "
    "functions first",
    "numba.core.compiler.CompileResult": "a compiled function: its library, and its description",
    "numba.core.codegen.JITCodeLibrary.get_pointer_to_function": "the address of a compiled "
    "function",
    "numba.core.types.functions.Dispatcher.get_call_type": "the types that a call of a compiled "
    "function takes and gives",
    "numba.core.imputils.impl_ret_borrowed": "counts the references of a result that belongs to "
    "an argument",
    "numba.core.imputils.impl_ret_new_ref": "counts the references of a new result",
    "numba.core.base.BaseContext.make_array": "the fields of an array: data, shape, strides, owner",
    "numba.core.base.BaseContext.get_value_type": "the machine type of a number",
    "numba.core.base.BaseContext.get_data_type": "the same as it lies in memory",
    "numba.core.base.BaseContext.get_abi_sizeof": "its bytes",
    "numba.core.base.BaseContext.get_constant": "a constant of a type",
    "numba.core.base.BaseContext.get_dummy_value": "the result of a function without one",
    "numba.core.base.BaseContext.make_tuple": "a result of several values",
    "numba.core.cpu.CPUContext.call_conv": "how compiled functions call one another",
    "numba.core.callconv.CPUCallConv.get_function_type": "the machine type of a compiled function",
    "numba.core.callconv.CPUCallConv.call_function": "a call, and whether it failed",
    "numba.core.callconv.CPUCallConv.return_status_propagate": "fails as what was called failed",
    "numba.np.arrayobj.populate_array": "fills the fields of an array",
    "numba.core.runtime.context.NRTContext.meminfo_alloc_aligned": "memory for a new array",
    "numba.core.runtime.context.NRTContext.meminfo_data": "where it lies",
}


def missing() -> list[str]:
    """Which of `NEEDED` are not there."""
    return [name for name in NEEDED if not _is_there(name)]


def _is_there(name: str) -> bool:
    parts = name.split(".")
    found: object = None
    for end in range(len(parts), 0, -1):
        try:
            found = import_module(".".join(parts[:end]))
        except ImportError:
            continue
        for part in parts[end:]:
            if not hasattr(found, part):
                return False
            found = getattr(found, part)
        return True
    return False


# compiled functions


class _Callees(threading.local):
    """Which functions those that are being compiled in this thread call by symbol, the innermost
    last.
    """

    def __init__(self) -> None:
        self.sets: list[set[object]] = []


_callees = _Callees()


def dispatcher_of(python_function, options, sources, *, inner):
    """A function that is compiled for the types of its arguments when it is first called with them.

    Parameters
    ----------
    options : dict
        As for `numba.njit`.
    sources : str
        Compiled code on disk is valid for these only.
    inner : bool
        Whether only compiled functions call it; it takes half as long to compile.
    """
    from numba.core.caching import CompileResultCacheImpl, FunctionCache
    from numba.core.registry import CPUDispatcher

    class Saved(CompileResultCacheImpl):
        """Compiled code with the functions that it calls by symbol: these have to be in a process
        before it.
        """

        def reduce(self, compiled):
            return tuple(_callees.sets[-1]), super().reduce(compiled)

        def rebuild(self, target_context, payload):
            callees, compiled = payload
            for callee in callees:
                callee()
            return super().rebuild(target_context, compiled)

    class Cache(FunctionCache):
        _impl_class = Saved

        def _index_key(self, sig, codegen):
            return (*super()._index_key(sig, codegen), sources)

    class Kernel(CPUDispatcher):
        def compile(self, sig):
            _callees.sets.append(set())
            try:
                return super().compile(sig)
            except Unsound:
                raise
            except Exception as error:
                raise Unsound(
                    f"{self.py_func.__name__}{sig} could not be compiled: {type(error).__name__}: "
                    f"{error}"
                ) from error
            finally:
                _callees.sets.pop()

        def get_call_template(self, args, kws):
            """Numbers and truth values written where another kernel calls it are taken as any
            others, not compiled for each.
            """
            return super().get_call_template(tuple(types.unliteral(kind) for kind in args), kws)

    class InnerKernel(Kernel):
        """Has nothing by which the interpreter could call it."""

        def __call__(self, *arguments):
            raise TypeError(f"{self.py_func.__name__} is for other kernels only")

    kernel = (
        InnerKernel(python_function, targetoptions=options | {"no_cpython_wrapper": True})
        if inner
        else Kernel(python_function, targetoptions=options)
    )
    kernel._cache = Cache(python_function)  # type: ignore[attr-defined]
    return kernel


def kernel_signature(typing_context, kernel, kinds):
    """What a call of a compiled function, given as its type, takes and gives."""
    return kernel.get_call_type(typing_context, kinds, {})


def compiled_function(context, builder, kernel, kinds, callee):
    """A compiled function as one that the code being written can call by the symbol `callee`, which
    it needs from now on.
    """
    callee()
    _callees.sets[-1].add(callee)
    kind = context.call_conv.get_function_type(kernel.overloads[kinds].signature.return_type, kinds)
    return function(builder, kind, callee.name)


def address_of(kernel, kinds):
    """Of a function compiled for these types."""
    compiled = kernel.overloads[kinds]
    return compiled.library.get_pointer_to_function(compiled.fndesc.llvm_func_name)


def call_compiled(context, builder, function, signature, values):
    """Whether a call failed (for `pass_on`), that as one bit, and what it gave."""
    status, result = context.call_conv.call_function(
        builder, function, signature.return_type, signature.args, values
    )
    return status, status.is_error, result


def pass_on(context, builder, status):
    """Return from the function being written as the called one failed."""
    context.call_conv.return_status_propagate(builder, status)


# values


def nothing(context):
    return context.get_dummy_value()


def pair(context, builder, kind, values):
    return context.make_tuple(builder, kind, values)


def number_type(context, kind):
    return context.get_value_type(kind)


def array_at(context, builder, kind, value):
    """The fields of an array: ``data``, ``nitems``, ``itemsize`` and its owner."""
    return context.make_array(kind)(context, builder, value)


def view(context, builder, kind, source, data, shape, strides):
    """An array over the memory of another, of which the fields are given."""
    from numba.core.imputils import impl_ret_borrowed
    from numba.np.arrayobj import populate_array

    result = context.make_array(kind)(context, builder)
    owner = {"meminfo": source.meminfo, "parent": source.parent}
    populate_array(
        result, data=data, shape=shape, strides=strides, itemsize=source.itemsize, **owner
    )
    return impl_ret_borrowed(context, builder, kind, result._getvalue())


def new_array(context, builder, kind, n, alignment):
    """A new flat array, where its data lie, and its bytes."""
    from numba.core.imputils import impl_ret_new_ref
    from numba.np.arrayobj import populate_array

    array = context.make_array(kind)(context, builder)
    element = context.get_data_type(kind.dtype)
    itemsize = context.get_constant(types.intp, context.get_abi_sizeof(element))
    size = builder.mul(n, itemsize)
    owner = context.nrt.meminfo_alloc_aligned(builder, size, alignment)
    data = builder.bitcast(context.nrt.meminfo_data(builder, owner), element.as_pointer())
    populate_array(
        array, data=data, shape=[n], strides=[itemsize], itemsize=itemsize, meminfo=owner
    )
    return impl_ret_new_ref(context, builder, kind, array._getvalue()), data, size

"""Instructions that are written again and again, in terms of llvmlite's documented builder."""

from __future__ import annotations

from contextlib import contextmanager

from llvmlite import ir

__all__ = ["INDEX", "counted", "function", "packed", "unpacked", "variable", "zeroed"]

INDEX = ir.IntType(64)


@contextmanager
def counted(builder, first, stop, step):
    """A loop over the whole numbers from `first` up to before `stop`."""
    before = builder.basic_block
    head, body, after = (
        builder.append_basic_block(name) for name in ("loop", "loop_body", "loop_end")
    )
    builder.branch(head)
    builder.position_at_end(head)
    index = builder.phi(first.type)
    index.add_incoming(first, before)
    builder.cbranch(builder.icmp_signed("<", index, stop), body, after)
    builder.position_at_end(body)
    yield index
    index.add_incoming(builder.add(index, step, flags=["nsw"]), builder.basic_block)
    builder.branch(head)
    builder.position_at_end(after)


def variable(builder, value):
    """Where a value lies that changes; the compiler keeps it in a register if it can."""
    with builder.goto_entry_block():
        place = builder.alloca(value.type)
    builder.store(value, place)
    return place


def function(builder, kind, name):
    """A function by its symbol."""
    return builder.module.globals.get(name) or ir.Function(builder.module, kind, name)


def packed(builder, values):
    """Several values as one."""
    together = ir.Constant(ir.LiteralStructType([value.type for value in values]), ir.Undefined)
    for k, value in enumerate(values):
        together = builder.insert_value(together, value, k)
    return together


def unpacked(builder, together):
    return [builder.extract_value(together, k) for k in range(len(together.type.elements))]


def zeroed(builder, data, size):
    """Write so many bytes of 0."""
    address = builder.bitcast(data, ir.IntType(8).as_pointer())
    kind = ir.FunctionType(ir.VoidType(), [address.type, ir.IntType(8), size.type, ir.IntType(1)])
    name = f"llvm.memset.p0.i{size.type.width}"
    builder.call(function(builder, kind, name), [address, ir.IntType(8)(0), size, ir.IntType(1)(0)])

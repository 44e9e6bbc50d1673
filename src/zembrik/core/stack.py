"""A stack of whole numbers for kernels: room that lasts while the kernel runs, without making an array.

`new_stack` is asked for once at a kernel's beginning; `take` and `put` read and write its places.
"""

from __future__ import annotations

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

ROOM = 64  # numbers

_STACK = types.CPointer(types.int64)


@intrinsic
def new_stack(typingctx):  # type: ignore[no-untyped-def]
    """Return room for 64 numbers, whatever they are."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        return cgutils.alloca_once(builder, ir.IntType(64), size=ir.Constant(ir.IntType(32), ROOM))

    return _STACK(), code


@intrinsic
def put(typingctx, stack, place, number):  # type: ignore[no-untyped-def]
    """Write a number to a place, 0 to 63."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        builder.store(arguments[2], builder.gep(arguments[0], [arguments[1]]))
        return context.get_dummy_value()

    return types.none(_STACK, types.int64, types.int64), code


@intrinsic
def take(typingctx, stack, place):  # type: ignore[no-untyped-def]
    """Return the number at a place."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        return builder.load(builder.gep(arguments[0], [arguments[1]]))

    return types.int64(_STACK, types.int64), code

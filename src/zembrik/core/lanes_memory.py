"""Taking numbers up from arrays into lanes, and putting them back, inside kernels: see `lanes`.

Whole rows are taken up at once and turned into columns: an array's row is a point, or a thing's shape at rest, and
lanes hold one of its numbers for each of four or eight.
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

from zembrik.core.lanes import EIGHT, LANES, WIDE, WIDTH, LanesType, lanes, spread


@numba.njit(inline="always")
def four(a):  # type: ignore[no-untyped-def]
    """Return a and the three numbers after it, as ones that are never below zero."""
    return np.uint64(a), np.uint64(a) + np.uint64(1), np.uint64(a) + np.uint64(2), np.uint64(a) + np.uint64(3)


@numba.njit(inline="always")
def column4(rows, a, k):  # type: ignore[no-untyped-def]
    """Return place k of the four rows from a on."""
    a, b, c, d = four(a)
    return lanes(rows[a, k], rows[b, k], rows[c, k], rows[d, k])


@numba.njit(inline="always")
def take4(values, a, b, c, d):  # type: ignore[no-untyped-def]
    """Return values a, b, c, d of (n,)."""
    return lanes(values[a], values[b], values[c], values[d])


@numba.njit(inline="always")
def point(x, a):  # type: ignore[no-untyped-def]
    """Return the three coordinates of point a of x (n, 3)."""
    return x[a, 0], x[a, 1], x[a, 2]


@numba.njit(inline="always")
def put(x, a, at):  # type: ignore[no-untyped-def]
    """Set the coordinates of point a of x (n, 3)."""
    x[a, 0], x[a, 1], x[a, 2] = at


@numba.njit(inline="always")
def corner4(points, t, k):  # type: ignore[no-untyped-def]
    """Return place k of the four rows of numbers from t on."""
    a, b, c, d = four(t)
    return np.uint32(points[a, k]), np.uint32(points[b, k]), np.uint32(points[c, k]), np.uint32(points[d, k])


@numba.njit(inline="always")
def corners(points, t):  # type: ignore[no-untyped-def]
    """Return the four numbers of row t."""
    return np.uint32(points[t, 0]), np.uint32(points[t, 1]), np.uint32(points[t, 2]), np.uint32(points[t, 3])


def _values(kind: LanesType) -> Any:
    def code(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        array = context.make_array(signature.args[0])(context, builder, arguments[0])
        first = builder.gep(array.data, [arguments[1]])
        return builder.load(builder.bitcast(first, kind.form.as_pointer()), align=kind.number.bitwidth // 8)

    return code


@intrinsic
def values4(typingctx, values, t):  # type: ignore[no-untyped-def]
    """Return the four values from t on, of (n,) float64 side by side in memory."""
    return LANES(types.Array(types.float64, 1, "C"), types.int64), _values(LANES)


@intrinsic
def values8(typingctx, values, t):  # type: ignore[no-untyped-def]
    """Return the eight values from t on, of (n,) float32 side by side in memory."""
    return EIGHT(types.Array(types.float32, 1, "C"), types.int64), _values(EIGHT)


@intrinsic
def put8(typingctx, values, t, new):  # type: ignore[no-untyped-def]
    """Set the eight values from t on, of (n,) float32 side by side in memory, to numbers in lanes."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        array = context.make_array(signature.args[0])(context, builder, arguments[0])
        first = builder.gep(array.data, [arguments[1]])
        builder.store(arguments[2], builder.bitcast(first, EIGHT.form.as_pointer()), align=4)
        return context.get_dummy_value()

    return types.void(types.Array(types.float32, 1, "C"), types.int64, EIGHT), code


def _turn(builder: Any, rows: list[Any]) -> list[Any]:
    """Return the columns of eight rows of eight: by twos, by fours, then by halves."""

    def mixed(one: Any, other: Any, places: list[int]) -> Any:
        return builder.shuffle_vector(one, other, ir.Constant(ir.VectorType(ir.IntType(32), WIDE), places))

    low, high = [0, 8, 1, 9, 4, 12, 5, 13], [2, 10, 3, 11, 6, 14, 7, 15]
    twos = [mixed(rows[n], rows[n + 1], places) for n in (0, 2, 4, 6) for places in (low, high)]
    low, high = [0, 1, 8, 9, 4, 5, 12, 13], [2, 3, 10, 11, 6, 7, 14, 15]
    fours = [mixed(twos[n], twos[n + 2], places) for n in (0, 1, 4, 5) for places in (low, high)]
    halves = ([0, 1, 2, 3, 8, 9, 10, 11], [4, 5, 6, 7, 12, 13, 14, 15])
    return [mixed(fours[n], fours[n + 4], places) for places in halves for n in range(4)]


@intrinsic
def rows8(typingctx, rows, a, b, c, d, e, f, g, h):  # type: ignore[no-untyped-def]
    """Return the eight numbers of rows a to h of (n, 8) float32, each of them in lanes; rows are numbered by uint64."""
    whole = types.UniTuple(EIGHT, WIDE)

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        array = context.make_array(signature.args[0])(context, builder, arguments[0])
        loaded = []
        for number in arguments[1:]:
            first = builder.gep(array.data, [builder.shl(number, ir.Constant(number.type, 3))])
            loaded.append(builder.load(builder.bitcast(first, EIGHT.form.as_pointer()), align=4))
        return context.make_tuple(builder, whole, _turn(builder, loaded))

    return whole(types.Array(types.float32, 2, "C"), *[types.uint64] * WIDE), code


def _turn_four(builder: Any, rows: list[Any]) -> list[Any]:
    """Return the columns of four rows of four: by twos, then by halves."""

    def mixed(one: Any, other: Any, places: list[int]) -> Any:
        return builder.shuffle_vector(one, other, ir.Constant(ir.VectorType(ir.IntType(32), WIDTH), places))

    twos = [mixed(rows[n], rows[n + 1], places) for n in (0, 2) for places in ([0, 4, 2, 6], [1, 5, 3, 7])]
    return [mixed(twos[n], twos[n + 2], places) for places in ([0, 1, 4, 5], [2, 3, 6, 7]) for n in (0, 1)]


def _row_places(context: Any, builder: Any, kind: Any, array: Any, numbers: list[Any], wide: int) -> list[Any]:
    """Return where rows of (n, wide) float64 begin; numbers are never below 0."""
    data = context.make_array(kind)(context, builder, array).data
    long = [n if n.type.width == 64 else builder.zext(n, ir.IntType(64)) for n in numbers]
    return [builder.gep(data, [builder.mul(number, ir.Constant(number.type, wide))]) for number in long]


def _as_row(builder: Any, place: Any) -> Any:
    """Return a place of a number as that of four."""
    return builder.bitcast(place, LANES.form.as_pointer())


ROWS = types.Array(types.float64, 2, "C")


@intrinsic
def block4(typingctx, rows, t, k):  # type: ignore[no-untyped-def]
    """Return places k .. k + 3 of the four rows from t on, of (n, m) float64: four times lanes."""
    whole = types.UniTuple(LANES, WIDTH)

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        array = context.make_array(signature.args[0])(context, builder, arguments[0])
        wide = builder.extract_value(array.shape, 1)
        first = builder.gep(array.data, [builder.add(builder.mul(arguments[1], wide), arguments[2])])
        loaded = []
        for number in range(WIDTH):
            place = builder.gep(first, [builder.mul(wide, ir.Constant(wide.type, number))])
            loaded.append(builder.load(_as_row(builder, place), align=8))
        return context.make_tuple(builder, whole, _turn_four(builder, loaded))

    return whole(ROWS, types.int64, types.int64), code


@intrinsic
def points4(typingctx, x, a, b, c, d):  # type: ignore[no-untyped-def]
    """Return the three coordinates of points a, b, c, d of x (n, 3), each of them in lanes; numbers are never below 0.

    A point is taken up as a row of which the fourth place is left alone, as nothing may stand there.
    """
    whole = types.UniTuple(LANES, 3)
    three = ir.Constant(ir.VectorType(ir.IntType(1), WIDTH), [1, 1, 1, 0])

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        form, loaded = LANES.form, []
        kind = ir.FunctionType(form, [form.as_pointer(), ir.IntType(32), three.type, form])
        called = cgutils.get_or_insert_function(builder.module, kind, "llvm.masked.load.v4f64.p0")
        for place in _row_places(context, builder, signature.args[0], arguments[0], arguments[1:], 3):
            row = _as_row(builder, place)
            align = ir.Constant(ir.IntType(32), 8)
            loaded.append(builder.call(called, [row, align, three, ir.Constant(form, [0.0] * WIDTH)]))
        return context.make_tuple(builder, whole, _turn_four(builder, loaded)[:3])

    return whole(ROWS, a, b, c, d), code


@intrinsic
def put4(typingctx, x, a, b, c, d, at):  # type: ignore[no-untyped-def]
    """Set the coordinates of points a, b, c, d of x (n, 3); see `points4`."""
    two = ir.VectorType(ir.DoubleType(), 2)

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        columns = [builder.extract_value(arguments[5], n) for n in range(3)]
        rows = _turn_four(builder, [*columns, columns[2]])
        places = _row_places(context, builder, signature.args[0], arguments[0], arguments[1:5], 3)
        for place, row in zip(places, rows, strict=True):
            low = builder.shuffle_vector(row, row, ir.Constant(ir.VectorType(ir.IntType(32), 2), [0, 1]))
            builder.store(low, builder.bitcast(place, two.as_pointer()), align=8)
            last = builder.gep(place, [ir.Constant(ir.IntType(64), 2)])
            builder.store(builder.extract_element(row, ir.Constant(ir.IntType(32), 2)), last)
        return context.get_dummy_value()

    return types.void(ROWS, a, b, c, d, types.UniTuple(LANES, 3)), code


@intrinsic
def note8(typingctx, first, marks, out, at):  # type: ignore[no-untyped-def]
    """Write first + k, for each of the eight bits k of marks that is set, to out (n,) int32 from a place on.

    Return how many. Eight are written whatever the marks (those after them are rubbish), and without a branch: which
    bits are set cannot be foreseen.
    """
    many, mask = ir.VectorType(ir.IntType(32), WIDE), ir.VectorType(ir.IntType(1), WIDE)

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        first, marks, out, at = arguments
        numbers = builder.add(
            spread(builder, builder.trunc(first, many.element), many), ir.Constant(many, list(range(WIDE)))
        )
        byte = builder.trunc(marks, ir.IntType(WIDE))
        kind = ir.FunctionType(many, [many, mask, many])
        called = cgutils.get_or_insert_function(builder.module, kind, "llvm.experimental.vector.compress.v8i32")
        packed = builder.call(called, [numbers, builder.bitcast(byte, mask), ir.Constant(many, ir.Undefined)])
        array = context.make_array(signature.args[2])(context, builder, out)
        place = builder.bitcast(builder.gep(array.data, [at]), many.as_pointer())
        builder.store(packed, place, align=4)
        return builder.zext(builder.ctpop(byte), ir.IntType(64))

    return types.int64(types.int64, types.int64, types.Array(types.int32, 1, "C"), types.int64), code


@intrinsic
def row4(typingctx, rows, t):  # type: ignore[no-untyped-def]
    """Return row t of (n, 4) float64, which may be a constant, as lanes; t is never below 0."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        (place,) = _row_places(context, builder, signature.args[0], arguments[0], arguments[1:], WIDTH)
        return builder.load(_as_row(builder, place), align=8)

    return (LANES(rows, types.int64), code) if rows in (ROWS, ROWS.copy(readonly=True)) else None


@intrinsic
def put_row4(typingctx, rows, t, new):  # type: ignore[no-untyped-def]
    """Set row t of (n, 4) float64 to lanes; t is never below 0."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        (place,) = _row_places(context, builder, signature.args[0], arguments[0], arguments[1:2], WIDTH)
        builder.store(arguments[2], _as_row(builder, place), align=8)
        return context.get_dummy_value()

    return types.void(ROWS, types.int64, LANES), code


@intrinsic
def block_rows(typingctx, blocks, t):  # type: ignore[no-untyped-def]
    """Return the three rows of four of block t of (n, 12) float32, as lanes; t is never below 0."""
    whole, four_short = types.UniTuple(LANES, 3), ir.VectorType(ir.FloatType(), WIDTH)

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        (first,) = _row_places(context, builder, signature.args[0], arguments[0], arguments[1:], 3 * WIDTH)
        rows = []
        for n in range(3):
            place = builder.gep(first, [ir.Constant(ir.IntType(64), WIDTH * n)])
            row = builder.load(builder.bitcast(place, four_short.as_pointer()), align=4)
            rows.append(builder.fpext(row, LANES.form))
        return context.make_tuple(builder, whole, rows)

    return whole(types.Array(types.float32, 2, "C"), types.int64), code


@intrinsic
def add_block_rows(typingctx, blocks, t, a, b, c):  # type: ignore[no-untyped-def]
    """Add three rows of four to block t of (n, 12) float32; t is never below 0."""
    four_short = ir.VectorType(ir.FloatType(), WIDTH)

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        (first,) = _row_places(context, builder, signature.args[0], arguments[0], arguments[1:2], 3 * WIDTH)
        for n in range(3):
            place = builder.gep(first, [ir.Constant(ir.IntType(64), WIDTH * n)])
            place = builder.bitcast(place, four_short.as_pointer())
            more = builder.fptrunc(arguments[2 + n], four_short)
            builder.store(builder.fadd(builder.load(place, align=4), more), place, align=4)
        return context.get_dummy_value()

    return types.void(types.Array(types.float32, 2, "C"), types.int64, LANES, LANES, LANES), code

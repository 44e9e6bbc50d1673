"""Numbers worked on side by side, inside kernels: one formula serves single constraints and packs of four.

A kernel that is given numbers computes with numbers; given `LANES` it computes with four at a time, one a lane,
each exactly as it would alone (every operation rounds lane by lane, so the result is the same to the byte). The
four constraints of a pack share no point (`solver.colour`), so none needs what another one writes. `EIGHT` are eight
numbers of single precision, for what is only to be ruled out before it is looked at exactly.

Lanes know + - * / and comparing, with one another and with plain numbers, and what is below. `fma` and `dot3`
of `compiled` take them too.
"""

from __future__ import annotations

import operator
from collections.abc import Callable
from typing import Any

import numba
import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.core.datamodel import models
from numba.core.typing.templates import AbstractTemplate, infer_global, signature
from numba.extending import intrinsic, lower_builtin, register_model

WIDTH, WIDE = 4, 8


class MaskType(types.Type):  # type: ignore[misc]
    """So many yes or no, what comparing lanes gives."""

    def __init__(self, width: int) -> None:
        self.width, self.form = width, ir.VectorType(ir.IntType(1), width)
        super().__init__(name=f"Mask{width}")


class LanesType(types.Type):  # type: ignore[misc]
    """Numbers side by side, of a kind; `mask` is what comparing them gives, `word` what the compiler calls them."""

    def __init__(self, number: types.Float, mask: MaskType) -> None:
        self.number, self.mask = number, mask
        single = number == types.float32
        self.form = ir.VectorType(ir.FloatType() if single else ir.DoubleType(), mask.width)
        self.word = f"v{mask.width}{'f32' if single else 'f64'}"
        super().__init__(name=f"Lanes{mask.width}")


LANES = LanesType(types.float64, MaskType(WIDTH))
EIGHT = LanesType(types.float32, MaskType(WIDE))


def _model(manager: Any, kind: Any) -> Any:
    return models.PrimitiveModel(manager, kind, kind.form)


register_model(LanesType)(_model)
register_model(MaskType)(_model)


def spread(builder: Any, value: Any, form: Any) -> Any:
    """Return an LLVM value as a vector of that form: a number stands in every lane."""
    if isinstance(value.type, ir.VectorType):
        return value
    vector = ir.Constant(form, ir.Undefined)
    for lane in range(form.count):
        vector = builder.insert_element(vector, value, ir.Constant(ir.IntType(32), lane))
    return vector


def kind_of(*kinds: Any) -> Any:
    """Return which lanes are among the kinds, or float64 if none is; a mask stands for lanes of its width."""
    for kind in kinds:
        if isinstance(kind, LanesType):
            return kind
    for kind in kinds:
        if isinstance(kind, MaskType):
            return LANES if kind.width == WIDTH else EIGHT
    return types.float64


def _is_lane(kind: types.Type) -> bool:
    return isinstance(kind, LanesType)


def number_in(kind: Any, lanes: Any) -> Any:
    """Return as what an operand is taken where it goes with such lanes (or numbers)."""
    return kind if _is_lane(kind) else lanes.number if _is_lane(lanes) else types.float64


def _two(function: Any, compares: bool, code: Callable[[Any, Any, Any], Any]) -> None:
    """Let an operator take two lanes, or lanes and a number."""

    class Template(AbstractTemplate):  # type: ignore[misc]
        key = function

        def generic(self, args: Any, kws: Any) -> Any:
            if kws or len(args) != 2 or not any(_is_lane(a) for a in args):
                return None
            if all(_is_lane(a) or isinstance(a, types.Number) for a in args):
                kind = kind_of(*args)
                return signature(kind.mask if compares else kind, *[number_in(a, kind) for a in args])
            return None

    infer_global(function)(Template)

    def lower(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        form = kind_of(*signature.args).form
        return code(builder, spread(builder, args[0], form), spread(builder, args[1], form))

    for kind in (LANES, EIGHT):
        for kinds in ((kind, kind), (kind, kind.number), (kind.number, kind)):
            lower_builtin(function, *kinds)(lower)


_two(operator.add, False, lambda b, x, y: b.fadd(x, y))
_two(operator.sub, False, lambda b, x, y: b.fsub(x, y))
_two(operator.mul, False, lambda b, x, y: b.fmul(x, y))
_two(operator.truediv, False, lambda b, x, y: b.fdiv(x, y))
_two(operator.gt, True, lambda b, x, y: b.fcmp_ordered(">", x, y))
_two(operator.ge, True, lambda b, x, y: b.fcmp_ordered(">=", x, y))
_two(operator.lt, True, lambda b, x, y: b.fcmp_ordered("<", x, y))
_two(operator.le, True, lambda b, x, y: b.fcmp_ordered("<=", x, y))


class _Minus(AbstractTemplate):  # type: ignore[misc]
    key = operator.neg

    def generic(self, args: Any, kws: Any) -> Any:
        return signature(args[0], args[0]) if len(args) == 1 and _is_lane(args[0]) else None


infer_global(operator.neg)(_Minus)


@lower_builtin(operator.neg, EIGHT)  # type: ignore[untyped-decorator]
@lower_builtin(operator.neg, LANES)  # type: ignore[untyped-decorator]
def _minus(context: Any, builder: Any, signature: Any, args: Any) -> Any:
    return builder.fneg(args[0])


@intrinsic
def lanes(typingctx, a, b, c, d):  # type: ignore[no-untyped-def]
    """Return lanes of four numbers."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        vector = ir.Constant(LANES.form, ir.Undefined)
        for lane, value in enumerate(arguments):
            vector = builder.insert_element(vector, value, ir.Constant(ir.IntType(32), lane))
        return vector

    return LANES(*[types.float64] * WIDTH), code


@intrinsic
def lane(typingctx, vector, number):  # type: ignore[no-untyped-def]
    """Return the number in a lane, 0 to 3."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        at = builder.trunc(arguments[1], ir.IntType(32))
        return builder.extract_element(arguments[0], at)

    return types.float64(LANES, types.int64), code


def _of_one(name: str) -> Any:
    """Return an intrinsic of one number or lanes."""

    @intrinsic
    def function(typingctx, a):  # type: ignore[no-untyped-def]
        kind = kind_of(a)

        def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
            of = arguments[0].type
            word = f"llvm.{name}.{kind.word if _is_lane(kind) else 'f64'}"
            called = cgutils.get_or_insert_function(builder.module, ir.FunctionType(of, [of]), word)
            return builder.call(called, arguments)

        return kind(kind), code

    return function


root = _of_one("sqrt")  # the square root
size = _of_one("fabs")  # without its sign


@intrinsic
def choose(typingctx, test, a, b):  # type: ignore[no-untyped-def]
    """Return a where the test holds, else b; for lanes, in each lane. Both are computed."""
    kind = kind_of(a, b, test)
    kinds = [number_in(k, kind) for k in (a, b)]

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        if not _is_lane(kind):
            return builder.select(arguments[0], arguments[1], arguments[2])
        return builder.select(arguments[0], *[spread(builder, value, kind.form) for value in arguments[1:]])

    return kind(test, *kinds), code


@intrinsic
def every(typingctx, test):  # type: ignore[no-untyped-def]
    """Tell whether a test holds, in every lane."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        if not isinstance(test, MaskType):
            return arguments[0]
        whole = ir.IntType(test.width)
        return builder.icmp_unsigned("==", builder.bitcast(arguments[0], whole), ir.Constant(whole, 2**test.width - 1))

    return types.boolean(test), code


@intrinsic
def either(typingctx, one, other):  # type: ignore[no-untyped-def]
    """Tell whether one test holds or the other; for lanes, in which."""
    kind = one if isinstance(one, MaskType) else types.boolean
    return kind(kind, kind), lambda context, builder, signature, arguments: builder.or_(*arguments)


@intrinsic
def bits(typingctx, test):  # type: ignore[no-untyped-def]
    """Return a test's lanes as the bits of a number, lane 0 lowest."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        return builder.zext(builder.bitcast(arguments[0], ir.IntType(test.width)), ir.IntType(64))

    return types.int64(test), code


@intrinsic
def lowest(typingctx, number):  # type: ignore[no-untyped-def]
    """Return the place of a whole number's lowest bit that is set (64 when none is)."""
    none = ir.Constant(ir.IntType(1), 0)
    return types.int64(types.int64), lambda context, builder, signature, arguments: builder.cttz(arguments[0], none)


@numba.njit(inline="always")
def larger(a, b):  # type: ignore[no-untyped-def]
    """Return the larger of two, in each lane."""
    return choose(a > b, a, b)


@numba.njit(inline="always")
def smaller(a, b):  # type: ignore[no-untyped-def]
    """Return the smaller of two, in each lane."""
    return choose(a < b, a, b)


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
def keep4(rows, t, k, new, add):  # type: ignore[no-untyped-def]
    """Set place k of the four rows from t on, or add to what is there."""
    a, b, c, d = four(t)
    if add:
        rows[a, k], rows[b, k] = rows[a, k] + lane(new, 0), rows[b, k] + lane(new, 1)
        rows[c, k], rows[d, k] = rows[c, k] + lane(new, 2), rows[d, k] + lane(new, 3)
    else:
        rows[a, k], rows[b, k], rows[c, k], rows[d, k] = lane(new, 0), lane(new, 1), lane(new, 2), lane(new, 3)


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


@intrinsic
def all8(typingctx, number):  # type: ignore[no-untyped-def]
    """Return a number of single precision in all eight lanes."""
    return EIGHT(types.float32), lambda context, builder, signature, arguments: spread(
        builder, arguments[0], EIGHT.form
    )


def _of_eight(join: Callable[[Any, Any, Any], Any]) -> Any:
    """Return an intrinsic that joins eight lanes to one number: halves, then fours, then twos."""

    @intrinsic
    def function(typingctx, eight):  # type: ignore[no-untyped-def]
        def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
            left = arguments[0]
            for half in (4, 2, 1):
                places = ir.Constant(ir.VectorType(ir.IntType(32), half), list(range(half, 2 * half)))
                first = ir.Constant(ir.VectorType(ir.IntType(32), half), list(range(half)))
                high = builder.shuffle_vector(left, left, places)
                left = join(builder, builder.shuffle_vector(left, left, first), high)
            return builder.extract_element(left, ir.Constant(ir.IntType(32), 0))

        return types.float32(EIGHT), code

    return function


least8 = _of_eight(lambda b, x, y: b.select(b.fcmp_ordered("<", x, y), x, y))  # the least of eight lanes
most8 = _of_eight(lambda b, x, y: b.select(b.fcmp_ordered(">", x, y), x, y))  # the largest
sum8 = _of_eight(lambda b, x, y: b.fadd(x, y))  # all together


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
def rows4(typingctx, rows, a, b, c, d):  # type: ignore[no-untyped-def]
    """Return the four numbers of rows a, b, c, d of (n, 4) float64, each of them in lanes; uint32 numbers."""
    whole = types.UniTuple(LANES, WIDTH)

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        places = _row_places(context, builder, signature.args[0], arguments[0], arguments[1:], WIDTH)
        loaded = [builder.load(_as_row(builder, place), align=8) for place in places]
        return context.make_tuple(builder, whole, _turn_four(builder, loaded))

    return whole(ROWS, *[types.uint32] * WIDTH), code


@intrinsic
def put_rows4(typingctx, rows, a, b, c, d, x, y, z, w):  # type: ignore[no-untyped-def]
    """Set rows a, b, c, d of (n, 4) float64 to numbers in lanes; uint32 numbers."""

    def code(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
        places = _row_places(context, builder, signature.args[0], arguments[0], arguments[1:5], WIDTH)
        for place, row in zip(places, _turn_four(builder, arguments[5:]), strict=True):
            builder.store(row, _as_row(builder, place), align=8)
        return context.get_dummy_value()

    return types.void(ROWS, *[types.uint32] * WIDTH, *[LANES] * WIDTH), code


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

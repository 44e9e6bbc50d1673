"""Numbers worked on side by side, inside kernels: one formula serves single constraints and packs of four.

A kernel that is given numbers computes with numbers; given `LANES` it computes with four at a time, one a lane,
each exactly as it would alone (every operation rounds lane by lane, so the result is the same to the byte). The
four constraints of a pack share no point (`solver.colour`), so none needs what another one writes. `EIGHT` are eight
numbers of single precision, for what is only to be ruled out before it is looked at exactly.

Lanes know + - * / and comparing, with one another and with plain numbers, and what is below. `fma` and `dot3`
of `compiled` take them too; `lanes_memory` takes them up from arrays.
"""

from __future__ import annotations

import operator
from collections.abc import Callable
from typing import Any

import numba
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

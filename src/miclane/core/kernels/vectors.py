"""Short vectors of doubles for compiled loops: eight (or four) lanes that stay in registers.

LLVM splits them into whatever the processor has (one AVX-512 register, two AVX2, four NEON), so the same loop runs
everywhere. Values exist inside kernels only.
"""

from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.core.datamodel.models import PrimitiveModel
from numba.extending import intrinsic as numba_intrinsic
from numba.extending import register_model

_DOUBLE = ir.DoubleType()
_I32 = ir.IntType(32)


def intrinsic(function: Callable[..., Any]) -> Any:
    """Numba's intrinsic: in kernels a function of the arguments after `typing`."""
    return numba_intrinsic(function)


class Lanes(types.Type):
    """Numba's type of a vector of `count` doubles."""

    def __init__(self, count: int) -> None:
        self.count = count
        super().__init__(name=f"lanes{count}")


@register_model(Lanes)
class _LanesModel(PrimitiveModel):
    def __init__(self, manager: Any, kind: Lanes) -> None:
        super().__init__(manager, kind, ir.VectorType(_DOUBLE, kind.count))


def _vector(count: int) -> ir.VectorType:
    return ir.VectorType(_DOUBLE, count)


def _place(context: Any, builder: Any, array_type: Any, array: Any, index: Any, count: int) -> Any:
    view = context.make_array(array_type)(context, builder, array)
    at = cgutils.gep(builder, view.data, index)
    return builder.bitcast(at, _vector(count).as_pointer())


def _same(value: Any, count: int) -> ir.Constant:
    return ir.Constant(_vector(count), [value] * count)


def _called(builder: Any, operation: str, args: Any, count: int) -> Any:
    """LLVM's own `operation` over vectors of `count` lanes."""
    kind = ir.FunctionType(_vector(count), [_vector(count)] * len(args))
    function = cgutils.get_or_insert_function(builder.module, kind, f"llvm.{operation}.v{count}f64")
    return builder.call(function, args)


def _splat(builder: Any, value: Any, count: int) -> Any:
    empty = ir.Constant(_vector(count), ir.Undefined)
    first = builder.insert_element(empty, value, _I32(0))
    return builder.shuffle_vector(first, empty, ir.Constant(ir.VectorType(_I32, count), [0] * count))


@intrinsic
def load8(typing: Any, array: Any, index: Any) -> Any:
    """Eight neighbours of a contiguous array (n,), from `index` on."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        found = builder.load(_place(context, builder, signature.args[0], args[0], args[1], 8))
        found.align = 8
        return found

    return Lanes(8)(array, types.intp), build


@intrinsic
def load4(typing: Any, array: Any, index: Any) -> Any:
    """Four neighbours of a contiguous array (n,), from `index` on."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        found = builder.load(_place(context, builder, signature.args[0], args[0], args[1], 4))
        found.align = 8
        return found

    return Lanes(4)(array, types.intp), build


@intrinsic
def put(typing: Any, array: Any, index: Any, value: Any) -> Any:
    """Write a vector over neighbours of a contiguous array (n,)."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[2].count
        done = builder.store(args[2], _place(context, builder, signature.args[0], args[0], args[1], count))
        done.align = 8
        return context.get_dummy_value()

    return types.none(array, types.intp, value), build


@intrinsic
def splat8(typing: Any, value: Any) -> Any:
    """One value in all eight lanes."""
    return Lanes(8)(types.float64), lambda context, builder, signature, args: _splat(builder, args[0], 8)


@intrinsic
def spread8(typing: Any, array: Any, index: Any) -> Any:
    """One value of a contiguous array (n,), `index` not under 0, in all eight lanes."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        view = context.make_array(signature.args[0])(context, builder, args[0])
        return _splat(builder, builder.load(cgutils.gep(builder, view.data, args[1])), 8)

    return Lanes(8)(array, types.intp), build


@intrinsic
def splat4(typing: Any, value: Any) -> Any:
    """One value in all four lanes."""
    return Lanes(4)(types.float64), lambda context, builder, signature, args: _splat(builder, args[0], 4)


@intrinsic
def fma(typing: Any, a: Any, b: Any, c: Any) -> Any:
    """a · b + c, rounded once."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return _called(builder, "fma", args, signature.args[0].count)

    return a(a, b, c), build


@intrinsic
def fused(typing: Any, a: Any, b: Any, c: Any) -> Any:
    """a · b + c of plain numbers, rounded once; keeps a · b out of the way where c is known first."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        kind = ir.FunctionType(_DOUBLE, [_DOUBLE] * 3)
        return builder.call(cgutils.get_or_insert_function(builder.module, kind, "llvm.fma.f64"), args)

    return types.float64(types.float64, types.float64, types.float64), build


@intrinsic
def times(typing: Any, a: Any, b: Any) -> Any:
    """a · b."""
    return a(a, b), lambda context, builder, signature, args: builder.fmul(*args)


@intrinsic
def plus(typing: Any, a: Any, b: Any) -> Any:
    """a + b."""
    return a(a, b), lambda context, builder, signature, args: builder.fadd(*args)


@intrinsic
def minus(typing: Any, a: Any, b: Any) -> Any:
    """a - b."""
    return a(a, b), lambda context, builder, signature, args: builder.fsub(*args)


@intrinsic
def larger(typing: Any, a: Any, b: Any) -> Any:
    """The larger of each pair; neither may be NaN."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.select(builder.fcmp_ordered(">", args[0], args[1]), args[0], args[1])

    return a(a, b), build


@intrinsic
def magnitude(typing: Any, a: Any) -> Any:
    """|a|."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return _called(builder, "fabs", args, signature.args[0].count)

    return a(a), build


@intrinsic
def root(typing: Any, a: Any) -> Any:
    """Square roots."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return _called(builder, "sqrt", args, signature.args[0].count)

    return a(a), build


@intrinsic
def shifted(typing: Any, before: Any, lanes: Any) -> Any:
    """The last lane of `before`, then all but the last of `lanes`."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[1].count
        picked = ir.Constant(ir.VectorType(_I32, count), [count - 1, *range(count, 2 * count - 1)])
        return builder.shuffle_vector(args[0], args[1], picked)

    return lanes(before, lanes), build


@intrinsic
def shifted_halves(typing: Any, before: Any, lanes: Any) -> Any:
    """As `shifted` for each half on its own: two chains of half as many sections, both fed the last of `before`."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[1].count
        half = count // 2
        low, high = range(count, count + half - 1), range(count + half, 2 * count - 1)
        picked = ir.Constant(ir.VectorType(_I32, count), [count - 1, *low, count - 1, *high])
        return builder.shuffle_vector(args[0], args[1], picked)

    return lanes(before, lanes), build


@intrinsic
def last(typing: Any, lanes: Any) -> Any:
    """Value of the last lane."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.extract_element(args[0], _I32(signature.args[0].count - 1))

    return types.float64(lanes), build


@intrinsic
def last8(typing: Any, lanes: Any) -> Any:
    """The last of eight lanes in all of them."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.shuffle_vector(args[0], args[0], ir.Constant(ir.VectorType(_I32, 8), [7] * 8))

    return lanes(lanes), build


@intrinsic
def low_high_high(typing: Any, lanes: Any) -> Any:
    """Of eight lanes the last of the lower half, then the last of all three times over, as four."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.shuffle_vector(args[0], args[0], ir.Constant(ir.VectorType(_I32, 4), [3, 7, 7, 7]))

    return Lanes(4)(lanes), build


@intrinsic
def lane(typing: Any, lanes: Any, which: Any) -> Any:
    """Value of one lane, named by a literal."""
    wanted = which.literal_value if isinstance(which, types.Literal) else None
    if wanted is None:
        return None

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.extract_element(args[0], _I32(wanted))

    return types.float64(lanes, which), build


@intrinsic
def within(typing: Any, low: Any, high: Any, inside: Any, outside: Any) -> Any:
    """Lanes low to high of `inside`, the others of `outside`."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[2].count
        kind = ir.VectorType(ir.IntType(64), count)
        at = ir.Constant(kind, list(range(count)))

        def spread(value: Any) -> Any:
            empty = ir.Constant(kind, ir.Undefined)
            first = builder.insert_element(empty, value, _I32(0))
            return builder.shuffle_vector(first, empty, ir.Constant(ir.VectorType(_I32, count), [0] * count))

        from_low = builder.icmp_signed(">=", at, spread(args[0]))
        to_high = builder.icmp_signed("<=", at, spread(args[1]))
        return builder.select(builder.and_(from_low, to_high), args[2], args[3])

    return inside(types.intp, types.intp, inside, outside), build


def _bits(builder: Any, value: Any, count: int) -> Any:
    return builder.bitcast(value, ir.VectorType(ir.IntType(64), count))


def _whole(value: int, count: int) -> ir.Constant:
    return ir.Constant(ir.VectorType(ir.IntType(64), count), [value] * count)


@intrinsic
def exponent(typing: Any, lanes: Any) -> Any:
    """Binary exponents of positive lanes, as doubles: 0 for values in [1, 2)."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[0].count
        raised = builder.sub(builder.lshr(_bits(builder, args[0], count), _whole(52, count)), _whole(1023, count))
        return builder.sitofp(raised, _vector(count))

    return lanes(lanes), build


@intrinsic
def mantissa(typing: Any, lanes: Any) -> Any:
    """Positive lanes brought into [1, 2) by a power of two."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[0].count
        kept = builder.and_(_bits(builder, args[0], count), _whole(0x000FFFFFFFFFFFFF, count))
        return builder.bitcast(builder.or_(kept, _whole(0x3FF0000000000000, count)), _vector(count))

    return lanes(lanes), build


@intrinsic
def rounded(typing: Any, lanes: Any) -> Any:
    """Lanes rounded to the nearest whole number."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return _called(builder, "rint", args, signature.args[0].count)

    return lanes(lanes), build


@intrinsic
def two_to(typing: Any, lanes: Any) -> Any:
    """2 to the power of lanes that hold whole numbers from -1022 to 1023."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[0].count
        power = builder.fptosi(args[0], ir.VectorType(ir.IntType(64), count))
        raised = builder.shl(builder.add(power, _whole(1023, count)), _whole(52, count))
        return builder.bitcast(raised, _vector(count))

    return lanes(lanes), build


@intrinsic
def over(typing: Any, a: Any, b: Any) -> Any:
    """a / b."""
    return a(a, b), lambda context, builder, signature, args: builder.fdiv(*args)


@intrinsic
def smaller(typing: Any, a: Any, b: Any) -> Any:
    """The smaller of each pair; neither may be NaN."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.select(builder.fcmp_ordered("<", args[0], args[1]), args[0], args[1])

    return a(a, b), build


@intrinsic
def where_above(typing: Any, a: Any, b: Any, yes: Any, no: Any) -> Any:
    """Lanes of `yes` where a > b, of `no` elsewhere."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.select(builder.fcmp_ordered(">", args[0], args[1]), args[2], args[3])

    return yes(a, b, yes, no), build


def _compared(builder: Any, args: Any, count: int) -> Any:
    """Bits of the lanes in which the first is over the second."""
    over = builder.fcmp_ordered(">", args[0], args[1])
    return builder.bitcast(over, ir.IntType(count))


@intrinsic
def any_above(typing: Any, a: Any, b: Any) -> Any:
    """Whether a > b in any lane."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[0].count
        return builder.icmp_unsigned("!=", _compared(builder, args, count), ir.Constant(ir.IntType(count), 0))

    return types.boolean(a, b), build


@intrinsic
def same(typing: Any, a: Any, b: Any) -> Any:
    """Whether a = b in every lane."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[0].count
        apart = builder.bitcast(builder.fcmp_unordered("!=", args[0], args[1]), ir.IntType(count))
        return builder.icmp_unsigned("==", apart, ir.Constant(ir.IntType(count), 0))

    return types.boolean(a, b), build


@intrinsic
def all_above(typing: Any, a: Any, b: Any) -> Any:
    """Whether a > b in every lane."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[0].count
        every = ir.Constant(ir.IntType(count), 2**count - 1)
        return builder.icmp_unsigned("==", _compared(builder, args, count), every)

    return types.boolean(a, b), build


@intrinsic
def largest(typing: Any, lanes: Any) -> Any:
    """The largest lane; none may be NaN."""

    def larger_of(builder: Any, low: Any, high: Any) -> Any:
        return builder.select(builder.fcmp_ordered(">", low, high), low, high)

    return types.float64(lanes), _folded(larger_of)


@intrinsic
def total(typing: Any, lanes: Any) -> Any:
    """The sum of all lanes: of the lower and the upper half, of the halves of that, and so on."""
    return types.float64(lanes), _folded(lambda builder, low, high: builder.fadd(low, high))


def _folded(joined: Callable[[Any, Any, Any], Any]) -> Callable[..., Any]:
    """Has the halves of a vector joined until one lane is left."""

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[0].count
        found = args[0]
        while count > 1:
            half = count // 2
            picks = [ir.Constant(ir.VectorType(_I32, half), list(range(k, k + half))) for k in (0, half)]
            low, high = (builder.shuffle_vector(found, found, pick) for pick in picks)
            found = joined(builder, low, high)
            count = half
        return builder.extract_element(found, _I32(0))

    return build


@intrinsic
def later(typing: Any, lanes: Any, by: Any) -> Any:
    """Lanes moved up by a literal number, zeros below."""
    moved = by.literal_value if isinstance(by, types.Literal) else None
    if moved is None:
        return None

    def build(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        count = signature.args[0].count
        picked = ir.Constant(ir.VectorType(_I32, count), list(range(count - moved, 2 * count - moved)))
        return builder.shuffle_vector(_same(0.0, count), args[0], picked)

    return lanes(lanes, by), build

"""A Numba type for compiled loops: some float32 lanes side by side, one vector of the processor (or a few), with the usual operators.

The compiler finds vectors by itself only where it can prove that no two arrays overlap, which it rarely can; with values of this type nothing has to be
found, and what goes from sample to sample stays in registers. Every lane is rounded as a single float32 would be, whatever the number of lanes.

``load(stride, x, at)`` reads as many lanes as ``stride``, a tuple, is long; ``store(x, at, lanes)`` writes them; ``splat(stride, value)`` repeats a
value. Beside the operators + - * there are ``fused`` (a * b + c rounded once), ``smaller``, ``larger``, ``size`` (magnitude), ``root``, ``where_over`` (select
by comparison), and the bits of which logarithms are made.
"""

import operator

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.core.datamodel import models
from numba.extending import intrinsic, overload, register_model

F32, I32 = ir.FloatType(), ir.IntType(32)


class Lanes(types.Type):
    """The type of some float32 lanes."""

    def __init__(self, count: int) -> None:
        self.count = count
        super().__init__(name=f"lanes{count}")


@register_model(Lanes)
class _LanesModel(models.PrimitiveModel):
    def __init__(self, manager, kind) -> None:
        super().__init__(manager, kind, ir.VectorType(F32, kind.count))


def _constant(kind: ir.VectorType, value) -> ir.Constant:
    return ir.Constant(kind, [value] * kind.count)


def _whole(count: int) -> ir.VectorType:
    return ir.VectorType(I32, count)


@intrinsic
def load(typing, stride, x, at):
    """Read lanes from a flat float32 array."""
    kind = Lanes(stride.count)

    def code(context, builder, signature, args):
        array = context.make_array(signature.args[1])(context, builder, args[1])
        place = builder.gep(array.data, [args[2]], inbounds=True)
        place = builder.bitcast(place, ir.VectorType(F32, kind.count).as_pointer())
        return builder.load(place, align=4)

    return kind(stride, x, types.intp), code


@intrinsic
def store(typing, x, at, lanes):
    """Write lanes into a flat float32 array."""

    def code(context, builder, signature, args):
        array = context.make_array(signature.args[0])(context, builder, args[0])
        place = builder.gep(array.data, [args[1]], inbounds=True)
        place = builder.bitcast(place, args[2].type.as_pointer())
        builder.store(args[2], place, align=4)
        return context.get_dummy_value()

    return types.void(x, types.intp, lanes), code


@intrinsic
def store_24(typing, x, at, lanes):
    """Write the lower three bytes of each of four lanes into a flat uint8 array, at any place; the four bytes behind them are lost."""

    def code(context, builder, signature, args):
        array = context.make_array(signature.args[0])(context, builder, args[0])
        place = builder.gep(array.data, [args[1]], inbounds=True)
        single = ir.VectorType(ir.IntType(8), 16)
        order = ir.Constant(_whole(16), sorted(range(16), key=lambda each: each % 4 == 3))
        packed = builder.shuffle_vector(builder.bitcast(args[2], single), ir.Constant(single, ir.Undefined), order)
        builder.store(packed, builder.bitcast(place, single.as_pointer()), align=1)
        return context.get_dummy_value()

    return types.void(x, types.intp, lanes), code


@intrinsic
def splat(typing, stride, value):
    """Repeat a float32 in all lanes."""
    kind = Lanes(stride.count)

    def code(context, builder, signature, args):
        return _repeated(builder, args[1], kind.count)

    return kind(stride, types.float32), code


@intrinsic
def load_one(typing, stride, x, at):
    """Read a single value of a flat float32 array into all lanes."""
    kind = Lanes(stride.count)

    def code(context, builder, signature, args):
        array = context.make_array(signature.args[1])(context, builder, args[1])
        return _repeated(builder, builder.load(builder.gep(array.data, [args[2]], inbounds=True)), kind.count)

    return kind(stride, x, types.intp), code


@intrinsic
def tiled(typing, stride, a):
    """Repeat lanes one after the other until they are as many as ``stride``, a tuple, is long."""
    kind = Lanes(stride.count)

    def code(context, builder, signature, args):
        order = [each % a.count for each in range(kind.count)]
        return builder.shuffle_vector(args[1], args[1], ir.Constant(_whole(kind.count), order))

    return kind(stride, a), code


def _repeated(builder, value, count: int):
    vector = ir.VectorType(value.type, count)
    first = builder.insert_element(ir.Constant(vector, ir.Undefined), value, ir.Constant(I32, 0))
    return builder.shuffle_vector(first, ir.Constant(vector, ir.Undefined), _constant(_whole(count), 0))


def _binary(name: str):
    """Return an intrinsic of two lanes by the builder's instruction."""

    @intrinsic
    def both(typing, a, b):
        def code(context, builder, signature, args):
            return getattr(builder, name)(args[0], args[1])

        return a(a, b), code

    return both


_add, _sub, _mul = _binary("fadd"), _binary("fsub"), _binary("fmul")


@intrinsic
def fused(typing, a, b, c):
    """Return a * b + c, rounded once on every machine; also of single values."""

    def code(context, builder, signature, args):
        if a == types.float32:
            return builder.fma(*args)
        vector = args[0].type
        kind = ir.FunctionType(vector, [vector] * 3)
        name = f"llvm.fma.v{vector.count}f32"  # llvmlite's own builder knows single values only
        return builder.call(cgutils.get_or_insert_function(builder.module, kind, name), args)

    return a(a, b, c), code


@intrinsic
def inverse(typing, a):
    """Return 1 / a."""

    def code(context, builder, signature, args):
        return builder.fdiv(_constant(args[0].type, 1.0), args[0])

    return a(a), code


@intrinsic
def root(typing, a):
    """Return the square root."""

    def code(context, builder, signature, args):
        vector = args[0].type
        kind = ir.FunctionType(vector, [vector])
        return builder.call(cgutils.get_or_insert_function(builder.module, kind, f"llvm.sqrt.v{vector.count}f32"), args)

    return a(a), code


@intrinsic
def smaller(typing, a, b):
    """Return the smaller of both in each lane."""

    def code(context, builder, signature, args):
        return builder.select(builder.fcmp_ordered("<", args[0], args[1]), args[0], args[1])

    return a(a, b), code


@intrinsic
def larger(typing, a, b):
    """Return the larger of both in each lane."""

    def code(context, builder, signature, args):
        return builder.select(builder.fcmp_ordered(">", args[0], args[1]), args[0], args[1])

    return a(a, b), code


@intrinsic
def where_over(typing, a, b, x, y):
    """Return x in the lanes in which a > b, else y."""

    def code(context, builder, signature, args):
        return builder.select(builder.fcmp_ordered(">", args[0], args[1]), args[2], args[3])

    return x(a, b, x, y), code


@intrinsic
def size(typing, a):
    """Return each lane's magnitude."""

    def code(context, builder, signature, args):
        whole = _whole(args[0].type.count)
        bits = builder.and_(builder.bitcast(args[0], whole), _constant(whole, 0x7FFFFFFF))
        return builder.bitcast(bits, args[0].type)

    return a(a), code


@intrinsic
def turned(typing, a, b, c, d):
    """Return four rows of four lanes with rows and lanes exchanged."""
    out = types.UniTuple(a, 4)

    def code(context, builder, signature, args):
        def mixed(one, two, *places):
            return builder.shuffle_vector(one, two, ir.Constant(_whole(4), list(places)))

        low, high = mixed(args[0], args[1], 0, 4, 1, 5), mixed(args[0], args[1], 2, 6, 3, 7)
        low2, high2 = mixed(args[2], args[3], 0, 4, 1, 5), mixed(args[2], args[3], 2, 6, 3, 7)
        pairs = ((low, low2), (high, high2))
        rows = [mixed(*pair, *places) for pair in pairs for places in ((0, 1, 4, 5), (2, 3, 6, 7))]
        return context.make_tuple(builder, signature.return_type, rows)

    return out(a, b, c, d), code


def _exchanged_square(builder, rows: list) -> list:
    """Return sixteen rows of sixteen lanes with rows and lanes exchanged: blocks of half the size change places, then quarters, and so on."""
    for distance in (8, 4, 2, 1):
        one = [lane ^ distance | 16 if lane & distance else lane for lane in range(16)]
        other = [lane | 16 if lane & distance else lane ^ distance for lane in range(16)]
        for first in (number for number in range(16) if not number & distance):
            a, b = rows[first], rows[first | distance]
            rows[first] = builder.shuffle_vector(a, b, ir.Constant(_whole(16), one))
            rows[first | distance] = builder.shuffle_vector(a, b, ir.Constant(_whole(16), other))
    return rows


@intrinsic
def rows_of_square(typing, x, places, on, y, to):
    """Read sixteen values from each of sixteen places [int64] of a flat float32 array; write the first of all as a row of lanes, then the second ones."""

    def code(context, builder, signature, args):
        arrays = [context.make_array(signature.args[k])(context, builder, args[k]).data for k in (0, 1, 3)]
        rows = []
        for lane in range(16):
            first = builder.add(builder.load(builder.gep(arrays[1], [ir.Constant(ir.IntType(64), lane)])), args[2])
            rows.append(_row_at(builder, arrays[0], first, load=True))
        for number, row in enumerate(_exchanged_square(builder, rows)):
            at = builder.add(args[4], ir.Constant(ir.IntType(64), 16 * number))
            builder.store(row, _row_at(builder, arrays[2], at), align=4)
        return context.get_dummy_value()

    return types.void(x, places, types.intp, y, types.intp), code


@intrinsic
def square_of_rows(typing, x, at, y, places, on):
    """Do the reverse: read sixteen rows of lanes one after the other, and write what each lane has into a place of its own."""

    def code(context, builder, signature, args):
        arrays = [context.make_array(signature.args[k])(context, builder, args[k]).data for k in (0, 2, 3)]
        rows = [
            _row_at(builder, arrays[0], builder.add(args[1], ir.Constant(ir.IntType(64), 16 * number)), load=True)
            for number in range(16)
        ]
        for lane, row in enumerate(_exchanged_square(builder, rows)):
            first = builder.add(builder.load(builder.gep(arrays[2], [ir.Constant(ir.IntType(64), lane)])), args[4])
            builder.store(row, _row_at(builder, arrays[1], first), align=4)
        return context.get_dummy_value()

    return types.void(x, types.intp, y, places, types.intp), code


def _row_at(builder, data, at, load: bool = False):
    """Return the address of sixteen values, or what is there."""
    place = builder.bitcast(builder.gep(data, [at], inbounds=True), ir.VectorType(F32, 16).as_pointer())
    return builder.load(place, align=4) if load else place


def _exchanged(distance: int):
    """Return an intrinsic that exchanges lanes so far apart: each gets that of the number in which one bit differs."""

    @intrinsic
    def both(typing, a):
        def code(context, builder, signature, args):
            order = [lane ^ distance for lane in range(a.count)]
            return builder.shuffle_vector(args[0], args[0], ir.Constant(_whole(a.count), order))

        return a(a), code

    return both


swapped, exchanged_2, exchanged_4, exchanged_8 = (
    _exchanged(distance) for distance in (1, 2, 4, 8)
)  # swapped : the other side of a stereo strip


def _regrouped(order):
    """Return an intrinsic that makes two rows of two rows, by a function from the number of lanes to the places of all that come out."""

    @intrinsic
    def both(typing, a, b):
        def code(context, builder, signature, args):
            places = order(a.count)
            rows = [
                builder.shuffle_vector(args[0], args[1], ir.Constant(_whole(a.count), list(each)))
                for each in (places[: a.count], places[a.count :])
            ]
            return context.make_tuple(builder, signature.return_type, rows)

        return types.UniTuple(a, 2)(a, b), code

    return both


# Of two rows of four lanes: the first two of both, and the last two of both.
paired = _regrouped(lambda count: [0, 1, 4, 5, 2, 3, 6, 7])


@intrinsic
def exponent(typing, a):
    """Return the power of two in each lane's bits, as float32."""

    def code(context, builder, signature, args):
        whole = _whole(args[0].type.count)
        bits = builder.ashr(builder.bitcast(args[0], whole), _constant(whole, 23))
        return builder.sitofp(builder.sub(bits, _constant(whole, 127)), args[0].type)

    return a(a), code


@intrinsic
def mantissa(typing, a):
    """Return each lane without its power of two: 1 to 2."""

    def code(context, builder, signature, args):
        whole = _whole(args[0].type.count)
        bits = builder.and_(builder.bitcast(args[0], whole), _constant(whole, 0x007FFFFF))
        return builder.bitcast(builder.or_(bits, _constant(whole, 0x3F800000)), args[0].type)

    return a(a), code


@intrinsic
def truncated(typing, a):
    """Return each lane without its fraction."""

    def code(context, builder, signature, args):
        return builder.sitofp(builder.fptosi(args[0], _whole(args[0].type.count)), args[0].type)

    return a(a), code


@intrinsic
def power_of_two(typing, a):
    """Return 2 to each lane, which must be whole and between -126 and 127."""

    def code(context, builder, signature, args):
        whole = _whole(args[0].type.count)
        bits = builder.add(builder.fptosi(args[0], whole), _constant(whole, 127))
        return builder.bitcast(builder.shl(bits, _constant(whole, 23)), args[0].type)

    return a(a), code


@intrinsic
def rounded_down(typing, a):
    """Return the next whole number at or below each lane."""

    def code(context, builder, signature, args):
        vector = args[0].type
        name = f"llvm.floor.v{vector.count}f32"
        kind = ir.FunctionType(vector, [vector])
        return builder.call(cgutils.get_or_insert_function(builder.module, kind, name), args)

    return a(a), code


@intrinsic
def store_wholes(typing, x, at, lanes):
    """Write lanes of whole numbers into a flat int32 array."""

    def code(context, builder, signature, args):
        array = context.make_array(signature.args[0])(context, builder, args[0])
        place = builder.gep(array.data, [args[1]], inbounds=True)
        whole = _whole(args[2].type.count)
        builder.store(builder.fptosi(args[2], whole), builder.bitcast(place, whole.as_pointer()), align=4)
        return context.get_dummy_value()

    return types.void(x, types.intp, lanes), code


@intrinsic
def triangular(typing, numbers, more):
    """Return noise between -1 and 1, triangular: a function of the numbers in the lanes' bits plus ``more``, an unsigned int of 32 bits.

    The difference of the halves of a hash, xor-shift-multiply with the constants of C. Wellons, Prospecting for Hash Functions (2018).
    """

    def code(context, builder, signature, args):
        whole = _whole(args[0].type.count)

        z = builder.add(builder.bitcast(args[0], whole), _repeated(builder, args[1], whole.count))
        z = builder.mul(builder.xor(z, builder.lshr(z, _constant(whole, 16))), _constant(whole, 0x7FEB352D))
        z = builder.mul(builder.xor(z, builder.lshr(z, _constant(whole, 15))), _constant(whole, 0x846CA68B))
        z = builder.xor(z, builder.lshr(z, _constant(whole, 16)))
        halves = builder.sub(builder.lshr(z, _constant(whole, 16)), builder.and_(z, _constant(whole, 0xFFFF)))
        return builder.fmul(builder.sitofp(halves, args[0].type), _constant(args[0].type, 1.0 / 65536.0))

    return numbers(numbers, types.uint32), code


def _operator(which, both) -> None:
    @overload(which, inline="always")
    def between(a, b):
        if isinstance(a, Lanes) and a == b:
            return lambda a, b: both(a, b)
        return None


for _which, _both in ((operator.add, _add), (operator.sub, _sub), (operator.mul, _mul)):
    _operator(_which, _both)

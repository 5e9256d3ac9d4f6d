"""Arithmetic that is exact or a row error: integers in 64 bits, decimals to 38 digits, doubles
rounded half away."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import ROUND_DOWN, ROUND_HALF_UP, Context, Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import repeated, to_arrow
from gravel.language.errors import CODES
from gravel.language.functions.catalogue import KernelResult
from gravel.language.types import INTEGER, MAX_DIGITS, Kind, Type, common

OVERFLOW, BY_ZERO = CODES["22003"], CODES["22012"]
WIDE = Context(prec=200, Emax=10**9, Emin=-(10**9))


def zero_of(arrow_type: pa.DataType) -> pa.Scalar:
    """Zero as a scalar of an exact number type."""
    return pa.scalar(Decimal(0) if pa.types.is_decimal(arrow_type) else 0, arrow_type)


def arrays(*values: Any) -> list[pa.Array]:
    """Arrow arrays of one length: scalars are repeated to that of the arrays (1 if there is
    none)."""
    length = next((len(value) for value in values if not isinstance(value, pa.Scalar)), 1)
    return [repeated(value, length) if isinstance(value, pa.Scalar) else value for value in values]


def _alike(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> list[pa.Array]:
    """Both as arrays of one length, as doubles where the result is one."""
    return [as_double(array) if to.kind is Kind.DOUBLE else array for array in arrays(x, y)]


def as_double(values: pa.Array | pa.Scalar) -> pa.Array | pa.Scalar:
    """Numbers as the nearest doubles, an array or a scalar as it is."""
    if isinstance(values, pa.Scalar):
        return as_double(pa.array([values.as_py()], values.type))[0]
    if pa.types.is_decimal(values.type):
        whole = unscaled(values)
        if (
            whole.dtype != object
            and values.type.scale <= 22
            and (not len(whole) or np.abs(whole).max() < 2**53)
        ):
            # Both the number without its point and the power of ten are exact doubles: their
            # quotient is rounded once.
            return to_arrow(
                whole / 10.0**values.type.scale,
                mask=values.is_null().to_numpy(zero_copy_only=False),
            )
        # Arrow rounds twice on this way; from text it rounds once.
        return pc.cast(pc.cast(values, pa.string()), pa.float64())
    return pc.cast(values, pa.float64(), safe=False)


def unscaled(decimals: pa.Array) -> np.ndarray:
    """Decimals as whole numbers of their last place, NULL as 0: int64 where all of them fit, else
    Python's integers."""
    return joined_words(words_of(decimals))


def words_of(decimals: pa.Array) -> list[np.ndarray]:
    """The 64-bit words of decimals as whole numbers of their last place, the lowest first; NULL as
    0."""
    filled = decimals.fill_null(0)
    width = decimals.type.byte_width // 8
    words = np.frombuffer(filled.buffers()[1], np.int64)[
        width * filled.offset : width * (filled.offset + len(filled))
    ]
    return [words[index::width] for index in range(width)]


def joined_words(words: Sequence[np.ndarray]) -> np.ndarray:
    """The whole numbers of such words: int64 where all of them fit, else Python's integers."""
    lowest = words[0]
    if all((word == lowest >> 63).all() for word in words[1:]):
        return lowest
    data = np.stack(words, axis=1).tobytes()
    size = 8 * len(words)
    return np.array(
        [
            int.from_bytes(data[index : index + size], "little", signed=True)
            for index in range(0, len(data), size)
        ],
        object,
    )


def numpy_values(array: pa.Array, fill: float = 0) -> np.ndarray:
    """The values as NumPy, NULL as `fill`."""
    values: np.ndarray = (array.fill_null(fill) if array.null_count else array).to_numpy(
        zero_copy_only=False
    )
    return values


def known(*columns: Any) -> np.ndarray:
    """Mask of the rows where none is NULL."""
    mask = np.ones(len(columns[0]), bool)
    for column in columns:
        if column.null_count:
            mask &= pc.is_valid(column).to_numpy(zero_copy_only=False)
    return mask


def result(values: np.ndarray, good: np.ndarray, errors: np.ndarray, to: Type) -> KernelResult:
    """A kernel's result from NumPy values: NULL where not `good`, or where there is an error."""
    return KernelResult(to_arrow(values, to.arrow, mask=~(good & (errors == 0))), errors)


def add(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    """x + y; 22003 out of range."""
    return _sum(x, y, to, pc.add, np.add)


def subtract(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    """x - y; 22003 out of range."""
    return _sum(x, y, to, pc.subtract, np.subtract)


def _sum(
    x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type, decimal_kernel: Any, kernel: Any
) -> Any:
    if to.kind is Kind.DECIMAL:
        # Both to the result's own type: wide enough for every sum of its operands, or for any value
        # at all.
        return _decimal(
            lambda a, b: decimal_kernel(_plain(a, to), _plain(b, to)), x, y, to, decimal_kernel
        )
    quick = _quickly(x, y, to, pc.add_checked if kernel is np.add else pc.subtract_checked)
    if quick is not None:
        return quick
    x, y = _alike(x, y, to)
    a, b, good = numpy_values(x), numpy_values(y), known(x, y)
    errors = np.zeros(len(a), np.uint8)
    with np.errstate(all="ignore"):
        output = kernel(a, b)
        if to.kind is Kind.INTEGER:
            # Overflow of two's complement: a sum whose sign differs from both operands', a
            # difference likewise.
            other = b if kernel is np.add else ~b
            errors[good & (((a ^ output) & (other ^ output)) < 0)] = OVERFLOW
        else:
            errors[good & np.isinf(output) & np.isfinite(a) & np.isfinite(b)] = OVERFLOW
    return result(output, good, errors, to)


def _quickly(
    x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type, kernel: Any
) -> pa.Array | None:
    """What Arrow's kernel gives where no row can be out of range, else None: doubles may overflow,
    or vanish in a product."""
    if to.kind is Kind.DOUBLE:
        x, y = (as_double(item) for item in (x, y))
    try:
        result = kernel(x, y)
    except pa.ArrowInvalid:
        return None
    if isinstance(result, pa.Scalar):
        return None
    if to.kind is Kind.DOUBLE:
        numbers = numpy_values(result, 1.0)
        vanishes = kernel is pc.multiply_checked or kernel is pc.divide
        if not np.isfinite(numbers).all() or (vanishes and not numbers.all()):
            return None
    return result


def negate(x: pa.Array, to: Type) -> Any:
    """-x; 22003 for the least integer."""
    if to.kind is Kind.DECIMAL:
        return pc.negate(x)
    if to.kind is Kind.DOUBLE:
        return pc.negate(x)
    return subtract(pa.scalar(0, pa.int64()), x, to)


def multiply(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    """x * y; 22003 out of range, or if the exact product has more than 38 digits."""
    if to.kind is Kind.DECIMAL:
        return _decimal(lambda a, b: pc.multiply(_tight(a), _tight(b)), x, y, to, pc.multiply)
    quick = _quickly(x, y, to, pc.multiply_checked)
    if quick is not None:
        return quick
    x, y = _alike(x, y, to)
    a, b, good = numpy_values(x), numpy_values(y), known(x, y)
    errors = np.zeros(len(a), np.uint8)
    with np.errstate(all="ignore"):
        output = a * b
        if to.kind is Kind.INTEGER:
            # A product near or beyond 2^63 shows in the double product; those few are decided
            # exactly.
            doubtful = good & (np.abs(a.astype(float) * b.astype(float)) > 2.0**62)
            for row in np.flatnonzero(doubtful):
                exact = int(a[row]) * int(b[row])
                if not -(2**63) <= exact < 2**63:
                    errors[row] = OVERFLOW
        else:
            over = np.isinf(output) & np.isfinite(a) & np.isfinite(b)
            under = (output == 0) & (a != 0) & (b != 0)
            errors[good & (over | under)] = OVERFLOW
    return result(output, good, errors, to)


def divide(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    """x / y: 22012 where y is 0; decimals are rounded half away from zero at the result's scale."""
    if to.kind is Kind.DOUBLE:
        quick = _quickly(x, y, to, pc.divide)
        if quick is not None:
            return quick
    x, y = _alike(x, y, to)
    good = known(x, y)
    if to.kind is Kind.DOUBLE:
        a, b = numpy_values(x), numpy_values(y)
        errors = np.zeros(len(a), np.uint8)
        with np.errstate(all="ignore"):
            output = a / b
            over = np.isinf(output) & np.isfinite(a) & np.isfinite(b)
            under = (output == 0) & (a != 0) & np.isfinite(b)
        errors[good & (over | under)] = OVERFLOW
        errors[good & (b == 0) & ~np.isnan(a)] = BY_ZERO
        return result(output, good, errors, to)
    zero = pc.fill_null(pc.equal(y, zero_of(y.type)), False)
    zero_mask = zero.to_numpy(zero_copy_only=False) & good
    if zero_mask.any():
        y = pc.if_else(to_arrow(zero_mask), pa.scalar(None, y.type), y)
    output = _decimal(lambda a, b: _quotient(a, b, to), x, y, to, _divide_exactly)
    errors = np.zeros(len(x), np.uint8) if output.errors is None else output.errors
    errors[zero_mask] = BY_ZERO
    return KernelResult(output.values, errors)


def exact_type(types: list[Type]) -> Type:
    """The type that both operands widen to."""
    return common(*types) or INTEGER


def remainder(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    """x - y * TRUNC(x / y), with the sign of x; 22012 where y is 0."""
    x, y = arrays(x, y)
    good = known(x, y)
    if to.kind is Kind.DECIMAL:
        return _one_by_one(
            pc.cast(_exact(x), pa.decimal256(76, to.scale)),
            pc.cast(_exact(y), pa.decimal256(76, to.scale)),
            to,
            _remainder,
        )
    a, b = numpy_values(pc.cast(x, to.arrow)), numpy_values(pc.cast(y, to.arrow), 1)
    errors = np.zeros(len(a), np.uint8)
    errors[good & (b == 0)] = BY_ZERO
    # The least integer by -1 would overflow inside; its remainder is 0.
    divisor = np.where((b == 0) | (b == -1), 1, b) if to.kind is Kind.INTEGER else b
    with np.errstate(all="ignore"):
        return result(np.fmod(a, divisor), good, errors, to)


def _remainder(a: Decimal, b: Decimal, scale: int) -> Decimal | None:
    return WIDE.remainder(a, b) if b else None


def absolute(x: pa.Array, to: Type) -> Any:
    """|x|; 22003 for the least integer."""
    if to.kind is not Kind.INTEGER:
        return pc.abs(x)
    least = pc.fill_null(pc.equal(x, -(2**63)), False).to_numpy(zero_copy_only=False)
    return KernelResult(
        pc.abs(pc.if_else(to_arrow(least), pa.scalar(None, pa.int64()), x)),
        least.astype(np.uint8) * OVERFLOW,
    )


def _quotient(a: pa.Array, b: pa.Array, to: Type) -> pa.Array:
    """Arrow divides decimals with scale s1 + p2 - s2 + 1 (at least 6), cut off: enough digits to
    round half away from zero afterwards when that is beyond the wanted scale, so the dividend is
    widened until it is."""
    a, b = _tight(a), _tight(b)
    have = a.type.scale + b.type.precision - b.type.scale + 1
    if max(have, 6) <= to.scale:
        more = to.scale + 1 - have + a.type.scale
        a = pc.cast(a, pa.decimal256(a.type.precision + more - a.type.scale, more))
    result = pc.divide(a, b)
    whole = result.type.precision - result.type.scale
    limit = MAX_DIGITS - to.scale
    if whole > limit and (digits := _digits(result) - result.type.scale) > limit:
        # So many digits before the point leave less room after it: rare, and done one by one.
        raise pa.ArrowInvalid(f"{digits} digits before the point")
    return pc.round(result, to.scale, "half_towards_infinity")


def _divide_exactly(a: Decimal, b: Decimal, scale: int) -> Decimal:
    quotient = WIDE.divide(a, b)
    room = min(scale, MAX_DIGITS - max(quotient.adjusted() + 1, 0))
    return round_half_away(quotient, max(room, 0))


def round_half_away(value: Decimal, places: int) -> Decimal:
    """The value rounded to that many decimals, a half away from zero."""
    return value.quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP, WIDE)


def _plain(array: pa.Array, to: Type) -> pa.Array:
    return array if array.type == to.arrow else pc.cast(_exact(array), to.arrow)


def _exact(array: pa.Array) -> pa.Array:
    """Integers as decimals; decimals as they are."""
    if pa.types.is_integer(array.type):
        return pc.cast(array, pa.decimal128(19, 0))
    return array


def _digits(array: pa.Array) -> int:
    """Decimal digits of the largest unscaled value."""
    low, high = pc.min_max(array).values()
    if low.as_py() is None:
        return 1
    return max(
        len(value.as_py().as_tuple().digits)
        + max(0, value.as_py().as_tuple().exponent + array.type.scale)
        for value in (low, high)
    )


def _tight(array: pa.Array) -> pa.Array:
    """A decimal256 whose precision is what its values need, so that Arrow's result types stay
    within 76 digits."""
    array = _exact(array)
    if array.type.precision <= 30:
        return pc.cast(array, pa.decimal256(array.type.precision, array.type.scale))
    return pc.cast(array, pa.decimal256(max(_digits(array), array.type.scale, 1), array.type.scale))


def _decimal(
    kernel: Callable[[Any, Any], Any],
    x: pa.Array | pa.Scalar,
    y: pa.Array | pa.Scalar,
    to: Type,
    exactly: Any,
) -> KernelResult:
    """Run a decimal kernel and fit its values to the result's type; what Arrow cannot hold is done
    by Python."""
    x, y = arrays(x, y)
    try:
        return fit_decimal(kernel(x, y), to)
    except pa.ArrowInvalid:
        return _one_by_one(x, y, to, exactly)


def _one_by_one(x: pa.Array, y: pa.Array, to: Type, kernel: Any) -> KernelResult:
    does = {pc.add: WIDE.add, pc.subtract: WIDE.subtract, pc.multiply: WIDE.multiply}.get(kernel)
    values: list[Decimal | None] = []
    errors = np.zeros(len(x), np.uint8)
    for row, (a, b) in enumerate(zip(x.to_pylist(), y.to_pylist(), strict=True)):
        if a is None or b is None:
            values.append(None)
            continue
        a, b = Decimal(a), Decimal(b)
        exact = does(a, b) if does else kernel(a, b, to.scale)
        values.append(None if exact is None else _held(exact, to))
        if values[-1] is None:
            errors[row] = BY_ZERO if exact is None else OVERFLOW
    return KernelResult(pa.array(values, to.arrow), errors)


def _held(value: Decimal, to: Type) -> Decimal | None:
    """The value at the type's scale, or None where it has too many digits."""
    scaled = value.quantize(Decimal(1).scaleb(-to.scale), context=WIDE)
    if scaled != value:
        return None
    return (
        scaled
        if not value or (significant(value) <= MAX_DIGITS and scaled.adjusted() < to.whole)
        else None
    )


def cut_off(value: Decimal, places: int) -> Decimal:
    """The value without what stands after that many decimals."""
    return value.quantize(Decimal(1).scaleb(-places), ROUND_DOWN, WIDE)


def significant(value: Decimal) -> int:
    """Significant digits of a decimal, trailing zeros after the point not counted."""
    digits = value.as_tuple().digits
    exponent = int(value.as_tuple().exponent)
    while exponent < 0 and len(digits) > 1 and digits[-1] == 0:
        digits, exponent = digits[:-1], exponent + 1
    return len(digits) + max(exponent, 0)


def rounded(array: pa.Array, places: int) -> pa.Array:
    """A decimal array rounded half away from zero, with room for the digit that rounding up may add
    (Arrow has none)."""
    return pc.round(wide(array), places, "half_towards_infinity")


def wide(array: pa.Array) -> pa.Array:
    """A decimal array with room for one digit more."""
    return pc.cast(array, pa.decimal256(min(array.type.precision + 1, 76), array.type.scale))


def fit_decimal(array: pa.Array, to: Type) -> KernelResult:
    """A decimal array as the type `to`, rounded to its scale; values with more digits before the
    point than it has room for are 22003."""
    if array.type == to.arrow:
        return KernelResult(array, None)
    if array.type.scale > to.scale:
        array = rounded(array, to.scale)
    errors = None
    if array.type.precision - array.type.scale > to.whole:
        limit = pa.scalar(Decimal(10) ** to.whole, pa.decimal256(to.whole + 1, 0))
        over = pc.fill_null(pc.greater_equal(pc.abs(array), limit), False)
        if pc.any(over).as_py():
            errors = over.to_numpy(zero_copy_only=False).astype(np.uint8) * OVERFLOW
            array = pc.if_else(over, pa.scalar(None, array.type), array)
    return KernelResult(pc.cast(array, to.arrow), errors)

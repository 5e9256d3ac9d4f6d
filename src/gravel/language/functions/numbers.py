"""Numbers."""

from __future__ import annotations

import re
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import to_arrow
from gravel.language.errors import CODES
from gravel.language.functions import arithmetic, casts
from gravel.language.functions.catalogue import KernelResult, function
from gravel.language.functions.row_by_row import RowFailure, by_row, constant
from gravel.language.types import DOUBLE, INTEGER, MAX_DIGITS, TEXT, Kind, Target, Type, room


def _round_type(types: list[Type], values: list[Any]) -> Type:
    kind = types[0]
    if kind.kind is not Kind.DECIMAL:
        return kind
    places = values[1] if len(values) > 1 else 0
    if not isinstance(places, int):
        return room(
            kind.whole + 1, kind.scale
        )  # n differs from row to row: the scale stays, the digits are zeros
    return room(kind.whole + 1, min(max(places, 0), MAX_DIGITS))


@function(
    "ROUND(x NUMBER [, n INTEGER]) NUMBER",
    meaning=(
        "x rounded to n decimals (0 if not given; below 0 to tens, hundreds …), a half away from"
        " zero"
    ),
    examples={
        "ROUND(2.5)": "3",
        "ROUND(-2.5)": "-3",
        "ROUND(9.257, 2)": "9.26",
        "ROUND(1250, -2)": "1300",
    },
    errors=("22003",),
    result=_round_type,
)
def round_(x: pa.Array, n: pa.Scalar | None = None, to: Type = INTEGER) -> Any:
    return _by_places(x, n, to, "half_towards_infinity")


def _by_places(x: pa.Array, n: pa.Scalar | None, to: Type, mode: str) -> Any:
    places = n if n is not None else pa.scalar(0, pa.int64())
    if not isinstance(places, pa.Scalar):
        return _round_by_rows(x, places, to, mode)
    if not places.is_valid:
        return pa.nulls(len(arithmetic.arrays(x)[0]), to.arrow)
    return _rounded(arithmetic.arrays(x)[0], places.as_py(), to, mode)


def _round_by_rows(x: Any, places: Any, to: Type, mode: str) -> KernelResult:
    """n from a column: one pass for each of its few values."""
    x, places = arithmetic.arrays(x, places)
    values: Any = pa.nulls(len(x), to.arrow)
    errors = np.zeros(len(x), np.uint8)
    for count in pc.unique(places).drop_null().to_pylist():
        mask = pc.fill_null(pc.equal(places, count), False)
        result = _rounded(x.filter(mask), count, to, mode)
        part, codes = result if isinstance(result, KernelResult) else (result, None)
        values = pc.replace_with_mask(values, mask, pc.cast(part, to.arrow))
        if codes is not None:
            errors[mask.to_numpy(zero_copy_only=False)] = codes
    return KernelResult(values, errors)


def _rounded(x: pa.Array, places: int, to: Type, mode: str) -> Any:
    if to == DOUBLE:
        return _round_double(x, places, mode)
    if to == INTEGER:
        if places >= 0:
            return x
        if places < -19:
            return pc.multiply(x, 0)
        rounded = pc.round(pc.cast(x, pa.decimal256(40, 0)), places, mode)
        return casts.cast(rounded, Type(Kind.DECIMAL, 40, 0), Target(INTEGER))
    if places >= x.type.scale:
        return arithmetic.fit_decimal(x, to)
    if places < -(x.type.precision - x.type.scale):
        return _zeros(x, to)
    return arithmetic.fit_decimal(pc.round(arithmetic.wide(x), places, mode), to)


def _zeros(x: Any, to: Type) -> Any:
    zero = arithmetic.zero_of(to.arrow)
    return pc.if_else(pc.is_valid(x), zero, pa.scalar(None, to.arrow))


def _round_double(x: pa.Array, places: int, mode: str) -> pa.Array:
    if places == 0:
        return pc.round(x, 0, mode)
    if abs(places) > 300:
        return x if places > 0 else pc.if_else(pc.is_finite(x), pc.multiply(x, 0.0), x)
    # Decimal places of a double are those of its shortest text: 2.675 rounds to 2.68.
    return by_row(lambda value: _round_text(value, places, mode), x, to=pa.float64())


def _round_text(value: float, places: int, mode: str) -> float:
    exact = Decimal(repr(value))
    if not exact.is_finite() or exact.adjusted() + places > 150:
        return value  # so large a double has no decimals
    return float(
        arithmetic.round_half_away(exact, places)
        if mode != "towards_zero"
        else arithmetic.cut_off(exact, places)
    )


@function(
    "MOD(x NUMBER, y NUMBER) NUMBER",
    meaning="what is left of x divided by y, with the sign of x; x % y is the same",
    examples={"MOD(7, 3)": "1", "-7 % 3": "-1", "MOD(7.5, 2)": "1.5", "MOD(1, 0)": "error 22012"},
    errors=("22012",),
    result=lambda types, values: arithmetic.exact_type(types),
)
def mod(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    return arithmetic.remainder(x, y, to)


@function(
    "ABS(x NUMBER) NUMBER",
    meaning="x without its sign",
    examples={"ABS(-2.5)": "2.5"},
    errors=("22003",),
    result=lambda types, values: types[0],
)
def abs_(x: pa.Array, to: Type) -> Any:
    return arithmetic.absolute(x, to)


@function(
    "SIGN(x NUMBER) NUMBER",
    meaning="1, 0 or -1 as x is above, at or below 0",
    examples={"SIGN(-2.5)": "-1", "SIGN(0)": "0"},
    result=lambda types, values: DOUBLE if types[0] == DOUBLE else INTEGER,
)
def sign(x: pa.Array, to: Type) -> pa.Array:
    return pc.cast(pc.sign(x), to.arrow)


def _whole_type(types: list[Type], values: list[Any]) -> Type:
    kind = types[0]
    return room(kind.whole + 1, 0) if kind.kind is Kind.DECIMAL else kind


def _to_whole(x: pa.Array, to: Type, mode: str) -> Any:
    if to == INTEGER:
        return x
    if to == DOUBLE:
        return pc.round(x, 0, mode)
    return arithmetic.fit_decimal(pc.round(arithmetic.wide(x), 0, mode), to)


@function(
    "FLOOR(x NUMBER) NUMBER",
    meaning="the greatest whole number that is not above x",
    examples={"FLOOR(2.7)": "2", "FLOOR(-2.1)": "-3"},
    result=_whole_type,
)
def floor(x: pa.Array, to: Type) -> Any:
    return _to_whole(x, to, "down")


@function(
    "CEILING(x NUMBER) NUMBER",
    meaning="the least whole number that is not below x",
    examples={"CEILING(2.1)": "3", "CEILING(-2.7)": "-2"},
    result=_whole_type,
)
def ceiling(x: pa.Array, to: Type) -> Any:
    return _to_whole(x, to, "up")


@function(
    "TRUNC(x NUMBER [, n INTEGER]) NUMBER",
    meaning="x cut off after n decimals (0 if not given; below 0 at tens, hundreds …)",
    examples={"TRUNC(2.79)": "2", "TRUNC(-2.79, 1)": "-2.7", "TRUNC(1299, -2)": "1200"},
    result=_round_type,
)
def trunc(x: pa.Array, n: pa.Scalar | None = None, to: Type = INTEGER) -> Any:
    return _by_places(x, n, to, "towards_zero")


def _double(kernel: Any, state: str, outside: Any = None) -> Any:
    """A kernel over doubles: `outside` masks the arguments out of its domain (their SQLSTATE is
    `state`); a finite argument whose result is infinite, or 0 where it cannot be, is 22003."""

    def compute(*columns: Any) -> KernelResult:
        spread = [arithmetic.as_double(column) for column in arithmetic.arrays(*columns)]
        numbers = [arithmetic.numpy_values(column, 1.0) for column in spread]
        good = arithmetic.known(*spread)
        errors = np.zeros(len(good), np.uint8)
        with np.errstate(all="ignore"):
            output = kernel(*numbers)
            if np.isfinite(output).all() and (output.all() or kernel is np.sqrt):
                # Outside its domain, or out of range, no result is finite and other than 0.
                return KernelResult(to_arrow(output, mask=None if good.all() else ~good), None)
            finite = np.all([np.isfinite(number) for number in numbers], axis=0)
            errors[
                good & finite & (np.isinf(output) | ((output == 0) & _never_zero(kernel, numbers)))
            ] = CODES["22003"]
            if outside is not None:
                errors[good & outside(*numbers)] = CODES[state]
        return arithmetic.result(output, good, errors, DOUBLE)

    return compute


def _never_zero(kernel: Any, numbers: list[np.ndarray]) -> Any:
    return kernel is np.exp or (kernel is np.power and numbers[0] != 0)


_power = _double(
    np.power,
    "2201F",
    lambda x, y: ((x == 0) & (y < 0)) | ((x < 0) & np.isfinite(y) & (y != np.floor(y))),
)
_sqrt, _exp = _double(np.sqrt, "2201F", lambda x: x < 0), _double(np.exp, "")
_ln, _log10 = (
    _double(np.log, "2201E", lambda x: x <= 0),
    _double(np.log10, "2201E", lambda x: x <= 0),
)


@function(
    "POWER(x NUMBER, y NUMBER) DOUBLE",
    meaning="x to the power of y",
    examples={
        "POWER(2, 10)": "1024",
        "POWER(0, -1)": "error 2201F",
        "POWER(-8, 0.5)": "error 2201F",
    },
    errors=("2201F", "22003"),
)
def power(x: pa.Array, y: pa.Array | pa.Scalar) -> Any:
    return _power(x, y)


@function(
    "SQRT(x NUMBER) DOUBLE",
    meaning="the square root",
    examples={"SQRT(6.25)": "2.5", "SQRT(-1)": "error 2201F"},
    errors=("2201F",),
)
def sqrt(x: pa.Array) -> Any:
    return _sqrt(x)


@function(
    "EXP(x NUMBER) DOUBLE",
    meaning="e to the power of x",
    examples={"EXP(0)": "1", "EXP(1000)": "error 22003"},
    errors=("22003",),
)
def exp(x: pa.Array) -> Any:
    return _exp(x)


@function(
    "LN(x NUMBER) DOUBLE",
    meaning="the natural logarithm",
    examples={"LN(1)": "0", "LN(0)": "error 2201E"},
    errors=("2201E",),
)
def ln(x: pa.Array) -> Any:
    return _ln(x)


@function(
    "LOG10(x NUMBER) DOUBLE",
    meaning="the logarithm to base 10",
    examples={"LOG10(1000)": "3", "LOG10(-1)": "error 2201E"},
    errors=("2201E",),
)
def log10(x: pa.Array) -> Any:
    return _log10(x)


def _log(base: np.ndarray, x: np.ndarray) -> np.ndarray:
    result: np.ndarray = np.log(x) / np.log(base)
    # Whole powers are told exactly.
    near = np.rint(result)
    return np.where(
        np.isfinite(near) & (np.power(base, np.clip(near, -1023, 1023)) == x), near, result
    )


_log_base = _double(_log, "2201E", lambda base, x: (x <= 0) | (base <= 0))


@function(
    "LOG(base NUMBER, x NUMBER) DOUBLE",
    meaning="the logarithm of x to that base",
    examples={"LOG(2, 8)": "3", "LOG(10, 0)": "error 2201E", "LOG(1, 5)": "error 22012"},
    errors=("2201E", "22003", "22012"),
)
def log(base: pa.Array, x: pa.Scalar) -> Any:
    result = _log_base(base, x)
    bases = arithmetic.numpy_values(arithmetic.as_double(arithmetic.arrays(base, x)[0]), 2.0)
    errors = np.zeros(len(bases), np.uint8) if result.errors is None else result.errors.copy()
    by_zero = (
        (bases == 1) & arithmetic.known(*arithmetic.arrays(base, x)) & (errors != CODES["2201E"])
    )
    errors[by_zero] = CODES["22012"]
    return KernelResult(
        pc.if_else(to_arrow(errors != 0), pa.scalar(None, pa.float64()), result.values), errors
    )


def _trigonometry(
    name: str, kernel: Any, meaning: str, examples: dict[str, str], outside: Any = None
) -> None:
    compute = _double(kernel, "22003", outside)
    errors = ("22003",) if outside is not None or name in ("SINH", "COSH") else ()
    function(f"{name}(x NUMBER) DOUBLE", meaning=meaning, examples=examples, errors=errors)(
        lambda x: compute(x)
    )


def _beyond_one(x: np.ndarray) -> np.ndarray:
    return np.abs(x) > 1


_trigonometry("SIN", np.sin, "the sine of an angle in radians", {"SIN(0)": "0"}, np.isinf)
_trigonometry("COS", np.cos, "the cosine of an angle in radians", {"COS(0)": "1"}, np.isinf)
_trigonometry("TAN", np.tan, "the tangent of an angle in radians", {"TAN(0)": "0"}, np.isinf)
_trigonometry(
    "ASIN",
    np.arcsin,
    "the angle in radians whose sine is x",
    {"ASIN(0)": "0", "ASIN(2)": "error 22003"},
    _beyond_one,
)
_trigonometry(
    "ACOS",
    np.arccos,
    "the angle in radians whose cosine is x",
    {"ACOS(1)": "0", "ACOS(2)": "error 22003"},
    _beyond_one,
)
_trigonometry("ATAN", np.arctan, "the angle in radians whose tangent is x", {"ATAN(0)": "0"})
_trigonometry("SINH", np.sinh, "the hyperbolic sine", {"SINH(0)": "0"})
_trigonometry("COSH", np.cosh, "the hyperbolic cosine", {"COSH(0)": "1"})
_trigonometry("TANH", np.tanh, "the hyperbolic tangent", {"TANH(0)": "0"})


def _bucket(x: Any, low: Any, high: Any, buckets: int) -> int:
    if (
        buckets < 1
        or low == high
        or x != x
        or low != low
        or high != high
        or abs(low) == float("inf")
        or abs(high) == float("inf")
    ):
        raise RowFailure("2201G")
    x, low, high = (
        item if isinstance(item, float) and abs(item) == float("inf") else Fraction(item)
        for item in (x, low, high)
    )
    inside = low <= x < high if low < high else high < x <= low
    if not inside:
        return 0 if (x < low) == (low < high) else buckets + 1
    return int((x - low) * buckets / (high - low)) + 1


@function(
    "WIDTH_BUCKET(x NUMBER, low NUMBER, high NUMBER, buckets INTEGER) INTEGER",
    meaning=(
        "the number of the bucket that x falls into, of so many of equal width from low to high; 0"
        " before them, one more than their number after"
    ),
    examples={
        "WIDTH_BUCKET(5.5, 0, 10, 5)": "3",
        "WIDTH_BUCKET(10, 0, 10, 5)": "6",
        "WIDTH_BUCKET(1, 0, 10, 0)": "error 2201G",
    },
    errors=("2201G",),
)
def width_bucket(x: pa.Array, low: pa.Scalar, high: pa.Scalar, buckets: pa.Scalar) -> Any:
    return by_row(_bucket, x, low, high, buckets, to=pa.int64())


@function(
    "GROUP_DIGITS(x NUMBER, decimals INTEGER) TEXT",
    meaning="x rounded to so many decimals as a text with commas between thousands; never '-0.00'",
    examples={
        "GROUP_DIGITS(1234567.5, 2)": "'1,234,567.50'",
        "GROUP_DIGITS(-0.001, 2)": "'0.00'",
        "GROUP_DIGITS(1, -1)": "error 22023",
    },
    errors=("22023",),
)
def group_digits(x: pa.Array, decimals: pa.Scalar) -> Any:
    if (
        constant(decimals)
        and 0 <= decimals.as_py() <= 12
        and isinstance(x, pa.Array)
        and not pa.types.is_floating(x.type)
    ):
        return _group_all(x, decimals.as_py())
    return by_row(_grouped, x, decimals)


def _group_all(x: pa.Array, decimals: int) -> pa.Array:
    """Exact numbers as texts with commas: the digits before the point are grouped from the right,
    read backwards."""
    exact = pc.cast(x, pa.decimal256(40, 0)) if pa.types.is_integer(x.type) else x
    places = max(decimals, exact.type.scale)
    wide = pc.cast(
        exact,
        pa.decimal256(
            min(max(exact.type.precision - exact.type.scale, 1) + 1 + places, 76), places
        ),
    )
    rounded = pc.cast(
        pc.round(wide, decimals, "half_towards_infinity"),
        pa.decimal256(min(wide.type.precision, 76), decimals),
    )
    texts = casts.to_text(pc.abs(rounded), Type(Kind.DECIMAL, 40, decimals))
    whole = pc.utf8_slice_codeunits(texts, 0, -decimals - 1) if decimals else texts
    grouped = pc.ascii_reverse(
        pc.replace_substring_regex(pc.ascii_reverse(whole), "([0-9]{3})", "\\1,")
    )
    sign = pc.if_else(pc.less(rounded, pa.scalar(Decimal(0), rounded.type)), "-", "")
    rest = pc.utf8_slice_codeunits(texts, -decimals - 1) if decimals else ""
    return pc.binary_join_element_wise(sign, pc.ascii_ltrim(grouped, ","), rest, "")


def _grouped(x: float, decimals: int) -> str:
    if not 0 <= decimals <= MAX_DIGITS:
        raise RowFailure("22023")
    exact = Decimal(repr(x)) if isinstance(x, float) else Decimal(x)
    if not exact.is_finite():
        return str(casts.to_text(pa.array([x]), DOUBLE)[0].as_py())
    rounded = arithmetic.round_half_away(exact, decimals)
    return format(rounded or abs(rounded), f",.{decimals}f")


def _wrong_signs(values: list[Any]) -> str | None:
    signs = [value for value in values[1:] if isinstance(value, str)]
    if any(len(sign) != 1 or sign in "0123456789+-" for sign in signs):
        return "a decimal or group sign is one character that is neither a digit nor + or -"
    return "the decimal and the group sign are different" if len(set(signs)) < len(signs) else None


@function(
    "NUMBER_OF(x TEXT [, decimal TEXT] [, group TEXT]) DECIMAL",
    meaning=(
        "the number that x is, written with that decimal sign (a point, unless said otherwise) and,"
        " if one is given, that sign between groups of three digits, with ten places after the"
        " point; a blank as group sign means no-break and thin spaces too"
    ),
    examples={
        "NUMBER_OF('1.234,50', ',', '.') = 1234.5": "TRUE",
        "NUMBER_OF('1,234.50', '.', ',') = 1234.5": "TRUE",
        "CAST(NUMBER_OF('12,5', ',') AS DECIMAL(6,2))": "12.50",
        "NUMBER_OF('12.34', ',', '.')": "error 22018",
    },
    errors=("22018", "22003", "22023"),
    result=lambda types, values: Type(Kind.DECIMAL, 28, 10),
    check=_wrong_signs,
)
def number_of(x: pa.Array, decimal: pa.Scalar = None, group: pa.Scalar | None = None) -> Any:
    def plain(text: str, *signs: str) -> str:
        if _wrong_signs([text, *signs]):
            raise RowFailure("22023")
        point, apart = (*signs, *((".", "")[len(signs) :]))
        among = f"[{re.escape(apart)}{_THIN if apart == ' ' else ''}]" if apart else ""
        whole = rf"[0-9]{{1,3}}(?:{among}[0-9]{{3}})+|[0-9]*" if apart else "[0-9]*"
        match = re.fullmatch(rf" *([+-]?)((?:{whole}))(?:{re.escape(point)}([0-9]*))? *", text)
        if not match or not (match[2] or match[3]):
            raise RowFailure("22018")
        return (
            match[1]
            + (re.sub(among, "", match[2]) if among else match[2])
            + "."
            + (match[3] or "0")
        )

    output = by_row(plain, x, *(sign for sign in (decimal, group) if sign is not None))
    texts, errors = (
        (output.values, output.errors) if isinstance(output, KernelResult) else (output, None)
    )
    number = casts.cast(texts, TEXT, Target(Type(Kind.DECIMAL, 28, 10)))
    codes = [item for item in (errors, number.errors) if item is not None]
    return (
        KernelResult(
            number.values, np.maximum.reduce([np.asarray(code) for code in codes]).astype(np.uint8)
        )
        if codes
        else number.values
    )


_THIN = "\u00a0\u2009\u202f"

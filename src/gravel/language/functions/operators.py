"""Operators: comparisons, arithmetic, joining of texts, patterns."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.language.errors import CODES
from gravel.language.functions import arithmetic, ordering
from gravel.language.functions.catalogue import KernelResult, function
from gravel.language.functions.row_by_row import RowFailure, by_row
from gravel.language.types import DOUBLE, INTEGER, Kind, Type, as_decimal, common, room

_KERNELS = {
    "=": pc.equal,
    "<>": pc.not_equal,
    "<": pc.less,
    "<=": pc.less_equal,
    ">": pc.greater,
    ">=": pc.greater_equal,
}


def compared(symbol: str) -> Any:
    """The kernel of a comparison. NaN equals itself and comes after every other number, so that
    doubles have an order."""
    kernel = _KERNELS[symbol]

    def compare(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar) -> pa.Array:
        x, y = ordering.together(x, y)
        if pa.types.is_floating(x.type) and (_has_nan(x) or _has_nan(y)):
            return _with_nan(kernel, x, y)
        return kernel(x, y)

    return compare


def _has_nan(x: pa.Array | pa.Scalar) -> bool:
    return (
        bool(pc.any(pc.is_nan(x)).as_py())
        if isinstance(x, pa.Array)
        else bool(x.is_valid and x.as_py() != x.as_py())
    )


def _with_nan(kernel: Any, x: pa.Array, y: pa.Array | pa.Scalar) -> pa.Array:
    """Where either is NaN, whether each is one decides; elsewhere the numbers do."""
    a, b = pc.is_nan(x), pc.is_nan(y)
    return pc.if_else(
        pc.or_(a, b), kernel(pc.cast(a, pa.int8()), pc.cast(b, pa.int8())), kernel(x, y)
    )


def _comparison(symbol: str, meaning: str, examples: dict[str, str]) -> None:
    function(f"x T {symbol} y T : BOOLEAN", meaning=meaning, examples=examples)(compared(symbol))


_comparison(
    "=",
    "whether both are equal; texts by code point, case and spaces count",
    {"'a' = 'A'": "FALSE", "1 = 1.0": "TRUE", "1 = NULL": "NULL"},
)
_comparison("<>", "whether both differ; != is read as <>", {"'a' <> 'a '": "TRUE"})
_comparison("<", "whether x comes before y", {"9 < 10": "TRUE", "'9' < '10'": "FALSE"})
_comparison("<=", "whether x comes before y or is equal", {"2 <= 2.0": "TRUE"})
_comparison(">", "whether x comes after y", {"'b' > 'a'": "TRUE"})
_comparison(
    ">=", "whether x comes after y or is equal", {"DATE '2024-02-29' >= DATE '2024-02-28'": "TRUE"}
)


@function(
    "x T IS DISTINCT FROM y T : BOOLEAN",
    meaning="whether both differ, NULL being one value: never unknown",
    examples={"NULL IS DISTINCT FROM 1": "TRUE", "1 IS NOT DISTINCT FROM 1": "TRUE"},
)
def is_distinct(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar) -> pa.Array:
    return distinct(x, y)


def distinct(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar) -> pa.Array:
    """Arrow mask of the rows where x is distinct from y: unequal, or just one of them NULL."""
    unequal = pc.fill_null(compared("<>")(x, y), False)
    return pc.or_(unequal, pc.xor(pc.is_null(x), pc.is_null(y)))


def _sum_type(types: list[Type], values: list[Any]) -> Type:
    kind = common(*types)
    if kind is None or kind.kind is not Kind.DECIMAL:
        return kind or INTEGER
    return room(kind.whole + 1, kind.scale)


def _product_type(types: list[Type], values: list[Any]) -> Type:
    kind = common(*types)
    if kind is None or kind.kind is not Kind.DECIMAL:
        return kind or INTEGER
    a, b = map(as_decimal, types)
    return room(a.whole + b.whole, a.scale + b.scale)


def _quotient_type(types: list[Type], values: list[Any]) -> Type:
    if common(*types) == DOUBLE:
        return DOUBLE
    a, b = map(as_decimal, types)
    return room(a.whole + b.scale, max(a.scale, b.scale, 16))


def _same_type(types: list[Type], values: list[Any]) -> Type:
    return types[0]


@function(
    "x NUMBER + y NUMBER : NUMBER",
    meaning="the sum, exact",
    examples={"1 + 2": "3", "0.1 + 0.2": "0.3", "1 + NULL": "NULL"},
    errors=("22003",),
    result=_sum_type,
)
def plus(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    return arithmetic.add(x, y, to)


@function(
    "x NUMBER - y NUMBER : NUMBER",
    meaning="the difference, exact",
    examples={"1 - 2.5": "-1.5"},
    errors=("22003",),
    result=_sum_type,
)
def minus(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    return arithmetic.subtract(x, y, to)


@function(
    "NEGATE(x NUMBER) NUMBER",
    meaning="-x",
    examples={"-(5)": "-5"},
    errors=("22003",),
    result=_same_type,
)
def negate(x: pa.Array, to: Type) -> Any:
    return arithmetic.negate(x, to)


@function(
    "x NUMBER * y NUMBER : NUMBER",
    meaning="the product, exact",
    examples={"6 * 7": "42", "1.5 * 1.5": "2.25"},
    errors=("22003",),
    result=_product_type,
)
def times(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    return arithmetic.multiply(x, y, to)


@function(
    "x NUMBER / y NUMBER : NUMBER",
    meaning=(
        "the quotient; of integers too it has decimals (16, or as many as an operand), rounded half"
        " away from zero"
    ),
    examples={
        "7 / 2": "3.5000000000000000",
        "NULL / 0": "NULL",
        "CASE WHEN 0 <> 0 THEN 1 / 0 END": "NULL",
    },
    errors=("22012", "22003"),
    result=_quotient_type,
)
def over(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    return arithmetic.divide(x, y, to)


@function(
    "x AS TEXT || y AS TEXT : TEXT",
    meaning="both texts joined; NULL if either is; any type joins as its text",
    examples={"'B' || 4": "'B4'", "'B' || NULL": "NULL"},
)
def join(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar) -> pa.Array:
    return pc.binary_join_element_wise(x, y, "")


@function(
    "x TEXT LIKE pattern TEXT [ESCAPE c TEXT] : BOOLEAN",
    meaning=(
        "whether the whole of x has the pattern: % is any run of characters, _ any one; only ESCAPE"
        " names an escape character"
    ),
    examples={
        "'Gull' LIKE 'G%'": "TRUE",
        "'Gull' LIKE 'g%'": "FALSE",
        "'5%' LIKE '_!%' ESCAPE '!'": "TRUE",
    },
    errors=("22019", "22025"),
    check=lambda values: _wrong_like(*values[1:]),
)
def like(x: pa.Array, pattern: pa.Array | pa.Scalar, escape: pa.Scalar | None = None) -> Any:
    if isinstance(pattern, pa.Scalar) and (escape is None or isinstance(escape, pa.Scalar)):
        return _like(
            x, pattern.as_py(), None if escape is None else escape.as_py(), escape is not None
        )
    return _like_columns(x, pattern, escape)


def _like_columns(x: pa.Array, pattern: pa.Array, escape: pa.Scalar | None) -> KernelResult:
    length = next(len(item) for item in (x, pattern, escape) if isinstance(item, pa.Array))
    spread = [
        item if isinstance(item, pa.Array) else pa.repeat(item, length)
        for item in (x, pattern, escape)
        if item is not None
    ]
    values, errors = [], np.zeros(length, np.uint8)
    for row, (text, like_pattern, *sign) in enumerate(
        zip(*(item.to_pylist() for item in spread), strict=True)
    ):
        try:
            known = (
                text is not None and like_pattern is not None and (not sign or sign[0] is not None)
            )
            values.append(
                bool(re.fullmatch(like_regex(like_pattern, *sign), text)) if known else None
            )
        except EscapeError as error:
            values.append(None)
            errors[row] = CODES[error.state]
    return KernelResult(pa.array(values, pa.bool_()), errors)


def _like(x: pa.Array, pattern: str | None, escape: str | None, has_escape: bool) -> pa.Array:
    count = len(x) if isinstance(x, pa.Array) else 1
    if pattern is None or (has_escape and escape is None):
        return pa.nulls(count, pa.bool_())
    try:
        regex = like_regex(pattern, escape)
    except EscapeError as error:
        return KernelResult(
            pa.nulls(count, pa.bool_()), np.full(count, CODES[error.state], np.uint8)
        )
    if not escape and "_" not in pattern:
        plain = pattern.strip("%")
        if "%" not in plain:
            if pattern == plain:
                return pc.equal(x, pa.scalar(plain))
            if pattern == plain + "%" and plain:
                return pc.starts_with(x, plain)
            if pattern == "%" + plain and plain:
                return pc.ends_with(x, plain)
            if pattern == "%" + plain + "%" and plain:
                return pc.match_substring(x, plain)
    return pc.match_substring_regex(x, regex)


def _wrong_like(pattern: Any, escape: Any = None) -> str | None:
    """What is wrong with a constant pattern, or None."""
    if not isinstance(pattern, str) or escape is ...:
        return None
    try:
        like_regex(pattern, escape)
    except EscapeError as error:
        return {"22019": f"an escape character is one character, not {escape!r}"}.get(
            error.state, f"{escape} stands before neither %, _ nor itself"
        )
    return None


class EscapeError(ValueError):
    """A LIKE pattern whose escape is wrong; `state` is its SQLSTATE."""

    def __init__(self, state: str) -> None:
        super().__init__(state)
        self.state = state


@lru_cache(maxsize=4096)
def like_regex(pattern: str, escape: str | None = None) -> str:
    """The RE2 pattern of a LIKE pattern. Raises EscapeError (22019, 22025)."""
    if escape is not None and len(escape) != 1:
        raise EscapeError("22019")
    out, chars = [], iter(pattern)
    for char in chars:
        if char == escape:
            char = next(chars, "")
            if char not in ("%", "_", escape) or not char:
                raise EscapeError("22025")
            out.append(re.escape(char))
        else:
            out.append({"%": ".*", "_": "."}.get(char) or re.escape(char))
    return "(?s)^" + "".join(out) + "$"


@function(
    "x TEXT SIMILAR TO pattern TEXT [ESCAPE c TEXT] : BOOLEAN",
    meaning=(
        "whether the whole of x has the pattern: % and _ as in LIKE, | * + ? {n,m} ( ) [ ] as in"
        " regular expressions"
    ),
    examples={
        "'A-07' SIMILAR TO '[A-Z]-[0-9]{2}'": "TRUE",
        "'abc' SIMILAR TO '(a|b)%'": "TRUE",
        "'abc' SIMILAR TO 'b'": "FALSE",
    },
    errors=("2201B", "22019", "22025"),
)
def similar(x: pa.Array, pattern: pa.Scalar, escape: Any = None) -> pa.Array:
    columns = [item for item in (x, pattern, escape) if item is not None]
    return by_row(
        lambda text, *how: similar_pattern(*how).fullmatch(text) is not None,
        *columns,
        to=pa.bool_(),
    )


@lru_cache(maxsize=1024)
def similar_pattern(pattern: str, escape: str | None = None) -> Any:
    """The compiled RE2 pattern of SIMILAR TO. Raises RowFailure."""
    import re2

    if escape is not None and len(escape) != 1:
        raise RowFailure("22019")
    out, chars, bracket = [], iter(pattern), False
    for char in chars:
        if char == escape:
            char = next(chars, "")
            if not char:
                raise RowFailure("22025")
            out.append(re.escape(char))
        elif bracket:
            out.append("\\\\" if char == "\\" else char)
            bracket = char != "]"
        else:
            bracket = char == "["
            out.append(
                {"%": ".*", "_": "."}.get(char)
                or (char if char in "|*+?{}()[," or char.isalnum() else re.escape(char))
            )
    try:
        return re2.compile("(?s)(?:" + "".join(out) + ")")
    except re2.error:
        raise RowFailure("2201B") from None


@function(
    "NOT x BOOLEAN : BOOLEAN",
    meaning="the opposite; unknown stays unknown",
    examples={"NOT FALSE": "TRUE", "NOT NULL": "NULL"},
)
def negation(x: pa.Array) -> pa.Array:
    return pc.invert(x)

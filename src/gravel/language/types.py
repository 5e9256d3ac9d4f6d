"""The types of the language, how they widen, and how Arrow stores them."""

from __future__ import annotations

import enum
from functools import cache
from typing import TYPE_CHECKING

from msgspec import Struct

if TYPE_CHECKING:
    import pyarrow as pa


class Kind(enum.Enum):
    """What a type is, without its parameters."""

    INTEGER = "INTEGER"
    DECIMAL = "DECIMAL"
    DOUBLE = "DOUBLE PRECISION"
    BOOLEAN = "BOOLEAN"
    TEXT = "TEXT"
    BINARY = "BINARY"
    DATE = "DATE"
    TIME = "TIME"
    TIMESTAMP = "TIMESTAMP"
    ZONED = "TIMESTAMP WITH TIME ZONE"
    INTERVAL = "INTERVAL"
    ARRAY = "ARRAY"
    NULL = "NULL"


NUMBERS = (Kind.INTEGER, Kind.DECIMAL, Kind.DOUBLE)
MAX_DIGITS = 38


class Type(Struct, frozen=True):
    """A type. DECIMAL has digits before the point (`whole`) and after it (`scale`); a value never
    has more than 38 significant digits, though whole + scale may be more, so that no declared
    precision makes an expression fail. ARRAY has the type of its items."""

    kind: Kind
    whole: int = 0
    scale: int = 0
    item: Type | None = None

    @property
    def precision(self) -> int:
        """Digits in all."""
        return self.whole + self.scale

    def __str__(self) -> str:
        if self.kind is Kind.DECIMAL:
            return f"DECIMAL({min(self.precision, MAX_DIGITS)},{self.scale})"
        if self.kind is Kind.ARRAY:
            return f"{self.item} ARRAY"
        return self.kind.value

    @property
    def arrow(self) -> pa.DataType:
        """The Arrow type of a vector of this type."""
        return _arrow_of(self)


@cache
def _arrow_of(kind: Type) -> pa.DataType:
    import pyarrow as pa

    if kind.kind is Kind.DECIMAL:
        precision = max(kind.precision, 1)
        return (
            pa.decimal128(precision, kind.scale)
            if precision <= MAX_DIGITS
            else pa.decimal256(precision, kind.scale)
        )
    if kind.kind is Kind.ARRAY:
        return pa.list_((kind.item or TEXT).arrow)
    return {
        Kind.INTEGER: pa.int64(),
        Kind.DOUBLE: pa.float64(),
        Kind.BOOLEAN: pa.bool_(),
        Kind.TEXT: pa.string(),
        Kind.BINARY: pa.binary(),
        Kind.DATE: pa.date32(),
        Kind.TIME: pa.time64("us"),
        Kind.TIMESTAMP: pa.timestamp("us"),
        Kind.ZONED: pa.timestamp("us", "UTC"),
        Kind.INTERVAL: pa.month_day_nano_interval(),
        Kind.NULL: pa.null(),
    }[kind.kind]


INTEGER = Type(Kind.INTEGER)
DOUBLE = Type(Kind.DOUBLE)
BOOLEAN = Type(Kind.BOOLEAN)
TEXT = Type(Kind.TEXT)
BINARY = Type(Kind.BINARY)
DATE = Type(Kind.DATE)
TIME = Type(Kind.TIME)
TIMESTAMP = Type(Kind.TIMESTAMP)
ZONED = Type(Kind.ZONED)
INTERVAL = Type(Kind.INTERVAL)
NULL = Type(Kind.NULL)


def decimal(precision: int, scale: int) -> Type:
    """DECIMAL(precision, scale)."""
    return Type(Kind.DECIMAL, precision - scale, scale)


DECIMAL = decimal(38, 10)  # what DECIMAL means by itself


def as_decimal(kind: Type) -> Type:
    """The DECIMAL that holds every value of an exact number type."""
    return kind if kind.kind is Kind.DECIMAL else Type(Kind.DECIMAL, 19, 0)


def room(whole: int, scale: int) -> Type:
    """The DECIMAL with that many digits on each side, neither more than a value can have."""
    return Type(Kind.DECIMAL, min(max(whole, 0), MAX_DIGITS), min(scale, MAX_DIGITS))


def common(left: Type, right: Type) -> Type | None:
    """The type both widen to, or None: NULL with any, INTEGER to DECIMAL to DOUBLE PRECISION, DATE
    to TIMESTAMP."""
    if left == right or right.kind is Kind.NULL:
        return left
    if left.kind is Kind.NULL:
        return right
    kinds = {left.kind, right.kind}
    if kinds <= set(NUMBERS):
        if Kind.DOUBLE in kinds:
            return DOUBLE
        a, b = as_decimal(left), as_decimal(right)
        return room(max(a.whole, b.whole), max(a.scale, b.scale))
    if kinds == {Kind.DATE, Kind.TIMESTAMP}:
        return TIMESTAMP
    if kinds <= {Kind.DATE, Kind.TIMESTAMP, Kind.ZONED}:
        return ZONED
    if kinds == {Kind.ARRAY} and left.item and right.item:
        item = common(left.item, right.item)
        return Type(Kind.ARRAY, item=item) if item else None
    return None


class Target(Struct, frozen=True):
    """What a CAST, FITS or CAST_OR_NULL names: a type, a text's greatest length, an integer's
    range, a FORMAT."""

    type: Type
    length: int | None = None
    bits: int = 64
    format: str | None = None

    @property
    def item(self) -> Target:
        """What is named for the items of an array."""
        return Target(self.type.item or TEXT, self.length, self.bits)

    def __str__(self) -> str:
        if self.type.kind is Kind.ARRAY:
            return f"{self.item} ARRAY"
        name = str(self.type)
        if self.length is not None:
            name = f"VARCHAR({self.length})"
        if self.bits != 64:
            name = "SMALLINT"
        return name + (f" FORMAT '{self.format}'" if self.format else "")

"""What SQLite keeps in a column, beside what the column is declared as.

Source: SQLite's documentation, "Datatypes In SQLite".
"""

from __future__ import annotations

import base64
import re
import sqlite3
from collections import Counter
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from gravel.engine.arrow_values import type_of
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.buffers import matches, valid
from gravel.language.functions.casts import double_text, to_text
from gravel.language.types import (
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    TEXT,
    TIME,
    TIMESTAMP,
    ZONED,
    Kind,
    Type,
    decimal,
)

_ROWS = 50_000
# A DECIMAL must not be stored as SQLite's NUMERIC, which makes a double of it; a name with TEXT in
# it keeps its digits.
TYPE_NAMES = {
    Kind.INTEGER: "INTEGER",
    Kind.DECIMAL: "DECIMAL_TEXT",
    Kind.DOUBLE: "REAL",
    Kind.BOOLEAN: "BOOLEAN",
    Kind.DATE: "DATE",
    Kind.TIME: "TIME",
    Kind.TIMESTAMP: "TIMESTAMP",
    Kind.ZONED: "TIMESTAMP WITH TIME ZONE",
    Kind.BINARY: "BLOB",
    Kind.TEXT: "TEXT",
}
# SQLite keeps numbers of so many digits exactly, in a column whose type has the affinity NUMERIC;
# longer ones are texts.
EXACT_DIGITS = 15
_SCALED = re.compile(r"(?:DECIMAL|NUMERIC)\(([0-9]+), *([0-9]+)\)")
UNSAID = "NUM"  # what CREATE TABLE AS makes of a DATE and of much else: nobody declared that


class NotUtf8(bytes):
    """A value that SQLite calls a text and that is not UTF-8."""


_CLASSES = {
    int: "INTEGER",
    float: "REAL",
    str: "TEXT",
    bytes: "BLOB",
    NotUtf8: "TEXT that is not UTF-8",
}
_TRUTH = {0: "false", 1: "true"}
_DAY, _CLOCK = r"\d{4}-\d{2}-\d{2}", r"\d{2}:\d{2}:\d{2}(\.\d{1,6})?"
_MOMENTS = {
    "DATE": _DAY,
    "TIME": _CLOCK,
    "TIMESTAMP": f"{_DAY}([ T]{_CLOCK})?",
    "DATETIME": f"{_DAY}([ T]{_CLOCK})?",
    "TIMESTAMP WITH TIME ZONE": f"{_DAY}[ T]{_CLOCK}(Z|[+-]\\d{{2}}(:?\\d{{2}})?)",
}


def text_of_bytes(raw: bytes) -> str | bytes:
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return NotUtf8(raw)


class DeclaredColumn(Struct):
    """A column as it is read: what it is declared as, and what its values are so far. `mismatches`:
    those that do not match the declaration, `example` one of them; `spelt`: whether another
    spelling is another value."""

    name: str
    declared: str
    spelt: bool
    mismatches: int = 0
    example: str = ""
    binary: bool = False
    classes: Counter[str] = field(default_factory=Counter)

    def take(self, values: Sequence[Any]) -> pa.Array:
        """The next values."""
        kind, seen = self.declared, set(map(type, values))
        result = _array(values, seen, kind)
        truth = kind.startswith("BOOL")
        self.binary |= bytes in seen or NotUtf8 in seen
        self.spelt |= str in seen and not (is_number(kind) or truth)
        if len(seen) > 1 or truth:
            for own, count in Counter(map(type, values)).items():
                if own is not type(None):
                    self.classes[_CLASSES[own]] += count
        if not seen <= _fitting(kind):
            if kind in _MOMENTS and seen <= {str, type(None)}:
                fits = matches(result, f"^(?:{_MOMENTS[kind]})$")
                odd = result.filter(to_arrow(~fits & valid(result))).to_pylist()
            else:
                odd = [value for value in values if _mismatch(value, kind)]
            self.mismatches += len(odd)
            if odd and not self.example:
                self.example = str(odd[0])
        return result

    def type(self, kept: pa.DataType) -> Type | None:
        """Its type, once all values are kept in one of Arrow's; None: they decide."""
        if self.binary:
            return TEXT
        if not pa.types.is_string(kept):
            return type_of(kept)
        return _type(self.declared, not self.mismatches)

    @property
    def mixed(self) -> bool:
        """Whether its values are of several types. Integers and doubles are numbers both: SQLite
        itself keeps 12.0 as 12 where a column is NUMERIC."""
        several = self.classes.keys() - {"INTEGER" if self.classes["REAL"] else ""}
        return len(several) > 1 or (self.declared.startswith("BOOL") and self.mismatches > 0)


def fetched(base: sqlite3.Connection, sql: str) -> Iterator[list[Any]]:
    """Rows in parts. Texts are read by the driver itself as long as they are UTF-8, which is
    quicker."""
    base.text_factory = str
    done = 0
    try:
        try:
            cursor = base.execute(sql)
            while rows := cursor.fetchmany(_ROWS):
                yield rows
                done += len(rows)
        except sqlite3.OperationalError as error:
            if "decode to UTF-8" not in str(error):
                raise
            base.text_factory = text_of_bytes
            cursor = base.execute(sql)
            for _ in range(0, done, _ROWS):
                cursor.fetchmany(_ROWS)
            while rows := cursor.fetchmany(_ROWS):
                yield rows
    finally:
        base.text_factory = text_of_bytes


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _is_text(kind: str) -> bool:
    """SQLite's rule of affinity: a declared type with one of these in its name holds texts."""
    return (
        any(part in kind for part in ("CHAR", "CLOB", "TEXT"))
        and "INT" not in kind
        and kind != TYPE_NAMES[Kind.DECIMAL]
    )


def keeps_text(kind: str) -> bool:
    """Whether a text that is written into a column stays the text that it is."""
    return _is_text(kind) or kind == TYPE_NAMES[Kind.DECIMAL] or kind in _MOMENTS


def is_number(kind: str) -> bool:
    return any(
        part in kind for part in ("INT", "REAL", "FLOA", "DOUB", "NUM", "DEC")
    ) and kind not in (TYPE_NAMES[Kind.DECIMAL], UNSAID)


def _type(kind: str, fits: bool) -> Type | None:
    """The type that a declaration gives a column; None: its values decide."""
    if kind in ("TIME", TYPE_NAMES[Kind.ZONED]):  # which no text shows by itself
        return (TIME if kind == "TIME" else ZONED) if fits else TEXT
    return (
        TEXT
        if _is_text(kind)
        else (
            DOUBLE
            if fits and any(part in kind for part in ("REAL", "FLOA", "DOUB")) and "INT" not in kind
            else None
        )
    )


def fallback_of(kind: str) -> Type | None:
    """The type of a declared column that holds no value."""
    for part, result in (
        ("INT", INTEGER),
        ("BOOL", BOOLEAN),
        ("TIME ZONE", ZONED),
        ("TIMESTAMP", TIMESTAMP),
        ("DATETIME", TIMESTAMP),
    ):
        if part in kind:
            return result
    return {"DATE": DATE, "TIME": TIME}.get(kind) or (
        decimal(18, 2) if "DEC" in kind or "NUM" in kind else None
    )


def as_number(text: str | None) -> float | str | None:
    """In a column of no declared type, a number where it holds the text's value exactly, as it was
    when it was read."""
    if text is None or not re.fullmatch(r"-?[0-9]*\.?[0-9]+", text):
        return text
    number = float(text) if "." in text else int(text)
    return number if Decimal(repr(number)) == Decimal(text) and abs(number) < 1 << 63 else text


def _fitting(kind: str) -> set[type]:
    """The types of values that need no second look in a column that is declared so."""
    if "INT" in kind:
        return {int, type(None)}
    if is_number(kind):
        return {int, float, type(None)}
    if kind.startswith("BOOL") or kind in _MOMENTS:
        return {type(None)}
    return {int, float, str, bytes, NotUtf8, type(None)}


def _mismatch(value: Any, kind: str) -> bool:
    """Whether a value does not match what its column is declared as."""
    if value is None:
        return False
    if kind.startswith("BOOL"):
        return value not in _TRUTH
    if kind in _MOMENTS:
        return not isinstance(value, str) or re.fullmatch(_MOMENTS[kind], value) is None
    return type(value) not in _fitting(kind)


def _declared_scale(kind: str) -> int | None:
    """The places after the point that a column's declaration gives its numbers."""
    match = _SCALED.fullmatch(kind)
    return int(match[2]) if match and int(match[1]) <= EXACT_DIGITS else None


def _array(values: Sequence[Any], seen: set[type], declared: str) -> pa.Array:
    """The values of a column in a part: numbers and truth as such where all are, else texts.
    `seen`: their types."""
    seen = seen - {type(None)}
    truth, scale = declared.startswith("BOOL"), _declared_scale(declared)
    if seen <= {str}:
        return pa.array(values, pa.string())
    if truth and seen == {int} and set(values) <= {0, 1, None}:
        return pa.array(values, pa.int64()).cast(pa.bool_())
    if scale and seen <= {int, float}:
        numbers = _decimals(values, declared, scale)
        return numbers if numbers is not None else _scaled_texts(values, scale)
    if seen == {int} and not truth:
        whole = pa.array(values, pa.int64())
        return whole if _type(declared, True) is None else whole.cast(pa.string())
    if seen == {float}:
        numbers = pa.array(values, pa.float64())
        return numbers if _type(declared, True) == DOUBLE else to_text(numbers, DOUBLE)
    return pa.array([_text(value, truth) for value in values], pa.string())


def _decimals(values: Sequence[Any], declared: str, scale: int) -> pa.Array | None:
    """Numbers as the DECIMAL that their column is declared as; None where that does not say all of
    them exactly. A double is the DECIMAL that is nearest to it where that has 15 digits at most
    (IEEE 754)."""
    known = np.array([value is not None for value in values])
    try:
        doubles = np.array([0 if value is None else value for value in values], np.float64)
    except OverflowError:
        return None
    whole = np.rint(doubles * 10**scale)
    if not (np.abs(whole) < 10**EXACT_DIGITS).all() or not _is_near(whole, scale, doubles).all():
        return None
    match = _SCALED.fullmatch(declared)
    assert match is not None
    most = int(np.abs(whole).max(initial=0))
    if most >= 10 ** int(match[1]):
        return None
    # Whole hundredths, or what the scale is, are the DECIMAL's own bytes.
    words = np.zeros((len(whole), 2), np.int64)
    words[:, 0] = whole.astype(np.int64)
    words[:, 1] = words[:, 0] >> 63
    validity = pa.py_buffer(np.packbits(known, bitorder="little").tobytes())
    kind = pa.decimal128(int(match[1]), scale)
    return pa.Array.from_buffers(kind, len(whole), [validity, pa.py_buffer(words)])


def _is_near(whole: Any, scale: int, doubles: Any) -> Any:
    """Whether doubles are these whole numbers of the last place: as near as SQLite comes, which
    reads a text up to two units in the last place beside the nearest double (before 3.47). No other
    number of 15 digits is as near."""
    return np.abs(whole / 10**scale - doubles) <= 2 * np.spacing(np.abs(doubles))


def _scaled_texts(values: Sequence[Any], scale: int) -> pa.Array:
    return pa.array([_scaled(value, scale) for value in values], pa.string())


def _scaled(value: float | None, scale: int) -> str | None:
    """A number with so many places after the point, if these say it exactly."""
    if isinstance(value, float):
        whole = np.rint(value * 10**scale)
        exact = abs(whole) < 10**EXACT_DIGITS and _is_near(whole, scale, value)
        return f"{value:.{scale}f}" if exact else double_text(value)
    return _text(value) if not isinstance(value, int) else f"{value}.{'0' * scale}"


def _text(value: Any, truth: bool = False) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if truth and value in _TRUTH:
        return _TRUTH[value]
    return (
        base64.b64encode(value).decode()
        if isinstance(value, bytes)
        else double_text(value)
        if isinstance(value, float)
        else str(value)
    )

"""Values that break things, as the rows of one table: for each column its type here, there (PostgreSQL) and its texts."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

HERE = Path(__file__).parent

TEXTS = [
    None, "", " ", "  ", "a", "A", "Gull", "gULL", " Gull ", "Gull  ", "a_b", "a%b", "100%", "O'Brannock", 'say "ah"', "tab\there",
    "line\nbreak", "cr\rlf\r\n", "no\u00a0break", "zero\u200bwidth", "Möwe", "Mo\u0308we", "STRASSE", "straße", "ẞ", "İstanbul", "ısı",
    "Ångström", "\u212b", "ﬁn", "😀 boat 😀", "👩‍👩‍👧", "שלום", "مرحبا 7", "日本語", "\u0301a", "e\u0301\u0327", "x" * 300, "7", "007", "-1.50",
    "ǆ", "ά", "Σίσυφος", "ŉ", "!_", "a!b", "NULL", "\\", "\\n", "$1", "[a-z]", "\u3000wide\u3000", "A-07; B-12", "Q\u2060R",
]  # fmt: skip
NUMBERS = [
    None,
    "0",
    "1",
    "-1",
    "7",
    "42",
    "100",
    "9223372036854775807",
    "-9223372036854775808",
    "4611686018427387904",
    "-7",
    "3",
    "2147483648",
]
PLACES = [None, "0", "1", "2", "-1", "3", "5", "-3", "10"]
DECIMALS = [
    None,
    "0",
    "0.001",
    "-0.001",
    "1.5",
    "2.5",
    "-2.5",
    "0.5",
    "-0.5",
    "999999999.999",
    "-999999999.999",
    "12.345",
    "12.3",
    "100",
    "7.125",
]
EXACT = [
    None,
    "0.00",
    "1.005",
    "-3.14159",
    "123456789.123456",
    "0.000001",
    "2.50",
    "-0.999999",
    "10.000000",
    "5",
]
DOUBLES = [
    None,
    "0",
    "-0",
    "1.5",
    "-2.5",
    "0.1",
    "1e308",
    "-1e308",
    "5e-324",
    "NaN",
    "Infinity",
    "-Infinity",
    "2",
    "0.5",
    "3",
    "1e15",
]
TRUTH = [None, "true", "false"]
DAYS = [
    None, "0001-01-01", "9999-12-31", "2024-02-29", "2023-02-28", "2024-01-31", "2024-12-31", "2021-01-03", "1970-01-01", "1969-12-31",
    "2000-02-29", "1900-03-01", "2020-12-28",
]  # fmt: skip
MOMENTS = [
    None, "0001-01-01 00:00:00", "9999-12-31 23:59:59.999999", "2024-02-29 12:00:00", "2024-02-29 00:00:00.5", "1969-12-31 23:59:59.25",
    "2021-01-03 01:02:03.000004", "2024-03-31 10:11:12",
]  # fmt: skip
NUMERALS = [
    None, "0", "7", " 7", "7 ", "+7", "-7", "007", "12.5", "12.345", "-.5", "5.", ".", "", " ", "-", "1,000", "1e3", "abc", "9223372036854775808",
    "99999.999", "0.005", "-0", "1e400", "NaN", "infinity", "32768", "7x", "--7", "1 2",
]  # fmt: skip
DATES = [
    None, "2024-02-29", "2023-02-29", "2024-13-01", "2024-04-31", "2024-00-10", "0001-01-01", "9999-12-31", " 2024-05-31 ", "2024-05-31 10:00:00",
    "2024-05-31T10:00:00.25", "2024-05-31 24:00:00", "2024-05-31 23:60:00", "", "abc", "2024-05-31 10:00", "2024-05-31 25:00:00",
]  # fmt: skip
COLUMNS: dict[str, tuple[str, str, list[str | None], int]] = {
    "t": ("TEXT", "text", TEXTS, 1), "u": ("TEXT", "text", [*TEXTS[7:], *TEXTS[:7]], 3), "i": ("INTEGER", "bigint", NUMBERS, 1),
    "j": ("INTEGER", "bigint", NUMBERS, 5), "k": ("INTEGER", "bigint", PLACES, 1), "d": ("DECIMAL(12,3)", "numeric(12,3)", DECIMALS, 1),
    "e": ("DECIMAL(15,6)", "numeric(15,6)", EXACT, 3), "f": ("DOUBLE PRECISION", "float8", DOUBLES, 1),
    "g": ("DOUBLE PRECISION", "float8", DOUBLES, 7),
    "b": ("BOOLEAN", "boolean", TRUTH, 1), "c": ("BOOLEAN", "boolean", TRUTH, 2), "day": ("DATE", "date", DAYS, 1), "day2": ("DATE", "date", DAYS, 5),
    "ts": ("TIMESTAMP", "timestamp", MOMENTS, 1), "ts2": ("TIMESTAMP", "timestamp", MOMENTS, 3), "n": ("TEXT", "text", NUMERALS, 1),
    "m": ("TEXT", "text", DATES, 1),
}  # fmt: skip
ROWS = 120


def value(column: str, row: int) -> str | None:
    """A column's text in a row; columns run through their values with different strides, so that they meet in many ways."""
    _, _, values, stride = COLUMNS[column]
    return values[(row * stride + row // len(values)) % len(values)]


@lru_cache(maxsize=1)
def frame():  # type: ignore[no-untyped-def]
    """(scope, frame) of all rows."""
    import pyarrow as pa

    from gravel.engine.frame import Frame
    from gravel.language.functions.casts import cast
    from gravel.language.scope import Scope
    from gravel.language.type_names import named_type
    from gravel.language.types import TEXT, Target

    types = tuple(named_type(ours).type for ours, *_ in COLUMNS.values())
    texts = [
        pa.array([value(column, row) for row in range(ROWS)], pa.string()) for column in COLUMNS
    ]
    stored = []
    for column, kind in zip(texts, types, strict=True):
        made = cast(column, TEXT, Target(kind))
        assert made.errors is None or not made.errors.any()
        stored.append(made.values)
    return Scope(tuple(COLUMNS), types), Frame(ROWS, stored, types)

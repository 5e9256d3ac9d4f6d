"""Window functions as the catalogue shows them; they belong in queries, and `querying` does the
work."""

from __future__ import annotations

from gravel.language.functions.catalogue import describe

_FROM = "FROM (VALUES (1, 'a'), (2, 'b'), (2, 'c'), (4, 'd')) AS v(x, y)"


def _window(signature: str, meaning: str, call: str, index: str, result: str) -> None:
    """An entry with one example: what the call gives in the row of y = `at`."""
    example = f"SELECT r FROM (SELECT y, {call} AS r {_FROM}) AS q WHERE y = '{index}'"
    describe(signature, family="windows", meaning=meaning, examples={example: result})


_window(
    "ROW_NUMBER() INTEGER",
    "OVER ([PARTITION BY …] [ORDER BY …] [frame]): the number of the row in its partition, "
    "ties in the order of the rows; the aggregates are window functions too; "
    "frames are ROWS, RANGE or GROUPS with EXCLUDE",
    "ROW_NUMBER() OVER (ORDER BY x)",
    "c",
    "3",
)
_window(
    "RANK() INTEGER",
    "1 and the rows before, rows that tie alike",
    "RANK() OVER (ORDER BY x)",
    "d",
    "4",
)
_window(
    "DENSE_RANK() INTEGER",
    "1 and the different keys before",
    "DENSE_RANK() OVER (ORDER BY x)",
    "d",
    "3",
)
_window(
    "PERCENT_RANK() DOUBLE",
    "(RANK - 1) / (rows - 1), 0 for a single row",
    "PERCENT_RANK() OVER (ORDER BY x)",
    "d",
    "1",
)
_window(
    "CUME_DIST() DOUBLE",
    "the share of rows up to this one and those that tie",
    "CUME_DIST() OVER (ORDER BY x)",
    "b",
    "0.75",
)
_window(
    "NTILE(buckets INTEGER) INTEGER",
    "the number of the bucket, of as equal size as can be",
    "NTILE(2) OVER (ORDER BY x, y)",
    "c",
    "2",
)
_window(
    "LAG(x ANY [, rows INTEGER] [, default ANY]) ANY",
    "x so many rows before, 1 if not said; IGNORE NULLS before OVER counts known values alone",
    "LAG(y) OVER (ORDER BY x, y)",
    "c",
    "'b'",
)
_window(
    "LEAD(x ANY [, rows INTEGER] [, default ANY]) ANY",
    "x so many rows after, 1 if not said",
    "LEAD(y, 2, '-') OVER (ORDER BY x, y)",
    "c",
    "'-'",
)
_window(
    "FIRST_VALUE(x ANY) ANY",
    "x in the first row of the frame",
    "FIRST_VALUE(y) OVER (ORDER BY x, y)",
    "d",
    "'a'",
)
_window(
    "LAST_VALUE(x ANY) ANY",
    "x in the last row of the frame, which by default ends with the rows that tie with this one",
    "LAST_VALUE(y) OVER (ORDER BY x)",
    "b",
    "'c'",
)
_window(
    "NTH_VALUE(x ANY, n INTEGER) ANY",
    "x in the nth row of the frame",
    "NTH_VALUE(y, 2) OVER (ORDER BY x, y)",
    "d",
    "'b'",
)

"""Findings about values that stand for nothing: a number of nines far from all others, a value that
is there again and again where the others are nearly all different."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from gravel.language.types import TEXT, Kind
from gravel.language.writing import is_one_of, literal, quoted
from gravel.profiling import column_kind
from gravel.profiling.result import ColumnProfile, Finding, Numbers
from gravel.profiling.wording import row_count, shown

KIND = "sentinel values"
_NINES = re.compile(r"-?9+(\.[09]+)?")
_LEAST_NINES = 2
_FAR = 3  # quartile ranges beyond a quartile
_FEWEST, _TIMES = 5, 10  # rows of a value, and how many more they are than those of the next one
_DIFFERENT = 0.5  # share of the other rows that have a value of their own


def sentinel_findings(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    """The values of a column that has some; `known`: its rows with a value."""
    values = _nines(column_profile) or _again_and_again(column_profile, known)
    if not values:
        return
    name = quoted(column_profile.name)
    literals = [literal(value, column_profile.type) for value, _ in values]
    rows = sum(count for _, count in values)
    nulls = name
    for item in literals:
        nulls = f"NULLIF({nulls}, {item})"
    far = column_profile.numbers is not None and _NINES.fullmatch(values[0][0])
    others = [count for value, count in column_profile.top if (value, count) not in values]
    phrase = " " in values[0][0].strip()  # words may simply be what is usual
    yield Finding(
        KIND,
        "note" if phrase else "suspect",
        column_profile.name,
        rows,
        " and ".join(f"{count:,} × {shown(value)}" for value, count in values)
        + (
            ", far from all others: rather not known than a value"
            if far
            else f", where every other value stands in at most {row_count(max(others, default=0))}:"
            " rather a default, or not known"
        ),
        is_one_of(name, literals),
        f"{name} = {nulls}",
    )


def is_told_by(finding: Finding, sentinels: Sequence[Finding]) -> bool:
    """Whether a finding about quantities is of just the rows that hold a sentinel value."""
    return any(
        finding.rows == sentinel.rows
        and (
            finding.finding in ("outliers", "1 January", "future")
            or (finding.finding == "negative" and "= -" in sentinel.where)
        )
        for sentinel in sentinels
    )


def _nines(column_profile: ColumnProfile) -> list[tuple[str, int]]:
    """Values such as -999 at the ends of a column of numbers, with their rows."""
    numbers = column_profile.numbers
    if numbers is None or column_profile.type == TEXT or numbers.q3 <= numbers.q1:
        return []
    return [
        (value, count)
        for value, count in column_profile.top
        if count > 1
        and _NINES.fullmatch(value)
        and value.count("9") >= _LEAST_NINES
        and value in (column_profile.min, column_profile.max)
        and _is_far(float(value), numbers)
    ]


def _is_far(value: float, numbers: Numbers) -> bool:
    # A quarter of the rows and more may have it: then the other half tells what is usual.
    if value < numbers.median:
        near = numbers.median if value == numbers.q1 else numbers.q1
        return value < near - _FAR * (numbers.q3 - near)
    near = numbers.median if value == numbers.q3 else numbers.q3
    return value > near + _FAR * (near - numbers.q1)


def _again_and_again(column_profile: ColumnProfile, known: int) -> list[tuple[str, int]]:
    """The value that stands in many rows of a column of codes, texts or days of which nearly all
    others differ."""
    kind = column_profile.type.kind
    if kind not in (Kind.TEXT, Kind.DATE, Kind.TIMESTAMP) or len(column_profile.top) < 2:
        return []
    numbers = column_profile.numbers
    if numbers is not None and not column_kind.is_code(column_profile, column_profile.rows):
        return []
    (value, rows), (_, next_rows) = column_profile.top[:2]
    placeholders = {word.value for word in column_profile.placeholders}
    others = column_profile.distinct - 1
    if (
        any(map(str.isalnum, value))
        and value not in placeholders
        and rows >= max(_FEWEST, _TIMES * next_rows)
        and others >= _DIFFERENT * (known - rows)
        and others >= _FEWEST
    ):
        return [(value, rows)]
    return []

"""Findings about numbers and days as quantities: outliers, zero, negative, in the future,
doubled."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from datetime import date

from gravel.language.types import TEXT, Kind
from gravel.language.writing import is_one_of, literal, quoted, text_literal
from gravel.profiling import column_kind
from gravel.profiling.result import ColumnProfile, Dates, Finding, Numbers
from gravel.profiling.wording import row_count

_FEW_VALUES, _FEW_ROWS = 15, 30
_VERY_FAR, _WIDE_GAP = 7.5, 0.62  # quartile ranges; the share of the distance to the median
_FAR_COORDINATE = (
    30  # quartile ranges beyond which a degree is rather a slip of a digit than a far place
)
_FEW_ZEROS, _ZERO_GAP, _ZERO_PLACES, _ZERO_PLACE_SHARE = 0.05, 0.5, 3, 0.001
_LEAST_WHOLE = 5
_SMALL_COUNT, _COUNT_GAP = 10, 0.5  # of small counts the next is at least twice as far
_FEWER = 20


def number_findings(column_profile: ColumnProfile, rows: int) -> Iterator[Finding]:
    result = column_profile.numbers
    if result is None or result.fit * 2 < sum(shape.rows for shape in column_profile.shapes):
        return
    name = quoted(column_profile.name)
    text = column_profile.type == TEXT
    value = f"CAST_OR_NULL({name} AS DOUBLE PRECISION)" if text else name
    measured = (
        column_profile.distinct > _FEW_VALUES
        and result.fit >= _FEW_ROWS
        and not column_kind.is_code(column_profile, rows)
    )
    place = column_kind.is_coordinate(column_profile)
    zeros = measured and _zeros_stand_apart(column_profile, result, place)
    if (
        zeros
        and result.far_low is not None
        and result.least_positive is not None
        and result.least_positive >= float(result.far_low)
    ):
        # The rows that are far below are the zeros, which are a finding of their own.
        result = replace(result, far_out=result.far_out - result.zero, far_low=None)
    if result.far_out > 0 and measured and (not place or result.far_reach >= _FAR_COORDINATE):
        bounds = [(result.far_low, "<"), (result.far_high, ">")]
        very_far = result.far_reach >= _VERY_FAR or result.far_gap >= _WIDE_GAP
        tail = (
            result.q1 == 0 and result.q3 - result.median > result.median
        )  # counts, many of them zero
        tail = tail or (
            _is_whole(result) and result.q3 <= _SMALL_COUNT and result.far_gap < _COUNT_GAP
        )
        # A bound is a value of the column: nothing is rounded, and the condition means just these
        # rows.
        parts = [
            f"{value} {sign} {_number(bound, text)}" for bound, sign in bounds if bound is not None
        ]
        finite = (
            f" AND {value} < CAST('Infinity' AS DOUBLE PRECISION) AND {value} > CAST('-Infinity' AS"
            " DOUBLE PRECISION)"
            if text
            else ""
        )
        where = (
            f"({' OR '.join(parts)}){finite}"
            if len(parts) > 1 and finite
            else " OR ".join(parts) + finite
        )
        yield Finding(
            "outliers",
            "suspect" if very_far and not tail else "note",
            column_profile.name,
            result.far_out,
            f"{row_count(result.far_out)} far from all others, with a gap between; the middle half"
            f" is from {_plain(result.q1)} to {_plain(result.q3)}",
            where,
        )
    if zeros:
        yield Finding(
            "zeros",
            "suspect",
            column_profile.name,
            result.zero,
            (
                "exactly zero: rather not known than a place"
                if place
                else (
                    "exactly zero, where all others are at least"
                    f" {_plain(result.least_positive or 0)}: rather not known than nothing"
                )
            ),
            f"{value} = 0",
        )
    if (
        0 < result.negative <= 0.02 * result.fit
        and not place
        and not column_kind.may_be_negative(column_profile)
    ):
        finite = f" AND {value} > CAST('-Infinity' AS DOUBLE PRECISION)" if text else ""
        # One value again and again, a single row, or few beside the positive ones as near to zero:
        # a mark or a slip, no spread that goes on below zero.
        marked = result.negative == 1 or (
            result.distinct_negative <= 2 and result.negative > result.distinct_negative
        )
        counted = column_profile.type.kind is Kind.INTEGER or result.zero >= _FEW_ZEROS * result.fit
        apart = result.q1 >= 0 and counted and result.near_zero >= _FEWER * result.negative
        level = "suspect" if marked or apart else "note"
        yield Finding(
            "negative",
            level,
            column_profile.name,
            result.negative,
            "numbers below zero where nearly all are above",
            f"{value} < 0{finite}",
        )


def _zeros_stand_apart(column_profile: ColumnProfile, numbers: Numbers, place: bool) -> bool:
    if place:
        return (
            max(_ZERO_PLACES, _ZERO_PLACE_SHARE * numbers.fit)
            <= numbers.zero
            <= _FEW_ZEROS * numbers.fit
        ) and not _is_whole(numbers)  # where degrees are whole ones, some place has the degree zero
    least = numbers.least_positive
    if least is None or numbers.negative or not 0 < numbers.zero <= _FEW_ZEROS * numbers.fit:
        return False
    return least >= _ZERO_GAP * numbers.median and (not _is_whole(numbers) or least >= _LEAST_WHOLE)


def _is_whole(numbers: Numbers) -> bool:
    """Whether the numbers are counts, by those that are known."""
    known = (numbers.q1, numbers.median, numbers.q3, numbers.least_positive or 0)
    return all(value == int(value) for value in known)


def _number(bound: str, text: bool) -> str:
    return f"CAST({text_literal(bound)} AS DOUBLE PRECISION)" if text else bound.strip()


def _plain(value: float) -> str:
    return f"{value:,.4f}".rstrip("0").rstrip(".")


_ALMOST_ALL = 0.99


def date_findings(column_profile: ColumnProfile, known: int) -> Iterator[Finding]:
    result = column_profile.dates
    if result is None or column_profile.type.kind not in (Kind.DATE, Kind.TIMESTAMP, Kind.TEXT):
        return
    value = _day_of(column_profile)
    if result.future and result.fit * 10 >= known:  # a title or a code may look like a day
        where = f"{value} > CURRENT_DATE" if value else ""
        yield Finding(
            "future",
            "suspect",
            column_profile.name,
            result.future,
            f"days after today, up to {result.max}",
            where,
        )
    years = max(1, len(result.years))
    if (
        result.january_first >= 3
        and result.january_first > 0.05 * result.fit
        and result.january_first > 10 * result.fit / min(365.25, _days_between(result))
        and result.fit > years
        and result.january_first > 0.5 * result.month_first
        and result.january_first < 0.9 * result.fit  # else the column has years, written as days
    ):
        where = (
            f"EXTRACT(MONTH FROM {value}) = 1 AND EXTRACT(DAY FROM {value}) = 1" if value else ""
        )
        yield Finding(
            "1 January",
            "suspect",
            column_profile.name,
            result.january_first,
            "on a 1 January: rather a year whose day nobody knew",
            where,
        )

    doubled = known - column_profile.distinct
    if (
        column_profile.type.kind in (Kind.TIMESTAMP, Kind.ZONED)
        and known >= _FEW_ROWS
        and 0 < doubled <= (1 - _ALMOST_ALL) * known
    ):
        name = quoted(column_profile.name)
        values = [
            literal(value, column_profile.type) for value, rows in column_profile.top if rows > 1
        ]
        where = (
            is_one_of(name, values)
            if sum(rows - 1 for _, rows in column_profile.top if rows > 1) == doubled
            else ""
        )
        shared = sum(rows for _, rows in column_profile.top if rows > 1) if where else doubled
        yield Finding(
            "repeated timestamps",
            "suspect",
            column_profile.name,
            shared,
            "at one moment with another row, where nearly every row has one of its own",
            where,
        )


def _days_between(dates: Dates) -> int:
    """How many days there are from the first to the last."""
    first, last = (date.fromisoformat(day) for day in (dates.min, dates.max))
    return (last - first).days + 1


def _day_of(column_profile: ColumnProfile) -> str:
    """An expression for the day of a value; '' where the column does not tell the day from the
    month."""
    name = quoted(column_profile.name)
    if column_profile.type != TEXT:
        return f"CAST({name} AS DATE)" if column_profile.type.kind is Kind.TIMESTAMP else name
    if not all(orders.settled for orders in column_profile.both_orders):
        return ""
    wrong = {
        f"'{orders.month_first if orders.only_day_first else orders.day_first}'"
        for orders in column_profile.both_orders
    }
    types = [
        fit.type
        for fit in column_profile.fits
        if fit.rows and fit.type.startswith(("DATE", "TIMESTAMP")) and "YYYYMMDD" not in fit.type
    ]
    read = [
        f"CAST_OR_NULL({name} AS {kind})"
        for kind in types
        if not any(form in kind for form in wrong)
    ]
    days = [f"CAST({item} AS DATE)" if "AS TIMESTAMP" in item else item for item in read]
    return days[0] if len(days) == 1 else f"COALESCE({', '.join(days)})"

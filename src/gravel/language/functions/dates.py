"""Dates and times: parts of them, sums with intervals, whole years, months and days between two."""

from __future__ import annotations

import datetime
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import to_arrow
from gravel.language.errors import CODES
from gravel.language.functions import arithmetic, casts, formats
from gravel.language.functions.buffers import valid
from gravel.language.functions.catalogue import KernelResult, NotADate, describe, function
from gravel.language.functions.row_by_row import RowFailure, by_row, constant
from gravel.language.types import (
    DATE,
    INTEGER,
    INTERVAL,
    TEXT,
    TIMESTAMP,
    ZONED,
    Kind,
    Target,
    Type,
    decimal,
)

FIRST_DAY, LAST_DAY = -719162, 2932896  # 0001-01-01 and 9999-12-31, in days from 1970-01-01
DAY = 86_400_000_000  # microseconds
_OUT = CODES["22008"]
_OF_DATE = ("YEAR", "QUARTER", "MONTH", "DAY", "ISODOW", "DOY", "WEEK")
_OF_TIME = ("HOUR", "MINUTE", "SECOND")
_PARTS = {
    "YEAR": pc.year, "QUARTER": pc.quarter, "MONTH": pc.month, "DAY": pc.day, "DOY": pc.day_of_year,
    "WEEK": pc.iso_week,
    "HOUR": pc.hour, "MINUTE": pc.minute,
}  # fmt: skip


def naive(x: pa.Array) -> pa.Array:
    """A timestamp without its zone (UTC)."""
    return pc.cast(x, pa.timestamp("us")) if pa.types.is_timestamp(x.type) and x.type.tz else x


def _extract_type(types: list[Type], values: list[Any]) -> Type:
    field, kind = values[0], types[1].kind
    known = {Kind.DATE: _OF_DATE, Kind.TIME: _OF_TIME}.get(kind, (*_OF_DATE, *_OF_TIME))
    if kind not in (Kind.DATE, Kind.TIME, Kind.TIMESTAMP, Kind.ZONED):
        raise NotADate(f"EXTRACT takes a date or a time, this is {types[1]}")
    if field not in known:
        instead = (
            "; write ISODOW, 1 is Monday: " if field in ("DOW", "DAYOFWEEK", "WEEKDAY") else ": "
        )
        raise ValueError(f"{types[1]} has no {field}{instead}" + ", ".join(known))
    return decimal(8, 6) if field == "SECOND" else INTEGER


@function(
    "EXTRACT(field TEXT, x ANY) INTEGER",
    meaning=(
        "EXTRACT(field FROM x): a part of a date or time: YEAR, QUARTER, MONTH, DAY, ISODOW (1 is"
        " Monday), DOY, WEEK (of ISO 8601), HOUR, MINUTE, SECOND (with its decimals)"
    ),
    examples={
        "EXTRACT(YEAR FROM DATE '2024-05-31')": "2024",
        "EXTRACT(ISODOW FROM DATE '2024-05-31')": "5",
        "EXTRACT(WEEK FROM DATE '2021-01-03')": "53",
        "EXTRACT(SECOND FROM TIMESTAMP '2024-05-31 10:00:07.5')": "7.500000",
    },
    result=_extract_type,
)
def extract(field: pa.Array | pa.Scalar, x: pa.Array | pa.Scalar, to: Type) -> pa.Array:
    x, name = (
        naive(arithmetic.arrays(x)[0]),
        (field if isinstance(field, pa.Scalar) else field[0]).as_py(),
    )
    if name == "ISODOW":
        return pc.day_of_week(x, count_from_zero=False, week_start=1)
    if name != "SECOND":
        return pc.cast(_PARTS[name](x), pa.int64())
    clock = arithmetic.numpy_values(pc.cast(x, pa.int64())) % 60_000_000
    exact = pc.multiply(
        pc.cast(to_arrow(clock, mask=~arithmetic.known(x)), pa.decimal128(19, 0)), pa.scalar(_MICRO)
    )
    return pc.cast(exact, to.arrow)


_MICRO = pc.cast(pa.scalar("0.000001"), pa.decimal128(7, 6)).as_py()


def parts_of(interval: pa.Array) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Months, days and microseconds of an interval array; a year has 12 months, an hour no days."""
    shape = np.dtype([("months", "<i4"), ("days", "<i4"), ("nanos", "<i8")])
    raw = np.frombuffer(interval.buffers()[1], shape)[
        interval.offset : interval.offset + len(interval)
    ]
    return raw["months"].astype(np.int64), raw["days"].astype(np.int64), raw["nanos"] // 1000


def intervals(
    months: np.ndarray, days: np.ndarray, micros: np.ndarray, good: np.ndarray
) -> pa.Array:
    """An interval array from its parts, NULL where not good."""
    raw = np.zeros(len(months), np.dtype([("months", "<i4"), ("days", "<i4"), ("nanos", "<i8")]))
    raw["months"], raw["days"], raw["nanos"] = months, days, micros * 1000
    buffers = [to_arrow(good).buffers()[1], pa.py_buffer(raw.tobytes())]
    return pa.Array.from_buffers(pa.month_day_nano_interval(), len(months), buffers)


def add_months(days: np.ndarray, months: np.ndarray) -> np.ndarray:
    """Days since 1970-01-01 so many months later, within the month: 31 January + 1 month is the
    last of February."""
    start = days.astype("M8[D]").astype("M8[M]")
    place = days - start.astype("M8[D]").astype(np.int64)
    then = start + months
    first = then.astype("M8[D]").astype(np.int64)
    length = (then + 1).astype("M8[D]").astype(np.int64) - first
    return first + np.minimum(place, length - 1)


def _sum_type(types: list[Type], values: list[Any], sign: str) -> Type:
    left, right = types
    kinds = (left.kind, right.kind)
    dated = (Kind.DATE, Kind.TIMESTAMP, Kind.ZONED)
    if sign == "-" and left.kind in dated and right.kind in dated:
        return INTEGER if kinds == (Kind.DATE, Kind.DATE) else INTERVAL
    if sign == "+" and right.kind in dated and left.kind not in dated:
        left, right, values = right, left, values[::-1]
    if left.kind is Kind.DATE and right.kind is Kind.INTEGER:
        return DATE
    if left.kind in dated and right.kind is Kind.INTERVAL:
        supplied = values[1]
        exact = supplied is not None and supplied is not ... and supplied.nanoseconds == 0
        return (
            DATE
            if left.kind is Kind.DATE and (exact or supplied is None)
            else TIMESTAMP
            if left.kind is Kind.DATE
            else left
        )
    if kinds == (Kind.INTERVAL, Kind.INTERVAL):
        return INTERVAL
    raise NotADate(
        f"{sign} has no meaning for {types[0]} and {types[1]}: a date or timestamp takes an"
        " INTERVAL, a date also days"
    )


def _shifted(x: pa.Array, y: pa.Array | pa.Scalar, to: Type, sign: int) -> Any:
    x, y = (naive(item) for item in arithmetic.arrays(x, y))
    if pa.types.is_interval(x.type) and pa.types.is_interval(y.type):
        pairs = zip(parts_of(x), parts_of(y), strict=True)
        months, days, micros = (a + sign * b for a, b in pairs)
        return intervals(months, days, micros, arithmetic.known(x, y))
    if sign > 0 and (pa.types.is_interval(x.type) or pa.types.is_integer(x.type)):
        x, y = y, x
    good = arithmetic.known(x, y)
    if pa.types.is_interval(y.type):
        months, days, micros = (sign * part for part in parts_of(y))
    else:
        counts = np.clip(arithmetic.numpy_values(y), -4_000_000, 4_000_000)
        months, days, micros = np.zeros_like(counts), sign * counts, np.zeros_like(counts)
    start, clock = _split(x)
    whole = add_months(np.where(good, start, 0), np.where(good, months, 0)) + days
    moment = clock + micros
    whole, moment = whole + moment // DAY, moment % DAY
    errors = ((good & ((whole < FIRST_DAY) | (whole > LAST_DAY))) * _OUT).astype(np.uint8)
    mask = ~good | (errors != 0)
    if to == DATE:
        return KernelResult(
            pc.cast(to_arrow(whole.astype(np.int32), mask=mask), pa.date32()), errors
        )
    return KernelResult(
        pc.cast(
            pc.cast(
                to_arrow(np.where(mask, 0, whole * DAY + moment), mask=mask), pa.timestamp("us")
            ),
            to.arrow,
        ),
        errors,
    )


def _split(x: pa.Array) -> tuple[np.ndarray, np.ndarray]:
    """Days since 1970-01-01 and microseconds of the day."""
    if pa.types.is_date(x.type):
        days = arithmetic.numpy_values(pc.cast(x, pa.int32())).astype(np.int64)
        return days, np.zeros(len(x), np.int64)
    micros = arithmetic.numpy_values(pc.cast(x, pa.int64()))
    return micros // DAY, micros % DAY


@function(
    "x ANY + y ANY : MOMENT",
    name="+ of dates",
    meaning=(
        "a date or timestamp so much later: + INTERVAL, or a date + days; months stay within the"
        " month"
    ),
    examples={
        "DATE '2024-01-31' + INTERVAL '1' MONTH": "DATE '2024-02-29'",
        "DATE '2024-05-31' + 1": "DATE '2024-06-01'",
        "DATE '9999-12-31' + 1": "error 22008",
    },
    errors=("22008",),
    result=lambda types, values: _sum_type(types, values, "+"),
)
def later(x: pa.Array, y: pa.Array | pa.Scalar, to: Type) -> Any:
    return _shifted(x, y, to, 1)


@function(
    "x ANY - y ANY : MOMENT",
    name="- of dates",
    meaning=(
        "a date or timestamp so much earlier; of two dates the days between them, of two timestamps"
        " the INTERVAL"
    ),
    examples={
        "DATE '2024-03-31' - INTERVAL '1' MONTH": "DATE '2024-02-29'",
        "DATE '2024-03-01' - DATE '2024-02-28'": "2",
        "TIMESTAMP '2024-03-02 12:00:00' - TIMESTAMP '2024-03-01 00:00:00'": (
            "INTERVAL '1 day 12:00:00'"
        ),
    },
    errors=("22008",),
    result=lambda types, values: _sum_type(types, values, "-"),
)
def earlier(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar, to: Type) -> Any:
    if to == INTEGER:
        x, y = arithmetic.arrays(x, y)
        days = [
            arithmetic.numpy_values(pc.cast(item, pa.int32())).astype(np.int64) for item in (x, y)
        ]
        return to_arrow(days[0] - days[1], mask=~arithmetic.known(x, y))
    if to == INTERVAL and not pa.types.is_interval(x.type):
        x, y = (pc.cast(naive(item), pa.timestamp("us")) for item in arithmetic.arrays(x, y))
        apart = np.subtract(
            *(arithmetic.numpy_values(pc.cast(item, pa.int64())) for item in (x, y))
        )
        days = np.trunc(apart / DAY).astype(np.int64)
        return intervals(np.zeros_like(apart), days, apart - days * DAY, arithmetic.known(x, y))
    return _shifted(x, y, to, -1)


def _months_between(start: pa.Array, end: pa.Scalar) -> tuple[np.ndarray, np.ndarray]:
    """Whole months from start to end (the greatest n with start + n months <= end), and where both
    are known."""
    start, end = arithmetic.arrays(start, end)
    good = arithmetic.known(start, end)
    (a, a_clock), (b, b_clock) = _split(naive(start)), _split(naive(end))
    months = (b.astype("M8[D]").astype("M8[M]") - a.astype("M8[D]").astype("M8[M]")).astype(
        np.int64
    )
    reached = add_months(a, months)
    return months - ((reached > b) | ((reached == b) & (a_clock > b_clock))), good


_MOMENTS = {"DATE", "TIMESTAMP", "TIMESTAMP WITH TIME ZONE"}


def _whole_type(types: list[Type], values: list[Any]) -> Type:
    for kind in types:
        if kind.kind.value not in _MOMENTS:
            raise ValueError(f"a date or timestamp is needed, this is {kind}: CAST(… AS DATE)")
    return INTEGER


@function(
    "FULL_YEARS(start ANY, end ANY) INTEGER",
    meaning=(
        "whole years that have passed from start to end; negative where the end is before the start"
    ),
    examples={
        "FULL_YEARS(DATE '1990-06-01', DATE '2024-05-31')": "33",
        "FULL_YEARS(DATE '2024-02-29', DATE '2025-02-28')": "1",
    },
    result=_whole_type,
)
def full_years(start: pa.Array, end: pa.Scalar, to: Type) -> pa.Array:
    months, good = _months_between(start, end)
    return to_arrow(months // 12, mask=~good)


@function(
    "FULL_MONTHS(start ANY, end ANY) INTEGER",
    meaning=(
        "whole months that have passed from start to end; negative where the end is before the"
        " start"
    ),
    examples={
        "FULL_MONTHS(DATE '2024-01-31', DATE '2024-02-29')": "1",
        "FULL_MONTHS(DATE '2024-02-01', DATE '2024-01-31')": "-1",
    },
    result=_whole_type,
)
def full_months(start: pa.Array, end: pa.Scalar, to: Type) -> pa.Array:
    months, good = _months_between(start, end)
    return to_arrow(months, mask=~good)


@function(
    "FULL_DAYS(start ANY, end ANY) INTEGER",
    meaning=(
        "whole days that have passed from start to end; negative where the end is before the start"
    ),
    examples={"FULL_DAYS(TIMESTAMP '2024-03-01 12:00:00', TIMESTAMP '2024-03-03 11:00:00')": "1"},
    result=_whole_type,
)
def full_days(start: pa.Array, end: pa.Scalar, to: Type) -> pa.Array:
    start, end = arithmetic.arrays(start, end)
    (a, a_clock), (b, b_clock) = _split(naive(start)), _split(naive(end))
    return to_arrow(b - a - (a_clock > b_clock), mask=~arithmetic.known(start, end))


describe(
    "CURRENT_DATE() DATE",
    family="dates",
    meaning="CURRENT_DATE: the day of the run, fixed from its start; --today sets it",
    examples={"CURRENT_DATE - CURRENT_DATE": "0"},
)
describe(
    "CURRENT_TIMESTAMP() TIMESTAMP WITH TIME ZONE",
    family="dates",
    meaning="CURRENT_TIMESTAMP: the moment at which the run began, on the day that CURRENT_DATE is",
    examples={"CAST(CURRENT_TIMESTAMP AS DATE) = CURRENT_DATE": "TRUE"},
)
describe(
    "LOCALTIMESTAMP() TIMESTAMP",
    family="dates",
    meaning="LOCALTIMESTAMP: CURRENT_TIMESTAMP as a TIMESTAMP, in UTC",
    examples={"LOCALTIMESTAMP = CURRENT_TIMESTAMP AT TIME ZONE 'UTC'": "TRUE"},
)


def _zone_type(types: list[Type], values: list[Any]) -> Type:
    if types[0].kind not in (Kind.TIMESTAMP, Kind.ZONED, Kind.DATE, Kind.NULL):
        raise ValueError(f"AT TIME ZONE takes a timestamp, this is {types[0]}")
    return TIMESTAMP if types[0].kind is Kind.ZONED else ZONED


def _wrong_zone(values: list[Any]) -> str | None:
    return (
        f"there is no time zone {values[1]!r}"
        if isinstance(values[1], str) and _zone(values[1]) is None
        else None
    )


@lru_cache(maxsize=64)
def _zone(name: str) -> datetime.tzinfo | None:
    import zoneinfo

    try:
        return zoneinfo.ZoneInfo(name)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        return datetime.UTC if name.upper() == "UTC" else None


@function(
    "x ANY AT TIME ZONE zone TEXT : MOMENT",
    meaning=(
        "a TIMESTAMP as the moment it was in that zone; a TIMESTAMP WITH TIME ZONE as the clock"
        " there showed it. An hour that a change of the clock repeats is the later one, one that it"
        " leaves out is moved on"
    ),
    examples={
        "TIMESTAMP '2024-07-01 12:00:00' AT TIME ZONE 'UTC'": (
            "TIMESTAMP WITH TIME ZONE '2024-07-01 12:00:00+00'"
        ),
        "TIMESTAMP '2024-07-01 12:00:00' AT TIME ZONE 'UTC' AT TIME ZONE 'UTC'": (
            "TIMESTAMP '2024-07-01 12:00:00'"
        ),
    },
    errors=("22008", "22023"),
    result=_zone_type,
    check=_wrong_zone,
)
def at_time_zone(x: pa.Array, zone: pa.Scalar, to: Type) -> pa.Array:
    def moved(moment: datetime.datetime, name: str) -> datetime.datetime:
        there = _zone(name)
        if there is None:
            raise RowFailure("22023")
        try:
            if to == TIMESTAMP:
                return moment.astimezone(there).replace(tzinfo=None)
            early, late = (
                moment.replace(tzinfo=there, fold=fold).utcoffset() or datetime.timedelta()
                for fold in (0, 1)
            )
            # Repeated where the offset falls: the later one; left out where it rises: as if the
            # clock had not been changed.
            return moment.replace(tzinfo=there, fold=int(early > late)).astimezone(datetime.UTC)
        except (OverflowError, ValueError):
            raise RowFailure("22008") from None

    if isinstance(x, pa.Array) and not pa.types.is_timestamp(x.type):
        x = pc.cast(x, pa.timestamp("us"))
    return by_row(moved, x, zone, to=to.arrow)


def _wrong_template(values: list[Any]) -> str | None:
    for text in values[1:]:
        if isinstance(text, str):
            try:
                formats.template(text, Kind.DATE)
            except ValueError as error:
                return str(error)
    return None


@function(
    "DATE_OF(x TEXT, template TEXT [, template TEXT]...) DATE",
    meaning=(
        "the day that x is by the first of the templates that it fits (as CAST … FORMAT reads"
        " them); of none it is an error"
    ),
    examples={
        "DATE_OF('3.5.2024', 'YYYY-MM-DD', 'FMDD.FMMM.YYYY')": "DATE '2024-05-03'",
        "DATE_OF('2024-05-03', 'YYYY-MM-DD', 'FMDD.FMMM.YYYY')": "DATE '2024-05-03'",
        "DATE_OF('May 2024', 'YYYY-MM-DD')": "error 22007",
    },
    errors=("22007", "22008"),
    check=_wrong_template,
)
def date_of(x: pa.Array, *templates: Any) -> Any:
    def first_fit(text: str, *forms: str) -> datetime.date:
        result = _dates_of(pa.array([text], pa.string()), forms)
        if result.errors[0]:
            raise RowFailure("22007" if result.errors[0] == CODES["22007"] else "22008")
        day: datetime.date = result.values[0].as_py()
        return day

    if isinstance(x, pa.Array) and constant(*templates):
        return _dates_of(x, tuple(template.as_py() for template in templates))
    return by_row(first_fit, x, *templates, to=pa.date32())


def _dates_of(texts: pa.Array, templates: tuple[str, ...]) -> KernelResult:
    values, errors = (
        pa.nulls(len(texts), pa.date32()),
        np.full(len(texts), CODES["22007"], np.uint8),
    )
    errors[~valid(texts)] = 0
    for form in templates:
        result = casts.cast(texts, TEXT, Target(DATE, format=form))
        fit = np.zeros(len(texts), np.uint8) if result.errors is None else np.asarray(result.errors)
        # A day that does not exist is told as such, unless another template reads it.
        errors = np.where(
            errors == 0, errors, np.where((fit == CODES["22007"]) & (errors != 0), errors, fit)
        ).astype(np.uint8)
        values = pc.coalesce(values, result.values)
    return KernelResult(values, errors)

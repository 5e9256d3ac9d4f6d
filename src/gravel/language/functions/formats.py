"""Datetime templates of CAST … FORMAT, as ISO/IEC 9075-2 has them: YYYY, YY, MM, DD, HH24, HH12,
MI, SS, FF1 to FF6, AM or PM (A.M. or P.M.), DDD for the day of the year, FM before a part that may
have fewer digits, and the delimiters - . / , ' ; : and the space. What the standard lacks are text
in double quotes, which stands for itself ("T"), and the English names of months, MON (three
letters) and MONTH: read in any case, written in the template's (MON JAN, Mon Jan, mon jan).
"""

from __future__ import annotations

import re
from functools import lru_cache

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.kernels.arrays import to_arrow
from gravel.language.errors import CODES
from gravel.language.functions import arithmetic
from gravel.language.functions.buffers import valid
from gravel.language.functions.catalogue import KernelResult
from gravel.language.types import Kind, Type

_PARTS = {"YYYY": ("year", 4), "YY": ("year2", 2), "MM": ("month", 2), "DD": ("day", 2),
          "MON": ("month_name", 3), "MONTH": ("month_name", 9),
    "HH24": ("hour", 2), "HH12": ("hour12", 2),
          "HH": ("hour12", 2), "MI": ("minute", 2), "SS": ("second", 2), "AM": ("half", 2),
          "PM": ("half", 2),
          "A.M.": ("half", 4), "P.M.": ("half", 4), "DDD": ("doy", 3),
          **{f"FF{n}": ("fraction", n) for n in range(1, 7)}}  # fmt: skip
_TOKEN = re.compile(
    r"(FM)?(YYYY|YY|MONTH|MON|MM|DDD|DD|HH24|HH12|HH|MI|SS|FF[1-6]|AM|PM|A\.M\.|P\.M\.)"
    r'|([-./,\';: ])|"([^"]+)"',
    re.IGNORECASE,
)
_MONTHS = (
    "january", "february", "march", "april", "may", "june", "july", "august", "september",
    "october", "november", "december",
)  # fmt: skip
_SAME = {"year2": "year", "month_name": "month"}
_TIME_PARTS = {"hour", "hour12", "half", "minute", "second", "fraction"}


class TemplatePart(Struct, frozen=True):
    """A part of a template: a field and its digits, or a delimiter (field ''); `fill` is False
    after FM."""

    field: str
    size: int
    text: str
    fill: bool = True


@lru_cache(maxsize=256)
def template(text: str, kind: Kind) -> tuple[TemplatePart, ...]:
    """The parts of a template for a DATE, TIME or TIMESTAMP. Raises ValueError with what is
    wrong."""
    parts, index = [], 0
    while index < len(text):
        result = _TOKEN.match(text, index)
        if not result:
            raise ValueError(
                f"{text[index : index + 8]!r} is not a part of a template: YYYY YY MM MON MONTH DD"
                ' DDD HH24 HH12 MI SS FF1-FF6 AM P.M., FM before one, - . / , \' ; :, or "text"'
            )
        if literal := result[3] or result[4]:
            parts.append(TemplatePart("", len(literal), literal))
        else:
            field, size = _PARTS[result[2].upper()]
            parts.append(TemplatePart(field, size, result[2], not result[1]))
        index = result.end()
    fields = [_SAME.get(part.field, part.field) for part in parts if part.field]
    for field in fields:
        if fields.count(field) > 1:
            raise ValueError(f"the template names the {field} twice")
    if kind is Kind.DATE and _TIME_PARTS & set(fields):
        raise ValueError("the template of a DATE has no parts of a time")
    if "doy" in fields and {"month", "day"} & set(fields):
        raise ValueError("DDD is the day of the year: it stands for MM and DD")
    if kind is Kind.TIME and {"year", "month", "day", "doy"} & set(fields):
        raise ValueError("the template of a TIME has no parts of a date")
    if ("hour12" in fields) != ("half" in fields):
        raise ValueError("HH12 goes with AM or PM")
    return tuple(parts)


def complete(parts: tuple[TemplatePart, ...], kind: Kind) -> str:
    """What a template that reads a value lacks, or ''."""
    fields = {part.field for part in parts}
    needed = (
        []
        if kind is Kind.TIME
        else [
            ("year", "YYYY or YY", {"year", "year2"}),
            ("month", "MM or MON", {"month", "month_name"}),
            ("day", "DD", {"day"}),
        ]
    )
    if "doy" in fields:
        needed = needed[:1]
    missing = next((name for _, name, subset in needed if not subset & fields), "")
    return f"the template lacks {missing}" if missing else ""


def read(array: pa.Array, parts: tuple[TemplatePart, ...], to: Type) -> KernelResult:
    """Texts of that form as dates or times: 22007 where the form is another, 22008 where there is
    no such day or time."""
    pattern = "".join(_pattern(part) for part in parts)
    known = valid(array)
    result = pc.extract_regex(array, f"^{pattern}$")
    shaped = valid(result) & known
    errors = ((known & ~shaped) * CODES["22007"]).astype(np.uint8)
    values = {part.field: pc.struct_field(result, part.field) for part in parts if part.field}
    count = len(array)

    def number(field: str, default: int) -> np.ndarray:
        if field not in values:
            return np.full(count, default)
        return arithmetic.numpy_values(pc.cast(values[field], pa.int64()), default)

    year = number("year", 1970)
    if "year2" in values:
        short = number("year2", 70)
        year = short + np.where(short < 70, 2000, 1900)
    month, day = number("month", 1), number("day", 1)
    if "month_name" in values:
        size = next(part.size for part in parts if part.field == "month_name")
        names = pa.array([name[:size] for name in _MONTHS])
        place = pc.index_in(pc.ascii_lower(values["month_name"]), value_set=names)
        month = arithmetic.numpy_values(place.cast(pa.int64()), 0) + 1
    hour, minute, second = number("hour", 0), number("minute", 0), number("second", 0)
    bad = (minute > 59) | (second > 59) | (hour > 23) | (year < 1)
    if "half" in values:
        half = number("hour12", 12)
        bad |= (half < 1) | (half > 12)
        after_noon = pc.fill_null(
            pc.starts_with(pc.ascii_upper(values["half"]), "P"), False
        ).to_numpy(zero_copy_only=False)
        hour = half % 12 + np.where(after_noon, 12, 0)
    size = next((part.size for part in parts if part.field == "fraction"), 6)
    micros = number("fraction", 0) * 10 ** (6 - size)
    bad |= (month < 1) | (month > 12) | (day < 1)
    months = ((year - 1970) * 12 + np.clip(month, 1, 12) - 1).astype("M8[M]")
    first = months.astype("M8[D]").astype(np.int64)
    bad |= day > (months + 1).astype("M8[D]").astype(np.int64) - first
    if "doy" in values:
        day = number("doy", 1)
        years = (np.clip(year, 1, 9999) - 1970).astype("M8[Y]")
        first = years.astype("M8[D]").astype(np.int64)
        bad |= (day < 1) | (first + day > (years + 1).astype("M8[D]").astype(np.int64))
    errors[shaped & bad] = CODES["22008"]
    clock = ((hour * 60 + minute) * 60 + second) * 1_000_000 + micros
    days = first + day - 1
    output = (
        days
        if to.kind is Kind.DATE
        else clock
        if to.kind is Kind.TIME
        else days * 86_400_000_000 + clock
    )
    whole = to_arrow(
        output.astype(np.int32) if to.kind is Kind.DATE else output, mask=~(shaped & ~bad)
    )
    return KernelResult(pc.cast(whole, to.arrow), errors)


def _pattern(part: TemplatePart) -> str:
    if not part.field:
        return re.escape(part.text)
    if part.field == "half":
        return "(?P<half>[AaPp][Mm])" if part.size == 2 else r"(?P<half>[AaPp]\.[Mm]\.)"
    if part.field == "month_name":
        return f"(?P<month_name>(?i:{'|'.join(name[: part.size] for name in _MONTHS)}))"
    digits = f"{{{part.size}}}" if part.fill else f"{{1,{part.size}}}"
    return f"(?P<{part.field}>[0-9]{digits})"


def write(array: pa.Array, parts: tuple[TemplatePart, ...], source: Type) -> pa.Array:
    """Dates or times as texts of that form."""
    moment = pc.cast(array, pa.timestamp("us")) if source.kind in (Kind.DATE, Kind.ZONED) else array
    pieces = [pa.scalar(part.text) if not part.field else _written(moment, part) for part in parts]
    return pc.binary_join_element_wise(*pieces, "")


def _written(moment: pa.Array, part: TemplatePart) -> pa.Array:
    if part.field == "half":
        words = ("PM", "AM") if part.size == 2 else ("P.M.", "A.M.")
        return pc.if_else(pc.greater_equal(pc.hour(moment), 12), *words)
    if part.field == "fraction":
        micros = pc.add(pc.multiply(pc.millisecond(moment), 1000), pc.microsecond(moment))
        return pc.utf8_slice_codeunits(
            pc.utf8_lpad(pc.cast(micros, pa.string()), 6, "0"), 0, part.size
        )
    if part.field == "month_name":
        style = (
            str.upper if part.text.isupper() else str.lower if part.text.islower() else str.title
        )
        names = pa.array([style(name[: part.size]) for name in _MONTHS])
        return names.take(pc.subtract(pc.month(moment), 1))
    if part.field == "year2":
        values = pc.subtract(pc.year(moment), pc.multiply(pc.divide(pc.year(moment), 100), 100))
    elif part.field == "hour12":
        hour = pc.hour(moment)
        late = pc.if_else(pc.greater_equal(hour, 12), pc.subtract(hour, 12), hour)
        values = pc.if_else(pc.equal(late, 0), 12, late)
    elif part.field == "doy":
        values = pc.day_of_year(moment)
    else:
        values = getattr(pc, part.field)(moment)
    texts = pc.cast(values, pa.string())
    return pc.utf8_lpad(texts, part.size, "0") if part.fill else texts

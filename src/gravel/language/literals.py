"""Literals: their types and values."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any

import pyarrow as pa

from gravel.language.functions.casts import cast
from gravel.language.types import (
    BINARY,
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    INTERVAL,
    NULL,
    TEXT,
    TIME,
    TIMESTAMP,
    Target,
    Type,
    decimal,
)
from gravel.problems import nearest


def literal(kind: str, text: str, unit: str = "") -> tuple[Type, Any]:
    """A literal's type and Python value. Raises ValueError with what is wrong with it."""
    if kind == "integer":
        number = int(text)
        if -(2**63) <= number < 2**63:
            return INTEGER, number
        return literal("decimal", text)
    if kind == "decimal":
        exact = Decimal(text)
        digits, scale = len(exact.as_tuple().digits), max(0, -int(exact.as_tuple().exponent))
        if max(digits, scale) > 38:
            raise ValueError(f"{text[:50]} has more than 38 digits")
        return decimal(max(digits, scale), scale), exact
    if kind == "double":
        value = float(text)
        if value in (float("inf"), float("-inf")):
            raise ValueError(f"{text} is out of range")
        return DOUBLE, value
    if kind in ("date", "timestamp", "time"):
        return _moment(kind, text)
    if kind == "interval":
        return INTERVAL, _interval(text, unit)
    if kind == "binary":
        return BINARY, bytes.fromhex(text)
    return {
        "text": (TEXT, text),
        "boolean": (BOOLEAN, text.upper() == "TRUE"),
        "null": (NULL, None),
    }[kind]


# Months, days and seconds of a unit.
_UNITS = {
    "YEAR": (12, 0, 0),
    "MONTH": (1, 0, 0),
    "WEEK": (0, 7, 0),
    "DAY": (0, 1, 0),
    "HOUR": (0, 0, 3600),
    "MINUTE": (0, 0, 60),
    "SECOND": (0, 0, 1),
}
_FIELDS = ("YEAR", "MONTH", "DAY", "HOUR", "MINUTE", "SECOND")


def _interval(text: str, unit: str) -> Any:
    """The value of INTERVAL '1' DAY, INTERVAL '1-2' YEAR TO MONTH, INTERVAL '1 02:03' DAY TO MINUTE
    or INTERVAL '2 years 1 day'."""
    negative = text.strip().startswith("--") or (text.strip().startswith("-") and " TO " in unit)
    plain = text.strip().removeprefix("--").removeprefix("-" if " TO " in unit else "").strip()
    amounts: list[tuple[Decimal, str]] = []
    if " TO " in unit:
        amounts = _fields(plain, unit)
    elif unit:
        if not re.fullmatch(r"[+-]?\s*[0-9]{1,9}", plain) and not (
            unit == "SECOND" and re.fullmatch(r"[+-]?\s*[0-9]{1,9}\.[0-9]{1,6}", plain)
        ):
            raise ValueError(f"'{text}' is not a number of {unit}S")
        amounts = [(Decimal(plain.replace(" ", "")), unit)]
    else:
        parts = re.findall(r"([+-]?[0-9]{1,9}(?:\.[0-9]{1,6})?)\s+([A-Za-z]+)", plain)
        if not parts or re.sub(r"[+-]?[0-9]{1,9}(?:\.[0-9]{1,6})?\s+[A-Za-z]+", "", plain).strip():
            raise ValueError(f"'{text}' names no unit: INTERVAL '1' DAY, or INTERVAL '1 day'")
        for number, word in parts:
            name = word.upper().removesuffix("S")
            if name not in _UNITS:
                near = nearest(name, list(_UNITS))
                raise ValueError(
                    f"{word} is not a unit of an interval: "
                    + (f"did you mean {near}?" if near else ", ".join(_UNITS))
                )
            if "." in number and name != "SECOND":
                raise ValueError(f"'{text}' is not a number of {name}S")
            amounts.append((Decimal(number), name))
    months, days, seconds = (
        sum((size * _UNITS[name][index] for size, name in amounts), Decimal(0))
        for index in range(3)
    )
    sign = -1 if negative else 1
    if abs(months) >= 2**31 or abs(days) >= 2**31 or abs(seconds) >= 2**33:
        raise ValueError(f"'{text}' is out of range")
    return pa.MonthDayNano(
        [sign * int(months), sign * int(days), sign * int(seconds * 1_000_000_000)]
    )


def _fields(text: str, unit: str) -> list[tuple[Decimal, str]]:
    """The numbers of several fields, from the first to the last that are named."""
    first, last = unit.split(" TO ")
    if (
        first not in _FIELDS
        or last not in _FIELDS
        or _FIELDS.index(first) >= _FIELDS.index(last)
        or (first in _FIELDS[:2]) != (last in _FIELDS[:2])
    ):
        raise ValueError(
            f"{unit} is not a unit of an interval: YEAR TO MONTH, or from DAY to SECOND"
        )
    names = _FIELDS[_FIELDS.index(first) : _FIELDS.index(last) + 1]
    marks = {"MONTH": "-", "HOUR": " ", "MINUTE": ":", "SECOND": ":"}
    pattern = "".join(
        (marks[name] if position else "")
        + r"([0-9]{1,9}"
        + (r"(?:\.[0-9]{1,6})?" if name == "SECOND" else "")
        + ")"
        for position, name in enumerate(names)
    )
    match = re.fullmatch(pattern, text)
    if not match:
        shown = "".join(
            (marks[name] if position else "") + "9" for position, name in enumerate(names)
        )
        raise ValueError(f"'{text}' has not the form '{shown}' of {unit}")
    return [(Decimal(number), name) for number, name in zip(match.groups(), names, strict=True)]


def _moment(kind: str, text: str) -> tuple[Type, Any]:
    to = {"date": DATE, "timestamp": TIMESTAMP, "time": TIME}[kind]
    result = cast(pa.array([text], pa.string()), TEXT, Target(to))
    value = result.values[0].as_py()
    if value is None:
        raise ValueError(f"'{text}' is not a {kind}")
    return to, value

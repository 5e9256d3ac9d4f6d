"""Row errors: the SQLSTATEs an expression can give for one row, as small codes that fit a byte
mask.

Source of the codes and their names: ISO/IEC 9075-2, subclause "SQLSTATE".
"""

from __future__ import annotations

from enum import StrEnum


class ErrorPolicy(StrEnum):
    """What is done with rows in which an expression fails."""

    STOP = "stop"
    NULL = "null"  # the value becomes NULL
    SET_ASIDE = "set aside"  # the row is left out, and told


SQLSTATES: dict[str, str] = {
    "22012": "division by zero",
    "22018": "the text does not fit the type of the cast",
    "22007": "not a date or time of that form",
    "22008": "date or time out of range",
    "22003": "number out of range",
    "22001": "text too long",
    "22011": "bad length or position",
    "2201E": "logarithm out of its domain",
    "2201F": "power out of its domain",
    "2201G": "bad bucket of WIDTH_BUCKET",
    "2201B": "bad regular expression",
    "22019": "bad escape character",
    "22025": "bad escape sequence",
    "22023": "bad argument",
    "2202E": "fewer pieces than columns",
    "2202F": "more pieces than columns",
    "22032": "not JSON text",
    "22034": "more than one value at the path",
    "2203F": "an object or an array at the path",
    "21000": "more than one row from a scalar subquery",
}

_ORDER = ["", *SQLSTATES]
CODES: dict[str, int] = {state: code for code, state in enumerate(_ORDER)}


def sqlstate(code: int) -> str:
    """The SQLSTATE of a mask's code (1 and up)."""
    return _ORDER[code]


def meaning(state: str) -> str:
    """The SQLSTATE's meaning in a few words."""
    return SQLSTATES.get(state, "error")

"""What a column is, by its name and its values: an identifier, a code, a year, a coordinate. It
decides what a finding is worth."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from gravel.language.types import TEXT, Kind
from gravel.words import words

if TYPE_CHECKING:
    from gravel.profiling.result import ColumnProfile

_IDENTIFIERS = words(
    "id ids no nr num number code key uuid guid ref iso iso2 iso3 iso2c iso3c isbn ean sku license"
    " licence"
)
_CODES = _IDENTIFIERS | words("zip zipcode postcode postal plz fips phone tel telephone fax area")
_LOSE_ZEROS = words("zip zipcode postcode postal plz fips code ean isbn")
_COORDINATES = words("lat latitude lon lng long longitude")
_HEIGHTS = words("alt altitude elev elevation height depth")
_DIFFERENCES = words(
    "diff difference delta change chg growth margin balance residual anomaly deviation offset error"
    " log ln temp temperature"
)
_YEARS = words("year yr years jahr")
_YEAR_RANGE = (1500, 2100)
_CODE_SHAPE = re.compile(r"[Aa]{1,3}")
_PART = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+[0-9]*[a-z]?|[0-9]+")


def name_parts(name: str) -> set[str]:
    """The words of a name, in small letters: of `berthId`, `berth_id` and `Berth ID` berth and
    id."""
    return {part.lower() for part in _PART.findall(name)} | {name.lower()}


def is_identifier(name: str) -> bool:
    """Whether a column's name says that it tells rows apart."""
    return bool(name_parts(name) & _IDENTIFIERS)


_NAMES = words("name names title label")


def identifies(identifier: str, name: str, first: bool) -> bool:
    """Whether a column's name says that it identifies what another column names: owner_id what
    owner or owner_name does; a plain `name` is what the `first` column of its table identifies."""
    parts, named = (
        name_parts(identifier) - {identifier.lower()},
        name_parts(name) - {name.lower()} - _NAMES,
    )
    if not is_identifier(identifier) or identifier.casefold() == name.casefold():
        return False
    about = parts - _IDENTIFIERS
    return about == named if named else first and name.lower() in _NAMES


def is_code(column: ColumnProfile, rows: int) -> bool:
    """Whether its numbers are names, of which none is greater than another: keys, codes, years."""
    parts = name_parts(column.name)
    if parts & (_CODES | _YEARS):
        return True
    if column.loses_in_cast:
        return True
    numbers = column.numbers
    whole = column.type.kind is Kind.INTEGER
    if (
        numbers is not None
        and whole
        and column.distinct + column.nulls == rows
        and column.nulls * 2 < rows
    ):
        return True
    return (
        numbers is not None
        and whole
        and _YEAR_RANGE[0] <= numbers.q1 <= numbers.q3 <= _YEAR_RANGE[1]
    )


def may_lose_zeros(column: ColumnProfile) -> bool:
    """Whether its name says that it has codes that begin with a zero."""
    return bool(name_parts(column.name) & _LOSE_ZEROS)


def is_coordinate(column: ColumnProfile) -> bool:
    """Whether its name says that it is a degree of latitude or longitude."""
    return bool(name_parts(column.name) & _COORDINATES)


def may_be_negative(column: ColumnProfile) -> bool:
    """Whether its name says that it is measured from a level, or a difference."""
    return bool(name_parts(column.name) & (_HEIGHTS | _DIFFERENCES))


def is_code_list(column: ColumnProfile, known: int) -> bool:
    """Whether nearly all values are codes of up to three letters."""
    subset = sum(shape.rows for shape in column.shapes if _CODE_SHAPE.fullmatch(shape.shape))
    return column.type == TEXT and subset >= 0.8 * known > 0


def has_one_shape(column: ColumnProfile, known: int) -> bool:
    """Whether the values are codes of one shape: as long as each other, without a blank, at least
    three characters."""
    usual = column.shapes[0] if column.shapes else None
    return (
        usual is not None
        and usual.rows >= 0.99 * known
        and " " not in usual.shape
        and len(usual.shape) >= 3
        and "9999-99" not in usual.shape
    )


_FREE_TEXT = 40


def is_free_text(column: ColumnProfile) -> bool:
    """Whether the values are sentences: remarks, descriptions."""
    return column.type == TEXT and (column.length.mean or 0) >= _FREE_TEXT

"""Numbers."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.language.functions import arithmetic, casts
from gravel.language.functions.catalogue import Result, function
from gravel.language.types import DOUBLE, INTEGER, MAX_DIGITS, Kind, Target, Type, room


def _round_type(types: list[Type], values: list[Any]) -> Type:
    kind = types[0]
    if kind.kind is not Kind.DECIMAL:
        return kind
    places = values[1] if len(values) > 1 else 0
    if not isinstance(places, int):
        return room(kind.whole + 1, kind.scale)  # n differs from row to row: the scale stays, the digits are zeros
    return room(kind.whole + 1, min(max(places, 0), MAX_DIGITS))


@function(
    "ROUND(x NUMBER [, n INTEGER]) NUMBER",
    meaning="x rounded to n decimals (0 if not given; below 0 to tens, hundreds …), a half away from zero",
    examples={"ROUND(2.5)": "3", "ROUND(-2.5)": "-3", "ROUND(9.257, 2)": "9.26", "ROUND(1250, -2)": "1300"},
    errors=("22003",),
    result=_round_type,
)
def round_(x: Any, n: Any = None, to: Type = INTEGER) -> Any:
    places = n if n is not None else pa.scalar(0, pa.int64())
    if not isinstance(places, pa.Scalar):
        return _round_by_rows(x, places, to)
    if not places.is_valid:
        return pa.nulls(len(arithmetic.arrays(x)[0]), to.arrow)
    return _rounded(arithmetic.arrays(x)[0], places.as_py(), to)


def _round_by_rows(x: Any, places: Any, to: Type) -> Result:
    """n from a column: one pass for each of its few values."""
    x, places = arithmetic.arrays(x, places)
    values: Any = pa.nulls(len(x), to.arrow)
    errors = np.zeros(len(x), np.uint8)
    for count in pc.unique(places).drop_null().to_pylist():
        mask = pc.fill_null(pc.equal(places, count), False)
        made = _rounded(x.filter(mask), count, to)
        part, codes = made if isinstance(made, Result) else (made, None)
        values = pc.replace_with_mask(values, mask, part)
        if codes is not None:
            errors[mask.to_numpy(zero_copy_only=False)] = codes
    return Result(values, errors)


def _rounded(x: Any, places: int, to: Type) -> Any:
    if to == DOUBLE:
        return _round_double(x, places)
    if to == INTEGER:
        if places >= 0:
            return x
        if places < -19:
            return pc.multiply(x, 0)
        rounded = pc.round(pc.cast(x, pa.decimal256(40, 0)), places, "half_towards_infinity")
        return casts.cast(rounded, Type(Kind.DECIMAL, 40, 0), Target(INTEGER))
    if places >= x.type.scale:
        return arithmetic.fit_decimal(x, to)
    if places < -(x.type.precision - x.type.scale):
        return _zeros(x, to)
    return arithmetic.fit_decimal(arithmetic.rounded(x, places), to)


def _zeros(x: Any, to: Type) -> Any:
    zero = arithmetic.zero_of(to.arrow)
    return pc.if_else(pc.is_valid(x), zero, pa.scalar(None, to.arrow))


def _round_double(x: Any, places: int) -> Any:
    return pc.round(x, places, "half_towards_infinity")

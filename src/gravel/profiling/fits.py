"""Which types the values of a text column fit, as FITS would say: a value's shape names the
candidates, the cast decides."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.kernels.arrays import to_arrow
from gravel.language.functions import casts
from gravel.language.functions.buffers import ByteSet, matches, rows_with
from gravel.language.types import (
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGER,
    TEXT,
    TIMESTAMP,
    ZONED,
    Kind,
    Target,
    decimal,
)
from gravel.profiling.day_forms import (
    DIGITS_ONLY,
    FORMS_OF,
    ISO,
    SECONDS,
    DayForm,
    shape_of,
    shapes_of,
)
from gravel.sources.type_inference import Fitting


class TypeCandidate(Struct, frozen=True):
    """A type that values may fit: its name among figures, the CAST's target, and the shapes (an RE2
    pattern) it can have."""

    name: str
    target: Target
    shapes: str

    @property
    def type(self) -> str:
        """The type as an expression writes it."""
        return "DECIMAL" if self.target.type.kind is Kind.DECIMAL else str(self.target)


TYPES = (
    TypeCandidate("INTEGER", Target(INTEGER), "^ *[+-]?9+ *$"),
    TypeCandidate("DECIMAL", Target(decimal(38, 10)), r"^ *[+-]?(9+\.?9*|\.9+) *$"),
    TypeCandidate(
        "DOUBLE PRECISION",
        Target(DOUBLE),
        r"^ *[+-]?((9+\.?9*|\.9+)([Aa][+-]?9+)?|[Aa]{3}|[Aa]{8}) *$",
    ),
    TypeCandidate("BOOLEAN", Target(BOOLEAN), "^ *[Aa]{4,5} *$"),
    TypeCandidate("DATE", Target(DATE), "^ *9999-99-99 *$"),
    TypeCandidate("TIMESTAMP", Target(TIMESTAMP), r"^ *9999-99-99[ Aa]99:99:99(\.9{1,6})? *$"),
    TypeCandidate(
        "TIMESTAMP WITH TIME ZONE",
        Target(ZONED),
        r"^ *9999-99-99[ Aa]99:99:99(\.9{1,6})?([Aa]|[+-]99(:?99)?) *$",
    ),
)

BY_NAME = {candidate.name: candidate for candidate in TYPES}
_MOMENTS = ("DATE", "TIMESTAMP", "TIMESTAMP WITH TIME ZONE")
_POSSIBLE = r"^ *[+-]?[.]?(9|[Aa]{3,8} *$)|^ *[Aa]{3,9} 9"

_FEW = 64
_POINT = ByteSet(b".")
_SURE_DIGITS = 18  # so many digits, and a sign, are an INTEGER
_LEADING_ZERO = r"^ *(?:\+|[+-]?0[0-9])"

Put = Callable[[str, np.ndarray], None]


def put_plain(array: pa.Array, fitting: Fitting, shapes: pa.Array, put: Put) -> np.ndarray:
    """The marks of an array of plain numbers or dates; their values as numbers, or days since
    1970-01-01."""
    everyone = np.ones(len(array), bool)
    if Kind.DATE in fitting.kinds:
        for name in ("DATE", "day", ISO):
            put(name, everyone)
        return pc.cast(pc.cast(array, pa.date32()), pa.int32()).to_numpy().astype(float)
    whole = everyone if Kind.INTEGER in fitting.kinds else ~rows_with(array, _POINT)
    if whole.any():
        short = fitting.whole <= _SURE_DIGITS
        put("INTEGER", whole if short else _among(whole, array, BY_NAME["INTEGER"].target))
        form = DayForm(DIGITS_ONLY)
        dated = _spread(whole, matches(shapes.filter(to_arrow(whole)), shapes_of(form.strict)))
        if dated.any():
            put(DIGITS_ONLY, _among(dated, array, form.target(form.strict)))
    short = fitting.whole <= 28
    put("DECIMAL", everyone if short else _fits(array, BY_NAME["DECIMAL"].target)[0])
    put("DOUBLE PRECISION", everyone)
    put("number", everyone)
    result: np.ndarray = pc.cast(array, pa.float64()).to_numpy()
    return result


def put_fits(array: pa.Array, shapes: pa.Array, shape_hash: np.ndarray, put: Put) -> np.ndarray:
    """The marks of what each value fits; numbers and days of those that fit a number or a date."""
    number = np.full(len(array), np.nan)
    # Each shape is looked at once, where there are few.
    _, first, inverse = np.unique(shape_hash, return_index=True, return_inverse=True)
    texts = shapes.take(to_arrow(first))
    test = _tester(texts)
    possible = test(_POSSIBLE)
    if not possible.any():
        return number
    days = _Days(number, put)
    results: dict[str, np.ndarray] = {}
    for item in TYPES:
        shaped = possible & test(item.shapes)
        if not shaped.any():
            continue
        rows = np.flatnonzero(shaped[inverse])
        fit, values = _fits(array.take(to_arrow(rows)), item.target)
        rows = rows[fit]
        results[item.name] = mask = _at(rows, len(array))
        put(item.name, mask)
        if item.name == "DOUBLE PRECISION":
            numbers = values.filter(to_arrow(fit)).to_numpy(zero_copy_only=False)
            finite = np.isfinite(numbers)
            number[rows[finite]] = numbers[finite]
            put("number", _at(rows[finite], len(array)))
            days.taken[rows] = True
        elif item.name in _MOMENTS:
            days.take(rows, values.filter(to_arrow(fit)))
    _put_days(array, possible, test, inverse, days)
    # What ISO 8601 has in full is written as a template with FM has it too.
    for name, form in (("DATE", DayForm(ISO)), ("TIMESTAMP", DayForm(ISO, SECONDS))):
        if name in results:
            whole = results[name] & test(shapes_of(form.strict))[inverse]
            for bit in (ISO, *form.clock.styles):
                put(bit, whole)
    if "DECIMAL" in results:
        whole = results["DECIMAL"]
        put("loses", _spread(whole, matches(array.filter(to_arrow(whole)), _LEADING_ZERO)))
    return number


class _Days:
    """The days of values, by the first form that each fits: their numbers, and the mark."""

    def __init__(self, number: np.ndarray, put: Put) -> None:
        self.number, self.put = number, put
        self.taken = np.zeros(len(number), bool)

    def take(self, rows: np.ndarray, values: pa.Array) -> None:
        """Rows and the dates or timestamps that they are."""
        fresh = ~self.taken[rows]
        days = pc.cast(pc.cast(values, pa.date32()), pa.int32()).to_numpy()
        self.number[rows[fresh]] = days[fresh]
        self.put("day", _at(rows[fresh], len(self.number)))
        self.taken[rows] = True


def _put_days(
    array: pa.Array,
    possible: np.ndarray,
    test: Callable[[str], np.ndarray],
    inverse: np.ndarray,
    days: _Days,
) -> None:
    """The marks of the forms that days are written in, and of their styles."""
    timed = bool(test("9:99").any())
    for day, forms in FORMS_OF.items():
        if not (possible & test(shape_of(forms[0].loose))).any():
            continue
        for form in forms:
            if form.clock.template and not timed:
                continue
            shaped, strict = (test(shapes_of(item)) for item in (form.loose, form.strict))
            shaped = possible & (shaped & ~strict if form.is_iso else shaped)
            if not shaped.any():
                continue
            rows = np.flatnonzero(shaped[inverse])
            fit, values = _fits(array.take(to_arrow(rows)), form.target(form.loose))
            rows = rows[fit]
            for name in (day, *form.clock.styles):
                days.put(name, _at(rows, len(array)))
            days.put("short", _at(rows[(shaped & ~strict)[inverse[rows]]], len(array)))
            if day != DIGITS_ONLY:
                days.take(rows, values.filter(to_arrow(fit)))


def _tester(texts: pa.Array) -> Callable[[str], np.ndarray]:
    """What tells which of some shapes match a pattern: compiling one for Arrow takes as long as a
    hundred matches."""
    if len(texts) > _FEW:
        return lambda pattern: matches(texts, pattern)
    values = texts.to_pylist()
    return lambda pattern: np.fromiter(
        (re.search(pattern, value) is not None for value in values), bool, len(values)
    )


def _at(rows: np.ndarray, count: int) -> np.ndarray:
    mask = np.zeros(count, bool)
    mask[rows] = True
    return mask


def _spread(mask: np.ndarray, result: np.ndarray) -> np.ndarray:
    return _at(np.flatnonzero(mask)[result], len(mask))


def _among(mask: np.ndarray, array: pa.Array, target: Target) -> np.ndarray:
    """Of some values those that fit."""
    return _spread(mask, _fits(array.filter(to_arrow(mask)), target)[0])


def _fits(array: pa.Array, target: Target) -> tuple[np.ndarray, Any]:
    """Which values fit, and the values."""
    result = casts.cast(array, TEXT, target)
    if result.errors is None:
        return np.ones(len(array), bool), result.values
    return np.asarray(result.errors) == 0, result.values

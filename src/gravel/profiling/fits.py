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
from gravel.language.functions.buffers import matches
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
from gravel.sources.type_inference import Fitting


class TypeCandidate(Struct, frozen=True):
    """A type that values may fit: its name in `marks`, the CAST's target, and the shapes (an RE2
    pattern) it can have."""

    name: str
    target: Target
    shapes: str

    @property
    def type(self) -> str:
        """The type as an expression writes it."""
        return "DECIMAL" if self.target.type.kind is Kind.DECIMAL else str(self.target)

    @property
    def template(self) -> bool:
        """Whether a FORMAT belongs to it."""
        return self.target.format is not None


_TEMPLATES = (
    "DD.MM.YYYY", "MM/DD/YYYY", "DD/MM/YYYY", "MM-DD-YYYY", "DD-MM-YYYY", "YYYY/MM/DD",
    "YYYY.MM.DD", "YYYYMMDD", "DD.MM.YY",
    "MM/DD/YY", "DD/MM/YY", "FMDD.FMMM.YYYY", "FMMM/FMDD/YYYY", "FMDD/FMMM/YYYY",
    "FMMM/FMDD/YY", "FMDD/FMMM/YY", "FMDD MON YYYY", "FMDD-MON-YYYY", "FMDD-MON-YY",
    "MON FMDD, YYYY", "FMDD MONTH YYYY", "MONTH FMDD, YYYY",
    "YYYY-MM-DD HH24:MI", "DD.MM.YYYY HH24:MI",
    "DD.MM.YYYY HH24:MI:SS",
)  # fmt: skip


def _template_shape(template: str) -> str:
    shape = template.replace(".", r"\.")
    for part, digits in (
        ("FMDD", "9{1,2}"),
        ("FMMM", "9{1,2}"),
        ("MONTH", "[Aa]{3,9}"),
        ("MON", "[Aa]{3}"),
        ("YYYY", "9999"),
        ("YY", "99"),
        ("MM", "99"),
        ("DD", "99"),
        ("HH24", "99"),
        ("MI", "99"),
        ("SS", "99"),
    ):
        shape = shape.replace(part, digits)
    return shape


def _candidate(template: str) -> TypeCandidate:
    kind = TIMESTAMP if "HH24" in template else DATE
    return TypeCandidate(
        f"form {template}", Target(kind, format=template), f"^ *{_template_shape(template)} *$"
    )


CANDIDATES = (
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
    *(_candidate(template) for template in _TEMPLATES),
)
NAMES = tuple(one.name for one in CANDIDATES)
BY_NAME = {one.name: one for one in CANDIDATES}
# A template with the day first and the same with the month first: a value may fit both.
RIVALS = (
    ("DD/MM/YYYY", "MM/DD/YYYY"),
    ("DD-MM-YYYY", "MM-DD-YYYY"),
    ("DD/MM/YY", "MM/DD/YY"),
    ("FMDD/FMMM/YYYY", "FMMM/FMDD/YYYY"),
    ("FMDD/FMMM/YY", "FMMM/FMDD/YY"),
)
# The templates with FM take in those without: they count only for what the others leave.
STRICTER = {
    "FMDD.FMMM.YYYY": "DD.MM.YYYY",
    "FMMM/FMDD/YYYY": "MM/DD/YYYY",
    "FMDD/FMMM/YYYY": "DD/MM/YYYY",
    "FMMM/FMDD/YY": "MM/DD/YY",
    "FMDD/FMMM/YY": "DD/MM/YY",
}
# Forms whose days are taken; where the month comes first it wins, until the whole column shows
# which one it is.
_DAYS = (
    "DATE", "TIMESTAMP", "TIMESTAMP WITH TIME ZONE", *(f"form {one}" for one in (
        "DD.MM.YYYY", "YYYY/MM/DD", "YYYY.MM.DD", "FMDD.FMMM.YYYY", "YYYY-MM-DD HH24:MI",
        "DD.MM.YYYY HH24:MI", "DD.MM.YYYY HH24:MI:SS",
        "MM/DD/YYYY", "DD/MM/YYYY", "MM-DD-YYYY", "DD-MM-YYYY", "MM/DD/YY", "DD/MM/YY",
        "FMMM/FMDD/YYYY", "FMDD/FMMM/YYYY", "FMMM/FMDD/YY", "FMDD/FMMM/YY", "DD.MM.YY",
        "FMDD MON YYYY", "FMDD-MON-YYYY", "FMDD-MON-YY", "MON FMDD, YYYY", "FMDD MONTH YYYY",
        "MONTH FMDD, YYYY",
    )),
)  # fmt: skip
_POSSIBLE = r"^ *[+-]?[.]?(9|[Aa]{3,8} *$)|^ *[Aa]{3,9} 9"

_FEW = 64
_LEADING_ZERO = r"^ *(?:\+|[+-]?0[0-9])"

Put = Callable[[str, np.ndarray], None]


def put_plain(array: pa.Array, fitting: Fitting, shapes: pa.Array, put: Put) -> np.ndarray:
    """The marks of an array of plain numbers or dates; their values as numbers, or days since
    1970-01-01."""
    everyone = np.ones(len(array), bool)
    if Kind.DATE in fitting.kinds:
        put("DATE", everyone)
        put("day", everyone)
        return pc.cast(pc.cast(array, pa.date32()), pa.int32()).to_numpy().astype(float)
    if Kind.INTEGER in fitting.kinds:
        put("INTEGER", everyone)
        dated = matches(shapes, BY_NAME["form YYYYMMDD"].shapes)
        if dated.any():
            put(
                "form YYYYMMDD",
                _spread(dated, _fits(array.filter(to_arrow(dated)), BY_NAME["form YYYYMMDD"])[0]),
            )
    put("DECIMAL", everyone if fitting.whole <= 28 else _fits(array, BY_NAME["DECIMAL"])[0])
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
    taken = np.zeros(len(array), bool)
    results: dict[str, np.ndarray] = {}
    for item in CANDIDATES:
        shaped = possible & test(item.shapes)
        if not shaped.any():
            continue
        rows = np.flatnonzero(shaped[inverse])
        fit, values = _fits(array.take(to_arrow(rows)), item)
        rows = rows[fit]
        mask = np.zeros(len(array), bool)
        mask[rows] = True
        results[item.name] = mask
        put(item.name, mask)
        if item.name == "DOUBLE PRECISION":
            numbers = values.filter(to_arrow(fit)).to_numpy(zero_copy_only=False)
            finite = np.isfinite(numbers)
            number[rows[finite]] = numbers[finite]
            put("number", _at(rows[finite], len(array)))
            taken[rows] = True
        elif item.name in _DAYS:
            fresh = ~taken[rows]
            days = pc.cast(
                pc.cast(values.filter(to_arrow(fit)), pa.date32()), pa.int32()
            ).to_numpy()
            number[rows[fresh]] = days[fresh]
            put("day", _at(rows[fresh], len(array)))
            taken[rows] = True
    whole = results.get("DECIMAL")
    if whole is not None:
        put("loses", _spread(whole, matches(array.filter(to_arrow(whole)), _LEADING_ZERO)))
    return number


def _tester(texts: pa.Array) -> Callable[[str], np.ndarray]:
    """What tells which of some shapes match a pattern: compiling one for Arrow takes as long as a
    hundred matches."""
    if len(texts) > _FEW:
        return lambda pattern: matches(texts, pattern)
    values = texts.to_pylist()
    return lambda pattern: np.fromiter(
        (re.match(pattern, value) is not None for value in values), bool, len(values)
    )


def _at(rows: np.ndarray, count: int) -> np.ndarray:
    mask = np.zeros(count, bool)
    mask[rows] = True
    return mask


def _spread(mask: np.ndarray, result: np.ndarray) -> np.ndarray:
    return _at(np.flatnonzero(mask)[result], len(mask))


def _fits(array: pa.Array, candidate: TypeCandidate) -> tuple[np.ndarray, Any]:
    """Which values fit, and the values."""
    result = casts.cast(array, TEXT, candidate.target)
    if result.errors is None:
        return np.ones(len(array), bool), result.values
    return np.asarray(result.errors) == 0, result.values

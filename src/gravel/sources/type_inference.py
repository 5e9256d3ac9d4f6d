"""Which type a text column's values are plain literals of: found from all of them, batch by batch.

A leading zero or plus, an exponent, a space or grouped digits make a column TEXT: such values are
codes, not numbers.
"""

from __future__ import annotations

import re

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field
from msgspec.structs import replace

from gravel.engine.arrow_values import is_finest, moments
from gravel.engine.sets import distinct_values
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.buffers import ByteSet, body, matches, valid
from gravel.language.types import (
    BOOLEAN,
    DATE,
    INTEGER,
    MAX_DIGITS,
    TEXT,
    TIMESTAMP,
    ZONED,
    Kind,
    Type,
    decimal,
)

PLAIN_INTEGER = r"^(?:0|-?[1-9][0-9]*)$"
PLAIN_DECIMAL = r"^(?:0|0?\.0+|-?(?:[1-9][0-9]*(?:\.[0-9]+)?|0?\.[0-9]*[1-9][0-9]*))$"
PLAIN_TIMESTAMP = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}:[0-9]{2}(?:\.[0-9]{1,6})?$"
_PLAIN = {
    Kind.INTEGER: PLAIN_INTEGER,
    Kind.DECIMAL: PLAIN_DECIMAL,
    Kind.BOOLEAN: r"^(?:true|false|TRUE|FALSE|True|False)$",  # as programs write them
    Kind.DATE: r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$",
    Kind.TIMESTAMP: PLAIN_TIMESTAMP,
}
_COMPILED = {kind: re.compile(pattern) for kind, pattern in _PLAIN.items()}
_DIGITS = ByteSet(b"0123456789-")
_ALL = frozenset({*_PLAIN, Kind.ZONED})  # no text shows the last one


class Fitting(Struct, frozen=True):
    """What is known of a column so far: the types that every value fits, and digits before and
    after the point.

    `merge` is associative, so batches may be looked at in any order and by several threads.
    `uniform` is False once one value may be written in two ways (12 beside 12.0), when equal texts
    and equal values are not the same.
    """

    kinds: frozenset[Kind] = _ALL
    whole: int = 0
    scale: int = 0
    scales: frozenset[int] = field(default_factory=frozenset)
    seen: bool = False

    def merge(self, other: Fitting) -> Fitting:
        """What is known of both parts."""
        return Fitting(
            self.kinds & other.kinds,
            max(self.whole, other.whole),
            max(self.scale, other.scale),
            self.scales | other.scales,
            self.seen or other.seen,
        )

    @property
    def type(self) -> Type:
        """The column's type; TEXT where nothing else fits, or nothing was seen."""
        if not self.seen:
            return TEXT
        for kind, result in (
            (Kind.INTEGER, INTEGER),
            (Kind.BOOLEAN, BOOLEAN),
            (Kind.DATE, DATE),
            (Kind.TIMESTAMP, TIMESTAMP),
            (Kind.ZONED, ZONED),
        ):
            if kind in self.kinds:
                return result
        if Kind.DECIMAL in self.kinds and self.whole + self.scale <= MAX_DIGITS:
            return decimal(max(self.whole + self.scale, 1), self.scale)
        return TEXT

    @property
    def uniform(self) -> bool:
        """Whether two texts of the column are equal just where their values are."""
        several = (Kind.DECIMAL, Kind.TIMESTAMP, Kind.BOOLEAN)
        return self.type.kind not in several or len(self.scales) <= 1


def fitting(array: pa.Array, candidates: frozenset[Kind] = _ALL) -> Fitting:
    """What the values of an array of texts fit, or of moments of nanoseconds, of these
    candidates."""
    if array.null_count == len(array):
        return Fitting(candidates)
    if is_finest(array.type):
        kind = Kind.TIMESTAMP if array.type.tz is None else Kind.ZONED
        return Fitting(candidates & {kind} if moments(array)[1] else frozenset(), seen=True)
    kinds = _first_look(array, candidates)
    result = Fitting(frozenset(), seen=True)
    if Kind.INTEGER in kinds and _all_integers(array):
        longest = int(np.diff(body(array)[0]).max(initial=0))
        result = replace(
            result,
            kinds=frozenset({Kind.INTEGER, Kind.DECIMAL}),
            whole=longest,
            scales=frozenset({0}),
        )
    elif Kind.DECIMAL in kinds and (decimals := _all_decimals(array)) is not None:
        result = decimals
    for kind, arrow in ((Kind.DATE, pa.date32()), (Kind.TIMESTAMP, pa.timestamp("us"))):
        if kind not in kinds:
            continue
        lengths = np.diff(body(array)[0])[valid(array)]
        # Arrow reads no other date of ten characters.
        formed = bool((lengths == 10).all()) if kind is Kind.DATE else _all(array, _PLAIN[kind])
        if formed and _casts(array, arrow):
            spaced = int(matches(array, " ").sum()) if kind is Kind.TIMESTAMP else 0
            forms = frozenset(distinct_values(lengths).tolist()) | (
                {-1} if 0 < spaced < len(lengths) else {-2 if spaced else -3}
            )
            result = replace(
                result,
                kinds=result.kinds | {kind},
                scales=forms - {-2, -3} if kind is Kind.DATE else forms,
            )
    if Kind.BOOLEAN in kinds and _all(array, _PLAIN[Kind.BOOLEAN]):
        words = set(pc.unique(array).to_pylist())
        forms = frozenset(
            place
            for place, form in enumerate((str.lower, str.upper, str.title))
            if words & {form("true"), form("false")}
        )
        result = replace(result, kinds=result.kinds | {Kind.BOOLEAN}, scales=forms)
    return result


def wider(kind: Type) -> Type:
    """A guessed type with room for longer numbers than were seen."""
    return (
        decimal(min(kind.whole + 6, MAX_DIGITS - kind.scale) + kind.scale, kind.scale)
        if kind.kind is Kind.DECIMAL
        else kind
    )


def agrees(array: pa.Array, kind: Type) -> bool:
    """Whether the values of a text array leave a column's guessed type as it is; TEXT stands for
    one of NULLs alone."""
    if array.null_count == len(array):
        return True
    if kind == TEXT:
        return False
    result = fitting(
        array, frozenset({kind.kind, Kind.INTEGER} if kind.kind is Kind.DECIMAL else {kind.kind})
    )
    return kind.kind in result.kinds and (
        kind.kind is not Kind.DECIMAL or (result.whole <= kind.whole and result.scale <= kind.scale)
    )


def _first_look(array: pa.Array, candidates: frozenset[Kind]) -> set[Kind]:
    """The candidates that the first few values leave: most text columns lose all of them here."""
    left = {*candidates} & _PLAIN.keys()
    for value in array.slice(0, 50).to_pylist():
        if value is not None:
            left = {kind for kind in left if _COMPILED[kind].match(value)}
    return left


def _all(array: pa.Array, pattern: str) -> bool:
    return bool(pc.all(pc.match_substring_regex(array, pattern), min_count=0).as_py())


def _all_integers(array: pa.Array) -> bool:
    offsets, data = body(array)
    lengths = np.diff(offsets)
    if not _DIGITS.within(data).all() or lengths.max(initial=0) > 18:
        return (
            bool(lengths.max(initial=0) <= 20)
            and _all(array, PLAIN_INTEGER)
            and _casts(array, pa.int64())
        )
    known = valid(array)
    if (lengths[known] == 0).any():
        return False
    first = data[np.minimum(offsets[:-1], max(len(data) - 1, 0))]
    # A zero alone is plain; one before other digits, or after a minus, makes a code of it.
    if ((first == 48) & (lengths > 1) & known).any():
        return False
    negative = (first == 45) & known
    if negative.any() or (data == 45).any():
        return _all(array, PLAIN_INTEGER)
    return True


def _casts(array: pa.Array, arrow: pa.DataType) -> bool:
    try:
        result = pc.cast(array, arrow)
    except pa.ArrowInvalid:
        return False
    return pa.types.is_integer(arrow) or (
        not bool(pc.any(pc.starts_with(array, "0000")).as_py()) and result is not None
    )


def _all_decimals(array: pa.Array) -> Fitting | None:
    """The state of an array of plain decimals, or None if it is not one."""
    offsets, data = body(array)
    known = valid(array)
    if len(data) == 0:
        return None
    ends = offsets[1:]
    others = np.flatnonzero(data - np.uint8(48) > 9)
    rows = np.searchsorted(offsets, others, side="right") - 1
    first = data[np.minimum(offsets[:-1], max(len(data) - 1, 0))] - np.uint8(49)
    # The common form is decided by its bytes: a digit from 1 to 9 first, one point at most, digits
    # after it.
    common = known & (ends > offsets[:-1]) & (first < 9)
    common[rows[(data[others] != 46) | (others == ends[rows] - 1)]] = False
    common[rows[1:][rows[1:] == rows[:-1]]] = False
    if not common[known].all():
        if not _all(array.filter(to_arrow(known & ~common)), PLAIN_DECIMAL):
            return None
        return _decimals(array)
    point = np.full(len(array), -1)
    point[rows] = others
    lengths = ends - offsets[:-1]
    scales = np.where(point >= 0, ends - point - 1, 0)
    whole = np.where(point >= 0, point - offsets[:-1], lengths)
    return Fitting(
        frozenset({Kind.DECIMAL}),
        int(whole[known].max()),
        int(scales[known].max()),
        frozenset(distinct_values(scales[known]).tolist()),
        True,
    )


def _decimals(array: pa.Array) -> Fitting:
    known = valid(array)
    lengths = np.diff(body(array)[0])
    point = pc.fill_null(pc.find_substring(array, "."), -1).to_numpy(zero_copy_only=False)
    scales = np.where(point >= 0, lengths - point - 1, 0)[known]
    whole = np.where(point >= 0, point, lengths)[known]
    # A text that begins with the point is another way to write one that begins with 0.
    bare = {-1} if bool(matches(array, r"^-?\.").any()) else set()
    forms = frozenset(distinct_values(scales).tolist()) | bare
    return Fitting(
        frozenset({Kind.DECIMAL}),
        int(whole.max(initial=0)),
        int(scales.max(initial=0)),
        forms,
        True,
    )

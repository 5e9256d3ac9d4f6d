"""Aggregates as states of groups: the state of some rows is merged with that of others, and
finished into one value a group.

Sums are exact until they are finished, so that rows may be cut into parts and taken in any order:
every command that sums, averages or looks for an extreme does it here.
"""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Callable, Sequence
from decimal import Decimal
from fractions import Fraction
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field

from gravel.engine import exact_sum
from gravel.engine.vector import Vector, vector
from gravel.kernels.arrays import to_arrow
from gravel.language.building import REGRESSIONS
from gravel.language.errors import CODES
from gravel.language.functions import arithmetic
from gravel.language.functions.catalogue import catalogue
from gravel.language.functions.ordering import sortable
from gravel.language.types import DOUBLE, INTEGER, MAX_DIGITS, Kind, Type, decimal

OVERFLOW = CODES["22003"]
_FAR = 900  # powers of 2 beyond which a double may be out of range, or have fewer digits
_ROWS = (
    1 << 20
)  # rows that one state is made of; within so many a sum of halves of 64 bits is exact as a double
Self = TypeVar("Self", bound="GroupState")


class GroupedValues(Struct, frozen=True):
    """Values with the number of the group that each is in, how many groups there are, and which of
    the values count; `others` stand beside them, for aggregates of pairs."""

    groups: np.ndarray
    many: int
    values: Any
    mask: np.ndarray
    others: tuple[Any, ...] = ()

    def slice(self, start: int, rows: int) -> GroupedValues:
        """Some of the rows, one after another."""
        end = start + rows
        others = tuple(other.slice(start, rows) for other in self.others)
        return GroupedValues(
            self.groups[start:end],
            self.many,
            self.values.slice(start, rows),
            self.mask[start:end],
            others,
        )

    def counted(self) -> tuple[np.ndarray, Any]:
        """The values that count and their groups."""
        if self.mask.all():
            return self.groups, self.values
        return self.groups[self.mask], self.values.filter(to_arrow(self.mask))


class GroupState(Struct, frozen=True):
    """An aggregate so far, of so many groups. States of the same groups merge in any order, and
    pickle."""

    @classmethod
    @abstractmethod
    def of(cls: type[Self], grouped_values: GroupedValues, name: str) -> Self:
        """The state of some rows for the aggregate of that name."""

    @classmethod
    @abstractmethod
    def end_to_end(cls: type[Self], states: Sequence[Self]) -> Self:
        """The groups of some states one after another, as groups apart."""

    @abstractmethod
    def __len__(self) -> int:
        """How many groups there are."""

    def merge(self: Self, other: Self) -> Self:
        """The state of the rows of both, of the same groups."""
        groups = np.arange(len(self))
        both = type(self).end_to_end([self, other])
        return both.renumbered(np.concatenate([groups, groups]), len(self))

    @abstractmethod
    def renumbered(self: Self, numbers: np.ndarray, many: int) -> Self:
        """The state of so many groups, each of those under one of these numbers put together."""

    @abstractmethod
    def of_some(self: Self, groups: np.ndarray) -> Self:
        """The state of some of the groups, in that order."""

    @abstractmethod
    def finish(self, name: str, kind: Type) -> Vector:
        """The aggregate of that name, over values of a type: a value a group, and 22003 for one
        beyond its type."""


class CountState(GroupState, frozen=True):
    """COUNT: the values that count."""

    counts: np.ndarray

    @classmethod
    def of(cls, grouped_values: GroupedValues, name: str) -> CountState:
        return cls(
            np.bincount(grouped_values.groups[grouped_values.mask], minlength=grouped_values.many)
        )

    @classmethod
    def end_to_end(cls, states: Sequence[CountState]) -> CountState:
        return cls(np.concatenate([state.counts for state in states]))

    def __len__(self) -> int:
        return len(self.counts)

    def renumbered(self, numbers: np.ndarray, many: int) -> CountState:
        return CountState(_counts(self.counts, numbers, many))

    def of_some(self, groups: np.ndarray) -> CountState:
        return CountState(self.counts[groups])

    def finish(self, name: str, kind: Type) -> Vector:
        return Vector(to_arrow(self.counts, pa.int64()))


class SumState(GroupState, frozen=True):
    """SUM, AVG, and with the sums of squares VAR_… and STDDEV_…: exact sums as whole numbers of a
    unit, `base` to the power of `exponent`; `special` has the sum of a group in which some value is
    not finite."""

    counts: np.ndarray
    sums: np.ndarray
    base: int
    exponent: int
    squares: np.ndarray | None = None
    special: dict[int, float] = field(default_factory=dict)

    @classmethod
    def of(cls, grouped_values: GroupedValues, name: str) -> SumState:
        groups, values = grouped_values.counted()
        return cls.of_units(
            groups,
            grouped_values.many,
            exact_sum.units_of(values),
            name.startswith(("VAR", "STDDEV")),
        )

    @classmethod
    def of_units(
        cls, groups: np.ndarray, many: int, units: exact_sum.Units, squared: bool = False
    ) -> SumState:
        """The state of numbers that are units already."""
        squares = None
        if squared:
            squares = exact_sum.group_sums(units.products(units), groups, many)
        special: dict[int, float] = {}
        if units.special is not None:
            special = exact_sum.sums_of_specials(
                units.special, lambda mask: np.bincount(groups[mask], minlength=many)
            )
        counts = np.bincount(groups, minlength=many)
        return cls(
            counts,
            exact_sum.group_sums(units.whole, groups, many),
            units.base,
            units.exponent,
            squares,
            special,
        )

    @classmethod
    def end_to_end(cls, states: Sequence[SumState]) -> SumState:
        # Of one column one part may be NULL throughout, whose zeros have any unit.
        known = [state for state in states if state.counts.any()] or states[:1]
        base, low = known[0].base, min(state.exponent for state in known)
        parts = [state._at(base, low) for state in states]
        squares = [square for _, square in parts if square is not None]
        special: dict[int, float] = {}
        first = 0
        for state in states:
            special |= {first + group: value for group, value in state.special.items()}
            first += len(state)
        return cls(
            np.concatenate([state.counts for state in states]),
            np.concatenate([sums for sums, _ in parts]),
            base,
            low,
            np.concatenate(squares) if squares else None,
            special,
        )

    def __len__(self) -> int:
        return len(self.counts)

    def renumbered(self, numbers: np.ndarray, many: int) -> SumState:
        special: dict[int, float] = {}
        for group, value in self.special.items():
            number = int(numbers[group])
            special[number] = special.get(number, 0.0) + value
        return SumState(
            _counts(self.counts, numbers, many),
            _sums(self.sums, numbers, many),
            self.base,
            self.exponent,
            None if self.squares is None else _sums(self.squares, numbers, many),
            special,
        )

    def of_some(self, groups: np.ndarray) -> SumState:
        places = {}
        if self.special:
            places = {group: place for place, group in enumerate(groups.tolist())}
        return SumState(
            self.counts[groups],
            self.sums[groups],
            self.base,
            self.exponent,
            None if self.squares is None else self.squares[groups],
            {places[group]: value for group, value in self.special.items() if group in places},
        )

    def _at(self, base: int, exponent: int) -> tuple[np.ndarray, np.ndarray | None]:
        """The sums and sums of squares in a unit that is not larger."""
        if exponent == self.exponent or not self.counts.any():
            return self.sums, self.squares
        factor = base ** (self.exponent - exponent)
        return self.sums.astype(object) * factor, (
            None if self.squares is None else self.squares.astype(object) * (factor * factor)
        )

    def total(self, group: int = 0) -> Fraction:
        """The exact sum of a group's finite values."""
        return int(self.sums[group]) * Fraction(self.base) ** self.exponent

    def finish(self, name: str, kind: Type) -> Vector:
        unit = exact_sum.Units(self.sums, self.base, self.exponent)
        if self.squares is not None:
            return spreads(name, unit, self.squares, self.counts, set(self.special))
        return finished_sums(self.sums, self.counts, unit, kind, name, self.special)


class ExtremeState(GroupState, frozen=True):
    """MIN or MAX: the value of each group, NULL where it has none."""

    values: Any
    least: bool

    @classmethod
    def of(cls, grouped_values: GroupedValues, name: str) -> ExtremeState:
        groups, values = grouped_values.counted()
        return cls(_extremes(groups, grouped_values.many, values, name == "MIN"), name == "MIN")

    @classmethod
    def end_to_end(cls, states: Sequence[ExtremeState]) -> ExtremeState:
        return cls(pa.concat_arrays([state.values for state in states]), states[0].least)

    def __len__(self) -> int:
        return len(self.values)

    def renumbered(self, numbers: np.ndarray, many: int) -> ExtremeState:
        values = self.values
        if values.null_count:
            numbers = numbers[pc.is_valid(values).to_numpy(zero_copy_only=False)]
            values = values.drop_null()
        return ExtremeState(_extremes(numbers, many, values, self.least), self.least)

    def of_some(self, groups: np.ndarray) -> ExtremeState:
        return ExtremeState(self.values.take(to_arrow(groups)), self.least)

    def finish(self, name: str, kind: Type) -> Vector:
        return Vector(self.values)


class EveryState(GroupState, frozen=True):
    """EVERY: how many values are known, and how many of them false."""

    counts: np.ndarray
    false: np.ndarray

    @classmethod
    def of(cls, grouped_values: GroupedValues, name: str) -> EveryState:
        groups, values = grouped_values.counted()
        false = pc.invert(values).to_numpy(zero_copy_only=False).astype(bool)
        return cls(
            np.bincount(groups, minlength=grouped_values.many),
            np.bincount(groups[false], minlength=grouped_values.many),
        )

    @classmethod
    def end_to_end(cls, states: Sequence[EveryState]) -> EveryState:
        return cls(
            np.concatenate([state.counts for state in states]),
            np.concatenate([state.false for state in states]),
        )

    def __len__(self) -> int:
        return len(self.counts)

    def renumbered(self, numbers: np.ndarray, many: int) -> EveryState:
        return EveryState(_counts(self.counts, numbers, many), _counts(self.false, numbers, many))

    def of_some(self, groups: np.ndarray) -> EveryState:
        return EveryState(self.counts[groups], self.false[groups])

    def finish(self, name: str, kind: Type) -> Vector:
        return Vector(to_arrow(self.false == 0, mask=self.counts == 0))


class RegressionState(GroupState, frozen=True):
    """CORR, COVAR_… and REGR_… of (dependent, independent) pairs: the sums of y, x, y², x² and xy,
    as ISO/IEC 9075-2 defines them."""

    sums: tuple[SumState, ...]

    @classmethod
    def of(cls, grouped_values: GroupedValues, name: str) -> RegressionState:
        rows = to_arrow(np.flatnonzero(grouped_values.mask))
        groups = grouped_values.groups[grouped_values.mask]
        y, x = (
            exact_sum.units_of(arithmetic.as_double(item.take(rows)))
            for item in (grouped_values.values, grouped_values.others[0])
        )
        products = (
            exact_sum.Units(y.products(y), 2, 2 * y.exponent),
            exact_sum.Units(x.products(x), 2, 2 * x.exponent),
            exact_sum.Units(y.products(x), 2, y.exponent + x.exponent),
        )
        return cls(
            tuple(
                SumState.of_units(groups, grouped_values.many, item) for item in (y, x, *products)
            )
        )

    @classmethod
    def end_to_end(cls, states: Sequence[RegressionState]) -> RegressionState:
        sums = zip(*(state.sums for state in states), strict=True)
        return cls(tuple(map(SumState.end_to_end, sums)))

    def __len__(self) -> int:
        return len(self.sums[0])

    def renumbered(self, numbers: np.ndarray, many: int) -> RegressionState:
        return RegressionState(tuple(item.renumbered(numbers, many) for item in self.sums))

    def of_some(self, groups: np.ndarray) -> RegressionState:
        return RegressionState(tuple(item.of_some(groups) for item in self.sums))

    def finish(self, name: str, kind: Type) -> Vector:
        counts = self.sums[0].counts
        if name == "REGR_COUNT":
            return Vector(to_arrow(counts, pa.int64()))
        special = self.sums[0].special.keys() | self.sums[1].special.keys()
        y, x, _, _, xy = (item.exponent for item in self.sums)
        sums = [item.sums.astype(object) for item in self.sums[:4]]
        # A part without a pair has zeros of any unit, which may be less than that of the products.
        sums.append(self.sums[4].sums.astype(object) << (xy - y - x))
        values: list[float | None] = []
        errors = np.zeros(len(counts), np.uint8)
        for group, (count, *of_group) in enumerate(zip(counts.tolist(), *sums, strict=True)):
            if count and group in special:
                values.append(math.nan)
                continue
            ratio = _regressed(name, count, of_group, y, x) if count else None
            values.append(None if ratio is None else _of_ratio(name, *ratio))
            errors[group] = OVERFLOW if ratio is not None and values[-1] is None else 0
        return vector(pa.array(values, pa.float64()), errors)


STATES: dict[str, type[GroupState]] = {
    "COUNT": CountState,
    "SUM": SumState,
    "AVG": SumState,
    "MIN": ExtremeState,
    "MAX": ExtremeState,
    "EVERY": EveryState,
    **dict.fromkeys(("VAR_SAMP", "VAR_POP", "STDDEV_SAMP", "STDDEV_POP"), SumState),
    **dict.fromkeys(sorted(REGRESSIONS), RegressionState),
}


def _counts(counts: np.ndarray, numbers: np.ndarray, many: int) -> np.ndarray:
    """Counts of groups put together."""
    return np.bincount(numbers, weights=counts, minlength=many).astype(np.int64)


def _sums(sums: np.ndarray, numbers: np.ndarray, many: int) -> np.ndarray:
    """Sums of groups put together."""
    most = int(np.bincount(numbers, minlength=1).max())
    if most <= 1:
        result = np.zeros(many, sums.dtype)
        result[numbers] = sums
        return result
    if sums.dtype != object and most * max(int(sums.max()), -int(sums.min())) >= 2**63:
        sums = sums.astype(object)
    return exact_sum.group_sums(sums, numbers, many)


def state_of(
    name: str, grouped_values: GroupedValues, between: Callable[[], None] = lambda: None
) -> GroupState:
    """An aggregate's state of all rows, taken part by part; `between` is called after each."""
    result, rows = STATES[name], max(_ROWS, grouped_values.many)
    state = result.of(grouped_values.slice(0, rows), name)
    for start in range(rows, len(grouped_values.groups), rows):
        between()
        state = state.merge(result.of(grouped_values.slice(start, rows), name))
    return state


def result_type(name: str, kind: Type) -> Type:
    """The type of an aggregate over values of a type."""
    if name in ("COUNT", "REGR_COUNT"):
        return INTEGER
    if name == "SUM":
        return sum_type(kind)
    if name == "AVG":
        return mean_type(kind)
    if name == "ARRAY_AGG":
        return Type(Kind.ARRAY, item=kind)
    if name.startswith(("STDDEV", "VAR")) or name == "PERCENTILE_CONT" or name in REGRESSIONS:
        return DOUBLE
    return kind


def sum_type(kind: Type) -> Type:
    """SUM of INTEGER or DECIMAL(p,s) is DECIMAL(38,s), of DOUBLE a DOUBLE."""
    return (
        DOUBLE
        if kind.kind is Kind.DOUBLE
        else decimal(MAX_DIGITS, kind.scale if kind.kind is Kind.DECIMAL else 0)
    )


def mean_type(kind: Type) -> Type:
    """AVG divides as / does."""
    entry = catalogue()["/"]
    if kind.kind is Kind.DOUBLE or entry.result_type is None:
        return DOUBLE
    return entry.result_type([sum_type(kind), INTEGER], [..., ...])


def finished_sums(
    sums: np.ndarray,
    counts: np.ndarray,
    units: exact_sum.Units,
    kind: Type,
    name: str,
    special: dict[int, float],
) -> Vector:
    """Exact sums of units, each over so many values, as the results of SUM or AVG."""
    to = sum_type(kind) if name == "SUM" else mean_type(kind)
    if kind.kind is Kind.DOUBLE:
        return _doubles(sums, counts, units, name, special)
    known = counts > 0
    if name == "SUM" and sums.dtype != object and units.exponent == -to.scale:
        return Vector(_decimals_of(sums, known, to.arrow))
    shift = 10 ** (to.scale + units.exponent)
    if name == "AVG" and _fits(sums, counts, shift):
        divisors = np.maximum(counts, 1)
        sizes = (np.abs(sums) * (2 * shift) + divisors) // (2 * divisors)
        return Vector(_decimals_of(np.where(sums < 0, -sizes, sizes), known, to.arrow))
    values: list[Decimal | None] = []
    errors = np.zeros(len(sums), np.uint8)
    limit = 10 ** (to.precision if to.precision <= MAX_DIGITS else MAX_DIGITS)
    for group, (total, count) in enumerate(zip(sums.tolist(), counts.tolist(), strict=True)):
        value = None
        if count:
            shifted = total * shift
            whole = shifted if name == "SUM" else _rounded_quotient(shifted, count, limit)
            value = (
                _held(whole, to)
                if abs(whole) >= limit
                else Decimal(whole).scaleb(-to.scale, arithmetic.WIDE)
            )
            errors[group] = OVERFLOW if value is None else 0
        values.append(value)
    return vector(pa.array(values, to.arrow), errors)


def _fits(sums: np.ndarray, counts: np.ndarray, shift: int) -> bool:
    """Whether twice the sums, moved to a scale, with their numbers are within 64 bits."""
    if sums.dtype == object or not len(sums):
        return False
    return int(np.abs(sums).max()) * 2 * shift + int(counts.max()) < 2**62


def _rounded_quotient(whole: int, number: int, limit: int) -> int:
    """whole / number, a half rounded away from zero, to fewer places where it would have more
    digits than a value may, as / does."""
    step = 1
    while abs(whole) >= limit * number * step:
        step *= 10
    size = (abs(whole) * 2 + number * step) // (2 * number * step) * step
    return size if whole >= 0 else -size


def _held(whole: int, to: Type) -> Decimal | None:
    """A number of more digits than a value may have in its scale, without zeros at its end; else
    None."""
    value = Decimal(whole).scaleb(-to.scale, arithmetic.WIDE)
    return (
        value
        if arithmetic.significant(value) <= MAX_DIGITS and value.adjusted() < to.whole
        else None
    )


def _decimals_of(sums: np.ndarray, known: np.ndarray, kind: pa.DataType) -> pa.Array:
    """Whole numbers in 64 bits as decimals of a scale."""
    words = np.empty((len(sums), kind.bit_width // 64), np.int64)
    words[:, 0], words[:, 1:] = sums, (sums >> 63)[:, None]
    valid = pa.py_buffer(np.packbits(known, bitorder="little"))
    return pa.Array.from_buffers(kind, len(sums), [valid, pa.py_buffer(words)])


def _doubles(
    sums: np.ndarray,
    counts: np.ndarray,
    units: exact_sum.Units,
    name: str,
    special: dict[int, float],
) -> Vector:
    divisors = np.maximum(counts, 1) if name == "AVG" else np.ones(len(counts), np.int64)
    if _is_double(sums, divisors) and abs(units.exponent) < _FAR:
        doubles = np.ldexp(sums / divisors, units.exponent)
        doubles[list(special)] = list(special.values())
        return Vector(to_arrow(doubles, mask=counts == 0))
    errors = np.zeros(len(sums), np.uint8)
    values: list[float | None] = []
    for group, (total, divisor, count) in enumerate(
        zip(sums.tolist(), divisors.tolist(), counts.tolist(), strict=True)
    ):
        value = None
        if count:
            value = special.get(group)
            value = exact_sum.double_of(total, divisor, units.exponent) if value is None else value
            errors[group] = OVERFLOW if value is None else 0
        values.append(value)
    return vector(pa.array(values, pa.float64()), errors)


def _is_double(sums: np.ndarray, divisors: np.ndarray) -> bool:
    """Whether quotients of doubles are the nearest ones to those of these numbers."""
    if sums.dtype == object or not len(sums):
        return False
    return bool((divisors == 1).all() or np.abs(sums).max() < 2**53)


def spreads(
    name: str, sums: exact_sum.Units, squares: np.ndarray, counts: np.ndarray, special: set[int]
) -> Vector:
    """Variances or deviations from sums of units and of their squares; the sample's of one value is
    NULL."""
    values: list[float | None] = []
    errors = np.zeros(len(counts), np.uint8)
    least = 2 if name.endswith("SAMP") else 1
    for group, (total, square, count) in enumerate(
        zip(sums.whole.tolist(), squares.tolist(), counts.tolist(), strict=True)
    ):
        if count < least:
            values.append(None)
        elif group in special:
            values.append(math.nan)
        else:
            values.append(exact_sum.spread_of(name, count, total, square, sums))
            errors[group] = OVERFLOW if values[-1] is None else 0
    return vector(pa.array(values, pa.float64()), errors)


def _extremes(groups: np.ndarray, many: int, values: pa.Array, least: bool) -> pa.Array:
    """The least or greatest of each group's values, of which none is NULL; NULL for a group without
    any."""
    kind = values.type
    if not len(values):
        return pa.nulls(many, kind)
    if pa.types.is_integer(kind) or pa.types.is_date(kind) or pa.types.is_timestamp(kind):
        wide = (
            values.cast(pa.int32()).cast(pa.int64())
            if pa.types.is_date32(kind)
            else values.cast(pa.int64())
        )
        numbers = arithmetic.numpy_values(wide)
        bounds = np.iinfo(np.int64)
        best = np.full(many, bounds.max if least else bounds.min)
        (np.minimum if least else np.maximum).at(best, groups, numbers)
        whole = to_arrow(best, mask=np.bincount(groups, minlength=many) == 0)
        return whole.cast(pa.int32()).cast(kind) if pa.types.is_date32(kind) else whole.cast(kind)
    by_value = ordered(values)
    order = by_value[np.argsort(groups[by_value], kind="stable")]
    placed = groups[order]
    ends = np.flatnonzero(np.concatenate([placed[1:] != placed[:-1], [True]]))
    starts = np.concatenate([[0], ends[:-1] + 1])
    place = np.full(many, -1)
    place[placed[starts]] = order[starts if least else ends]
    return values.take(to_arrow(np.maximum(place, 0), mask=place < 0))


def ordered(values: pa.Array) -> np.ndarray:
    """Indices that put known values in order, NaN as the greatest number."""
    order: np.ndarray = pc.sort_indices(sortable(values)).to_numpy()
    return order


def _regressed(name: str, n: int, sums: list[int], y: int, x: int) -> tuple[int, int, int] | None:
    """A figure of n pairs as numerator, denominator and power of 2 (of CORR, its square with its
    sign), from the sums of y, x, y², x² and xy in units of 2 to the power of y and of x; None where
    it is not defined."""
    sy, sx, syy, sxx, sxy = sums
    xx, yy, xy = n * sxx - sx * sx, n * syy - sy * sy, n * sxy - sx * sy
    match name:
        case "CORR":
            return (xy * abs(xy), xx * yy, 0) if xx and yy else None
        case "COVAR_POP":
            return xy, n * n, x + y
        case "COVAR_SAMP":
            return (xy, n * (n - 1), x + y) if n > 1 else None
        case "REGR_AVGX":
            return sx, n, x
        case "REGR_AVGY":
            return sy, n, y
        case "REGR_SXX":
            return xx, n, 2 * x
        case "REGR_SYY":
            return yy, n, 2 * y
        case "REGR_SXY":
            return xy, n, x + y
        case "REGR_SLOPE":
            return (xy, xx, y - x) if xx else None
        case "REGR_INTERCEPT":
            return (sy * xx - sx * xy, n * xx, y) if xx else None
        case _:  # REGR_R2
            return None if not xx else (xy * xy, xx * yy, 0) if yy else (1, 1, 0)


def _of_ratio(name: str, numerator: int, denominator: int, exponent: int) -> float | None:
    if name != "CORR":
        return exact_sum.double_of(numerator, denominator, exponent)
    root = exact_sum.root_of(abs(numerator), denominator, exponent) or 0.0
    return -root if numerator < 0 else root

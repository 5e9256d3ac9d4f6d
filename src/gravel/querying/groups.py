"""Aggregates of groups of rows: values and group numbers in, one value a group out."""

from __future__ import annotations

import math
from collections.abc import Callable
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine import exact_sum
from gravel.engine.vector import Vector, vector
from gravel.inspecting.look import sort_order
from gravel.language.errors import CODES
from gravel.language.functions import arithmetic
from gravel.language.functions.catalogue import catalogue
from gravel.language.functions.ordering import sortable
from gravel.language.types import DOUBLE, INTEGER, MAX_DIGITS, Kind, Type, decimal
from gravel.querying.relation import codes_of

OVERFLOW = CODES["22003"]


def count(groups: np.ndarray, many: int, mask: np.ndarray) -> Vector:
    """Rows under a mask in each group."""
    return Vector(pa.array(np.bincount(groups[mask], minlength=many), pa.int64()))


def distinct_rows(groups: np.ndarray, values: list[Any], mask: np.ndarray) -> np.ndarray:
    """Mask of the first row of each different combination of values in each group, among the rows under a mask."""
    made = np.zeros(len(mask), bool)
    rows = np.flatnonzero(mask)
    columns = values if mask.all() else [one.take(pa.array(rows)) for one in values]
    made[rows[codes_of([pa.array(groups[rows]), *columns], len(rows))[1]]] = True
    return made


def sum_type(kind: Type) -> Type:
    """SUM of INTEGER or DECIMAL(p,s) is DECIMAL(38,s), of DOUBLE a DOUBLE."""
    return DOUBLE if kind.kind is Kind.DOUBLE else decimal(MAX_DIGITS, kind.scale if kind.kind is Kind.DECIMAL else 0)


def mean_type(kind: Type) -> Type:
    """AVG divides as / does."""
    entry = catalogue()["/"]
    if kind.kind is Kind.DOUBLE or entry.result_type is None:
        return DOUBLE
    return entry.result_type([sum_type(kind), INTEGER], [..., ...])


def total(groups: np.ndarray, many: int, values: Any, mask: np.ndarray, kind: Type, name: str) -> Vector:
    """SUM or AVG of the values under a mask, exact before it is rounded; NULL for a group without any; 22003 beyond the type."""
    rows = np.flatnonzero(mask)
    units = exact_sum.units_of(values.take(pa.array(rows)))
    groups = groups[rows]
    counts = np.bincount(groups, minlength=many)
    sums = exact_sum.group_sums(units.whole, groups, many)
    special = {}
    if units.special is not None:
        odd = np.flatnonzero(units.special)
        for group in np.unique(groups[odd]):
            special[int(group)] = exact_sum.sum_of_specials(units.special[odd[groups[odd] == group]])
    return finished(sums, counts, units, kind, name, special)


def finished(sums: np.ndarray, counts: np.ndarray, units: exact_sum.Units, kind: Type, name: str, special: dict[int, float]) -> Vector:
    """Exact sums of units, each over so many values, as the results of SUM or AVG."""
    to = sum_type(kind) if name == "SUM" else mean_type(kind)
    if kind.kind is Kind.DOUBLE:
        return _doubles(sums, counts, units, name, special)
    known = counts > 0
    if name == "SUM" and sums.dtype != object:
        return Vector(_decimals_of(sums, known, to.arrow))
    shift = 10 ** (to.scale + units.exponent)
    values: list[Decimal | None] = []
    errors = np.zeros(len(sums), np.uint8)
    limit = 10 ** (to.precision if to.precision <= MAX_DIGITS else MAX_DIGITS)
    for at, (one, number) in enumerate(zip(sums.tolist(), counts.tolist(), strict=True)):
        made = None
        if number:
            whole = one * shift if name == "SUM" else _rounded_quotient(one * shift, number, limit)
            made = _held(whole, to) if abs(whole) >= limit else Decimal(whole).scaleb(-to.scale, arithmetic.WIDE)
            errors[at] = OVERFLOW if made is None else 0
        values.append(made)
    return vector(pa.array(values, to.arrow), errors)


def _rounded_quotient(whole: int, number: int, limit: int) -> int:
    """whole / number, a half rounded away from zero, to fewer places where it would have more digits than a value may, as / does."""
    step = 1
    while abs(whole) >= limit * number * step:
        step *= 10
    size = (abs(whole) * 2 + number * step) // (2 * number * step) * step
    return size if whole >= 0 else -size


def _held(whole: int, to: Type) -> Decimal | None:
    """A number of more digits than a value may have in its scale, without zeros at its end; else None."""
    made = Decimal(whole).scaleb(-to.scale, arithmetic.WIDE)
    return made if arithmetic.significant(made) <= MAX_DIGITS and made.adjusted() < to.whole else None


def _decimals_of(sums: np.ndarray, known: np.ndarray, kind: Any) -> Any:
    """Whole numbers in 64 bits as decimals of a scale."""
    words = np.empty(2 * len(sums), np.int64)
    words[::2], words[1::2] = sums, sums >> 63
    valid = pa.py_buffer(np.packbits(known, bitorder="little"))
    return pa.Array.from_buffers(kind, len(sums), [valid, pa.py_buffer(words)])


def _doubles(sums: np.ndarray, counts: np.ndarray, units: exact_sum.Units, name: str, special: dict[int, float]) -> Vector:
    known = counts > 0
    errors = np.zeros(len(sums), np.uint8)
    divisors = counts.tolist() if name == "AVG" else [1] * len(sums)
    made: list[float | None] = []
    for at, (one, divisor, has) in enumerate(zip(sums.tolist(), divisors, known.tolist(), strict=True)):
        value = None if not has else special[at] if at in special else exact_sum.double_of(one, divisor, units.exponent)
        errors[at] = OVERFLOW if has and value is None else 0
        made.append(value)
    return vector(pa.array(made, pa.float64()), errors)


def extreme(groups: np.ndarray, many: int, values: Any, mask: np.ndarray, which: str) -> Vector:
    """min or max of the values under a mask in each group."""
    rows = np.flatnonzero(mask)
    place = np.full(many, -1)
    group = groups[rows]
    if not len(rows):
        return Vector(pa.nulls(many, values.type))
    if pa.types.is_integer(values.type) or pa.types.is_date(values.type) or pa.types.is_timestamp(values.type):
        numbers = values.cast(pa.int32()).cast(pa.int64()) if pa.types.is_date32(values.type) else values.cast(pa.int64())
        line = arithmetic.numpy_values(numbers)[rows]
        order = np.lexsort((line, group))
    else:
        order = np.argsort(group[(by := ordered(values.take(pa.array(rows))))], kind="stable")
        order = by[order]
    placed = group[order]
    ends = np.flatnonzero(np.concatenate([placed[1:] != placed[:-1], [True]]))
    starts = np.concatenate([[0], ends[:-1] + 1])
    place[placed[starts]] = rows[order[starts if which == "min" else ends]]
    return Vector(values.take(pa.array(np.maximum(place, 0), mask=place < 0)))


def ordered(values: Any) -> np.ndarray:
    """Indices that put known values in order, NaN as the greatest number."""
    order: np.ndarray = pc.sort_indices(sortable(values)).to_numpy()
    return order


def every(groups: np.ndarray, many: int, values: Any, mask: np.ndarray) -> Vector:
    """EVERY: whether all known values are true; NULL where none is known."""
    false = mask & pc.fill_null(pc.invert(values), False).to_numpy(zero_copy_only=False)
    counts = np.bincount(groups[mask], minlength=many)
    return Vector(pa.array(np.bincount(groups[false], minlength=many) == 0, mask=counts == 0))


def spread(groups: np.ndarray, many: int, values: Any, mask: np.ndarray, name: str) -> Vector:
    """STDDEV_SAMP, STDDEV_POP, VAR_SAMP, VAR_POP as DOUBLE, exact before they are rounded; the sample's of one value is NULL."""
    rows = np.flatnonzero(mask)
    units = exact_sum.units_of(values.take(pa.array(rows)))
    whole, group = units.whole.astype(object), groups[rows]
    sums, squares = exact_sum.group_sums(whole, group, many), exact_sum.group_sums(whole * whole, group, many)
    counts = np.bincount(group, minlength=many)
    special = set() if units.special is None else set(group[np.flatnonzero(units.special)].tolist())
    return spreads(name, sums, squares, counts, units.unit, special)


def spreads(name: str, sums: np.ndarray, squares: np.ndarray, counts: np.ndarray, unit: Fraction, special: set[int]) -> Vector:
    """Variances or deviations from sums of units and of their squares."""
    made: list[float | None] = []
    errors = np.zeros(len(sums), np.uint8)
    least = 2 if name.endswith("SAMP") else 1
    for at, (one, square, number) in enumerate(zip(sums.tolist(), squares.tolist(), counts.tolist(), strict=True)):
        if number < least:
            made.append(None)
        elif at in special:
            made.append(math.nan)
        else:
            made.append(exact_sum.spread_of(name, number, one * unit, square * unit * unit))
            errors[at] = OVERFLOW if made[-1] is None else 0
    return vector(pa.array(made, pa.float64()), errors)


def regression(groups: np.ndarray, many: int, y: Any, x: Any, mask: np.ndarray, name: str) -> Vector:
    """CORR, COVAR_… and REGR_… of (dependent, independent) pairs, as ISO/IEC 9075-2 defines them by exact sums, rounded once."""
    rows = np.flatnonzero(mask)
    ys, xs = (exact_sum.units_of(arithmetic.as_double(one.take(pa.array(rows)))) for one in (y, x))
    group = groups[rows]
    counts = np.bincount(group, minlength=many)
    special: set[int] = set()
    for one in (ys, xs):
        special |= set() if one.special is None else set(group[np.flatnonzero(one.special)].tolist())
    a, b = ys.whole.astype(object), xs.whole.astype(object)
    sums = [exact_sum.group_sums(one, group, many) for one in (a, b, a * a, b * b, a * b)]
    made: list[float | None] = []
    errors = np.zeros(many, np.uint8)
    for at in range(many):
        number = int(counts[at])
        if not number:
            made.append(0.0 if name == "REGR_COUNT" else None)
        elif at in special and name != "REGR_COUNT":
            made.append(math.nan)
        else:
            sy, sx, syy, sxx, sxy = (int(one[at]) for one in sums)
            u, v = ys.unit, xs.unit
            value = _regressed(name, number, sy * u, sx * v, syy * u * u, sxx * v * v, sxy * u * v)
            made.append(value if not isinstance(value, Fraction) else exact_sum.double_of(value.numerator, value.denominator, 0))
            errors[at] = OVERFLOW if value is not None and made[-1] is None else 0
    if name == "REGR_COUNT":
        return Vector(pa.array([int(one or 0) for one in made], pa.int64()))
    return vector(pa.array(made, pa.float64()), errors)


def _regressed(name: str, n: int, sy: Fraction, sx: Fraction, syy: Fraction, sxx: Fraction, sxy: Fraction) -> Fraction | float | None:
    xx, yy, xy = sxx - sx * sx / n, syy - sy * sy / n, sxy - sx * sy / n
    if name == "CORR":
        if not xx or not yy:
            return None
        root = exact_sum.root_of(xy * xy / (xx * yy)) or 0.0
        return -root if xy < 0 else root
    rules: dict[str, Callable[[], Fraction | float | None]] = {
        "COVAR_POP": lambda: xy / n, "COVAR_SAMP": lambda: xy / (n - 1) if n > 1 else None,
        "REGR_COUNT": lambda: float(n), "REGR_AVGX": lambda: sx / n, "REGR_AVGY": lambda: sy / n,
        "REGR_SXX": lambda: xx, "REGR_SYY": lambda: yy, "REGR_SXY": lambda: xy,
        "REGR_SLOPE": lambda: xy / xx if xx else None, "REGR_INTERCEPT": lambda: (sy - sx * xy / xx) / n if xx else None,
        "REGR_R2": lambda: None if not xx else Fraction(1) if not yy else xy * xy / (xx * yy),
    }  # fmt: skip
    return rules[name]()


def percentile(groups: np.ndarray, many: int, values: Any, mask: np.ndarray, share: float, continuous: bool, descending: bool) -> Vector:
    """PERCENTILE_CONT (linear between neighbours, DOUBLE) or PERCENTILE_DISC (the first value whose share is reached)."""
    rows = np.flatnonzero(mask)
    some = values.take(pa.array(rows))
    order = ordered(some)[:: -1 if descending else 1]
    order = order[np.argsort(groups[rows][order], kind="stable")]
    counts = np.bincount(groups[rows], minlength=many)
    starts = np.cumsum(counts) - counts
    empty = counts == 0
    if not len(rows):
        return Vector(pa.nulls(many, pa.float64() if continuous else values.type))
    if not continuous:
        at = starts + np.maximum(np.ceil(share * counts) - 1, 0).astype(np.int64)
        return Vector(some.take(pa.array(order[np.where(empty, 0, at)], mask=empty)))
    place = share * (counts - 1)
    low = np.floor(place).astype(np.int64)
    numbers = arithmetic.numpy_values(arithmetic.as_double(some))[order]
    first = numbers[np.where(empty, 0, starts + np.maximum(low, 0))]
    second = numbers[np.where(empty, 0, starts + np.ceil(np.maximum(place, 0)).astype(np.int64))]
    with np.errstate(all="ignore"):
        between = first + (second - first) * (place - low)
        # The difference of two large numbers may be out of range where what lies between them is not.
        halves = first * (1 - (place - low)) + second * (place - low)
    between = np.where(np.isfinite(between) | ~np.isfinite(first) | ~np.isfinite(second), between, halves)
    return Vector(pa.array(np.where(first == second, first, between), mask=empty))


def in_order(groups: np.ndarray, mask: np.ndarray, keys: list[Any], sorts: Any) -> np.ndarray:
    """The rows under a mask, group by group, in the order asked for or that of the rows."""
    rows = np.flatnonzero(mask)
    if keys:
        rows = rows[sort_order([pa.chunked_array([key.take(pa.array(rows))]) for key in keys], sorts)]
    return rows[np.argsort(groups[rows], kind="stable")]


def gathered(groups: np.ndarray, many: int, values: Any, rows: np.ndarray) -> Any:
    """Each group's values as a list, NULL for a group without any."""
    counts = np.bincount(groups[rows], minlength=many)
    offsets = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
    return pa.ListArray.from_arrays(pa.array(offsets), values.take(pa.array(rows)), mask=pa.array(counts == 0))


def listed(groups: np.ndarray, many: int, values: Any, rows: np.ndarray, separator: str) -> Vector:
    """LISTAGG: the texts of each group joined."""
    return Vector(pc.binary_join(gathered(groups, many, values, rows), separator))


def first_by(groups: np.ndarray, many: int, values: Any, rows: np.ndarray) -> Vector:
    """ANY_VALUE with an order: the first of each group's rows, which stand in that order."""
    place = np.full(many, -1)
    place[groups[rows[::-1]]] = rows[::-1]
    return Vector(values.take(pa.array(np.maximum(place, 0), mask=place < 0)) if len(values) else pa.nulls(many, values.type))

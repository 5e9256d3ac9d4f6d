"""Aggregates of groups of rows: values and group numbers in, one value a group out."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.vector import Vector, vector
from gravel.inspecting.look import sort_order
from gravel.language.functions.catalogue import Result, catalogue
from gravel.language.types import DOUBLE, INTEGER, Kind, Type, decimal
from gravel.querying.relation import codes_of


def count(groups: np.ndarray, many: int, mask: np.ndarray) -> Vector:
    """Rows under a mask in each group."""
    return Vector(pa.array(np.bincount(groups[mask], minlength=many), pa.int64()))


def distinct_rows(groups: np.ndarray, values: Any, mask: np.ndarray) -> np.ndarray:
    """Mask of the first row of each different value in each group, among the rows under a mask."""
    made = np.zeros(len(mask), bool)
    if mask.all():
        made[codes_of([pa.array(groups), values], len(mask))[1]] = True
        return made
    rows = np.flatnonzero(mask)
    made[rows[codes_of([pa.array(groups[rows]), values.take(pa.array(rows))], len(rows))[1]]] = True
    return made


def sum_type(kind: Type) -> Type:
    """SUM of INTEGER or DECIMAL(p,s) is DECIMAL(38,s), of DOUBLE a DOUBLE."""
    return DOUBLE if kind.kind is Kind.DOUBLE else decimal(38, kind.scale if kind.kind is Kind.DECIMAL else 0)


def total(groups: np.ndarray, many: int, values: Any, mask: np.ndarray, kind: Type) -> Vector:
    """The sum of the values under a mask; NULL for a group without any; 22003 beyond 38 digits."""
    to = sum_type(kind)
    rows = np.flatnonzero(mask)
    values, groups = values.take(pa.array(rows)), groups[rows]
    if kind.kind is Kind.DOUBLE:
        return Vector(pc.cast(_reduced(groups, many, values, "sum"), pa.float64()))
    if pa.types.is_integer(values.type):
        numbers = values.to_numpy()
        largest = max(abs(int(numbers.min())), abs(int(numbers.max()))) if len(numbers) else 0
        if largest * max(1, len(numbers)) < 2**62:
            made = _reduced(groups, many, values, "sum")
            return Vector(pc.cast(pc.cast(made, pa.decimal128(19, 0)), to.arrow))
        values = pc.cast(values, pa.decimal128(38, 0))
    made = _reduced(groups, many, pc.cast(values, pa.decimal256(76, to.scale)), "sum")
    limit = 10 ** (38 - to.scale)

    within = pc.and_(pc.less(made, pa.scalar(Decimal(limit), made.type)), pc.greater(made, pa.scalar(Decimal(-limit), made.type)))
    bad = ~pc.fill_null(within, True).to_numpy(zero_copy_only=False)
    if bad.any():
        from gravel.language.errors import CODES

        made = pc.if_else(pa.array(bad), pa.scalar(None, made.type), made)
        return vector(pc.cast(made, to.arrow), (bad * CODES["22003"]).astype(np.uint8))
    return Vector(pc.cast(made, to.arrow))


def mean(sums: Vector, counts: Vector, kind: Type) -> tuple[Vector, Type]:
    """AVG: SUM / COUNT, as / divides."""
    entry = catalogue()["/"]
    types = [sum_type(kind), INTEGER]
    some = pc.if_else(pc.equal(counts.values, 0), pa.scalar(None, pa.int64()), counts.values)
    if kind.kind is Kind.DOUBLE:
        return Vector(pc.divide(sums.values, pc.cast(some, pa.float64())), sums.errors), DOUBLE
    to = entry.result_type(types, [..., ...]) if entry.result_type else DOUBLE
    made = entry.kernel(sums.values, some, to=to) if entry.wants_type else entry.kernel(sums.values, some)  # type: ignore[misc]
    values, errors = made if isinstance(made, Result) else (made, None)
    if sums.errors is not None:
        errors = sums.errors if errors is None else np.where(sums.errors != 0, sums.errors, errors)
    return vector(values, errors), to


def extreme(groups: np.ndarray, many: int, values: Any, mask: np.ndarray, which: str) -> Vector:
    """min, max, or first (of the known values) in each group."""
    rows = np.flatnonzero(mask)
    some = values.take(pa.array(rows))
    kind = some.type
    if pa.types.is_boolean(kind):
        some = pc.cast(some, pa.int8())
    made = pc.cast(_reduced(groups[rows], many, some, which), kind)
    if pa.types.is_floating(kind) and which in ("min", "max"):
        # NaN is the greatest number; Arrow passes over it.
        nan = pc.is_nan(some).to_numpy(zero_copy_only=False)
        held, every = np.bincount(groups[rows][nan], minlength=many), np.bincount(groups[rows], minlength=many)
        last = held > 0 if which == "max" else (held > 0) & (held == every)
        made = pc.if_else(pa.array(last), pa.scalar(float("nan")), made)
    return Vector(made)


def spread(groups: np.ndarray, many: int, values: Any, mask: np.ndarray, name: str) -> Vector:
    """STDDEV_SAMP, STDDEV_POP, VAR_SAMP, VAR_POP as DOUBLE; the sample's of one value is NULL."""
    rows = np.flatnonzero(mask)
    numbers = pc.cast(values.take(pa.array(rows)), pa.float64()).to_numpy(zero_copy_only=False)
    group = groups[rows]
    counts = np.bincount(group, minlength=many)
    with np.errstate(all="ignore"):
        means = np.bincount(group, numbers, minlength=many) / counts
        squares = np.bincount(group, (numbers - means[group]) ** 2, minlength=many)
        divisor = counts - 1 if name.endswith("SAMP") else counts
        made = squares / divisor
    made = np.sqrt(made) if name.startswith("STDDEV") else made
    return Vector(pa.array(made, mask=divisor <= 0))


def percentile(groups: np.ndarray, many: int, values: Any, mask: np.ndarray, share: float, continuous: bool, descending: bool) -> Vector:
    """PERCENTILE_CONT (linear between neighbours, DOUBLE) or PERCENTILE_DISC (the first value whose share is reached)."""
    rows = np.flatnonzero(mask)
    some = values.take(pa.array(rows))
    table = pa.table({"g": groups[rows], "v": some})
    order = pc.sort_indices(table, sort_keys=[("g", "ascending"), ("v", "descending" if descending else "ascending")]).to_numpy()
    counts = np.bincount(groups[rows], minlength=many)
    starts = np.cumsum(counts) - counts
    empty = counts == 0
    if not continuous:
        at = starts + np.maximum(np.ceil(share * counts) - 1, 0).astype(np.int64)
        return Vector(some.take(pa.array(order[np.where(empty, 0, at)] if len(order) else np.zeros(many, np.int64), mask=empty)))
    place = share * (counts - 1)
    low = np.floor(place).astype(np.int64)
    numbers = pc.cast(some, pa.float64()).to_numpy(zero_copy_only=False)[order]
    if not len(numbers):
        return Vector(pa.nulls(many, pa.float64()))
    first = numbers[np.where(empty, 0, starts + np.maximum(low, 0))]
    second = numbers[np.where(empty, 0, starts + np.ceil(np.maximum(place, 0)).astype(np.int64))]
    return Vector(pa.array(first + (second - first) * (place - low), mask=empty))


def listed(groups: np.ndarray, many: int, values: Any, mask: np.ndarray, separator: str, keys: list[Any], sorts: Any) -> Vector:
    """LISTAGG: the texts of each group joined, in the order asked for or that of the rows."""
    rows = np.flatnonzero(mask)
    if keys:
        order = sort_order([pa.chunked_array([key.take(pa.array(rows))]) for key in keys], sorts)
        rows = rows[order]
    rows = rows[np.argsort(groups[rows], kind="stable")]
    counts = np.bincount(groups[rows], minlength=many)
    offsets = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
    lists = pa.ListArray.from_arrays(pa.array(offsets), values.take(pa.array(rows)))
    made = pc.binary_join(lists, separator)
    return Vector(pc.if_else(pa.array(counts == 0), pa.scalar(None, pa.string()), made))


def _reduced(groups: np.ndarray, many: int, values: Any, how: str) -> Any:
    """An Arrow aggregate of each group, NULL for those without a row."""
    table = pa.table({"g": groups, "v": values}).group_by("g", use_threads=False).aggregate([("v", how)])
    found = table.column("g").to_numpy()
    result = table.column(f"v_{how}").combine_chunks()
    place = np.full(many, -1)
    place[found] = np.arange(len(found))
    return result.take(pa.array(np.maximum(place, 0), mask=place < 0)) if len(found) else pa.nulls(many, result.type)


def unscaled(values: Any) -> np.ndarray:
    """Exact numbers as integers (a decimal without its point), NULL as 0: in 64 bits where no sum of them can pass those, else
    as Python's own."""
    filled = values.fill_null(0)
    if pa.types.is_integer(values.type):
        whole = filled.to_numpy(zero_copy_only=False)
    elif pa.types.is_null(values.type):
        return np.zeros(len(values), np.int64)
    else:
        words = np.frombuffer(filled.buffers()[1], np.int64)[2 * filled.offset : 2 * (filled.offset + len(filled))]
        whole = words[::2]
        if (words[1::2] != whole >> 63).any():
            return np.array([int(one.scaleb(values.type.scale)) for one in filled.to_pylist()], object)
    most = max(abs(int(whole.min())), abs(int(whole.max()))) if len(whole) else 0
    return whole if most * max(1, len(whole)) < 2**62 else whole.astype(object)


def scaled(sums: np.ndarray, known: np.ndarray, kind: Any) -> Any:
    """What `unscaled` made, summed, as decimals again."""
    if sums.dtype != object:
        words = np.empty(2 * len(sums), np.int64)
        words[::2], words[1::2] = sums, sums >> 63
        valid = pa.py_buffer(np.packbits(known, bitorder="little"))
        return pa.Array.from_buffers(kind, len(sums), [valid, pa.py_buffer(words)])
    return pa.array([Decimal(int(one)).scaleb(-kind.scale) if some else None for one, some in zip(sums, known, strict=True)], kind)

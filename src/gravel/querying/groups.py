"""Aggregates that need all values of a group at once: lists, percentiles, the first of an order,
distinct values."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.aggregates import ordered
from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector
from gravel.inspecting.look import sort_order
from gravel.kernels.arrays import to_arrow
from gravel.language.errors import CODES
from gravel.language.functions import arithmetic

OVERFLOW = CODES["22003"]


def distinct_rows(groups: np.ndarray, values: list[pa.Array], mask: np.ndarray) -> np.ndarray:
    """Mask of the first row of each different combination of values in each group, among the rows
    under a mask."""
    result = np.zeros(len(mask), bool)
    rows = np.flatnonzero(mask)
    columns = values if mask.all() else [value.take(to_arrow(rows)) for value in values]
    result[rows[codes_of([to_arrow(groups[rows]), *columns], len(rows))[1]]] = True
    return result


def percentile(
    groups: np.ndarray,
    many: int,
    values: pa.Array,
    mask: np.ndarray,
    share: float,
    continuous: bool,
    descending: bool,
) -> Vector:
    """PERCENTILE_CONT (linear between neighbours, DOUBLE) or PERCENTILE_DISC (the first value whose
    share is reached)."""
    rows = np.flatnonzero(mask)
    subset = values.take(to_arrow(rows))
    order = ordered(subset)[:: -1 if descending else 1]
    order = order[np.argsort(groups[rows][order], kind="stable")]
    counts = np.bincount(groups[rows], minlength=many)
    starts = np.cumsum(counts) - counts
    empty = counts == 0
    if not len(rows):
        return Vector(pa.nulls(many, pa.float64() if continuous else values.type))
    if not continuous:
        index = starts + np.maximum(np.ceil(share * counts) - 1, 0).astype(np.int64)
        return Vector(subset.take(to_arrow(order[np.where(empty, 0, index)], mask=empty)))
    place = share * (counts - 1)
    low = np.floor(place).astype(np.int64)
    numbers = arithmetic.numpy_values(arithmetic.as_double(subset))[order]
    first = numbers[np.where(empty, 0, starts + np.maximum(low, 0))]
    second = numbers[np.where(empty, 0, starts + np.ceil(np.maximum(place, 0)).astype(np.int64))]
    with np.errstate(all="ignore"):
        between = first + (second - first) * (place - low)
        # The difference of two large numbers may be out of range where what lies between them is
        # not.
        halves = first * (1 - (place - low)) + second * (place - low)
    between = np.where(
        np.isfinite(between) | ~np.isfinite(first) | ~np.isfinite(second), between, halves
    )
    return Vector(to_arrow(np.where(first == second, first, between), mask=empty))


def in_order(groups: np.ndarray, mask: np.ndarray, keys: list[pa.Array], sorts: Any) -> np.ndarray:
    """The rows under a mask, group by group, in the order asked for or that of the rows."""
    rows = np.flatnonzero(mask)
    if keys:
        rows = rows[
            sort_order([pa.chunked_array([key.take(to_arrow(rows))]) for key in keys], sorts)
        ]
    return rows[np.argsort(groups[rows], kind="stable")]


def gathered(groups: np.ndarray, many: int, values: pa.Array, rows: np.ndarray) -> pa.Array:
    """Each group's values as a list, NULL for a group without any."""
    counts = np.bincount(groups[rows], minlength=many)
    offsets = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
    return pa.ListArray.from_arrays(
        to_arrow(offsets), values.take(to_arrow(rows)), mask=to_arrow(counts == 0)
    )


def listed(
    groups: np.ndarray, many: int, values: pa.Array, rows: np.ndarray, separator: str
) -> Vector:
    """LISTAGG: the texts of each group joined."""
    return Vector(pc.binary_join(gathered(groups, many, values, rows), separator))


def first_by(groups: np.ndarray, many: int, values: pa.Array, rows: np.ndarray) -> Vector:
    """ANY_VALUE with an order: the first of each group's rows, which stand in that order."""
    place = np.full(many, -1)
    place[groups[rows[::-1]]] = rows[::-1]
    return Vector(
        values.take(to_arrow(np.maximum(place, 0), mask=place < 0))
        if len(values)
        else pa.nulls(many, values.type)
    )

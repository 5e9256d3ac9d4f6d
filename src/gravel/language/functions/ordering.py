"""Values that Arrow cannot compare, or compares otherwise than the language: what stands for them
in comparisons, sorts and groups."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.kernels.arrays import to_arrow

_DAY = 86_400_000_000  # microseconds


def sortable(values: pa.Array | pa.ChunkedArray) -> pa.Array:
    """An array that is ordered and equal as the language has it, in a type that Arrow orders:
    BOOLEAN as 0 and 1, zero without a sign and one NaN, an INTERVAL by its length (a month has 30
    days, as in PostgreSQL), an ARRAY by its rank among the arrays here.
    """
    kind = values.type
    if isinstance(values, pa.ChunkedArray):
        values = values.combine_chunks()
    if pa.types.is_boolean(kind):
        return pc.cast(values, pa.int8())
    if pa.types.is_floating(kind):
        return one_zero(values)
    if pa.types.is_interval(kind):
        return pa.array(
            [None if value is None else span(value) for value in values.to_pylist()],
            pa.decimal128(38, 0),
        )
    if pa.types.is_list(kind):
        return pa.array(_ranks(values.to_pylist()), pa.int64())
    return values


def together(x: pa.Array | pa.Scalar, y: pa.Array | pa.Scalar) -> tuple[Any, Any]:
    """Two arrays or scalars of one type, sortable beside each other."""
    kind = x.type
    if not (pa.types.is_interval(kind) or pa.types.is_list(kind)):
        return x, y
    sides = [
        pa.array([side.as_py()], kind) if isinstance(side, pa.Scalar) else side for side in (x, y)
    ]
    both = sortable(pa.concat_arrays(sides))
    results = [both.slice(0, len(sides[0])), both.slice(len(sides[0]))]
    a, b = (
        item[0] if isinstance(side, pa.Scalar) else item
        for item, side in zip(results, (x, y), strict=True)
    )
    return a, b


def one_zero(values: pa.Array) -> pa.Array:
    """Doubles with zero without a sign and one NaN, so that equal numbers have equal bits."""
    numbers = values.fill_null(0).to_numpy(zero_copy_only=False) + 0.0
    missing = values.is_null().to_numpy(zero_copy_only=False) if values.null_count else None
    return to_arrow(np.where(np.isnan(numbers), np.nan, numbers), mask=missing)


def span(interval: Any) -> int:
    """An interval's length in microseconds."""
    return int((interval.months * 30 + interval.days) * _DAY + interval.nanoseconds // 1000)


def _ranks(lists: list[Any]) -> list[int | None]:
    """Item by item, NULL after every value, a shorter array before a longer one that it begins."""
    keys = [None if entry is None else tuple(_item(item) for item in entry) for entry in lists]
    places = {
        key: index for index, key in enumerate(sorted({key for key in keys if key is not None}))
    }
    return [None if key is None else places[key] for key in keys]


def _item(item: Any) -> Any:
    if isinstance(item, list):
        return (item is None, tuple(map(_item, item)))
    if isinstance(item, float):
        return (item is None, (item != item, 0.0 if item != item else item))
    return (item is None, 0 if item is None else item)

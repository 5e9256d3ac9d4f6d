"""Rows in parts that belong together: all rows of one key are in one part, so that what needs them
all is done part by part."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TypeVar

import numpy as np
import pyarrow as pa

from gravel.engine.hashing import combined
from gravel.engine.memory import give_back_freed_blocks
from gravel.engine.sets import distinct_values
from gravel.engine.vector import Vector, vector
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.ordering import sortable

T = TypeVar("T")
ROW_BYTES = 800  # bytes that grouping, joining or ordering a row takes for a while, about
_MOST = 250
_SLICE = 1 << 20


def part_count(rows: int, memory: int | None) -> int:
    """In how many parts rows are worked on so that one fits into memory; 1 where all do."""
    return 1 if memory is None else max(1, min(_MOST, math.ceil(rows * ROW_BYTES / max(1, memory))))


def part_numbers(keys: Sequence[pa.Array], rows: int, parts: int) -> np.ndarray:
    """The part of each row, by a hash of its keys (NULL is one value)."""
    numbers = np.empty(rows, np.uint8 if parts <= 256 else np.uint32)
    for start in range(0, rows, _SLICE):
        hashes = combined([sortable(key.slice(start, _SLICE)) for key in keys])
        numbers[start : start + _SLICE] = (hashes >> np.uint64(40)) % np.uint64(parts)
    return numbers


def more_than(keys: Sequence[pa.Array], rows: int, most: int) -> bool:
    """Whether keys have more different combinations than that, as soon as it shows."""
    seen = np.zeros(0, np.uint64)
    for start in range(0, rows if rows > most else 0, _SLICE):
        hashes = combined([sortable(key.slice(start, _SLICE)) for key in keys])
        seen = distinct_values(np.concatenate([seen, hashes]))
        if len(seen) > most:
            return True
    return False


def flat_indices(mask: np.ndarray) -> np.ndarray:
    """The places where a mask is true, in 32 bits where they fit."""
    if len(mask) >= 2**31:
        return np.flatnonzero(mask)
    result = np.empty(int(np.count_nonzero(mask)), np.int32)
    index = 0
    for start in range(0, len(mask), _SLICE):
        subset = np.flatnonzero(mask[start : start + _SLICE])
        result[index : index + len(subset)] = subset + start
        index += len(subset)
    return result


def one_by_one(
    parts: Iterable[T], let_go: Callable[[], None] = give_back_freed_blocks
) -> Iterator[T]:
    """Parts one after another; what was freed of one is let go before the next."""
    for part in parts:
        let_go()
        yield part
    let_go()


def partitions(keys: Sequence[pa.Array], rows: int, memory: int | None) -> list[np.ndarray] | None:
    """The rows of each part, ascending; None where all rows are one part. Empty parts are left
    out."""
    parts = part_count(rows, memory) if keys else 1
    if parts == 1:
        return None
    numbers = part_numbers(keys, rows, parts)
    result = (flat_indices(numbers == part) for part in range(parts))
    return [item for item in result if len(item)]


def put_together(parts: Sequence[Vector], rows: Sequence[np.ndarray]) -> Vector:
    """Vectors of parts as one, each value in its row."""
    first = parts[0].values
    total = sum(map(len, rows))
    plain = pa.types.is_primitive(first.type) and not pa.types.is_boolean(first.type)
    if plain and all(part.errors is None and not part.values.null_count for part in parts):
        result = np.empty(total, first.type.to_pandas_dtype())
        if result.dtype.itemsize * 8 == first.type.bit_width and result.dtype.kind in "iuf":
            for part, where in zip(parts, rows, strict=True):
                result[where] = part.values.to_numpy()
            return Vector(to_arrow(result, first.type))
    every = np.concatenate(rows)
    place = np.empty(len(every), every.dtype)
    place[every] = np.arange(len(every), dtype=every.dtype)
    values = pa.concat_arrays([part.values for part in parts]).take(to_arrow(place))
    if all(part.errors is None for part in parts):
        return Vector(values)
    errors = np.concatenate(
        [np.zeros(len(part), np.uint8) if part.errors is None else part.errors for part in parts]
    )
    return vector(values, errors[place])

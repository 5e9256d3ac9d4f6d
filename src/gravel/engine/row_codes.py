"""Rows as numbers, equal where all of some columns are equal: what groups, joins and tells rows
apart."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.parallel import ordered_map
from gravel.kernels.arrays import to_arrow
from gravel.language.functions.ordering import sortable, together

_LARGE = 100_000


_SLICE = 1 << 20


def codes_of(columns: Sequence[pa.Array], count: int) -> tuple[np.ndarray, np.ndarray]:
    """A number for each row, equal where all columns are equal (NULL with NULL), from 0 in the
    order of first appearance; and the first row of each."""
    combined: np.ndarray | None = None
    many = 1
    for codes, size in (
        ordered_map(_codes, columns)
        if count > _LARGE and len(columns) > 1
        else map(_codes, columns)
    ):
        if combined is None:
            combined, many = codes, size
            continue
        if many * size >= 2**62:
            _, combined = np.unique(combined, return_inverse=True)
            many = int(combined.max()) + 1 if len(combined) else 1
        combined, many = combined * size + codes, many * size
    if combined is None:
        return np.zeros(count, np.int64), np.zeros(min(count, 1), np.int64)
    if len(columns) > 1:
        # Arrow numbers what it meets in the order of first appearance; a column by itself is
        # numbered already.
        coded = to_arrow(combined).dictionary_encode()
        combined, many = coded.indices.to_numpy().astype(np.int64), len(coded.dictionary)
    many = min(many, int(combined.max()) + 1 if len(combined) else 0)
    first = np.empty(many, np.int64)
    first[combined[::-1]] = np.arange(count)[
        ::-1
    ]  # written from the end, so that the first one stays
    return combined, first


def codes_across(
    columns: Sequence[tuple[pa.Array, pa.Array]],
) -> tuple[np.ndarray, np.ndarray, int]:
    """A number for each row of two sides, equal where all of some columns of one type are equal and
    none is NULL: from 0 for those of the right side, -1 for the others of the left one; and how
    many numbers there are."""
    count = sum(map(len, columns[0]))
    parts = (
        ordered_map(_codes_across, columns)
        if count > _LARGE and len(columns) > 1
        else map(_codes_across, columns)
    )
    left, right, many = next(iter(parts))
    for lefts, rights, size in parts:
        left, right = (
            np.where((codes < 0) | (further < 0), -1, codes * max(1, size) + further)
            for codes, further in ((left, lefts), (right, rights))
        )
        left, right, many = _codes_across((_known(left), _known(right)))
    return left, right, many


def _codes_across(sides: tuple[pa.Array, pa.Array]) -> tuple[np.ndarray, np.ndarray, int]:
    left, right = (sortable(side) for side in together(*sides))
    coded = right.dictionary_encode()
    met = pc.index_in(left, value_set=coded.dictionary)
    lefts, rights = (
        pc.fill_null(codes, -1).to_numpy().astype(np.int64) for codes in (met, coded.indices)
    )
    return lefts, rights, len(coded.dictionary)


def _known(codes: np.ndarray) -> pa.Array:
    return to_arrow(codes, mask=codes < 0)


def codes_by_slices(
    columns: Sequence[pa.Array], count: int, between: Callable[[], None]
) -> tuple[np.ndarray, np.ndarray]:
    """As `codes_of`, of many rows slice by slice: what it needs meanwhile is of one slice and of
    the different rows; `between` is called after each."""
    if count <= _SLICE:
        return codes_of(columns, count)
    numbers = np.empty(count, np.int32 if count < 2**31 else np.int64)
    firsts = np.zeros(0, np.int64)
    for start in range(0, count, _SLICE):
        rows = min(_SLICE, count - start)
        codes, fresh = codes_of([column.slice(start, rows) for column in columns], rows)
        both = np.concatenate([firsts, fresh + start])
        # What was met before is numbered first, and keeps its numbers.
        places, first = codes_of([column.take(to_arrow(both)) for column in columns], len(both))
        numbers[start : start + rows] = places[len(firsts) :][codes]
        firsts = both[first]
        between()
    return numbers, firsts


def _codes(column: pa.Array) -> tuple[np.ndarray, int]:
    coded = sortable(column).dictionary_encode(null_encoding="encode")
    return coded.indices.to_numpy().astype(np.int64), max(1, len(coded.dictionary))

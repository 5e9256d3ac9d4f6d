"""Pairs of rows that a join brings together."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.memory import give_back_freed_blocks
from gravel.engine.row_codes import codes_across
from gravel.engine.sets import distinct_values
from gravel.engine.vector import Vector
from gravel.querying.partitions import flat_indices, one_by_one, part_count, part_numbers
from gravel.querying.relation import taken

CHUNK = 1 << 21


def equal_pairs(
    left: list[Vector],
    right: list[Vector],
    memory: int | None = None,
    let_go: Callable[[], None] = give_back_freed_blocks,
    counted: Callable[[int], None] = lambda pairs: None,
    at_once: int | None = None,
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Indices of the rows whose keys are equal and known, in the order of the left rows, then of
    the right ones, about so many `at_once` (CHUNK); part by part where all do not fit into memory,
    with `let_go` between two parts. `counted` is told how many pairs there are so far, before they
    are made."""
    parts = part_count(len(left[0]) + len(right[0]), memory)
    if parts == 1:
        yield from _equal_pairs(left, right, counted, at_once or CHUNK)
        return
    sides = [
        part_numbers([item.values for item in side], len(side[0]), parts) for side in (left, right)
    ]
    ones: list[np.ndarray] = []
    twos: list[np.ndarray] = []
    for part in one_by_one(range(parts), let_go):
        mine, theirs = (flat_indices(numbers == part) for numbers in sides)
        if len(mine) and len(theirs):
            before = sum(map(len, ones))
            for first, second in _equal_pairs(
                [taken(item, mine) for item in left],
                [taken(item, theirs) for item in right],
                partial(_counted_from, counted, before),
                CHUNK,
            ):
                ones.append(mine[first])
                twos.append(theirs[second])
    del sides
    first_rows = np.concatenate(ones) if ones else np.zeros(0, np.int32)
    order = np.argsort(first_rows, kind="stable")
    first_rows = first_rows[order]
    ones.clear()
    two = np.concatenate(twos) if twos else np.zeros(0, np.int32)
    yield first_rows, two[order]


def _counted_from(counted: Callable[[int], None], before: int, pairs: int) -> None:
    counted(before + pairs)


def _equal_pairs(
    left: list[Vector], right: list[Vector], counted: Callable[[int], None], at_once: int
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    pairs_of_columns = [(a.values, b.values) for a, b in zip(left, right, strict=True)]
    left_codes, right_codes, many = codes_across(pairs_of_columns)
    left_rows, right_rows = flat_indices(left_codes >= 0), flat_indices(right_codes >= 0)
    left_codes, right_codes = left_codes[left_rows], right_codes[right_rows]
    order = np.argsort(right_codes, kind="stable")
    counts = np.bincount(right_codes, minlength=many)
    starts = np.concatenate([[0], np.cumsum(counts)])
    each = counts[left_codes]
    until = np.cumsum(each)
    firsts = until - each
    pairs = int(until[-1]) if len(until) else 0
    counted(pairs)
    ends = np.searchsorted(until, np.arange(at_once, pairs, at_once)) + 1
    cuts = distinct_values(np.r_[0, ends, len(each)])
    for begin, end in pairwise(cuts.tolist()):
        sizes = each[begin:end]
        ones = np.repeat(left_rows[begin:end], sizes)
        offsets = np.arange(len(ones)) + firsts[begin] - np.repeat(firsts[begin:end], sizes)
        twos = right_rows[order[np.repeat(starts[left_codes[begin:end]], sizes) + offsets]]
        yield ones, twos


def all_pairs(lefts: int, rights: int) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Every row of the left with every row of the right, some at a time."""
    if not lefts or not rights:
        return
    step = max(1, CHUNK // rights)
    for start in range(0, lefts, step):
        rows = np.arange(start, min(start + step, lefts))
        yield np.repeat(rows, rights), np.tile(np.arange(rights), len(rows))


def unnested(lists: pa.Array) -> tuple[np.ndarray, pa.Array, np.ndarray, np.ndarray]:
    """The rows, items and places (from 1) of arrays, and the rows that have none: NULL and empty
    ones."""
    sizes = (
        pc.fill_null(pc.list_value_length(lists), 0).to_numpy(zero_copy_only=False).astype(np.int64)
    )
    rows = np.repeat(np.arange(len(lists)), sizes)
    places = np.arange(len(rows)) - np.repeat(np.cumsum(sizes) - sizes, sizes) + 1
    return rows, lists.flatten(), places, np.flatnonzero(sizes == 0)

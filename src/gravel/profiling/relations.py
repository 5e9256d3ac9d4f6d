"""What columns have to do with each other: keys, columns that are NULL together, columns that
another one determines.

A sample of the first rows refutes nearly every pair; what it leaves is counted over all rows.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import combinations

import numpy as np
from msgspec import Struct

from gravel.engine.distinct import Counted, counted_hashes
from gravel.engine.hashing import NULL_HASH

SAMPLE, FEWER = 20_000, 4000  # first rows for pairs, and for dependencies, which take longer
COLUMNS = 40
_PAIRS, _DEPENDENCIES, _EXCEPTIONS = 20, 30, 100
_MOST_VALUES = 50_000
_LOW = np.uint64(0xFFFF)
_MIX = np.uint64(0x9E3779B97F4A7C15)


class DependencyCandidate(Struct, frozen=True):
    """A column for pairs and dependencies: position, distinct values, NULLs."""

    index: int
    distinct: int
    nulls: int


def pair_hashes(a: np.ndarray, b: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two hashes of each pair of values; sorted by the first, pairs with one value of `a` stand
    side by side."""
    mixed = (a ^ (b * _MIX)) * _MIX
    mixed ^= mixed >> np.uint64(29)
    spread = b * np.uint64(0xC2B2AE3D27D4EB4F)
    return (a & ~_LOW) | (spread >> np.uint64(48)), mixed


def pair_part(a: np.ndarray, b: np.ndarray, rows: np.ndarray) -> Counted:
    """The distinct pairs of a batch."""
    return counted_hashes(*pair_hashes(a, b), rows)


def known_pairs(a: np.ndarray, b: np.ndarray, rows: np.ndarray) -> Counted:
    """The distinct pairs of a batch in which neither value is NULL."""
    keep = (a != NULL_HASH) & (b != NULL_HASH)
    return pair_part(a[keep], b[keep], rows[keep])


def without(hashed: np.ndarray, unsaid: np.ndarray) -> np.ndarray:
    """Hashes with those of values that say nothing taken as NULL."""
    return np.where(np.isin(hashed, unsaid), NULL_HASH, hashed) if len(unsaid) else hashed


def likely_pairs(
    columns: Sequence[DependencyCandidate], sample: dict[int, np.ndarray], rows: int
) -> list[tuple[int, int]]:
    """Pairs of columns that the sample lets be a key."""
    results = []
    for item, other in combinations(
        [column for column in columns if not column.nulls and 1 < column.distinct < rows], 2
    ):
        if item.distinct * other.distinct < rows:
            continue
        # The first hash has few bits of the second column: the second one has all of both.
        hashed = np.sort(pair_hashes(sample[item.index], sample[other.index])[1])
        if not (hashed[1:] == hashed[:-1]).any():
            results.append((item.index, other.index))
    return results[:_PAIRS]


def likely_dependencies(
    columns: Sequence[DependencyCandidate], sample: dict[int, np.ndarray], rows: int
) -> list[tuple[int, int]]:
    """(by, column): pairs in which the sample lets the first determine the second but for a few
    rows."""
    codes = {column.index: _codes(sample[column.index]) for column in columns}
    results = []
    for by in columns:
        if not 2 <= by.distinct <= min(_MOST_VALUES, 0.7 * (rows - by.nulls)):
            continue
        for column in columns:
            if by is column or column.distinct < 2 or column.distinct > by.distinct:
                continue
            if column.distinct == by.distinct and column.index < by.index:
                continue  # each determines the other: told once
            a, b = codes[by.index], codes[column.index]
            keep = (a >= 0) & (b >= 0)
            if _may_determine(a[keep], b[keep], by.distinct):
                results.append((by.distinct / max(1, column.distinct), by.index, column.index))
    return [(a, b) for _, a, b in sorted(results)][:_DEPENDENCIES]


def _codes(hashed: np.ndarray) -> np.ndarray:
    _, codes = np.unique(hashed, return_inverse=True)
    codes[hashed == NULL_HASH] = -1
    return codes


def _may_determine(a: np.ndarray, b: np.ndarray, distinct: int) -> bool:
    if len(a) < 2:
        return False
    pairs, counts = np.unique(a * (int(b.max()) + 1) + b, return_counts=True)
    groups = pairs // (int(b.max()) + 1)
    starts = np.flatnonzero(np.concatenate([[True], groups[1:] != groups[:-1]]))
    usual = int(np.maximum.reduceat(counts, starts).sum())
    exceptions, evidence = len(a) - usual, len(a) - len(starts)
    guessed = len(a) - int(np.bincount(b).max())
    return exceptions <= 0.15 * min(guessed, max(evidence, 1)) + 3


class Dependency(Struct, frozen=True):
    """Rows that spoil a dependency; of at most a hundred kinds: (row of a spoiling pair, its rows,
    row of the usual pair)."""

    rows: int
    exceptions: list[tuple[int, int, int]] | None


class RangeExceptions(Struct, frozen=True):
    """Of pairs in a range of hashes: their rows, those that spoil the dependency, the first values,
    and the exceptions as far as they are told."""

    rows: int = 0
    spoiled: int = 0
    groups: int = 0
    exceptions: tuple[tuple[int, int, int], ...] = ()


def range_exceptions(piece: Counted) -> RangeExceptions:
    """Go over the distinct pairs of a range; those of one first value stand side by side."""
    if not len(piece.first):
        return RangeExceptions()
    exceptions: list[tuple[int, int, int]] = []
    keys = piece.first & ~_LOW
    starts = np.flatnonzero(np.concatenate([[True], keys[1:] != keys[:-1]]))
    best = np.maximum.reduceat(piece.counts, starts)
    ends = np.append(starts[1:], len(keys))
    for index in np.flatnonzero(ends - starts > 1):
        if len(exceptions) > _EXCEPTIONS:
            break
        place = np.arange(starts[index], ends[index])
        usual = place[np.lexsort((piece.rows[place], -piece.counts[place]))][0]
        exceptions += [
            (int(piece.rows[i]), int(piece.counts[i]), int(piece.rows[usual]))
            for i in place
            if i != usual
        ]
    rows = int(piece.counts.sum())
    return RangeExceptions(rows, rows - int(best.sum()), len(starts), tuple(exceptions))


def dependency(commonest: int, ranges: Iterable[RangeExceptions]) -> Dependency | None:
    """Whether the first value of some pairs determines the second but for a few rows: at most one
    in twenty, and a tenth of those that taking the second column's most frequent value for all
    would get wrong (`commonest` are its rows).
    """
    rows, spoiled, groups = 0, 0, 0
    exceptions: list[tuple[int, int, int]] = []
    for part in ranges:
        rows, spoiled, groups = rows + part.rows, spoiled + part.spoiled, groups + part.groups
        if len(exceptions) <= _EXCEPTIONS:
            exceptions += part.exceptions
    if (
        rows - groups < 0.3 * rows
        or rows < 4
        or spoiled > rows / 20
        or spoiled > (rows - commonest) / 10
    ):
        return None
    return Dependency(spoiled, None if len(exceptions) > _EXCEPTIONS else exceptions)

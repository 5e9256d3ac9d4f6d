"""Hashes sorted, and the distinct ones among them, by the compiled kernels where there are enough
of them, else by NumPy."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np

from gravel.kernels.native.machine import allocated, kernels

_DIGITS = 1 << 11
_MOST = 1 << 31  # rows whose places have 32 bits


def ascending(hashes: np.ndarray) -> np.ndarray:
    """The places of hashes (uint64) in ascending order; equal ones in the order they stand in."""
    compiled = _sorted(hashes)
    return np.argsort(hashes, kind="stable") if compiled is None else compiled[1]


def mixed_hashes(parts: Sequence[np.ndarray], mixing: np.ndarray) -> np.ndarray | None:
    """One hash a row of those of several columns, in their order; None where the reference is to be
    used."""
    if len(parts) < 2 or (native := kernels(parts[0].nbytes)) is None:
        return None
    result = parts[0].copy()
    for part in parts[1:]:
        native.run("mix_hashes", result, part, mixing)
    return result


class DistinctHashes(NamedTuple):
    """The distinct pairs of two hashes, ascending by the first: the sum of each one's counts, the
    least of its rows, and a place where it stands."""

    first: np.ndarray
    second: np.ndarray
    counts: np.ndarray
    rows: np.ndarray
    places: np.ndarray


def distinct_hashes(
    first: np.ndarray, second: np.ndarray, counts: np.ndarray, rows: np.ndarray
) -> DistinctHashes:
    """The distinct pairs of some rows."""
    native = kernels(0)
    sorted_hashes = _sorted(first)
    if native is None or sorted_hashes is None:
        return _distinct(first, second, counts, rows)
    size = len(first)
    kinds = (np.uint64, np.uint64, np.int64, np.int64, np.int32)
    output = [np.empty(size, kind) for kind in kinds]
    count = native.run("reduce_hashes", *sorted_hashes, second, counts, rows, *output)
    # Copied, so that no more is held than is needed.
    return DistinctHashes(*(output if count == size else [item[:count].copy() for item in output]))


class HashTable:
    """Where pairs of hashes, each once and ascending by the first, stand. Threads may share it."""

    def __init__(self, first: np.ndarray, second: np.ndarray) -> None:
        self.first, self.second = first, second
        self._slots: np.ndarray | None = None
        if len(first) < _MOST and (native := kernels(0)) is not None:
            self._slots = np.full(2 << len(first).bit_length(), -1, np.int32)
            native.run("index_hashes", first, self._slots)

    def __reduce__(self) -> Any:
        return HashTable, (self.first, self.second)

    def find(self, first: np.ndarray, second: np.ndarray) -> np.ndarray:
        """The place of each of some pairs, -1 for one that is not there."""
        native = kernels(0)
        if native is not None and self._slots is not None:
            places = np.empty(len(first), np.int32)
            known = (self._slots, self.first, self.second)
            native.run("find_hashes", *known, first, second, places)
            return places
        if not len(self.first):
            return np.full(len(first), -1)
        places = np.minimum(np.searchsorted(self.first, first), len(self.first) - 1)
        alike = (self.first[places] == first) & (self.second[places] == second)
        return np.where(alike, places, -1)


def _sorted(hashes: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
    """Hashes in ascending order and their places; None where NumPy is to sort."""
    size = len(hashes)
    if not 1 < size < _MOST or (native := kernels(0)) is None:
        return None
    keys, order = hashes.copy(), np.arange(size, dtype=np.int32)
    spare = allocated(size, np.uint64), allocated(size, np.int32)
    native.run("sort_hashes", keys, order, *spare, np.empty(_DIGITS, np.int64))
    return keys, order


def _distinct(
    first: np.ndarray, second: np.ndarray, counts: np.ndarray, rows: np.ndarray
) -> DistinctHashes:
    """As `distinct_hashes`, the place being that of any of a pair: the reference."""
    order = np.argsort(first)
    a, b = first[order], second[order]
    new = np.ones(len(a), bool)
    new[1:] = a[1:] != a[:-1]
    if ((~new[1:]) & (b[1:] != b[:-1])).any():
        # Two values share a hash: both hashes together tell them apart.
        order = np.lexsort((second, first))
        a, b = first[order], second[order]
        new[1:] = (a[1:] != a[:-1]) | (b[1:] != b[:-1])
    starts = np.flatnonzero(new)
    if len(starts) == len(a):
        return DistinctHashes(a, b, counts[order], rows[order], order)
    sums = np.add.reduceat(counts[order], starts)
    least = np.minimum.reduceat(rows[order], starts)
    return DistinctHashes(a[starts], b[starts], sums, least, order[starts])

"""Distinct values and how often each occurs: a state for each batch, an associative merge, a result."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.hashing import combined

_COMPACT = 1 << 20


@dataclass
class Counted:
    """Distinct values by hash, ascending: a second hash to tell two values of one hash apart, the rows that hold each,
    and the first row that does."""

    first: np.ndarray
    second: np.ndarray
    counts: np.ndarray
    rows: np.ndarray


def counted(columns: list[Any], rows: np.ndarray) -> Counted:
    """The distinct combinations of some columns in one batch; `rows` are row numbers, ascending."""
    first = combined(columns)
    order = np.argsort(first)
    sorted_hashes = first[order]
    new = _changes(sorted_hashes)
    starts = np.flatnonzero(new)
    if len(starts) == len(first):
        return Counted(sorted_hashes, combined(columns, second=True)[order], np.ones(len(first), np.int64), rows[order])
    if not _confirmed(columns, order, new, starts):
        return _reduced(first, combined(columns, second=True), np.ones(len(first), np.int64), rows.astype(np.int64))
    earliest = np.minimum.reduceat(order, starts)
    chosen = pa.array(earliest)
    second = combined([column.take(chosen) for column in columns], second=True)
    return Counted(sorted_hashes[starts], second, np.diff(np.append(starts, len(first))), rows[earliest])


def counted_once(columns: list[Any], counts: np.ndarray, rows: np.ndarray) -> Counted:
    """The state of combinations that are already distinct, with the rows that hold each and the first that does."""
    return _reduced(combined(columns), combined(columns, second=True), counts, rows)


def _changes(ascending: np.ndarray) -> np.ndarray:
    new = np.ones(len(ascending), bool)
    new[1:] = ascending[1:] != ascending[:-1]
    return new


def _confirmed(columns: list[Any], order: np.ndarray, new: np.ndarray, starts: np.ndarray) -> bool:
    """Whether the rows of one hash are of one value too."""
    members = pa.array(order[~new])
    heads = pa.array(order[starts][(np.cumsum(new) - 1)[~new]])
    return all(_all_alike(column.take(members), column.take(heads)) for column in columns)


def _all_alike(x: Any, y: Any) -> bool:
    return bool(x.equals(y)) if not pa.types.is_floating(x.type) else True


def _reduced(first: np.ndarray, second: np.ndarray, counts: np.ndarray, rows: np.ndarray) -> Counted:
    order = np.argsort(first)
    a, b = first[order], second[order]
    new = _changes(a)
    if ((~new[1:]) & (b[1:] != b[:-1])).any():
        # Two values share a hash: both hashes together tell them apart.
        order = np.lexsort((second, first))
        a, b = first[order], second[order]
        new[1:] = (a[1:] != a[:-1]) | (b[1:] != b[:-1])
    starts = np.flatnonzero(new)
    if len(starts) == len(a):
        return Counted(a, b, counts[order], rows[order])
    return Counted(a[starts], b[starts], np.add.reduceat(counts[order], starts), np.minimum.reduceat(rows[order], starts))


class Distinct:
    """Distinct values of a whole table, gathered batch by batch in any order. Values of one batch are compared by
    value, those of different batches by two hashes: of n different values two share both with a chance of n^2 / 2^128."""

    def __init__(self) -> None:
        self._parts: list[Counted] = []
        self._pending = 0
        self._compact_at = _COMPACT

    def add(self, part: Counted) -> None:
        """Take in a batch's values."""
        self._parts.append(part)
        self._pending += len(part.first)
        if self._pending > self._compact_at:
            self._compact()
            self._compact_at = max(_COMPACT, 2 * self._pending)

    def _compact(self) -> None:
        if len(self._parts) > 1:
            joined = [np.concatenate([getattr(part, name) for part in self._parts]) for name in ("first", "second", "counts", "rows")]
            self._parts = [_reduced(*joined)]
        self._pending = len(self._parts[0].first) if self._parts else 0

    @property
    def result(self) -> Counted:
        """All distinct values."""
        self._compact()
        return self._parts[0] if self._parts else Counted(*(np.zeros(0, kind) for kind in (np.uint64, np.uint64, np.int64, np.int64)))

    def __len__(self) -> int:
        return len(self.result.first)

    def top(self, count: int) -> list[tuple[int, int]]:
        """(first row, rows) of the most frequent values; ties by first row."""
        found = self.result
        if len(found.counts) > 10_000:
            least = np.partition(found.counts, -count)[-count]
            chosen = np.flatnonzero(found.counts > least)
            ties = np.flatnonzero(found.counts == least)
            ties = ties[np.argsort(found.rows[ties], kind="stable")[:count]]
            chosen = np.concatenate([chosen, ties])
        else:
            chosen = np.arange(len(found.counts))
        order = chosen[np.lexsort((found.rows[chosen], -found.counts[chosen]))][:count]
        return [(int(found.rows[i]), int(found.counts[i])) for i in order]

"""Distinct values and how often each occurs: a state for each batch, an associative merge, a result."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

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
    """The distinct combinations of some columns in one batch, none of them with a NULL; `rows` are row numbers."""
    first, second = combined(columns), combined(columns, second=True)
    return _reduced(first, second, np.ones(len(first), np.int64), rows.astype(np.int64))


def _reduced(first: np.ndarray, second: np.ndarray, counts: np.ndarray, rows: np.ndarray) -> Counted:
    order = np.argsort(first, kind="stable")
    a, b = first[order], second[order]
    new = np.ones(len(a), bool)
    new[1:] = a[1:] != a[:-1]
    if ((~new[1:]) & (b[1:] != b[:-1])).any():
        # Two values share a hash: both hashes together tell them apart.
        order = np.lexsort((second, first))
        a, b = first[order], second[order]
        new[1:] = (a[1:] != a[:-1]) | (b[1:] != b[:-1])
    starts = np.flatnonzero(new)
    if not len(starts):
        return Counted(a, b, counts, rows)
    return Counted(a[starts], b[starts], np.add.reduceat(counts[order], starts), np.minimum.reduceat(rows[order], starts))


class Distinct:
    """Distinct values of a whole table, gathered batch by batch in any order; exact but for a chance of about
    n^2 / 2^128 that two of n different values share both hashes."""

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

"""One of two tables that are compared, as it is read: hashes of its keys and of its cells."""

from __future__ import annotations

from collections.abc import Hashable
from itertools import chain

import numpy as np
import pyarrow.compute as pc
from msgspec import Struct

from gravel.comparing.how import ColumnPair, How
from gravel.engine.hashed_rows import HashedRows, RowRange
from gravel.engine.hashing import hashes, mixed
from gravel.sources.source import Batch, Malformed

ROWS = "rows"


class SidePart(Struct, frozen=True):
    """What a batch says: its rows, its malformed records, and the rows that have a key."""

    rows: int
    malformed: tuple[Malformed, ...]
    keyed: RowRange


class SideState:
    """A table by the hashes of its rows; see `engine.State`. `side`: 0 is before, 1 after; `key`:
    the compared columns that are the key, without which all of them are and cells are not
    told apart. A row has a hash a cell, and of numbers that may lie within a distance their
    words."""

    def __init__(
        self,
        side: int,
        columns: tuple[ColumnPair, ...],
        key: tuple[int, ...],
        how: How,
        memory: int,
    ) -> None:
        self.side, self.columns, self.key, self.how = side, columns, key, how
        self.rows = self.null = 0
        self.malformed: tuple[Malformed, ...] = ()
        self.near = [index for index, column in enumerate(columns) if how.near(column)]
        words = sum(columns[index].words for index in self.near)
        others = (len(columns) if key else 0) + words
        self.distinct: dict[Hashable, HashedRows] = {ROWS: HashedRows(others, memory // 4)}

    def map(self, batch: Batch) -> SidePart:
        """See State."""
        values = [
            self.how.values(batch.columns[column.place(self.side)], column)
            for column in self.columns
        ]
        hashed = [hashes(value) for value in values]
        key = self.key or range(len(self.columns))
        known = np.ones(batch.count, bool)
        for index in self.key:
            if values[index].null_count:
                known &= pc.is_valid(values[index]).to_numpy(zero_copy_only=False)
        first = second = np.zeros(batch.count, np.uint64)
        if self.columns:
            first = mixed([hashed[index] for index in key])
            second = mixed([hashes(values[index], True) for index in key], True)
        near = [self.columns[index].words_of(values[index]) for index in self.near]
        arrays = [first, second, batch.rows, *(hashed if self.key else []), *chain(*near)]
        kept = arrays if known.all() else [array[known] for array in arrays]
        return SidePart(batch.count, batch.malformed, RowRange.of(kept))

    def add(self, part: SidePart) -> None:
        """See State."""
        self.rows += part.rows
        self.null += part.rows - len(part.keyed.rows)
        self.malformed += part.malformed
        self.distinct[ROWS].add(part.keyed)

    def merge(self, later: SideState) -> None:
        """See State."""
        self.rows += later.rows
        self.null += later.null
        self.malformed += later.malformed

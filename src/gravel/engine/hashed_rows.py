"""The rows of a table by their hashes, to be matched with those of another: in memory, or in sorted
runs in a file."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from msgspec import Struct

from gravel.engine.spill import Runs
from gravel.kernels.hashes import ascending


class RowRange(Struct, frozen=True):
    """Some rows, arrays side by side: a hash, a second one to tell two values of one hash apart,
    the row number, and what else is known of each. Those of equal hashes are in the order of the
    table."""

    first: np.ndarray
    second: np.ndarray
    rows: np.ndarray
    others: tuple[np.ndarray, ...]

    @property
    def arrays(self) -> tuple[np.ndarray, ...]:
        """All of them, in order."""
        return (self.first, self.second, self.rows, *self.others)

    @classmethod
    def of(cls, arrays: Sequence[np.ndarray]) -> RowRange:
        """The rows of arrays in that order."""
        return cls(arrays[0], arrays[1], arrays[2].astype(np.int64, copy=False), tuple(arrays[3:]))

    def sorted(self) -> RowRange:
        """The same rows, ascending by their first hash."""
        order = ascending(self.first)
        return RowRange.of([array[order] for array in self.arrays])


class HashedRows:
    """Rows that are taken in, in their order; `others`: how many arrays they have beside their
    hashes and numbers. What takes more than `memory` bytes (None: nothing does) is kept in a
    file."""

    def __init__(self, others: int, memory: int | None) -> None:
        self.others = others
        self._memory = memory
        self._held: list[RowRange] = []
        self._size = 0
        self._runs: Runs | None = None

    def __reduce__(self) -> Any:
        """It goes elsewhere empty: its rows are not for one place."""
        return HashedRows, (self.others, self._memory)

    def add(self, part: RowRange) -> None:
        """Take in the next rows. Raises TableProblem where the disk is full."""
        self._held.append(part)
        self._size += sum(array.nbytes for array in part.arrays)
        if self._memory is not None and self._size > self._memory:
            self._spill()

    def pieces(self) -> Iterator[RowRange]:
        """All rows, each piece ascending by its hashes; in no order beside that."""
        if self._runs is None:
            yield self._joined().sorted()
            return
        for part in self.ranges(self._runs.count):
            yield part.sorted()

    def ranges(self, count: int) -> Iterator[RowRange]:
        """All rows, in so many ranges of their hashes; within a range in no order of hashes."""
        if count == 1 and self._runs is None:
            yield self._joined()
            return
        self._spill()
        if self._runs is None:
            yield from [self._joined()] * count
            return
        for arrays in self._runs.ranges([], 0, parts=count):
            yield RowRange.of(arrays)

    def _spill(self) -> None:
        if self._held:
            self._runs = self._runs or Runs()
            self._runs.write(self._joined().sorted().arrays)
            self._held, self._size = [], 0

    def _joined(self) -> RowRange:
        if not self._held:
            return no_rows(self.others)
        arrays = zip(*(part.arrays for part in self._held), strict=True)
        return RowRange.of([np.concatenate(column) for column in arrays])


def no_rows(others: int) -> RowRange:
    """A range without a row."""
    nothing = np.zeros(0, np.uint64)
    return RowRange(nothing, nothing, np.zeros(0, np.int64), (nothing,) * others)

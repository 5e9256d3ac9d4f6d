"""Some rows of a table, each with the same chance: those whose numbers have the smallest hashes, so
a sample repeats exactly."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.engine import Engine
from gravel.engine.threads import THREADS
from gravel.kernels.arrays import to_arrow
from gravel.sources.source import Batch, Malformed, Source

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)
_OTHER = np.uint64(0xD6E8FEB86659FD93)


class Sample(Struct, frozen=True):
    """Rows drawn from a table, and how many it has; they are read as a table's are."""

    batch: Batch
    of: int
    engine: Engine = THREADS  # it is here, whoever drew it

    def pieces(self, take: Any = None, wanted: Sequence[int] | None = None) -> list[Batch]:
        """One piece: all rows."""
        return [self.batch]

    def read(self, piece: Batch, wanted: Sequence[int] | None = None) -> Batch:
        """The rows."""
        return piece

    def holding(self, rows: Sequence[int]) -> list[Batch]:
        """The pieces that hold some source rows."""
        return [self.batch]


def draw(table: Source, count: int) -> Sample:
    """Draw rows in one pass over the table. Raises TableProblem."""
    drawn = DrawnState(count)
    table.engine.run(drawn, table)
    return Sample(drawn.sample(len(table.columns)), drawn.total)


class DrawnState:
    """The rows with the smallest hashes so far."""

    def __init__(self, count: int) -> None:
        self.distinct: dict[Hashable, Any] = {}
        self.total = 0
        self._count = count
        self._batches: list[Batch] = []
        self._malformed: list[Malformed] = []
        self._held = 0
        self._limit: np.uint64 | None = None  # that no hash of the sample passes

    def map(self, batch: Batch) -> tuple[Batch, int]:
        """See State. What is known of the limit only leaves out sooner what is left out in the
        end."""
        return _below(batch, self._limit), batch.count

    def add(self, part: tuple[Batch, int]) -> None:
        """See State."""
        batch, rows = part
        self.total += rows
        self._malformed += batch.malformed
        if batch.count:
            self._batches.append(batch)
            self._held += batch.count
        if self._held > 2 * self._count:
            self._narrow()

    def merge(self, later: DrawnState) -> None:
        """See State."""
        for batch in later._batches:
            self.add((replace(batch, malformed=()), 0))
        self.total += later.total
        self._malformed += later._malformed

    def _narrow(self) -> None:
        every = np.concatenate([_hashes(batch.rows) for batch in self._batches])
        if len(every) > self._count:
            self._limit = np.partition(every, self._count - 1)[self._count - 1]
            self._batches = [_below(batch, self._limit) for batch in self._batches]
            self._held = self._count

    def sample(self, width: int) -> Batch:
        """The sample's rows, in their order."""
        malformed = tuple(self._malformed)
        if not self._batches:
            nothing = [pa.array([], pa.string())] * width
            return Batch(np.zeros(0, np.int64), nothing, malformed)
        self._narrow()
        rows = np.concatenate([batch.rows for batch in self._batches])
        columns = [
            pa.concat_arrays([batch.columns[place] for batch in self._batches])
            for place in range(width)
        ]
        return Batch(rows, columns, malformed)


def _below(batch: Batch, limit: np.uint64 | None) -> Batch:
    """The rows whose hashes do not pass a limit."""
    if limit is None:
        return batch
    keep = _hashes(batch.rows) <= limit
    mask = to_arrow(keep)
    columns = [None if column is None else column.filter(mask) for column in batch.columns]
    return Batch(batch.rows[keep], columns, batch.malformed)


def _hashes(rows: np.ndarray) -> np.ndarray:
    """A hash of each row number, different for different ones."""
    mixed = rows.astype(np.uint64) * _GOLDEN
    mixed ^= mixed >> np.uint64(31)
    mixed *= _OTHER
    mixed ^= mixed >> np.uint64(29)
    return mixed

"""Some rows of a table, each with the same chance: those whose numbers have the smallest hashes, so
a sample repeats exactly."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.sets import member
from gravel.sources.source import Batch, Source, scan

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)
_OTHER = np.uint64(0xD6E8FEB86659FD93)


@dataclass(frozen=True)
class Chosen:
    """The chosen source rows, ascending, and how many there are to choose from."""

    rows: np.ndarray
    of: int

    def of_batch(self, batch: Batch) -> Batch:
        """The chosen rows of a batch."""
        keep = member(batch.rows, self.rows)
        mask = pa.array(keep)
        columns: list[Any] = [
            None if column is None else column.filter(mask) for column in batch.columns
        ]
        return Batch(batch.rows[keep], columns, batch.malformed)


def choose(table: Source, count: int) -> Chosen:
    """Choose rows, in a pass that counts them."""
    numbers = list(scan(table, lambda batch: batch.rows, []))
    rows = np.concatenate(numbers) if numbers else np.zeros(0, np.int64)
    mixed = rows.astype(np.uint64) * _GOLDEN
    mixed ^= mixed >> np.uint64(31)
    mixed *= _OTHER
    mixed ^= mixed >> np.uint64(29)
    if len(rows) <= count:
        return Chosen(rows, len(rows))
    chosen = np.argpartition(mixed, count)[:count]
    return Chosen(np.sort(rows[chosen]), len(rows))

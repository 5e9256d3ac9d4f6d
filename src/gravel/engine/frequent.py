"""The most frequent values of some columns, with their texts: distinct hashes, and the texts of
likely winners."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.distinct import Counted, counted
from gravel.kernels.arrays import to_arrow

_LIKELY = 24


class FrequentPart(Struct, frozen=True):
    """A batch's distinct values, and by its first row there the texts of each of the most frequent
    ones."""

    values: Counted
    texts: dict[int, tuple[str | None, ...]]


def frequent_part(columns: list[pa.Array], rows: np.ndarray) -> FrequentPart:
    """The state of one batch; `rows` are source row numbers. NULL counts as a value of its own."""
    result = counted(columns, rows)
    likely = np.arange(len(result.counts))
    if len(likely) > _LIKELY:
        # The most frequent, and of equally frequent ones the first: just what a whole table's top
        # would take.
        rank = result.counts - (result.rows - result.rows.min()) / (
            float(np.ptp(result.rows)) + 1.0
        )
        likely = np.argpartition(-rank, _LIKELY)[:_LIKELY]
    first = result.rows[likely]
    where = to_arrow(np.searchsorted(rows, first))
    texts = zip(*(column.take(where).to_pylist() for column in columns), strict=True)
    return FrequentPart(result, dict(zip(first.tolist(), texts, strict=True)))

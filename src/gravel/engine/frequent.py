"""The most frequent values of some columns, with their texts: distinct hashes, and texts of likely winners."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.distinct import Counted, Distinct, counted, counted_once

_LIKELY = 24


@dataclass(frozen=True)
class FrequentPart:
    """A batch's distinct values, and the texts of its most frequent ones by hash."""

    values: Counted
    texts: dict[int, tuple[str | None, ...]]


def frequent_part(columns: list[Any], rows: np.ndarray, counts: np.ndarray | None = None) -> FrequentPart:
    """The state of one batch; `rows` are source row numbers. NULL counts as a value of its own. With `counts` the values
    are distinct already and `rows` are the first that hold them."""
    found = counted(columns, rows) if counts is None else counted_once(columns, counts, rows)
    likely = np.arange(len(found.counts))
    if len(likely) > _LIKELY:
        # The most frequent, and of equally frequent ones the first: just what a whole table's top would take.
        rank = found.counts - (found.rows - found.rows.min()) / (float(np.ptp(found.rows)) + 1.0)
        likely = np.argpartition(-rank, _LIKELY)[:_LIKELY]
    order = None if counts is None else np.argsort(rows)
    at = np.searchsorted(rows, found.rows[likely], sorter=order)
    where = pa.array(at if order is None else order[at])
    texts = [column.take(where).to_pylist() for column in columns]
    return FrequentPart(found, {int(found.first[i]): tuple(column[at] for column in texts) for at, i in enumerate(likely)})


class Frequent:
    """Distinct values of a whole table and the texts of the most frequent."""

    def __init__(self) -> None:
        self.distinct = Distinct()
        self._texts: dict[int, tuple[str | None, ...]] = {}

    def add(self, part: FrequentPart) -> None:
        """Take in a batch's state."""
        self.distinct.add(part.values)
        for key, texts in part.texts.items():
            self._texts.setdefault(key, texts)

    def top(
        self, count: int, look_up: Callable[[list[int]], dict[int, tuple[str | None, ...]]]
    ) -> list[tuple[tuple[str | None, ...], int]]:
        """(texts, rows) of the most frequent values, ties by first row. `look_up` gives the texts in some source rows,
        for the rare winner that was nowhere among a batch's own."""
        found = self.distinct.result
        best = self.distinct.top(count)
        by_row = {int(row): int(first) for row, first in zip(found.rows, found.first, strict=True)} if len(found.rows) < 1000 else {}
        keys = [by_row[row] if by_row else int(found.first[int(np.flatnonzero(found.rows == row)[0])]) for row, _ in best]
        missing = [row for (row, _), key in zip(best, keys, strict=True) if key not in self._texts]
        others = look_up(missing) if missing else {}
        return [(self._texts.get(key) or others[row], rows) for (row, rows), key in zip(best, keys, strict=True)]

"""The most frequent values of some columns, with their texts: distinct hashes, and texts of likely
winners."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from gravel.engine.distinct import Counted, Distinct, counted

_LIKELY = 24


@dataclass(frozen=True)
class FrequentPart:
    """A batch's distinct values, and the texts of its most frequent ones by hash."""

    values: Counted
    texts: dict[int, tuple[str | None, ...]]


def frequent_part(
    columns: list[pa.Array], rows: np.ndarray, counts: np.ndarray | None = None
) -> FrequentPart:
    """The state of one batch; `rows` are source row numbers. NULL counts as a value of its own.
    With `counts` the values are distinct already and `rows` are the first that hold them."""
    result = counted(columns, rows, counts)
    likely = np.arange(len(result.counts))
    if len(likely) > _LIKELY:
        # The most frequent, and of equally frequent ones the first: just what a whole table's top
        # would take.
        rank = result.counts - (result.rows - result.rows.min()) / (
            float(np.ptp(result.rows)) + 1.0
        )
        likely = np.argpartition(-rank, _LIKELY)[:_LIKELY]
    order = None if counts is None else np.argsort(rows)
    position = np.searchsorted(rows, result.rows[likely], sorter=order)
    where = pa.array(position if order is None else order[position])
    texts = [column.take(where).to_pylist() for column in columns]
    return FrequentPart(
        result,
        {
            int(result.first[i]): tuple(column[index] for column in texts)
            for index, i in enumerate(likely)
        },
    )


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
        """(texts, rows) of the most frequent values, ties by first row. `look_up` gives the texts
        in some source rows, for the rare winner that was nowhere among a batch's own."""
        matches = self.distinct.result
        best = self.distinct.top(count)
        by_row = (
            {int(row): int(first) for row, first in zip(matches.rows, matches.first, strict=True)}
            if len(matches.rows) < 1000
            else {}
        )
        keys = [
            (
                by_row[row]
                if by_row
                else int(matches.first[int(np.flatnonzero(matches.rows == row)[0])])
            )
            for row, _ in best
        ]
        missing = [row for (row, _), key in zip(best, keys, strict=True) if key not in self._texts]
        others = look_up(missing) if missing else {}
        return [
            (self._texts.get(key) or others[row], rows)
            for (row, rows), key in zip(best, keys, strict=True)
        ]

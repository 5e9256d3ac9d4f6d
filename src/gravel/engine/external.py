"""Sorting record batches that may be larger than the memory they are given: runs in temporary
files, then a merge."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.spill_file import open_spill_file, spill_problem
from gravel.kernels.arrays import to_arrow

_SLICE = 1 << 14  # rows of a batch in a run
OUT = 1 << 16  # rows of a batch that comes out
Order = Callable[[Any], np.ndarray]


def sorted_batches(batches: Iterable[Any], order: Order, memory: int) -> Iterator[Any]:
    """The rows of record batches of one schema in order, in batches of `OUT` rows whatever the
    memory. `order` gives the indices that sort a table; no two rows may tie. About `memory` bytes
    are held. Raises TableProblem where the temporary folder is full."""
    return in_even_batches(_sorted_stream(batches, order, memory))


def in_even_batches(batches: Iterable[Any]) -> Iterator[Any]:
    """The same rows in batches of `OUT`, but for the last one."""
    held: list[Any] = []
    size = 0
    for batch in batches:
        held.append(batch)
        size += batch.num_rows
        while size >= OUT:
            table = pa.Table.from_batches(held)
            yield table.slice(0, OUT).combine_chunks().to_batches()[0]
            held = table.slice(OUT).combine_chunks().to_batches()
            size -= OUT
    if size:
        yield pa.Table.from_batches(held).combine_chunks().to_batches()[0]


def _sorted_stream(batches: Iterable[Any], order: Order, memory: int) -> Iterator[Any]:
    held: list[Any] = []
    size = 0
    runs: list[_Run] = []
    try:
        for batch in batches:
            if not batch.num_rows:
                continue
            held.append(batch)
            size += batch.nbytes
            if size > memory // 3:
                runs.append(_Run(_sorted(held, order)))
                held, size = [], 0
        if not runs:
            if held:
                yield from _slices(_sorted(held, order), OUT)
            return
        if held:
            runs.append(_Run(_sorted(held, order)))
            held = []
        yield from _merged(runs, order, max(_SLICE, memory // 3 // len(runs) // runs[0].row_size))
    finally:
        for run in runs:
            run.close()


def _sorted(held: list[Any], order: Order) -> pa.Table:
    table = pa.Table.from_batches(held)
    return table.take(to_arrow(order(table)))


def _slices(table: pa.Table, rows: int) -> Iterator[Any]:
    for start in range(0, table.num_rows, rows):
        yield table.slice(start, rows).combine_chunks().to_batches()[0]


def _merged(runs: list[_Run], order: Order, rows: int) -> Iterator[Any]:
    """What is not greater than the last row at hand of every run that goes on can go out."""
    pool: Any = None
    owners = np.zeros(0, np.int64)
    waiting = set(range(len(runs)))
    while True:
        parts, tags = ([] if pool is None else [pool]), [owners]
        for position in sorted(waiting):
            more = runs[position].read(rows)
            if more is not None:
                parts.append(more)
                tags.append(np.full(more.num_rows, position))
        waiting.clear()
        if not parts:
            return
        pool, owners = pa.concat_tables(parts), np.concatenate(tags)
        if not pool.num_rows:
            return
        places = order(pool)
        owners = owners[places]
        last = len(places)
        for position, run in enumerate(runs):
            if not run.ended:
                mine = np.flatnonzero(owners == position)
                if mine[-1] + 1 < last:
                    last = int(mine[-1]) + 1
        # Each part is taken by itself: a slice of what was taken together would keep all of it.
        for start in range(0, last, OUT):
            yield (
                pool.take(to_arrow(places[start : min(start + OUT, last)]))
                .combine_chunks()
                .to_batches()[0]
            )
        pool, owners = pool.take(to_arrow(places[last:])), owners[last:]
        # Runs are read on before their rows are used up: not one by one, which would sort the
        # others' again each time.
        left = np.bincount(owners, minlength=len(runs))
        waiting = {
            index for index, run in enumerate(runs) if not run.ended and left[index] <= rows // 2
        }


class KeptRows:
    """Record batches of one schema in a temporary file, in their order; it goes with the object."""

    def __init__(self) -> None:
        self._file = open_spill_file()
        self._writer: Any = None

    def write(self, rows: pa.RecordBatch | pa.Table, most: int | None = None) -> None:
        """Keep the next rows, in batches of so many at most. Raises TableProblem where the disk is
        full."""
        try:
            if self._writer is None:
                self._writer = pa.ipc.new_stream(self._file, rows.schema)
            if isinstance(rows, pa.Table):
                self._writer.write_table(rows, max_chunksize=most)
            else:
                self._writer.write_batch(rows)
            self._file.flush()
        except OSError as error:
            raise spill_problem(error) from None

    def batches(self) -> Iterator[pa.RecordBatch]:
        """All of them from the start, once all are written; one reader at a time."""
        if self._writer is None:
            return
        self._writer.close()
        self._file.seek(0)
        yield from pa.ipc.open_stream(self._file)

    def close(self) -> None:
        """Give the file back."""
        self._file.close()


class _Run:
    """Sorted rows in a temporary file, read from the start in parts."""

    def __init__(self, table: pa.Table) -> None:
        self._kept = KeptRows()
        self.row_size = max(1, table.nbytes // max(1, table.num_rows))
        self._kept.write(table.combine_chunks(), _SLICE)
        self._batches = self._kept.batches()
        self.ended = False

    def read(self, rows: int) -> pa.Table | None:
        """The next rows, about so many; None at the end."""
        result, count = [], 0
        while count < rows:
            batch = next(self._batches, None)
            if batch is None:
                self.ended = True
                break
            result.append(batch)
            count += batch.num_rows
        return pa.Table.from_batches(result) if result else None

    def close(self) -> None:
        """Give the file back."""
        self._kept.close()

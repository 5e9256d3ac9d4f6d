"""Sorting record batches that may be larger than the memory they are given: runs in temporary
files, then a merge."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.problems import TableProblem

_SLICE = 1 << 14  # rows of a batch in a run
OUT = 1 << 16  # rows of a batch that comes out
Order = Callable[[Any], np.ndarray]


def sorted_batches(batches: Iterable[Any], order: Order, memory: int) -> Iterator[Any]:
    """The rows of record batches of one schema in order, in batches of `OUT` rows whatever the
    memory. `order` gives the indices that sort a table; no two rows may tie. About `memory` bytes
    are held. Raises TableProblem where the temporary folder is full."""
    held: list[Any] = []
    size = 0
    for batch in _sorted_stream(batches, order, memory):
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
    return table.take(pa.array(order(table)))


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
                pool.take(pa.array(places[start : min(start + OUT, last)]))
                .combine_chunks()
                .to_batches()[0]
            )
        pool, owners = pool.take(pa.array(places[last:])), owners[last:]
        # Runs are read on before their rows are used up: not one by one, which would sort the
        # others' again each time.
        left = np.bincount(owners, minlength=len(runs))
        waiting = {
            index for index, run in enumerate(runs) if not run.ended and left[index] <= rows // 2
        }


class _Run:
    """Sorted rows in a temporary file, read from the start in parts."""

    def __init__(self, table: pa.Table) -> None:
        # It lives as long as the object.
        self._file = tempfile.TemporaryFile(prefix="gravel-")  # noqa: SIM115
        self.row_size = max(1, table.nbytes // max(1, table.num_rows))
        try:
            with pa.ipc.new_stream(self._file, table.schema) as writer:
                writer.write_table(table.combine_chunks(), max_chunksize=_SLICE)
            self._file.flush()
        except OSError as error:
            raise TableProblem(
                f"what does not fit in memory cannot be kept in {tempfile.gettempdir()}:"
                f" {(error.strerror or str(error)).lower()}",
                hint=(
                    "give more memory with --memory, or another folder with the environment's"
                    " TMPDIR"
                ),
            ) from None
        self._file.seek(0)
        self._reader: Any = None
        self.ended = False

    def read(self, rows: int) -> pa.Table | None:
        """The next rows, about so many; None at the end."""
        if self._reader is None:
            self._reader = pa.ipc.open_stream(self._file)
        result, count = [], 0
        while count < rows:
            try:
                result.append(self._reader.read_next_batch())
            except StopIteration:
                self.ended = True
                break
            count += result[-1].num_rows
        return pa.Table.from_batches(result) if result else None

    def close(self) -> None:
        """Give the file back."""
        self._file.close()

"""How rows go from one run of work on batches to the next where all of them matter: put in another
order, decided on in groups, or brought to one place. They are record batches of one schema here."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.external import OUT, Order, sorted_batches

PLACE = "place"  # the column that tells where a row stood among those that came
HASH = "hash"
Take = Callable[[Any], None]


@dataclass(frozen=True)
class SortedRows:
    """Rows in the order of some columns. `order`: the indices that sort a table of these and their
    places, which tell equal rows apart. It pickles."""

    columns: tuple[str, ...]
    order: Order

    def arranged(self, batches: Iterable[Any], take: Take, memory: int) -> Iterator[Any]:
        """See Arrangement."""
        return sorted_batches(placed(batches), self.order, memory)


@dataclass(frozen=True)
class GroupedRows:
    """Rows in the order they came in, once those whose hashes are equal were decided on together.
    `decide`: what becomes of all rows of some hashes, which pickles; and what is to be told of
    them."""

    decide: Callable[[pa.RecordBatch], tuple[pa.RecordBatch, Any]]

    def arranged(self, batches: Iterable[Any], take: Take, memory: int) -> Iterator[Any]:
        """See Arrangement. At once where all fit; else sorted by hash, and sorted back."""
        waiting = placed(batches)
        held: list[Any] = []
        size = 0
        for batch in waiting:
            held.append(batch)
            size += batch.nbytes
            if size > memory // 3:
                break
        else:
            groups = [pa.Table.from_batches(held)] if held else []
            held = []
            for rows in self._decided(groups, take):
                for start in range(0, rows.num_rows, OUT):
                    yield rows.slice(start, OUT)
            return

        def every() -> Iterator[Any]:
            while held:
                yield held.pop(0)
            yield from waiting

        sorted_rows = sorted_batches(every(), by_hash, memory // 3)
        decided = self._decided(_whole_groups(sorted_rows, memory // 12), take)
        yield from sorted_batches(decided, by_place, memory // 3)

    def _decided(self, groups: Iterable[pa.Table], take: Take) -> Iterator[pa.RecordBatch]:
        for group in groups:
            for batch in group.combine_chunks().to_batches():
                rows, part = self.decide(batch)
                take(part)
                yield rows


@dataclass(frozen=True)
class GatheredRows:
    """What is made of all rows on this machine."""

    work: Callable[[Iterator[Any]], Iterator[Any]]

    def arranged(self, batches: Iterable[Any], take: Take, memory: int) -> Iterator[Any]:
        """See Arrangement."""
        return self.work(iter(batches))


Arrangement = SortedRows | GroupedRows | GatheredRows


def placed(batches: Iterable[Any]) -> Iterator[Any]:
    """Rows with their places, counted from 0."""
    seen = 0
    for batch in batches:
        yield with_columns(batch, {PLACE: pa.array(np.arange(seen, seen + batch.num_rows))})
        seen += batch.num_rows


def with_columns(batch: pa.RecordBatch, columns: dict[str, Any]) -> pa.RecordBatch:
    """A record batch with more columns."""
    return pa.record_batch([*batch.columns, *columns.values()], [*batch.schema.names, *columns])


def by_hash(table: pa.Table) -> np.ndarray:
    """The indices that sort rows by their hashes, those of one by their places."""
    order: np.ndarray = np.lexsort((table[PLACE].to_numpy(), table[HASH].to_numpy()))
    return order


def by_place(table: pa.Table) -> np.ndarray:
    """The indices that bring rows back to their order."""
    order: np.ndarray = np.argsort(table[PLACE].to_numpy(), kind="stable")
    return order


def _whole_groups(batches: Iterable[Any], size: int) -> Iterator[pa.Table]:
    """Batches sorted by hash, put together so that no group is cut."""
    held: list[Any] = []
    held_size = 0
    for batch in batches:
        held.append(batch)
        held_size += batch.nbytes
        if held_size < size:
            continue
        table = pa.Table.from_batches(held)
        hashed = table[HASH].to_numpy()
        cut = int(np.searchsorted(hashed, hashed[-1]))
        if cut:
            yield table.slice(0, cut)
            held = table.slice(cut).combine_chunks().to_batches()
            held_size = sum(item.nbytes for item in held)
    if held:
        yield pa.Table.from_batches(held)

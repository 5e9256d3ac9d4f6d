"""How rows go from one run of work on batches to the next where all of them matter: put in another
order, decided on in groups, or brought to one place. They are record batches of one schema here."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import cached_property
from itertools import chain
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.external import OUT, KeptRows, Order, in_even_batches, sorted_batches
from gravel.kernels.arrays import to_arrow
from gravel.problems import TableProblem

PLACE = "place"  # the column that tells where a row stood among those that came
HASH = "hash"
Take = Callable[[Any], None]
_MOST = 3 << 30  # bytes of memory that groups are decided on in: a third of it is one array at most


class SortedRows(Struct, frozen=True):
    """Rows in the order of some columns. `order`: the indices that sort a table of these and their
    places, which tell equal rows apart. It pickles."""

    columns: tuple[str, ...]
    order: Order

    def arranged(self, batches: Iterable[Any], take: Take, memory: int) -> Iterator[Any]:
        """See Arrangement."""
        return sorted_batches(placed(batches), self.order, memory)


class GroupedRows(Struct, frozen=True):
    """Rows in the order they came in, once those whose hashes are equal were decided on together.
    `decide`: what becomes of all rows of some hashes, which pickles; and what is to be told of
    them."""

    decide: Callable[[pa.RecordBatch], tuple[pa.RecordBatch, Any]]

    def arranged(self, batches: Iterable[Any], take: Take, memory: int) -> Iterator[Any]:
        """See Arrangement. At once where all fit; else all are kept in a file, and those whose hash
        is there twice are sorted by it, decided on, sorted back, and put between the others."""
        waiting = placed(batches)
        memory = min(memory, _MOST)
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

        kept, hashes = KeptRows(), _SeenHashes(memory // 8)
        for batch in chain(_emptied(held), waiting):
            kept.write(batch)
            hashes.add(batch.column(HASH).to_numpy())
        yield from in_even_batches(self._apart(kept, hashes, take, memory))
        kept.close()

    def _apart(
        self, kept: KeptRows, hashes: _SeenHashes, take: Take, memory: int
    ) -> Iterator[pa.RecordBatch]:
        repeated = (
            batch.filter(to_arrow(hashes.repeated(batch.column(HASH).to_numpy())))
            for batch in kept.batches()
        )
        groups = _whole_groups(sorted_batches(repeated, by_hash, memory // 3), memory // 12)
        decided = sorted_batches(self._decided(groups, take), by_place, memory // 3)
        if hashes.most:
            yield from decided
            return
        following = next(decided, None)  # all were read for it
        for batch in kept.batches():
            if not batch.num_rows:
                continue
            single = batch.filter(to_arrow(~hashes.repeated(batch.column(HASH).to_numpy())))
            parts = list(self._decided([pa.Table.from_batches([single])], take))
            last = batch.column(PLACE)[-1].as_py()
            while following is not None and following.column(PLACE)[0].as_py() <= last:
                places = following.column(PLACE).to_numpy()
                cut = int(np.searchsorted(places, last, side="right"))
                parts.append(following.slice(0, cut))
                following = following.slice(cut) if cut < len(places) else next(decided, None)
            rows = pa.Table.from_batches(parts)
            yield rows.take(to_arrow(by_place(rows))).combine_chunks().to_batches()[0]

    def _decided(self, groups: Iterable[pa.Table], take: Take) -> Iterator[pa.RecordBatch]:
        for group in groups:
            batches = group.combine_chunks().to_batches()
            if len(batches) > 1:  # Arrow's arrays of texts end at 2 GB, and a group is not cut
                raise TableProblem("rows that are equal in what they are grouped by exceed 2 GB")
            for batch in batches:
                rows, part = self.decide(batch)
                take(part)
                yield rows


class GatheredRows(Struct, frozen=True):
    """What is made of all rows on this machine."""

    work: Callable[[Iterator[Any]], Iterator[Any]]

    def arranged(self, batches: Iterable[Any], take: Take, memory: int) -> Iterator[Any]:
        """See Arrangement."""
        return self.work(iter(batches))


Arrangement = SortedRows | GroupedRows | GatheredRows


class _SeenHashes:
    """Which hashes were seen several times, for sure all of these, in so many bytes: others may be
    taken for one of them."""

    def __init__(self, memory: int) -> None:
        self._times = np.zeros(1 << max(16, memory.bit_length() - 1), np.uint8)
        self._count = 0

    @cached_property
    def most(self) -> bool:
        """Whether most were seen several times, once all were; then all are taken for these."""
        return bool(2 * np.count_nonzero(self._times) < self._count)

    def add(self, hashes: np.ndarray) -> None:
        """Take in some."""
        self._count += len(hashes)
        places = np.sort(self._places(hashes))
        seen = self._times[places] > 0
        seen[1:] |= places[1:] == places[:-1]
        self._times[places] = 1
        self._times[places[seen]] = 2

    def repeated(self, hashes: np.ndarray) -> np.ndarray:
        """Which of some hashes were, or may have been, seen several times."""
        if self.most:
            return np.ones(len(hashes), bool)
        several: np.ndarray = self._times[self._places(hashes)] == 2
        return several

    def _places(self, hashes: np.ndarray) -> np.ndarray:
        return (hashes & np.uint64(len(self._times) - 1)).astype(np.int64)


def _emptied(batches: list[Any]) -> Iterator[Any]:
    """Batches, none of which is held any more once it was handed on."""
    while batches:
        yield batches.pop(0)


def placed(batches: Iterable[Any]) -> Iterator[Any]:
    """Rows with their places, counted from 0."""
    seen = 0
    for batch in batches:
        yield with_columns(batch, {PLACE: to_arrow(np.arange(seen, seen + batch.num_rows))})
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

"""Distinct values and how often each occurs: a state for each batch, an associative merge, a
result."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct

from gravel.engine.hashing import combined
from gravel.engine.spill import Runs
from gravel.kernels.hashes import ascending, distinct_hashes

_COMPACT = 1 << 20


class Counted(Struct):
    """Distinct values by hash, ascending: a second hash to tell two values of one hash apart, the
    rows that hold each, and the first row that does. `extra` are further arrays of what depends on
    the value alone."""

    first: np.ndarray
    second: np.ndarray
    counts: np.ndarray
    rows: np.ndarray
    extra: tuple[np.ndarray, ...] = ()

    @property
    def arrays(self) -> tuple[np.ndarray, ...]:
        """All of them, in order."""
        return (self.first, self.second, self.counts, self.rows, *self.extra)


def counted(
    columns: list[pa.Array],
    rows: np.ndarray,
    counts: np.ndarray | None = None,
    first: np.ndarray | None = None,
    extra: tuple[np.ndarray, ...] = (),
) -> Counted:
    """The distinct combinations of some columns in one batch; `rows` are row numbers, `counts` the
    rows that each stands for (None: one). `first` may be a hash that the caller has made: it must
    depend on the values alone."""
    first = combined(columns) if first is None else first
    return counted_hashes(first, combined(columns, second=True), rows, counts, extra)


def counted_hashes(
    first: np.ndarray,
    second: np.ndarray,
    rows: np.ndarray,
    counts: np.ndarray | None = None,
    extra: tuple[np.ndarray, ...] = (),
) -> Counted:
    """The state of rows of which two independent hashes are known."""
    if counts is None:
        counts = np.ones(len(first), np.int64)
    pairs = distinct_hashes(first, second, counts, rows.astype(np.int64, copy=False))
    own = tuple(item[pairs.places] for item in extra)
    return Counted(pairs.first, pairs.second, pairs.counts, pairs.rows, own)


class Room:
    """How many distinct values several Distincts may hold in memory together: the largest goes to a
    file when it is short."""

    def __init__(self, values: int) -> None:
        self.values = values
        self._members: list[Distinct] = []
        self._held = 0

    def __reduce__(self) -> Any:
        return Room, (self.values,)

    @property
    def in_memory(self) -> bool:
        """Whether nothing of its members has gone to a file."""
        return all(member.in_memory for member in self._members)

    def join(self, member: Distinct) -> None:
        """A new Distinct shares the room."""
        self._members.append(member)

    def grown(self, values: int) -> None:
        """A member holds so many values more (fewer, if negative)."""
        self._held += values
        while self._held > self.values:
            largest = max(self._members, key=lambda item: item.held)
            if largest.held < 2:
                return
            largest.spill()


class Distinct:
    """Distinct values of a whole table, gathered batch by batch in any order. Values are told apart
    by two hashes: of n different values two share both with a chance of n^2 / 2^128.

    With a `room` no more values are held than it has: sorted runs of them go to a temporary file,
    and are merged one range of hashes at a time. The counts stay exact."""

    def __init__(self, room: Room | None = None) -> None:
        self._parts: list[Counted] = []
        self.held = 0
        self._compact_at = _COMPACT
        self._room = room
        self._runs: Runs | None = None
        self._length: int | None = None
        if room is not None:
            room.join(self)

    def __reduce__(self) -> Any:
        """It goes elsewhere empty: its values are not for one place."""
        return Distinct, (self._room,)

    def add(self, part: Counted) -> None:
        """Take in a batch's values. Raises TableProblem where the disk is full."""
        if not len(part.first):
            return
        self._parts.append(part)
        self._length = None
        self._hold(self.held + len(part.first))
        if self.held > self._compact_at:
            self._compact()
            self._compact_at = max(_COMPACT, 2 * self.held)

    def _hold(self, values: int) -> None:
        grown, self.held = values - self.held, values
        if self._room is not None:
            self._room.grown(grown)

    def _compact(self) -> None:
        if len(self._parts) > 1:
            self._parts = [_joined(self._parts)]
        self._hold(sum(len(part.first) for part in self._parts))

    def spill(self) -> None:
        """Put what is held into a file. Raises TableProblem where the disk is full."""
        if not self._parts:
            return
        if len(self._parts) > 1:
            self._parts = [_joined(self._parts)]
        if self._runs is None:
            self._runs = Runs()
        self._runs.write(self._parts[0].arrays)
        self._parts = []
        self._hold(0)

    def settled(self) -> bool:
        """Whether it is all in memory, put together: then several threads may read it."""
        self._compact()
        return self._runs is None

    @property
    def in_memory(self) -> bool:
        """Whether none of it has gone to a file."""
        return self._runs is None

    @property
    def result(self) -> Counted:
        """All distinct values at once."""
        pieces = list(self.pieces())
        if len(pieces) == 1:
            return pieces[0]
        return (
            _joined(pieces)
            if pieces
            else Counted(
                np.zeros(0, np.uint64),
                np.zeros(0, np.uint64),
                np.zeros(0, np.int64),
                np.zeros(0, np.int64),
            )
        )

    def pieces(self) -> Iterator[Counted]:
        """All distinct values, a range of hashes at a time, ascending."""
        self._compact()
        if self._runs is None:
            yield from self._parts
            return
        held = [part.arrays for part in self._parts]
        for columns in self._runs.ranges(
            held, max(1, self._room.values // 8 if self._room else _COMPACT)
        ):
            first, second, counts, rows, *extra = columns
            yield counted_hashes(first, second, rows, counts, tuple(extra))

    def __len__(self) -> int:
        if self._length is None:
            self._length = sum(len(piece.first) for piece in self.pieces())
        return self._length

    def top(self, count: int) -> list[tuple[int, int]]:
        """(first row, rows) of the most frequent values; ties by first row."""
        return whole_top(count, (range_top(count, piece) for piece in self.pieces())).best


class Top(Struct, frozen=True):
    """How many distinct values there are; (first row, rows) of the most frequent, ties by first
    row."""

    distinct: int
    best: list[tuple[int, int]]


def range_top(count: int, piece: Counted) -> Top:
    """Of a range of hashes."""
    return Top(len(piece.first), top_rows(piece.counts, piece.rows, count))


def whole_top(count: int, ranges: Iterable[Top]) -> Top:
    """Of all ranges."""
    parts = list(ranges)
    best = sorted((item for part in parts for item in part.best), key=lambda x: (-x[1], x[0]))
    return Top(sum(part.distinct for part in parts), best[:count])


def range_size(piece: Counted) -> int:
    """How many distinct values there are in a range of hashes."""
    return len(piece.first)


class RekeyedValues:
    """Distinct values with other hashes, by ranges of these; those of one hash stay apart."""

    def __init__(self, values: Distinct, rekeyed: Callable[[Counted], Counted]) -> None:
        self._values, self._rekeyed = values, rekeyed

    def __len__(self) -> int:
        return len(self._values)

    def settled(self) -> bool:
        """See Distinct."""
        return self._values.settled()

    def pieces(self) -> Iterator[Counted]:
        """All values, a range of the new hashes at a time; within a range in no order."""
        if self._values.in_memory:
            yield from map(self._rekeyed, self._values.pieces())
            return
        runs = Runs()
        for piece in map(self._rekeyed, self._values.pieces()):
            order = ascending(piece.first)
            runs.write([array[order] for array in piece.arrays])
        for first, second, counts, rows, *extra in runs.ranges([], _COMPACT):
            yield Counted(first, second, counts, rows, tuple(extra))


def _joined(parts: list[Counted]) -> Counted:
    first, second, counts, rows, *extra = [
        np.concatenate(columns) for columns in zip(*(part.arrays for part in parts), strict=True)
    ]
    return counted_hashes(first, second, rows, counts, tuple(extra))


def top_rows(counts: np.ndarray, rows: np.ndarray, count: int) -> list[tuple[int, int]]:
    """(row, count) of the greatest counts; ties by row."""
    if len(counts) > max(10_000, count):
        least = np.partition(counts, -count)[-count]
        chosen = np.flatnonzero(counts > least)
        ties = np.flatnonzero(counts == least)
        if len(ties) > count:
            ties = ties[np.argpartition(rows[ties], count)[:count]]
        chosen = np.concatenate([chosen, ties])
    else:
        chosen = np.arange(len(counts))
    order = chosen[np.lexsort((rows[chosen], -counts[chosen]))][:count]
    return [(int(rows[i]), int(counts[i])) for i in order]

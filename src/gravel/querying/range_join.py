"""The join of two large tables: their rows are cut by a hash of what it compares, and those of a
range of hashes are joined, asked the WHERE, and grouped, wherever that is."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.hashing import combined
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.functions.ordering import sortable
from gravel.language.types import TEXT, Type
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.group_states import PartialGroups
from gravel.querying.joined_rows import loosened
from gravel.querying.recording import Event, RecordingAccount
from gravel.querying.relation import Relation, as_type
from gravel.querying.scan_work import (
    Partners,
    ReadColumns,
    ScanWork,
    evaluator_for,
    joining_for,
    numbered,
    partners_in,
)
from gravel.sources.source import Batch, Malformed

_BEHIND = 1 << 62  # the place of the first row that has none on the left
_ODD = np.uint64(0x9E3779B97F4A7C15)  # spreads row numbers


class RowsOfSide(Struct, frozen=True):
    """Rows of one side of a join: their hashes, numbers and columns."""

    hashes: np.ndarray
    rows: np.ndarray
    columns: tuple[pa.Array, ...]

    @classmethod
    def end_to_end(cls, parts: Sequence[RowsOfSide]) -> RowsOfSide | None:
        """Those of some parts one after another."""
        if len(parts) < 2:
            return parts[0] if parts else None
        return cls(
            np.concatenate([part.hashes for part in parts]),
            np.concatenate([part.rows for part in parts]),
            tuple(map(pa.concat_arrays, zip(*(part.columns for part in parts), strict=True))),
        )

    def cut(self, ranges: int) -> list[RowsOfSide | None]:
        """The rows of each range of their hashes; None where there are none."""
        numbers = (self.hashes >> np.uint64(40)) % np.uint64(ranges)
        order = np.argsort(numbers, kind="stable")
        ends = np.cumsum(np.bincount(numbers.astype(np.int64), minlength=ranges))
        return [
            self._of_some(places) if len(places) else None for places in np.split(order, ends[:-1])
        ]

    def _of_some(self, places: np.ndarray) -> RowsOfSide:
        taken = to_arrow(places)
        columns = tuple(column.take(taken) for column in self.columns)
        return RowsOfSide(self.hashes[places], self.rows[places], columns)


class KeyedRows(Struct, frozen=True):
    """Rows of both sides of a join; see MergedByKeys."""

    left: RowsOfSide | None
    right: RowsOfSide | None

    @property
    def size(self) -> int:
        """How many there are."""
        return sum(len(side.rows) for side in (self.left, self.right) if side is not None)

    def merge(self, later: Sequence[KeyedRows]) -> KeyedRows:
        """See MergedByKeys."""
        parts = [self, *later]
        lefts = [part.left for part in parts if part.left is not None]
        rights = [part.right for part in parts if part.right is not None]
        return KeyedRows(RowsOfSide.end_to_end(lefts), RowsOfSide.end_to_end(rights))

    def cut(self, ranges: int) -> Iterator[tuple[int, KeyedRows]]:
        """See MergedByKeys."""
        none = [None] * ranges
        lefts = none if self.left is None else self.left.cut(ranges)
        rights = none if self.right is None else self.right.cut(ranges)
        for number, (left, right) in enumerate(zip(lefts, rights, strict=True)):
            if left is not None or right is not None:
                yield number, KeyedRows(left, right)


class ReadOfSide(Struct, frozen=True):
    """How many rows of a batch of a table were read, and what is malformed."""

    of_left: bool
    read: int
    malformed: tuple[Malformed, ...]


class RangeJoin(Struct, frozen=True):
    """A join, the columns that are read of its tables, and what it compares of both as a type. It
    pickles."""

    node: tree.Join
    left: ReadColumns
    right: ReadColumns
    keys: tuple[tuple[tree.Node, tree.Node, Type], ...]

    def keyed(self, batch: Batch, of_left: bool, context: QueryContext) -> RowsOfSide:
        """The rows of a batch of a side with their hashes. Rows that differ in what
        `almost_equal_keys` ignores have the same one, so that it sees them; rows with a NULL,
        which have no partner, have any."""
        columns = self.left if of_left else self.right
        over, account = columns.of(batch), RecordingAccount()
        values = []
        for left, right, kind in self.keys:
            expression = left if of_left else right
            value, _ = evaluator_for(account, context).evaluate(expression, over, {}, watched=False)
            values.append(as_type(value.spread(batch.count), kind).values)
        unknown = np.zeros(batch.count, bool)
        for item in values:
            unknown |= item.is_null().to_numpy(zero_copy_only=False)
        if [kind for *_, kind in self.keys] == [TEXT]:
            values = [loosened(values[0])]
        hashes = combined([sortable(item) for item in values])
        hashes[unknown] = batch.rows[unknown].astype(np.uint64) * _ODD
        read = tuple(batch.columns[place] for place in columns.places)
        return RowsOfSide(hashes, batch.rows, read)

    def joined(self, rows: KeyedRows, account: Account, context: QueryContext) -> Relation:
        """The rows of both sides of a range, joined; each side has their places as its last
        column, without a name."""
        left = numbered(self._side(rows.left, self.left))
        right = numbered(self._side(rows.right, self.right))
        return joining_for(account, context).join(left, right, self.node, {})

    def _side(self, rows: RowsOfSide | None, read: ReadColumns) -> Relation:
        numbers = np.zeros(0, np.int64) if rows is None else rows.rows
        places = tuple(range(len(read.names)))
        return replace(read, places=places).of(Batch(numbers, _columns(rows, read)))


class SideWork(Struct, frozen=True):
    """Work on a batch of one side of a join."""

    join: RangeJoin
    scan: ScanWork
    of_left: bool

    def __call__(self, batch: Batch) -> tuple[ReadOfSide, KeyedRows]:
        rows = self.join.keyed(batch, self.of_left, self.scan.context())
        sides = (rows, None) if self.of_left else (None, rows)
        read = ReadOfSide(self.of_left, batch.count, tuple(batch.malformed))
        return read, KeyedRows(*sides)


class JoinedRange(Struct, frozen=True):
    """What a range of rows has come to: what is told of it, its pairs of rows, as the numbers of
    the rows of both sides (0: none) and their columns, and what further joins have put beside
    them."""

    events: list[Event]
    left: np.ndarray
    right: np.ndarray
    columns: tuple[pa.Array, ...]
    partners: tuple[Partners, ...]


class RangeWork(Struct, frozen=True):
    """Work on the rows of both sides whose hashes are in a range: what becomes of them after the
    join is `scan`'s."""

    join: RangeJoin
    scan: ScanWork

    def rows_of(self, rows: KeyedRows) -> JoinedRange:
        """The pairs that go on."""
        account = RecordingAccount()
        over = self._over(rows, account)
        over = over if self.scan.first is None else self.scan.first.of(over)
        lefts, rights = self._places(over)
        columns = [
            column.take(pa.array(places, mask=places < 0))
            for side, read, places in (
                (rows.left, self.join.left, lefts),
                (rows.right, self.join.right, rights),
            )
            for column in _columns(side, read)
        ]
        return JoinedRange(
            account.events,
            _numbers(rows.left, lefts),
            _numbers(rows.right, rights),
            tuple(columns),
            self.scan.partners_of(over),
        )

    def groups_of(self, rows: KeyedRows) -> tuple[list[Event], PartialGroups]:
        """What is told of the rows, and their groups."""
        account = RecordingAccount()
        over = self._over(rows, account)
        places = None
        if self.scan.placed:
            lefts, rights = self._places(over)
            places = order_of(_numbers(rows.left, lefts), _numbers(rows.right, rights))
        groups = self.scan.grouped(over, account, places)[0]
        return account.events, groups

    def _over(self, rows: KeyedRows, account: RecordingAccount) -> Relation:
        over = self.join.joined(rows, account, self.scan.context())
        return self.scan.filtered(self.scan.joined_with_others(over, account), account)

    def _places(self, over: Relation) -> tuple[np.ndarray, np.ndarray]:
        """Where the rows of both sides stand in the range; -1: there is none."""
        end = len(over.names) - sum(join.width for join in self.scan.joins)
        width = len(self.join.right.names) + 1
        left, right = over.vectors[end - width - 1], over.vectors[end - 1]
        return partners_in(left), partners_in(right)


def order_of(left: np.ndarray, right: np.ndarray) -> np.ndarray:
    """By what pairs of rows stand in the order of a join, as far as they are of several ranges: by
    their number on the left, and after all others those that have none there."""
    return np.where(left > 0, left, _BEHIND + right.astype(np.int64))


def _columns(rows: RowsOfSide | None, read: ReadColumns) -> list[pa.Array]:
    return [pa.nulls(0, pa.string())] * len(read.names) if rows is None else [*rows.columns]


def _numbers(side: RowsOfSide | None, places: np.ndarray) -> np.ndarray:
    if side is None:
        return np.zeros(len(places), np.int64)
    return np.where(places < 0, 0, side.rows[np.maximum(places, 0)])

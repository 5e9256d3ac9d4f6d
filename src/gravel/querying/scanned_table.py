"""A table, or two that are joined, that a query works on batch by batch, and what these tell."""

from __future__ import annotations

from operator import add

import numpy as np
from msgspec import Struct, field

from gravel.language import tree
from gravel.querying.joined_rows import HeldRows, JoinedRows
from gravel.querying.partitions import flat_indices
from gravel.querying.range_join import RangeJoin, ReadOfSide
from gravel.querying.recording import Entered, Event, RecordingAccount
from gravel.querying.relation import Relation
from gravel.querying.scan_work import Partners, ScannedJoin, ScannedRows, ScannedUnnest
from gravel.sources.source import Malformed


class OtherTable(Struct, frozen=True):
    """Another large table that stands after one, and the join of both."""

    node: tree.TableReference
    join: RangeJoin


class ScannedTable(Struct, frozen=True):
    """A table that is worked on batch by batch, or with an `other` one range by range, and what
    each is joined with: with what stands `before` it, and then with others. `nothing`: none of the
    rows that come of it, with their columns; `account`: what is told of none; `places`: those
    reserved for what is told of all."""

    node: tree.TableReference
    nothing: Relation
    before: ScannedJoin | None = None
    other: OtherTable | None = None
    joins: tuple[ScannedJoin | ScannedUnnest, ...] = ()
    account: RecordingAccount = field(default_factory=RecordingAccount)
    places: tuple[int, ...] = ()

    @property
    def is_joined(self) -> bool:
        """Whether anything stands beside its rows."""
        return bool(self.no_partners) or self.other is not None

    @property
    def no_partners(self) -> list[Partners]:
        """What each join puts beside no row."""
        every = self.joins if self.before is None else (self.before, *self.joins)
        return [
            tuple(vector.values for vector in join.right.vectors)
            if isinstance(join, ScannedUnnest)
            else np.zeros(0, np.int32)
            for join in every
        ]


class ReadRows(Struct):
    """How many rows of a table were read so far, and what of it is malformed."""

    read: int = 0
    malformed: list[Malformed] = field(default_factory=list)

    def add(self, part: ScannedRows | ReadOfSide) -> None:
        """Take in what the next batch tells."""
        self.read += part.read
        self.malformed += part.malformed


class Told(Struct):
    """What the batches of a table have told so far: `account` of none of its rows, `table` how many
    were read; `other`: of the other one, where two are joined."""

    account: RecordingAccount = field(default_factory=RecordingAccount)
    table: ReadRows = field(default_factory=ReadRows)
    other: ReadRows = field(default_factory=ReadRows)

    def add(self, part: ScannedRows) -> None:
        """Take in what the next batch tells."""
        self.table.add(part)
        self.add_events(part.events)

    def add_read(self, part: ReadOfSide) -> None:
        """Take in what was read of the next batch of one of two tables."""
        (self.table if part.of_left else self.other).add(part)

    def add_events(self, events: list[Event]) -> None:
        """Take in what is told of further rows."""
        assert len(events) == len(self.account.events)
        self.account.events = list(map(add, self.account.events, events))

    @property
    def left(self) -> int:
        """How many rows the condition has left."""
        for event in reversed(self.account.events):
            if isinstance(event, Entered):
                return event.rows_out
            if isinstance(event, JoinedRows):
                return event.out
        return self.table.read

    def last_join(self) -> JoinedRows:
        """What the last of the joins has made of the rows so far."""
        return self._joins()[-1]

    def _joins(self) -> list[JoinedRows]:
        return [event for event in self.account.events if isinstance(event, JoinedRows)]

    def alone(self) -> np.ndarray:
        """The rows before the table that have no partner in it."""
        first = self._joins()[0]
        assert isinstance(first.left, HeldRows)
        return flat_indices(first.left.times == 0)

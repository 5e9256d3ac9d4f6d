"""What a query asks of one table alone, worked out while it is read, wherever that is: its WHERE,
and its groups where they are few."""

from __future__ import annotations

from collections.abc import Generator
from contextlib import closing
from operator import add
from typing import Any

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from gravel.engine.frame import view
from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.cautions.finder import ListItems
from gravel.language.errors import ErrorPolicy
from gravel.language.scope import Given
from gravel.language.types import Type
from gravel.querying.account import Account
from gravel.querying.aggregation import Aggregation, Input
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.filtering import Filtering
from gravel.querying.group_inputs import GroupInputs, Keys
from gravel.querying.group_states import MergedGroups, PartialGroups
from gravel.querying.grouping import Grouping, key_types
from gravel.querying.ordering import FirstRows
from gravel.querying.partitions import ROW_BYTES
from gravel.querying.recording import Entered, Event, RecordingAccount
from gravel.querying.relation import Columns, Relation, as_type, taken
from gravel.querying.set_operations import FirstOfEach
from gravel.querying.shapes import SUBQUERIES, top
from gravel.querying.tables import Tables
from gravel.sources.source import Batch, Malformed, Source, scan
from gravel.words import number_of

_ROWS, _ROWS_OF_GROUP = 50_000, 4  # so many rows show whether their batches have large groups


class ScannedRows(Struct, frozen=True):
    """What became of the rows of a batch: how many were read, what is told of them, the rows that
    go on, or the groups that they are in."""

    read: int
    malformed: tuple[Malformed, ...]
    events: list[Event]
    kept: Batch | None = None
    groups: PartialGroups | None = None


class ScanWork(Struct, frozen=True):
    """Work on a batch: a condition, which of its rows go on, and with `keys`, by their shapes, the
    groups and the states of their aggregates. `columns`: those that are read, with their types,
    names and tables. It pickles."""

    text: str
    given: Given
    list_items: ListItems
    columns: tuple[int, ...]
    types: tuple[Type, ...]
    names: tuple[str, ...]
    tables: tuple[str, ...]
    where: tree.Node | None
    first: FirstRows | FirstOfEach | None = None
    keys: dict[Any, tree.Node] | None = None
    aggregates: tuple[tree.Aggregate, ...] = ()

    def __call__(self, batch: Batch) -> ScannedRows:
        vectors = [
            view(batch.columns[index], kind)
            for index, kind in zip(self.columns, self.types, strict=True)
        ]
        over = Relation(
            self.names,
            self.tables,
            self.types,
            Columns(vectors),
            batch.count,
            rows=batch.rows,
            origin=np.arange(batch.count),
        )
        account = RecordingAccount()
        over = self.filtered(over, account)
        over = over if self.first is None else self.first.of(over)
        malformed = tuple(batch.malformed)
        if self.keys is not None:
            groups = self.grouped(over, account)[0]
            return ScannedRows(batch.count, malformed, account.events, groups=groups)
        assert over.origin is not None
        keep = to_arrow(over.origin)
        columns = [None if column is None else column.take(keep) for column in batch.columns]
        kept = Batch(batch.rows[over.origin], columns, ())
        return ScannedRows(batch.count, malformed, account.events, kept)

    def filtered(self, over: Relation, account: Account) -> Relation:
        """The rows for which the condition is true."""
        if self.where is None:
            return over
        return Filtering(account, *self._tools(account)).where(self.where, over, {}, "WHERE")

    def grouped(self, over: Relation, account: Account) -> tuple[PartialGroups, Keys, list[Input]]:
        """The groups of rows, their keys, and what the aggregates are of."""
        context, expressions = self._tools(account)
        aggregation = Aggregation(account, context, expressions)
        inputs_of = GroupInputs(account, context, expressions, aggregation)
        aggregates = list(self.aggregates)
        over, keys, inputs = inputs_of.of(self.keys or {}, aggregates, over, {})
        values = [
            as_type(result, kind)
            for (result, _), kind in zip(keys.values(), key_types(keys), strict=True)
        ]
        numbers, first = codes_of([item.values for item in values], over.count)
        many = len(first) if values else 1
        states = tuple(
            aggregation.partial_state(aggregate, supplied, numbers, many)
            for aggregate, supplied in zip(aggregates, inputs, strict=True)
            if supplied.merges
        )
        heads = tuple(taken(item, first) for item in values)
        return PartialGroups(heads, many, states), keys, inputs

    def _tools(self, account: Account) -> tuple[QueryContext, ExpressionEvaluator]:
        context = QueryContext(self.text, self.given, list_items=self.list_items)
        return context, ExpressionEvaluator(account, context, _no_subqueries)


class Told(Struct):
    """What the batches of a table have told so far; `account`: of none of its rows."""

    account: RecordingAccount = field(default_factory=RecordingAccount)
    read: int = 0
    malformed: list[Malformed] = field(default_factory=list)

    def add(self, part: ScannedRows) -> None:
        """Take in what the next batch tells."""
        self.read += part.read
        self.malformed += part.malformed
        assert len(part.events) == len(self.account.events)
        self.account.events = list(map(add, self.account.events, part.events))

    @property
    def left(self) -> int:
        """How many rows the condition has left."""
        entered = [event for event in self.account.events if isinstance(event, Entered)]
        return entered[-1].rows_out if entered else self.read


class Scanning(Struct):
    """Asks of a table what can be worked out batch by batch."""

    account: Account
    context: QueryContext
    tables: Tables
    grouping: Grouping

    def rows(
        self,
        node: tree.TableReference,
        where: tree.Node | None,
        first: FirstRows | FirstOfEach | None = None,
    ) -> tuple[Relation, int]:
        """The rows of a table for which a condition is true, or those of them that are all that is
        needed; and how many it is true for."""
        table, work, nothing = self._work(node, where)
        work = replace(work, first=first)
        told = Told()
        work.filtered(nothing, told.account)
        parts = self._parts(table, work, told)
        vectors, rows = self.tables.columns_of(node, (part.kept for part in parts if part.kept))
        self.tables.note(table, number_of(len(rows)))
        return self._tell(node, told, vectors, rows), told.left

    def groups(
        self,
        node: tree.TableReference,
        select: tree.Select,
        items: list[tree.Named],
        aggregates: list[tree.Aggregate],
    ) -> tuple[Relation, dict[Any, int]] | None:
        """The groups of a table's rows; None where they are so many, or of such aggregates, that
        the rows are to come along."""
        table, work, nothing = self._work(node, select.where)
        every = self.grouping.single_set(select, nothing, items)
        set_aside = self.account.on_error is ErrorPolicy.SET_ASIDE
        if every is None or set_aside or top((*every.values(), *aggregates), SUBQUERIES):
            return None
        work = replace(work, keys=every, aggregates=tuple(aggregates))
        told = Told()
        none, keys, inputs = work.grouped(work.filtered(nothing, told.account), told.account)
        if not all(supplied.merges for supplied in inputs):
            return None
        merged, came = MergedGroups([none]), 0  # which are not yet put together
        parts = self._parts(table, work, told)
        for part in parts:
            assert part.groups is not None
            merged.add(part.groups)
            came += part.groups.size
            few = told.left < _ROWS or came * _ROWS_OF_GROUP <= told.left
            memory = self.account.memory
            if not few or (memory is not None and merged.size > memory // ROW_BYTES):
                parts.close()
                return None
        groups = merged.finish()
        self.tables.note(table, number_of(groups.many, "group"))
        read = self._tell(node, told, *self.tables.columns_of(node, ()))
        return self.grouping.group_partially(
            select, read, every, keys, aggregates, inputs, groups, told.left
        )

    def _work(
        self, node: tree.TableReference, where: tree.Node | None
    ) -> tuple[Source, ScanWork, Relation]:
        table, wanted, nothing = self.tables.without_rows(node)
        work = ScanWork(
            self.context.text,
            replace(self.context.given, members=None),
            self.context.list_items,
            tuple(wanted),
            nothing.types,
            nothing.names,
            nothing.tables,
            where,
        )
        return table, work, nothing

    @staticmethod
    def _parts(table: Source, work: ScanWork, told: Told) -> Generator[ScannedRows, None, None]:
        with closing(scan(table, work, work.columns)) as parts:
            for part in parts:
                told.add(part)
                yield part

    def _tell(
        self, node: tree.TableReference, told: Told, vectors: list[Vector], rows: np.ndarray
    ) -> Relation:
        result = self.tables.scanned(node, vectors, rows, tuple(told.malformed), told.read)
        return replace(result, stage=told.account.tell(self.account, result))


def _no_subqueries(
    node: tree.Node, over: Relation, withs: dict[str, Relation], known: dict[Any, int]
) -> Relation:
    return over

"""What a query asks of one table, worked out while it is read, wherever that is: its joins with
small ones, its WHERE, and its groups where they are few."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from contextlib import closing
from operator import add
from typing import Any

import numpy as np
import pyarrow.compute as pc
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
from gravel.language.types import INTEGER, Type
from gravel.querying.account import Account
from gravel.querying.aggregation import Aggregation, Input
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.filtering import Filtering
from gravel.querying.from_clause import FromClause, in_full
from gravel.querying.group_inputs import GroupInputs, Keys
from gravel.querying.group_states import MergedGroups, PartialGroups
from gravel.querying.grouping import Grouping, key_types
from gravel.querying.joining import Joining, KeyValues
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
_MOST_ROWS, _MOST_BYTES = 1 << 16, 8 << 20  # of a relation that goes to each batch


class ScannedRows(Struct, frozen=True):
    """What became of the rows of a batch: how many were read, what is told of them, the rows that
    go on with their partners in each join (-1: none), or the groups that they are in."""

    read: int
    malformed: tuple[Malformed, ...]
    events: list[Event]
    kept: Batch | None = None
    partners: tuple[np.ndarray, ...] = ()
    groups: PartialGroups | None = None


class ScannedJoin(Struct, frozen=True):
    """A join of each batch with all rows of a small relation, which has their numbers as its last
    column, without a name, and `keys` as Joining knows them."""

    node: tree.Join
    right: Relation
    keys: KeyValues

    def to_send(self) -> ScannedJoin:
        """As it is needed where batches are."""
        right = replace(self.right, rows=None, origin=None, plain=(), unread=(), stage=None)
        return replace(self, right=right)


class ScannedTable(Struct, frozen=True):
    """A table that is worked on batch by batch, and what each is joined with. `nothing`: none of
    the rows that come of it, with their columns; `account`: what is told of none; `places`: those
    that are reserved for what is told of all."""

    node: tree.TableReference
    nothing: Relation
    joins: tuple[ScannedJoin, ...] = ()
    account: RecordingAccount = field(default_factory=RecordingAccount)
    places: tuple[int, ...] = ()


class ScanWork(Struct, frozen=True):
    """Work on a batch: joins, a condition, which rows go on, and with `keys`, by their shapes, the
    groups and the states of their aggregates. `columns`: those that are read, with their types,
    names and tables. It pickles."""

    text: str
    given: Given
    list_items: ListItems
    columns: tuple[int, ...]
    types: tuple[Type, ...]
    names: tuple[str, ...]
    tables: tuple[str, ...]
    joins: tuple[ScannedJoin, ...]
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
        over = self.filtered(self._joined(over, account), account)
        over = over if self.first is None else self.first.of(over)
        malformed = tuple(batch.malformed)
        if self.keys is not None:
            groups = self.grouped(over, account)[0]
            return ScannedRows(batch.count, malformed, account.events, groups=groups)
        assert over.origin is not None
        keep = to_arrow(over.origin)
        columns = [None if column is None else column.take(keep) for column in batch.columns]
        kept = Batch(batch.rows[over.origin], columns, ())
        return ScannedRows(batch.count, malformed, account.events, kept, self._partners(over))

    def _joined(self, over: Relation, account: Account) -> Relation:
        joining = joining_with(account, *self._tools(account))
        for join in self.joins:
            over = joining.join(over, join.right, join.node, {}, join.keys)
        return over

    def _partners(self, over: Relation) -> tuple[np.ndarray, ...]:
        numbers, end = [], len(over.names)  # the columns of a join come after those before it
        for join in reversed(self.joins):
            values = over.vectors[end - 1].values
            numbers.append(pc.fill_null(values, -1).to_numpy().astype(np.int32))
            end -= len(join.right.names)
        return tuple(reversed(numbers))

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
        return tools_for(account, QueryContext(self.text, self.given, list_items=self.list_items))


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
    from_clause: FromClause
    joining: Joining
    grouping: Grouping

    def begin(
        self, node: tree.TableReference, joins: Sequence[tree.Join], withs: dict[str, Relation]
    ) -> tuple[ScannedTable | None, Relation | None]:
        """A table that is worked on batch by batch, and joined so, and the columns of what comes of
        it; only its rows, joined, where what it is joined with is too large for that; neither where
        it fits into memory."""
        rights = (join.right for join in joins)
        others = [self.tables.open(item) for item in rights if self.tables.is_read(item, withs)]
        set_aside = self.account.on_error is ErrorPolicy.SET_ASIDE and joins
        if set_aside or not self.tables.is_scanned(node) or self.tables.open(node) in others:
            return None, None
        over = self.tables.without_rows(node)[2]
        if not joins:
            return ScannedTable(node, over), over
        self.tables.let_come_first(node)
        account, places = RecordingAccount(), self._reserved()
        works: list[ScannedJoin] = []
        recording = joining_with(account, *tools_for(account, self._context()))
        for position, join in enumerate(joins):
            right = self.from_clause.source(join.right, withs)
            small = _small(right)
            if small is None:
                self.account.reserved = places
                rows = self.tables.table(node, withs)
                for work in works:
                    rows = self.joining.join(rows, work.right, work.node, withs)
                rows = self.joining.join(rows, right, in_full(join, rows, right), withs)
                for later in joins[position + 1 :]:
                    rows = self.from_clause.joined(rows, later, withs)
                return None, rows
            places += self._reserved()
            whole = in_full(join, over, small)
            works.append(ScannedJoin(whole, small, self.joining.right_keys(over, small, whole, {})))
            over = recording.join(over, small, whole, {})
        return ScannedTable(node, over, tuple(works), account, tuple(places)), over

    def rows(
        self,
        table: ScannedTable,
        where: tree.Node | None,
        first: FirstRows | FirstOfEach | None = None,
        most: int | None = None,
    ) -> tuple[Relation, int]:
        """The rows of a table for which a condition is true, or those of them that are all that is
        needed, or so many; and how many it is true for."""
        source, work, told = self._work(table, where)
        work = replace(work, first=first)
        work.filtered(table.nothing, told.account)
        partners: list[list[np.ndarray]] = [[np.zeros(0, np.int32)] for _ in table.joins]
        parts = self._parts(source, work, told)

        def kept() -> Iterator[Batch]:
            for part in parts:
                for numbers, further in zip(partners, part.partners, strict=True):
                    numbers.append(further)
                assert part.kept is not None
                yield part.kept
                if most is not None and told.left >= most:
                    parts.close()
                    self.tables.remark_first(table.node, told.read)

        vectors, rows = self.tables.columns_of(table.node, kept())
        self.tables.note(source, number_of(len(rows)))
        return self._tell(
            table, told, vectors, rows, list(map(np.concatenate, partners))
        ), told.left

    def groups(
        self,
        table: ScannedTable,
        select: tree.Select,
        items: list[tree.Named],
        aggregates: list[tree.Aggregate],
    ) -> tuple[Relation, dict[Any, int]] | None:
        """The groups of a table's rows; None where they are so many, or of such aggregates, that
        the rows are to come along."""
        source, work, told = self._work(table, select.where)
        every = self.grouping.single_set(select, table.nothing, items)
        set_aside = self.account.on_error is ErrorPolicy.SET_ASIDE
        if every is None or set_aside or top((*every.values(), *aggregates), SUBQUERIES):
            return None
        work = replace(work, keys=every, aggregates=tuple(aggregates))
        nothing = work.filtered(table.nothing, told.account)
        none, keys, inputs = work.grouped(nothing, told.account)
        if not all(supplied.merges for supplied in inputs):
            return None
        merged, came = MergedGroups([none]), 0  # which are not yet put together
        parts = self._parts(source, work, told)
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
        self.tables.note(source, number_of(groups.many, "group"))
        none_of_each = [np.zeros(0, np.int32)] * len(table.joins)
        read = self._tell(table, told, *self.tables.columns_of(table.node, ()), none_of_each)
        return self.grouping.group_partially(
            select, read, every, keys, aggregates, inputs, groups, told.left
        )

    def _work(self, table: ScannedTable, where: tree.Node | None) -> tuple[Source, ScanWork, Told]:
        source, wanted, nothing = self.tables.without_rows(table.node)
        context = self._context()
        work = ScanWork(
            context.text,
            context.given,
            context.list_items,
            tuple(wanted),
            nothing.types,
            nothing.names,
            nothing.tables,
            tuple(join.to_send() for join in table.joins),
            where,
        )
        account = table.account
        copied = RecordingAccount(events=[*account.events], watches=[*account.watches])
        return source, work, Told(copied)

    def _context(self) -> QueryContext:
        given = replace(self.context.given, members=None)
        return QueryContext(self.context.text, given, list_items=self.context.list_items)

    def _reserved(self) -> list[int]:
        return [] if self.account.quiet else [self.account.reserve()]

    @staticmethod
    def _parts(source: Source, work: ScanWork, told: Told) -> Generator[ScannedRows, None, None]:
        with closing(scan(source, work, work.columns)) as parts:
            for part in parts:
                told.add(part)
                yield part

    def _tell(
        self,
        table: ScannedTable,
        told: Told,
        vectors: list[Vector],
        rows: np.ndarray,
        partners: Sequence[np.ndarray],
    ) -> Relation:
        self.account.reserved = [*table.places]
        malformed = tuple(told.malformed)
        over = self.tables.scanned(table.node, vectors, rows, malformed, told.read)
        others = (join.right for join in table.joins)
        stage = told.account.tell(self.account, over, others)
        for join, numbers in zip(table.joins, partners, strict=True):
            right, alone = join.right.take(numbers), numbers < 0
            over = self.joining.beside(over, right, join.node, np.zeros(len(rows), bool), alone)
        return replace(over, stage=stage)


def tools_for(account: Account, context: QueryContext) -> tuple[QueryContext, ExpressionEvaluator]:
    """What evaluates expressions where batches are."""
    return context, ExpressionEvaluator(account, context, _no_subqueries)


def joining_with(
    account: Account, context: QueryContext, expressions: ExpressionEvaluator
) -> Joining:
    """What joins where batches are."""
    return Joining(account, context, expressions, lambda over: (over, {}))


def _small(relation: Relation) -> Relation | None:
    """A relation with its rows numbered, where it is small enough to go to each batch."""
    if relation.count > _MOST_ROWS:
        return None
    size, vectors = 0, []
    for vector in relation.vectors:
        size += vector.values.nbytes
        if size > _MOST_BYTES:
            return None
        vectors.append(vector)
    numbers = Vector(to_arrow(np.arange(relation.count)))
    return replace(relation, vectors=Columns(vectors)).with_columns([numbers], [INTEGER])


def _no_subqueries(
    node: tree.Node, over: Relation, withs: dict[str, Relation], known: dict[Any, int]
) -> Relation:
    return over

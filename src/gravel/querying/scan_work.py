"""What a query does with a batch of a table, wherever that is: it joins the rows with small
relations, asks its WHERE of them, and keeps what is needed, or groups them."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.aggregates import GroupedValues
from gravel.engine.frame import view
from gravel.engine.row_codes import codes_of
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.cautions.finder import ListItems
from gravel.language.scope import Given
from gravel.language.types import Type
from gravel.querying.account import Account
from gravel.querying.aggregation import Aggregation, Input
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.filtering import Filtering
from gravel.querying.group_inputs import GroupInputs, Keys
from gravel.querying.group_states import PartialGroups, first_places
from gravel.querying.grouping import key_types
from gravel.querying.joining import HeldKeys, Joining
from gravel.querying.ordering import FirstRows
from gravel.querying.recording import Event, RecordingAccount
from gravel.querying.relation import Columns, Relation, as_type, taken
from gravel.querying.set_operations import FirstOfEach
from gravel.sources.source import Batch, Malformed

_ROW_BITS = 44  # of a place: those of a row number


class ScannedRows(Struct, frozen=True):
    """What became of the rows of a batch: how many were read, what is told of them, the rows that
    go on with those of each relation that they are joined with (-1: none), or their groups."""

    read: int
    malformed: tuple[Malformed, ...]
    events: list[Event]
    kept: Batch | None = None
    partners: tuple[np.ndarray, ...] = ()
    groups: PartialGroups | None = None


class ScannedJoin(Struct, frozen=True):
    """A join of each batch with all rows of a small relation, which has their numbers as its last
    column, without a name."""

    node: tree.Join
    held: Relation
    keys: HeldKeys

    def to_send(self) -> ScannedJoin:
        """As it is needed where batches are; errors name the rows of the left side."""
        rows = self.held.rows if self.keys.of_left else None
        return replace(
            self, held=replace(self.held, rows=rows, origin=None, plain=(), unread=(), stage=None)
        )

    def with_batch(self, over: Relation, joining: Joining) -> Relation:
        """The rows of a batch, joined."""
        sides = (self.held, over) if self.keys.of_left else (over, self.held)
        return joining.join(*sides, self.node, {}, self.keys)


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
    before: ScannedJoin | None
    joins: tuple[ScannedJoin, ...]
    where: tree.Node | None
    first: FirstRows | FirstOfEach | None = None
    keys: dict[Any, tree.Node] | None = None
    aggregates: tuple[tree.Aggregate, ...] = ()

    def __call__(self, batch: Batch) -> ScannedRows:
        account = RecordingAccount()
        return self._rows_of(self._joined(self._columns_of(batch), account), account, batch)

    def of_alone(self, rows: np.ndarray, none: Relation) -> ScannedRows:
        """Of rows before a LEFT JOIN that no batch has a partner of; `none`: of the table."""
        assert self.before is not None
        account, missing = RecordingAccount(), np.ones(len(rows), bool)
        joining = joining_for(account, self._context())
        self.before.with_batch(none, joining)  # of them nothing more is told
        held, right = self.before.held.take(rows), none.take(np.full(len(rows), -1))
        over = joining.beside(held, right, self.before.node, ~missing, missing)
        return self._rows_of(self._joined_with_others(over, account), account, None)

    def _columns_of(self, batch: Batch) -> Relation:
        vectors = [
            view(batch.columns[index], kind)
            for index, kind in zip(self.columns, self.types, strict=True)
        ]
        return Relation(
            self.names,
            self.tables,
            self.types,
            Columns(vectors),
            batch.count,
            rows=batch.rows,
            origin=np.arange(batch.count),
        )

    def _rows_of(
        self, over: Relation, account: RecordingAccount, batch: Batch | None
    ) -> ScannedRows:
        over = self.filtered(over, account)
        over = over if self.first is None else self.first.of(over)
        if self.keys is not None:
            groups = self.grouped(over, account, self._places(over, batch))[0]
            result = ScannedRows(0, (), account.events, groups=groups)
        else:
            result = ScannedRows(0, (), account.events, partners=self._partners(over))
        if batch is None:
            return result
        kept = None
        if self.keys is None:
            assert over.origin is not None
            keep = to_arrow(over.origin)
            columns = [None if column is None else column.take(keep) for column in batch.columns]
            kept = Batch(batch.rows[over.origin], columns, ())
        return replace(result, read=batch.count, malformed=tuple(batch.malformed), kept=kept)

    def _joined(self, over: Relation, account: Account) -> Relation:
        if self.before is not None:
            over = self.before.with_batch(over, joining_for(account, self._context()))
        return self._joined_with_others(over, account)

    def _joined_with_others(self, over: Relation, account: Account) -> Relation:
        joining = joining_for(account, self._context())
        for join in self.joins:
            over = join.with_batch(over, joining)
        return over

    def _partners(self, over: Relation) -> tuple[np.ndarray, ...]:
        """Of each relation that the rows are joined with the rows beside them, in the order of
        FROM: its columns come after those before it, whatever USING puts before all."""
        numbers, end = [], len(over.names)
        for join in reversed(self.joins):
            numbers.append(_numbers(over, end - 1))
            end -= len(join.held.names)
        if self.before is not None:
            numbers.append(_numbers(over, end - len(self.names) - 1))
        return tuple(reversed(numbers))

    def _places(self, over: Relation, batch: Batch | None) -> np.ndarray | None:
        """Where rows that are joined with others before them stand among all: in the order of
        those, and then of their own."""
        if self.before is None:
            return None
        places = self._partners(over)[0].astype(np.int64) << _ROW_BITS
        return places if batch is None else places + batch.rows[over.origin]

    def filtered(self, over: Relation, account: Account) -> Relation:
        """The rows for which the condition is true."""
        if self.where is None:
            return over
        context = self._context()
        filtering = Filtering(account, context, evaluator_for(account, context))
        return filtering.where(self.where, over, {}, "WHERE")

    def grouped(
        self, over: Relation, account: Account, places: np.ndarray | None
    ) -> tuple[PartialGroups, Keys, list[Input]]:
        """The groups of rows, their keys, and what the aggregates are of. The last state is that of
        the places of the rows, where these are given."""
        context = self._context()
        expressions = evaluator_for(account, context)
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
        states = [
            aggregation.partial_state(aggregate, supplied, numbers, many)
            for aggregate, supplied in zip(aggregates, inputs, strict=True)
            if supplied.merges
        ]
        if places is not None:
            every = np.ones(len(places), bool)
            states.append(first_places(GroupedValues(numbers, many, to_arrow(places), every)))
        heads = tuple(taken(item, first) for item in values)
        return PartialGroups(heads, many, tuple(states)), keys, inputs

    def _context(self) -> QueryContext:
        return QueryContext(self.text, self.given, list_items=self.list_items)


def _numbers(over: Relation, index: int) -> np.ndarray:
    values = over.vectors[index].values
    return pc.fill_null(values, -1).to_numpy().astype(np.int32)


def evaluator_for(account: Account, context: QueryContext) -> ExpressionEvaluator:
    """What evaluates expressions where batches are."""
    return ExpressionEvaluator(account, context, _no_subqueries)


def joining_for(account: Account, context: QueryContext) -> Joining:
    """What joins where batches are."""
    return Joining(account, context, evaluator_for(account, context), lambda over: (over, {}))


def _no_subqueries(
    node: tree.Node, over: Relation, withs: dict[str, Relation], known: dict[Any, int]
) -> Relation:
    return over

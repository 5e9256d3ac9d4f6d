"""What a query does with a batch of a table, wherever that is: it joins the rows with small
relations, asks its WHERE of them, and keeps what is needed, or groups them."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.frame import view
from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.cautions.finder import ListItems
from gravel.language.scope import Given
from gravel.language.types import INTEGER, Type
from gravel.querying.account import Account
from gravel.querying.aggregation import Aggregation, Input
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.filtering import Filtering
from gravel.querying.group_inputs import GroupInputs, Keys
from gravel.querying.group_states import FirstPlaces, PartialGroups
from gravel.querying.grouping import key_types
from gravel.querying.joining import HeldKeys, Joining
from gravel.querying.ordering import FirstRows
from gravel.querying.partitions import flat_indices
from gravel.querying.recording import Event, RecordingAccount
from gravel.querying.relation import Columns, Relation, as_type, taken
from gravel.querying.set_operations import FirstOfEach
from gravel.querying.unnesting import Unnesting, unnested_by
from gravel.sources.source import Batch, Malformed

_ROW_BITS = 44  # of a place: those of a row number


# What a join has put beside some rows: numbers of the rows of a relation (-1: none), or the columns
# of UNNEST.
Partners = np.ndarray | tuple[pa.Array, ...]


class ReadColumns(Struct, frozen=True):
    """The columns that a query reads of a table: their places, types, names and tables."""

    places: tuple[int, ...]
    types: tuple[Type, ...]
    names: tuple[str, ...]
    tables: tuple[str, ...]

    def of(self, batch: Batch) -> Relation:
        """The rows of a batch."""
        vectors = [
            view(batch.columns[place], kind)
            for place, kind in zip(self.places, self.types, strict=True)
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


class ScannedRows(Struct, frozen=True):
    """What became of the rows of a batch: how many were read, what is told of them, those that go
    on, or how many groups and values of groups they are. Joins may put several rows beside one of
    the batch: `kept` has it once, `places` says where each row that goes on stands there, and
    `partners` what is beside it."""

    read: int
    malformed: tuple[Malformed, ...]
    events: list[Event]
    kept: Batch | None = None
    places: np.ndarray | None = None
    partners: tuple[Partners, ...] = ()
    many: int = 0


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

    @property
    def width(self) -> int:
        """How many columns it puts beside rows."""
        return len(self.held.names)

    def of_batch(self, over: Relation, account: Account, context: QueryContext) -> Relation:
        """The rows of a batch, joined."""
        sides = (self.held, over) if self.keys.of_left else (over, self.held)
        return joining_for(account, context).join(*sides, self.node, {}, self.keys)

    def partners(self, over: Relation, end: int) -> np.ndarray:
        """Which rows stand beside some rows, in whose columns it ends before one."""
        return partners_in(over.vectors[end - 1]).astype(np.int32)


class ScannedUnnest(Struct, frozen=True):
    """An UNNEST of what stands in the rows of each batch; `right`: its columns, without a row."""

    node: tree.Join
    right: Relation

    def to_send(self) -> ScannedUnnest:
        """As it is needed where batches are."""
        return self

    @property
    def width(self) -> int:
        """How many columns it puts beside rows."""
        return len(self.right.names)

    def of_batch(self, over: Relation, account: Account, context: QueryContext) -> Relation:
        """The rows of a batch, with items beside them."""
        unnesting = Unnesting(account, context, evaluator_for(account, context))
        return unnested_by(unnesting, over, self.node, {})

    def partners(self, over: Relation, end: int) -> tuple[pa.Array, ...]:
        """The columns that stand beside some rows, in whose columns they end before one."""
        return tuple(over.vectors[place].values for place in range(end - self.width, end))


class ScanWork(Struct, frozen=True):
    """Work on a batch: joins, a condition, and which rows go on, or by `keys`, each with its shape,
    the groups and the states of their aggregates; with `placed` also where they are first met. It
    pickles."""

    text: str
    given: Given
    list_items: ListItems
    columns: ReadColumns
    before: ScannedJoin | None
    joins: tuple[ScannedJoin | ScannedUnnest, ...]
    where: tree.Node | None
    first: FirstRows | FirstOfEach | None = None
    keys: dict[Any, tree.Node] | None = None
    aggregates: tuple[tree.Aggregate, ...] = ()
    placed: bool = False

    def __call__(self, batch: Batch) -> ScannedRows:
        account = RecordingAccount()
        return self._rows_of(self._joined(self.columns.of(batch), account), account, batch)

    def groups_of(self, batch: Batch) -> tuple[ScannedRows, PartialGroups]:
        """What is told of a batch, and its groups."""
        account = RecordingAccount()
        over = self.filtered(self._joined(self.columns.of(batch), account), account)
        groups = self.grouped(over, account, self._places(over, batch))[0]
        malformed = tuple(batch.malformed)
        return ScannedRows(batch.count, malformed, account.events, many=groups.size), groups

    def of_alone(self, rows: np.ndarray, none: Relation) -> ScannedRows:
        """Of rows before a LEFT JOIN that no batch has a partner of; `none`: of the table."""
        account = RecordingAccount()
        return self._rows_of(self._alone(rows, none, account), account, None)

    def groups_of_alone(
        self, rows: np.ndarray, none: Relation
    ) -> tuple[ScannedRows, PartialGroups]:
        """Likewise, and their groups."""
        account = RecordingAccount()
        over = self.filtered(self._alone(rows, none, account), account)
        groups = self.grouped(over, account, self._places(over, None))[0]
        return ScannedRows(0, (), account.events, many=groups.size), groups

    def _alone(self, rows: np.ndarray, none: Relation, account: Account) -> Relation:
        assert self.before is not None
        missing = np.ones(len(rows), bool)
        context = self.context()
        self.before.of_batch(none, account, context)  # of them nothing more is told
        held, right = self.before.held.take(rows), none.take(np.full(len(rows), -1))
        joining = joining_for(account, context)
        over = joining.beside(held, right, self.before.node, ~missing, missing)
        return self.joined_with_others(over, account)

    def _rows_of(
        self, over: Relation, account: RecordingAccount, batch: Batch | None
    ) -> ScannedRows:
        over = self.filtered(over, account)
        over = over if self.first is None else self.first.of(over)
        partners = self.partners_of(over)
        if batch is None:
            return ScannedRows(0, (), account.events, partners=partners)
        assert over.origin is not None
        mask = np.zeros(batch.count, bool)
        mask[over.origin] = True
        rows = flat_indices(mask)
        places = (np.cumsum(mask, dtype=np.int32) - 1)[over.origin]
        keep = to_arrow(rows)
        columns = [None if column is None else column.take(keep) for column in batch.columns]
        kept = Batch(batch.rows[rows], columns, ())
        malformed = tuple(batch.malformed)
        return ScannedRows(batch.count, malformed, account.events, kept, places, partners)

    def _joined(self, over: Relation, account: Account) -> Relation:
        if self.before is not None:
            over = self.before.of_batch(over, account, self.context())
        return self.joined_with_others(over, account)

    def joined_with_others(self, over: Relation, account: Account) -> Relation:
        """Rows, with what further joins put beside them."""
        for join in self.joins:
            over = join.of_batch(over, account, self.context())
        return over

    def partners_of(self, over: Relation) -> tuple[Partners, ...]:
        """What each join has put beside the rows, in the order of FROM: its columns come after
        those before it, whatever USING puts before all."""
        partners: list[Partners] = []
        end = len(over.names)
        for join in reversed(self.joins):
            partners.append(join.partners(over, end))
            end -= join.width
        if self.before is not None:
            partners.append(self.before.partners(over, end - len(self.columns.names)))
        return tuple(reversed(partners))

    def _places(self, over: Relation, batch: Batch | None) -> np.ndarray | None:
        """Where rows stand among all: in the order of those that they are joined with before them,
        and then of their own."""
        if not self.placed:
            return None
        if self.before is None:
            assert batch is not None
            assert over.origin is not None
            return batch.rows[over.origin]
        end = len(over.names) - len(self.columns.names) - sum(join.width for join in self.joins)
        places = self.before.partners(over, end).astype(np.int64) << _ROW_BITS
        return places if batch is None else places + batch.rows[over.origin]

    def filtered(self, over: Relation, account: Account) -> Relation:
        """The rows for which the condition is true."""
        if self.where is None:
            return over
        context = self.context()
        filtering = Filtering(account, context, evaluator_for(account, context))
        return filtering.where(self.where, over, {}, "WHERE")

    def grouped(
        self, over: Relation, account: Account, places: np.ndarray | None
    ) -> tuple[PartialGroups, Keys, list[Input]]:
        """The groups of rows, their keys, and what the aggregates are of; `places`: those of the
        rows."""
        context = self.context()
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
        rows = None if places is None else FirstPlaces(places, np.arange(len(places)))
        states = [
            aggregation.partial_state(aggregate, supplied, numbers, many, rows)
            for aggregate, supplied in zip(aggregates, inputs, strict=True)
        ]
        heads = tuple(taken(item, first) for item in values)
        first_places = None if rows is None else rows.renumbered(numbers, many)
        return PartialGroups(heads, many, tuple(states), first_places), keys, inputs

    def context(self) -> QueryContext:
        """What its expressions are evaluated in."""
        return QueryContext(self.text, self.given, list_items=self.list_items)


def numbered(relation: Relation) -> Relation:
    """A relation with the places of its rows as its last column, without a name."""
    places = Vector(to_arrow(np.arange(relation.count)))
    return relation.with_columns([places], [INTEGER])


def partners_in(column: Vector) -> np.ndarray:
    """The places of rows that a join has put beside others, -1 where it has none."""
    return pc.fill_null(column.values, -1).to_numpy()


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

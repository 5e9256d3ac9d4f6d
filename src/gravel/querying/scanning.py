"""What a query asks of one table, worked out while it is read, wherever that is: its joins with
small ones, its WHERE, and its groups where they are few."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import closing
from operator import add, attrgetter
from typing import Any, TypeGuard

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.engine import OfBatch, Reduction
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.errors import ErrorPolicy
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.from_clause import LISTED, FromClause, WhereEqualities, reads_left
from gravel.querying.group_states import FirstPlaces
from gravel.querying.group_work import FinishedGroups, GroupWork, reads_others
from gravel.querying.grouping import Grouping
from gravel.querying.joining import HeldKeys, Joining
from gravel.querying.ordering import FirstRows
from gravel.querying.partitions import ROW_BYTES
from gravel.querying.range_join import RangeJoin, RangeWork, ReadOfSide, SideWork, order_of
from gravel.querying.recording import Event, RecordingAccount
from gravel.querying.relation import Columns, Relation, end_to_end
from gravel.querying.scan_work import (
    Partners,
    ReadColumns,
    ScannedJoin,
    ScannedRows,
    ScannedUnnest,
    ScanWork,
    joining_for,
    numbered,
)
from gravel.querying.scanned_table import OtherTable, ScannedTable, Told
from gravel.querying.set_operations import FirstOfEach
from gravel.querying.shapes import SUBQUERIES, is_true, top
from gravel.querying.tables import Tables
from gravel.querying.unnesting import Unnesting, unnested_by
from gravel.sources.source import Batch, Source, scan
from gravel.words import number_of

_ROWS, _ROWS_OF_GROUP = 50_000, 4  # so many rows show whether their batches have large groups
# Of joins that each row of the large table goes through alone.
_KINDS = ("INNER", "LEFT", "CROSS", LISTED)
_MOST_ROWS, _MOST_BYTES = 1 << 16, 8 << 20  # of a relation that goes to each batch
_LARGE = 16 << 20  # bytes of a table that is hardly one of these
_MOST_WITHOUT_KEYS = 100  # of its rows, where each stands beside each row of the batch


class TooManyGroups(Exception):
    """Groups that are more than are to be held here."""


class Scanning(Struct):
    """Asks of a table what can be worked out batch by batch."""

    account: Account
    context: QueryContext
    tables: Tables
    from_clause: FromClause
    joining: Joining
    grouping: Grouping

    def begin(
        self,
        source: tree.Node,
        joins: Sequence[tree.Join],
        withs: dict[str, Relation],
        where: WhereEqualities,
    ) -> tuple[ScannedTable | None, Relation | None]:
        """The table of a FROM that is worked on batch by batch, and joined so, and the columns of
        what comes of it; only the rows, joined, where what the table is joined with is too large
        for that; neither where there is no such table."""
        set_aside = joins and self.account.on_error is ErrorPolicy.SET_ASIDE
        listed = any(join.kind == LISTED and not reads_left(join.right) for join in joins)
        if set_aside or (listed and where.may_fail):
            return None, None
        pair = self._pair(source, joins, withs, where)
        if pair is not None:
            return self._joined_with_small(pair, joins, 1, withs, where)
        parts = [source, *(join.right for join in joins)]
        place = self._place_of_largest(parts, joins, withs)
        if place is None:
            return None, None
        node = parts[place]
        assert isinstance(node, tree.TableReference)
        nothing = self.tables.without_rows(node)[2]
        if not joins:
            return ScannedTable(node, nothing), nothing
        account, over, before = RecordingAccount(), nothing, None
        if place:
            rows = self.from_clause.source(source, withs)
            rows = self.from_clause.joined(rows, joins[: place - 1], withs, where)
            small, join = _small(rows), joins[place - 1]
            if small is None:
                return None, self.from_clause.joined(rows, joins[place - 1 :], withs, where)
            whole = self.from_clause.in_full(small, join, nothing, withs, where)
            keys = self.joining.held_keys(small, nothing, whole, withs, of_left=True)
            if _makes_many_pairs(small, whole, keys):
                rows = self.joining.join(rows, self.tables.table(node, withs), whole, withs)
                return None, self.from_clause.joined(rows, joins[place:], withs, where)
            before = ScannedJoin(whole, small, keys)
            recording = joining_for(account, self._context())
            over = recording.join(small, nothing, whole, {}, HeldKeys(of_left=True))
        self.tables.let_come_first(node)
        places = self._reserved(2 if place else 1)
        table = ScannedTable(node, over, before, account=account, places=places)
        return self._joined_with_small(table, joins, place, withs, where)

    def _pair(
        self,
        source: tree.Node,
        joins: Sequence[tree.Join],
        withs: dict[str, Relation],
        where: WhereEqualities,
    ) -> ScannedTable | None:
        """The first two tables of a FROM, where they are read elsewhere, are both large, and are
        joined by what is equal."""
        if not joins or not all(map(_is_row_by_row, joins[1:])):
            return None
        node, join = joins[0].right, joins[0]
        if not (self._is_large(source, withs) and self._is_large(node, withs)):
            return None
        if len({self.tables.open(part).engine.address for part in (source, node)}) > 1:
            return None
        left, right = (self.tables.without_rows(part)[2] for part in (source, node))
        whole = self.from_clause.in_full(left, join, right, withs, where)
        keys = self.joining.compared(left, right, whole, withs)
        if not keys:
            return None
        account = RecordingAccount()
        recording = joining_for(account, self._context())
        over = recording.join(numbered(left), numbered(right), whole, {})
        for part in (source, node):
            self.tables.let_come_first(part)
        of_left, of_right = self._columns_of(source), self._columns_of(node)
        other = OtherTable(node, RangeJoin(whole, of_left, of_right, tuple(keys)))
        return ScannedTable(source, over, None, other, (), account, self._reserved(3))

    def _is_large(
        self, part: tree.Node, withs: dict[str, Relation]
    ) -> TypeGuard[tree.TableReference]:
        """Whether a part of a FROM is a table that is read elsewhere, and too large to go to each
        batch of another."""
        if not self.tables.is_read(part, withs) or not self.tables.is_scanned(part):
            return False
        elsewhere = self.tables.open(part).engine.address is not None
        return elsewhere and self.tables.size(part) > _LARGE

    def _joined_with_small(
        self,
        table: ScannedTable,
        joins: Sequence[tree.Join],
        first: int,
        withs: dict[str, Relation],
        where: WhereEqualities,
    ) -> tuple[ScannedTable | None, Relation]:
        """See `begin`: of joins those from one on."""
        account, over = table.account, table.nothing
        recording = joining_for(account, self._context())
        unnesting = Unnesting(account, recording.context, recording.expressions)
        for position, join in enumerate(joins[first:], first):
            work: ScannedJoin | ScannedUnnest
            if isinstance(join.right, tree.Unnest):
                width = len(over.names)
                over = unnested_by(unnesting, over, join, {})
                work = ScannedUnnest(join, over.from_column(width))
            else:
                right = self.from_clause.source(join.right, withs)
                small = _small(right)
                whole = self.from_clause.in_full(over, join, right, withs, where)
                keys = HeldKeys(of_left=False)
                if small is not None:
                    keys = self.joining.held_keys(over, small, whole, withs, of_left=False)
                if small is None or _makes_many_pairs(small, whole, keys):
                    rows = self.joining.join(self._as_a_whole(table, withs), right, whole, withs)
                    return None, self.from_clause.joined(rows, joins[position + 1 :], withs, where)
                over = recording.join(over, small, whole, {}, HeldKeys(of_left=False))
                work = ScannedJoin(whole, small, keys)
            places = (*table.places, *self._reserved(1))
            table = replace(table, nothing=over, joins=(*table.joins, work), places=places)
        return table, over

    def _as_a_whole(self, table: ScannedTable, withs: dict[str, Relation]) -> Relation:
        """All rows of a table, joined with what each batch of it would be."""
        self.account.reserved = [*table.places]
        rows = self._read(table.node, withs)
        if table.before is not None:
            rows = self.joining.join(table.before.held, rows, table.before.node, withs)
        if table.other is not None:
            others = self._read(table.other.node, withs)
            rows = self.joining.join(rows, others, table.other.join.node, withs)
        for work in table.joins:
            if isinstance(work, ScannedUnnest):
                rows = unnested_by(self.from_clause.unnesting, rows, work.node, withs)
            else:
                rows = self.joining.join(rows, work.held, work.node, withs)
        return rows

    def _read(self, node: tree.TableReference, withs: dict[str, Relation]) -> Relation:
        """All rows of a table, in the place that is reserved for it: it may have been read
        meanwhile, for a query that it is joined with."""
        reserved = len(self.account.reserved)
        rows = self.tables.table(node, withs)
        if reserved and len(self.account.reserved) == reserved:
            read = self.account.enter(f"read {node.reference}", (), rows.count)
            rows = replace(rows, stage=read)
        return rows

    def _place_of_largest(
        self, parts: list[tree.Node], joins: Sequence[tree.Join], withs: dict[str, Relation]
    ) -> int | None:
        """Which part of a FROM is the largest table of those that can be worked on batch by batch:
        each is joined so that no row depends on another one of the table, and read once."""
        tables = [
            self.tables.open(part) if self.tables.is_read(part, withs) else None for part in parts
        ]
        sizes: dict[int, int] = {}
        for place in reversed(range(len(parts))):
            part, table = parts[place], tables[place]
            if place < len(joins) and not _is_row_by_row(joins[place]):
                break  # what stands before it is joined as a whole
            of_kind = not place or joins[place - 1].kind in _KINDS
            once = sum(other is table for other in tables) == 1
            if not (of_kind and once and self.tables.is_read(part, withs)):
                continue
            if self.tables.is_scanned(part):
                sizes[place] = self.tables.size(part)
        return max(sizes, key=lambda place: (sizes[place], -place)) if sizes else None

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
        if table.other is not None:
            return self._rows_of_pair(table, table.other, work, told), told.left
        partners: list[list[Partners]] = [[none] for none in table.no_partners]
        parts = self._parts(table, source, work, told)

        places, pairs = [np.zeros(0, np.int32)], 0

        def kept() -> Iterator[Batch]:
            nonlocal pairs
            rows = 0
            for part in parts:
                if part.kept is not None and part.places is not None:
                    places.append(part.places + rows)
                    rows += part.kept.count
                    pairs += len(part.places)
                    self._refuse_pairs(table, told, pairs)
                for numbers, further in zip(partners, part.partners, strict=True):
                    numbers.append(further)
                if part.kept is not None:
                    yield part.kept
                if most is not None and table.before is None and told.left >= most:
                    parts.close()
                    self.tables.remark_first(table.node, told.table.read, "counts and cautions")

        vectors, rows = self.tables.columns_of(table.node, kept())
        self.tables.note(source, number_of(len(rows)))
        every = [self._end_to_end(parts) for parts in partners]
        of_rows = np.concatenate(places) if table.no_partners else None
        return self._tell(table, told, vectors, rows, every, of_rows), told.left

    def _rows_of_pair(
        self, table: ScannedTable, other: OtherTable, work: ScanWork, told: Told
    ) -> Relation:
        """The rows of two tables for which a condition is true, joined."""
        partners: list[list[Partners]] = [[none] for none in table.no_partners]
        rights = [np.zeros(0, np.int64)]
        of_range = RangeWork(other.join, work)

        def pairs() -> Iterator[Batch]:
            for part in self._reduced(table, other, work, told, of_range.rows_of):
                told.add_events(part.events)
                rights.append(part.right)
                self._refuse_pairs(table, told, sum(map(len, rights)))
                for of_join, beside in zip(partners, part.partners, strict=True):
                    of_join.append(beside)
                yield Batch(part.left, list(part.columns))

        types = dict(enumerate((*other.join.left.types, *other.join.right.types)))
        vectors, left, _ = self.tables.written(pairs(), types)
        right = np.concatenate(rights)
        for node in (table.node, other.node):
            self.tables.note(self.tables.open(node), number_of(len(left)))
        every = [self._end_to_end(parts) for parts in partners]
        return self._tell_pair(table, other, told, vectors, left, right, every)

    def _tell_pair(
        self,
        table: ScannedTable,
        other: OtherTable,
        told: Told,
        vectors: list[Vector],
        left: np.ndarray,
        right: np.ndarray,
        partners: Sequence[Partners],
    ) -> Relation:
        """See `_tell`; `left` and `right`: the numbers of the rows of both, of one range after
        another."""
        self.account.reserved = [*table.places]
        sides, width = [], len(other.join.left.names)
        for node, rows, of_side, read in (
            (table.node, left, vectors[:width], told.table),
            (other.node, right, vectors[width:], told.other),
        ):
            malformed = tuple(read.malformed)
            sides.append(self.tables.scanned(node, of_side, rows, malformed, read.read))
        others = (join.held for join in table.joins if isinstance(join, ScannedJoin))
        stage = told.account.tell(self.account, sides[1], others, sides[0])
        order = np.argsort(order_of(left, right), kind="stable")
        left_side, right_side = (numbered(side).take(order) for side in sides)
        over = self.joining.beside(
            left_side, right_side, other.join.node, left[order] == 0, right[order] == 0
        )
        every = [_in_order(part, order) for part in partners]
        return replace(self._with_partners(over, table, every), stage=stage)

    def _reduced(
        self,
        table: ScannedTable,
        other: OtherTable,
        work: ScanWork,
        told: Told,
        finish: Callable[[Any], Any],
        again: Callable[[Any], Any] | None = None,
    ) -> Iterator[Any]:
        """What the ranges of the rows of two tables come to, or those of groups that these give;
        see Reduction."""
        tables = [self.tables.open(node) for node in (table.node, other.node)]
        works = (
            OfBatch(SideWork(other.join, work, of_left=True), other.join.left.places),
            OfBatch(SideWork(other.join, work, of_left=False), other.join.right.places),
        )

        def take(part: ReadOfSide | list[Event], held: int | None) -> None:
            if isinstance(part, ReadOfSide):
                told.add_read(part)
            else:
                told.add_events(part)

        reduction = Reduction(works, finish, again, ranged=again is None or bool(work.keys))
        return tables[0].engine.reduce(tables, reduction, take)

    def _refuse_pairs(self, table: ScannedTable, told: Told, rows: int) -> None:
        """As Joining does, of the pairs of the last join, as far as they are among the rows that
        are kept."""
        every = [join for join in (table.before, *table.joins) if isinstance(join, ScannedJoin)]
        joins = [join.node for join in every]
        if table.other is not None:
            joins.insert(0, table.other.join.node)
        if joins:
            last = told.last_join()
            sides = sum(side.rows for side in last.sides)
            self.joining.refuse_pairs(sides, joins[-1], min(rows, last.pairs))

    def _end_to_end(self, parts: list[Any]) -> Partners:
        """What a join has put beside the rows of one batch after another."""
        if isinstance(parts[0], np.ndarray):
            return np.concatenate(parts)
        store = self.account.store
        assert store is not None
        return tuple(store.column(column, column[0].type) for column in zip(*parts, strict=True))

    def groups(
        self,
        table: ScannedTable,
        select: tree.Select,
        items: list[tree.Named],
        aggregates: list[tree.Aggregate],
    ) -> tuple[Relation, dict[Any, int]] | None:
        """The groups of a table's rows, those that HAVING leaves where it reads no others; None
        where they are so many here, or of such aggregates, that the rows are to come along."""
        source, work, told = self._work(table, select.where)
        every = self.grouping.single_set(select, table.nothing, items)
        set_aside = self.account.on_error is ErrorPolicy.SET_ASIDE
        if every is None or set_aside or top((*every.values(), *aggregates), SUBQUERIES):
            return None
        before, other = table.before, table.other
        with_alone = before is not None and before.node.kind == "LEFT"
        elsewhere = source.engine.address is not None
        ranged = bool(every) and not with_alone and elsewhere and other is None
        placed = elsewhere or before is not None
        work = replace(work, keys=every, aggregates=tuple(aggregates), placed=placed)
        nothing = work.filtered(table.nothing, told.account)
        places = np.zeros(0, np.int64) if placed else None
        none, keys, inputs = work.grouped(nothing, told.account, places)
        if not elsewhere and not all(supplied.merges for supplied in inputs):
            return None
        having = None if select.having is None or reads_others(select.having) else select.having
        of_groups = GroupWork(work, having, keys, tuple(inputs), nothing)
        came = 0

        def take(part: ScannedRows, held: int | None) -> None:
            nonlocal came
            told.add(part)
            came += part.many
            if held is not None:
                few = told.left < _ROWS or came * _ROWS_OF_GROUP <= told.left
                memory = self.account.memory
                if not few or (memory is not None and held > memory // ROW_BYTES):
                    raise TooManyGroups

        results: list[Any]
        if other is not None:
            of_range = RangeWork(other.join, work).groups_of
            results = list(self._reduced(table, other, work, told, of_range, of_groups))
        else:
            finish = None if with_alone else of_groups
            of_batch = OfBatch(work.groups_of, work.columns.places)
            reduction: Reduction[ScannedRows, Any, Any]
            reduction = Reduction((of_batch,), finish, ranged=ranged)
            try:
                results = list(source.engine.reduce([source], reduction, take))
            except TooManyGroups:
                return None
        if with_alone:
            nobody = self.tables.without_rows(table.node)[2]
            part, alone = work.groups_of_alone(told.alone(), nobody)
            told.add(part)
            first, *later = [*results, alone]
            results = [of_groups(first.merge(later))]
        many = number_of(sum(result.many for result in results), "group")
        self.tables.note(source, many)
        blank, no_rows = self.tables.columns_of(table.node, ())
        if other is None:
            read = self._tell(table, told, blank, no_rows, table.no_partners)
        else:
            self.tables.note(self.tables.open(other.node), many)
            blank += self.tables.columns_of(other.node, ())[0]
            read = self._tell_pair(table, other, told, blank, no_rows, no_rows, table.no_partners)
        account = RecordingAccount()
        of_none = of_groups.finished(none, account)
        return self._put_together(select, read, of_groups, results or [of_none], account, told.left)

    def _put_together(
        self,
        select: tree.Select,
        read: Relation,
        work: GroupWork,
        results: Sequence[FinishedGroups],
        account: RecordingAccount,
        rows_in: int,
    ) -> tuple[Relation, dict[Any, int]]:
        """The groups of one range after another in the order in which they are first met, told by
        an account of such groups."""
        parts = zip(*(item.columns for item in results), strict=True)
        columns = list(zip(map(self._one_vector, parts), results[0].types, strict=True))
        count, many = (sum(map(attrgetter(name), results)) for name in ("count", "many"))
        every, aggregates = work.scan.keys or {}, work.scan.aggregates
        over: Relation
        over, stands = self.grouping.relation(every, aggregates, read, columns, count)
        stage = self.grouping.enter(select, read, many, rows_in)
        account.events = results[0].events
        for item in results[1:]:
            account.events = list(map(add, account.events, item.events))
        over = replace(over, stage=account.tell(self.account, replace(over, stage=stage)))
        if work.scan.placed:
            places = [item.places for item in results if item.places is not None]
            over = over.take(FirstPlaces.end_to_end(places).order())
        return over, stands

    def _one_vector(self, parts: Sequence[Vector]) -> Vector:
        """Vectors one after another, in a file where they do not fit into memory."""
        if len(parts) == 1:
            return parts[0]
        store, size = self.account.store, sum(part.values.nbytes for part in parts)
        failing = any(part.errors is not None for part in parts)
        if failing or store is None or store.fits(size):
            return end_to_end(parts)
        return Vector(store.column((part.values for part in parts), parts[0].values.type))

    def _work(self, table: ScannedTable, where: tree.Node | None) -> tuple[Source, ScanWork, Told]:
        source = self.tables.open(table.node)
        context = self._context()
        work = ScanWork(
            context.text,
            context.given,
            context.list_items,
            self._columns_of(table.node),
            None if table.before is None else table.before.to_send(),
            tuple(join.to_send() for join in table.joins),
            where,
        )
        account = table.account
        copied = RecordingAccount(events=[*account.events], watches=[*account.watches])
        return source, work, Told(copied)

    def _columns_of(self, node: tree.TableReference) -> ReadColumns:
        _, wanted, nothing = self.tables.without_rows(node)
        return ReadColumns(tuple(wanted), nothing.types, nothing.names, nothing.tables)

    def _context(self) -> QueryContext:
        given = replace(self.context.given, members=None)
        return QueryContext(self.context.text, given, list_items=self.context.list_items)

    def _reserved(self, count: int) -> tuple[int, ...]:
        return () if self.account.quiet else tuple(self.account.reserve() for _ in range(count))

    def _parts(
        self, table: ScannedTable, source: Source, work: ScanWork, told: Told
    ) -> Generator[ScannedRows, None, None]:
        with closing(scan(source, work, work.columns.places)) as parts:
            for part in parts:
                told.add(part)
                yield part
        if table.before is not None and table.before.node.kind == "LEFT":
            alone = work.of_alone(told.alone(), self.tables.without_rows(table.node)[2])
            told.add(alone)
            yield alone

    def _tell(
        self,
        table: ScannedTable,
        told: Told,
        vectors: list[Vector],
        rows: np.ndarray,
        partners: Sequence[Partners],
        places: np.ndarray | None = None,
    ) -> Relation:
        self.account.reserved = [*table.places]
        malformed = tuple(told.table.malformed)
        over = self.tables.scanned(table.node, vectors, rows, malformed, told.table.read)
        others = (join.held for join in table.joins if isinstance(join, ScannedJoin))
        before = table.before
        held = None if before is None else before.held
        stage = told.account.tell(self.account, over, others, held)
        over = over if places is None else over.take(places)
        if before is not None:
            # In the order of what stands before; rows of it that have no partner came last.
            numbers, *partners = partners
            assert isinstance(numbers, np.ndarray)
            order = np.argsort(numbers, kind="stable")
            beside = np.where(order < over.count, order, -1)
            left, right = before.held.take(numbers[order]), over.take(beside)
            over = self.joining.beside(left, right, before.node, beside < -1, beside < 0)
            partners = [_in_order(item, order) for item in partners]
        return replace(self._with_partners(over, table, partners), stage=stage)

    def _with_partners(
        self, over: Relation, table: ScannedTable, partners: Sequence[Partners]
    ) -> Relation:
        """Rows with what the joins of a table have put beside them."""
        for work, item in zip(table.joins, partners, strict=True):
            if isinstance(work, ScannedJoin):
                assert isinstance(item, np.ndarray)
                right = work.held.take(item)
                over = self.joining.beside(over, right, work.node, item < -1, item < 0)
            else:
                columns = Columns(map(Vector, item), self.account.store)
                over = over.beside(replace(work.right, vectors=columns, count=over.count))
        return over


def _makes_many_pairs(small: Relation, join: tree.Join, keys: HeldKeys) -> bool:
    """Whether each row of a batch would stand beside many of a relation: no keys choose among
    them."""
    return small.count > _MOST_WITHOUT_KEYS and not join.using and not keys.values


def _is_row_by_row(join: tree.Join) -> bool:
    """Whether each row on the left of a join goes through it alone."""
    if join.kind not in _KINDS:
        return False
    if isinstance(join.right, tree.Unnest):
        beside = not join.using and not join.natural and (join.on is None or is_true(join.on))
        return beside and not top(join.right.expression, SUBQUERIES)
    return not reads_left(join.right)


def _in_order(partners: Partners, order: np.ndarray) -> Partners:
    if isinstance(partners, np.ndarray):
        return partners[order]
    return tuple(values.take(to_arrow(order)) for values in partners)


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
    return numbered(replace(relation, vectors=Columns(vectors)))

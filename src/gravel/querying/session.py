"""Running a query: FROM, WHERE, GROUP BY, HAVING, windows, SELECT, DISTINCT, ORDER BY, in the
standard's order; each stage accounts for its rows."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec.structs import replace

from gravel.engine.vector import Vector
from gravel.language import parse, tree
from gravel.language.cautions.finder import ListItems
from gravel.language.diagnostics import Diagnostic
from gravel.language.errors import ErrorPolicy
from gravel.language.types import TEXT, Kind, Type, common
from gravel.problems import DataProblem, TableProblem
from gravel.querying.account import Account
from gravel.querying.aggregation import Aggregation
from gravel.querying.context import QueryContext
from gravel.querying.correlation import Correlation
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.filtering import Filtering
from gravel.querying.from_clause import FromClause, WhereEqualities, joins_of
from gravel.querying.group_inputs import GroupInputs
from gravel.querying.group_work import reads_others
from gravel.querying.grouping import Grouping
from gravel.querying.joining import Joining
from gravel.querying.ordering import FirstRows, Ordering
from gravel.querying.relation import (
    Columns,
    Grouped,
    Later,
    Relation,
    as_type,
    joined,
    renamed,
    typed,
)
from gravel.querying.scanned_table import ScannedTable
from gravel.querying.scanning import Scanning
from gravel.querying.set_operations import FirstOfEach, SetOperations
from gravel.querying.shapes import SUBQUERIES, asked_names, name_of, top
from gravel.querying.subqueries import Subqueries
from gravel.querying.tables import Tables
from gravel.querying.unnesting import Unnesting
from gravel.querying.windowing import Windowing
from gravel.words import number_of

_ROUNDS, _RECURSIVE_ROWS = 100_000, 20_000_000  # a recursive query beyond them does not end


class Session:
    """Runs queries; its parts each know one clause, and share the context and the account."""

    def __init__(self, context: QueryContext | None = None, account: Account | None = None) -> None:
        self.context = context or QueryContext()
        self.account = account or Account()
        shared = self.account, self.context
        self.expressions = ExpressionEvaluator(
            *shared, lambda *columns: self.subqueries.add_columns(*columns)
        )
        self.tables = Tables(*shared, self.expressions)
        self.subqueries = Subqueries(
            *shared,
            self.expressions,
            self.tables,
            self.run_query,
            Correlation(
                *shared,
                self.expressions,
                lambda query, withs: self.subqueries.free(query, withs),
                lambda select, withs: self.from_clause.rows(select, withs),
                self.select_over,
            ),
        )
        joining = Joining(*shared, self.expressions, self.subqueries.with_outer)
        unnesting = Unnesting(*shared, self.expressions)
        self.from_clause = FromClause(
            *shared,
            self.expressions,
            self.tables,
            self.subqueries,
            joining,
            unnesting,
            self.run_query,
        )
        self.filtering = Filtering(*shared, self.expressions)
        aggregation = Aggregation(*shared, self.expressions)
        inputs = GroupInputs(*shared, self.expressions, aggregation)
        self.grouping = Grouping(*shared, self.expressions, aggregation, inputs)
        self.scanning = Scanning(*shared, self.tables, self.from_clause, joining, self.grouping)
        self.windowing = Windowing(*shared, self.expressions, aggregation)
        self.set_operations = SetOperations(*shared)
        self.ordering = Ordering(*shared, self.expressions)
        self.asked: frozenset[str] = frozenset()  # columns that the query names beside its result

    def query(self, text: str) -> Relation:
        """The result of a query text. Raises Diagnostic, TableProblem, DataProblem for a row error
        where errors stop it."""
        self.context.text = text
        output = parse.query(text)
        self.context.given = replace(self.context.given, members=self.subqueries.members)
        self.tables.read_only_named(output)
        self.context.list_items = self._items_taken(output)
        self.asked = asked_names(output)
        try:
            result = self.run_query(output, {})
        except Diagnostic as problem:
            self._explain(problem, output)
            raise
        except TableProblem as problem:
            if problem.hint.startswith("--encoding"):
                problem.hint += "; in a query: --table 't=FILE;encoding=cp1252'"
            raise
        finally:
            # The parts of a session know each other, so that what they hold would stay for a while.
            self.tables.forget()
            self.context.withs = {}
        return self._settle(result)

    def _explain(self, problem: Diagnostic, query: tree.Query) -> None:
        """Say of a column that is not there that it is a name of the result, where it is one, and
        where a condition on aggregates or window functions goes."""
        selects = [node for node in parse.walk(query) if isinstance(node, tree.Select)]
        conditions = [select.where for select in selects if select.where is not None]
        in_where = any(node.start <= problem.start <= node.end for node in conditions)
        name = self.context.text[problem.start : problem.end]
        if problem.message.endswith("this expression is about one"):
            if "looks at" in problem.message:
                problem.hint = (
                    "name it in (SELECT …) AS t, and filter by that name in the WHERE around it"
                )
            elif in_where:
                problem.hint = (
                    f"an aggregate is filtered by HAVING, after GROUP BY: HAVING {name[:60]} …"
                )
        if not problem.message.startswith("there is no column"):
            return
        for select in selects:
            for item in select.items:
                if (
                    isinstance(item, tree.Named)
                    and item.name_start != item.start
                    and item.name.casefold() == name.casefold()
                ):
                    written = " ".join(self.context.written(item.expression).split())
                    aggregates = [
                        node
                        for node in parse.walk(item.expression)
                        if isinstance(node, tree.Aggregate)
                    ]
                    instead = f"write {written} here, or select from (SELECT …) AS t"
                    if any(node.over is not None for node in aggregates):
                        instead = f"select from (SELECT …) AS t WHERE {name} …"
                    elif aggregates and in_where:
                        instead = f"write HAVING {written} … after GROUP BY"
                    problem.hint = f"{name} is a name of the result, which is made later: {instead}"

    def _items_taken(self, query: tree.Query) -> ListItems:
        """Which items of lists a query takes anywhere: what LIST_ITEM leaves may be another
        one's."""
        taken: ListItems = {}
        for node in parse.walk(query):
            if (
                isinstance(node, tree.Call)
                and node.name.upper() == "LIST_ITEM"
                and len(node.arguments) == 3
            ):
                written = [
                    " ".join(self.context.written(argument).split()) for argument in node.arguments
                ]
                if written[2].removeprefix("-").isdigit():
                    taken.setdefault((written[0], written[1]), set()).add(int(written[2]))
        return taken

    def run_query(self, query: tree.Query, withs: dict[str, Relation]) -> Relation:
        """A query's relation, its order kept."""
        own = dict(withs)
        for item in query.withs:
            result = (
                self._recursive(item, own)
                if query.recursive and _names_itself(item)
                else self.run_query(item.query, own)
            )
            own[item.name.casefold()] = renamed(
                result, item.name, item.columns, item, self.context.text
            )
        self.context.withs = own
        offset, fetch = (
            None if node is None else self._rows_of(node) for node in (query.offset, query.fetch)
        )
        body = query.body
        if isinstance(body, tree.Select):
            return self._select(body, own, query, offset, fetch)
        result = self._body(body, own)
        return self.ordering.limit(
            self.ordering.order(result, result, query, {}, own), query, offset, fetch
        )

    def _rows_of(self, node: tree.Node) -> int | None:
        number = self.expressions.number(node, "a number of rows")
        if number is not None and number < 0:
            raise self.context.wrong("a number of rows is 0 or more", node)
        return number

    def _recursive(self, value: tree.With, withs: dict[str, Relation]) -> Relation:
        """WITH RECURSIVE: the first query's rows, then the second's over the rows that were new,
        until none is."""
        body = value.query.body
        if not isinstance(body, tree.SetOperation) or body.operator != "UNION":
            raise self.context.wrong(
                f"{value.name} reads itself: it is a query UNION [ALL] a query that reads it",
                value.query,
            )
        result = typed(self._body(body.left, withs))
        names = value.columns or result.names
        self.account.quiet += 1
        try:
            result = self.set_operations.once_each(result) if not body.all else result
            fresh, rounds = result, 0
            while fresh.count:
                rounds += 1
                if rounds > _ROUNDS or result.count > _RECURSIVE_ROWS:
                    raise DataProblem(
                        f"{value.name} does not end: {number_of(result.count)} after {rounds - 1:,}"
                        " rounds",
                        hint="it needs a WHERE that comes to no row at last",
                    )
                own = {
                    **withs,
                    value.name.casefold(): renamed(
                        fresh, value.name, tuple(names), value, self.context.text
                    ),
                }
                more = typed(self._body(body.right, own))
                both, kinds = self.set_operations.stack(result, more, body)
                if not body.all:
                    both = self.set_operations.once_each(both)
                fresh = both.take(np.arange(result.count, both.count))
                result = replace(both, types=kinds)
        finally:
            self.account.quiet -= 1
        result = replace(
            result,
            stage=self.account.enter(
                f"WITH RECURSIVE {value.name}", (result,), result.count, f"after {rounds:,} rounds"
            ),
        )
        if value.query.order or value.query.fetch is not None or value.query.offset is not None:
            raise self.context.wrong(
                "a query that reads itself takes no ORDER BY and no LIMIT",
                value.query,
                "put them into the query that reads it",
            )
        return result

    def _body(self, body: Any, withs: dict[str, Relation]) -> Relation:
        if isinstance(body, tree.Select):
            return self._select(body, withs, None)
        if isinstance(body, tree.Values):
            return self._values(body)
        if isinstance(body, tree.Query):
            return self.run_query(body, withs)
        return self.set_operations.combine(
            self._body(body.left, withs), self._body(body.right, withs), body
        )

    def _settle(self, relation: Relation) -> Relation:
        """The final result: its row errors stop the query, become NULL, or leave their rows out."""
        relation = typed(relation)
        failed = np.zeros(relation.count, bool)
        for index, (name, plain) in enumerate(zip(relation.names, relation.plains, strict=True)):
            # A plan's column as it stands is passed on as it is written; one without errors need
            # not be made to know that.
            if relation.vectors.fails(index) and (plain is None or relation.origin is None):
                errors = relation.vectors[index].errors
                if errors is not None:
                    self.account.report_errors("SELECT", name, errors, relation.rows)
                    failed |= errors != 0
        if not failed.any():
            return relation
        if self.account.on_error is ErrorPolicy.SET_ASIDE:
            self.account.note_omitted(relation, failed)
            kept = relation.take(np.flatnonzero(~failed))
            relation = replace(
                kept,
                stage=self.account.enter(
                    "set aside", (relation,), kept.count, "rows with an error"
                ),
            )
        return replace(
            relation,
            vectors=Columns(
                (Vector(vector.values) for vector in relation.vectors), self.account.store
            ),
        )

    def _select(
        self,
        select: tree.Select,
        withs: dict[str, Relation],
        query: tree.Query | None,
        offset: int | None = None,
        fetch: int | None = None,
    ) -> Relation:
        where = WhereEqualities.of(select.where)
        chain, over = self._chain(select, withs), None
        limited = query is not None and _begins_with_its_result(select, query)
        table: ScannedTable | None = None
        if chain is not None:
            first, joins = chain
            if limited and fetch is not None and self.tables.is_read(first, withs) and not joins:
                over = self.tables.first_rows(first, select.where, (offset or 0) + fetch)
            if over is None:
                table, over = self.scanning.begin(first, joins, withs, where)
        if over is None:
            over = self.from_clause.rows(select, withs, where)
        select = replace(select, where=_without(select.where, where.decided))
        return self.select_over(select, over, withs, query, offset, fetch, table)

    def select_over(
        self,
        select: tree.Select,
        over: Relation,
        withs: dict[str, Relation],
        query: tree.Query | None,
        offset: int | None = None,
        fetch: int | None = None,
        table: ScannedTable | None = None,
    ) -> Relation:
        """What a SELECT makes of the rows of its FROM; with `table`, which is worked on batch by
        batch, `over` has their columns alone."""
        own = len(over.names)
        over, outside = self.subqueries.with_outer(over)
        where = select.where
        if where is not None and table is None:
            over = self.filtering.where(where, over, withs, "WHERE", outside)
        items, stands = self._items(select, over, own)
        stands |= outside
        aggregates = [
            aggregate
            for aggregate in self._aggregates(select, items, query, over, withs)
            if id(aggregate) not in outside
        ]
        grouped = bool(select.groups is not None or aggregates or select.having is not None)
        groups = rows_in = None
        if table is not None and grouped:
            groups = self.scanning.groups(table, select, items, aggregates)
        elif table is not None:
            most = None if fetch is None else (offset or 0) + fetch
            needed = self._needed(select, query, items, over, stands, most)
            begins = query is not None and _begins_with_its_result(select, query)
            if needed is not None or (begins and most is not None):
                over, rows_in = self.scanning.rows(table, where, needed, most if begins else None)
        if table is not None and groups is None and rows_in is None:
            over = (
                self.tables.table(table.node, withs)
                if where is None and not table.is_joined
                else self.scanning.rows(table, where)[0]
            )
        if grouped:
            over, stands = groups or self.grouping.group(select, over, items, aggregates, withs)
            beside, outside = self.subqueries.with_outer(over)
            if isinstance(over, Grouped) and beside is not over:
                # Still groups: what is written names the columns of the rows that were grouped.
                fields = {name: getattr(beside, name) for name in Relation.__struct_fields__}
                over = Grouped(**fields, ungrouped=over.ungrouped)
            stands |= outside
            if select.having is not None and (groups is None or reads_others(select.having)):
                over = self.filtering.where(select.having, over, withs, "HAVING", stands)
        over, stands = self.windowing.windows(select, items, query, over, withs, stands)
        names, vectors, types, plains = [], [], [], []
        plains_there = over.plains
        for item in items:
            output, kind = self._as_it_stands(
                item.expression, over, stands
            ) or self.expressions.evaluate(item.expression, over, withs, stands)
            names.append(name_of(item))
            vectors.append(output)
            types.append(kind)
            known = over.origin is not None
            place = self._place_of(item.expression, over, stands) if known else None
            plains.append(None if place is None else plains_there[place])
        result = Relation(
            tuple(names),
            ("",) * len(names),
            tuple(types),
            Columns(vectors, self.account.store),
            over.count,
            rows=over.rows,
            origin=over.origin,
            plain=tuple(plains),
            stage=over.stage,
        )
        before: Relation | None = over
        if select.distinct:
            result, before, rows_in = self.set_operations.distinct(result, rows_in), None, None
        if query is None:
            return result
        chosen = self._chosen(query, items, over)
        return self.ordering.limit(
            self.ordering.order(result, before, query, stands, withs, chosen, rows_in),
            query,
            offset,
            fetch,
            rows_in,
        )

    def _aggregates(
        self,
        select: tree.Select,
        items: list[tree.Named],
        query: tree.Query | None,
        over: Relation,
        withs: dict[str, Relation],
    ) -> list[tree.Aggregate]:
        """The aggregates that this block computes, its ORDER BY's too."""
        places: list[tree.Node] = [item.expression for item in items]
        places += [select.having] if select.having is not None else []
        places += [key.expression for key in query.order] if query is not None else []
        return [
            entry
            for place in places
            for entry in top(place, (tree.Aggregate,), windows=True)
            if isinstance(entry, tree.Aggregate) and entry.over is None
        ] + [
            column
            for place in places
            for column in self.subqueries.aggregates_of_outer_columns(place, over, withs)
        ]

    def _needed(
        self,
        select: tree.Select,
        query: tree.Query | None,
        items: list[tree.Named],
        over: Relation,
        stands: dict[Any, int],
        most: int | None,
    ) -> FirstRows | FirstOfEach | None:
        """The rows of a table, in whose place `over` has its columns, that are all that a SELECT of
        some columns needs; None where it needs others."""
        nodes = [item.expression for item in items if isinstance(item.expression, tree.Name)]
        if len(nodes) < len(items):
            return None
        if select.distinct:
            columns = [
                stands[id(node)] if id(node) in stands else over.find(node, self.context.text)
                for node in nodes
            ]
            return FirstOfEach(tuple(columns))
        if query is None or most is None:
            return None
        return self.ordering.first_rows(query, items, over, stands, most)

    def _chain(
        self, select: tree.Select, withs: dict[str, Relation]
    ) -> tuple[tree.Node, list[tree.Join]] | None:
        """What a FROM begins with, and what it is joined with; None where there is no FROM, and
        where something reads other rows."""
        if not select.sources or self.subqueries.around is not None:
            return None
        source, joins = joins_of(select)
        conditions = [select.where, *(join.on for join in joins)]
        if any(node is not None and top(node, SUBQUERIES) for node in conditions):
            return None
        return (source, joins) if joins or self.tables.is_read(source, withs) else None

    def _as_it_stands(
        self, node: tree.Node, over: Relation, stands: dict[Any, int]
    ) -> tuple[Vector | Later, Type] | None:
        """A column that is only named, which need not be made before its rows are shown or written;
        None for anything else."""
        index = self._place_of(node, over, stands)
        return (
            None
            if index is None or over.vectors.fails(index)
            else (over.vectors.cells[index], over.types[index])
        )

    def _chosen(
        self, query: tree.Query, items: list[tree.Named], over: Relation
    ) -> list[int | None]:
        """Which columns of the result the keys of ORDER BY are, as they are written."""
        if not query.order:
            return []
        shapes = {
            self.expressions.shape(item.expression, over): index for index, item in enumerate(items)
        }
        return [shapes.get(self.expressions.shape(key.expression, over)) for key in query.order]

    def _place_of(self, node: tree.Node, over: Relation, stands: dict[Any, int]) -> int | None:
        """Where a column that is only named stands; None for anything else."""
        if not isinstance(node, tree.Name):
            return None
        return stands[id(node)] if id(node) in stands else over.search(node, self.context.text)

    def _items(
        self, select: tree.Select, over: Relation, own: int
    ) -> tuple[list[tree.Named], dict[Any, int]]:
        """The select list with * written out as the first `own` columns, and where those stand:
        their names may be shared."""
        results: list[tree.Named] = []
        stands: dict[Any, int] = {}
        for item in select.items:
            if isinstance(item, tree.Named):
                results.append(item)
                continue
            assert isinstance(item, tree.AllColumns)
            if not select.sources:
                raise self.context.wrong("* needs a FROM", item)
            places = [
                index
                for index in range(own)
                if over.names[index]
                and (
                    over.tables[index].casefold() == item.table.casefold()
                    if item.table
                    else index not in over.hidden
                )
            ]
            if not places:
                known = list(dict.fromkeys(table for table in over.tables[:own] if table))
                hint = f"tables: {', '.join(known)}" if known else ""
                raise self.context.wrong(f"there is no table {item.table} here", item, hint)
            for place in places:
                name = tree.Name(item.start, item.end, over.names[place], True, over.tables[place])
                stands[id(name)] = place
                results.append(
                    tree.Named(item.start, item.end, over.names[place], item.start, name)
                )
        return results, stands

    def _values(self, node: tree.Values) -> Relation:
        width = len(node.rows[0].items)
        entry, stands = self.subqueries.with_outer(Relation((), (), (), Columns(()), 1))
        columns: list[list[tuple[Vector, Type]]] = [[] for _ in range(width)]
        for row in node.rows:
            if len(row.items) != width:
                raise self.context.wrong(
                    f"{len(row.items)} values where the first row has {width}", row
                )
            for column, item in zip(columns, row.items, strict=True):
                column.append(self.expressions.evaluate(item, entry, self.context.withs, stands))
        vectors, types = [], []
        for column, item in zip(columns, node.rows[0].items, strict=True):
            kind = column[0][1]
            for _, other in column[1:]:
                both = common(kind, other)
                if both is None:
                    raise self.context.wrong(f"VALUES cannot mix {kind} and {other}", item)
                kind = both
            kind = TEXT if kind.kind is Kind.NULL else kind
            vectors.append(joined([as_type(result, kind) for result, _ in column], kind))
            types.append(kind)
        names = tuple(f"column{index + 1}" for index in range(width))
        return Relation(names, ("",) * width, tuple(types), Columns(vectors), len(node.rows))


def _without(where: tree.Node | None, decided: set[int]) -> tree.Node | None:
    """A condition without the parts that joins have decided."""
    if where is None or not decided:
        return where
    parts = (
        where.operands if isinstance(where, tree.Logic) and where.operator == "AND" else (where,)
    )
    rest = tuple(part for part in parts if id(part) not in decided)
    if len(rest) <= 1:
        return rest[0] if rest else None
    return tree.Logic(rest[0].start, rest[-1].end, "AND", rest)


def _begins_with_its_result(select: tree.Select, query: tree.Query) -> bool:
    """Whether the first rows of a result do not depend on later ones of the table."""
    return not (
        query.order
        or select.distinct
        or select.groups is not None
        or select.having is not None
        or any(isinstance(node, tree.Aggregate) for node in parse.walk(select))
    )


def _names_itself(value: tree.With) -> bool:
    return any(
        isinstance(node, tree.TableReference)
        and node.is_name
        and node.reference.casefold() == value.name.casefold()
        for node in parse.walk(value.query)
    )

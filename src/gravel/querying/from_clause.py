"""FROM: tables, queries, UNNEST and joins."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from gravel.engine.row_codes import codes_of
from gravel.engine.sets import without
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import parse, tree
from gravel.language.diagnostics import Diagnostic
from gravel.language.types import INTEGER
from gravel.querying.account import Account
from gravel.querying.context import QueryContext, RunQuery
from gravel.querying.correlation import stacked
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.joining import Joining
from gravel.querying.relation import Columns, Relation, renamed, typed
from gravel.querying.shapes import SUBQUERIES, is_true, top
from gravel.querying.subqueries import Outer, Subqueries
from gravel.querying.tables import Tables
from gravel.querying.unnesting import Unnesting

_TRUE = tree.Literal(0, 0, "boolean", "TRUE")
LISTED = "LISTED"  # how what follows in a list is joined, until it is written out


def reads_left(source: tree.Node) -> bool:
    """Whether a part of a FROM reads the tables before it."""
    return isinstance(source, tree.Unnest) or (isinstance(source, tree.Derived) and source.lateral)


class WhereEqualities(Struct):
    """The equalities that stand first in a WHERE, and those of them (by their identity) that joins
    have decided."""

    parts: list[tree.Node]
    decided: set[int] = field(default_factory=set)

    @classmethod
    def of(cls, where: tree.Node | None) -> WhereEqualities:
        """Of a condition."""
        return cls(_leading(where))

    @property
    def may_fail(self) -> bool:
        """Whether one of them may fail in a row, which shows once all rows are there."""
        return not all(map(_is_of_columns, self.parts))


def joins_of(select: tree.Select) -> tuple[tree.Node, list[tree.Join]]:
    """What a FROM begins with, and what it is joined with, one after another; what follows in a
    list is LISTED."""
    source = select.sources[0]
    joins: list[tree.Join] = []
    while isinstance(source, tree.Join):
        joins.insert(0, source)
        source = source.left
    for item in select.sources[1:]:
        joins.append(tree.Join(item.start, item.end, LISTED, item, item, None, ()))
    return source, joins


def _leading(where: tree.Node | None) -> list[tree.Node]:
    """The equalities that stand first in a WHERE."""
    if where is None:
        return []
    parts = (
        where.operands if isinstance(where, tree.Logic) and where.operator == "AND" else (where,)
    )
    leading: list[tree.Node] = []
    for part in parts:
        if not (isinstance(part, tree.Call) and part.name == "=" and part.operator) or top(
            part, (*SUBQUERIES, tree.Row)
        ):
            break
        leading.append(part)
        if not _is_of_columns(part):
            break  # it may fail in a row, and what stands after it is not reached then
    return leading


def _is_of_columns(part: tree.Node) -> bool:
    assert isinstance(part, tree.Call)
    return all(isinstance(argument, (tree.Name, tree.Literal)) for argument in part.arguments)


def _has(relation: Relation, name: tree.Name, text: str) -> bool:
    try:
        return relation.search(name, text) is not None
    except Diagnostic:
        return True


class FromClause(Struct):
    """The relations that a FROM names."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    tables: Tables
    subqueries: Subqueries
    joining: Joining
    unnesting: Unnesting
    run_query: RunQuery

    def rows(
        self, select: tree.Select, withs: dict[str, Relation], where: WhereEqualities | None = None
    ) -> Relation:
        """The rows of a FROM; `where`: the equalities that may join the tables of a list."""
        if not select.sources:
            return Relation((), (), (), Columns(()), 1)
        source, joins = joins_of(select)
        return self.joined(self.source(source, withs), joins, withs, where)

    def listed(
        self,
        left: Relation,
        node: tree.Join,
        right: Relation,
        withs: dict[str, Relation],
        where: WhereEqualities | None,
    ) -> tree.Join:
        """How what stands in a list after other tables is joined with them: by equalities of WHERE,
        which are decided by that, where none of them fails in a row."""
        on = replace(node, kind="CROSS")
        equal = [] if where is None else self._joining(where.parts, left, right)
        sides = [(a, left) for _, a, _ in equal] + [(b, right) for _, _, b in equal]
        if not equal or any(
            self.expressions.evaluate(side, of, withs, watched=False)[0].errors is not None
            for side, of in sides
        ):
            return on
        assert where is not None
        parts = tuple(part for part, _, _ in equal)
        where.decided |= {id(part) for part in parts}
        condition = parts[0] if len(parts) == 1 else tree.Logic(0, 0, "AND", parts)
        return replace(node, kind="WHERE", on=condition)

    def _joining(
        self, parts: list[tree.Node], left: Relation, right: Relation
    ) -> list[tuple[tree.Node, tree.Node, tree.Node]]:
        """The equalities between two relations: the condition, its side of the left one, its side
        of the right one."""
        results: list[tuple[tree.Node, tree.Node, tree.Node]] = []
        for part in parts:
            assert isinstance(part, tree.Call)
            sides = []
            for argument in part.arguments:
                names = list(parse.column_names(argument))
                inside = [
                    {
                        side
                        for side, relation in enumerate((left, right))
                        if _has(relation, name, self.context.text)
                    }
                    for name in names
                ]
                sides.append(
                    inside[0]
                    if inside and all(result == inside[0] and len(result) == 1 for result in inside)
                    else set()
                )
            if sides == [{0}, {1}]:
                results.append((part, part.arguments[0], part.arguments[1]))
            elif sides == [{1}, {0}]:
                results.append((part, part.arguments[1], part.arguments[0]))
        return results

    def _beside(
        self, left: Relation, source: tree.Node, withs: dict[str, Relation], outer: bool = False
    ) -> Relation:
        """UNNEST or a LATERAL query beside each row of what stands before it."""
        if isinstance(source, tree.Unnest):
            return self.unnesting.unnest(left, source, withs, outer)
        assert isinstance(source, tree.Derived)
        result, rows = self._lateral(left, source, withs)
        return self.joining.pair_up(
            left,
            result,
            rows,
            np.arange(result.count),
            tree.Join(
                source.start, source.end, "LEFT" if outer else "INNER", source, source, None, ()
            ),
        )

    def _lateral(
        self, left: Relation, source: tree.Derived, withs: dict[str, Relation]
    ) -> tuple[Relation, np.ndarray]:
        """A LATERAL query's rows for each row before it, and the rows they belong to."""
        outer = self.subqueries.outer_names(source.query, left, withs)
        names = {
            (name.table.casefold(), name.text.casefold()): left.find(name, self.context.text)
            for name in outer
        }
        codes, first = codes_of(
            [left.vectors[index].values for index in names.values()], left.count
        )

        def rows_of(row: int) -> Relation:
            self.account.quiet += 1
            try:
                with self.subqueries.standing_in(Outer(names, {}, left.take(np.array([row])))):
                    return typed(self.run_query(source.query, withs))
            finally:
                self.account.quiet -= 1

        with self.subqueries.standing_in(None):
            asking = left.take(first)
            at_once = self.subqueries.correlation.rows(
                source.query, outer, asking, withs, lambda row: rows_of(int(first[row]))
            )
        if at_once is not None:
            whole, sizes = typed(at_once[0]), at_once[1]
        else:
            parts = [rows_of(row) for row in (first if len(first) else [-1])]
            whole, sizes = stacked(parts), np.array([part.count for part in parts])
        starts = np.cumsum(sizes) - sizes
        whole = Relation(
            whole.names, ("",) * len(whole.names), whole.types, whole.vectors, whole.count
        )
        if not len(first):
            whole = whole.take(np.zeros(0, np.int64))
            return renamed(
                whole, source.alias, source.columns, source, self.context.text
            ), np.zeros(0, np.int64)
        each = sizes[codes]
        rows = np.repeat(np.arange(left.count), each)
        offsets = np.arange(len(rows)) - np.repeat(np.cumsum(each) - each, each)
        whole = whole.take(np.repeat(starts[codes], each) + offsets)
        return renamed(whole, source.alias, source.columns, source, self.context.text), rows

    def source(self, node: tree.Node, withs: dict[str, Relation]) -> Relation:
        """The rows of a table, a query, UNNEST or a join."""
        if isinstance(node, tree.TableReference):
            return self.tables.table(node, withs)
        if isinstance(node, tree.Derived):
            # Only a LATERAL query reads what stands beside it; what is around the whole query any
            # may read.
            return renamed(
                self.run_query(node.query, withs), node.alias, node.columns, node, self.context.text
            )
        if isinstance(node, tree.Unnest):
            item, _ = self.subqueries.with_outer(Relation((), (), (), Columns(()), 1))
            items = self.unnesting.unnest(item, node, withs, outer=False)
            return items.from_column(len(item.names))
        assert isinstance(node, tree.Join)
        return self._joined(self.source(node.left, withs), node, withs, None)

    def joined(
        self,
        left: Relation,
        joins: Sequence[tree.Join],
        withs: dict[str, Relation],
        where: WhereEqualities | None = None,
    ) -> Relation:
        """Rows, joined with what one join after another has on its right; `where` as in `rows`."""
        for node in joins:
            left = self._joined(left, node, withs, where)
        return left

    def in_full(
        self,
        left: Relation,
        node: tree.Join,
        right: Relation,
        withs: dict[str, Relation],
        where: WhereEqualities | None = None,
    ) -> tree.Join:
        """A join with what a list or NATURAL means written out; `where` as in `rows`."""
        if node.kind == LISTED:
            return self.listed(left, node, right, withs, where)
        if not node.natural:
            return node
        seen = [name for index, name in enumerate(left.names) if index not in left.hidden]
        theirs = {
            name.casefold() for index, name in enumerate(right.names) if index not in right.hidden
        }
        using = tuple(name for name in seen if name and name.casefold() in theirs)
        if using:
            return replace(node, using=using)
        return replace(node, kind="CROSS" if node.kind == "INNER" else node.kind, on=_TRUE)

    def _joined(
        self,
        left: Relation,
        node: tree.Join,
        withs: dict[str, Relation],
        where: WhereEqualities | None,
    ) -> Relation:
        if reads_left(node.right) and node.kind == LISTED:
            return self._beside(left, node.right, withs)
        if reads_left(node.right):
            if node.kind not in ("CROSS", "INNER", "LEFT") or node.using or node.natural:
                raise self.context.wrong(
                    "what reads the tables before it is joined with CROSS JOIN, a comma, INNER or"
                    " LEFT JOIN … ON",
                    node.right,
                )
            if node.on is None or is_true(node.on):
                return self._beside(left, node.right, withs, outer=node.kind == "LEFT")
            return self._beside_where(left, node, withs)
        right = self.source(node.right, withs)
        return self.joining.join(left, right, self.in_full(left, node, right, withs, where), withs)

    def _beside_where(
        self, left: Relation, node: tree.Join, withs: dict[str, Relation]
    ) -> Relation:
        """UNNEST or a LATERAL query joined on a condition."""
        numbered = left.with_columns([Vector(to_arrow(np.arange(left.count)))], [INTEGER])
        pairs = self._beside(numbered, node.right, withs)
        result, _ = self.expressions.evaluate(
            node.on or _TRUE, self.subqueries.with_outer(pairs)[0], withs, condition=True
        )
        sound = self.account.sound_rows(
            "ON", pairs, [(self.context.written(node.on or node), result)]
        )
        keep = result.true(pairs.count)
        if sound is not None:
            keep[without(np.arange(pairs.count), sound)] = False
        rows = pairs.vectors[len(left.names)].values.to_numpy()[keep]
        right = pairs.from_column(len(numbered.names))
        return self.joining.pair_up(
            left, right.take(np.flatnonzero(keep)), rows, np.arange(len(rows)), node
        )

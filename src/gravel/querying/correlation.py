"""Correlated subqueries for all rows around them at once: as pairs of such a row and one of the
subquery's own."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any, TypeVar

import numpy as np
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector, vector
from gravel.kernels.arrays import to_arrow
from gravel.language import parse, tree
from gravel.language.errors import CODES, ErrorPolicy
from gravel.language.functions.operators import compared
from gravel.language.types import INTEGER, TEXT, Kind, Type, common
from gravel.querying import joins
from gravel.querying.account import Account, RowProblem
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.relation import Columns, Relation, as_type, joined, taken
from gravel.querying.shapes import SUBQUERIES, literal_number, top

_NUMBER = "\0row"  # the column that says which row around a pair belongs to; no query names it
Withs = dict[str, Relation]
# Places of rows around a subquery, and what tells the values that are beside them.
Members = tuple[np.ndarray, Callable[[], tuple[Vector, Type]]]
OPPOSITES = {"=": "<>", "<>": "=", "<": ">=", ">=": "<", ">": "<=", "<=": ">"}
T = TypeVar("T")


class Correlated(Struct):
    """A plain SELECT whose FROM reads nothing of the rows around it: the rows of its FROM, the keys
    by which its WHERE begins to look for them (those of the rows around, its own), and the
    conditions that are left."""

    query: tree.Query
    select: tree.Select
    outer: list[tree.Name]
    inner: Relation
    keys: list[tuple[Vector, Vector]]
    rest: list[tree.Node]

    def pairs(self, rows: int) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        """The rows around it and its own whose keys are equal, all pairs of one of the former at
        once."""
        if not self.keys:
            return joins.all_pairs(rows, self.inner.count)
        lefts, rights = (list(side) for side in zip(*self.keys, strict=True))
        return joins.equal_pairs(lefts, rights)

    def names(self, over: Relation, text: str) -> dict[tuple[str, str], int]:
        """Where the names that it reads of the rows around it stand there."""
        return {
            (name.table.casefold(), name.text.casefold()): over.find(name, text)
            for name in self.outer
        }


class ByRow(Struct):
    """The rows of a correlated SELECT for all rows around it, and the number of the row that each
    is for, ascending; `grouped`: an aggregate, which has one row also where none of its own are."""

    result: Relation
    numbers: np.ndarray
    correlated: Correlated
    grouped: bool

    def places(self, rows: int) -> np.ndarray:
        """The first row of the result for each row around it, -1 where it has none."""
        result = np.full(rows, -1)
        result[self.numbers[::-1]] = np.arange(len(self.numbers))[::-1]
        return result

    def without_rows(self, places: np.ndarray) -> list[int]:
        """The rows around it that none of its own go with: one for all of these, unless what is
        selected reads something of them."""
        empty: list[int] = np.flatnonzero(places < 0).tolist()
        outer = {(name.table.casefold(), name.text.casefold()) for name in self.correlated.outer}
        reads = any(
            (name.table.casefold(), name.text.casefold()) in outer
            for item in self.correlated.select.items
            for name in parse.column_names(item)
        )
        return empty if reads else empty[:1]

    @staticmethod
    def filled(places: np.ndarray, more: int) -> np.ndarray:
        """The places, those without a row at so many that were added behind."""
        empty = places < 0
        held = int(places.max()) + 1 if len(places) else 0
        return np.where(empty, held + (np.cumsum(empty) - 1 if more > 1 else 0), places)


class Correlation(Struct):
    """Decides correlated subqueries by pairs of rows."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    free: Callable[[tree.Query, Withs], list[tree.Name]]  # a query's names of no block in it
    rows_of: Callable[[tree.Select, Withs], Relation]  # of its FROM
    select_over: Callable[[tree.Select, Relation, Withs, tree.Query], Relation]  # all but its FROM

    def decided(
        self, value: Any, outer: list[tree.Name], over: Relation, withs: Withs
    ) -> Vector | None:
        """EXISTS, IN and comparisons with ANY or ALL of a correlated SELECT: its conditions are
        decided on pairs of rows, in their order. None where the query is of another kind, or a row
        of its own has an error."""
        return self._unless_a_row_fails(lambda: self._decided(value, outer, over, withs))

    def _decided(
        self, value: Any, outer: list[tree.Name], over: Relation, withs: Withs
    ) -> Vector | None:
        if isinstance(value, tree.InQuery | tree.Quantified):
            if isinstance(value.operand, tree.Row):
                return None
            operands: tuple[tree.Node, ...] = (value.operand,)
        elif isinstance(value, tree.Exists):
            operands = ()
        else:
            return None
        body = value.query.body
        if (
            not isinstance(body, tree.Select)
            or value.query.fetch is not None
            or len(body.items) != max(1, len(operands))
            or not all(isinstance(item, tree.Named) for item in body.items if operands)
        ):
            return None
        asked = None
        if operands:
            x, kind = self.expressions.evaluate(operands[0], over, withs, watched=False)
            if x.errors is not None:
                return None  # it counts also where there is nothing to compare it with
            asked = x.spread(over.count), kind
        true, unknown = np.zeros(over.count, bool), np.zeros(over.count, bool)
        errors = np.zeros(over.count, np.uint8)
        members = (
            self._of_groups(value.query, outer, over, withs)
            if body.groups is not None
            else self._of_pairs_met(value.query, outer, over, withs, errors)
        )
        if members is None:
            return None
        operator, negated = "=", getattr(value, "negated", False)
        if isinstance(value, tree.Quantified):
            # ALL is the opposite of the opposite comparison with ANY.
            operator, negated = value.operator, value.all
            operator = OPPOSITES[operator] if negated else operator
        for ones, of_item in members:
            if asked is None:
                true[ones] = True
                continue
            (x, first), (y, second) = (taken(asked[0], ones), asked[1]), of_item()
            both = common(first, second)
            if both is None:
                raise self.context.wrong(f"{operator} cannot mix {first} and {second}", value)
            both = TEXT if both.kind is Kind.NULL else both
            if y.errors is not None:
                errors[ones[y.errors != 0]] = y.errors[y.errors != 0]
            met = compared(operator)(as_type(x, both).values, as_type(y, both).values)
            true[ones[pc.fill_null(met, False).to_numpy(zero_copy_only=False)]] = True
            unknown[ones[pc.is_null(met).to_numpy(zero_copy_only=False)]] = True
        if not isinstance(value, tree.Quantified):  # which meets all values, as it does row by row
            errors[true] = 0
        return vector(to_arrow(true != negated, mask=unknown & ~true), errors)

    def _of_pairs_met(
        self,
        query: tree.Query,
        outer: list[tree.Name],
        over: Relation,
        withs: Withs,
        errors: np.ndarray,
    ) -> Iterator[Members] | None:
        """Of a SELECT without groups: the rows around it that rows of its own go with, some at a
        time, and how its item there is told; the errors of its conditions go into `errors`."""
        assert isinstance(query.body, tree.Select)
        items = query.body.items
        if any(top(items, (tree.Aggregate,))):
            return None
        correlated = self._correlated(query, outer, over, withs)
        if correlated is None or not correlated.keys:
            return None
        return self._members(correlated, items[0], over.for_a_while(), withs, errors)

    def _members(
        self,
        correlated: Correlated,
        item: tree.Node,
        over: Relation,
        withs: Withs,
        errors: np.ndarray,
    ) -> Iterator[Members]:
        inner = correlated.inner.for_a_while()
        for ones, twos in correlated.pairs(over.count):
            for condition in correlated.rest:
                result, _ = self._on_pairs(condition, correlated, over, inner, ones, twos, withs)
                if result.errors is not None:
                    bad = result.errors != 0
                    errors[ones[bad]] = np.where(
                        errors[ones[bad]] != 0, errors[ones[bad]], result.errors[bad]
                    )
                keep = result.true(len(ones))
                ones, twos = ones[keep], twos[keep]
            expression = getattr(item, "expression", item)
            pairs = correlated, over, inner, ones, twos, withs
            yield ones, partial(self._on_pairs, expression, *pairs, condition=False)

    def _of_groups(
        self, query: tree.Query, outer: list[tree.Name], over: Relation, withs: Withs
    ) -> Iterator[Members] | None:
        """The same of a SELECT with GROUP BY, a row a group: it is grouped once for all rows around
        it of which it reads the same."""
        read = [over.vectors[over.find(name, self.context.text)] for name in outer]
        if any(item.errors is not None for item in read):
            return None
        codes, first = codes_of([item.values for item in read], over.count)
        by_row = self._by_row(query, outer, over.take(first), withs)
        if by_row is None:
            return None
        result, numbers = by_row.result, by_row.numbers

        def members() -> Iterator[Members]:
            around, own = (Vector(to_arrow(side.astype(np.int64))) for side in (codes, numbers))
            for ones, twos in joins.equal_pairs([around], [own]):
                item = taken(result.vectors[0], twos), result.types[0]
                yield ones, partial(lambda item: item, item)

        return members()

    def values(
        self,
        scalar: tree.Scalar,
        outer: list[tree.Name],
        over: Relation,
        withs: Withs,
        of_none: Callable[[int], tuple[Vector, Type]],
    ) -> tuple[Vector, Type] | None:
        """The values of a plain correlated (SELECT …): an aggregate of the rows of its own that go
        with a row around it, or the only one or, of an order, the first of them. `of_none` gives
        the value for a row around it by its place, which none goes with. None where the query is of
        another kind, or a row has an error."""
        fetch = scalar.query.fetch
        if fetch is not None and literal_number(fetch) != 1:
            return None
        by_row = self._unless_a_row_fails(lambda: self._by_row(scalar.query, outer, over, withs))
        if by_row is None or len(by_row.result.names) != 1:
            return None
        kind, values = by_row.result.types[0], by_row.result.vectors[0]
        place = by_row.places(over.count)
        if by_row.grouped:
            empty = by_row.without_rows(place)
            more = [as_type(of_none(row)[0].spread(1), kind) for row in empty]
            return taken(joined([values, *more], kind), by_row.filled(place, len(empty))), kind
        result = taken(values, place)
        if fetch is not None:
            return result, kind
        many = np.bincount(by_row.numbers, minlength=over.count) > 1
        errors = np.zeros(over.count, np.uint8) if result.errors is None else result.errors
        return vector(result.values, np.where(many, CODES["21000"], errors).astype(np.uint8)), kind

    def rows(
        self,
        query: tree.Query,
        outer: list[tree.Name],
        over: Relation,
        withs: Withs,
        of_none: Callable[[int], Relation],
    ) -> tuple[Relation, np.ndarray] | None:
        """The rows of a plain correlated SELECT for each row around it, one after another, and how
        many each has; see `values`."""
        most = None if query.fetch is None else literal_number(query.fetch)
        if query.fetch is not None and most is None:
            return None
        by_row = self._unless_a_row_fails(lambda: self._by_row(query, outer, over, withs))
        if by_row is None:
            return None
        result, numbers = by_row.result, by_row.numbers
        if by_row.grouped:
            place = by_row.places(over.count)
            empty = by_row.without_rows(place)
            whole = stacked([result, *(of_none(row) for row in empty)])
            return whole.take(by_row.filled(place, len(empty))), np.ones(over.count, np.int64)
        sizes = np.bincount(numbers, minlength=over.count)
        if most is not None:
            starts = np.cumsum(sizes) - sizes
            result = result.take(np.flatnonzero(np.arange(len(numbers)) - starts[numbers] < most))
            sizes = np.minimum(sizes, most)
        return result, sizes

    def _unless_a_row_fails(self, decide: Callable[[], T | None]) -> T | None:
        """What is decided for all rows at once; None where an error would stop it: only the rows
        around that ask for it have that, each by itself."""
        faults = list(self.account.faults)
        self.account.quiet += 1
        try:
            return decide()
        except RowProblem:
            self.account.faults[:] = faults
            return None
        finally:
            self.account.quiet -= 1

    def _by_row(
        self, query: tree.Query, outer: list[tree.Name], over: Relation, withs: Withs
    ) -> ByRow | None:
        body = query.body
        if (
            not isinstance(body, tree.Select)
            or query.ties
            or (body.having is not None and body.groups is None)
            or not all(isinstance(item, tree.Named) for item in body.items)
            or self.account.on_error is not ErrorPolicy.STOP
        ):
            return None
        aggregates = top(body.items, (tree.Aggregate,))
        if (
            any(aggregate.over is not None for aggregate in aggregates)
            or (aggregates and (query.order or query.fetch is not None))
            or top(query.order, (tree.Aggregate,))
            or top((body.items, query.order, body.groups, body.having), SUBQUERIES)
            or top(body.groups, (tree.GroupingSets,))
        ):
            return None
        correlated = self._correlated(query, outer, over, withs)
        if correlated is None:
            return None
        grouped = bool(aggregates) and body.groups is None
        whole = stacked(self._parts(correlated, grouped, over, withs))
        own = len(whole.names) - 1
        result = replace(
            whole,
            names=whole.names[:own],
            tables=whole.tables[:own],
            types=whole.types[:own],
            vectors=Columns(whole.vectors.cells[:own], self.account.store),
        )
        return ByRow(result, whole.vectors[own].values.to_numpy(), correlated, grouped)

    def _parts(
        self, correlated: Correlated, grouped: bool, over: Relation, withs: Withs
    ) -> list[Relation]:
        """The rows of a subquery, their last column the number of the row around it that each is
        for, of some pairs at a time."""
        body = correlated.select
        start, end = body.start, body.end
        number = tree.Name(start, end, _NUMBER, True)
        rest = tuple(correlated.rest)
        where = tree.Logic(start, end, "AND", rest) if len(rest) > 1 else rest[0] if rest else None
        select = replace(
            body,
            items=(*body.items, tree.Named(start, end, _NUMBER, start, number)),
            where=where,
            groups=(
                (number, *correlated.outer, *(body.groups or ()))
                if grouped or body.groups is not None
                else None
            ),
        )
        order = (tree.SortKey(start, end, number, False, None), *correlated.query.order)
        query = replace(
            correlated.query, body=select, order=() if grouped else order, fetch=None, ties=False
        )
        names = correlated.names(over, self.context.text)
        over, inner = over.for_a_while(), correlated.inner.for_a_while()
        results = []
        none = np.zeros(0, np.int64)
        for ones, twos in correlated.pairs(over.count) if over.count and inner.count else ():
            rows = inner.take(twos).beside(outer_columns(names, over.take(ones), inner))
            results.append(self._of_pairs(rows, ones, select, query, withs))
        if not results:  # no pair: its types are told all the same
            rows = inner.take(none).beside(outer_columns(names, over.take(none), inner))
            results.append(self._of_pairs(rows, none, select, query, withs))
        return results

    def _of_pairs(
        self, rows: Relation, ones: np.ndarray, select: tree.Select, query: tree.Query, withs: Withs
    ) -> Relation:
        numbered = rows.with_columns([Vector(to_arrow(ones.astype(np.int64)))], [INTEGER])
        numbered = replace(numbered, names=(*rows.names, _NUMBER))
        return self.select_over(select, numbered, withs, query)

    def _correlated(
        self, query: tree.Query, outer: list[tree.Name], over: Relation, withs: Withs
    ) -> Correlated | None:
        """A query as pairs of rows: equalities between the two sides that stand first in its WHERE
        find the pairs. None where it is of another kind."""
        body = query.body
        if (
            not isinstance(body, tree.Select)
            or query.withs
            or query.offset is not None
            or body.where is None
            or any(top(body.items, SUBQUERIES))
            or any(top(body.where, (tree.Aggregate,)))
        ):
            return None
        free = {id(name) for name in self.free(query, withs)}
        names = (name for name in parse.walk(body.sources) if isinstance(name, tree.Name))
        if any(id(name) in free for name in names):
            return None
        inner = self.rows_of(replace(body, where=None), withs)
        parts = (
            list(body.where.operands)
            if isinstance(body.where, tree.Logic) and body.where.operator == "AND"
            else [body.where]
        )
        equal: list[tuple[tree.Node, tree.Node]] = []
        while parts:
            pair = _equality(parts[0], free)
            if pair is not None:
                equal.append(pair)
            elif any(id(name) in free for name in parse.walk(parts[0])):
                break
            else:
                result, _ = self.expressions.evaluate(
                    parts[0], inner, withs, condition=True, watched=False
                )
                if result.errors is not None:
                    break
                inner = inner.take(np.flatnonzero(result.true(inner.count)))
            parts.pop(0)
        keys = []
        for mine, theirs in equal:
            (x, first), (y, second) = (
                self.expressions.evaluate(theirs, over, withs, watched=False),
                self.expressions.evaluate(mine, inner, withs, watched=False),
            )
            kind = common(first, second)
            if kind is None or x.errors is not None or y.errors is not None:
                return None
            kind = TEXT if kind.kind is Kind.NULL else kind
            keys.append((as_type(x, kind), as_type(y, kind)))
        return Correlated(query, body, outer, inner, keys, parts)

    def _on_pairs(
        self,
        node: tree.Node,
        correlated: Correlated,
        over: Relation,
        inner: Relation,
        ones: np.ndarray,
        twos: np.ndarray,
        withs: Withs,
        condition: bool = True,
    ) -> tuple[Vector, Type]:
        """An expression of a subquery over pairs of a row around it and one of its own."""
        names = correlated.names(over, self.context.text)
        rows = inner.take(twos).beside(outer_columns(names, over.take(ones), inner))
        return self.expressions.evaluate(node, rows, withs, condition=condition, watched=False)


def stacked(parts: list[Relation]) -> Relation:
    """Rows of the same columns one after another."""
    first, *others = parts
    if not others:
        return first
    types = []
    for index, kind in enumerate(first.types):
        for part in others:
            kind = common(kind, part.types[index]) or kind
        types.append(kind)
    columns = [
        joined([part.vectors[index] for part in parts], kind) for index, kind in enumerate(types)
    ]
    count = sum(part.count for part in parts)
    return Relation(first.names, ("",) * len(types), tuple(types), Columns(columns), count)


def outer_columns(names: dict[tuple[str, str], int], rows: Relation, inner: Relation) -> Relation:
    """The columns of the rows around a subquery that it reads; one named with its table is found by
    that alone, so that a column of the subquery's own tables wins."""
    own = {name.casefold() for index, name in enumerate(inner.names) if index not in inner.hidden}
    kept = [
        (table, name, index) for (table, name), index in names.items() if table or name not in own
    ]
    return Relation(
        tuple(rows.names[index] for _, _, index in kept),
        tuple(table or rows.tables[index] for table, _, index in kept),
        tuple(rows.types[index] for _, _, index in kept),
        Columns([rows.vectors[index] for _, _, index in kept]),
        rows.count,
        frozenset(place for place, (table, _, _) in enumerate(kept) if table),
    )


def _equality(node: tree.Node, outer: set[int]) -> tuple[tree.Node, tree.Node] | None:
    """(the subquery's side, the side of the row around it) of an equality between the two."""
    if not isinstance(node, tree.Call) or node.name != "=" or not node.operator:
        return None
    if top(node.arguments, (tree.Row, *SUBQUERIES)):
        return None
    sides = [
        {id(name) in outer for name in parse.column_names(argument)} for argument in node.arguments
    ]
    if sides == [{False}, {True}]:
        return node.arguments[0], node.arguments[1]
    if sides == [{True}, {False}]:
        return node.arguments[1], node.arguments[0]
    return None

"""Subqueries in expressions: once for all rows, once for each combination of what they read of
the rows around them, or as a join."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.aggregates import ordered
from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector, first_error, vector
from gravel.kernels.arrays import to_arrow
from gravel.language import parse, tree
from gravel.language.errors import CODES, ErrorPolicy
from gravel.language.functions.operators import compared
from gravel.language.types import BOOLEAN, TEXT, Kind, Type, common
from gravel.querying import joins
from gravel.querying.account import Account, RowProblem
from gravel.querying.context import QueryContext, RunQuery
from gravel.querying.correlation import OPPOSITES, Correlation, outer_columns
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.relation import Columns, Relation, as_type, joined, taken
from gravel.querying.scopes import Scopes
from gravel.querying.shapes import SUBQUERIES, top
from gravel.querying.tables import Tables


class Outer(Struct):
    """The row around a subquery: the names and aggregates that the subquery reads of it, where they
    stand there, and the row."""

    names: dict[tuple[str, str], int]
    aggregates: dict[int, int]
    row: Relation


class Subqueries(Struct):
    """Values of subqueries."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    tables: Tables
    run_query: RunQuery
    correlation: Correlation
    around: Outer | None = None  # the row that the query under way stands in

    def add_columns(
        self, node: tree.Node, over: Relation, withs: dict[str, Relation], known: dict[Any, int]
    ) -> Relation:
        """The relation with a column for each subquery of an expression that is a value of its
        own."""
        rows = over

        def stands(value: tree.Node) -> bool:
            return bool(known) and (
                id(value) in known or self.expressions.shape(value, rows) in known
            )

        for item in top(node, SUBQUERIES, stop=stands):
            plain = isinstance(item, tree.InQuery) and not isinstance(item.operand, tree.Row)
            if (
                plain
                and not self.outer_names(item.query, over, withs)
                and not self._outer_aggregates(item.query, over, withs, known)
            ):
                continue  # the binder asks for its members
            result, kind = self._decided(item, over, withs, known)
            known[id(item)] = len(over.names)
            over = over.with_columns([result], [kind])
        return over

    @contextmanager
    def standing_in(self, row: Outer | None) -> Iterator[None]:
        """What runs inside stands in a row; in None where what it reads of one stands beside its
        rows already."""
        before, self.around = self.around, row
        try:
            yield
        finally:
            self.around = before

    def scopes(self) -> Scopes:
        """What resolves names in subqueries."""

        def names_of(node: tree.TableReference) -> Sequence[str]:
            if node.is_name and node.reference.casefold() in self.context.relations:
                return self.context.relations[node.reference.casefold()].names
            return self.tables.open(node).columns

        return Scopes(names_of)

    def free(self, query: tree.Query, withs: dict[str, Relation]) -> list[tree.Name]:
        return self.scopes().free(
            query,
            {name: [item.casefold() for item in result.names] for name, result in withs.items()},
        )

    def outer_names(
        self, query: tree.Query, over: Relation, withs: dict[str, Relation]
    ) -> list[tree.Name]:
        """The names in a subquery that mean columns of the rows around it."""
        results: dict[tuple[str, str], tree.Name] = {}
        body = query.body
        lists = body.sources if isinstance(body, tree.Select) else ()
        if not all(isinstance(source, tree.Unnest) for source in lists):
            lists = ()
        # UNNEST alone in FROM has no other table to read.
        meant = {id(name) for source in lists for name in parse.column_names(source)}
        for item in self.free(query, withs):
            if over.search(item, self.context.text) is not None:
                results[item.table.casefold(), item.text.casefold()] = item
                if not item.table and id(item) not in meant:
                    self.account.warn(
                        "a name from outside",
                        over.count,
                        f"take {item.text} from the row around the subquery, in which no table"
                        " has it",
                        "if that is meant, write it with its table:"
                        f" {over.tables[over.find(item, self.context.text)] or 't'}.{item.text}",
                    )
        return list(results.values())

    def _outer_aggregates(
        self, node: Any, over: Relation, withs: dict[str, Relation], known: dict[Any, int]
    ) -> list[tree.Aggregate]:
        """The aggregates in a subquery that have been computed for the rows around it, since they
        read these alone."""
        return [
            item
            for item in parse.walk(node)
            if isinstance(item, tree.Aggregate) and item.over is None and id(item) in known
        ]

    def aggregates_of_outer_columns(
        self, node: tree.Node, over: Relation, withs: dict[str, Relation]
    ) -> list[tree.Aggregate]:
        """The aggregates within an expression's subqueries that belong to this block: every column
        they name is one of its own."""
        results = []
        for subquery in top(node, SUBQUERIES):
            aggregates = [
                item
                for item in parse.walk(subquery.query)
                if isinstance(item, tree.Aggregate) and item.over is None
            ]
            if not aggregates:
                continue
            free = {id(name) for name in self.free(subquery.query, withs)}
            for aggregate in aggregates:
                named = list(parse.column_names(aggregate))
                if named and all(
                    id(name) in free and over.search(name, self.context.text) is not None
                    for name in named
                ):
                    results.append(aggregate)
        return results

    def _decided(
        self, value: Any, over: Relation, withs: dict[str, Relation], known: dict[Any, int]
    ) -> tuple[Vector, Type]:
        """A subquery's value for each row: once for all rows, or once for each different
        combination of what it reads of them."""
        outer = self.outer_names(value.query, over, withs)
        aggregates = self._outer_aggregates(value.query, over, withs, known)
        if not outer and not aggregates:
            output, kind = self._once(value, over, withs, self.around)
            return (output.spread(over.count) if output.constant else output), kind
        if not aggregates:
            with self.standing_in(None):
                decided = self.correlation.decided(value, outer, over, withs)
            if decided is not None:
                return decided, BOOLEAN
        names = {
            (name.table.casefold(), name.text.casefold()): over.find(name, self.context.text)
            for name in outer
        }
        stand = {id(node): known[id(node)] for node in aggregates}
        codes, first = codes_of(
            [over.vectors[index].values for index in (*names.values(), *stand.values())], over.count
        )
        if not aggregates and isinstance(value, tree.Scalar):
            asking = over.take(first)

            def value_of(row: int) -> tuple[Vector, Type]:
                around = Outer(names, stand, asking.take(np.array([row])))
                return self._once(value, asking, withs, around)

            with self.standing_in(None):
                at_once = self.correlation.values(value, outer, asking, withs, value_of)
            if at_once is not None:
                failed = self._read_errors(over, [*names.values()])
                return _with_errors(taken(at_once[0], codes), failed), at_once[1]
        parts, kind, rows = [], BOOLEAN, []
        members = isinstance(value, (tree.InQuery, tree.Quantified))
        order = np.argsort(codes, kind="stable") if members else codes
        ends = np.cumsum(np.bincount(codes, minlength=len(first))) if members else codes
        for number, row in enumerate(first):
            # What is looked for may differ among rows that share what the subquery reads.
            sharing = (
                order[ends[number - 1] if number else 0 : ends[number]]
                if members
                else np.array([row])
            )
            around = Outer(names, stand, over.take(np.array([row])))
            part, kind = self._once(value, over.take(sharing), withs, around)
            parts.append(part.spread(len(sharing)))
            rows.append(sharing)
        if not parts:
            # No row asks; one of NULLs tells the type.
            single = over.take(np.array([-1]))
            _, kind = self._once(value, single, withs, Outer(names, stand, single))
            return Vector(pa.nulls(0, kind.arrow)), kind
        failed = self._read_errors(over, [*names.values(), *stand.values()])
        if not members:
            output = taken(joined(parts, kind), codes)
        else:
            place = np.empty(over.count, np.int64)
            place[np.concatenate(rows)] = np.arange(over.count)
            output = taken(joined(parts, kind), place)
        return _with_errors(output, failed), kind

    @staticmethod
    def _read_errors(over: Relation, places: list[int]) -> np.ndarray | None:
        """The errors of what a subquery reads of each row."""
        return first_error([over.vectors[place] for place in places], over.count)

    def _once(
        self, value: Any, over: Relation, withs: dict[str, Relation], outer: Outer | None
    ) -> tuple[Vector, Type]:
        """A subquery's value for rows that share what it reads of them."""
        self.account.quiet += 1
        try:
            with self.standing_in(outer):
                result = self.run_query(value.query, withs)
        except RowProblem as problem:
            # It counts where the value is read: in a branch that no row takes it does not.
            self.account.reasons.setdefault(problem.sqlstate, f"in the subquery {problem.message}")
            error = np.array([CODES[problem.sqlstate]], np.uint8)
            kind = BOOLEAN
            if isinstance(value, (tree.Scalar, tree.ArrayOf)):
                with self.standing_in(outer):
                    kind = self._type_of(value, withs, outer)
            return vector(pa.nulls(1, kind.arrow), error, True), kind
        finally:
            self.account.quiet -= 1
        if isinstance(value, tree.Exists):
            return Vector(pa.array([result.count > 0]), None, True), BOOLEAN
        if isinstance(value, (tree.Scalar, tree.ArrayOf)):
            if len(result.names) != 1:
                raise self.context.wrong(
                    f"a value is needed here, this query has {len(result.names)} columns", value
                )
            kind, values = result.types[0], result.vectors[0]
            if isinstance(value, tree.ArrayOf):
                item = TEXT if kind.kind is Kind.NULL else kind
                kind = Type(Kind.ARRAY, item=item)
                if values.errors is not None:
                    return (
                        vector(
                            pa.nulls(1, kind.arrow), values.errors[values.errors != 0][:1], True
                        ),
                        kind,
                    )
                lists = pa.ListArray.from_arrays(
                    pa.array([0, result.count], pa.int32()), as_type(values, item).values
                )
                return Vector(lists, None, True), kind
            if result.count > 1:
                return (
                    vector(pa.nulls(1, kind.arrow), np.array([CODES["21000"]], np.uint8), True),
                    kind,
                )
            return (
                vector(
                    values.values if result.count else pa.nulls(1, kind.arrow),
                    values.errors if result.count else None,
                    True,
                ),
                kind,
            )
        values_of = list(zip(result.names, result.vectors, strict=True))
        sound = self.account.sound_rows("subquery", result, values_of)
        result = result if sound is None else result.take(sound)
        if isinstance(value, tree.Quantified):
            return self._compared(value, over, result, withs), BOOLEAN
        return self._row_in(value, over, result, withs), BOOLEAN

    def _type_of(self, value: Any, withs: dict[str, Relation], outer: Outer | None) -> Type:
        """The type of a subquery that has no value, from running it with its errors as NULL."""
        before, self.account.on_error = self.account.on_error, ErrorPolicy.NULL
        faults = list(self.account.faults)
        try:
            return self._once(value, Relation((), (), (), Columns(()), 1), withs, outer)[1]
        finally:
            self.account.on_error, self.account.faults = before, faults

    def _pairs_alike(
        self,
        value: Any,
        items: Sequence[tree.Node],
        over: Relation,
        relation: Relation,
        withs: dict[str, Relation],
    ) -> tuple[list[Vector], list[Vector]]:
        """Both sides of IN or of a comparison with a query's values, in common types."""
        if len(items) != len(relation.names):
            raise self.context.wrong(
                f"{len(items)} values beside {len(relation.names)} columns", value
            )
        sides = [self.expressions.evaluate(item, over, withs) for item in items]
        kinds = []
        for (_, kind), other, item in zip(sides, relation.types, items, strict=True):
            both = common(kind, other)
            if both is None:
                raise self.context.wrong(f"IN cannot mix {kind} and {other}", item)
            kinds.append(TEXT if both.kind is Kind.NULL else both)
        left = [as_type(result, kind) for (result, _), kind in zip(sides, kinds, strict=True)]
        return left, [
            as_type(vector, kind) for vector, kind in zip(relation.vectors, kinds, strict=True)
        ]

    def _compared(
        self,
        quantified: tree.Quantified,
        over: Relation,
        relation: Relation,
        withs: dict[str, Relation],
    ) -> Vector:
        """x < ANY (SELECT …): TRUE where it is true of the value that is farthest, unknown where a
        NULL might have been; ALL is the opposite of the opposite comparison with ANY."""
        (left,), (right,) = self._pairs_alike(
            quantified, [quantified.operand], over, relation, withs
        )
        operator = OPPOSITES[quantified.operator] if quantified.all else quantified.operator
        known = right.values.drop_null()
        true = np.zeros(over.count, bool)
        if len(known):
            order = ordered(known)
            ends: dict[str, Sequence[int]] = {
                "<": [-1],
                "<=": [-1],
                ">": [0],
                ">=": [0],
                "<>": [0, -1],
                "=": range(len(order)),
            }
            for end in ends[operator]:
                value = known[int(order[end])]
                true |= pc.fill_null(compared(operator)(left.values, value), False).to_numpy(
                    zero_copy_only=False
                )
        unknown = (
            ~true
            & (
                pc.is_null(left.values).to_numpy(zero_copy_only=False)
                | bool(right.values.null_count)
            )
            & bool(relation.count)
        )
        return vector(to_arrow(true != quantified.all, mask=unknown), left.errors)

    def _row_in(
        self, in_query: tree.InQuery, over: Relation, relation: Relation, withs: dict[str, Relation]
    ) -> Vector:
        """(a, b) IN (SELECT …): TRUE where all are equal; unknown where a NULL might have been."""
        items = (
            in_query.operand.items
            if isinstance(in_query.operand, tree.Row)
            else (in_query.operand,)
        )
        left, right = self._pairs_alike(in_query, items, over, relation, withs)
        count = over.count
        true = np.zeros(count, bool)
        if relation.count and count:
            for pairs, _ in joins.equal_pairs(left, right):
                true[pairs] = True
        unknown = np.zeros(count, bool)
        left_null = np.array(
            [pc.is_null(part.values).to_numpy(zero_copy_only=False) for part in left]
        )
        right_null = np.array(
            [pc.is_null(part.values).to_numpy(zero_copy_only=False) for part in right]
        )
        equal = compared("=")
        for rows in [np.flatnonzero(right_null.any(axis=0))] if relation.count else []:
            for row in rows:
                possible = np.ones(count, bool)
                for index, (a, b) in enumerate(zip(left, right, strict=True)):
                    if right_null[index, row]:
                        continue
                    possible &= pc.fill_null(equal(a.values, b.values[int(row)]), True).to_numpy(
                        zero_copy_only=False
                    )
                unknown |= possible
        if relation.count:
            for row in np.flatnonzero(left_null.any(axis=0)):
                possible = np.ones(relation.count, bool)
                for index, (a, b) in enumerate(zip(left, right, strict=True)):
                    if not left_null[index, row]:
                        possible &= pc.fill_null(
                            equal(b.values, a.values[int(row)]), True
                        ).to_numpy(zero_copy_only=False)
                unknown[row] |= bool(possible.any())
        result = to_arrow(true != in_query.negated, mask=unknown & ~true)
        return vector(result, first_error(left, count))

    def members(self, query: tree.Query, text: str) -> tuple[Type, Any, bool]:
        """What an uncorrelated x IN (SELECT …) asks: the subquery's values."""
        self.account.quiet += 1
        try:
            result = self.run_query(query, self.context.withs)
        finally:
            self.account.quiet -= 1
        if len(result.names) != 1:
            raise self.context.wrong(
                f"IN needs one column, this query has {len(result.names)}", query
            )
        sound = self.account.sound_rows("subquery", result, [(result.names[0], result.vectors[0])])
        item = result.vectors[0] if sound is None else taken(result.vectors[0], sound)
        if item.values.null_count:
            self.context.with_null.add(id(query))
        _, first = codes_of([item.values], len(item))
        return (
            result.types[0],
            item.values.take(to_arrow(first)).drop_null(),
            bool(item.values.null_count),
        )

    def with_outer(self, over: Relation) -> tuple[Relation, dict[Any, int]]:
        """The rows with what a correlated subquery reads of the row around it, each as a column of
        one value; and where the aggregates among them stand."""
        around = self.around
        if around is None:
            return over, {}
        once = np.zeros(over.count, np.int64)
        extra = outer_columns(around.names, around.row.take(once), over)
        stands = {
            node: len(over.names) + len(extra.names) + index
            for index, node in enumerate(around.aggregates)
        }
        extra = extra.with_columns(
            [
                taken(around.row.vectors[aggregate], once)
                for aggregate in around.aggregates.values()
            ],
            [around.row.types[aggregate] for aggregate in around.aggregates.values()],
        )
        return (over.beside(extra) if extra.names else over), stands


def _with_errors(values: Vector, failed: np.ndarray | None) -> Vector:
    """Values with the errors of what they were made for, which come first."""
    if failed is None:
        return values
    errors = failed if values.errors is None else np.where(failed != 0, failed, values.errors)
    return vector(values.values, errors.astype(np.uint8))

"""Subqueries in expressions: once for all rows, once for each combination of what they read of
the rows around them, or as a join."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct
from msgspec.structs import replace

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
    rows_of: Callable[[tree.Select, dict[str, Relation]], Relation]  # of its FROM
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

    def scopes(self) -> Scopes:
        """What resolves names in subqueries."""

        def names_of(node: tree.TableReference) -> Sequence[str]:
            if node.is_name and node.reference.casefold() in self.context.relations:
                return self.context.relations[node.reference.casefold()].names
            return self.tables.open(node).columns

        return Scopes(names_of)

    def _free(self, query: tree.Query, withs: dict[str, Relation]) -> list[tree.Name]:
        return self.scopes().free(
            query,
            {name: [item.casefold() for item in result.names] for name, result in withs.items()},
        )

    def outer_names(
        self, query: tree.Query, over: Relation, withs: dict[str, Relation]
    ) -> list[tree.Name]:
        """The names in a subquery that mean columns of the rows around it."""
        results: dict[tuple[str, str], tree.Name] = {}
        for item in self._free(query, withs):
            if over.search(item, self.context.text) is not None:
                results[item.table.casefold(), item.text.casefold()] = item
                if not item.table:
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
            free = {id(name) for name in self._free(subquery.query, withs)}
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
        if not aggregates and (result := self._semi_join(value, outer, over, withs)) is not None:
            return result, BOOLEAN
        names = {
            (name.table.casefold(), name.text.casefold()): over.find(name, self.context.text)
            for name in outer
        }
        stand = {id(node): known[id(node)] for node in aggregates}
        codes, first = codes_of(
            [over.vectors[index].values for index in (*names.values(), *stand.values())], over.count
        )
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
        if failed is not None:
            output = vector(
                output.values,
                (
                    failed
                    if output.errors is None
                    else np.where(failed != 0, failed, output.errors).astype(np.uint8)
                ),
            )
        return output, kind

    @staticmethod
    def _read_errors(over: Relation, places: list[int]) -> np.ndarray | None:
        """The errors of what a subquery reads of each row."""
        return first_error([over.vectors[place] for place in places], over.count)

    def _once(
        self, value: Any, over: Relation, withs: dict[str, Relation], outer: Outer | None
    ) -> tuple[Vector, Type]:
        """A subquery's value for rows that share what it reads of them."""
        self.account.quiet += 1
        before, self.around = self.around, outer
        try:
            result = self.run_query(value.query, withs)
        except RowProblem as problem:
            # It counts where the value is read: in a branch that no row takes it does not.
            self.account.reasons.setdefault(problem.sqlstate, f"in the subquery {problem.message}")
            error = np.array([CODES[problem.sqlstate]], np.uint8)
            kind = BOOLEAN
            if isinstance(value, (tree.Scalar, tree.ArrayOf)):
                kind = self._type_of(value, withs, outer)
            return vector(pa.nulls(1, kind.arrow), error, True), kind
        finally:
            self.around = before
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
    ) -> tuple[list[Vector], list[Vector], list[Type]]:
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
        return (
            left,
            [as_type(vector, kind) for vector, kind in zip(relation.vectors, kinds, strict=True)],
            kinds,
        )

    def _compared(
        self,
        quantified: tree.Quantified,
        over: Relation,
        relation: Relation,
        withs: dict[str, Relation],
    ) -> Vector:
        """x < ANY (SELECT …): TRUE where it is true of the value that is farthest, unknown where a
        NULL might have been; ALL is the opposite of the opposite comparison with ANY."""
        (left,), (right,), _ = self._pairs_alike(
            quantified, [quantified.operand], over, relation, withs
        )
        opposite = {"=": "<>", "<>": "=", "<": ">=", ">=": "<", ">": "<=", "<=": ">"}
        operator = opposite[quantified.operator] if quantified.all else quantified.operator
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
        left, right, kinds = self._pairs_alike(in_query, items, over, relation, withs)
        count = over.count
        true = np.zeros(count, bool)
        if relation.count and count:
            for pairs, _ in joins.equal_pairs(left, right, kinds):
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

    def _semi_join(
        self, value: Any, outer: list[tree.Name], over: Relation, withs: dict[str, Relation]
    ) -> Vector | None:
        """EXISTS and IN of a plain correlated SELECT as pairs of rows: equalities between the two
        sides that stand first in its WHERE find the pairs, and the other conditions are decided on
        these, in their order. None where the query is of another kind.
        """
        query = value.query
        body = query.body
        if isinstance(value, tree.InQuery) and not isinstance(value.operand, tree.Row):
            operands: tuple[tree.Node, ...] = (value.operand,)
        elif isinstance(value, tree.Exists):
            operands = ()
        else:
            return None
        if (
            not isinstance(body, tree.Select)
            or query.withs
            or query.fetch is not None
            or query.offset is not None
            or body.where is None
            or body.groups is not None
            or body.having is not None
            or self.around is not None
            or len(body.items) != max(1, len(operands))
            or any(top((*body.items, body.where), (*SUBQUERIES, tree.Aggregate)))
            or not all(isinstance(item, tree.Named) for item in body.items if operands)
        ):
            return None
        if {id(name) for source in body.sources for name in self._free_in(source, withs)} & {
            id(name) for name in self._free(query, withs)
        }:
            return None
        self.account.quiet += 1
        try:
            inner = self.rows_of(replace(body, where=None), withs)
        finally:
            self.account.quiet -= 1
        parts = (
            list(body.where.operands)
            if isinstance(body.where, tree.Logic) and body.where.operator == "AND"
            else [body.where]
        )
        free = {id(name) for name in self._free(query, withs)}
        equal: list[tuple[tree.Node, tree.Node]] = []
        while parts:
            pair = _equality(parts[0], free)
            if pair is not None:
                equal.append(pair)
            elif any(id(name) in free for name in parse.column_names(parts[0])):
                break
            else:
                result, _ = self.expressions.evaluate(
                    parts[0], inner, withs, condition=True, watched=False
                )
                if result.errors is not None:
                    break
                inner = inner.take(np.flatnonzero(result.true(inner.count)))
            parts.pop(0)
        if not equal:
            return None
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
            keys.append((as_type(x, kind), as_type(y, kind), kind))
        pairs = joins.equal_pairs(
            [key[0] for key in keys], [key[1] for key in keys], [key[2] for key in keys]
        )
        true, unknown = np.zeros(over.count, bool), np.zeros(over.count, bool)
        errors = np.zeros(over.count, np.uint8)
        over, inner = over.for_a_while(), inner.for_a_while()
        for ones, twos in pairs:
            for condition in parts:
                result, _ = self._on_pairs(condition, outer, over, inner, ones, twos, withs, True)
                if result.errors is not None:
                    bad = result.errors != 0
                    errors[ones[bad]] = np.where(
                        errors[ones[bad]] != 0, errors[ones[bad]], result.errors[bad]
                    )
                keep = result.true(len(ones))
                ones, twos = ones[keep], twos[keep]
            if not operands:
                true[ones] = True
                continue
            item = body.items[0]
            assert isinstance(item, tree.Named)
            (x, first), (y, second) = (
                self._on_pairs(operands[0], None, over, inner, ones, twos, withs, False),
                self._on_pairs(item.expression, outer, over, inner, ones, twos, withs, False),
            )
            kind = common(first, second)
            if kind is None:
                raise self.context.wrong(f"IN cannot mix {first} and {second}", value)
            kind = TEXT if kind.kind is Kind.NULL else kind
            failed = first_error([x, y], len(ones))
            if failed is not None:
                errors[ones[failed != 0]] = failed[failed != 0]
            same = compared("=")(as_type(x, kind).values, as_type(y, kind).values)
            true[ones[pc.fill_null(same, False).to_numpy(zero_copy_only=False)]] = True
            unknown[ones[pc.is_null(same).to_numpy(zero_copy_only=False)]] = True
        return vector(
            to_arrow(true != getattr(value, "negated", False), mask=unknown & ~true),
            np.where(true, 0, errors).astype(np.uint8),
        )

    def _free_in(self, source: tree.Node, withs: dict[str, Relation]) -> list[tree.Name]:
        return [name for name in parse.walk(source) if isinstance(name, tree.Name)]

    def _on_pairs(
        self,
        node: tree.Node,
        outer: list[tree.Name] | None,
        over: Relation,
        inner: Relation,
        ones: np.ndarray,
        twos: np.ndarray,
        withs: dict[str, Relation],
        condition: bool,
    ) -> tuple[Vector, Type]:
        """An expression of a subquery over pairs of a row around it and one of its own; without
        `outer` one of the row around it."""
        if outer is None:
            return self.expressions.evaluate(node, over.take(ones), withs, watched=False)
        names = {
            (name.table.casefold(), name.text.casefold()): over.find(name, self.context.text)
            for name in outer
        }
        rows = inner.take(twos).beside(self._outer_columns(names, over.take(ones), inner))
        return self.expressions.evaluate(node, rows, withs, condition=condition, watched=False)

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
        extra = self._outer_columns(around.names, around.row.take(once), over)
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

    @staticmethod
    def _outer_columns(
        names: dict[tuple[str, str], int], rows: Relation, inner: Relation
    ) -> Relation:
        """The columns of the rows around a subquery that it reads; one named with its table is
        found by that alone, so that a column of the subquery's own tables wins."""
        own = {
            name.casefold() for index, name in enumerate(inner.names) if index not in inner.hidden
        }
        kept = [
            (table, name, index)
            for (table, name), index in names.items()
            if table or name not in own
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
    if any(isinstance(argument, tree.Row) for argument in node.arguments):
        return None
    sides = [
        {id(name) in outer for name in parse.column_names(argument)} for argument in node.arguments
    ]
    if sides == [{False}, {True}]:
        return node.arguments[0], node.arguments[1]
    if sides == [{True}, {False}]:
        return node.arguments[1], node.arguments[0]
    return None

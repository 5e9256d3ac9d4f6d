"""ExpressionEvaluator over the rows of a query: names, what has been computed already, cautions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pyarrow as pa
from msgspec import Struct

from gravel.engine.evaluate import run
from gravel.engine.vector import Vector
from gravel.inspecting.cautions import Watch
from gravel.language import tree
from gravel.language.bind import bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.nodes import Expression, Shape
from gravel.language.scope import Scope
from gravel.language.types import NUMBERS, Kind, Type
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.relation import Columns, Grouped, Relation
from gravel.querying.shapes import top

AddSubqueries = Callable[[tree.Node, Relation, dict[str, Relation], dict[Any, int]], Relation]


Memo = dict[Shape, Vector]


class ExpressionEvaluator(Struct):
    """Evaluates expressions over relations."""

    account: Account
    context: QueryContext
    add_subqueries: AddSubqueries

    def evaluate(
        self,
        node: tree.Node,
        over: Relation,
        withs: dict[str, Relation],
        stands: dict[Any, int] | None = None,
        condition: bool = False,
        watched: bool = True,
        counted: bool = False,
        memo: Memo | None = None,
    ) -> tuple[Vector, Type]:
        """An expression over a relation's rows. `stands` maps shapes of nodes to columns that hold
        them already; its cautions are told if it is `watched`, which needs all rows at once; of one
        that is `counted`, NULL is the answer no; `memo` keeps results for the same rows.
        """
        known = dict(stands or {})
        plain = over
        over = self.add_subqueries(node, over, withs, known)
        if over is not plain:
            memo = None  # columns of subqueries are there for this expression alone
        self.context.withs = withs
        bound = self.bind(node, over, known, condition)
        frame = over.frame().remembering(memo)
        result = run(bound, frame).spread(over.count)
        if memo is not None and self.account.fits(result):
            memo[bound.shape] = result
        if watched and not self.account.quiet:
            watch = self.watch_of(bound, counted)
            if watch.probes:
                watch.add(watch.count(frame))
            self.account.tell_of(watch)
            self._warn_of_not_in(node, over)
        if condition and pa.types.is_null(result.values.type):
            result = Vector(result.values.cast(pa.bool_()), result.errors)
        return result, bound.type

    def bind(
        self, node: tree.Node, over: Relation, known: dict[Any, int], condition: bool = False
    ) -> Expression:
        """An expression over a relation's columns; `known` as `stands` of `evaluate`."""

        def stand(value: tree.Node) -> int | None:
            return known.get(id(value), known.get(self.shape(value, over))) if known else None

        failing = frozenset(index for index in range(len(over.names)) if over.vectors.fails(index))
        scope = Scope(
            over.names, over.types, frozenset(), self.context.given, stand, over.find, failing
        )
        bound = bind(node, scope, self.context.text)
        if condition and bound.type.kind not in (Kind.BOOLEAN, Kind.NULL):
            raise self.context.wrong(
                f"a condition is needed here, this is {bound.type}",
                node,
                "compare it: … = …, … IS NOT NULL",
            )
        return bound

    def watch_of(self, bound: Expression, counted: bool = False) -> Watch:
        """What looks for rows that deserve a caution."""
        return Watch([(bound, self.context.text)], counted, self.context.list_items)

    def _warn_of_not_in(self, node: tree.Node, over: Relation) -> None:
        """NOT IN is never true where the query has a NULL."""
        for item in top(node, (tree.InQuery,)):
            if item.negated and id(item.query) in self.context.with_null:
                self.account.warn(
                    "NOT IN over NULL",
                    over.count,
                    f"for which {self.context.written(item)[:60]} cannot be true: the query has a"
                    " NULL",
                    "add WHERE … IS NOT NULL to it, or write NOT EXISTS",
                )

    def shape(self, node: Any, over: Relation) -> Any:
        """What a node says, wherever it stands: names by the columns they mean."""
        if isinstance(node, tree.Name):
            # Of groups: the columns of the rows that were grouped.
            source = (
                over.ungrouped if isinstance(over, Grouped) and over.ungrouped is not None else over
            )
            try:
                match = source.search(node, self.context.text)
            except Diagnostic:
                match = None
            return ("column", match) if match is not None else ("name", node.text, node.table)
        if isinstance(node, tree.Node):
            fields = [
                getattr(node, field)
                for field in node.__struct_fields__
                if field not in ("start", "end", "name_end", "name_start")
            ]
            name = getattr(node, "name", None)
            if isinstance(node, (tree.Call, tree.Aggregate)) and isinstance(name, str):
                fields = [name.upper() if field == name else field for field in fields]
            return (type(node).__name__, *(self.shape(field, over) for field in fields))
        if isinstance(node, tuple):
            return tuple(self.shape(item, over) for item in node)
        return node

    def number(self, node: tree.Node, what: str) -> int | None:
        """A number of rows: a constant expression's whole value, None for NULL."""
        result, kind = self.evaluate(
            node, Relation((), (), (), Columns(()), 1), self.context.withs, watched=False
        )
        if kind.kind not in (*NUMBERS, Kind.NULL) or result.errors is not None:
            raise self.context.wrong(f"{what} is a number, this is {kind}", node)
        value = result.values[0].as_py()
        if value is not None and value != int(value):
            raise self.context.wrong(f"{what} is a whole number", node)
        return None if value is None else int(value)

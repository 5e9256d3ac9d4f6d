"""UNNEST: the items of arrays beside the rows that they stand in."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.types import INTEGER, TEXT, Kind
from gravel.querying import joins
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.relation import Columns, Relation, taken
from gravel.words import number_of


class ListedRows(Struct, frozen=True):
    """How many rows have items, how many none, and whether these are kept."""

    with_items: int
    without: int
    kept: bool

    def __add__(self, other: ListedRows) -> ListedRows:
        return ListedRows(
            self.with_items + other.with_items, self.without + other.without, self.kept
        )

    def __str__(self) -> str:
        if not self.without:
            return f"{number_of(self.with_items)} with items"
        became = "are kept" if self.kept else "are lost"
        return f"{number_of(self.with_items)} with items, {self.without:,} without {became}"


class Unnesting(Struct):
    """Puts the items of arrays beside rows."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator

    def unnest(
        self, left: Relation, node: tree.Unnest, withs: dict[str, Relation], outer: bool
    ) -> Relation:
        """Each row as often as its array has items, with them beside it; `outer`: once where it has
        none, with NULL."""
        lists, kind = self.expressions.evaluate(node.expression, left, withs)
        if kind.kind is not Kind.ARRAY:
            raise self.context.wrong(
                f"UNNEST takes an array, this is {kind}",
                node.expression,
                "make one: LIST_ITEMS(x, ';'), or CAST(x AS TEXT ARRAY) of JSON text",
            )
        lists = lists.spread(left.count)
        sound = self.account.sound_rows(
            "UNNEST", left, [(self.context.written(node.expression), lists)]
        )
        if sound is not None:
            left, lists = left.take(sound), taken(lists, sound)
        rows, items, places, empty = joins.unnested(lists.values)
        without = len(empty)
        if outer and without:
            rows = np.concatenate([rows, empty])
            items = pa.concat_arrays([items, pa.nulls(without, items.type)])
            places = np.concatenate([places, np.zeros(without, np.int64)])
            order = np.argsort(rows, kind="stable")
            rows, items, places = rows[order], items.take(to_arrow(order)), places[order]
        names = node.columns or ("item", "ordinality")[: 1 + node.ordinality]
        if len(names) > 1 + node.ordinality:
            raise self.context.wrong(f"{len(names)} names for {1 + node.ordinality} columns", node)
        columns, types = [Vector(items)], [kind.item or TEXT]
        if node.ordinality:
            names = (*names, "ordinality")[:2]
            columns.append(Vector(to_arrow(places, mask=places == 0)))
            types.append(INTEGER)
        right = Relation(
            tuple(names[:1]) + tuple(names[1:]),
            (node.alias,) * len(columns),
            tuple(types),
            Columns(columns),
            len(rows),
        )
        listed = ListedRows(left.count - without, without, outer)
        stage = self.account.enter("UNNEST", (left,), len(rows), listed)
        if not outer:
            self.account.warn(
                "UNNEST loses rows",
                without,
                "have no item, so they are lost",
                "LEFT JOIN UNNEST(…) ON TRUE keeps them",
            )
        return replace(left.take(rows).beside(right), stage=stage)


def unnested_by(
    unnesting: Unnesting, left: Relation, node: tree.Join, withs: dict[str, Relation]
) -> Relation:
    """Rows joined with the items of their arrays."""
    assert isinstance(node.right, tree.Unnest)
    return unnesting.unnest(left, node.right, withs, outer=node.kind == "LEFT")

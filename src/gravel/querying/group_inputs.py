"""What groups are made of: the keys of rows, and what their aggregates are of."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct

from gravel.engine.row_codes import codes_of
from gravel.engine.vector import Vector
from gravel.kernels.arrays import to_arrow
from gravel.language import tree
from gravel.language.functions.casts import to_text
from gravel.language.types import Type
from gravel.querying.account import Account
from gravel.querying.aggregation import Aggregation, Input, items_of
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator, Memo
from gravel.querying.relation import Relation, taken
from gravel.words import number_of

Keys = dict[Any, tuple[Vector, Type]]


class GroupInputs(Struct):
    """Evaluates what rows are grouped by, and what aggregates are of, for the rows without an error
    there."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator
    aggregation: Aggregation

    def of(
        self,
        every: dict[Any, tree.Node],
        aggregates: list[tree.Aggregate],
        over: Relation,
        withs: dict[str, Relation],
    ) -> tuple[Relation, Keys, list[Input]]:
        """The rows, by the shapes of the expressions that they are grouped by the values of these,
        and what each aggregate is of."""
        keys = {
            shape: self.expressions.evaluate(node, over, withs) for shape, node in every.items()
        }
        sound = self.account.sound_rows(
            "GROUP BY",
            over,
            ((self.context.written(every[shape]), result) for shape, (result, _) in keys.items()),
        )
        if sound is not None:
            over = over.take(sound)
            keys = {shape: (taken(result, sound), kind) for shape, (result, kind) in keys.items()}
        memo: Memo = {}
        sound = self._sound_inputs(aggregates, over, keys, every, withs, memo)
        if sound is not None:
            over, memo = over.take(sound), {}
            keys = {shape: (taken(result, sound), kind) for shape, (result, kind) in keys.items()}
        inputs = [
            self.aggregation.input_of(aggregate, over, withs, memo=memo) for aggregate in aggregates
        ]
        memo.clear()
        return over, keys, inputs

    def _sound_inputs(
        self,
        aggregates: list[tree.Aggregate],
        over: Relation,
        keys: Keys,
        every: dict[Any, tree.Node],
        withs: dict[str, Relation],
        memo: Memo,
    ) -> np.ndarray | None:
        """An error in an aggregate's input is one of its source row: it is told, and the row left
        out where errors leave rows out; which remain then, else None."""
        inputs: list[tuple[str, Vector]] = []
        for aggregate in aggregates:
            if aggregate.name.upper() == "GROUPING":
                continue
            mask = np.ones(over.count, bool)
            if aggregate.filter is not None:
                decided, _ = self.expressions.evaluate(
                    aggregate.filter, over, withs, condition=True, watched=False, memo=memo
                )
                inputs.append((self.context.written(aggregate.filter), decided))
                mask = decided.true(over.count)
            for node in (
                *items_of(aggregate.arguments),
                *(key.expression for key in aggregate.within + aggregate.order),
            ):
                output, _ = self.expressions.evaluate(node, over, withs, watched=False, memo=memo)
                errors = output.errors
                if errors is not None:
                    errors = np.where(mask, errors, 0).astype(np.uint8)
                inputs.append((self.context.written(aggregate), Vector(output.values, errors)))
        return self.account.sound_rows(
            "aggregate", over, inputs, lambda failed: self._by_group(failed, keys, every)
        )

    def _by_group(self, failed: np.ndarray, keys: Keys, every: dict[Any, tree.Node]) -> str:
        """How many rows are left out of each group, of the first groups."""
        if not keys:
            return ""
        rows = np.flatnonzero(failed)
        columns = [taken(result, rows).values for result, _ in keys.values()]
        codes, first = codes_of(columns, len(rows))
        texts = [
            to_text(column.take(to_arrow(first)), kind).to_pylist()
            for column, (_, kind) in zip(columns, keys.values(), strict=True)
        ]
        counts = np.bincount(codes, minlength=len(first))
        names = [self.context.written(node)[:30] for node in every.values()]
        message = []
        for index in range(min(len(first), 5)):
            group = ", ".join(
                f"{name} {'NULL' if text[index] is None else text[index][:30]}"
                for name, text in zip(names, texts, strict=True)
            )
            message.append(f"{counts[index]:,} of {group}")
        more = len(first) - len(message)
        return (
            ": "
            + "; ".join(message)
            + (f"; and {number_of(more, 'group')} more" if more > 0 else "")
        )

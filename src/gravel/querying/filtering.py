"""WHERE and HAVING."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from gravel.engine.vector import Vector
from gravel.language import parse, tree
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.partitions import flat_indices
from gravel.querying.relation import Relation


class Decided(Struct, frozen=True):
    """Of how many rows a condition is true and false, and for how many it fails; it is unknown for
    the others."""

    rows: int
    true: int
    false: int
    failed: int

    @classmethod
    def of(cls, result: Vector, rows: int) -> Decided:
        """What a condition came to."""
        true, false, failed = result.true(rows), result.false(rows), result.failed(rows)
        return cls(rows, int(true.sum()), int(false.sum()), int(failed.sum()))

    def __add__(self, other: Decided) -> Decided:
        return Decided(
            self.rows + other.rows,
            self.true + other.true,
            self.false + other.false,
            self.failed + other.failed,
        )

    def __str__(self) -> str:
        removed = self.rows - self.true
        unknown = removed - self.false - self.failed
        error = f", {self.failed:,} with an error" if self.failed else ""
        return (
            f"{removed:,} removed ({self.false:,} false, {unknown:,} unknown{error})"
            if removed
            else "none removed"
        )


class Filtering(Struct):
    """Keeps the rows for which a condition is true."""

    account: Account
    context: QueryContext
    expressions: ExpressionEvaluator

    def where(
        self,
        node: tree.Node,
        over: Relation,
        withs: dict[str, Relation],
        stage: str,
        stands: dict[Any, int] | None = None,
    ) -> Relation:
        result, _ = self.expressions.evaluate(node, over, withs, stands, condition=True)
        self.account.report_errors(stage, self.context.written(node), result.errors, over.rows)
        if result.errors is not None:
            self.account.note_omitted(over, result.errors != 0)
        keep = result.true(over.count)
        decided = Decided.of(result, over.count)
        place = self.account.enter(stage, (over,), decided.true, decided)
        self._warn_of_outer_side(node, over, keep)
        return replace(over if keep.all() else over.take(flat_indices(keep)), stage=place)

    def _warn_of_outer_side(self, node: tree.Node, over: Relation, keep: np.ndarray) -> None:
        """A condition on the outer side of a join that removes every row without a partner makes an
        inner join of it."""
        read = {
            index
            for name in parse.column_names(node)
            if (index := over.search(name, self.context.text)) is not None
        }
        for columns, mask in over.alone:
            if read & columns:
                detail = (
                    f"without a partner are removed by {self.context.written(node)[:60]}, which"
                    " reads the outer side: the join is an inner one now"
                )
                self.account.warn(
                    "WHERE on the outer side",
                    int(mask.sum()),
                    detail,
                    "put the condition into ON, or allow IS NULL",
                    unless=int((mask & keep).sum()),
                )

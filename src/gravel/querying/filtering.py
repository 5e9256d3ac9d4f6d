"""WHERE and HAVING."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from gravel.language import parse, tree
from gravel.querying.account import Account
from gravel.querying.context import QueryContext
from gravel.querying.evaluation import ExpressionEvaluator
from gravel.querying.partitions import flat_indices
from gravel.querying.relation import Relation
from gravel.querying.scan_filter import Decided


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
        if result.errors is not None:
            self.account.report_errors(stage, self.context.written(node), result.errors, over.rows)
            self.account.note_omitted(over, result.errors != 0)
        keep = result.true(over.count)
        decided = Decided.of(result, over.count)
        place = self.account.enter(stage, (over,), decided.true, str(decided))
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
            if read & columns and mask.any() and not (mask & keep).any():
                detail = (
                    f"without a partner are removed by {self.context.written(node)[:60]}, which"
                    " reads the outer side: the join is an inner one now"
                )
                self.account.warn(
                    "WHERE on the outer side",
                    int(mask.sum()),
                    detail,
                    "put the condition into ON, or allow IS NULL",
                )

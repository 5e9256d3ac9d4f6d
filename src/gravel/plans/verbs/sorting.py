"""`sort`: the rows in another order; equal ones stay in the order they came in."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from gravel.engine.evaluate import run
from gravel.engine.external import sorted_batches
from gravel.inspecting.cautions import Watch
from gravel.inspecting.look import sort_order
from gravel.language import nodes, tree
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.errors import settle
from gravel.plans.ledger import StepCount
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundStep, Context, Left, PlanColumn, TableAction
from gravel.plans.verbs.step_kind import StepKind

Keys = tuple[tuple[tree.SortKey, nodes.Expression, str], ...]


def as_list(supplied: str | list[str] | None) -> list[str]:
    """Sort keys as a list of texts."""
    return [] if supplied is None else [supplied] if isinstance(supplied, str) else supplied


class SortStep(StepKind):
    """`sort`: the rows in another order."""

    whole_table = True

    def sql_fragments(self, step: Step) -> list[SqlFragment]:
        """The sort keys."""
        return [
            SqlFragment(("sort",) if isinstance(step.sort, str) else ("sort", index), "sort", text)
            for index, text in enumerate(as_list(step.sort))
        ]

    def columns_read(self, step: Step) -> list[str]:
        """None beside the keys'."""
        return []

    def bind(self, binder: Binder) -> tuple[SortAction, tuple[PlanColumn, ...], Watch]:
        """The keys bound."""
        keys = []
        for index, text in enumerate(as_list(binder.step.sort)):
            path = ("sort",) if isinstance(binder.step.sort, str) else ("sort", index)
            keys += [(key, bound, text) for key, bound in binder.sort(text, *path)]
        return SortAction(tuple(keys)), binder.columns, Watch([])


def evaluated(
    step: BoundStep, rows: TrackedRows, keys: Keys, count: StepCount, gone: list[Left]
) -> list[pa.Array]:
    """The values of sort keys; rows in which one fails leave, or sort as NULL."""
    frame = rows.frame()
    results = [
        (key, text, bound, run(bound, frame).spread(rows.count)) for key, bound, text in keys
    ]
    stays = settle(
        step,
        rows,
        [
            ("", text[key.expression.start : key.expression.end], bound, item)
            for key, text, bound, item in results
        ],
        count,
        gone,
    )
    rows.keep(stays)
    return [
        item.values if stays.all() else item.values.filter(pa.array(stays)) for *_, item in results
    ]


def with_columns(batch: pa.RecordBatch, columns: dict[str, Any]) -> pa.RecordBatch:
    """A record batch with more columns."""
    return pa.record_batch([*batch.columns, *columns.values()], [*batch.schema.names, *columns])


def sortable(values: pa.Array) -> pa.Array:
    """A key column that every batch has in one type."""
    return values.cast(pa.string()) if pa.types.is_null(values.type) else values


@dataclass(frozen=True)
class SortAction(TableAction):
    """Keys to sort by."""

    keys: Keys

    def apply(
        self, step: BoundStep, batches: Iterable[TrackedRows], context: Context
    ) -> Iterator[TrackedRows]:
        """See TableAction."""

        def keyed() -> Iterator[Any]:
            seen = 0
            for rows in batches:
                gone: list[Left] = []
                values = evaluated(step, rows, self.keys, context.count, gone)
                for item in gone:
                    context.left(item)
                rows.marks = np.arange(seen, seen + rows.count)
                seen += rows.count
                yield with_columns(
                    rows.batch(),
                    {f"k{index}": sortable(value) for index, value in enumerate(values)},
                )

        sorts = [
            *(key for key, _, _ in self.keys),
            tree.SortKey(0, 0, tree.Name(0, 0, ""), False, None),
        ]

        def order(table: pa.Table) -> np.ndarray:
            return sort_order(
                [*(table[f"k{index}"] for index in range(len(self.keys))), table["marks"]], sorts
            )

        place = 0
        for batch in sorted_batches(keyed(), order, context.memory):
            result = TrackedRows.of_batch(batch, step.types)
            assert result.marks is not None
            context.count.notes["rows stand in another place"] += int(
                (result.marks != np.arange(place, place + result.count)).sum()
            )
            place += result.count
            result.marks = None
            yield result

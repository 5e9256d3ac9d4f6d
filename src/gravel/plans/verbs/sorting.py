"""`sort`: the rows in another order; equal ones stay in the order they came in."""

from __future__ import annotations

from functools import partial

import numpy as np
import pyarrow as pa

from gravel.engine.arrangement import PLACE, SortedRows, with_columns
from gravel.engine.evaluate import run
from gravel.inspecting.cautions import Watch
from gravel.inspecting.look import sort_order
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes, tree
from gravel.plans.binder import Binder, SqlFragment
from gravel.plans.errors import settle
from gravel.plans.ledger import StepCount
from gravel.plans.model import Step
from gravel.plans.rows import TrackedRows
from gravel.plans.steps import BoundStep, Context, Left, Outcome, PlanColumn, Prepared, TableAction
from gravel.plans.verbs.kind import StepKind

ASCENDING = tree.SortKey(0, 0, tree.Name(0, 0, ""), False, None)
Keys = tuple[tuple[tree.SortKey, nodes.Expression, str], ...]


def as_list(supplied: str | list[str] | None) -> list[str]:
    """Sort keys as a list of texts."""
    return [] if supplied is None else [supplied] if isinstance(supplied, str) else supplied


class SortStep(StepKind):
    """`sort`: the rows in another order."""

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
        item.values if stays.all() else item.values.filter(to_arrow(stays)) for *_, item in results
    ]


def sortable(values: pa.Array) -> pa.Array:
    """A key column that every batch has in one type."""
    return values.cast(pa.string()) if pa.types.is_null(values.type) else values


class SortAction(TableAction, frozen=True):
    """Keys to sort by."""

    keys: Keys

    def prepare(self, step: BoundStep, rows: TrackedRows) -> Prepared:
        """The rows with the values of the keys."""
        count, gone = StepCount(), list[Left]()
        values = evaluated(step, rows, self.keys, count, gone)
        keyed = dict(zip(self._names, map(sortable, values), strict=True))
        return Prepared(with_columns(rows.batch(), keyed), count, gone)

    def arrangement(self, step: BoundStep, context: Context) -> SortedRows:
        """By the keys."""
        sorts = tuple(key for key, _, _ in self.keys)
        return SortedRows(self._names, partial(by_keys, self._names, sorts))

    def conclude(self, step: BoundStep, rows: pa.RecordBatch, first: int) -> Outcome:
        """The rows without what they were sorted by."""
        places = np.arange(first, first + rows.num_rows)
        count, note = StepCount(), "rows stand in another place"
        count.noted[note] += int((rows.column(PLACE).to_numpy() != places).sum())
        return Outcome(TrackedRows.of_batch(rows, step.types), count)

    @property
    def _names(self) -> tuple[str, ...]:
        return tuple(f"k{index}" for index in range(len(self.keys)))


def by_keys(names: tuple[str, ...], sorts: tuple[tree.SortKey, ...], table: pa.Table) -> np.ndarray:
    """The indices that sort rows by keys in columns of these names, equal ones by their places."""
    return sort_order([table[name] for name in (*names, PLACE)], [*sorts, ASCENDING])

"""The figures of a count that expressions ask for: distinct combinations, keys, control totals."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.engine.distinct import Counted, Distinct, counted
from gravel.engine.evaluate import run
from gravel.engine.exact_sum import ExactSum
from gravel.engine.vector import Vector, first_error
from gravel.inspecting.binding import columns_named, explaining, frame_of, reads, scope_of, split_list
from gravel.inspecting.counts import DistinctCount, KeyCount, TableCount, Total, by_store
from gravel.language import nodes, parse
from gravel.language.bind import Given, bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.types import NUMBERS, Kind, Type
from gravel.sources.source import Batch, Malformed, Source, scan


def count_with_figures(
    table: Source, distinct: Sequence[str], key: Sequence[str], totals: Sequence[str], given: Given | None
) -> TableCount:
    """Count a table with what is asked for, in one pass. Raises Diagnostic for what cannot be bound, TableProblem for what cannot be read."""
    lists = [(parse.expression_list(text), text) for text in distinct]
    sums = [(parse.expression(text), text) for text in totals]
    key_columns = [split_list(one, table.columns) for one in key]
    scope = scope_of(table, sorted({*columns_named([*lists, *sums], table.columns), *(i for one in key_columns for i in one)}), given)
    with explaining(table, scope):
        groups = [[bind(node, scope, text) for node in items] for items, text in lists]
        summed = [bind(node, scope, text) for node, text in sums]
    for one, (node, text) in zip(summed, sums, strict=True):
        if one.type.kind not in (*NUMBERS, Kind.NULL):
            raise Diagnostic(f"a total needs a number, this is {one.type}", text, node.start, node.end,
                             hint=f"write CAST({text} AS DECIMAL)")  # fmt: skip
    keys: list[list[nodes.Expression]] = [[nodes.Column(scope.types[i], 0, 0, i, table.columns[i]) for i in one] for one in key_columns]
    wanted = sorted({*reads([*(x for group in [*groups, *keys] for x in group), *summed], len(table.columns))})

    def work(batch: Batch) -> _CountPartial:
        frame = frame_of(batch, scope)
        made = [_distinct([run(x, frame) for x in group], batch.rows) for group in [*groups, *keys]]
        return _CountPartial(batch.count, batch.malformed, made, [_sum(run(x, frame)) for x in summed])

    states = [Distinct() for _ in range(len(groups) + len(keys))]
    nulls, errors = [0] * len(states), [0] * len(states)
    sums_so_far: list[Sum] = [Sum() for _ in summed]
    rows = 0
    bad: list[Malformed] = []
    for part in scan(table, work, wanted):
        rows += part.rows
        bad += part.malformed
        for index, (found, null_rows, error_rows) in enumerate(part.distinct):
            states[index].add(found)
            nulls[index] += null_rows
            errors[index] += error_rows
        sums_so_far = [a.merge(b) for a, b in zip(sums_so_far, part.sums, strict=True)]
    counts = tuple(DistinctCount(text, len(states[i]), nulls[i], errors[i]) for i, text in enumerate(distinct))
    key_counts = []
    for at, places in enumerate(key_columns, len(groups)):
        per_key = states[at].result.counts
        key_counts.append(KeyCount(tuple(table.columns[i] for i in places), nulls[at], int(per_key[per_key > 1].sum())))
    made = tuple(
        Total(text, one.value(kind.type), one.null_rows, one.error_rows)
        for text, one, kind in zip(totals, sums_so_far, summed, strict=True)
    )
    return TableCount(
        table.name, rows, len(table.columns), len(bad), counts, tuple(key_counts), made, tuple(bad), tuple(table.notes), *by_store(table)
    )


@dataclass(frozen=True)
class _CountPartial:
    rows: int
    malformed: tuple[Malformed, ...]
    distinct: list[tuple[Counted, int, int]]
    sums: list[Sum]


@dataclass(frozen=True)
class Sum:
    """An exact sum so far, and the rows passed over."""

    total: ExactSum = field(default_factory=ExactSum)
    null_rows: int = 0
    error_rows: int = 0

    def merge(self, other: Sum) -> Sum:
        """Both parts together."""
        return Sum(self.total.merge(other.total), self.null_rows + other.null_rows, self.error_rows + other.error_rows)

    def value(self, kind: Type) -> Decimal | int | float | None:
        """The sum of values of a type, None where none is known."""
        if not self.total.count:
            return None
        if kind.kind is Kind.DOUBLE:
            made = self.total.sum_as_double()
            return math.inf if made is None else made
        exact = self.total.exact_sum(kind.scale)
        return int(exact) if kind.kind is Kind.INTEGER else exact


def _distinct(vectors: list[Vector], rows: np.ndarray) -> tuple[Counted, int, int]:
    failed = first_error(vectors, len(rows))
    bad = np.zeros(len(rows), bool) if failed is None else failed != 0
    null = np.zeros(len(rows), bool)
    for one in vectors:
        if one.values.null_count:
            null |= pc.is_null(one.values).to_numpy(zero_copy_only=False)
    null &= ~bad
    keep = ~(bad | null)
    columns = [one.values if keep.all() else one.values.filter(pa.array(keep)) for one in vectors]
    return counted(columns, rows[keep]), int(null.sum()), int(bad.sum())


def _sum(one: Vector) -> Sum:
    errors = 0 if one.errors is None else int(np.count_nonzero(one.errors))
    return Sum(ExactSum.of(one.values.drop_null()), one.values.null_count - errors, errors)

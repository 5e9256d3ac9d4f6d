"""The figures of a count that expressions ask for: distinct combinations, keys, control totals."""

from __future__ import annotations

import math
from collections.abc import Hashable, Sequence
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow.compute as pc
from msgspec import Struct

from gravel.engine.aggregates import SumState
from gravel.engine.distinct import Counted, Distinct, Room, counted
from gravel.engine.engine import Question
from gravel.engine.evaluate import run
from gravel.engine.exact_sum import units_of
from gravel.engine.frame import Frame
from gravel.engine.memory import DEFAULT_MEMORY
from gravel.engine.vector import Vector, first_error
from gravel.inspecting.binding import (
    columns_named,
    explaining,
    reads,
    scope_of,
    split_list,
    with_quotes,
)
from gravel.inspecting.counts import DistinctCount, KeyCount, TableCount, Total, by_store
from gravel.kernels.arrays import to_arrow
from gravel.language import nodes, parse
from gravel.language.bind import bind
from gravel.language.diagnostics import Diagnostic
from gravel.language.functions import arithmetic
from gravel.language.scope import Given
from gravel.language.types import NUMBERS, Kind, Type
from gravel.sources.source import Batch, Malformed, Source

_BYTES_A_VALUE = 100  # as they are held, and while two parts are put together


def count_with_figures(
    table: Source,
    distinct: Sequence[str],
    key: Sequence[str],
    totals: Sequence[str],
    context: Given | None,
) -> TableCount:
    """Count a table with what is asked for, in one pass. Raises Diagnostic for what cannot be
    bound, TableProblem for what cannot be read."""
    distinct = [with_quotes(text, table.columns) for text in distinct]
    totals = [with_quotes(text, table.columns) for text in totals]
    lists = [(parse.expression_list(text), text) for text in distinct]
    sums = [(parse.expression(text), text) for text in totals]
    key_columns = [split_list(item, table.columns) for item in key]
    scope = scope_of(
        table,
        sorted(
            {
                *columns_named([*lists, *sums], table.columns),
                *(i for key_column in key_columns for i in key_column),
            }
        ),
        context,
    )
    with explaining(table, scope):
        groups = [[bind(node, scope, text) for node in items] for items, text in lists]
        summed = [bind(node, scope, text) for node, text in sums]
    for entry, (node, text) in zip(summed, sums, strict=True):
        if entry.type.kind not in (*NUMBERS, Kind.NULL):
            raise Diagnostic(
                f"a total needs a number, this is {entry.type}",
                text,
                node.start,
                node.end,
                hint=f"write CAST({text} AS DECIMAL)",
            )
    keys: list[list[nodes.Expression]] = [
        [nodes.Column(scope.types[i], 0, 0, i, table.columns[i]) for i in key_column]
        for key_column in key_columns
    ]
    wanted = sorted(
        {*reads([*(x for group in [*groups, *keys] for x in group), *summed], len(table.columns))}
    )

    state = FiguresState(scope.types, [*groups, *keys], summed)
    table.engine.run(state, table, wanted)
    values = [state.distinct[position] for position in range(len(state.groups))]
    repeated = table.engine.ask(
        [Question(values[i], repeated_rows, sum) for i in range(len(groups), len(values))]
    )
    counts = tuple(
        DistinctCount(text, len(values[i]), state.nulls[i], state.errors[i])
        for i, text in enumerate(distinct)
    )
    key_counts = [
        KeyCount(tuple(table.columns[i] for i in places), state.nulls[position], rows)
        for position, (places, rows) in enumerate(
            zip(key_columns, repeated, strict=True), len(groups)
        )
    ]
    output = tuple(
        Total(text, item.value(kind.type), item.null_rows, item.error_rows)
        for text, item, kind in zip(totals, state.sums, summed, strict=True)
    )
    return TableCount(
        table.name,
        state.rows,
        len(table.columns),
        tuple(state.malformed),
        counts,
        tuple(key_counts),
        output,
        tuple(table.notes),
        table.read_as,
        *by_store(table),
        table.chosen,
    )


class FiguresPartial(Struct, frozen=True):
    """What a batch says: of each list of expressions its distinct combinations and the rows left
    out, of each total its sum."""

    rows: int
    malformed: tuple[Malformed, ...]
    distinct: list[tuple[Counted, int, int]]
    sums: list[ControlTotal]


class FiguresState:
    """The figures of a table so far. `groups`: lists of expressions whose combinations are told
    apart, `summed` those of totals; both are bound to columns of these types."""

    def __init__(
        self,
        types: Sequence[Type],
        groups: Sequence[Sequence[nodes.Expression]],
        summed: Sequence[nodes.Expression],
    ) -> None:
        self.types, self.groups, self.summed = types, groups, summed
        room = Room(DEFAULT_MEMORY // _BYTES_A_VALUE)
        self.distinct: dict[Hashable, Any] = {i: Distinct(room) for i in range(len(groups))}
        self.nulls, self.errors = [0] * len(groups), [0] * len(groups)
        self.sums = [ControlTotal() for _ in summed]
        self.rows = 0
        self.malformed: list[Malformed] = []

    def map(self, batch: Batch) -> FiguresPartial:
        """See State."""
        frame = Frame(batch.count, batch.columns, self.types)
        return FiguresPartial(
            batch.count,
            batch.malformed,
            [_distinct([run(x, frame) for x in group], batch.rows) for group in self.groups],
            [_control_total(run(x, frame)) for x in self.summed],
        )

    def add(self, part: FiguresPartial) -> None:
        """See State."""
        for index, (values, _, _) in enumerate(part.distinct):
            self.distinct[index].add(values)
        self._count(
            part, [nulls for _, nulls, _ in part.distinct], [bad for _, _, bad in part.distinct]
        )

    def merge(self, later: FiguresState) -> None:
        """See State."""
        self._count(later, later.nulls, later.errors)

    def _count(
        self, more: FiguresPartial | FiguresState, nulls: Sequence[int], errors: Sequence[int]
    ) -> None:
        self.rows += more.rows
        self.malformed += more.malformed
        self.nulls = [a + b for a, b in zip(self.nulls, nulls, strict=True)]
        self.errors = [a + b for a, b in zip(self.errors, errors, strict=True)]
        self.sums = [a.merge(b) for a, b in zip(self.sums, more.sums, strict=True)]


def repeated_rows(piece: Counted) -> int:
    """Rows whose value another row has too."""
    return int(piece.counts[piece.counts > 1].sum())


class ControlTotal(Struct, frozen=True):
    """An exact sum so far, None where no value is known yet, and the rows passed over."""

    sum: SumState | None = None
    null_rows: int = 0
    error_rows: int = 0

    def merge(self, other: ControlTotal) -> ControlTotal:
        """Both parts together."""
        both = (
            self.sum.merge(other.sum)
            if self.sum is not None and other.sum is not None
            else self.sum or other.sum
        )
        return ControlTotal(
            both, self.null_rows + other.null_rows, self.error_rows + other.error_rows
        )

    def value(self, kind: Type) -> Decimal | int | float | None:
        """The sum of values of a type, None where none is known; exact numbers have as many digits
        as it takes."""
        if self.sum is None:
            return None
        if kind.kind is Kind.DOUBLE:
            value = self.sum.finish("SUM", kind)
            return math.inf if value.errors is not None else float(value.values[0].as_py())
        whole = int(self.sum.total() * 10**kind.scale)
        return (
            whole
            if kind.kind is Kind.INTEGER
            else Decimal(whole).scaleb(-kind.scale, arithmetic.WIDE)
        )


def _distinct(vectors: list[Vector], rows: np.ndarray) -> tuple[Counted, int, int]:
    failed = first_error(vectors, len(rows))
    bad = np.zeros(len(rows), bool) if failed is None else failed != 0
    null = np.zeros(len(rows), bool)
    for item in vectors:
        if item.values.null_count:
            null |= pc.is_null(item.values).to_numpy(zero_copy_only=False)
    null &= ~bad
    keep = ~(bad | null)
    columns = [
        vector.values if keep.all() else vector.values.filter(to_arrow(keep)) for vector in vectors
    ]
    return counted(columns, rows[keep]), int(null.sum()), int(bad.sum())


def _control_total(vector: Vector) -> ControlTotal:
    errors = 0 if vector.errors is None else int(np.count_nonzero(vector.errors))
    known = vector.values.drop_null()
    units = units_of(known)
    total = SumState.of_units(np.zeros(len(known), np.int64), 1, units) if len(known) else None
    return ControlTotal(total, vector.values.null_count - errors, errors)

"""Rows, columns, malformed records; distinct combinations, key columns and control totals where
asked for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gravel.inspecting.counts import TableCount, by_store
from gravel.sources.source import Batch, Malformed, Source, scan

if TYPE_CHECKING:
    from gravel.language.scope import Given


def count_table(
    table: Source,
    distinct: Sequence[str] = (),
    key: Sequence[str] = (),
    totals: Sequence[str] = (),
    context: Given | None = None,
) -> TableCount:
    """Count a table in one pass. Raises Diagnostic for what cannot be bound, TableProblem for what
    cannot be read."""
    if distinct or key or totals:
        from gravel.inspecting.figures import count_with_figures

        return count_with_figures(table, distinct, key, totals, context)
    # Plain counts need nothing of the language, whose import takes longer than counting a small
    # table.
    rows = 0
    bad: list[Malformed] = []
    for count, malformed in scan(table, _rows_of, []):
        rows += count
        bad += malformed
    return TableCount(
        table.name,
        rows,
        len(table.columns),
        tuple(bad),
        (),
        (),
        (),
        tuple(table.notes),
        table.read_as,
        *by_store(table),
        table.chosen,
    )


def _rows_of(batch: Batch) -> tuple[int, tuple[Malformed, ...]]:
    return batch.count, batch.malformed

"""Filling a new table of a database."""

from __future__ import annotations

from collections.abc import Sequence

from gravel.language.types import Type
from gravel.sources.source import Source, scan
from gravel.stores.sql.transaction import Database


def fill(
    base: Database, table: str, columns: Sequence[tuple[str, Type]], rows: Source
) -> tuple[int, int, int]:
    """Insert all rows into an empty table: the rows by the database's own count, those it said it
    inserted, those of the source. Raises TableProblem, DataProblem."""
    inserted = 0
    for batch in scan(rows, lambda batch: batch.columns):
        if len(batch[0]):
            inserted += base.insert(table, columns, batch)
    return base.count(table), inserted, sum(scan(rows, lambda batch: batch.count, []))

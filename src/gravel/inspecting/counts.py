"""What `gravel count` tells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from gravel.figures import Figures, Number, NumberOf, Unlisted
from gravel.sources.source import Chosen, Malformed, Source


@dataclass(frozen=True)
class DistinctCount(Figures):
    """Distinct combinations without a NULL, the rows with a NULL among them, and the rows that have
    an error."""

    on: str
    distinct: int
    null_rows: int
    error_rows: int


@dataclass(frozen=True)
class KeyCount(Figures):
    """Rows with a NULL in the key, and rows whose key another row has too."""

    columns: tuple[str, ...]
    null_rows: int
    repeated_rows: int


@dataclass(frozen=True)
class Total(Figures):
    """The exact sum of an expression over its known values (None if there is none); rows passed
    over."""

    total: str
    value: Number
    null_rows: int
    error_rows: int


@dataclass(frozen=True)
class TableCount(Figures):
    """What `gravel count` tells of one table. store_key: its primary key as its database says, None
    for a file; not_null: columns that the database keeps from being NULL."""

    table: str
    rows: int
    columns: int
    malformed: NumberOf[Malformed]
    distinct: tuple[DistinctCount, ...]
    keys: tuple[KeyCount, ...]
    totals: tuple[Total, ...]
    notes: Unlisted[tuple[str, ...]]
    read: dict[str, Any]  # how its text was read
    store_key: tuple[str, ...] | None = None
    not_null: tuple[str, ...] = ()
    where: Chosen | None = None


@dataclass(frozen=True)
class Counts(Figures):
    """What `gravel count` tells."""

    tables: tuple[TableCount, ...]


def by_store(table: Source) -> tuple[tuple[str, ...] | None, tuple[str, ...]]:
    """A table's key and columns without NULL, where its database knows them."""
    return (table.store_key if table.snapshot else None), table.not_null

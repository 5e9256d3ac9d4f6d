"""What `gravel compare` tells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from gravel.sources.source import Malformed


@dataclass(frozen=True)
class Cells:
    """A column of the rows in both: equal + changed + filled + emptied are all of them. filled:
    NULL before, known after."""

    column: str
    after_column: str
    equal: int
    changed: int
    filled: int
    emptied: int

    @property
    def different(self) -> int:
        """Cells that are not equal."""
        return self.changed + self.filled + self.emptied


@dataclass(frozen=True)
class CellDiff:
    """A cell that differs: the key, the column, both texts (None: NULL), and both source rows."""

    key: tuple[str | None, ...]
    column: str
    before: str | None
    after: str | None
    before_row: int
    after_row: int


@dataclass(frozen=True)
class Alone:
    """A row that one side has alone: its source row, its key, and its values as texts."""

    row: int
    key: tuple[str | None, ...]
    values: tuple[str | None, ...]


@dataclass(frozen=True)
class Keys:
    """Keys that cannot be matched: how many different ones several rows have, and how many rows
    have a NULL in theirs."""

    repeated: int
    repeated_rows: int
    null: int


@dataclass(frozen=True)
class Compared:
    """both, only_before, only_after count rows, of which those with a repeated or NULL key are
    none. Without a key rows are matched as a multiset. types: columns of both sides whose types
    differ."""

    before: str
    after: str
    key: tuple[str, ...]
    before_rows: int
    after_rows: int
    both: int
    only_before: int
    only_after: int
    before_keys: Keys
    after_keys: Keys
    columns: tuple[Cells, ...]
    before_columns: tuple[str, ...]
    after_columns: tuple[str, ...]
    types: tuple[tuple[str, str, str], ...]
    changed_rows: int
    examples: tuple[CellDiff, ...]
    alone_before: tuple[Alone, ...]
    alone_after: tuple[Alone, ...]
    ignoring: tuple[str, ...]
    before_malformed: tuple[Malformed, ...]
    after_malformed: tuple[Malformed, ...]
    notes: tuple[str, ...]
    read: tuple[dict[str, Any], dict[str, Any]]  # how the text of each was read

    @property
    def same(self) -> bool:
        """Whether nothing differs. Rows with NULL in the key cannot be compared, so nothing is said
        to be the same of them."""
        alone = self.only_before or self.only_after or self.before_columns or self.after_columns
        keys = self.before_keys.null or self.after_keys.null or self.before_keys != self.after_keys
        return not (alone or keys or self.changed_rows or self.before_rows != self.after_rows)

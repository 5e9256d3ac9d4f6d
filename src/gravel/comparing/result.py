"""What `gravel compare` tells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from gravel.figures import Figures, NumberOf, Unlisted, figure
from gravel.sources.source import Malformed


@dataclass(frozen=True)
class Cells(Figures):
    """A column of the rows in both: equal + changed + filled + emptied are all of them. filled:
    NULL before, known after."""

    column: str
    equal: int
    changed: int
    filled: int
    emptied: int

    @property
    def different(self) -> int:
        """Cells that are not equal."""
        return self.changed + self.filled + self.emptied


@dataclass(frozen=True)
class CellDiff(Figures):
    """A cell that differs: the key, the column, both texts (None: NULL), and both source rows."""

    key: dict[str, str | None]
    column: str
    before: str | None
    after: str | None
    before_row: int
    after_row: int


@dataclass(frozen=True)
class Alone(Figures):
    """A row that one side has alone: its source row, its key, and its values as texts."""

    row: int
    key: dict[str, str | None]
    values: Unlisted[tuple[str | None, ...]]


@dataclass(frozen=True)
class TypeChange(Figures):
    """A column of both sides whose types differ."""

    column: str
    before: str
    after: str


@dataclass(frozen=True)
class Sides(Figures):
    """A count on either side."""

    before: int
    after: int

    def __bool__(self) -> bool:
        return bool(self.before or self.after)


@dataclass(frozen=True)
class ComparedTable(Figures):
    """One of the two tables, and how its text was read."""

    table: str
    rows: int
    malformed: NumberOf[Malformed]
    read: dict[str, Any]


@dataclass(frozen=True)
class Compared(Figures):
    """both, only_before, only_after count rows, of which those with a repeated or NULL key are
    none. Without a key rows are matched as a multiset. repeated_keys: different keys that several
    rows have; null_keys: rows with a NULL in theirs."""

    before: ComparedTable
    after: ComparedTable
    key: tuple[str, ...]
    both: int
    only_before: int
    only_after: int
    repeated_keys: Sides
    repeated_rows: Sides
    null_keys: Sides
    columns: tuple[Cells, ...]
    only_before_columns: tuple[str, ...]
    only_after_columns: tuple[str, ...]
    types: tuple[TypeChange, ...]
    changed_rows: int
    examples: tuple[CellDiff, ...]
    only_before_examples: tuple[Alone, ...]
    only_after_examples: tuple[Alone, ...]
    ignoring: Unlisted[tuple[str, ...]]
    notes: Unlisted[tuple[str, ...]]

    @property
    def same(self) -> bool:
        """Whether nothing differs. Rows with NULL in the key cannot be compared, so nothing is said
        to be the same of them."""
        alone = self.only_before or self.only_after or self.only_before_columns
        keys = self.null_keys or any(
            sides.before != sides.after for sides in (self.repeated_keys, self.repeated_rows)
        )
        rows = self.changed_rows or self.before.rows != self.after.rows
        return not (alone or self.only_after_columns or keys or rows)

    @property
    @figure
    def status(self) -> Literal["same", "differs"]:
        """Whether nothing differs."""
        return "same" if self.same else "differs"

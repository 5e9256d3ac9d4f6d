"""What `gravel duplicates` tells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from gravel.sources.source import Malformed


@dataclass(frozen=True)
class GroupRow:
    """A row of a group: its source row number, and its values as texts in the table's order."""

    row: int
    values: tuple[str | None, ...]


@dataclass(frozen=True)
class Group:
    """Rows that are equal in what was asked, in source order; differs: positions of the columns,
    keys apart, in which they are not all alike. rows may be some of `size`."""

    number: int
    size: int
    rows: tuple[GroupRow, ...]
    differs: tuple[int, ...]


@dataclass(frozen=True)
class MatchLevelCount:
    """A match level of the match levels as it came out. extra rows: rows more than one a group;
    new_groups: those in which several keys of the match level before newly matched, with examples
    of them: the different spellings, each with its rows.
    """

    match_level: str
    meaning: str
    expressions: tuple[str, ...]
    groups: int
    surplus: int
    new_groups: int
    examples: tuple[tuple[tuple[str | None, int], ...], ...]


@dataclass(frozen=True)
class Proposal:
    """A `deduplicate` step for a plan. disagree: by column how many groups have different known
    values; rescued: how many NULLs of surviving rows a known value of the merged ones would
    fill."""

    by: tuple[str, ...]
    prefer: str | None
    fill: tuple[str, ...]
    disagree: tuple[tuple[str, int], ...]
    rescued: tuple[tuple[str, int], ...]


@dataclass(frozen=True)
class Duplicates:
    """null_rows: rows with NULL in an expression, which are in no group unless NULLs count as
    equal; error_rows: rows in which one fails; left_out: by expression how many groups more there
    would be without it."""

    table: str
    on: tuple[str, ...]
    expressions: tuple[str, ...]
    match_level: str
    key: tuple[str, ...]
    columns: tuple[str, ...]
    rows: int
    groups: int
    rows_in_groups: int
    surplus: int
    largest: int
    null_rows: int
    null_equal: bool
    error_rows: int
    shown: tuple[Group, ...]
    match_levels: tuple[MatchLevelCount, ...]
    left_out: tuple[tuple[str, int], ...]
    proposal: Proposal | None
    malformed: tuple[Malformed, ...]
    notes: tuple[str, ...]
    read: dict[str, Any]  # how its text was read

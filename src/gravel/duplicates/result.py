"""What `gravel duplicates` tells."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from gravel.figures import Figures, NumberOf, Unlisted, figure
from gravel.sources.source import Chosen, Malformed


@dataclass(frozen=True)
class GroupRow(Figures):
    """A row of a group: its source row number, and its values as texts by column."""

    row: int
    values: dict[str, str | None]


@dataclass(frozen=True)
class Group(Figures):
    """Rows that are equal in what was asked, in source order; differs: the columns, keys apart, in
    which they are not all alike. rows may be some of `size`."""

    group: int
    size: int
    rows: tuple[GroupRow, ...]
    differs: tuple[str, ...]


@dataclass(frozen=True)
class LevelValue(Figures):
    """A spelling, and the rows that have it."""

    value: str | None
    rows: int


@dataclass(frozen=True)
class MatchLevelCount(Figures):
    """A match level of the match levels as it came out. extra_rows: rows more than one a group;
    new_groups: those in which several keys of the match level before newly matched, with examples
    of them: the different spellings, each with its rows.
    """

    level: str
    meaning: Unlisted[str]
    expressions: Unlisted[tuple[str, ...]]
    groups: int
    extra_rows: int
    new_groups: int
    examples: tuple[tuple[LevelValue, ...], ...]

    @property
    @figure
    def expression(self) -> str:
        """What is equal in the rows of a group."""
        return ", ".join(self.expressions)


@dataclass(frozen=True)
class Proposal(Figures):
    """A `deduplicate` step for a plan. disagree: by column how many groups have different known
    values; rescued: how many NULLs of surviving rows a known value of the merged ones would
    fill."""

    by: tuple[str, ...]
    prefer: str | None
    fill: tuple[str, ...]
    disagree: dict[str, int]
    rescued: dict[str, int]

    @property
    @figure
    def step(self) -> str:
        """The step as TOML; groups that disagree in a known value are set aside, so that nobody's
        value is lost unseen."""
        parts = [f"by = [{', '.join(map(_toml, self.by))}]"]
        if self.prefer is not None:
            parts.append(f"prefer = {_toml(self.prefer)}")
        if self.fill:
            parts.append(f"fill = [{', '.join(map(_toml, self.fill))}]")
        if self.disagree:
            parts.append('conflicts = "set aside"')
        return f"[[step]]\ndeduplicate = {{ {', '.join(parts)} }}"


@dataclass(frozen=True)
class LeftOutColumn(Figures):
    """How many groups more there would be without an expression."""

    column: str
    groups: int


@dataclass(frozen=True)
class Duplicates(Figures):
    """null_rows: rows with NULL in an expression, which are in no group unless NULLs count as
    equal; error_rows: rows in which one fails; left_out: what each expression alone keeps apart."""

    table: str
    on: tuple[str, ...]
    expressions: Unlisted[tuple[str, ...]]
    level: str
    key: tuple[str, ...]
    columns: Unlisted[tuple[str, ...]]
    rows: int
    groups: int
    rows_in_groups: int
    extra_rows: int
    largest: int
    null_rows: int
    null_equal: Unlisted[bool]
    error_rows: int
    shown: tuple[Group, ...]
    levels: tuple[MatchLevelCount, ...]
    left_out: tuple[LeftOutColumn, ...]
    proposal: Proposal | None
    malformed: NumberOf[Malformed]
    notes: Unlisted[tuple[str, ...]]
    read: dict[str, Any]  # how its text was read
    where: Chosen | None = None


def _toml(text: str) -> str:
    """A text as TOML: a plain string, or a literal one where that reads better."""
    if '"' in text and "'" not in text and text.isprintable():
        return f"'{text}'"
    return json.dumps(text, ensure_ascii=False)

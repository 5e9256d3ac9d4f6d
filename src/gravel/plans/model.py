"""A plan file as it is written: its keys and what they take, and where they stand in the text."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any, Literal

from msgspec import Struct, field

from gravel.language.errors import ErrorPolicy
from gravel.plans.places import Place

VERBS = (
    "set",
    "keep_rows",
    "drop_rows",
    "split",
    "deduplicate",
    "columns",
    "sort",
    "check",
    "query",
)


class Split(Struct, frozen=True, kw_only=True):
    """`split`: a field's pieces as rows of their own, or as columns."""

    column: str
    on: str | None = None
    on_regex: str | None = None
    array: bool = False
    into: Literal["rows"] | list[str]
    as_: str | None = field(default=None, name="as")
    number: str | None = None
    trim: bool = True
    blanks: Literal["drop", "keep"] | None = None
    keep_column: bool = False
    empty: Literal["keep", "drop"] = "keep"
    from_: Literal["start", "end"] = field(default="start", name="from")
    surplus: Literal["join", "drop", "error"] | None = None
    short: Literal["null", "error"] | None = None


class Deduplication(Struct, frozen=True):
    """`deduplicate`: one row of each group that is equal in all of `by`."""

    by: list[str]
    prefer: str | list[str] | None = None
    fill: bool | list[str] = False
    conflicts: Literal["count", "error", "set aside"] = "count"


class Step(Struct, frozen=True):
    """One step: a note, one verb, which rows it concerns, what to do with row errors, and the
    expected row count."""

    note: str = ""
    set: dict[str, str] | None = None
    keep_rows: str | None = None
    drop_rows: str | None = None
    split: Split | None = None
    deduplicate: Deduplication | None = None
    columns: list[str] | None = None
    sort: str | list[str] | None = None
    check: dict[str, str] | None = None
    query: str | None = None
    only: str | None = None
    allow: int | str | None = None
    unknown: Literal["passes", "fails"] | None = None
    on_error: ErrorPolicy | None = None
    rows: int | str | None = None

    @property
    def verb(self) -> str:
        """The one verb of the step."""
        return next(verb for verb in VERBS if getattr(self, verb) is not None)


class Read(Struct, frozen=True):
    """`[read]`: how the table's text is read."""

    delimiter: str | None = None
    encoding: str | None = None
    header: int | Literal["none"] | None = None
    skip: int | None = None
    comment: str | None = None
    quote: str | None = None
    null: str | list[str] | None = None
    empty: Literal["null", "text"] | None = None
    decimal: str | None = None
    group: str | None = None
    dates: str | list[str] | None = None


class PlanModel(Struct, frozen=True):
    """A plan file as written, but that a key of one name is a list."""

    table: str
    write: str
    replace: bool = False
    rejects: str | None = None
    metadata: bool = False
    store_sets: list[str] = field(default_factory=list)
    key: list[str] = field(default_factory=list)
    key_after: list[str] | None = None
    totals: list[str] = field(default_factory=list)
    malformed: Literal["stop", "set aside"] = "stop"
    on_error: ErrorPolicy = ErrorPolicy.STOP
    read: Read = field(default_factory=Read)
    types: dict[str, str] = field(default_factory=dict)
    params: dict[str, Any] = field(default_factory=dict)  # plain values of TOML
    step: list[Step] = field(default_factory=list)


class Expected(Struct, frozen=True):
    """An expected row count: how a step's out may stand to its in. `kind` is same, fewer, more, at
    most, at least, exactly or by."""

    kind: str
    count: int = 0

    @classmethod
    def of(cls, stated: int | str) -> Expected:
        """Read an expected count. Raises ValueError."""
        if isinstance(stated, int):
            if stated < 0:
                raise ValueError(
                    f'{stated} is not a row count; a difference stands in quotes: rows = "{stated}"'
                )
            return cls("exactly", stated)
        text = stated.strip().lower()
        if text in ("same", "fewer", "more"):
            return cls(text)
        if match := re.fullmatch(r"at (most|least) ([\d,_]+)", text):
            return cls("at " + match[1], int(match[2].replace(",", "").replace("_", "")))
        if re.fullmatch(r"[+-]\d+", text):
            return cls("by", int(text))
        if re.fullmatch(r"\d+", text):
            return cls("exactly", int(text))
        raise ValueError(
            f"{stated!r} is not a row count: same, fewer, more, at most N, at least N, a number,"
            " or a difference such as -12"
        )

    def holds(self, rows_in: int, rows_out: int) -> bool:
        """Whether the counts are as expected."""
        return {
            "same": rows_out == rows_in,
            "fewer": rows_out < rows_in,
            "more": rows_out > rows_in,
            "at most": rows_out <= self.count,
            "at least": rows_out >= self.count,
            "exactly": rows_out == self.count,
            "by": rows_out - rows_in == self.count,
        }[self.kind]

    def __str__(self) -> str:
        if self.kind == "by":
            return f"{self.count:+,}"
        return (
            f"{self.count:,}"
            if self.kind == "exactly"
            else f"{self.kind} {self.count:,}"
            if self.kind.startswith("at ")
            else self.kind
        )


class PlanFile(Struct, frozen=True):
    """A plan, the file it was read from, and where its parts stand."""

    path: Path
    name: str
    text: str
    model: PlanModel
    places: dict[tuple[str | int, ...], Place]
    notes: tuple[str, ...] = ()  # keys that are written as they once were

    def line(self, *path: str | int) -> int:
        """The line of a value, or of the nearest thing around it that has one."""
        for length in range(len(path), -1, -1):
            if path[:length] in self.places:
                return self.places[path[:length]].line
        return 1

    def text_line(self, *path: str | int) -> int:
        """The line in which a text value's first character stands."""
        return self.places[path].text_line if path in self.places else self.line(*path)

"""The row ledger: for each step, what came in, changed, left and went on; a batch's lines add up to
the table's."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Annotated

from gravel.figures import Figures, Inline, Number, Unlisted, figure, figure_as
from gravel.inspecting.attempt import ErrorKind
from gravel.inspecting.cautions import Caution, Sightings
from gravel.plans.claims import claim_of


class ExitKind(StrEnum):
    """How a row leaves a plan before its end."""

    DROPPED = "dropped"
    MERGED = "merged"  # into another row
    SET_ASIDE = "set aside"
    FAILED = "failed"  # the run stops


@dataclass
class CheckCount(Figures):
    """How a check's condition came out in the rows so far; `bad` are those that count against it,
    `first` some of them."""

    check: str
    rows: int
    false: int
    unknown: int
    errors: int
    bad: int
    first: list[int]

    @property
    def told(self) -> str:
        """The outcomes in words."""
        parts = [(self.false, "false"), (self.unknown, "unknown"), (self.errors, "with an error")]
        return ", ".join(f"{count:,} {what}" for count, what in parts if count)

    def add(self, other: CheckCount) -> None:
        """Take in another batch's."""
        for name in ("rows", "false", "unknown", "errors", "bad"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.first = (self.first + other.first)[:5]


@dataclass(frozen=True)
class ChangeExample(Figures):
    """A row as an example of what a step did: its path, and a text before and after (None:
    NULL)."""

    path: str
    before: str | None
    after: str | None = None


@dataclass(frozen=True)
class Gone(Figures):
    """A row that left at a step: its path, outcome, reason, SQLSTATE, and the path of the row that
    it was merged into."""

    path: str
    outcome: str
    reason: str | None
    sqlstate: str | None
    into: str | None


@dataclass(frozen=True)
class ColumnError(Figures):
    """Rows that failed: in which column, None for the step as a whole, and how."""

    column: str | None
    kind: Inline[ErrorKind]


SAMPLES = 8


@dataclass
class StepCount(Figures):
    """One step's rows. in + added - dropped - merged - set_aside = out; `stopped` rows failed a
    step that stops the run and are in none of these. changed_columns counts each column's changed
    cells; errors are kinds by column; `seen` is what the step's watch counted."""

    rows_in: Annotated[int, "in"] = 0
    changed: int = 0
    added: int = 0
    merged: int = 0
    set_aside: int = 0
    failed: int = 0
    rows_out: Annotated[int, "out"] = 0
    dropped_false: int = 0
    dropped_unknown: int = 0
    dropped_true: Unlisted[int] = 0
    dropped_other: Unlisted[int] = 0
    errors_to_null: int = 0
    not_concerned: int = 0
    words: Unlisted[str] = ""
    changed_columns: Counter[str] = field(default_factory=Counter)
    noted: Unlisted[Counter[str]] = field(default_factory=Counter)
    checked: Unlisted[dict[str, CheckCount]] = field(default_factory=dict)
    why: Unlisted[str] = ""
    warned: Unlisted[list[Caution]] = field(default_factory=list)
    # by the column's position before the step
    conflicts: Unlisted[Counter[int]] = field(default_factory=Counter)
    filled: Unlisted[Counter[int]] = field(default_factory=Counter)
    # by column: some different changes
    changes: Unlisted[dict[str, list[ChangeExample]]] = field(default_factory=dict)
    # by what is noted: some of its rows
    samples: Unlisted[dict[str, list[ChangeExample]]] = field(default_factory=dict)
    gone: Unlisted[list[Gone]] = field(default_factory=list)
    errors: Unlisted[dict[tuple[str, str], ErrorKind]] = field(default_factory=dict)
    # groups of `deduplicate` whose first rows are preferred alike, and disagree
    tied: Unlisted[int] = 0
    seen: Unlisted[Sightings | None] = None

    @property
    @figure
    def dropped(self) -> int:
        """Rows dropped for any reason."""
        return self.dropped_false + self.dropped_unknown + self.dropped_true + self.dropped_other

    @property
    @figure_as("words")
    def account(self) -> str | None:
        """What a query's operators did, None where the step is not a query."""
        return self.words or None

    @property
    @figure
    def notes(self) -> dict[str, int]:
        """What else is to be said of how many rows."""
        return {what: rows for what, rows in self.noted.items() if rows}

    @property
    @figure_as("errors")
    def failures(self) -> tuple[ColumnError, ...]:
        """How rows failed, most rows first."""
        kinds = sorted(self.errors.items(), key=lambda item: -item[1].rows)
        return tuple(ColumnError(column or None, kind) for (column, _), kind in kinds)

    @property
    @figure
    def checks(self) -> tuple[CheckCount, ...]:
        """How the conditions of a check came out."""
        return tuple(self.checked.values())

    @property
    def balances(self) -> bool:
        """Whether every row that came in is accounted for."""
        return (
            self.rows_in + self.added - self.dropped - self.merged - self.set_aside - self.failed
            == self.rows_out
        )

    def add(self, other: StepCount) -> None:
        """Take in another batch's count of the same step."""
        for name in (
            "rows_in",
            "changed",
            "added",
            "dropped_false",
            "dropped_unknown",
            "dropped_true",
            "merged",
            "set_aside",
            "failed",
            "errors_to_null",
            "rows_out",
            "dropped_other",
            "not_concerned",
            "tied",
        ):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.changed_columns.update(other.changed_columns)
        self.noted.update(other.noted)
        self.conflicts.update(other.conflicts)
        self.filled.update(other.filled)
        self.warned += other.warned
        self.words = self.words or other.words
        self.why = self.why or other.why
        for mine, theirs in ((self.changes, other.changes), (self.samples, other.samples)):
            for what, subset in theirs.items():
                mine[what] = differing([*mine.get(what, ()), *subset])
        self.gone = [*self.gone, *other.gone][:SAMPLES]
        for name, result in other.checked.items():
            if name in self.checked:
                self.checked[name].add(result)
            else:
                self.checked[name] = result
        if other.seen is not None:
            self.seen = other.seen if self.seen is None else self.seen + other.seen
        for key, kind in other.errors.items():
            known = self.errors.get(key)
            self.errors[key] = (
                kind
                if known is None
                else ErrorKind(kind.sqlstate, known.rows + kind.rows, known.example, known.row)
            )


def differing(samples: Iterable[ChangeExample]) -> list[ChangeExample]:
    """The first few that differ in more than their rows."""
    results: dict[tuple[str | None, str | None], ChangeExample] = {}
    for sample in samples:
        if len(results) < SAMPLES:
            results.setdefault((sample.before, sample.after), sample)
    return list(results.values())


@dataclass(frozen=True)
class StepLine(Figures):
    """A line of the ledger as it is told; step 0 is the reading."""

    step: int
    verb: str
    note: str
    count: Inline[StepCount]
    new_columns: tuple[str, ...] = ()
    gone_columns: tuple[str, ...] = ()
    totals: dict[str, Number] = field(default_factory=dict)  # by the text of a control total
    # by column: groups whose known values disagree
    conflicts: dict[str, int] = field(default_factory=dict)
    rows: str | None = None
    stated_holds: Unlisted[bool] = True
    cautions: Unlisted[tuple[Caution, ...]] = ()
    remarks: Unlisted[tuple[str, ...]] = ()


@dataclass(frozen=True)
class Proof(Figures):
    """Something claimed of a run, whether it holds, and the figures that show it."""

    proof: str
    holds: bool
    detail: str

    def __post_init__(self) -> None:
        claim_of(self.proof)

"""What a run of a plan has come to."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Any, Literal

from gravel.figures import Figures, Inline, NumberOf, Unlisted, figure
from gravel.inspecting.attempt import ErrorKind
from gravel.inspecting.cautions import Caution
from gravel.plans.changes import TableDiff
from gravel.plans.ledger import Proof, StepLine
from gravel.plans.steps import BoundPlan
from gravel.sources.source import Malformed


@dataclass(frozen=True)
class StepError(Figures):
    """Rows that failed in a step: in which column, None for the step as a whole, and how."""

    step: int
    column: str | None
    kind: Inline[ErrorKind]


@dataclass(frozen=True)
class StepCaution(Figures):
    """A caution, and the step that it is about."""

    step: int
    caution: Inline[Caution]


@dataclass(frozen=True)
class Run(Figures):
    """What `gravel clean` tells. `good` if the result stands; `stopped` says why not: (step, or 0;
    a line). output, rejects, record: the files written, or None. cleared: files of runs that
    were killed, which this one took away. changes: what a plan in place does to its table;
    conflict: what others did to it meanwhile, for which the run was given up."""

    plan: Unlisted[str]
    table: Unlisted[str]
    good: Unlisted[bool]
    dry: Unlisted[bool]
    rows_in: int
    rows_out: int
    malformed: NumberOf[Malformed]
    steps: tuple[StepLine, ...]
    proofs: tuple[Proof, ...]
    stopped: Unlisted[tuple[tuple[int, str], ...]]
    errors: tuple[StepError, ...]
    output: str | None
    rejects: str | None
    left_rows: Unlisted[int]
    notes: Unlisted[tuple[str, ...]]
    read: dict[str, Any]  # how its text was read
    cleared: tuple[str, ...]
    bound: Unlisted[BoundPlan]
    today: Unlisted[datetime.date]
    parameters: Unlisted[dict[str, str]]
    record: str | None
    begun: Unlisted[datetime.datetime]
    ended: Unlisted[datetime.datetime]
    changes: TableDiff | None = None
    conflict: str | None = None

    @property
    @figure
    def status(self) -> Literal["good", "failed"]:
        """Whether the result stands."""
        return "good" if self.good else "failed"

    @property
    @figure
    def cautions(self) -> tuple[StepCaution, ...]:
        """The cautions of all steps."""
        return tuple(
            StepCaution(line.step, caution) for line in self.steps for caution in line.cautions
        )

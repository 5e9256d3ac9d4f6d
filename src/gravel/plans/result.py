"""What a run of a plan has come to."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Any

from gravel.inspecting.attempt import ErrorKind
from gravel.plans.changes import TableDiff
from gravel.plans.ledger import Proof, StepLine
from gravel.plans.steps import BoundPlan
from gravel.sources.source import Malformed


@dataclass(frozen=True)
class Run:
    """What `gravel clean` tells. `good` if the result stands; `stopped` says why not: (step, or 0;
    a line). output, rejects, record: the files written, or None. cleared: files of runs that
    were killed, which this one took away. totals: the control totals' texts; each line of the
    ledger has their values. changes: what a plan in place does to its table; conflict: what others
    did to it meanwhile, for which the run was given up."""

    plan: str
    table: str
    good: bool
    dry: bool
    rows_in: int
    rows_out: int
    malformed: tuple[Malformed, ...]
    steps: tuple[StepLine, ...]
    proofs: tuple[Proof, ...]
    stopped: tuple[tuple[int, str], ...]
    errors: tuple[tuple[int, str, ErrorKind], ...]
    output: str | None
    rejects: str | None
    left_rows: int
    totals: tuple[str, ...]
    notes: tuple[str, ...]
    read: dict[str, Any]  # how its text was read
    cleared: tuple[str, ...]
    bound: BoundPlan
    today: datetime.date
    parameters: dict[str, str]
    record: str | None
    begun: datetime.datetime
    ended: datetime.datetime
    changes: TableDiff | None = None
    conflict: str = ""

"""Running a plan: one pass over the source, the result written beside its target, opened again, proved, then renamed."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from gravel.engine.parallel import ordered_map
from gravel.inspecting.attempt import ErrorKind
from gravel.language.bind import Given
from gravel.plans import proofs
from gravel.plans.ledger import Proof, StepCount, StepLine
from gravel.plans.model import PlanFile
from gravel.plans.steps import BoundPlan, bind_plan
from gravel.plans.work import LEFT_COLUMNS, Digest, KeyPart, Worked, work
from gravel.tables.csv.writer import Output, header
from gravel.tables.table import GuessFailed, Malformed


@dataclass(frozen=True)
class Run:
    """What `gravel clean` tells. `good` if the result stands; `stopped` says why not, in a line each. output,
    left_behind: the files written, or None."""

    plan: str
    table: str
    good: bool
    dry: bool
    rows_in: int
    rows_out: int
    malformed: tuple[Malformed, ...]
    steps: tuple[StepLine, ...]
    proofs: tuple[Proof, ...]
    stopped: tuple[str, ...]
    errors: tuple[tuple[int, str, ErrorKind], ...]
    output: str | None
    left_behind: str | None
    left_rows: int
    notes: tuple[str, ...]


def clean(plan_file: PlanFile, given: Given | None = None, *, dry: bool = False, progress: Callable[[int], None] | None = None) -> Run:
    """Run a plan. Raises Problems for mistakes in it, TableProblem for what cannot be read or written."""
    try:
        return _bound(bind_plan(plan_file, given, guess=True), dry, progress)
    except GuessFailed:
        return _bound(bind_plan(plan_file, given), dry, progress)


def _bound(plan: BoundPlan, dry: bool, progress: Callable[[int], None] | None) -> Run:
    if progress is not None:
        plan.table.progress = progress
    if not dry:
        return _run(plan, None)
    with tempfile.TemporaryDirectory(prefix="gravel-") as folder:
        return _run(plan, Path(folder))


@dataclass
class _Totals:
    """The batches merged so far."""

    rows: int
    malformed: list[Malformed]
    steps: list[StepCount]
    rows_out: int
    digests: dict[int, Digest]
    keys: list[KeyPart]
    value_breaks: int

    def add(self, done: Worked) -> None:
        self.rows += done.rows_read
        self.malformed += done.malformed
        for mine, other in zip(self.steps, done.steps, strict=True):
            mine.add(other)
        for index, part in done.untouched.items():
            self.digests.setdefault(index, Digest()).add(part)
        self.rows_out += done.rows_out
        self.value_breaks += done.value_breaks
        if done.key is not None:
            self.keys.append(done.key)


def _run(plan: BoundPlan, scratch: Path | None) -> Run:
    model = plan.file.model
    total = _Totals(0, [], [StepCount() for _ in plan.steps], 0, {}, [], 0)
    # Malformed records are kept by number and text; where they stop the run, nothing else of it is of use.
    dialect = plan.table.dialect
    output = Output(plan.target, model.write, scratch)
    left: Output | None = None
    try:
        output.write(header(plan.names, dialect.delimiter, dialect.line_end))
        for done in ordered_map(partial(_work, plan), plan.table.pieces()):
            total.add(done)
            output.write(done.output)
            if done.left_output:
                if left is None:
                    left = Output(plan.left_behind, plan.left_behind.name, scratch)
                    left.write(header((*LEFT_COLUMNS, *plan.names), dialect.delimiter, dialect.line_end))
                left.write(done.left_output)
        output.close()
        if left is not None:
            left.close()
        lines = _lines(plan, total)
        stopped = _stops(plan, total)
        shown = [*proofs.of_run(plan, total, lines), *(() if stopped else proofs.of_output(plan, total, output.path))]
        good = not stopped and all(proof.holds for proof in shown)
        if good and scratch is None:
            _commit(plan, output, left)
        return _result(plan, total, lines, shown, stopped, good, scratch is not None, left is not None)
    finally:
        # After a commit there is nothing left of either to discard.
        output.discard()
        if left is not None:
            left.discard()


def _work(plan: BoundPlan, piece: Any) -> Worked:
    return work(plan, plan.table.read(piece))


def _commit(plan: BoundPlan, output: Output, left: Output | None) -> None:
    # What cannot be taken back comes first, so that nothing is left where it fails: a device may refuse what it is given.
    for file in (output, left) if output.special else (left, output):
        if file is not None:
            file.commit()
    if left is None and plan.left_behind.is_file():
        plan.left_behind.unlink()


def _lines(plan: BoundPlan, total: _Totals) -> tuple[StepLine, ...]:
    bad = len(total.malformed)
    reading = StepCount(rows_in=total.rows + bad, set_aside=bad, rows_out=total.rows)
    lines = [StepLine(0, "read", plan.file.model.table, reading)]
    for step, count in zip(plan.steps, total.steps, strict=True):
        new = tuple(one.name for one in step.assignments if one.new)
        holds = step.expected is None or step.expected.holds(count.rows_in, count.rows_out)
        if count.seen is not None:
            step.watch.add(count.seen)
        stated = None if step.expected is None else str(step.expected)
        lines.append(StepLine(step.number, step.verb, step.note, count, new, stated, holds, step.watch.cautions()))
    return tuple(lines)


def _stops(plan: BoundPlan, total: _Totals) -> tuple[str, ...]:
    """Why the run stops before its result is looked at: malformed records, row errors."""
    found = []
    if total.malformed and plan.file.model.malformed == "stop":
        found.append(f'{_many(len(total.malformed), "malformed record")}, and the plan says malformed = "stop"')
    for step, count in zip(plan.steps, total.steps, strict=True):
        if count.stopped:
            found.append(f'step {step.number} fails in {_many(count.stopped, "row")}, and its on_error is "stop"')
    return tuple(found)


def _many(count: int, what: str) -> str:
    return f"{count:,} {what}{'' if count == 1 else 's'}"


def _result(
    plan: BoundPlan, total: _Totals, lines: tuple[StepLine, ...], shown: list[Proof], stopped: tuple[str, ...], good: bool, dry: bool, left: bool
) -> Run:  # fmt: skip
    written = good and not dry
    folder = plan.file.path.parent
    errors = tuple(
        (line.step, column, kind)
        for line in lines
        for (column, _), kind in sorted(line.count.errors.items(), key=lambda item: -item[1].rows)
    )
    return Run(
        plan.file.name, plan.file.model.table, good, dry, total.rows, total.rows_out, tuple(total.malformed), lines, tuple(shown),
        stopped, errors, str(folder / plan.file.model.write) if written else None,
        str((folder / plan.file.model.write).parent / plan.left_behind.name if plan.left_behind.parent == plan.target.parent
            else folder / plan.left_behind.name) if written and left else None,
        sum(line.count.dropped + line.count.set_aside + line.count.merged for line in lines), tuple(plan.table.notes),
    )  # fmt: skip

"""Running a plan: its rows go through the steps, the result is written beside its target, opened
again, proved, then renamed."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from gravel.inspecting.cautions import Caution
from gravel.language.bind import Given
from gravel.ledger.checksum import ChecksumStream
from gravel.ledger.fingerprint import Content
from gravel.plans import proofs
from gravel.plans.bind import bind_plan
from gravel.plans.changes import TableDiff, changes_of
from gravel.plans.destination import IN_PLACE, Destination
from gravel.plans.flow import MEMORY, Flow
from gravel.plans.ledger import Proof, StepCount, StepLine
from gravel.plans.left import LEFT_COLUMNS, packed
from gravel.plans.model import PlanFile
from gravel.plans.placing import (
    Placed,
    in_place,
    into_file,
    into_table,
    into_typed_file,
    may_be_placed,
)
from gravel.plans.record import pending_path, record_of, settle_pending, written
from gravel.plans.result import Run
from gravel.plans.result_rows import TextRows, TypedRows, lay_down, text_table
from gravel.plans.steps import BoundPlan, RowAction, record_path
from gravel.plans.verbs.splitting import null_keys
from gravel.sinks.atomic_file import Output, Publication, private_folder, recorded, refuse_foreign
from gravel.sinks.csv import header
from gravel.sources.source import InferredTypeRefuted
from gravel.stores.sql.transaction import CommitUnknown


@dataclass(frozen=True)
class Wish:
    """How a plan is to be run: `dry` writes nothing; `until` ends after a step; `sample` reads the
    first rows only (both are dry); `memory`: bytes that whole-table steps may hold; `backup`: a
    table for the rows as they were.
    """

    dry: bool = False
    until: int | None = None
    sample: int | None = None
    memory: int = MEMORY
    backup: str | None = None
    progress: Callable[[int], None] | None = None
    tell: Callable[[str], None] | None = None  # what is to be known before the run

    @property
    def writes(self) -> bool:
        """Whether the result is written."""
        return not self.dry and self.until is None and self.sample is None


def clean(plan_file: PlanFile, context: Given | None = None, wish: Wish | None = None) -> Run:
    """Run a plan. Raises Problems for mistakes in it, TableProblem for what cannot be read or
    written."""
    wish = wish or Wish()
    try:
        return _run(bind_plan(plan_file, context, guess=True), wish)
    except InferredTypeRefuted:
        return _run(bind_plan(plan_file, context), wish)


def _run(plan: BoundPlan, wish: Wish) -> Run:
    if wish.progress is not None:
        plan.table.progress = wish.progress
    if wish.tell is not None:
        for line in null_keys(plan):
            wish.tell(line)
    with private_folder() as scratch:
        if not wish.writes:
            return _written(plan, wish, scratch, None)
        may_be_placed(plan, wish.backup)
        if plan.target_special:
            return _written(plan, wish, scratch, None)
        publication = Publication(
            plan.target, plan.destination.shown, (plan.rejects, record_path(plan.target))
        )
        try:
            if plan.destination.kind == IN_PLACE:
                # Rows that a change in place has taken from their table are nowhere else: their
                # file stays.
                plan = replace(plan, rejects=_free(plan.rejects))
                publication.places = (*publication.places, plan.rejects)
            settle_pending(record_path(plan.target), True)
            _may_replace(plan)
            return _written(plan, wish, scratch, publication)
        finally:
            publication.close()


def _free(path: Path) -> Path:
    """The path, or with a number where a file is there already."""
    number, free = 1, path
    while free.exists():
        number += 1
        free = path.with_name(f"{path.stem}-{number}{path.suffix}")
    return free


def _is_left_behind(path: Path) -> bool:
    """Whether a file holds rejected rows, as its first line says."""
    with open(path, "rb") as file:
        return file.read(200).replace(b'"', b"").startswith(b"gravel_row")


def _may_replace(plan: BoundPlan) -> None:
    """Whether the files that are there are ours to write over. Raises CallProblem."""
    asked, to, record = plan.file.model.replace, plan.destination, record_path(plan.target)
    if not to.database:
        refuse_foreign(
            plan.target,
            to.shown,
            asked,
            lambda path: recorded(path, record, "output"),
            "replace = true, or --replace",
        )
    if not to.left_table:
        refuse_foreign(
            plan.rejects, plan.rejects.name, asked, _is_left_behind, "replace = true, or --replace"
        )
    refuse_foreign(
        record,
        record.name,
        asked,
        lambda path: b'"gravel": "record/' in path.read_bytes()[:200],
        "replace = true, or --replace",
    )


def _written(plan: BoundPlan, wish: Wish, scratch: Path, publication: Publication | None) -> Run:
    begun = datetime.datetime.now(datetime.UTC)
    to = plan.destination
    # What is not written in text is laid down and proved first, then stored, read back and
    # compared.
    if to.kind == "text":
        output = Output(plan.target, to.shown, None if wish.writes else scratch)
    else:
        output = Output(scratch / ("rows.arrow" if plan.keeps_arrow else "rows.csv"), to.shown)
    behind = _Behind(plan, scratch if not wish.writes or to.left_table else None)
    seals = proofs.Digest()
    numbers: list[np.ndarray] = []
    placed: Placed | None = None

    result = lay_down(plan, output)
    flow = Flow(plan, behind.pack, behind.add, result.finish, wish.memory, wish.until, wish.sample)
    whole = wish.until is None and wish.sample is None
    flow.signing = ChecksumStream() if wish.sample is None else None
    flow.content = Content() if plan.table.snapshot else None
    try:
        for rows, outcome in flow.run():
            result.write(outcome)
            if rows.seals is not None:
                seals.add(rows.seals)
            if to.kind == IN_PLACE:
                numbers.append(rows.numbers)
        result.close()
        behind.close()
        lines = ledger(flow)
        stopped = _stops(flow)
        shown = list(proofs.of_run(plan, flow, lines)) if wish.sample is None else []
        if not stopped and whole:
            shown += proofs.of_output(
                plan,
                flow,
                output,
                result.opened(),
                seals,
                None if behind.file is None else (behind.file.path, _gone(lines)),
            )
        good = not stopped and all(proof.holds for proof in shown)
        changes = None
        if good and whole and to.kind != "text":
            placed, changes = _placed(plan, flow, result, behind, wish, scratch, numbers)
            shown += placed.proofs
            plan.table.notes += placed.notes
            good = all(proof.holds for proof in shown) and not placed.conflict
        done = _result(
            flow,
            lines,
            shown,
            stopped,
            good,
            wish,
            behind.file is not None,
            begun,
            publication.cleared if publication is not None else [],
            changes,
            "" if placed is None else placed.conflict,
        )
        if good and wish.writes:
            record = _record(done, flow, output, behind.file, placed)
            try:
                _commit(plan, output, behind.file, record, placed, publication)
            finally:
                if record is not None:
                    record.discard()
        return done
    finally:
        # After a commit there is nothing left of any of them to discard.
        if placed is not None:
            placed.discard()
        output.discard()
        behind.discard()


def _placed(
    plan: BoundPlan,
    flow: Flow,
    result: TextRows | TypedRows,
    behind: _Behind,
    wish: Wish,
    scratch: Path,
    numbers: list[np.ndarray],
) -> tuple[Placed, TableDiff | None]:
    """The proved rows in their place, not yet to stay; in a dry run only what would be done
    there."""
    to = plan.destination
    rows = result.opened()
    every = np.concatenate(numbers) if numbers else np.zeros(0, np.int64)
    left = None
    if to.left_table:
        behind.needed()
        assert behind.file is not None
        left = text_table(plan, behind.file.path, (*LEFT_COLUMNS, *plan.left_names), to.left_table)
    if isinstance(result, TypedRows):
        placed = into_typed_file(plan, result, None if wish.writes else scratch)
    elif to.kind == "file":
        placed = into_file(plan, rows, None if wish.writes else scratch)
    elif not wish.writes:
        return Placed(), changes_of(plan, rows, every) if to.kind == IN_PLACE else None
    elif to.kind == "table":
        placed = into_table(plan, rows, left, wish.backup)
    else:
        assert flow.content is not None
        placed = in_place(plan, rows, every, flow.content, left, wish.backup)
    return placed, placed.changes


class _Behind:
    """The file of rejected rows, made when the first one comes."""

    def __init__(self, plan: BoundPlan, scratch: Path | None) -> None:
        self.plan, self.scratch = plan, scratch
        self.file: Output | None = None
        self._names = plan.left_names

    def pack(self, left: Any, malformed: Any) -> bytes:
        return packed(left, malformed, self._names, self.plan.dialect)

    def add(self, data: bytes) -> None:
        self.begin().write(data)

    def begin(self) -> Output:
        if self.file is None:
            dialect = self.plan.dialect
            self.file = Output(
                self.plan.rejects, self.plan.rejects.name, self.scratch, self.plan.target
            )
            self.file.write(
                header((*LEFT_COLUMNS, *self._names), dialect.delimiter, dialect.line_end)
            )
        return self.file

    def needed(self) -> None:
        """The file, though no row came."""
        if self.file is None:
            self.begin().close()

    def close(self) -> None:
        if self.file is not None:
            self.file.close()

    def discard(self) -> None:
        if self.file is not None:
            self.file.discard()


def _record(
    done: Run, flow: Flow, output: Output, left: Output | None, placed: Placed | None
) -> Output | None:
    """The record beside its place; a device has none, since it cannot be opened again."""
    if output.special or flow.signing is None:
        return None
    file = placed.output if placed is not None and placed.output is not None else output
    signatures = {"input": flow.signing.signature(), "output": file.signing.signature()}
    if left is not None:
        signatures["left"] = left.signing.signature()
    contents = {
        "input": "" if flow.content is None else flow.content.value,
        "output": "" if placed is None else placed.content,
    }
    return written(
        record_of(done, signatures, contents, list(flow.plan.others)),
        record_path(flow.plan.target),
        file.target,
    )


def _commit(
    plan: BoundPlan,
    output: Output,
    left: Output | None,
    record: Output | None,
    placed: Placed | None,
    publication: Publication | None,
) -> None:
    """Let the result stand: the files together, the record last; rows that leave a database's table
    are on the disk before they are gone from it."""
    if plan.destination.left_table:
        left = None
    if publication is None:
        # A device may refuse what it is given, and nothing of that can be taken back: it comes
        # first.
        for file in (output, left):
            if file is not None:
                file.commit()
        return
    gone = []
    if (
        left is None
        and not plan.destination.left_table
        and plan.rejects.is_file()
        and plan.destination.kind != IN_PLACE
    ):
        gone = [plan.rejects] if _is_left_behind(plan.rejects) else []
    if placed is None or placed.output is not None:
        file = output if placed is None or placed.output is None else placed.output
        publication.publish([item for item in (left, file, record) if item is not None], gone)
        if placed is not None:
            placed.stands()
        return
    if left is not None:
        publication.publish([left])
    if record is not None:
        # It waits beside its place: should the run not live to hear of the commit, the next one
        # asks the database which of the two is true.
        record.move(pending_path(record.target))
    try:
        placed.commit()
    except CommitUnknown:
        if record is not None:
            record.keep()
        raise
    except BaseException:
        if left is not None:
            plan.rejects.unlink(missing_ok=True)
        raise
    if record is not None:
        record.commit()
    for path in gone:
        path.unlink(missing_ok=True)


def ledger(flow: Flow) -> tuple[StepLine, ...]:
    """The lines of the ledger, once all rows are through."""
    plan, bad = flow.plan, len(flow.malformed)
    reading = StepCount(rows_in=flow.rows_read + bad, set_aside=bad, rows_out=flow.rows_read)
    totals = [
        tuple(None if state is None else state.result() for state in states)
        for states in flow.totals
    ]
    lines = [StepLine(0, "read", plan.table_name, reading, totals=totals[0])]
    for step, count, values in zip(flow.steps, flow.counts, totals[1:], strict=True):
        conflicts = {
            step.before[index].name: groups
            for index, groups in sorted(count.conflicts.items())
            if groups
        }
        for position, cells in count.filled.items():
            count.changed_columns[step.before[position].name] = cells
        holds = step.expected is None or step.expected.holds(count.rows_in, count.rows_out)
        if count.seen is not None:
            step.watch.add(count.seen)
        stated = None if step.expected is None else str(step.expected)
        cautions, days = (*step.watch.cautions(), *count.warned, *_ties(count)), step.watch.days()
        lines.append(
            StepLine(
                step.number,
                step.verb,
                step.note,
                count,
                step.new_columns,
                step.lost_columns,
                values,
                conflicts,
                stated,
                holds,
                cautions,
                days,
            )
        )
    return tuple(lines)


def _ties(count: StepCount) -> Iterator[Caution]:
    if count.tied:
        groups = "1 group" if count.tied == 1 else f"{count.tied:,} groups"
        detail = f"of {groups} are preferred alike and disagree: the first in the table stays"
        yield Caution("ties", 2 * count.tied, detail, "add a key to prefer that tells them apart")


def _gone(lines: tuple[StepLine, ...]) -> int:
    return sum(line.count.dropped + line.count.set_aside + line.count.merged for line in lines)


def _stops(flow: Flow) -> tuple[tuple[int, str], ...]:
    """Why the run stops before its result is looked at: malformed records, row errors, failed
    checks."""
    results = []
    if flow.malformed and flow.plan.file.model.malformed == "stop":
        results.append(
            (
                0,
                (
                    f"{_many(len(flow.malformed), 'malformed record')}, and the plan says malformed"
                    ' = "stop"'
                ),
            )
        )
    for step, count in zip(flow.steps, flow.counts, strict=True):
        if count.stopped or count.why:  # a query may fail where no row comes to it
            why = f": {count.why}" if count.why else ', and its on_error is "stop"'
            results.append(
                (step.number, f"step {step.number} fails in {_many(count.stopped, 'row')}{why}")
            )
        message = step.action.finish(step, count) if isinstance(step.action, RowAction) else None
        if message is not None:
            results.append((step.number, message))
    return tuple(results)


def _many(count: int, what: str) -> str:
    return f"{count:,} {what}{'' if count == 1 else 's'}"


def _result(
    flow: Flow,
    lines: tuple[StepLine, ...],
    shown: list[Proof],
    stopped: tuple[tuple[int, str], ...],
    good: bool,
    wish: Wish,
    left: bool,
    begun: datetime.datetime,
    stale: list[str],
    changes: TableDiff | None,
    conflict: str,
) -> Run:
    plan = flow.plan
    done = good and wish.writes
    folder = plan.file.path.parent
    errors = tuple(
        (line.step, column, kind)
        for line in lines
        for (column, _), kind in sorted(line.count.errors.items(), key=lambda item: -item[1].rows)
    )
    to = plan.destination
    file = to.kind in ("text", "file")
    beside = (
        (folder / plan.file.model.write).parent
        if file and plan.rejects.parent == plan.target.parent
        else folder
    )
    behind = (
        str(beside / plan.rejects.name)
        if plan.file.model.rejects is None
        else str(folder / plan.file.model.rejects)
    )
    if to.left_table:
        behind = f"{_shown(to, folder).rpartition('#')[0]}#{to.left_table}"
    return Run(
        plan.file.name,
        plan.table_name,
        good,
        not wish.writes,
        flow.rows_read,
        flow.rows_out,
        tuple(flow.malformed),
        lines,
        tuple(shown),
        stopped,
        errors,
        (str(folder / plan.file.model.write) if file else _shown(to, folder)) if done else None,
        behind if done and (left or to.left_table) else None,
        _gone(lines),
        tuple(total.text for total in plan.totals),
        tuple(plan.table.notes),
        tuple(stale),
        plan,
        plan.given.today,
        {name: str(entry.value) for name, entry in plan.given.parameters.items()},
        str(beside / record_path(plan.target).name) if done and not plan.target_special else None,
        begun,
        datetime.datetime.now(datetime.UTC),
        changes,
        conflict,
    )


def _shown(to: Destination, folder: Path) -> str:
    """A table of a database, as it is called from where the person is."""
    return to.shown if to.file is None else f"{folder / to.reference}#{to.table}"

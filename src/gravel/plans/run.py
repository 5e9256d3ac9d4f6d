"""Running a plan in four phases: execute, prove, publish, record."""

from __future__ import annotations

import datetime
from contextlib import ExitStack
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from gravel.language.parameters import literal_text
from gravel.language.scope import Given
from gravel.ledger.signature import signature_path
from gravel.plans.bind import bind_plan, options_as_keys
from gravel.plans.changes import TableDiff
from gravel.plans.destination import IN_PLACE, Destination
from gravel.plans.execution import Execution
from gravel.plans.model import PlanFile
from gravel.plans.placing import Placed, may_be_placed
from gravel.plans.publishing import holds_rejects, place, publish
from gravel.plans.record import record_run, settle_pending
from gravel.plans.result import Run, StepError
from gravel.plans.step_lines import rows_gone
from gravel.plans.steps import BoundPlan, record_path
from gravel.plans.verbs.splitting import null_keys
from gravel.plans.verdict import Verdict, prove
from gravel.plans.wish import Wish
from gravel.sinks.atomic_file import Publication, private_folder, recorded, refuse_foreign
from gravel.sources.metadata import metadata_path
from gravel.sources.source import InferredTypeRefuted


def clean(plan_file: PlanFile, context: Given | None = None, wish: Wish | None = None) -> Run:
    """Run a plan. Raises Problems for mistakes in it, TableProblem for what cannot be read or
    written."""
    wish = wish or Wish()
    bind = partial(bind_plan, plan_file, context, engine=wish.engine)
    with options_as_keys():
        try:
            return _run(bind(guess=True), wish)
        except InferredTypeRefuted:
            return _run(bind(), wish)


def _run(plan: BoundPlan, wish: Wish) -> Run:
    if wish.progress is not None:
        plan.table.progress = wish.progress
    if wish.tell is not None:
        for line in null_keys(plan):
            wish.tell(line)
    with private_folder() as scratch:
        if not wish.writes:
            return _in_phases(plan, wish, scratch, None)
        may_be_placed(plan, wish.backup)
        if plan.target_special:
            return _in_phases(plan, wish, scratch, None)
        publication = Publication(
            plan.target,
            plan.destination.shown,
            (
                plan.rejects,
                record_path(plan.target),
                signature_path(record_path(plan.target)),
                metadata_path(plan.target),
            ),
        )
        try:
            if plan.destination.kind == IN_PLACE:
                # Rows that a change in place has taken from their table are nowhere else: their
                # file stays.
                plan = replace(plan, rejects=_free(plan.rejects))
                publication.places = (*publication.places, plan.rejects)
            settle_pending(record_path(plan.target), True)
            _may_replace(plan)
            return _in_phases(plan, wish, scratch, publication)
        finally:
            publication.close()


def _in_phases(plan: BoundPlan, wish: Wish, scratch: Path, publication: Publication | None) -> Run:
    """Execute, prove, publish, record; whatever is not published is gone at the end."""
    begun = datetime.datetime.now(datetime.UTC)
    with ExitStack() as unfinished:
        execution = Execution(plan, wish, scratch)
        unfinished.callback(execution.discard)
        execution.execute()
        verdict = prove(execution)
        placed, changes = None, None
        if verdict.good and wish.whole and plan.destination.kind != "text":
            placed, changes = place(execution)
            unfinished.callback(placed.discard)
            verdict.proofs += placed.proofs
            plan.table.notes += placed.notes
        done = _result(execution, verdict, placed, changes, begun, publication)
        if done.good and wish.writes:
            records = record_run(done, execution, placed)
            for record in records:
                unfinished.callback(record.discard)
            publish(execution, records, placed, publication)
        return done


def _free(path: Path) -> Path:
    """The path, or with a number where a file is there already."""
    number, free = 1, path
    while free.exists():
        number += 1
        free = path.with_name(f"{path.stem}-{number}{path.suffix}")
    return free


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
            plan.rejects, plan.rejects.name, asked, holds_rejects, "replace = true, or --replace"
        )
    if plan.file.model.metadata:
        described = metadata_path(plan.target)
        refuse_foreign(
            described,
            described.name,
            asked,
            lambda path: recorded(path, record, "metadata"),
            "replace = true, or --replace",
        )
    refuse_foreign(
        record,
        record.name,
        asked,
        lambda path: b'"gravel": "record/' in path.read_bytes()[:200],
        "replace = true, or --replace",
    )


def _result(
    execution: Execution,
    verdict: Verdict,
    placed: Placed | None,
    changes: TableDiff | None,
    begun: datetime.datetime,
    publication: Publication | None,
) -> Run:
    plan, flow, wish = execution.plan, execution.flow, execution.wish
    conflict = None if placed is None else placed.conflict or None
    good = verdict.good and not conflict
    published = good and wish.writes
    folder, to = plan.file.path.parent, plan.destination
    is_file = to.kind in ("text", "file")
    named = is_file and plan.file.model.write != "-"
    output = str(folder / plan.file.model.write) if named else _shown(to, folder)
    beside = folder
    if is_file and plan.rejects.parent == plan.target.parent:
        beside = (folder / plan.file.model.write).parent
    rejects = str(beside / plan.rejects.name)
    if plan.file.model.rejects is not None:
        rejects = str(folder / plan.file.model.rejects)
    if to.left_table:
        rejects = f"{_shown(to, folder).rpartition('#')[0]}#{to.left_table}"
    has_rejects = execution.rejects.file is not None or bool(to.left_table)
    recorded_in = None if plan.target_special else str(beside / record_path(plan.target).name)
    return Run(
        plan=plan.file.name,
        table=plan.table_name,
        good=good,
        dry=not wish.writes,
        rows_in=flow.rows_read,
        rows_out=flow.rows_out,
        malformed=tuple(flow.malformed),
        steps=verdict.lines,
        proofs=tuple(verdict.proofs),
        stopped=verdict.stopped,
        errors=tuple(
            StepError(line.step, column or None, kind)
            for line in verdict.lines
            for (column, _), kind in sorted(
                line.count.errors.items(), key=lambda item: -item[1].rows
            )
        ),
        output=output if published else None,
        rejects=rejects if published and has_rejects else None,
        left_rows=rows_gone(verdict.lines),
        notes=tuple(plan.table.notes),
        read=plan.table.read_as,
        cleared=() if publication is None else tuple(publication.cleared),
        bound=plan,
        today=plan.given.today,
        parameters={name: literal_text(entry) for name, entry in plan.given.parameters.items()},
        record=recorded_in if published else None,
        begun=begun,
        ended=datetime.datetime.now(datetime.UTC),
        changes=changes,
        conflict=conflict,
    )


def _shown(to: Destination, folder: Path) -> str:
    """A table of a database, as it is called from where the person is."""
    return to.shown if to.file is None else f"{folder / to.reference}#{to.table}"

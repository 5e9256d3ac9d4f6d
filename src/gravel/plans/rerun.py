"""Running again what a record says, in a private folder, to compare what comes out."""

from __future__ import annotations

import datetime
import hashlib
from pathlib import Path
from typing import Any

from gravel.hidden import removed
from gravel.language.parameters import parameter
from gravel.language.scope import Given
from gravel.ledger.fingerprint import content_of
from gravel.plans.bind import bind_plan
from gravel.plans.execution import Execution
from gravel.plans.loading import parse_plan, read_plan
from gravel.plans.model import PlanFile
from gravel.plans.placing import store_columns
from gravel.plans.publishing import place
from gravel.plans.record import RecordMismatch, read_record
from gravel.plans.steps import BoundPlan
from gravel.plans.verdict import prove
from gravel.plans.wish import Wish
from gravel.problems import CallProblem
from gravel.sinks.atomic_file import private_folder
from gravel.sources.source import InferredTypeRefuted


def rerun(
    path: Path, calling: Given, connect: bool = False, engine: str | None = None
) -> tuple[RecordMismatch, ...]:
    """What a record's plan gives now, with its parameters and its day, beside what it gave then.
    Nothing is written outside a private folder. `engine`: the address of what runs it, instead of
    this machine. Raises CallProblem where it cannot be run again,
    Problems, TableProblem."""
    record = read_record(path)
    _may_run(record, path, connect)
    plan = _plan_of(record, path.resolve().parent)
    context = Given(
        {name: parameter(text) for name, text in record["parameters"].items()},
        datetime.date.fromisoformat(record["today"]),
        calling.members,
    )
    try:
        return _compared(bind_plan(plan, context, guess=True, engine=engine), record)
    except InferredTypeRefuted:
        return _compared(bind_plan(plan, context, engine=engine), record)


def _may_run(record: dict[str, Any], path: Path, connect: bool) -> None:
    sides = (*record["inputs"], record["output"])
    if any(item.get("changed") for item in record["inputs"]):
        raise CallProblem(
            f"{path} is of a change in place, which cannot be run again: its input is its output",
            hint="a --backup has the rows as they were",
        )
    servers = [item["server"] for item in sides if item.get("server")]
    if servers and not connect:
        raise CallProblem(
            f"{path} reads or writes {servers[0]}, which is not asked",
            hint="a record may come from anybody; --connect asks it",
        )


def _plan_of(record: dict[str, Any], folder: Path) -> PlanFile:
    """The plan as it was: from its file where that is unchanged, which may have a password that the
    record has not; else from the record's own text."""
    path = folder / record["plan"]["path"]
    if path.is_file():
        text = removed(path.read_text("utf-8-sig"))
        if hashlib.sha256(text.encode()).hexdigest() == record["plan"]["sha256"]:
            return read_plan(path, record["plan"]["path"])
    return parse_plan(record["plan"]["text"], path, record["plan"]["path"])


def _compared(plan: BoundPlan, record: dict[str, Any]) -> tuple[RecordMismatch, ...]:
    with private_folder() as scratch:
        execution = Execution(plan, Wish(dry=True), scratch)
        placed = None
        try:
            execution.execute()
            verdict = prove(execution)
            if verdict.good and plan.destination.kind != "text":
                placed, _ = place(execution)
            holds = verdict.good and (placed is None or all(item.holds for item in placed.proofs))
            then, file = record["output"], execution.output
            if placed is not None and placed.output is not None:
                file = placed.output
            results = [
                RecordMismatch("run again: every proof holds", "yes", "yes" if holds else "no"),
                RecordMismatch(
                    "run again: rows", f"{then['rows']:,}", f"{execution.flow.rows_out:,}"
                ),
            ]
            if then.get("content"):
                kinds = [kind for _, kind in store_columns(plan)]
                now = content_of(execution.rows.opened(), kinds).value
                results.append(RecordMismatch("run again: content", then["content"], now))
            else:
                now = file.signing.signature().sha256
                results.append(RecordMismatch("run again: SHA-256", then["sha256"], now))
            left = record.get("rejects")
            if left and left.get("sha256"):
                rejects = execution.rejects.file
                now = "none" if rejects is None else rejects.signing.signature().sha256
                results.append(RecordMismatch("run again: rejects' SHA-256", left["sha256"], now))
            return tuple(results)
        finally:
            if placed is not None:
                placed.discard()
            execution.discard()

"""One step tried: what it would do to the rows that reach it. Nothing is written."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from gravel.engine.memory import DEFAULT_MEMORY
from gravel.figures import Figures, NumberOf, Unlisted, figure
from gravel.inspecting.cautions import Caution
from gravel.language.scope import Given
from gravel.language.types import Kind
from gravel.plans.bind import bind_plan
from gravel.plans.flow import Flow
from gravel.plans.ledger import ChangeExample, ColumnError, Gone, StepLine
from gravel.plans.loading import parse_plan
from gravel.plans.model import PlanFile
from gravel.plans.rows import TrackedRows
from gravel.plans.step_lines import step_lines
from gravel.plans.steps import BoundPlan, BoundStep, RowAction
from gravel.problems import CallProblem
from gravel.sinks.csv import encode, header
from gravel.sources.csv.reader import CsvSource
from gravel.sources.read_options import ReadOptions
from gravel.sources.source import InferredTypeRefuted, Malformed, Source
from gravel.sources.temporary import temporary_file

_PATH = "gravel_path"


@dataclass(frozen=True)
class Rehearsal(Figures):
    """A step's line of the ledger with examples of what it does; `stops`: why a run would stop
    there, or None."""

    plan: str
    table: str
    step: StepLine
    errors: tuple[ColumnError, ...]
    stops: str | None
    malformed: NumberOf[Malformed]
    notes: Unlisted[tuple[str, ...]]
    read: dict[str, Any]  # how its text was read

    @property
    @figure
    def changes(self) -> dict[str, list[ChangeExample]]:
        """By column, some different changes."""
        return {name: examples for name, examples in self.step.count.changes.items() if examples}

    @property
    @figure
    def samples(self) -> dict[str, list[ChangeExample]]:
        """By what is noted of the step, some of its rows."""
        return {what: examples for what, examples in self.step.count.samples.items() if examples}

    @property
    @figure
    def left(self) -> list[Gone]:
        """Some of the rows that leave."""
        return self.step.count.gone

    @property
    @figure
    def cautions(self) -> tuple[Caution, ...]:
        """What deserves a caution."""
        return self.step.cautions


def one_step(table: Source, reference: str, step: str) -> PlanFile:
    """A plan of one step (its TOML) on a table. Raises Problems, CallProblem for its mistakes."""
    head = [f"table = {json.dumps(reference)}", 'write = "tried.csv"']
    settled = {name: value for name, value in table.reading.settled().items() if name != "text"}
    head += [f"read.{name} = {json.dumps(value)}" for name, value in settled.items()]
    if table.texts:
        types = ", ".join(f"{json.dumps(name)} = 'TEXT'" for name in sorted(table.texts))
        head.append(f"types = {{ {types} }}")
    # A step may be given as it stands in a plan, with or without its header.
    body = step.strip()
    begun = [*head, *([] if body.startswith("[[step]]") else ["[[step]]"])]
    return parse_plan("\n".join([*begun, body]), Path("step.toml"), "the step", len(begun))


def rehearse(
    plan_file: PlanFile,
    number: int,
    context: Given | None = None,
    memory: int = DEFAULT_MEMORY,
    engine: str | None = None,
) -> Rehearsal:
    """Run the steps up to one and tell what that one does; `engine`: the address of what does it,
    instead of this machine. Raises CallProblem for a step that is not there, Problems,
    TableProblem."""
    many = len(plan_file.model.step)
    if not 1 <= number <= many:
        raise CallProblem(
            f"{plan_file.name} has no step {number}",
            hint=f"its steps are 1 to {many}" if many else "it has none",
        )
    bind = partial(bind_plan, plan_file, context, engine=engine)
    try:
        return _rehearsed(bind(guess=True), number, memory)
    except InferredTypeRefuted:
        return _rehearsed(bind(), number, memory)


def rows_after(
    plan_file: PlanFile,
    number: int | None = None,
    context: Given | None = None,
    memory: int = DEFAULT_MEMORY,
    engine: str | None = None,
) -> Source:
    """The rows that a plan has after a step (0: as they are read; None: after its last one), as a
    table here whose first column has each row's path; its notes tell of malformed records, and of
    steps that would stop a run. `engine`: the address of what does the steps, instead of this
    machine. Raises CallProblem, Problems, TableProblem."""
    steps = plan_file.model.step
    number = len(steps) if number is None else number
    if number > len(steps):
        raise CallProblem(
            f"{plan_file.name} has no step {number}", hint=f"its steps are 1 to {len(steps)}"
        )
    begun = replace(plan_file.model, step=steps[:number])
    plan = bind_plan(replace(plan_file, model=begun), context, engine=engine)
    path_name = _PATH
    while path_name in plan.names:
        path_name += "_"
    handle, path = temporary_file(".csv")
    flow = Flow(plan, _with_paths, memory=memory)
    with os.fdopen(handle, "wb") as sink:
        sink.write(header((path_name, *plan.names)))
        for encoded in flow.run():
            sink.write(encoded)
    table = plan.table
    # A text column that no step touches has the type that its values have, unless that is settled.
    settled = bool(table.fields or table.store_kind or table.spelt)
    declared = {
        column.name: column.type
        for column in plan.columns
        if column.type.kind is not Kind.NULL
        and (
            settled
            or column.touched
            or column.source is None
            or column.type.kind is not Kind.TEXT
            or table.columns[column.source] in {*table.texts, *table.declared}
        )
    }
    reading = ReadOptions(",", own=True, texts=(path_name,), declared=declared)
    result = CsvSource(path, f"{plan_file.name} after step {number}", reading)
    result.notes += table.notes
    if flow.malformed:
        many = len(flow.malformed)
        records = "1 malformed record is" if many == 1 else f"{many:,} malformed records are"
        result.notes.append(f"{records} left out of {plan.table_name}")
    for step, line in zip(plan.steps, step_lines(flow)[1:], strict=False):
        if (why := _why_stopped(step, line)) is not None:
            result.notes.append(f"step {step.number} would stop the run here: {why}")
    return result


def _with_paths(rows: TrackedRows) -> bytes:
    return encode([rows.paths(), *rows.texts()])


def _nothing(rows: TrackedRows) -> None:
    """What is made of rows of which only the counts matter."""


def _why_stopped(step: BoundStep, line: StepLine) -> str | None:
    """Why a run would stop at a step, or None."""
    if line.count.failed:
        many = line.count.failed
        rows = "1 row fails" if many == 1 else f"{many:,} rows fail"
        return line.count.why or f'{rows}, and on_error is "stop"'
    action = step.action
    return action.finish(step, line.count) if isinstance(action, RowAction) else None


def _rehearsed(plan: BoundPlan, number: int, memory: int) -> Rehearsal:
    flow = Flow(plan, _nothing, memory=memory, until=number)
    for _ in flow.run():
        pass
    line = step_lines(flow)[-1]
    stops = _why_stopped(plan.steps[number - 1], line)
    return Rehearsal(
        plan.file.name,
        plan.table_name,
        line,
        line.count.failures,
        stops,
        tuple(flow.malformed),
        tuple(plan.table.notes),
        plan.table.read_as,
    )
